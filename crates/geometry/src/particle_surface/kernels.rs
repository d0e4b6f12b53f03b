//! The neighbourhoods of particles, which are drawn out along the surface, and evened out, so that a smooth surface comes of rough
//! ground (J. Yu and G. Turk, *Reconstructing surfaces of particle-based fluids using anisotropic kernels*, 2013).
//!
//! The mean and the covariance of the particles around each come from sums in the cells of a grid, with quadratic splines to the cells
//! and back: their second moments are the same wherever a particle lies in its cell.

use crate::tiles::{CELLS, Padded, Tiles};
use glam::{IVec3, Mat3, Vec3, Vec4, Vec4Swizzles};
use rayon::prelude::*;

/// Edge of the cells in which neighbours are added up, in sizes of the particles.
const CELL: f32 = 1.25;
/// How far a particle goes towards the mean of those around it.
const EVENED_OUT: f32 = 0.8;
/// Distance of that mean from a particle at a flat surface, in sizes (measured on filled shapes).
const MEAN_AT_SURFACE: f32 = 0.55;
/// Fractions of the neighbours of a particle within the liquid: with fewer than the first it stays round, with the second it is drawn
/// out wholly.
const DROPLET: [f32; 2] = [0.12, 0.35];
/// Ratios of the shortest axis to the middle one: at the first and below a particle lies in a film, from the second on it does not.
const FILM: [f32; 2] = [0.25, 0.5];
/// Most tiles.
const MAX_TILES: usize = 1 << 18;

/// How particles make their neighbourhoods, m.
#[derive(Clone, Copy, Debug)]
pub(super) struct Neighbourhoods {
    pub size_m: f32,
    pub radius_m: f32,
    pub reach_m: f32,
    /// Most of half an axis.
    pub most_m: f32,
    pub anisotropy: f32,
    pub film_m: f32,
}

/// The neighbourhood of a particle: an ellipsoid.
#[derive(Clone, Copy, Debug)]
pub(super) struct Kernel {
    /// Where its particle is.
    pub position: Vec3,
    /// Where the particle is evened out to.
    pub centre: Vec3,
    /// Takes a way from the position to the unit ball.
    pub inverse: Mat3,
    /// Half of its size along the axes, m.
    pub extent: Vec3,
    /// Distance of the surface from the centre, m.
    pub radius_m: f32,
}

/// Sums over the particles around a cell, about its centre, in cells: of weights and ways, (1, x, y, z); of (1, xx, yy, zz); and of
/// (xy, xz, yz, 1).
type Moments = [Vec4; 3];

/// Those of a particle; `way` is (1, x, y, z).
#[inline(always)]
fn moments(weight: f32, way: Vec4) -> Moments {
    [way, way * way, way.yyzx() * way.zwwx()].map(|value| weight * value)
}

/// Sums about a place `by` away from where they were taken, as (0, x, y, z).
#[inline(always)]
fn moved([ways, squares, products]: &Moments, by: Vec4) -> Moments {
    let shift = by * ways.xxxx();
    let crossed = ways.yyzx() * by.zwwx() + (ways + shift).zwwx() * by.yyzx();
    [*ways + shift, *squares + (2.0 * *ways + shift) * by, *products + crossed]
}

/// The weights of the cell before, of the own and of the next along an axis, at a place in a cell.
fn spline(fraction: f32) -> [f32; 3] {
    let from_centre = fraction - 0.5;
    [0.5 * (0.5 - from_centre).powi(2), 0.75 - from_centre * from_centre, 0.5 * (0.5 + from_centre).powi(2)]
}

/// Calls `of` with the 27 cells around a place in a tile, the weight and the way from the place to each cell's centre, as (0, x, y, z).
#[inline(always)]
fn for_each_near(at: Vec3, mut of: impl FnMut(IVec3, f32, Vec4)) {
    let cell = at.floor();
    let [wx, wy, wz] = (at - cell).to_array().map(spline);
    let first = cell.as_ivec3() - 1;
    let to_first = Vec4::new(0.0, cell.x - at.x - 0.5, cell.y - at.y - 0.5, cell.z - at.z - 0.5);
    for (z, wz) in (0..3).zip(wz) {
        for (y, wy) in (0..3).zip(wy) {
            for (x, wx) in (0..3).zip(wx) {
                let by = Vec4::new(0.0, x as f32, y as f32, z as f32);
                of(first + IVec3::new(x, y, z), wx * (wy * wz), to_first + by);
            }
        }
    }
}

