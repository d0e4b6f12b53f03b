//! Bending of a sheet: a quadratic energy, for sheets that bend far and stretch little.
//!
//! Where a sheet bends and does not stretch, its positions x as functions of the coordinates u, v at rest have second
//! derivatives along the normal, of the size of the curvature. In each triangle they are those of the quadratic through its
//! corners and the three points across its edges, laid flat (E. Oñate and F. Zárate, *Rotation-free triangular plate and shell
//! elements*, 2000, use the same patch), which is exact for a constant curvature on any mesh; at a free border the curvature across it is
//! 0, as where nothing bends it. The energy is ½ B A |∇²x|². It is quadratic in the positions, with a constant matrix (M. Bergou,
//! M. Wardetzky, D. Harmon, D. Zorin and E. Grinspun, *A quadratic bending model for inextensible surfaces*, 2006); their sum over edges is
//! three times too stiff on a grid of squares. Of a sheet that is curved at rest the derivatives are compared with their
//! values at rest, turned with the triangle.

use super::membrane::Triangle;
use glam::{DMat3, DVec2, DVec3};

/// A triangle with the points opposite of its edges.
#[derive(Clone, Copy, Debug)]
pub(super) struct Bend {
    /// The corners, then the points across the edges opposite of each; at a border a corner.
    pub points: [u32; 6],
    /// √A times the weights of ∂²x/∂u², ∂²x/∂v² and √2 ∂²x/∂u∂v, 1/m.
    pub weights: [[f64; 6]; 3],
    /// √A times those at rest, in the frame of the triangle, 1.
    pub rest: [DVec3; 3],
}

impl Bend {
    /// The same triangle of a body that is so many times as large.
    pub fn of_size(&self, by: f64) -> Self {
        Self { weights: self.weights.map(|row| row.map(|weight| weight / by)), ..*self }
    }

    /// Of a triangle at rest, and for each corner the point across the edge opposite of it; none: a border.
    pub fn new(triangle: &Triangle, across: [Option<u32>; 3], rest: impl Fn(u32) -> DVec3) -> Self {
        let corners = triangle.points;
        let points =
            std::array::from_fn(|i| if i < 3 { corners[i] } else { across[i - 3].unwrap_or(corners[i - 3]) });
        // In units of the triangle's size, from its middle.
        let size = triangle.area.sqrt();
        let flat = triangle.flat();
        let middle = (flat[0] + flat[1] + flat[2]) / 3.0;
        let flat = flat.map(|p| (p - middle) / size);
        let quadratic = |p: DVec2| [1.0, p.x, p.y, 0.5 * p.x * p.x, p.x * p.y, 0.5 * p.y * p.y];
        let mut rows = [[0.0; 6]; 6];
        for i in 0..3 {
            rows[i] = quadratic(flat[i]);
            let (a, b) = ((i + 1) % 3, (i + 2) % 3);
            let ends = [corners[a], corners[b]].map(&rest);
            let beyond = across[i].and_then(|other| unfolded([flat[a], flat[b]], ends, rest(other), size));
            rows[3 + i] = match beyond {
                Some(p) => quadratic(p),
                None => {
                    let m = (flat[b] - flat[a]).perp().normalize_or_zero();
                    [0.0, 0.0, 0.0, m.x * m.x, 2.0 * m.x * m.y, m.y * m.y]
                }
            };
        }
        let inverse = inverse(rows);
        let mut weights = [[0.0; 6]; 3];
        for i in (0..6).filter(|i| *i < 3 || across[i - 3].is_some()) {
            let scale = size / (size * size);
            weights[0][i] = inverse[3][i] * scale;
            weights[1][i] = inverse[5][i] * scale;
            weights[2][i] = inverse[4][i] * scale * std::f64::consts::SQRT_2;
        }
        let at = points.map(&rest);
        let back = frame(&at).transpose();
        // Flat within rounding is flat.
        let at_rest = |weights: [f64; 6]| {
            let of = back * sum(&weights, &at);
            if of.length() > 1e-4 { of } else { DVec3::ZERO }
        };
        Self { points, weights, rest: weights.map(at_rest) }
    }

