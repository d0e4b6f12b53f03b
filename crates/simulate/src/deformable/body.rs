//! The motion of all that deforms over a step: the second backward differentiation formula (C. Curtiss and
//! J. Hirschfelder, 1952) with steps of any length, solved by Newton's method.
//!
//! With ω the ratio of the step's length to that before and α = (1 + 2 ω) / (1 + ω), positions and velocities
//! at the step's end obey α x = x̄ + Δt v and α v = v̄ + Δt M⁻¹ f(x), where ȳ = (1 + ω) yₙ − ω² / (1 + ω) yₙ₋₁.
//! That is the minimum of ½ (α/Δt)² |x − x̂|²_M + E(x). The first step is implicit Euler's: ω = 0.

use super::active_contacts::{ActiveContacts, Spring};
use super::blocks::CHUNK;
use super::cell::{Cell, CellDerivatives};
use super::contact::{Anchors, ContactProperties, ContactSearch, Contacts, PointContact};
use super::contact_pressure::ContactPressure;
use super::discretization::{Discretization, Part};
use super::holds::{Holds, PartHolds};
use super::low_rank::LowRank;
use super::material::{Elastic, Material};
use super::momentum::balance;
use super::pair::Pair;
use super::plasticity;
use super::prediction::Prediction;
use super::pull_back;
use super::scales::Scales;
use super::self_contact::SelfContact;
use super::skin::{Skin, skins};
use super::start::set_apart;
use super::state::State;
use super::surface_points::{SurfacePoints, walls};
use super::system::{Structure, TOLERANCE, TriangleDerivatives, Workspace};
use super::tangle::Tangle;
use super::timers::{Phase, timed};
use super::truncation::{Truncated, truncate};
use crate::Step;
use crate::colliders::Impulse;
use glam::{DMat3, DVec3, Mat3, Mat3A, Vec3, Vec3A};
use rayon::prelude::*;
use std::collections::HashSet;
use std::ops::Range;

/// Newton steps at most.
const NEWTON_STEPS: u32 = 5;
/// A step that moves no node further than this part of its element's mean edge is the last.
const ENOUGH: f64 = 5e-4;
/// A Newton step moves no node further than this many mean edges.
const MAX_MOVE: f64 = 4.0;

/// Surfaces come no closer to each other than this part of their thickness.
const MIN_GAP: f32 = 0.05;

/// Why a step may fail.
const NOT_FINITE: &str = "has no finite shape any more; try more substeps";
const TOO_FAST: &str = "moves too far in a substep to find its contacts; try more substeps or longer edges";

/// A step whose matrices are at hand.
#[derive(Clone, Copy)]
pub(super) struct SolvedStep {
    /// α/Δt, 1/s.
    pub rate: f64,
    /// Δt, s.
    pub dt: f64,
}

/// All that deforms, in motion.
pub(super) struct DeformableBody {
    pub discretization: Discretization,
    pub parts: Vec<Part>,
    pub state: State,
    /// The nodes of each part.
    pub nodes: Vec<Range<usize>>,
    /// The part of each triangle and of each cell.
    part_of_triangle: Vec<u16>,
    part_of_cell: Vec<u16>,
    pub surface: SurfacePoints,
    pub structure: Structure,
    /// α/Δt and what was held when the preconditioner's eigenvalues were found.
    known: Option<(f64, Vec<bool>)>,
    pub work: Workspace,
    /// Gradients and second derivatives of each triangle and cell, and their sums.
    triangles: Vec<TriangleDerivatives>,
    cells: Vec<CellDerivatives>,
    /// What inertia, resistance and contacts add on the diagonal; the upper half of the matrix, and all of it.
    own: Vec<Mat3A>,
    upper: Vec<Mat3A>,
    pub blocks: Vec<Mat3A>,
    gradient: Vec<DVec3>,
    displacements: Vec<Vec3A>,
    pub touches: ActiveContacts,
    /// The points of the surface at rest.
    points_at_rest: Vec<DVec3>,
    /// Factors by maps in this step.
    pub scales: Scales,
    pub low_rank: Vec<LowRank>,
    /// Mass per measure of the nodes of each part in the last step: kg/m² or kg/m³.
    pub densities: Vec<f64>,
    /// The last step; none: its matrices are not at hand.
    pub solved: Option<SolvedStep>,
    /// The force of liquids on each node that the last step began with, N; empty: none.
    pub load: Vec<DVec3>,
    /// Whether each node was held in the last step by what does not give way.
    pub fixed: Vec<bool>,
    /// How hard the points are pressed in the frame at hand.
    pub pressure: ContactPressure,
    /// The impulses on solids in the last step.
    pub impulses: Vec<Impulse>,
}

