//! Eight particles at once, and the nodes of the grid around them.

use geometry::tiles::{LANES, SIDE, Tiles};
use glam::Vec3;
use wide::{f32x4, f32x8, f64x2};

/// Cells along each side of a block of `MARGIN` cells around a tile.
pub(super) const fn side(margin: usize) -> usize {
    SIDE as usize + 2 * margin
}

/// Eight places or velocities: a vector by coordinate.
pub(super) type Lanes = [f32x8; 3];

#[inline(always)]
pub(super) fn lanes(of: impl Fn(usize) -> f32) -> f32x8 {
    f32x8::new(std::array::from_fn(of))
}

/// The first ones and the second ones of eight pairs that each lie beside each other in memory.
#[inline(always)]
pub(super) fn pairs<'a>(of: impl Fn(usize) -> &'a [f32; 2]) -> (f32x8, f32x8) {
    // Loaded as one number each.
    let pair = |lane: usize| bytemuck::pod_read_unaligned::<f64>(bytemuck::bytes_of(of(lane)));
    let two = |lane: usize| bytemuck::cast::<_, f32x4>(f64x2::new([pair(lane), pair(lane + 1)]));
    let [a, b, c, d] = [0, 2, 4, 6].map(|lane| two(lane).to_array());
    (
        f32x8::new([a[0], a[2], b[0], b[2], c[0], c[2], d[0], d[2]]),
        f32x8::new([a[1], a[3], b[1], b[3], c[1], c[3], d[1], d[3]]),
    )
}

/// The places of eight points in a tile, in cells from its lowest corner.
#[inline(always)]
pub(super) fn places(tiles: &Tiles, tile: usize, positions: &[Vec3], points: [usize; LANES]) -> Lanes {
    let at = points.map(|i| tiles.within(tile, positions[i]));
    std::array::from_fn(|axis| lanes(|lane| at[lane][axis]))
}

/// The cells of a block around eight places, along each axis: whole, and shifted by half a cell.
pub(super) struct Around {
    /// The cells, as numbers without a fraction.
    first: [[f32x8; 2]; 3],
    /// How far a place lies from there to the next cell.
    fraction: [[f32x8; 2]; 3],
}

impl Around {
    /// A place has no negative coordinate in the block.
    #[inline(always)]
    pub(super) fn new<const MARGIN: usize>(at: &Lanes) -> Self {
        let in_block: [[f32x8; 2]; 3] =
            at.map(|at| [0.0, 0.5].map(|shift| at + f32x8::splat(MARGIN as f32 - shift)));
        let first = in_block.map(|along| along.map(|at| at.fast_trunc_int().round_float()));
        let fraction = std::array::from_fn(|along| {
            std::array::from_fn(|shift| in_block[along][shift] - first[along][shift])
        });
        Self { first, fraction }
    }

    /// The nodes of an axis around the places: those of axis 3 lie at the centres of cells.
    #[inline(always)]
    pub(super) fn nodes<const MARGIN: usize>(&self, axis: usize) -> Nodes {
        // Nodes lie at the lower faces along their own axis, and at the centres of those along the others.
        let shift = |along: usize| usize::from(along != axis);
        let [x, y, z] = std::array::from_fn(|along| self.first[along][shift(along)]);
        let row = f32x8::splat(side(MARGIN) as f32);
        let fraction: Lanes = std::array::from_fn(|along| self.fraction[along][shift(along)]);
        let (near_y, near_z) = (1.0 - fraction[1], 1.0 - fraction[2]);
        Nodes {
            first: ((z * row + y) * row + x).fast_trunc_int().to_array().map(|first| first as usize),
            weights_yz: [
                near_y * near_z,
                fraction[1] * near_z,
                near_y * fraction[2],
                fraction[1] * fraction[2],
            ],
            fraction,
        }
    }
}

/// The nodes around eight places.
pub(super) struct Nodes {
    /// The numbers of the first nodes in a block.
    pub(super) first: [usize; LANES],
    /// How far the place lies from there to the next node, along each axis.
    pub(super) fraction: Lanes,
    /// The weights of the four nodes around along y and z, y fastest.
    pub(super) weights_yz: [f32x8; 4],
}

/// Four values of each of eight particles, particle by particle.
#[inline(always)]
pub(super) fn by_particle(values: [f32x8; 4]) -> [f32x4; LANES] {
    let halves: [[f32x4; 2]; 4] = values.map(bytemuck::cast);
    let [low, high] = [0, 1].map(|half| f32x4::transpose(halves.map(|of| of[half])));
    std::array::from_fn(|lane| if lane < 4 { low[lane] } else { high[lane - 4] })
}

#[inline(always)]
pub(super) fn vectors(of: Lanes) -> [Vec3; LANES] {
    let [x, y, z] = of.map(|of| of.to_array());
    std::array::from_fn(|lane| Vec3::new(x[lane], y[lane], z[lane]))
}
