//! Flags in even wind against the linear stability of the same force of air.
//!
//! With C_D = C_L = C the air presses with ½ ρ C |w| (w · n) n on each area. A flag of length L along x that is hinged at its
//! leading edge, whose small deflection is z(x, t), then obeys
//! m z_tt + ½ ρ C U (z_t + U z_x) + B z_xxxx = 0, with z = z_xx = 0 at the hinge and z_xx = z_xxx = 0 at the free end.
//! Solutions e^(s t + r x / L) have r⁴ + a r + μ = 0, a = ½ ρ C U² L³ / B, μ = (m s² + ½ ρ C U s) L⁴ / B; four of them meet the
//! ends where a determinant is 0. At onset s is imaginary.

use crate::Experiment;
use crate::cloth::{places, run};
use geometry::Meshes;
use glam::Vec3;
use num_complex::Complex64;
use shot::{
    Cloth, Element, ElementKind, Moves, Pin, PinnedPart, Shape, Side,
    force::{Force, ForceKind, Push, Wind},
};
use std::f32::consts::FRAC_PI_2;
use std::f64::consts::TAU;

/// A flag 1 m long: mass per area, kg/m², bending stiffness, N m, density of the air, kg/m³, and coefficient.
#[derive(Clone, Copy)]
struct Flag {
    mass: f64,
    bend: f64,
    density: f64,
    coefficient: f64,
}

const FLAG: Flag = Flag { mass: 0.3, bend: 0.02, density: 1.2, coefficient: 1.2 };

impl Flag {
    fn push(&self) -> f64 {
        0.5 * self.density * self.coefficient
    }

    /// The determinant of the ends for a growth rate s, 1/s, at a wind speed, m/s; scaled by the largest root's exponential.
    fn determinant(&self, speed: f64, s: Complex64) -> Complex64 {
        let a = self.push() * speed * speed / self.bend;
        let mu = (s * s * self.mass + s * self.push() * speed) / self.bend;
        ends(quartic_roots(0.0, Complex64::from(a), mu), |r| [Complex64::ONE, r * r])
    }

    /// Wind speed, m/s, and frequency, Hz, at which the first waves neither grow nor fade, from a guess.
    fn onset(&self, speed: f64, frequency: f64) -> [f64; 2] {
        let at = |[speed, frequency]: [f64; 2]| self.determinant(speed, Complex64::new(0.0, TAU * frequency));
        newton(at, [speed, frequency])
    }
}

/// Where a complex function of two real values is 0, by Newton's method.
fn newton(of: impl Fn([f64; 2]) -> Complex64, mut at: [f64; 2]) -> [f64; 2] {
    for _ in 0..60 {
        let (d, h) = (of(at), 1e-6);
        let by_first = (of([at[0] + h, at[1]]) - d) / h;
        let by_second = (of([at[0], at[1] + h]) - d) / h;
        let square = by_first.re * by_second.im - by_first.im * by_second.re;
        at[0] -= (d.re * by_second.im - d.im * by_second.re) / square;
        at[1] -= (by_first.re * d.im - by_first.im * d.re) / square;
    }
    at
}

/// The determinant of the conditions at both ends for solutions e^(r x): `held` are those of an exponent at the held end, the
/// free end has neither moment nor force.
fn ends(roots: [Complex64; 4], held: impl Fn(Complex64) -> [Complex64; 2]) -> Complex64 {
    let columns = roots.map(|r| {
        let ([first, second], e) = (held(r), r.exp());
        [first, second, r * r * e, r * r * r * e]
    });
    // Equal roots make it 0 without a solution: divided out by the Vandermonde determinant.
    let mut apart = Complex64::ONE;
    for i in 0..4 {
        for k in 0..i {
            apart *= roots[i] - roots[k];
        }
    }
    determinant(columns) / apart
}