/// Most searches for pairs that may cross in a step, each with the motions of the last.
const SEARCHES: u32 = 8;

impl DeformableBody {
    pub fn new(discretization: Discretization, parts: Vec<Part>, x: Vec<DVec3>, v: Vec<DVec3>) -> Self {
        let nodes: Vec<Range<usize>> = parts.iter().map(|part| part.nodes.clone()).collect();
        let (structure, surface) = rayon::join(
            || Structure::new(&discretization, &nodes),
            || SurfacePoints::new(&discretization, &parts, &x),
        );
        let blocks = vec![Mat3A::ZERO; structure.near.columns.len()];
        let mut part_of_node = vec![0u16; discretization.len()];
        nodes.iter().zip(0..).for_each(|(nodes, i)| part_of_node[nodes.clone()].fill(i));
        let part_of = |node: u32| part_of_node[node as usize];
        let points_at_rest = discretization.embedding.all(&discretization.rest);
        Self {
            pressure: ContactPressure::new(points_at_rest.len()),
            densities: vec![0.0; parts.len()],
            solved: None,
            load: Vec::new(),
            fixed: vec![false; discretization.len()],
            surface,
            touches: ActiveContacts::default(),
            impulses: Vec::new(),
            state: State::new(x, v, &discretization),
            points_at_rest,
            scales: Scales::default(),
            low_rank: Vec::new(),
            nodes,
            part_of_triangle: discretization.triangles.iter().map(|t| part_of(t.points[0])).collect(),
            part_of_cell: discretization.cells.iter().map(|cell| part_of(cell.nodes[0])).collect(),
            discretization,
            parts,
            structure,
            known: None,
            work: Workspace::default(),
            triangles: Vec::new(),
            cells: Vec::new(),
            own: Vec::new(),
            upper: Vec::new(),
            blocks,
            gradient: Vec::new(),
            displacements: Vec::new(),
        }
    }

