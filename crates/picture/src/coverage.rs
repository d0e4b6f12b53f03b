//! Where liquids are in the gate, and how far two computations of a shot are apart there: in pixels, and in frames of delay.

use crate::camera::Lens;
use crate::scene::solved_pose;
use frames::Frame;
use glam::Vec3;
use shot::{
    ElementKind, Shot,
    motion::{NotFinite, Sampler},
    world::World,
};

/// Width of a mask, in cells.
const WIDTH: usize = 320;
/// Greatest height of a mask, in cells.
const MAX_HEIGHT: usize = 640;
/// Radius of a particle's sphere of the volume that it stands for, in spacings: (3 / 4π)^⅓.
const RADIUS: f32 = 0.62;
/// Shifts must change what is apart by this part for a delay to be told.
const LEAST_GAIN: f64 = 0.05;
/// Delays up to so many frames are looked for.
const MAX_DELAY: usize = 12;

/// The cells of the gate that liquid covers in a frame.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Coverage {
    height: usize,
    /// Row by row, 64 cells each.
    bits: Vec<u64>,
}

/// How far two sequences of masks are apart.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Difference {
    /// Mean distance of the outlines, in pixels of the picture: the area covered by one alone over the length of the outline.
    pub pixels: f32,
    /// The frames by which the first is later than the second; negative: earlier.
    pub delay_frames: f32,
}

impl Coverage {
    /// A mask of nothing for pictures of so many pixels.
    pub fn empty([width, height]: [u32; 2]) -> Self {
        let height = (WIDTH * height as usize).div_ceil(width.max(1) as usize).clamp(1, MAX_HEIGHT);
        Self { height, bits: vec![0; WIDTH / 64 * height] }
    }

    /// Of the liquids of a shot in a frame; nothing is covered without a camera. What hides the liquids is not looked at.
    ///
    /// # Errors
    /// [`NotFinite`] where a value of the shot is no number at that frame.
    pub fn of_liquids(
        shot: &Shot,
        sampler: &Sampler,
        frame: &Frame,
        earlier: &dyn Fn(u32) -> Option<Frame>,
    ) -> Result<Self, NotFinite> {
        let mut mask = Self::empty([shot.picture.width, shot.picture.height]);
        let at = f64::from(frame.number);
        let solved = |id, then| solved_pose(shot, Some(frame), at, earlier, id, then);
        let now = sampler.at_with(at, &solved)?;
        let world = World::new(&now, sampler, at, &solved);
        let camera = now.camera.and_then(|id| now.element(id));
        let Some((element, ElementKind::Camera(camera))) = camera.map(|element| (element, &element.kind))
        else {
            return Ok(mask);
        };
        let (position, orientation) = world.pose(element);
        let lens = Lens::new(camera, position, orientation);
        for (element, particles) in now.particles().filter(|(element, _)| !element.hidden) {
            let Some(liquid) = &particles.liquid else { continue };
            let positions = frame.particles.get(&element.id).map_or(&[][..], |of| &of.positions);
            positions.iter().for_each(|at| mask.add_sphere(&lens, *at, RADIUS * liquid.spacing_m));
        }
        Ok(mask)
    }

    /// Covers the disc that a sphere is in the gate.
    fn add_sphere(&mut self, lens: &Lens, centre: Vec3, radius: f32) {
        let local = lens.orientation.inverse() * (centre - lens.position);
        let depth = -local.z;
        // One around the lens covers all or nothing.
        if depth <= radius {
            return;
        }
        let scale = 0.5 * WIDTH as f32 / (lens.half_width * depth);
        let x = 0.5 * WIDTH as f32 + scale * local.x;
        let y = 0.5 * self.height as f32 - scale * local.y;
        self.add_disc(x, y, scale * radius);
    }

    /// Covers the cells whose centres lie in a disc, and the one in which its own centre lies.
    fn add_disc(&mut self, x: f32, y: f32, radius: f32) {
        let rows = |y: f32| y.floor().clamp(0.0, self.height as f32) as usize;
        let columns = |x: f32| x.round().clamp(0.0, WIDTH as f32) as usize;
        for row in rows(y - radius)..rows(y + radius + 1.0) {
            let up = row as f32 + 0.5 - y;
            let half = (radius * radius - up * up).max(0.0).sqrt();
            (columns(x - half)..columns(x + half)).for_each(|column| self.cover(column, row));
        }
        if (0.0..WIDTH as f32).contains(&x) && (0.0..self.height as f32).contains(&y) {
            self.cover(x as usize, y as usize);
        }
    }

    fn cover(&mut self, column: usize, row: usize) {
        self.bits[row * (WIDTH / 64) + column / 64] |= 1 << (column % 64);
    }

    fn has(&self, column: usize, row: usize) -> bool {
        self.bits[row * (WIDTH / 64) + column / 64] >> (column % 64) & 1 == 1
    }

    /// Cells that one alone covers.
    fn apart(&self, other: &Self) -> u32 {
        self.bits.iter().zip(&other.bits).map(|(a, b)| (a ^ b).count_ones()).sum()
    }