/// The roots of r⁴ + p r² + q r + μ (Durand and Kerner).
fn quartic_roots(p: f64, q: Complex64, mu: Complex64) -> [Complex64; 4] {
    let size = (p.abs() + q.norm() + mu.norm()).max(1.0).powf(0.3);
    let mut roots: [Complex64; 4] =
        std::array::from_fn(|i| Complex64::from_polar(size, 0.4 + TAU * i as f64 / 4.0));
    for _ in 0..200 {
        for i in 0..4 {
            let r = roots[i];
            let others =
                (0..4).filter(|k| *k != i).fold(Complex64::ONE, |product, k| product * (r - roots[k]));
            roots[i] -= (r * r * r * r + r * r * p + q * r + mu) / others;
        }
    }
    roots
}

/// By elimination.
fn determinant(mut m: [[Complex64; 4]; 4]) -> Complex64 {
    let mut product = Complex64::ONE;
    for i in 0..4 {
        let pivot = (i..4).max_by(|a, b| m[*a][i].norm().total_cmp(&m[*b][i].norm())).unwrap_or(i);
        if pivot != i {
            m.swap(i, pivot);
            product = -product;
        }
        product *= m[i][i];
        for row in i + 1..4 {
            let factor = m[row][i] / m[i][i];
            for k in i..4 {
                let above = m[i][k];
                m[row][k] -= factor * above;
            }
        }
    }
    product
}

/// Growth rate, 1/s, and frequency, Hz, of the waves of a flag that begins at a small angle to the wind, with the deflection of
/// its free end.
fn waves(flag: &Cloth, density: f64, speed: f64, substeps: u32) -> ([f64; 2], Vec<(f64, f64)>) {
    let edge_m = flag.edge_m;
    let mut shot = crate::cloth::shot(6.0);
    shot.elements.retain(|element| element.as_force().is_none());
    shot.physics.substeps = substeps;
    let width = 2.0 * edge_m;
    let mut element = Element::solid("Flag", Shape::plane(1.0, width), Moves::Free);
    element.as_solid_mut().expect("a solid").cloth =
        Some(Cloth { poisson_ratio: 0.0, damping_s: 0.0, thickness_m: 0.2 * edge_m, ..flag.clone() });
    // Its leading edge is at x = 0.
    const TILT: f32 = 0.01;
    let element = element.at(0.5 * TILT.cos(), 0.5 * TILT.sin(), 0.0).turned(0.0, 0.0, TILT);
    let id = shot.add(element);
    let air = Wind {
        speed_m_s: speed as f32,
        gust: 0.0,
        eddy: 0.0,
        push: Push::Air { density_kg_m3: density as f32 },
        ..Wind::default()
    };
    let air = Element::new("Wind", ElementKind::Force(Force::new(ForceKind::Wind(air))));
    shot.add(air.turned(0.0, 0.0, FRAC_PI_2));
    let mut curve = Vec::new();
    run(&shot, &Meshes::default(), |frame| {
        let free = places(frame, id).into_iter().max_by(|a, b| a.x.total_cmp(&b.x));
        curve.push((frame.time_s, f64::from(free.map_or(0.0, |p| p.y))));
    });
    (growth(&curve), curve)
}

/// Growth rate and frequency of an oscillation, by its extremes after it has settled.
fn growth(curve: &[(f64, f64)]) -> [f64; 2] {
    const SETTLED_S: f64 = 1.5;
    let mut extremes: Vec<(f64, f64)> = Vec::new();
    for three in curve.windows(3).filter(|three| three[0].0 > SETTLED_S) {
        let [(_, a), (t, b), (_, c)] = [three[0], three[1], three[2]];
        if (b - a) * (c - b) < 0.0 {
            // The vertex of the parabola through the three.
            let (half, bend) = (0.5 * (c - a), a - 2.0 * b + c);
            let shift = -half / bend;
            extremes.push((t + shift * (three[2].0 - t), (b + 0.5 * half * shift).abs()));
        }
    }
    let n = extremes.len().max(1) as f64;
    let mean_t = extremes.iter().map(|(t, _)| t).sum::<f64>() / n;
    let mean = extremes.iter().map(|(_, d)| d.ln()).sum::<f64>() / n;
    let (mut above, mut below) = (0.0, 1e-12);
    for (t, d) in &extremes {
        above += (t - mean_t) * (d.ln() - mean);
        below += (t - mean_t) * (t - mean_t);
    }
    let span = extremes.last().map_or(1.0, |of| of.0) - extremes.first().map_or(0.0, |of| of.0);
    [above / below, 0.5 * (n - 1.0) / span.max(1e-9)]
}