    /// Goes one step on; each part is of its material. The error names a part and says what is wrong with it.
    pub fn step(
        &mut self,
        step: &Step,
        materials: &[Material],
        pinned: &[PartHolds],
        scales: Scales,
    ) -> Result<(), (usize, &'static str)> {
        if step.dt <= 0.0 {
            return Ok(());
        }
        self.structure.weigh_bending(&self.discretization, scales.bends());
        self.scales = scales;
        self.densities = materials.iter().map(|material| material.density).collect();
        let mut state = std::mem::take(&mut self.state);
        let properties = self.surface.properties(materials, &self.discretization.embedding);
        if state.dt_before == 0.0 {
            set_apart(&self.discretization, &self.parts, step.colliders, &properties, &mut state.x);
        }
        let holds = {
            let State { x, held, centres, .. } = &mut state;
            let dt = f64::from(step.dt);
            Holds::new(&self.discretization, &self.parts, pinned, x, dt, held, centres)
        };
        let targets = &holds.targets;
        let held: Vec<bool> = targets.iter().map(Option::is_some).collect();
        let skins = skins(&self.discretization, &self.parts, materials, &self.points_at_rest);
        let prediction = timed(Phase::Forces, || {
            Prediction::new(&self.discretization, &self.parts, materials, &state, step)
        });
        let bend: Vec<f64> = materials.iter().map(Material::bend).collect();
        self.structure.scale_bending(&self.nodes, &bend);
        let embedding = &self.discretization.embedding;

        // Where it would go without stretching, up to what it hits.
        let held_points: Vec<bool> =
            (0..properties.len() as u32).map(|point| embedding.is_held(point, &held)).collect();
        let points_n = embedding.all(&state.x);
        let search =
            ContactSearch { colliders: step.colliders, properties: &properties, dt: step.dt, x_n: &points_n };
        let dt = f64::from(step.dt);
        let ahead = |i: usize| targets[i].unwrap_or(state.x[i] + state.v[i] * dt);
        let mut x: Vec<DVec3> = (0..state.x.len()).into_par_iter().with_min_len(CHUNK).map(ahead).collect();
        let inertia_of_points = embedding.shared_out(&prediction.inertia);
        let mut contacts = vec![Contacts::default(); properties.len()];
        let mut points = embedding.all(&x);
        timed(Phase::Contact, || {
            search.detect(
                &points_n,
                &mut points,
                &mut contacts,
                &state.anchors,
                &inertia_of_points,
                &held_points,
                0.0,
            );
        });
        self.surface.take_points(&points, &mut x);

        let begins_frame = (step.start - step.start.round()).abs() < 1e-6;
        let carried =
            pinned.iter().any(|of| of.frames != of.before || of.surfaces.iter().any(Option::is_some));
        // Only what is carried by a pin comes to cross what does not.
        let tangle = if state.tangled || state.dt_before == 0.0 || begins_frame && carried {
            timed(Phase::Contact, || self.surface.tangle(embedding, &points_n))
        } else {
            Tangle::default()
        };
        state.tangled = !tangle.is_empty();

        let near_pairs =
            timed(Phase::Contact, || self.surface.near_pairs(embedding, &points_n, &points, materials))
                .ok_or((0, TOO_FAST))?;
        let near: Vec<SelfContact> = timed(Phase::Contact, || {
            self.surface.self_contacts(&near_pairs, &points_n, materials, &inertia_of_points, dt)
        });
        let near: Vec<SelfContact> = near.into_iter().filter(|of| tangle.leaves(of.pair())).collect();

        // Each frame begins with eigenvalues of its own, so that a resumed run has the same.
        let fits =
            self.known.as_ref().is_some_and(|(rate, known)| *rate == prediction.rate && *known == held);
        let mut anew = begins_frame || !fits;
        if anew {
            self.known = Some((prediction.rate, held.clone()));
        }
        let mut first = Vec::new();
        // The contacts that the last solution was found with.
        let mut solved_with = Vec::new();
        for round in 0..NEWTON_STEPS {
            timed(Phase::Contact, || {
                let touch = |contact: &SelfContact| contact.touch(&points, &points_n, dt);
                let mut springs: Vec<Spring> = near.par_iter().filter_map(touch).collect();
                self.surface.add_springs(&contacts, &properties, &points, &mut springs);
                tangle.add_springs(&points, &points_n, &inertia_of_points, dt, &mut springs);
                self.touches = ActiveContacts::new(&springs, &self.discretization.embedding, x.len());
            });
            timed(Phase::Assembly, || {
                self.add_nodes(&prediction, &holds, &state.v, &x, &contacts, &properties);
                self.add_bodies(materials, &prediction, &holds, &skins, &held, &x, &points);
                self.assemble(materials, &state, &x);
                self.structure.leave_out(&held, &mut self.blocks);
            });
            let furthest = self.solve(&prediction, &bend, &held, anew, &mut first);
            anew = false;
            if let Some(part) = furthest.iter().position(|furthest| !furthest.is_finite()) {
                return Err((part, NOT_FINITE));
            }
            let start = points.clone();
            for (part, furthest) in self.parts.iter().zip(&furthest) {
                let scale = (MAX_MOVE / furthest.max(1e-300)).min(1.0);
                let nodes = part.nodes.clone();
                let each = x[nodes.clone()].par_iter_mut().zip(&self.displacements[nodes]);
                each.with_min_len(CHUNK).for_each(|(x, d)| *x += d.as_dvec3() * scale);
            }
            points = self.discretization.embedding.all(&x);
            points.par_iter_mut().zip(&contacts).zip(&properties).with_min_len(CHUNK).for_each(
                |((x, contacts), of)| {
                    for contact in contacts.iter().flatten().filter(|_| !of.embedded) {
                        *x += contact.way_out(f64::from(of.thickness), *x);
                    }
                },
            );
            // No solution crosses a solid.
            let mut next: Vec<Contacts> = contacts.par_iter().with_min_len(CHUNK).cloned().collect();
            timed(Phase::Contact, || {
                search.detect(
                    &start,
                    &mut points,
                    &mut next,
                    &state.anchors,
                    &inertia_of_points,
                    &held_points,
                    1.0,
                );
            });
            self.surface.take_points(&points, &mut x);
            // Where a contact has begun or ended, or slides now, the solution was for something else.
            let changed = |point: usize| {
                let thickness = f64::from(properties[point].thickness);
                let same = |contact: &PointContact| {
                    contact.state(thickness, start[point]) == contact.state(thickness, points[point])
                };
                !contacts[point].iter().flatten().all(same)
            };
            let any_changed = (0..points.len()).into_par_iter().with_min_len(CHUNK).any(changed);
            solved_with = std::mem::replace(&mut contacts, next);
            let enough = furthest.iter().all(|furthest| *furthest < ENOUGH);
            if !any_changed && (enough || round > 0) {
                break;
            }
        }
        self.surface.move_out(&self.discretization.embedding, &contacts, &properties, &held, &mut x);
        let points_solved = std::mem::replace(&mut points, self.discretization.embedding.all(&x));
        let kept_apart = timed(Phase::Contact, || {
            let least = MIN_GAP * properties.iter().map(|of| of.thickness).fold(f32::INFINITY, f32::min);
            let embedding = &self.discretization.embedding;
            let walls = walls(&contacts, &properties, &points_n);
            let wanted = x.clone();
            let mut pairs =
                self.surface.pairs_on_the_way(embedding, near_pairs, &points_n, &points, least)?;
            pairs.retain(|pair| tangle.leaves(pair));
            for search in 1..=SEARCHES {
                x.clone_from(&wanted);
                let Truncated { changed, furthest } =
                    truncate(&pairs, &walls, embedding, &points_n, &state.x, &mut x, &held, f64::from(least));
                // Nodes that went elsewhere than they wanted may have met features that were not found.
                if 2.0 * furthest <= f64::from(least) || !tangle.is_empty() {
                    break;
                }
                let (to, changed) = (embedding.all(&x), embedding.any(&changed));
                // What still crosses after the last search is drawn apart from the next step on.
                state.tangled = !self.surface.crossings(embedding, &to, Some(&changed)).is_empty();
                if !state.tangled || search == SEARCHES {
                    break;
                }
                let known: HashSet<Pair> = pairs.iter().copied().collect();
                let found = self.surface.pairs_within(embedding, &points_n, &to, Some(&changed), least)?;
                pairs.extend(found.into_iter().filter(|pair| tangle.leaves(pair) && !known.contains(pair)));
            }
            Some(pairs)
        })
        .ok_or((0, TOO_FAST))?;
        self.impulses = search.impulses(&points_solved, &solved_with);
        let forces: Vec<(u32, DVec3)> = search.forces(&points_solved, &solved_with).collect();
        // What draws surfaces apart that cross has no balance.
        if tangle.is_empty() {
            balance(
                &self.discretization,
                &holds,
                &near,
                &kept_apart,
                [&solved_with, &contacts],
                &points_solved,
                &forces,
                &prediction,
                &state.v,
                &mut x,
            );
        }
        let touching = near.iter().filter_map(|contact| contact.touch(&points_solved, &points_n, dt));
        self.pressure.add(begins_frame, touching.chain(search.springs(&points_solved, &solved_with)), dt);
        let points = self.discretization.embedding.all(&x);
        let anchors: Vec<Anchors> = (contacts.par_iter().zip(&points).enumerate())
            .map(|(point, (contacts, x))| search.remember(point, contacts, *x))
            .collect();
        let v: Vec<DVec3> =
            x.par_iter().zip(&prediction.x_bar).map(|(x, bar)| (*x - *bar) * prediction.rate).collect();
        let (x_before, v_before) = (state.x, state.v);
        self.state = State { x, v, x_before, v_before, dt_before: dt, anchors, ..state };
        self.state.frames = pinned.iter().map(|of| of.frames.clone()).collect();
        // A liquid that pushes on gives the state a load again.
        self.load = std::mem::take(&mut self.state.load);
        self.solved = Some(SolvedStep { rate: prediction.rate, dt });
        self.fixed = held;
        plasticity::flow(&self.discretization, &self.parts, materials, &mut self.state);
        let broken = |part: &Part| !self.state.x[part.nodes.clone()].iter().all(|x| x.is_finite());
        match self.parts.iter().position(broken) {
            Some(part) => Err((part, NOT_FINITE)),
            None => Ok(()),
        }
    }