    /// √A times second derivatives at rest, turned with the triangle, 1.
    pub fn turned(&self, rest: &[DVec3; 3], x: &[DVec3]) -> [DVec3; 3] {
        let frame = frame(&self.points.map(|p| x[p as usize]));
        rest.map(|rest| frame * rest)
    }

    /// √A times the second derivatives, in the frame of the triangle, 1.
    pub fn now(&self, x: &[DVec3]) -> [DVec3; 3] {
        let at = self.points.map(|p| x[p as usize]);
        let back = frame(&at).transpose();
        self.weights.map(|weights| back * sum(&weights, &at))
    }

    /// √A times the second derivatives, less those at rest, 1.
    #[cfg(test)]
    pub fn curvature(&self, x: &[DVec3]) -> [DVec3; 3] {
        let at = self.points.map(|p| x[p as usize]);
        let rest = self.turned(&self.rest, x);
        std::array::from_fn(|i| sum(&self.weights[i], &at) - rest[i])
    }

    /// The same triangle of another copy, whose points are numbered from `by` on.
    pub fn moved(&self, by: u32) -> Self {
        Self { points: self.points.map(|p| p + by), ..*self }
    }
}

fn sum(weights: &[f64; 6], at: &[DVec3; 6]) -> DVec3 {
    weights.iter().zip(at).fold(DVec3::ZERO, |sum, (weight, at)| sum + *weight * *at)
}

/// The frame of a triangle: along its first edge, across it and along the normal.
fn frame(at: &[DVec3; 6]) -> DMat3 {
    let (ab, ac) = (at[1] - at[0], at[2] - at[0]);
    let (first, normal) = (ab.normalize_or_zero(), ab.cross(ac).normalize_or_zero());
    DMat3::from_cols(first, normal.cross(first), normal)
}

/// A point across the edge of two ends, turned about the edge into the plane of the triangle, whose ends lie at `flat` in units
/// of `size`; none if the edge has no length.
fn unfolded(flat: [DVec2; 2], ends: [DVec3; 2], point: DVec3, size: f64) -> Option<DVec2> {
    let edge = ends[1] - ends[0];
    let direction = edge.try_normalize()?;
    let along = (point - ends[0]).dot(direction);
    let away = (point - ends[0]).reject_from_normalized(direction).length();
    let (u, v) = ((flat[1] - flat[0]).try_normalize()?, (flat[1] - flat[0]).perp().try_normalize()?);
    // The triangle lies left of its edges, the other point right of them.
    (away > 0.0).then(|| flat[0] + (u * along - v * away) / size)
}

/// The inverse of a matrix; of one that has none, that of the nearest that has, in the sense of least squares.
fn inverse(rows: [[f64; 6]; 6]) -> [[f64; 6]; 6] {
    const LEAST: f64 = 1e-4;
    if let Some(inverse) = eliminated(rows, identity(), LEAST) {
        return inverse;
    }
    let mut square = identity().map(|row| row.map(|value| value * 1e-4));
    let mut transposed = [[0.0; 6]; 6];
    for i in 0..6 {
        for j in 0..6 {
            transposed[i][j] = rows[j][i];
            square[i][j] += (0..6).map(|k| rows[k][i] * rows[k][j]).sum::<f64>();
        }
    }
    eliminated(square, transposed, 0.0).unwrap_or([[0.0; 6]; 6])
}

fn identity() -> [[f64; 6]; 6] {
    std::array::from_fn(|i| std::array::from_fn(|j| if i == j { 1.0 } else { 0.0 }))
}