/// Where waves begin, as wind speed and frequency: between two of some speeds, in one of which they fade and in the other grow;
/// and the growth rate at each of them.
fn found_onset(flag: &Cloth, density: f64, speeds: [f64; 3]) -> ([f64; 2], Vec<(f64, f64)>) {
    let found = speeds.map(|speed| waves(flag, density, speed, 16).0);
    let between = (1..3).find(|i| found[*i][0] > 0.0).unwrap_or(2);
    let [low, high] = [between - 1, between];
    let part = -found[low][0] / (found[high][0] - found[low][0]);
    let at = |values: [f64; 2]| values[0] + part * (values[1] - values[0]);
    let curve = speeds.iter().zip(&found).map(|(speed, of)| (*speed, of[0])).collect();
    ([at([speeds[low], speeds[high]]), at([found[low][1], found[high][1]])], curve)
}

/// The hinged flag.
fn hinged() -> Cloth {
    Cloth {
        edge_m: 0.025,
        mass_kg_m2: FLAG.mass as f32,
        bend_n_m: FLAG.bend as f32,
        drag: FLAG.coefficient as f32,
        lift: FLAG.coefficient as f32,
        pins: vec![Pin::hard(PinnedPart::Side(Side::Left))],
        ..Cloth::default()
    }
}

fn around(speed: f64) -> [f64; 3] {
    [0.9, 1.0, 1.1].map(|part| part * speed)
}

/// A flag in rising wind begins to wave at the speed of the linear stability of the same force.
pub fn flag_onset() -> Experiment {
    let [expected, _] = FLAG.onset(4.7, 2.2);
    let ([measured, _], curve) = found_onset(&hinged(), FLAG.density, around(expected));
    Experiment {
        key: "flag-onset",
        statement: "A hinged flag begins to wave at the wind speed of linear stability.".to_owned(),
        formula: "m z_tt + ½ ρ C U (z_t + U z_x) + B z_xxxx = 0, growth rate 0",
        expected,
        measured,
        tolerance: 0.1,
        unit: "m/s",
        axes: ("wind speed, m/s", "growth rate, 1/s"),
        reference: vec![(expected, -0.4), (expected, 0.4)],
        curve,
    }
}

/// It waves there at that stability's frequency.
pub fn flag_frequency() -> Experiment {
    let [speed, expected] = FLAG.onset(4.7, 2.2);
    let ([_, measured], _) = found_onset(&hinged(), FLAG.density, around(speed));
    let (_, curve) = waves(&hinged(), FLAG.density, speed, 16);
    Experiment {
        key: "flag-frequency",
        statement: "Its waves at onset have the frequency of linear stability.".to_owned(),
        formula: "s = 2 π i f at the onset of m z_tt + ½ ρ C U (z_t + U z_x) + B z_xxxx = 0",
        expected,
        measured,
        tolerance: 0.1,
        unit: "Hz",
        axes: ("s", "m"),
        reference: Vec::new(),
        curve,
    }
}

/// Bending stiffness, N m, density of the air, kg/m³, and height, m, of a slender flag that is clamped and carries air.
const SLENDER: [f64; 3] = [0.5, 1.2, 0.1];

/// Reduced speed U L √(M / B) and frequency ω L² √((m + M) / B) of the onset of a clamped slender flag of mass m per area with
/// M = π ρ H / 4 of air, by β = M / (m + M): e^(s t + r x) with r⁴ + u² r² + 2 √β u s r + s² = 0. The equation is that of a
/// cantilever that conveys fluid (R. Gregory and M. Païdoussis, *Unstable oscillation of tubular cantilevers conveying fluid*,
/// 1966), the limit of small heights of Eloy et al.
fn slender_onset(beta: f64) -> [f64; 2] {
    let at = |beta: f64, [u, omega]: [f64; 2]| {
        let s = Complex64::new(0.0, omega);
        let roots = quartic_roots(u * u, s * (2.0 * beta.sqrt() * u), s * s);
        ends(roots, |r| [Complex64::ONE, r])
    };
    // From the column under a load that follows it (M. Beck, 1952), step by step.
    let mut found = [20.05f64.sqrt(), 11.02];
    let steps = 40;
    for i in 1..=steps {
        let beta = beta * f64::from(i) / f64::from(steps);
        found = newton(|of| at(beta, of), found);
    }
    found
}