    /// Solves for the displacements; gives the longest of each part, in edges. `first` are the sizes of the errors in the
    /// first round of the step.
    fn solve(
        &mut self,
        prediction: &Prediction,
        bend: &[f64],
        held: &[bool],
        anew: bool,
        first: &mut Vec<f64>,
    ) -> Vec<f64> {
        let Self {
            structure, blocks, gradient, displacements, touches, work, parts, nodes, low_rank, ..
        } = self;
        let right_hand_side: Vec<Vec3A> = (gradient.par_iter().zip(held).with_min_len(CHUNK))
            .map(|(gradient, held)| if *held { Vec3A::ZERO } else { -gradient.as_vec3a() })
            .collect();
        let matrix = structure.matrix(blocks, touches, held);
        // The levels of the step's first round serve the others.
        if first.is_empty() {
            timed(Phase::Levels, || work.multigrid.update(&structure.levels, &matrix, bend, anew));
        } else {
            work.multigrid.update_springs(&matrix);
        }
        displacements.resize(held.len(), Vec3A::ZERO);
        // The size of errors that do not matter.
        let least = |part: &Part| {
            let error = 0.1 * ENOUGH * part.edge_m;
            prediction.inertia[part.nodes.clone()].iter().sum::<f64>() * error * error
        };
        let least: Vec<f64> = parts.iter().map(least).collect();
        timed(Phase::Solve, || {
            work.solve(
                &structure.levels,
                &matrix,
                low_rank,
                &right_hand_side,
                displacements,
                nodes,
                TOLERANCE,
                &least,
                first,
            );
        });
        let furthest = |part: &Part| {
            let own = displacements[part.nodes.clone()].par_iter().with_min_len(CHUNK);
            let squares = own.map(|d| f64::from(d.length_squared()));
            // Whatever is not a number stays.
            squares.reduce(|| 0.0, |a, b| if a >= b || a.is_nan() { a } else { b }).sqrt() / part.edge_m
        };
        parts.iter().map(furthest).collect()
    }

