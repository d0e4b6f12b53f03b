//! The motion of one sheet over a step: the second backward differentiation formula (C. Curtiss and
//! J. Hirschfelder, 1952) with steps of any length, solved by Newton's method.
//!
//! With ω the ratio of the step's length to that before and α = (1 + 2 ω) / (1 + ω), positions and velocities
//! at the step's end obey α x = x̄ + Δt v and α v = v̄ + Δt M⁻¹ f(x), where ȳ = (1 + ω) yₙ − ω² / (1 + ω) yₙ₋₁.
//! That is the minimum of ½ (α/Δt)² |x − x̂|²_M + E(x). The first step is implicit Euler's: ω = 0.

use super::air;
use super::blocks::CHUNK;
use super::contact::{Anchors, ContactSearch, Contacts};
use super::membrane::Moduli;
use super::pairs::{Pair, PairSearch};
use super::self_contact::{ActiveContacts, SelfContact};
use super::sheet::Sheet;
use super::system::{OfTriangle, Structure, Workspace};
use super::timers::{Phase, timed};
use super::truncation::truncate;
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

/// Sheets come no closer to each other than this part of their thickness.
const MIN_GAP: f32 = 0.05;

/// Why a step may fail.
const NOT_FINITE: &str = "has no finite shape any more; try more substeps";
const TOO_FAST: &str = "moves too far in a substep to find its contacts; try more substeps or longer edges";

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
    /// Gradients and second derivatives of each triangle, and their sums.
    triangles: Vec<OfTriangle>,
    /// What inertia, resistance and contacts add on the diagonal; the upper half of the matrix, and all of it.
    own: Vec<Mat3A>,
    upper: Vec<Mat3A>,
    blocks: Vec<Mat3A>,
    gradient: Vec<DVec3>,
    displacements: Vec<Vec3A>,
    pairs: PairSearch,
    touches: ActiveContacts,
}

/// What the elastic forces of a step depend on.
struct Material {
    moduli: Moduli,
    /// Bending stiffness, N m.
    bend: f64,
    /// Time of the damping, in steps.
    damping: f64,
}

impl Material {
    fn new(cloth: &Cloth, dt: f64) -> Self {
        let moduli = Moduli::new(
            f64::from(cloth.warp_n_m),
            f64::from(cloth.weft_n_m),
            f64::from(cloth.shear_n_m),
            f64::from(cloth.poisson_ratio),
        );
        Self { moduli, bend: f64::from(cloth.bend_n_m), damping: f64::from(cloth.damping_s) / dt }
    }
}

