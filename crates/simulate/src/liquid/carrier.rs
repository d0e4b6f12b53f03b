//! A liquid as the spray, foam and bubbles see it that it releases and carries.
//!
//! Where it releases them follows M. Ihmsen et al., *Unified spray, foam and bubbles for particle-based fluids*, 2012: by the energy of
//! the liquid, by the curvature of crests, and by the speed at which its parts meet. The sums over neighbours of each particle are taken
//! over the cells of the liquid instead, each with the mean of what is around its centre.

use super::cell_transfer::to_cells;
use geometry::tiles::{CELLS, LANES, Tiles, local, place};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use shot::Id;
use std::sync::OnceLock;

/// Particles in a full cell.
const FULL: f32 = 8.0;
/// A cell with less of the liquid has no velocity of its own.
const LEAST: f32 = 0.01;
/// Fractions between which a cell lies at the surface.
pub const SURFACE: [f32; 2] = [0.1, 0.9];
/// Mean of 1 − n n′ over the surface cells behind the tangent plane of a crest, where it begins to count and where it counts whole: a
/// ridge of a right angle has 0.2.
const CRESTS: [f32; 2] = [0.08, 0.2];
/// Cosine up to which a direction counts as along the tangent plane.
const TANGENT: f32 = 1e-3;
/// A crest moves outward: the least cosine between velocity and normal.
const OUTWARD: f32 = 0.6;
/// Parts of a liquid meet at up to so many times the mean over the cells beside.
const MEETING: f32 = 3.0;

/// A liquid, at the end of its last substep.
pub struct Carrier {
    /// Its element.
    pub element: Id,
    /// The numbers of its particles.
    pub ids: Vec<u32>,
    /// Where they are, m.
    pub positions: Vec<Vec3>,
    /// Their velocities, m/s.
    pub velocities: Vec<Vec3>,
    /// Their distance at rest, m.
    pub spacing_m: f32,
    cells: OnceLock<CarrierCells>,
}

impl Carrier {
    /// Of the columns of its particles.
    pub fn new(
        element: Id,
        spacing_m: f32,
        (ids, positions, velocities): (Vec<u32>, Vec<Vec3>, Vec<Vec3>),
    ) -> Self {
        Self { element, ids, positions, velocities, spacing_m, cells: OnceLock::new() }
    }

    /// Its cells, computed when they are first asked for; none where there would be too many.
    pub fn cells(&self) -> &CarrierCells {
        self.cells.get_or_init(|| CarrierCells::new(&self.positions, &self.velocities, 2.0 * self.spacing_m))
    }
}

/// How full the cells of a liquid are, and its mean velocities in them.
pub struct CarrierCells {
    tiles: Tiles,
    /// Fraction, and the sum of velocities by fraction, m/s.
    cells: Vec<[f32; LANES]>,
}

/// What a cell releases at full speed, 0–1 each.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Release {
    /// Whether it is at the surface.
    pub surface: f32,
    /// How far it is a crest that moves outward.
    pub crest: f32,
    /// Speed at which its parts meet, m/s.
    pub meeting_m_s: f32,
    /// The way out of the liquid.
    pub normal: Vec3,
}

impl CarrierCells {
    fn new(positions: &[Vec3], velocities: &[Vec3], cell_m: f32) -> Self {
        // A liquid that is scattered further ends the bake by itself.
        let Ok(tiles) = Tiles::bounded(positions, cell_m, super::MAX_TILES) else {
            return Self { tiles: Tiles::new(&[], cell_m), cells: Vec::new() };
        };
        let value = |i: usize| {
            let [x, y, z] = (velocities[i] / FULL).to_array();
            [1.0 / FULL, x, y, z, 0.0, 0.0, 0.0, 0.0]
        };
        let cells = to_cells(&tiles, positions, value);
        Self { tiles, cells }
    }

    fn fraction(&self, cell: Option<usize>) -> f32 {
        cell.map_or(0.0, |cell| self.cells[cell][0])
    }

    fn velocity(&self, cell: usize) -> Vec3 {
        let [fraction, x, y, z, ..] = self.cells[cell];
        Vec3::new(x, y, z) / fraction.max(LEAST)
    }