    /// Adds the gradient of the elastic energy; the matrix in `blocks`. `state` is that at the step's start.
    fn assemble(&mut self, materials: &[Material], state: &State, x: &[DVec3]) {
        let Self {
            discretization, structure, own, upper, blocks, gradient, triangles, cells, scales, ..
        } = self;
        let before = &state.x;
        let of_triangle = |(i, (triangle, part)): (usize, (&super::membrane::Triangle, &u16))| {
            let Elastic::Sheet { moduli, damping, .. } = materials[*part as usize].elastic else {
                unreachable!("triangles are those of sheets")
            };
            if let Some(scale) = scales.triangles.get(i) {
                let (triangle, moduli) = (triangle.scaled(scale.length), moduli.scaled(scale.stretch));
                let strain = if damping > 0.0 { triangle.strain(before) } else { DVec3::ZERO };
                return triangle.derivatives(&moduli, x, damping, strain);
            }
            let strain = if damping > 0.0 { triangle.strain(before) } else { DVec3::ZERO };
            triangle.derivatives(&moduli, x, damping, strain)
        };
        (discretization.triangles.par_iter().zip(&self.part_of_triangle).enumerate().with_min_len(256))
            .map(of_triangle)
            .collect_into_vec(triangles);
        let cell_derivatives =
            |(i, ((cell, part), derivatives)): (usize, ((&Cell, &u16), &mut CellDerivatives))| {
                let Elastic::Body { moduli, .. } = &materials[*part as usize].elastic else {
                    unreachable!("cells are those of bodies")
                };
                let scaled = scales.cells.get(i).map(|scale| moduli.scaled(scale.stiffness));
                let set = state.sets.get(i).filter(|set| **set != DMat3::IDENTITY);
                let back = match (scales.of_cell(i), set) {
                    (None, None) => None,
                    (back, set) => {
                        let (back, grown) = back.unwrap_or((DMat3::IDENTITY, 1.0));
                        Some((set.map_or(back, |set| *set * back), grown))
                    }
                };
                cell.derivatives(scaled.as_ref().unwrap_or(moduli), x, before, back, derivatives);
            };
        cells.resize_with(discretization.cells.len(), CellDerivatives::default);
        (discretization.cells.par_iter().zip(&self.part_of_cell).zip(cells.par_iter_mut()).enumerate())
            .with_min_len(32)
            .for_each(cell_derivatives);
        structure.gather(triangles, cells, own, gradient, upper, blocks);
        for (nodes, bend) in self.nodes.iter().zip(materials.iter().map(Material::bend)) {
            if bend > 0.0 {
                structure.add_bending(nodes.clone(), bend, x, gradient);
            }
        }
        for (i, (of, part)) in discretization.bends.iter().zip(&self.part_of_triangle).enumerate() {
            let rest = plasticity::rest_of(of, &state.creases, i);
            if *rest == [DVec3::ZERO; 3] {
                continue;
            }
            let factor = structure.bend_factors.get(i).copied().unwrap_or(1.0);
            let (rest, bend) = (of.turned(rest, x), factor * materials[*part as usize].bend());
            for (place, point) in of.points.iter().enumerate() {
                let pull = (0..3).fold(DVec3::ZERO, |sum, i| sum + rest[i] * of.weights[i][place]);
                gradient[*point as usize] -= pull * bend;
            }
        }
    }