/// A clamped slender flag that carries air begins to wave at the speed of the slender limit of Eloy et al. for its mass ratio.
pub fn carried_air_onset(beta: f64) -> Experiment {
    let [bend, density, height] = SLENDER;
    let carried = std::f64::consts::FRAC_PI_4 * height;
    let air = density * carried;
    let mass = air * (1.0 - beta) / beta;
    let [expected, _] = slender_onset(beta);
    let scale = (bend / air).sqrt();
    let edge = 0.025f32;
    // The two first rows of points are held: the clamp is half an edge before the second.
    let held = |row: i32| PinnedPart::Point {
        position_m: Vec3::new(-0.5 + 0.5 * edge, 0.0, row as f32 * edge),
        radius_m: 0.6 * edge,
    };
    let flag = Cloth {
        edge_m: edge,
        mass_kg_m2: mass as f32,
        bend_n_m: bend as f32,
        carried_air_m: carried as f32,
        warp_n_m: 40_000.0,
        weft_n_m: 40_000.0,
        drag: 0.0,
        lift: 0.0,
        pins: (-1..=1).map(|row| Pin::hard(held(row))).collect(),
        ..Cloth::default()
    };
    let length = 1.0 - 0.5 * f64::from(edge);
    let ([speed, _], curve) = found_onset(&flag, density, around(expected * scale / length));
    let reduced = |speed: f64| speed * length / scale;
    Experiment {
        key: if beta < 0.15 { "carried-air-heavy" } else { "carried-air-light" },
        statement: format!(
            "A clamped slender flag begins to wave at the reduced wind speed of its mass ratio: the air is {:.2} of all mass that moves.",
            beta
        ),
        formula: "r⁴ + u² r² + 2 √β u s r + s² = 0 with Re s = 0 (Eloy et al. 2008, small heights)",
        expected,
        measured: reduced(speed),
        tolerance: 0.25,
        unit: "U L √(M / B)",
        axes: ("U L √(M / B)", "growth rate, 1/s"),
        reference: vec![(expected, -0.4), (expected, 0.4)],
        curve: curve.into_iter().map(|(speed, rate)| (reduced(speed), rate)).collect(),
    }
}

/// All of them.
pub fn all() -> Vec<Experiment> {
    vec![flag_onset(), flag_frequency(), carried_air_onset(0.1), carried_air_onset(0.25)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slender_flags_begin_to_wave_as_cantilevers_that_convey_fluid() {
        // The diagram of Gregory and Païdoussis: u about 5.6 at β = 0.2.
        let [u, _] = slender_onset(0.2);
        assert!((u - 5.6).abs() < 0.15, "{u}");
    }

    #[test]
    fn onset_is_that_of_a_fine_grid() {
        // By the eigenvalues of the same equation on 120 points in space.
        let [speed, frequency] = FLAG.onset(4.7, 2.2);
        assert!((speed - 4.76).abs() < 0.05, "{speed}");
        assert!((frequency - 2.17).abs() < 0.03, "{frequency}");
    }

    #[test]
    fn roots_of_a_quartic_are_found() {
        let mu = Complex64::new(3.0, -20.0);
        for r in quartic_roots(7.0, Complex64::from(50.0), mu) {
            assert!((r * r * r * r + r * r * 7.0 + r * 50.0 + mu).norm() < 1e-6, "{r}");
        }
    }

    #[test]
    fn a_growing_oscillation_is_measured() {
        let curve: Vec<(f64, f64)> = (0..144)
            .map(|i| {
                let t = f64::from(i) / 24.0;
                (t, (0.3 * t).exp() * (TAU * 2.0 * t).sin())
            })
            .collect();
        let [rate, frequency] = growth(&curve);
        assert!((rate - 0.3).abs() < 0.02 && (frequency - 2.0).abs() < 0.02, "{rate} {frequency}");
    }
}
