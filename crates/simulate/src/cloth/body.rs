//! The motion of one sheet over a step: the second backward differentiation formula (C. Curtiss and
//! J. Hirschfelder, 1952) with steps of any length, solved by Newton's method.
//!
//! With ω the ratio of the step's length to that before and α = (1 + 2 ω) / (1 + ω), positions and velocities
//! at the step's end obey α x = x̄ + Δt v and α v = v̄ + Δt M⁻¹ f(x), where ȳ = (1 + ω) yₙ − ω² / (1 + ω) yₙ₋₁.
//! That is the minimum of ½ (α/Δt)² |x − x̂|²_M + E(x). The first step is implicit Euler's: ω = 0.

use super::air;
use super::contact::{Anchors, ContactSearch, Contacts};
use super::membrane::Moduli;
use super::sheet::Sheet;
use super::system::{OfTriangle, Structure, Workspace};
use crate::Step;
use crate::forces::Points;
use glam::{DMat3, DVec3, Mat3, Mat3A, Vec3, Vec3A};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use shot::{Cloth, world::Pose};

/// Newton steps at most.
const NEWTON_STEPS: u32 = 5;
/// A step that moves no point further than this part of the mean edge is the last.
const ENOUGH: f64 = 5e-4;
/// A Newton step moves no point further than this many mean edges.
const MAX_MOVE: f64 = 4.0;

/// All that a checkpoint needs.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(super) struct State {
    /// Positions, m, and velocities, m/s.
    pub x: Vec<DVec3>,
    pub v: Vec<DVec3>,
    /// Those before the last step; empty if there was none.
    x_before: Vec<DVec3>,
    v_before: Vec<DVec3>,
    /// Length of the last step, s.
    dt_before: f64,
    /// Where each point is held in the frame of its copy; none: it is free.
    held: Vec<Option<Vec3>>,
    anchors: Vec<Anchors>,
}

impl State {
    pub fn new(x: Vec<DVec3>, v: Vec<DVec3>) -> Self {
        let n = x.len();
        Self { x, v, held: vec![None; n], anchors: vec![Anchors::default(); n], ..Self::default() }
    }

    /// Whether it is that of a sheet of so many points.
    pub fn fits(&self, n: usize) -> bool {
        let all = [self.x.len(), self.v.len(), self.held.len(), self.anchors.len()];
        let before = [self.x_before.len(), self.v_before.len()];
        all.iter().all(|len| *len == n) && (before == [0, 0] || before == [n, n])
    }
}

/// A sheet in motion.
pub(super) struct ClothBody {
    pub sheet: Sheet,
    pub state: State,
    structure: Structure,
    /// α/Δt and what was held when the preconditioner's eigenvalues were found.
    known: Option<(f64, Vec<bool>)>,
    work: Workspace,
    /// Blocks of the matrix.
    blocks: Vec<Mat3A>,
}

/// The pinned points of a sheet at a step's end.
pub(super) struct PinnedPoints {
    /// The poses of the copies.
    pub poses: Vec<Pose>,
    /// Whether each point is pinned.
    pub points: Vec<bool>,
}

impl ClothBody {
    pub fn new(sheet: Sheet, x: Vec<DVec3>, v: Vec<DVec3>) -> Self {
        let structure = Structure::new(&sheet);
        let blocks = vec![Mat3A::ZERO; structure.near.columns.len()];
        let state = State::new(x, v);
        Self { sheet, state, structure, known: None, work: Workspace::default(), blocks }
    }