    /// How full it is around a place, 1 is full, and the velocity of the liquid there, m/s.
    pub fn at(&self, position: Vec3) -> (f32, Vec3) {
        let Some((tile, at)) = self.tiles.find(position) else { return (0.0, Vec3::ZERO) };
        let within = self.tiles.within(tile, position) - 0.5;
        let first = within.floor();
        let (far, first) = (within - first, first.as_ivec3());
        debug_assert!((first - at).abs().max_element() <= 1);
        let (mut fraction, mut flow) = (0.0, Vec3::ZERO);
        for corner in 0..8 {
            let by = IVec3::new(corner & 1, corner >> 1 & 1, corner >> 2);
            let Some(cell) = self.tiles.cell(tile, first + by) else { continue };
            let weights = Vec3::select(by.cmpeq(IVec3::ONE), far, 1.0 - far);
            let [full, x, y, z, ..] = self.cells[cell];
            let weight = weights.element_product();
            fraction += weight * full;
            flow += weight * Vec3::new(x, y, z);
        }
        (fraction, flow / fraction.max(LEAST))
    }

    /// The place in the list of cells of the cell in which a position lies.
    pub fn cell(&self, position: Vec3) -> Option<usize> {
        let (tile, at) = self.tiles.find(position)?;
        Some(tile * CELLS + place(at))
    }

    /// What each cell releases.
    pub fn releases(&self) -> Vec<Release> {
        let normals: Vec<Vec3> =
            (0..self.cells.len()).into_par_iter().with_min_len(CELLS).map(|cell| self.normal(cell)).collect();
        (0..self.cells.len())
            .into_par_iter()
            .with_min_len(CELLS)
            .map(|cell| self.release(&normals, cell))
            .collect()
    }

    /// The way out of the liquid; 0 where it has no surface near.
    fn normal(&self, cell: usize) -> Vec3 {
        let (tile, at) = (cell / CELLS, local(cell % CELLS));
        let along = |axis: usize| {
            let step = IVec3::AXES[axis];
            self.fraction(self.tiles.cell(tile, at - step)) - self.fraction(self.tiles.cell(tile, at + step))
        };
        let gradient = Vec3::new(along(0), along(1), along(2));
        if gradient.length() > SURFACE[0] { gradient.normalize() } else { Vec3::ZERO }
    }

    fn release(&self, normals: &[Vec3], cell: usize) -> Release {
        let (tile, at) = (cell / CELLS, local(cell % CELLS));
        let own = self.fraction(Some(cell));
        if own < SURFACE[0] {
            return Release::default();
        }
        let (velocity, normal) = (self.velocity(cell), normals[cell]);
        let is_surface = own < SURFACE[1] && normal != Vec3::ZERO;
        let is_crest = is_surface && normal.dot(velocity) >= OUTWARD * velocity.length();
        let (mut bent, mut bent_weight) = (0.0f32, 0.0f32);
        let (mut met, mut met_weight, mut near_air) = (0.0f32, 0.0f32, is_surface);
        for k in (0..27).filter(|k| *k != 13) {
            let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
            let other = self.tiles.cell(tile, at + by);
            let fraction = self.fraction(other);
            near_air |= fraction < SURFACE[1];
            let (Some(other), true) = (other, fraction >= SURFACE[0]) else { continue };
            let (way, distance) = (by.as_vec3().normalize(), by.as_vec3().length());
            let near = 1.0 - 0.5 * distance;
            let is_behind = way.dot(normal) <= TANGENT;
            if is_crest && is_behind && fraction < SURFACE[1] && normals[other] != Vec3::ZERO {
                bent += near * (1.0 - normal.dot(normals[other]));
                bent_weight += near;
            }
            let apart = velocity - self.velocity(other);
            let speed = apart.length();
            if speed > 0.0 {
                // The other lies along `way`: parts that come nearer have a velocity along it.
                met += near * fraction * 0.5 * speed * (1.0 + (apart / speed).dot(way));
            }
            met_weight += near * fraction;
        }
        let bent = if bent_weight > 0.0 { bent / bent_weight } else { 0.0 };
        Release {
            surface: if is_surface { 1.0 } else { 0.0 },
            crest: ramp(bent, CRESTS[0], CRESTS[1]),
            meeting_m_s: if near_air && met_weight > 0.0 { MEETING * met / met_weight } else { 0.0 },
            normal,
        }
    }
}