    /// Length of the outline, in cells: a quarter of π times that along rows and columns, which is right in the mean over all directions.
    fn outline(&self) -> f32 {
        let mut steps = 0u32;
        for row in 0..self.height {
            for column in 0..WIDTH {
                let own = self.has(column, row);
                steps += u32::from(column > 0 && own != self.has(column - 1, row));
                steps += u32::from(row > 0 && own != self.has(column, row - 1));
            }
        }
        steps as f32 * std::f32::consts::FRAC_PI_4
    }
}

/// How far two sequences of masks, frame by frame, are apart in pictures `width` pixels wide.
pub fn difference(first: &[Coverage], second: &[Coverage], width: u32) -> Difference {
    let count = first.len().min(second.len());
    let (first, second) = (&first[..count], &second[..count]);
    let outline: f32 = second.iter().map(Coverage::outline).sum();
    let apart: u64 = first.iter().zip(second).map(|(a, b)| u64::from(a.apart(b))).sum();
    let pixels = width as f32 / WIDTH as f32 * apart as f32 / outline.max(1.0);
    Difference { pixels, delay_frames: delay(first, second) }
}

/// The shift in frames with which the masks are least apart, to a part of a frame by a parabola through three shifts.
fn delay(first: &[Coverage], second: &[Coverage]) -> f32 {
    let most = MAX_DELAY.min(first.len() / 4) as i32;
    // Means over the frames that all shifts have in common.
    let cost = |shift: i32| -> f64 {
        let frames = most..first.len() as i32 - most;
        let each = frames.map(|at| first[(at + shift) as usize].apart(&second[at as usize]));
        each.map(f64::from).sum()
    };
    let costs: Vec<f64> = (-most..=most).map(cost).collect();
    let Some(at) = (0..costs.len()).min_by(|a, b| {
        let off = |i: &usize| (*i as i32 - most).abs();
        costs[*a].total_cmp(&costs[*b]).then(off(a).cmp(&off(b)))
    }) else {
        return 0.0;
    };
    // Where hardly anything moves there is no delay to be seen.
    let furthest = costs.iter().copied().fold(0.0, f64::max);
    if furthest - costs[at] < LEAST_GAIN * costs[at] {
        return 0.0;
    }
    let whole = at as f32 - most as f32;
    if at == 0 || at + 1 == costs.len() {
        return whole;
    }
    let [before, least, after] = [costs[at - 1], costs[at], costs[at + 1]];
    // The masks grow apart in proportion to the shift, so that the foot of the two lines is looked for.
    let steepest = (before - least).max(after - least);
    if steepest > 0.0 { whole + (0.5 * (before - after) / steepest) as f32 } else { whole }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: [u32; 2] = [1_280, 720];

    /// A disc of 30 cells that crosses the gate, `ahead` frames before its time.
    fn crossing(ahead: f32) -> Vec<Coverage> {
        let at = |frame: u32| {
            let mut mask = Coverage::empty(SIZE);
            mask.add_disc(40.0 + 3.0 * (frame as f32 + ahead), 90.0, 30.0);
            mask
        };
        (0..60).map(at).collect()
    }

    #[test]
    fn a_disc_has_its_area_and_its_circumference() {
        let mut mask = Coverage::empty(SIZE);
        mask.add_disc(160.0, 90.0, 50.0);
        let area = mask.apart(&Coverage::empty(SIZE)) as f32;
        assert!((area / (std::f32::consts::PI * 2_500.0) - 1.0).abs() < 0.01, "{area}");
        let length = mask.outline();
        assert!((length / (std::f32::consts::TAU * 50.0) - 1.0).abs() < 0.02, "{length}");
    }

    #[test]
    fn discs_of_other_radii_are_as_many_pixels_apart() {
        for more in [1.0, 2.5] {
            let of = |radius: f32| {
                let mut mask = Coverage::empty(SIZE);
                mask.add_disc(160.0, 90.0, radius);
                vec![mask; 8]
            };
            // A cell is four pixels.
            let Difference { pixels, delay_frames } = difference(&of(40.0 + more), &of(40.0), 1_280);
            assert!((pixels / (4.0 * more) - 1.0).abs() < 0.1, "{pixels} of {}", 4.0 * more);
            assert_eq!(delay_frames, 0.0);
        }
    }

    #[test]
    fn what_is_later_has_a_delay() {
        for late in [0.0, 0.5, 2.0, 3.25, -4.0] {
            let Difference { delay_frames, .. } = difference(&crossing(-late), &crossing(0.0), 1_280);
            assert!((delay_frames - late).abs() < 0.15, "{delay_frames} of {late}");
        }
        assert_eq!(difference(&[], &[], 1_280), Difference { pixels: 0.0, delay_frames: 0.0 });
    }

    #[test]
    fn spheres_outside_or_around_the_lens_cover_nothing() {
        let lens = Lens::new(&shot::Camera::default(), Vec3::ZERO, glam::Quat::IDENTITY);
        let mut mask = Coverage::empty(SIZE);
        for at in [Vec3::Z, Vec3::ZERO, Vec3::new(1e6, 0.0, -1.0), Vec3::splat(f32::NAN)] {
            mask.add_sphere(&lens, at, 0.1);
        }
        assert_eq!(mask, Coverage::empty(SIZE));
        mask.add_sphere(&lens, Vec3::new(0.0, 0.0, -2.0), 0.1);
        assert!(mask.has(WIDTH / 2, mask.height / 2));
    }
}