    /// Adds what acts on whole bodies to gradients and diagonal: pressure, the pull back to their shape, held centres.
    fn add_bodies(
        &mut self,
        materials: &[Material],
        prediction: &Prediction,
        holds: &Holds,
        skins: &[Skin],
        held: &[bool],
        x: &[DVec3],
        points: &[DVec3],
    ) {
        let Self { discretization, parts, gradient, own, low_rank, .. } = self;
        *low_rank = holds.add_centres(prediction, x, held, gradient);
        low_rank.extend(skins.iter().filter_map(|skin| skin.add(discretization, points, held, gradient)));
        pull_back::add(discretization, parts, materials, prediction, x, gradient, own);
    }

    /// Gradient and second derivatives of inertia, resistance, springs of pins and contacts of each node.
    fn add_nodes(
        &mut self,
        prediction: &Prediction,
        holds: &Holds,
        v_n: &[DVec3],
        x: &[DVec3],
        contacts: &[Contacts],
        properties: &[ContactProperties],
    ) {
        let Prediction { rate, inertia, resistances, .. } = prediction;
        let each = (0..x.len()).into_par_iter().with_min_len(CHUNK).map(|i| {
            let mut sum = prediction.inertial_force(i, x[i], v_n[i]);
            let resistance = resistances[i] * *rate as f32;
            let (force, grows) = holds.spring(i, x[i], prediction);
            sum += force;
            let mut own = Mat3::from_diagonal(Vec3::splat((inertia[i] + grows) as f32)) + resistance;
            if let Some(point) = self.surface.point_of_node(i) {
                let contacts = &contacts[point];
                let thickness = f64::from(properties[point].thickness);
                contacts
                    .iter()
                    .flatten()
                    .for_each(|contact| contact.add(thickness, x[i], &mut sum, &mut own));
            }
            sum += self.touches.gradient(i);
            (sum, Mat3A::from(own))
        });
        each.unzip_into_vecs(&mut self.gradient, &mut self.own);
    }
}