/// 0 up to `from`, 1 from `to` on, even in between.
pub fn ramp(value: f32, from: f32, to: f32) -> f32 {
    if value <= from {
        return 0.0;
    }
    if to > from { ((value - from) / (to - from)).min(1.0) } else { 1.0 }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A block of particles from 0 to `size`, at `at`, with velocities by place in it.
    fn block(size: Vec3, at: Vec3, velocity: impl Fn(Vec3) -> Vec3) -> Carrier {
        const SPACING: f32 = 0.02;
        let count = (size / SPACING).round().as_ivec3();
        let places = (0..count.x)
            .flat_map(|x| (0..count.y).flat_map(move |y| (0..count.z).map(move |z| IVec3::new(x, y, z))));
        let within: Vec<Vec3> = places.map(|place| (place.as_vec3() + 0.5) * SPACING).collect();
        let positions: Vec<Vec3> = within.iter().map(|place| *place + at).collect();
        let velocities = within.iter().map(|place| velocity(*place)).collect();
        Carrier::new(Id(1), SPACING, ((0..positions.len() as u32).collect(), positions, velocities))
    }

    #[test]
    fn a_block_is_full_inside_and_half_full_at_its_surface_wherever_it_stands() {
        for at in [Vec3::ZERO, Vec3::new(-3.013, 7.771, 0.409), Vec3::new(40.0, -30.0, 11.0)] {
            let velocity = Vec3::new(0.3, -2.0, 0.7);
            let block = block(Vec3::splat(0.4), at, |_| velocity);
            let (inside, flow) = block.cells().at(at + 0.2);
            assert!((inside - 1.0).abs() < 0.03 && flow.distance(velocity) < 1e-4, "{inside} {flow}");
            let (surface, flow) = block.cells().at(at + Vec3::new(0.2, 0.4, 0.2));
            // Linear interpolation between cells has an error of up to 1/8 of the second derivative, which is 1 over a cell squared.
            assert!((surface - 0.5).abs() < 0.125 && flow.distance(velocity) < 1e-4, "{surface} {flow}");
            assert_eq!(block.cells().at(at + Vec3::new(0.2, 0.6, 0.2)).0, 0.0);
        }
    }

    fn most(block: &Carrier, of: impl Fn(&Release) -> f32) -> f32 {
        block.cells().releases().iter().map(of).fold(0.0, f32::max)
    }

    #[test]
    fn edges_that_fly_outward_are_crests_and_level_surfaces_are_none() {
        let up = Vec3::new(1.0, 1.0, 0.0);
        let block = block(Vec3::splat(0.4), Vec3::ZERO, |_| up);
        let of = |place: Vec3| block.cells().releases()[block.cells().cell(place).unwrap()];
        assert!(of(Vec3::new(0.39, 0.39, 0.2)).crest > 0.5, "{:?}", of(Vec3::new(0.39, 0.39, 0.2)));
        assert_eq!(of(Vec3::new(0.2, 0.39, 0.2)).crest, 0.0);
        // An edge that the liquid leaves behind is none.
        assert_eq!(of(Vec3::new(0.01, 0.01, 0.2)).crest, 0.0);
        assert_eq!((of(Vec3::splat(0.2)).surface, of(Vec3::new(0.2, 0.39, 0.2)).surface), (0.0, 1.0));
    }

    #[test]
    fn parts_that_meet_do_so_at_their_speed_and_what_moves_as_one_does_not() {
        let meets = |across: f32| {
            block(Vec3::splat(0.4), Vec3::ZERO, move |at| Vec3::X * if at.x < 0.2 { across } else { -across })
        };
        assert!(most(&meets(1.0), |of| of.meeting_m_s) > 0.5);
        // What parts from each other, and what is within, traps nothing.
        assert!(most(&meets(-1.0), |of| of.meeting_m_s) < 0.5 * most(&meets(1.0), |of| of.meeting_m_s));
        let one = block(Vec3::splat(0.4), Vec3::ZERO, |_| Vec3::splat(3.0));
        assert!(most(&one, |of| of.meeting_m_s) < 1e-3);
    }
}
