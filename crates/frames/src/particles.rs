//! Particles as bytes: quantised columns in groups of 128, each packed to the
//! bits that its values need (D. Lemire and L. Boytsov, *Decoding billions of
//! integers per second through vectorization*, 2015). Nothing is to unpack
//! before it, so that a frame of a million is there at once.
//!
//! A group is an i32 base, a u8 number of bits w, and 16 w bytes: value 4 r + l
//! is the r-th of lane l; a lane's 32 values follow each other from the lowest
//! bit of its w little-endian words up; word k of the four lanes come one
//! after the other. Values are differences from the base. The last group is
//! filled up with copies of its last value.

use crate::Particles;
use crate::error::DecodeError;
use crate::quantise::{
    self, PARTICLE_AGE_ERROR_S, PARTICLE_VELOCITY_ERROR, POSITION_ERROR_M, halved, pack_orientation,
    quantise, unpack_orientation,
};
use bitpacking::{BitPacker, BitPacker4x};
use glam::{Vec2, Vec3};
use rayon::prelude::*;

const GROUP: usize = BitPacker4x::BLOCK_LEN;
/// Steps of a size to the octave.
const SIZE_STEPS: f32 = 64.0;
/// Flags of the columns that not all have.
const TURNS: u8 = 1;
const WEIGHTS: u8 = 2;
const UVS: u8 = 4;
const PRESSURES: u8 = 8;
/// Positions and velocities have finer steps than usual.
const FINE: u8 = 16;
/// Steps of the positions of a liquid to its spacing, and of its velocities to the greatest, at least.
const LIQUID_STEPS: (f32, f32) = (128.0, 250.0);
/// Step of a UV.
const UV_STEP: f32 = 1.0 / 4_096.0;
/// Steps of a pressure from 0 to the greatest of the frame.
const PRESSURE_STEPS: f32 = 255.0;

pub(crate) fn encode(particles: &Particles) -> Vec<u8> {
    let n = particles.len();
    let orientations = particles.orientations.len() == n && n > 0;
    let weights = particles.weights.len() == n && n > 0;
    let uvs = particles.uvs.len() == n && n > 0;
    let pressures = particles.pressures.len() == n && n > 0;
    let flag = |has: bool, flag: u8| if has { flag } else { 0 };
    let halvings = if pressures { liquid_halvings(particles) } else { [0; 2] };
    let fine = halvings != [0; 2];
    let mut out = vec![
        flag(orientations, TURNS)
            | flag(weights, WEIGHTS)
            | flag(uvs, UVS)
            | flag(pressures, PRESSURES)
            | flag(fine, FINE),
    ];
    if fine {
        out.extend(halvings);
    }
    let [position_step, velocity_step] = steps(halvings);
    let pressure_step = particles.pressures.iter().fold(0.0f32, |most, p| most.max(p.abs())) / PRESSURE_STEPS;
    if pressures {
        out.extend_from_slice(&pressure_step.to_le_bytes());
    }
    let packer = BitPacker4x::new();
    let mut put = |value: &dyn Fn(usize) -> i32| {
        for from in (0..n).step_by(GROUP) {
            let mut values = [0i32; GROUP];
            for (slot, i) in values.iter_mut().zip(from..from + GROUP) {
                *slot = value(i.min(n - 1));
            }
            let base = values.into_iter().min().expect("a group is not empty");
            let offsets = values.map(|value| value.wrapping_sub(base) as u32);
            let bits = packer.num_bits(&offsets);
            out.extend_from_slice(&base.to_le_bytes());
            out.push(bits);
            let at = out.len();
            out.resize(at + BitPacker4x::compressed_block_size(bits), 0);
            packer.compress(&offsets, &mut out[at..], bits);
        }
    };
    put(&|i| if i == 0 { particles.ids[0] as i32 } else { (particles.ids[i] - particles.ids[i - 1]) as i32 });
    for axis in 0..3 {
        put(&|i| quantise(particles.positions[i][axis], position_step, 31));
    }
    for axis in 0..3 {
        put(&|i| quantise(particles.velocities[i][axis], velocity_step, 23));
    }
    put(&|i| (particles.sizes[i].max(1e-6).log2() * SIZE_STEPS).round() as i32);
    put(&|i| quantise(particles.ages[i], 2.0 * PARTICLE_AGE_ERROR_S, 31));
    // An endless life is the least number, so that it is told from all others.
    put(&|i| match particles.lifespans[i] {
        life if life.is_finite() => quantise(life, 2.0 * PARTICLE_AGE_ERROR_S, 31),
        _ => -1,
    });
    if orientations {
        for part in 0..3 {
            put(&|i| i32::from(pack_orientation(particles.orientations[i])[part]));
        }
    }
    if weights {
        put(&|i| (particles.weights[i].clamp(0.0, 1.0) * 255.0).round() as i32);
    }
    if uvs {
        (0..2).for_each(|axis| put(&|i| quantise(particles.uvs[i][axis], UV_STEP, 31)));
    }
    if pressures {
        put(&|i| if pressure_step > 0.0 { quantise(particles.pressures[i], pressure_step, 10) } else { 0 });
    }
    out
}