impl Neighbourhoods {
    /// Those of the particles for which `near` is true, at their places among all; the others are not to be used. None if the particles
    /// lie so far apart that the grid would be too large.
    pub fn of(&self, positions: &[Vec3], near: &[bool]) -> Option<Vec<Kernel>> {
        if self.anisotropy <= 1.0 && self.film_m <= 2.0 * self.radius_m {
            let round = |centre: &Vec3| self.round(*centre);
            return Some(positions.iter().map(round).collect());
        }
        let tiles = Tiles::bounded(positions, CELL * self.size_m, MAX_TILES).ok()?;
        let give = |tile: usize, out: &mut Padded<Moments>| {
            for i in tiles.points_in(tile) {
                for_each_near(tiles.within(tile, positions[*i as usize]), |cell, weight, way| {
                    let given = moments(weight, Vec4::X - way);
                    out.at(cell).iter_mut().zip(given).for_each(|(sum, value)| *sum += value);
                });
            }
        };
        let add = |sum: &mut Moments, more: &Moments| {
            sum.iter_mut().zip(more).for_each(|(sum, more)| *sum += *more)
        };
        let sums = tiles.sums(1, [Vec4::ZERO; 3], give, add);
        let mut kernels = vec![self.round(Vec3::ZERO); positions.len()];
        let of_tile = |tile: usize| {
            let of = |i: &u32| {
                let position = positions[*i as usize];
                let (mut all, mut own) = ([Vec4::ZERO; 3], 0.0);
                for_each_near(tiles.within(tile, position), |cell, weight, way| {
                    let Some(cell) = tiles.cell(tile, cell) else { return };
                    let about = moved(&sums[cell], way);
                    all.iter_mut().zip(about).for_each(|(sum, value)| *sum += weight * value);
                    own += weight * weight;
                });
                (*i, self.kernel(position, &all, own))
            };
            tiles.points_in(tile).iter().filter(|i| near[**i as usize]).map(of).collect::<Vec<_>>()
        };
        let found: Vec<Vec<(u32, Kernel)>> = (0..tiles.len()).into_par_iter().map(of_tile).collect();
        found.into_iter().flatten().for_each(|(i, kernel)| kernels[i as usize] = kernel);
        debug_assert_eq!(sums.len(), tiles.len() * CELLS);
        Some(kernels)
    }

    fn round(&self, centre: Vec3) -> Kernel {
        Kernel {
            position: centre,
            centre,
            inverse: Mat3::from_diagonal(Vec3::splat(1.0 / self.reach_m)),
            extent: Vec3::splat(self.reach_m),
            radius_m: self.radius_m,
        }
    }

    /// The neighbourhood of a particle from the sums about its position; `own` is what it adds to the first of them.
    fn kernel(&self, position: Vec3, sums: &Moments, own: f32) -> Kernel {
        let whole = CELL.powi(3);
        let smooth = |value: f32, [from, to]: [f32; 2]| {
            let t = ((value - from) / (to - from)).clamp(0.0, 1.0);
            t * t * (3.0 - 2.0 * t)
        };
        let [ways, squares, products] = *sums;
        let drawn = smooth((ways.x - own) / whole, DROPLET);
        if drawn <= 0.0 {
            return self.round(position);
        }
        let mean = ways.yzw() / ways.x;
        let (squares, products) = (squares.yzw() / ways.x, products.xyz() / ways.x);
        let covariance = Mat3::from_cols(
            Vec3::new(squares.x, products.x, products.y) - mean * mean.x,
            Vec3::new(products.x, squares.y, products.z) - mean * mean.y,
            Vec3::new(products.y, products.z, squares.z) - mean * mean.z,
        );
        let (variances, axes) = eigen(covariance);
        let deviations = variances.max(Vec3::ZERO).map(f32::sqrt);
        let longest = deviations.max_element().max(1e-6);
        let middle = deviations.x + deviations.y + deviations.z - longest - deviations.min_element();
        let film = drawn * (1.0 - smooth(deviations.min_element() / middle.max(1e-6), FILM));
        let ratios = (deviations / longest).max(Vec3::splat(1.0 / self.anisotropy.max(1.0)));
        // As many particles lie in it as in a round one.
        let ratios = ratios / ratios.element_product().cbrt();
        let halves = self.reach_m * Vec3::ONE.lerp(ratios, drawn);
        let halves = halves.min(Vec3::splat(self.most_m));
        let inverse = axes * Mat3::from_diagonal(halves.recip()) * axes.transpose();
        let squares = axes * Mat3::from_diagonal(halves * halves) * axes.transpose();
        let extent = Vec3::new(squares.x_axis.x, squares.y_axis.y, squares.z_axis.z).map(f32::sqrt);
        // At a surface the mean lies within; so much further out is the surface then.
        let within = mean.length() * CELL / MEAN_AT_SURFACE;
        let back = EVENED_OUT * MEAN_AT_SURFACE * self.size_m * smooth(within, [0.0, 1.0]);
        let even = if self.anisotropy > 1.0 { drawn } else { 0.0 };
        let radius_m = self.radius_m + even * back;
        Kernel {
            position,
            centre: position + mean * (even * EVENED_OUT * CELL * self.size_m),
            inverse,
            extent,
            radius_m: radius_m + film * (0.5 * self.film_m - radius_m).max(0.0),
        }
    }
}