    /// Goes one step on; `friction` is that of the body. None if the solution is lost.
    pub fn step(
        &mut self,
        step: &Step,
        id: shot::Id,
        cloth: &Cloth,
        friction: f32,
        pinned: &PinnedPoints,
    ) -> Option<()> {
        let n = self.sheet.len();
        let dt = f64::from(step.dt);
        if dt <= 0.0 {
            return Some(());
        }
        let targets = self.hold(pinned);
        let held: Vec<bool> = targets.iter().map(Option::is_some).collect();
        let moduli = Moduli::new(
            f64::from(cloth.warp_n_m),
            f64::from(cloth.weft_n_m),
            f64::from(cloth.shear_n_m),
            f64::from(cloth.poisson_ratio),
        );
        let bend = f64::from(cloth.bend_n_m);
        let rate = f64::from(cloth.damping_s) / dt;
        let masses: Vec<f64> =
            self.sheet.areas.iter().map(|area| (f64::from(cloth.mass_kg_m2) * area).max(1e-12)).collect();

        // What comes of the steps before.
        let mut state = std::mem::take(&mut self.state);
        let State { x: x_n, v: v_n, x_before, v_before, dt_before, .. } = &state;
        let omega = if x_before.is_empty() { 0.0 } else { dt / dt_before };
        let alpha = (1.0 + 2.0 * omega) / (1.0 + omega);
        let (now, before) = (1.0 + omega, omega * omega / (1.0 + omega));
        let bar = |y: &[DVec3], y_before: &[DVec3], i: usize| {
            if omega == 0.0 { y[i] } else { y[i] * now - y_before[i] * before }
        };
        let x_bar: Vec<DVec3> = (0..n).map(|i| bar(x_n, x_before, i) / alpha).collect();
        let v_bar: Vec<DVec3> = (0..n).map(|i| bar(v_n, v_before, i) / alpha).collect();
        let factor = alpha / dt;
        let inertia: Vec<f64> = masses.iter().map(|m| m * factor * factor).collect();

        // Forces: by mass as accelerations, by air on the triangles.
        let acting = step.field.acting(id);
        let positions: Vec<Vec3> = x_n.iter().map(|x| x.as_vec3()).collect();
        let mut velocities: Vec<Vec3> = v_n.iter().map(|v| v.as_vec3()).collect();
        let inverse_masses: Vec<f32> = masses.iter().map(|m| (1.0 / m) as f32).collect();
        let drag_areas = vec![0.0; n];
        let mut points = Points {
            positions: &positions,
            velocities: &mut velocities,
            inverse_masses: &inverse_masses,
            drag_areas: &drag_areas,
        };
        acting.accelerate(&mut points, step.dt);
        let mut forces: Vec<DVec3> = (0..n)
            .map(|i| (velocities[i].as_dvec3() - v_n[i].as_vec3().as_dvec3()) * (masses[i] / dt))
            .collect();
        let mut resistances = vec![Mat3::ZERO; n];
        air::add(&self.sheet, &acting, x_n, v_n, (cloth.drag, cloth.lift), &mut forces, &mut resistances);
        let whole: f64 = masses.iter().sum();
        for i in 0..n {
            let resistance = f64::from(acting.resistance(positions[i])) * masses[i] / whole;
            if resistance > 0.0 {
                forces[i] -= v_n[i] * resistance;
                resistances[i] += Mat3::from_diagonal(Vec3::splat(resistance as f32));
            }
        }
        let x_hat: Vec<DVec3> =
            (0..n).map(|i| x_bar[i] + v_bar[i] / factor + forces[i] / inertia[i]).collect();

        // Where it would go without stretching, up to what it hits.
        let thickness = f64::from(cloth.thickness_m);
        let search = ContactSearch {
            colliders: step.colliders,
            thickness: cloth.thickness_m,
            friction,
            dt: step.dt,
            x_n,
        };
        let mut x: Vec<DVec3> = (0..n).map(|i| targets[i].unwrap_or(x_n[i] + v_n[i] * dt)).collect();
        let mut contacts = vec![Contacts::default(); n];
        search.detect(x_n, &mut x, &mut contacts, &state.anchors, &inertia, &held, 0.0);

        let strains: Vec<DVec3> = if rate > 0.0 {
            self.sheet.triangles.iter().map(|t| t.strain(x_n)).collect()
        } else {
            vec![DVec3::ZERO; self.sheet.triangles.len()]
        };
        let values = self.structure.bending.iter();
        self.structure.bending_scaled = values.map(|value| (bend * value) as f32).collect();
        // Each frame begins with eigenvalues of its own, so that a resumed run has the same.
        let begins_frame = (step.start - step.start.round()).abs() < 1e-6;
        let fits = self.known.as_ref().is_some_and(|(rate, known)| *rate == factor && *known == held);
        let mut stale = begins_frame || !fits;
        if stale {
            self.known = Some((factor, held.clone()));
        }

        let mut displacements = vec![Vec3A::ZERO; n];
        let mut gradient = vec![DVec3::ZERO; n];
        for round in 0..NEWTON_STEPS {
            self.assemble(&moduli, bend, rate, &strains, &x, &mut gradient);
            for i in 0..n {
                let block = &mut self.blocks[self.structure.near.entry(i as u32, i as u32)];
                gradient[i] += (x[i] - x_hat[i]) * inertia[i];
                let mut own = Mat3::from_diagonal(Vec3::splat(inertia[i] as f32));
                let resistance = resistances[i] * factor as f32;
                let change = (x[i] - x_bar[i]) - v_n[i] / factor;
                gradient[i] += (DMat3::from_cols_array(&resistance.to_cols_array().map(f64::from))) * change;
                own += resistance;
                contacts[i]
                    .iter()
                    .flatten()
                    .for_each(|contact| contact.add(thickness, x[i], &mut gradient[i], &mut own));
                *block += Mat3A::from(own);
            }
            let right_hand_side: Vec<Vec3A> =
                (0..n).map(|i| if held[i] { Vec3A::ZERO } else { -gradient[i].as_vec3a() }).collect();
            self.structure.leave_out(&held, &mut self.blocks);
            let matrix = self.structure.matrix(&self.blocks, &held);
            let levels = &self.structure.levels;
            self.work.multigrid.update(levels, &matrix, bend as f32, stale);
            stale = false;
            let iterations = self.work.solve(levels, &matrix, &right_hand_side, &mut displacements);
            if std::env::var("CLOTH_STATS").is_ok() { eprintln!("{round}: {iterations}"); }
            let furthest =
                displacements.iter().map(|d| f64::from(d.length_squared())).fold(0.0, f64::max).sqrt();
            if !furthest.is_finite() {
                return None;
            }
            let scale = (MAX_MOVE * self.sheet.edge_m / furthest.max(1e-300)).min(1.0);
            let start = x.clone();
            for i in 0..n {
                x[i] += displacements[i].as_dvec3() * scale;
                contacts[i].iter().flatten().for_each(|contact| contact.keep_out(thickness, &mut x[i]));
            }
            // No solution crosses a solid.
            let mut next = contacts.clone();
            search.detect(&start, &mut x, &mut next, &state.anchors, &inertia, &held, 1.0);
            // Where a contact has begun or ended, or slides now, the solution was for something else.
            let changed = |(contacts, (before, now)): (&Contacts, (&DVec3, &DVec3))| {
                contacts.iter().flatten().any(|t| t.state(thickness, *before) != t.state(thickness, *now))
            };
            let any_changed = contacts.iter().zip(start.iter().zip(&x)).any(changed);
            contacts = next;
            let enough = furthest * scale < ENOUGH * self.sheet.edge_m;
            if !any_changed && (enough || round > 0) {
                break;
            }
        }
        let anchors: Vec<Anchors> = (0..n).map(|i| search.remember(&contacts[i], x[i])).collect();
        let v: Vec<DVec3> = (0..n).map(|i| (x[i] - x_bar[i]) * factor).collect();
        state.x_before = std::mem::replace(&mut state.x, x);
        state.v_before = std::mem::replace(&mut state.v, v);
        state.dt_before = dt;
        state.anchors = anchors;
        let finite = state.x.iter().all(|x| x.is_finite());
        self.state = state;
        finite.then_some(())
    }