/// How often the steps of positions and velocities are halved for a liquid.
fn liquid_halvings(particles: &Particles) -> [u8; 2] {
    let spacing = particles.sizes.iter().copied().fold(f32::INFINITY, f32::min);
    let speed = particles.velocities.iter().map(|v| v.length()).fold(0.0, f32::max);
    let [position_step, velocity_step] = steps([0; 2]);
    [
        quantise::halvings(position_step, spacing / LIQUID_STEPS.0),
        quantise::halvings(velocity_step, speed / LIQUID_STEPS.1),
    ]
}

/// The steps of positions, m, and velocities, m/s, that are halved so often.
fn steps([positions, velocities]: [u8; 2]) -> [f32; 2] {
    [halved(2.0 * POSITION_ERROR_M, positions), halved(2.0 * PARTICLE_VELOCITY_ERROR, velocities)]
}

/// Decodes into arrays that may have held others before.
pub(crate) fn decode(bytes: &[u8], n: usize, particles: &mut Particles) -> Result<(), DecodeError> {
    let (&flags, rest) = bytes.split_first().ok_or(SHORT)?;
    let [turning, weighing, with_uv, with_pressure] =
        [TURNS, WEIGHTS, UVS, PRESSURES].map(|flag| flags & flag != 0);
    let (halvings, rest) = match flags & FINE != 0 {
        true => rest.split_first_chunk::<2>().map(|(halvings, rest)| (*halvings, rest)).ok_or(SHORT)?,
        false => ([0; 2], rest),
    };
    let [position_step, velocity_step] = steps(halvings);
    let (pressure_step, rest) = match with_pressure {
        true => rest
            .split_first_chunk::<4>()
            .map(|(step, rest)| (f32::from_le_bytes(*step), rest))
            .ok_or(SHORT)?,
        false => (0.0, rest),
    };
    let bare = if turning { 13 } else { 10 };
    let first_uv = bare + usize::from(weighing);
    let pressure_column = first_uv + if with_uv { 2 } else { 0 };
    let groups = Groups::find(rest, pressure_column + usize::from(with_pressure), n.div_ceil(GROUP))?;
    let octave: Vec<f32> = (0..SIZE_STEPS as u32).map(|step| (step as f32 / SIZE_STEPS).exp2()).collect();
    particles.make_room(n, [turning, weighing, with_uv, with_pressure]);
    (
        particles.ids.par_chunks_mut(GROUP),
        particles.positions.par_chunks_mut(GROUP),
        particles.velocities.par_chunks_mut(GROUP),
        particles.sizes.par_chunks_mut(GROUP),
        particles.ages.par_chunks_mut(GROUP),
        particles.lifespans.par_chunks_mut(GROUP),
    )
        .into_par_iter()
        .enumerate()
        .with_min_len(16)
        .for_each(|(group, (ids, positions, velocities, sizes, ages, lifespans))| {
            let mut unpacked = [[0u32; GROUP]; 3];
            groups.unpack(0, group, &mut unpacked[0]);
            ids.copy_from_slice(&unpacked[0][..ids.len()]);
            for (first, vectors, step) in [(1, positions, position_step), (4, velocities, velocity_step)] {
                (0..3).for_each(|axis| groups.unpack(first + axis, group, &mut unpacked[axis]));
                let [x, y, z] = &unpacked;
                for (i, vector) in vectors.iter_mut().enumerate() {
                    *vector = Vec3::new(x[i] as i32 as f32, y[i] as i32 as f32, z[i] as i32 as f32) * step;
                }
            }
            (0..3).for_each(|part| groups.unpack(7 + part, group, &mut unpacked[part]));
            let [size, age, life] = &unpacked;
            let step = 2.0 * PARTICLE_AGE_ERROR_S;
            for i in 0..sizes.len() {
                let value = size[i] as i32;
                let whole = value.div_euclid(SIZE_STEPS as i32).clamp(-126, 127);
                let scale = f32::from_bits(((whole + 127) as u32) << 23);
                sizes[i] = octave[value.rem_euclid(SIZE_STEPS as i32) as usize] * scale;
                ages[i] = age[i] as i32 as f32 * step;
                lifespans[i] =
                    if (life[i] as i32) < 0 { f32::INFINITY } else { life[i] as i32 as f32 * step };
            }
        });
    let mut id = 0u32;
    for slot in &mut particles.ids {
        id = id.wrapping_add(*slot);
        *slot = id;
    }
    particles.orientations.par_chunks_mut(GROUP).enumerate().for_each(|(group, orientations)| {
        let mut unpacked = [[0u32; GROUP]; 3];
        (0..3).for_each(|part| groups.unpack(10 + part, group, &mut unpacked[part]));
        for (i, orientation) in orientations.iter_mut().enumerate() {
            *orientation = unpack_orientation([0, 1, 2].map(|part| unpacked[part][i] as u16));
        }
    });
    particles.weights.par_chunks_mut(GROUP).enumerate().for_each(|(group, weights)| {
        let mut unpacked = [0u32; GROUP];
        groups.unpack(bare, group, &mut unpacked);
        weights.iter_mut().zip(unpacked).for_each(|(weight, value)| *weight = value as f32 / 255.0);
    });
    particles.uvs.par_chunks_mut(GROUP).enumerate().for_each(|(group, uvs)| {
        let mut unpacked = [[0u32; GROUP]; 2];
        (0..2).for_each(|axis| groups.unpack(first_uv + axis, group, &mut unpacked[axis]));
        let [u, v] = &unpacked;
        for (i, uv) in uvs.iter_mut().enumerate() {
            *uv = Vec2::new(u[i] as i32 as f32, v[i] as i32 as f32) * UV_STEP;
        }
    });
    particles.pressures.par_chunks_mut(GROUP).enumerate().for_each(|(group, pressures)| {
        let mut unpacked = [0u32; GROUP];
        groups.unpack(pressure_column, group, &mut unpacked);
        let of = |value: u32| value as i32 as f32 * pressure_step;
        pressures.iter_mut().zip(unpacked).for_each(|(pressure, value)| *pressure = of(value));
    });
    Ok(())
}