/// What a step comes to without the elastic forces.
struct Prediction {
    /// α/Δt, 1/s.
    rate: f64,
    /// x̄/α, m.
    x_bar: Vec<DVec3>,
    /// x̂, m.
    x_hat: Vec<DVec3>,
    /// (α/Δt)² M, N/m.
    inertia: Vec<f64>,
    /// How the forces fall with velocity, N s/m.
    resistances: Vec<Mat3>,
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
        let pairs = PairSearch::new(&sheet, &x);
        let state = State::new(x, v);
        Self {
            pairs,
            touches: ActiveContacts::default(),
            sheet,
            state,
            structure,
            known: None,
            work: Workspace::default(),
            triangles: Vec::new(),
            own: Vec::new(),
            upper: Vec::new(),
            blocks,
            gradient: Vec::new(),
            displacements: Vec::new(),
        }
    }

    /// Goes one step on; `friction` is that of the body. The error says what is wrong with the sheet.
    pub fn step(
        &mut self,
        step: &Step,
        id: shot::Id,
        cloth: &Cloth,
        friction: f32,
        pinned: &PinnedPoints,
    ) -> Result<(), &'static str> {
        if step.dt <= 0.0 {
            return Ok(());
        }
        let targets = self.hold(pinned);
        let held: Vec<bool> = targets.iter().map(Option::is_some).collect();
        let material = Material::new(cloth, f64::from(step.dt));
        let state = std::mem::take(&mut self.state);
        let prediction = timed(Phase::Forces, || self.predict(&state, step, id, cloth));
        let scaled = self.structure.bending_scaled.iter_mut().zip(&self.structure.bending);
        scaled.for_each(|(scaled, value)| *scaled = (material.bend * value) as f32);
        let strains: Vec<DVec3> = if material.damping > 0.0 {
            self.sheet.triangles.par_iter().map(|t| t.strain(&state.x)).collect()
        } else {
            vec![DVec3::ZERO; self.sheet.triangles.len()]
        };

        // Where it would go without stretching, up to what it hits.
        let search = ContactSearch {
            colliders: step.colliders,
            thickness: cloth.thickness_m,
            friction,
            dt: step.dt,
            x_n: &state.x,
        };
        let dt = f64::from(step.dt);
        let mut x: Vec<DVec3> =
            (0..state.x.len()).map(|i| targets[i].unwrap_or(state.x[i] + state.v[i] * dt)).collect();
        let mut contacts = vec![Contacts::default(); x.len()];
        let inertia = &prediction.inertia;
        timed(Phase::Contact, || {
            search.detect(&state.x, &mut x, &mut contacts, &state.anchors, inertia, &held, 0.0);
        });

        let near: Vec<SelfContact> = timed(Phase::Contact, || {
            self.near_pairs(&state.x, &x, f64::from(cloth.thickness_m), inertia, dt)
        })
        .ok_or(TOO_FAST)?;

        // Each frame begins with eigenvalues of its own, so that a resumed run has the same.
        let begins_frame = (step.start - step.start.round()).abs() < 1e-6;
        let fits =
            self.known.as_ref().is_some_and(|(rate, known)| *rate == prediction.rate && *known == held);
        let mut anew = begins_frame || !fits;
        if anew {
            self.known = Some((prediction.rate, held.clone()));
        }
        let thickness = f64::from(cloth.thickness_m);
        let mut first = None;
        for round in 0..NEWTON_STEPS {
            timed(Phase::Contact, || {
                let touch = |contact: &SelfContact| contact.touch(&x, &state.x, f64::from(friction), dt);
                self.touches = ActiveContacts::new(near.par_iter().filter_map(touch).collect(), x.len());
            });
            timed(Phase::Assembly, || {
                self.add_points(&prediction, &state.v, &x, &contacts, thickness);
                self.assemble(&material, &strains, &x);
                self.structure.leave_out(&held, &mut self.blocks);
            });
            let furthest = self.solve(&material, &held, anew, &mut first);
            anew = false;
            if !furthest.is_finite() {
                return Err(NOT_FINITE);
            }
            let scale = (MAX_MOVE * self.sheet.edge_m / furthest.max(1e-300)).min(1.0);
            let start = x.clone();
            x.par_iter_mut().zip(&self.displacements).zip(&contacts).for_each(|((x, d), contacts)| {
                *x += d.as_dvec3() * scale;
                contacts.iter().flatten().for_each(|contact| contact.keep_out(thickness, x));
            });
            // No solution crosses a solid.
            let mut next = contacts.clone();
            timed(Phase::Contact, || {
                search.detect(&start, &mut x, &mut next, &state.anchors, inertia, &held, 1.0);
            });
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
        timed(Phase::Contact, || {
            let least = MIN_GAP * cloth.thickness_m;
            let pairs = self.pairs.find(&state.x, &x, least)?;
            truncate(&pairs, &state.x, &mut x, &held, f64::from(least));
            Some(())
        })
        .ok_or(TOO_FAST)?;
        let anchors: Vec<Anchors> =
            contacts.par_iter().zip(&x).map(|(contacts, x)| search.remember(contacts, *x)).collect();
        let v = x.par_iter().zip(&prediction.x_bar).map(|(x, bar)| (*x - *bar) * prediction.rate).collect();
        let finite = x.iter().all(|x| x.is_finite());
        let (x_before, v_before, held) = (state.x, state.v, state.held);
        self.state = State { x, v, x_before, v_before, dt_before: dt, held, anchors };
        if finite { Ok(()) } else { Err(NOT_FINITE) }
    }

    /// Pairs that may touch in a step from `from`, which goes about to `to`.
    fn near_pairs(
        &mut self,
        from: &[DVec3],
        to: &[DVec3],
        thickness: f64,
        inertia: &[f64],
        dt: f64,
    ) -> Option<Vec<SelfContact>> {
        // A margin, as the step may go further than `to`.
        const FURTHER: f64 = 1.5;
        let pairs = self.pairs.find(from, to, thickness as f32)?;
        let Sheet { rest, copy_of, .. } = &self.sheet;
        let of = |pair: &Pair| {
            let points = pair.points();
            let (first, second) = points.split_at(pair.first());
            let path = |p: &u32| to[*p as usize] - from[*p as usize];
            let apart = first.iter().flat_map(|a| second.iter().map(move |b| (path(a) - path(b)).length()));
            let reach = thickness + FURTHER * apart.fold(0.0, f64::max);
            if pair.nearest(from).1.length() > reach {
                return None;
            }
            let one = points.iter().all(|&p| copy_of[p as usize] == copy_of[points[0] as usize]);
            let rest = one.then(|| pair.nearest(rest).1.length());
            SelfContact::new(*pair, from, thickness, rest, inertia, dt)
        };
        Some(pairs.par_iter().filter_map(of).collect())
    }

    /// Where the sheet would go without its elastic forces.
    fn predict(&self, state: &State, step: &Step, id: shot::Id, cloth: &Cloth) -> Prediction {
        let n = self.sheet.len();
        let dt = f64::from(step.dt);
        let State { x: x_n, v: v_n, x_before, v_before, dt_before, .. } = state;
        let omega = if x_before.is_empty() { 0.0 } else { dt / dt_before };
        let alpha = (1.0 + 2.0 * omega) / (1.0 + omega);
        let (now, before) = ((1.0 + omega) / alpha, omega * omega / (1.0 + omega) / alpha);
        let bar = |y: &[DVec3], y_before: &[DVec3]| -> Vec<DVec3> {
            let of = |i: usize| if omega == 0.0 { y[i] / alpha } else { y[i] * now - y_before[i] * before };
            (0..n).into_par_iter().with_min_len(CHUNK).map(of).collect()
        };
        let (x_bar, v_bar) = (bar(x_n, x_before), bar(v_n, v_before));
        let rate = alpha / dt;
        let mass = f64::from(cloth.mass_kg_m2);
        let masses: Vec<f64> = self.sheet.areas.iter().map(|area| (mass * area).max(1e-12)).collect();
        let inertia: Vec<f64> = masses.iter().map(|m| m * rate * rate).collect();

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
        air::add(
            &self.sheet,
            &self.structure.corners,
            &acting,
            x_n,
            v_n,
            (cloth.drag, cloth.lift),
            &mut forces,
            &mut resistances,
        );
        let whole: f64 = masses.iter().sum();
        for i in 0..n {
            let resistance = f64::from(acting.resistance(positions[i])) * masses[i] / whole;
            if resistance > 0.0 {
                forces[i] -= v_n[i] * resistance;
                resistances[i] += Mat3::from_diagonal(Vec3::splat(resistance as f32));
            }
        }
        let x_hat = (0..n)
            .into_par_iter()
            .with_min_len(CHUNK)
            .map(|i| x_bar[i] + v_bar[i] / rate + forces[i] / inertia[i])
            .collect();
        Prediction { rate, x_bar, x_hat, inertia, resistances }
    }

    /// Solves for the displacements; gives the longest. `first` is the size of the error in the first round of the step.
    fn solve(&mut self, material: &Material, held: &[bool], anew: bool, first: &mut Option<f64>) -> f64 {
        let Self { structure, blocks, gradient, displacements, touches, work, .. } = self;
        let right_hand_side: Vec<Vec3A> = (gradient.iter().zip(held))
            .map(|(gradient, held)| if *held { Vec3A::ZERO } else { -gradient.as_vec3a() })
            .collect();
        let matrix = structure.matrix(blocks, touches, held);
        // The levels of the step's first round serve the others.
        if first.is_none() {
            timed(Phase::Levels, || {
                work.multigrid.update(&structure.levels, &matrix, material.bend as f32, anew);
            });
        } else {
            work.multigrid.update_springs(&matrix);
        }
        displacements.resize(held.len(), Vec3A::ZERO);
        timed(Phase::Solve, || {
            work.solve(&structure.levels, &matrix, &right_hand_side, displacements, first);
        });
        displacements.iter().map(|d| f64::from(d.length_squared())).fold(0.0, f64::max).sqrt()
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

    /// Adds the gradient of the elastic energy; the matrix in `blocks`.
    fn assemble(&mut self, material: &Material, strains: &[DVec3], x: &[DVec3]) {
        let Self { sheet, structure, own, upper, blocks, gradient, triangles, .. } = self;
        (sheet.triangles.par_iter().zip(strains).with_min_len(256))
            .map(|(triangle, before)| triangle.derivatives(&material.moduli, x, material.damping, *before))
            .collect_into_vec(triangles);
        structure.gather(triangles, own, gradient, upper, blocks);
        if material.bend > 0.0 {
            structure.add_bending(material.bend, x, gradient);
            for of in sheet.bends.iter().filter(|bend| bend.is_curved()) {
                let rest = of.turned_rest(x);
                for (place, point) in of.points.iter().enumerate() {
                    let pull = (0..3).fold(DVec3::ZERO, |sum, i| sum + rest[i] * of.weights[i][place]);
                    gradient[*point as usize] -= pull * material.bend;
                }
            }
        }
    }

    /// Gradient and second derivatives of inertia, resistance and contacts of each point.
    fn add_points(
        &mut self,
        prediction: &Prediction,
        v_n: &[DVec3],
        x: &[DVec3],
        contacts: &[Contacts],
        thickness: f64,
    ) {
        let Prediction { rate, x_bar, x_hat, inertia, resistances } = prediction;
        let each = (0..x.len()).into_par_iter().with_min_len(CHUNK).map(|i| {
            let mut sum = (x[i] - x_hat[i]) * inertia[i];
            let resistance = resistances[i] * *rate as f32;
            let mut own = Mat3::from_diagonal(Vec3::splat(inertia[i] as f32)) + resistance;
            let change = (x[i] - x_bar[i]) - v_n[i] / *rate;
            sum += DMat3::from_cols_array(&resistance.to_cols_array().map(f64::from)) * change;
            contacts[i].iter().flatten().for_each(|contact| contact.add(thickness, x[i], &mut sum, &mut own));
            sum += self.touches.gradient(i);
            (sum, Mat3A::from(own))
        });
        each.unzip_into_vecs(&mut self.gradient, &mut self.own);
    }
}
