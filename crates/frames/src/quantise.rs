//! Quantisation: numbers as whole steps, orientations as three components, and their largest errors.

use glam::Quat;

/// Largest error of a stored position, m.
pub const POSITION_ERROR_M: f32 = 5e-5;
/// Largest error of a stored orientation, rad: where all four components are equal, and the three that are stored are half a step off the
/// same way, the largest is off by three times as much.
pub const ORIENTATION_ERROR_RAD: f32 = 1.2e-3;
/// Largest error of a stored velocity component, m/s.
pub const VELOCITY_ERROR: f32 = 1e-3;
/// Largest error of a stored angular velocity component, rad/s.
pub const ANGULAR_VELOCITY_ERROR: f32 = 5e-3;
/// Largest error of a stored velocity component of a particle, m/s.
pub const PARTICLE_VELOCITY_ERROR: f32 = 5e-3;
/// Largest error of a stored size of a particle, as a fraction of it.
pub const PARTICLE_SIZE_ERROR: f32 = 0.0055;
/// Largest error of a stored age and lifespan of a particle, s.
pub const PARTICLE_AGE_ERROR_S: f32 = 2e-3;
/// Steps of a quaternion component over ±1/√2: an error of half a step in each
/// of three components turns by at most 2 · √3 · half a step, and a little
/// more where the largest component is near the others.
const TURN_STEPS: f32 = 2047.0;

/// Most times that a step is halved.
pub(crate) const MOST_HALVINGS: u8 = 10;

/// How often a step is to be halved so that it is at most as long as another; not at all where that is 0.
pub(crate) fn halvings(step: f32, most: f32) -> u8 {
    if most > 0.0 {
        (0..MOST_HALVINGS).find(|n| halved(step, *n) <= most).unwrap_or(MOST_HALVINGS)
    } else {
        0
    }
}

/// A step that is halved so often.
pub(crate) fn halved(step: f32, times: u8) -> f32 {
    step / f32::from(1u16 << times.min(MOST_HALVINGS))
}

pub(crate) fn quantise(value: f32, step: f32, bits: u32) -> i32 {
    let most = f64::from((1u32 << (bits - 1)) - 1);
    (f64::from(value) / f64::from(step)).round().clamp(-most, most) as i32
}

pub(crate) fn zigzag(value: i32) -> u32 {
    ((value << 1) ^ (value >> 31)) as u32
}

pub(crate) fn unzigzag(value: u32) -> i32 {
    (value >> 1) as i32 ^ -((value & 1) as i32)
}

/// The three smallest components over ±1/√2, twelve bits each; the index of
/// the largest in the top bits of the first two.
pub(crate) fn pack_orientation(orientation: Quat) -> [u16; 3] {
    let q = orientation.normalize().to_array();
    let largest = (0..4).max_by(|&a, &b| q[a].abs().total_cmp(&q[b].abs())).expect("four components");
    let sign = if q[largest] < 0.0 { -1.0 } else { 1.0 };
    let mut packed = [0u16; 3];
    let others = (0..4).filter(|&i| i != largest);
    for (slot, i) in packed.iter_mut().zip(others) {
        let scaled = q[i] * sign * std::f32::consts::SQRT_2;
        *slot = ((scaled * TURN_STEPS).round() as i32 + 2048).clamp(0, 4095) as u16;
    }
    packed[0] |= ((largest & 1) << 12) as u16;
    packed[1] |= ((largest >> 1) << 12) as u16;
    packed
}

pub(crate) fn unpack_orientation(packed: [u16; 3]) -> Quat {
    let largest = usize::from((packed[0] >> 12) & 1) | usize::from((packed[1] >> 12) & 1) << 1;
    let mut q = [0f32; 4];
    let mut sum = 0.0;
    for (i, slot) in (0..4).filter(|&i| i != largest).zip(packed) {
        q[i] = (i32::from(slot & 4095) - 2048) as f32 / TURN_STEPS * std::f32::consts::FRAC_1_SQRT_2;
        sum += q[i] * q[i];
    }
    q[largest] = (1.0 - sum).max(0.0).sqrt();
    Quat::from_array(q).normalize()
}