/// Eigenvalues and unit eigenvectors of a symmetric matrix, by rotations that take out one element after the other (C. Jacobi, *Über
/// ein leichtes Verfahren*, 1846).
fn eigen(matrix: Mat3) -> (Vec3, Mat3) {
    const SWEEPS: u32 = 4;
    /// Elements beside the diagonal that count as none, as a part of the trace.
    const NONE: f32 = 1e-6;
    let (mut a, mut vectors) = (matrix.to_cols_array_2d(), Mat3::IDENTITY.to_cols_array_2d());
    let none = (NONE * (a[0][0] + a[1][1] + a[2][2])).max(1e-12);
    for _ in 0..SWEEPS {
        for (p, q) in [(0, 1), (0, 2), (1, 2)] {
            if a[p][q].abs() <= none {
                continue;
            }
            let cotangent = (a[q][q] - a[p][p]) / (2.0 * a[p][q]);
            let tangent = cotangent.signum() / (cotangent.abs() + (1.0 + cotangent * cotangent).sqrt());
            let cos = 1.0 / (1.0 + tangent * tangent).sqrt();
            let sin = tangent * cos;
            for row in &mut a {
                (row[p], row[q]) = (cos * row[p] - sin * row[q], sin * row[p] + cos * row[q]);
            }
            for k in 0..3 {
                (a[p][k], a[q][k]) = (cos * a[p][k] - sin * a[q][k], sin * a[p][k] + cos * a[q][k]);
                (vectors[p][k], vectors[q][k]) =
                    (cos * vectors[p][k] - sin * vectors[q][k], sin * vectors[p][k] + cos * vectors[q][k]);
            }
        }
    }
    (Vec3::new(a[0][0], a[1][1], a[2][2]), Mat3::from_cols_array_2d(&vectors))
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::Vec3Swizzles;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn eigenvectors_are_turned_by_nothing_but_their_values(
            v in proptest::collection::vec(-2f32..2.0, 9),
        ) {
            let any = Mat3::from_cols_slice(&v);
            let symmetric = any * any.transpose();
            let (values, vectors) = eigen(symmetric);
            let back = vectors * Mat3::from_diagonal(values) * vectors.transpose();
            prop_assert!(back.abs_diff_eq(symmetric, 1e-4 * (1.0 + symmetric.x_axis.length())));
            prop_assert!((vectors * vectors.transpose()).abs_diff_eq(Mat3::IDENTITY, 1e-5));
        }
    }

    fn neighbourhoods() -> Neighbourhoods {
        Neighbourhoods {
            size_m: 0.1,
            radius_m: 0.08,
            reach_m: 0.2,
            most_m: 0.3,
            anisotropy: 4.0,
            film_m: 0.0,
        }
    }

    #[test]
    fn the_mean_at_a_flat_surface_is_what_is_made_up_for() {
        let points = crate::fill(&crate::primitive::cuboid(Vec3::splat(2.0), 0.0), 0.1);
        let round = Neighbourhoods { film_m: 0.0, ..neighbourhoods() };
        let kernels = round.of(&points, &vec![true; points.len()]).unwrap();
        let on_top = |i: &usize| points[*i].y > 0.95 && points[*i].xz().abs().max_element() < 0.7;
        let moved = (0..points.len()).filter(on_top).map(|i| (kernels[i].centre - points[i]) / 0.1);
        let (sum, count) = moved.fold((Vec3::ZERO, 0.0), |(sum, n), by| (sum + by, n + 1.0));
        let mean = sum / count / EVENED_OUT;
        assert!((mean.y + MEAN_AT_SURFACE).abs() < 0.1 && mean.xz().length() < 0.1, "{mean}");
        // Within, a particle stays about where it is.
        let deep = (0..points.len()).filter(|i| points[*i].abs().max_element() < 0.5);
        let far = deep.map(|i| kernels[i].centre.distance(points[i])).fold(0.0, f32::max);
        assert!(far < 0.05, "{far}");
    }

    #[test]
    fn a_sheet_is_drawn_out_along_itself_and_has_its_least_thickness_and_a_drop_is_round() {
        let mut points: Vec<Vec3> =
            (0..1_600).map(|i| Vec3::new((i % 40) as f32, 0.0, (i / 40) as f32) * 0.1).collect();
        points.push(Vec3::Y * 5.0);
        let kernels = Neighbourhoods { film_m: 0.3, ..neighbourhoods() }
            .of(&points, &vec![true; points.len()])
            .unwrap();
        let middle = kernels[20 * 40 + 20];
        assert!(middle.extent.y < 0.3 * middle.extent.x, "{}", middle.extent);
        assert!((middle.radius_m - 0.15).abs() < 0.01, "{}", middle.radius_m);
        let drop = kernels[1_600];
        assert_eq!((drop.centre, drop.extent, drop.radius_m), (Vec3::Y * 5.0, Vec3::splat(0.2), 0.08));
    }
}