/// The solution of A X = B by Gauss and Jordan; none if a pivot is not over `least`.
fn eliminated(mut a: [[f64; 6]; 6], mut b: [[f64; 6]; 6], least: f64) -> Option<[[f64; 6]; 6]> {
    for k in 0..6 {
        let pivot = (k..6).max_by(|&i, &j| a[i][k].abs().total_cmp(&a[j][k].abs()))?;
        if a[pivot][k].abs() <= least || a[pivot][k].is_nan() {
            return None;
        }
        a.swap(k, pivot);
        b.swap(k, pivot);
        let by = 1.0 / a[k][k];
        a[k].iter_mut().chain(&mut b[k]).for_each(|value| *value *= by);
        let (row_a, row_b) = (a[k], b[k]);
        for i in (0..6).filter(|i| *i != k) {
            let by = a[i][k];
            a[i].iter_mut().zip(row_a).for_each(|(value, of)| *value -= by * of);
            b[i].iter_mut().zip(row_b).for_each(|(value, of)| *value -= by * of);
        }
    }
    Some(b)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deformable::discretization::Discretization;
    use crate::deformable::sheet::sheet as sheet_of;
    use geometry::{Mesh, primitive};
    use shot::Shape;

    /// A sheet of 2 × 0.6 m, on a grid or with points moved at random.
    fn sheet(irregular: bool) -> Discretization {
        let mut mesh =
            Mesh::refined(&Shape::plane(2.0, 0.6), primitive::plane(2.0, 0.6), 0.05, 10_000).unwrap();
        for (i, p) in mesh.positions.iter_mut().enumerate() {
            let inner = p.x.abs() < 0.99 && p.z.abs() < 0.29;
            if irregular && inner {
                p.x += 0.012 * (i as f32 * 1.7).sin();
                p.z += 0.012 * (i as f32 * 2.9).sin();
            }
        }
        sheet_of(&mesh).0
    }

    fn rolled(sheet: &Discretization, radius: f64, turn: f64) -> Vec<DVec3> {
        let (s, c) = turn.sin_cos();
        let roll = |p: &DVec3| {
            let (x, z) = (p.x, p.z);
            let (along, across) = (c * x + s * z, c * z - s * x);
            DVec3::new(radius * (along / radius).sin(), radius * (along / radius).cos(), across)
        };
        sheet.rest.iter().map(roll).collect()
    }

    fn energy(sheet: &Discretization, x: &[DVec3]) -> f64 {
        let of = |bend: &Bend| bend.curvature(x).iter().map(|s| s.length_squared()).sum::<f64>();
        sheet.bends.iter().map(|bend| 0.5 * of(bend)).sum()
    }

    #[test]
    fn a_sheet_that_is_rolled_up_has_the_energy_of_its_curvature() {
        for sheet in [sheet(false), sheet(true)] {
            let flat: Vec<DVec3> = sheet.rest.clone();
            assert!(energy(&sheet, &flat) < 1e-12);
            // Border triangles take part as if nothing bent the border.
            let inner = |bend: &Bend| (3..6).all(|i| bend.points[i] != bend.points[i - 3]);
            let area: f64 = (sheet.triangles.iter().zip(&sheet.bends))
                .filter(|(_, bend)| inner(bend))
                .map(|(triangle, _)| triangle.area)
                .sum();
            for turn in [0.0, 0.5, std::f64::consts::FRAC_PI_4, 1.2] {
                let radius = 0.5;
                let x = rolled(&sheet, radius, turn);
                let of = |bend: &Bend| bend.curvature(&x).iter().map(|s| s.length_squared()).sum::<f64>();
                let measured: f64 = sheet.bends.iter().filter(|b| inner(b)).map(|b| 0.5 * of(b)).sum();
                let exact = 0.5 / (radius * radius) * area;
                assert!((measured / exact - 1.0).abs() < 0.01, "{measured} for {exact} at {turn}");
            }
        }
    }

    #[test]
    fn what_is_curved_at_rest_has_no_energy_there_however_it_is_turned() {
        let tube = primitive::cylinder(0.2, 0.8, 32);
        let sheet = sheet_of(&tube).0;
        let turn = glam::DQuat::from_euler(glam::EulerRot::XYZ, 0.3, -1.1, 2.0);
        let turned: Vec<DVec3> = sheet.rest.iter().map(|p| turn * *p + DVec3::ONE).collect();
        let flattened: Vec<DVec3> = sheet.rest.iter().map(|p| *p * DVec3::new(1.0, 1.0, 0.5)).collect();
        let (at_rest, pressed) = (energy(&sheet, &turned), energy(&sheet, &flattened));
        assert!(at_rest < 1e-6 * pressed, "{at_rest} and {pressed}");
    }
}