const SHORT: DecodeError = DecodeError::NotAFrame("a block of particles is too short");

/// Offsets of the groups of each column.
struct Groups<'a> {
    bytes: &'a [u8],
    starts: Vec<usize>,
    each: usize,
}

impl<'a> Groups<'a> {
    fn find(bytes: &'a [u8], columns: usize, each: usize) -> Result<Self, DecodeError> {
        let mut starts = Vec::with_capacity(columns * each);
        let mut at = 0;
        for _ in 0..columns * each {
            starts.push(at);
            let &bits = bytes.get(at + 4).ok_or(SHORT)?;
            at += 5 + BitPacker4x::compressed_block_size(bits);
            if bits > 32 || at > bytes.len() {
                return Err(SHORT);
            }
        }
        Ok(Self { bytes, starts, each })
    }

    fn unpack(&self, column: usize, group: usize, values: &mut [u32; GROUP]) {
        let bytes = &self.bytes[self.starts[column * self.each + group]..];
        let base = u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]);
        let length = BitPacker4x::compressed_block_size(bytes[4]);
        BitPacker4x::new().decompress(&bytes[5..5 + length], values, bytes[4]);
        values.iter_mut().for_each(|value| *value = value.wrapping_add(base));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantise::PARTICLE_SIZE_ERROR;
    use proptest::prelude::*;

    fn vector(most: f32) -> impl Strategy<Value = Vec3> {
        (-most..most, -most..most, -most..most).prop_map(|(x, y, z)| Vec3::new(x, y, z))
    }

    prop_compose! {
        fn some()(
            list in prop::collection::vec(
                (1u32..9, vector(50.0), vector(30.0), 1e-4f32..10.0, 0f32..100.0, prop::option::of(0f32..100.0)),
                1..700,
            ),
        ) -> Particles {
            let mut particles = Particles::default();
            let mut id = 0;
            let list_is_liquid = list.len() % 2 == 0;
            let (weighing, with_uv) = (list[0].0 > 4, list[0].0 % 2 == 1);
            for (step, position, velocity, size, age, life) in list {
                id += step;
                particles.ids.push(id);
                particles.positions.push(position);
                particles.velocities.push(velocity);
                particles.sizes.push(size);
                particles.ages.push(age);
                particles.lifespans.push(life.unwrap_or(f32::INFINITY));
                particles.weights.extend(weighing.then_some(age / 100.0));
                particles.pressures.extend((list_is_liquid).then_some(1e4 * age - 3e3 * size));
                particles.uvs.extend((step > 0 && with_uv).then_some(Vec2::new(age / 50.0, -size)));
            }
            particles
        }
    }

    proptest! {
        #[test]
        fn what_is_read_back_is_within_the_stated_errors(particles in some()) {
            let mut back = Particles::default();
            decode(&encode(&particles), particles.len(), &mut back).unwrap();
            prop_assert_eq!(&back.ids, &particles.ids);
            prop_assert_eq!(back.weights.len(), particles.weights.len());
            prop_assert_eq!(back.uvs.len(), particles.uvs.len());
            prop_assert_eq!(back.pressures.len(), particles.pressures.len());
            let most = particles.pressures.iter().fold(0.0f32, |most, p| most.max(p.abs()));
            let mut pressures = back.pressures.iter().zip(&particles.pressures);
            prop_assert!(pressures.all(|(a, b)| (a - b).abs() <= 0.51 * most / PRESSURE_STEPS + 1e-3));
            let mut uvs = back.uvs.iter().zip(&particles.uvs);
            prop_assert!(uvs.all(|(a, b)| a.distance(*b) < UV_STEP));
            let weights = back.weights.iter().zip(&particles.weights);
            prop_assert!(weights.into_iter().all(|(a, b)| (a - b).abs() < 0.002));
            for i in 0..particles.len() {
                let position = (back.positions[i] - particles.positions[i]).abs().max_element();
                // A float at 50 m has steps of 4 µm.
                prop_assert!(position <= POSITION_ERROR_M + 4e-6);
                let velocity = (back.velocities[i] - particles.velocities[i]).abs().max_element();
                prop_assert!(velocity <= PARTICLE_VELOCITY_ERROR + 2e-6);
                if particles.pressures.len() == particles.len() {
                    let spacing = particles.sizes.iter().copied().fold(f32::INFINITY, f32::min);
                    let speed = particles.velocities.iter().map(|v| v.length()).fold(0.0, f32::max);
                    prop_assert!(position <= spacing / 256.0 + 4e-6 && velocity <= speed / 500.0 + 2e-6);
                }
                prop_assert!((back.sizes[i] / particles.sizes[i] - 1.0).abs() <= PARTICLE_SIZE_ERROR);
                prop_assert!((back.ages[i] - particles.ages[i]).abs() <= PARTICLE_AGE_ERROR_S + 1e-5);
                let (a, b) = (back.lifespans[i], particles.lifespans[i]);
                prop_assert!(a == b || (a - b).abs() <= PARTICLE_AGE_ERROR_S + 1e-5);
            }
        }

        #[test]
        fn a_block_cut_short_is_refused(particles in some(), fraction in 0f32..0.99) {
            let bytes = encode(&particles);
            let cut = (bytes.len() as f32 * fraction) as usize;
            prop_assert!(decode(&bytes[..cut], particles.len(), &mut Particles::default()).is_err());
        }
    }

    /// The layout, read as the formats' page tells it.
    #[test]
    fn a_group_is_laid_out_as_described() {
        let mut particles = Particles::default();
        for i in 0..128u32 {
            particles.ids.push(i + 1);
            particles.positions.push(Vec3::new((i * i % 977) as f32 * 1e-3, 0.0, 0.0));
            particles.velocities.push(Vec3::ZERO);
            particles.sizes.push(1.0);
            particles.ages.push(0.0);
            particles.lifespans.push(1.0);
        }
        let bytes = encode(&particles);
        // Flags, then a group of ids that needs no bits at all, then x.
        assert_eq!(bytes[..6], [0, 1, 0, 0, 0, 0]);
        let group = &bytes[6..];
        let base = i32::from_le_bytes(group[..4].try_into().unwrap());
        let bits = usize::from(group[4]);
        let word = |lane: usize, k: usize| {
            let at = 5 + 4 * (4 * k + lane);
            u64::from(u32::from_le_bytes(group[at..at + 4].try_into().unwrap()))
        };
        for i in 0..128 {
            let (row, lane) = (i / 4, i % 4);
            let (k, shift) = (row * bits / 32, row * bits % 32);
            let high = if shift + bits > 32 { word(lane, k + 1) } else { 0 };
            let value = (word(lane, k) | high << 32) >> shift & ((1 << bits) - 1);
            assert_eq!(base + value as i32, quantise(particles.positions[i].x, 1e-4, 31), "value {i}");
        }
    }
}