    /// Catches and lets go of points; where those that are held are at the step's end.
    fn hold(&mut self, pinned: &PinnedPoints) -> Vec<Option<DVec3>> {
        let Self { sheet, state, .. } = self;
        (0..sheet.len())
            .map(|i| {
                let (position, orientation) =
                    pinned.poses[(sheet.copy_of[i] as usize).min(pinned.poses.len() - 1)];
                if !pinned.points[i] {
                    state.held[i] = None;
                    return None;
                }
                let local = *state.held[i].get_or_insert_with(|| {
                    orientation.inverse() * (state.x[i] - position.as_dvec3()).as_vec3()
                });
                Some(position.as_dvec3() + (orientation * local).as_dvec3())
            })
            .collect()
    }

    /// The gradient of the elastic energy, and its second derivatives in `blocks`.
    fn assemble(
        &mut self,
        moduli: &Moduli,
        bend: f64,
        rate: f64,
        strains: &[DVec3],
        x: &[DVec3],
        gradient: &mut [DVec3],
    ) {
        let Self { sheet, structure, blocks, .. } = self;
        let each: Vec<OfTriangle> = (sheet.triangles.par_iter().zip(strains))
            .map(|(triangle, before)| triangle.derivatives(moduli, x, rate, *before))
            .collect();
        structure.gather(&each, gradient, blocks);
        if bend > 0.0 {
            for of in &sheet.bends {
                let curvature = of.curvature(x);
                for (place, point) in of.points.iter().enumerate() {
                    let pull = (0..3).fold(DVec3::ZERO, |sum, i| sum + curvature[i] * of.weights[i][place]);
                    gradient[*point as usize] += pull * bend;
                }
            }
        }
    }
}
