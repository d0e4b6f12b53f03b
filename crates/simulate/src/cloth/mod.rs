//! Cloth: sheets that stretch, shear and bend, in implicit steps of second order.
//!
//! A sheet is a triangle mesh with a membrane energy (`membrane.rs`) and a bending energy (`bending.rs`). Each step is
//! the minimum of inertia and energy (`body.rs`), found by Newton's method with multigrid as preconditioner
//! (`system.rs`, `multigrid.rs`), so that stiffness does not depend on the number of points, of substeps or of
//! iterations. Solids are met at their true moving surface (`contact.rs`), a sheet meets itself and its copies
//! (`self_contact.rs`, `truncation.rs`), and air pushes each triangle (`air.rs`).
//!
//! Not there: contact of different cloth elements, and the push of sheets on solids.

mod air;
mod bending;
mod blocks;
mod body;
mod contact;
mod dense;
mod levels;
mod matrix;
mod membrane;
mod multigrid;
mod pairs;
mod self_contact;
mod sheet;
mod system;
pub mod timers;
mod truncation;

use crate::{BlowUp, PrepareContext, PrepareError, SavedPart, Solver, Step, Wants};
use body::{ClothBody, PinnedPoints, State};
use frames::{Bodies, Frame, MeshState};
use geometry::Mesh;
use glam::{DVec3, Quat, Vec3};
use sheet::Sheet;
use shot::{
    Cloth, Element, Id, System, SystemId,
    world::{Pose, World},
};
use timers::{Phase, timed};

/// Most points of all sheets of a shot.
const MAX_POINTS: usize = 300_000;

/// Cloths of a shot.
struct Cloths {
    sheets: Vec<Member>,
}

/// A cloth element.
struct Member {
    element: Id,
    name: String,
    body: ClothBody,
    /// The points of each pin that is not a region.
    pinned: Vec<Option<Vec<u32>>>,
}

/// Makes the solver, if the system has a cloth.
pub(crate) fn prepare(
    context: PrepareContext,
    system: &System,
) -> Result<Option<Box<dyn Solver>>, PrepareError> {
    if system.id != SystemId::Cloths {
        return Ok(None);
    }
    let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
    let world = World::new(context.shot, context.sampler, f64::from(context.shot.timing.first), &unsolved);
    let mut sheets = Vec::new();
    let mut points = 0;
    for element in system.elements.iter().filter_map(|id| context.shot.element(*id)) {
        let (Some(solid), Some(cloth)) = (element.as_solid(), element.as_cloth()) else { continue };
        let mesh = context
            .meshes
            .mesh(&solid.shape)
            .map_err(|source| PrepareError::Mesh { element: element.name.clone(), source })?;
        let poses = world.placements(element);
        let too_much = |points: usize| PrepareError::TooMuch {
            element: element.name.clone(),
            what: format!("{points} points of cloth; at most {MAX_POINTS}: give it longer edges"),
        };
        let most = (MAX_POINTS - points) / poses.len().max(1);
        let mesh = Mesh::refined(&solid.shape, mesh, cloth.edge_m, most)
            .map_err(|each| too_much(each.saturating_mul(poses.len()).saturating_add(points)))?;
        let count = mesh.positions.len() * poses.len();
        if count > MAX_POINTS - points {
            return Err(too_much(points + count));
        }
        points += count;
        sheets.push(Member::new(context, element, cloth, &mesh, &poses));
    }
    Ok((!sheets.is_empty()).then(|| Box::new(Cloths { sheets }) as Box<dyn Solver>))
}

impl Member {
    fn new(context: PrepareContext, element: &Element, cloth: &Cloth, mesh: &Mesh, poses: &[Pose]) -> Self {
        let sheet = Sheet::new(mesh, poses.len());
        let mut x = sheet.placed(poses);
        let launch = element.as_solid().and_then(|solid| solid.body.launch_velocity).unwrap_or_default();
        let mut v = vec![launch.as_dvec3(); x.len()];
        if let Some((positions, velocities)) = begins(context, element.id, &sheet) {
            (x, v) = (positions, velocities);
        }
        let pinned = sheet.pinned(cloth);
        let body = ClothBody::new(sheet, x, v);
        Self { element: element.id, name: element.name.clone(), body, pinned }
    }

    /// Its pinned points at the step's end.
    fn pinned_points(&self, step: &Step, element: &Element, cloth: &Cloth) -> PinnedPoints {
        let solved = |id: Id, _: f64| step.colliders.solved(id);
        let world = World::new(step.shot, step.sampler, step.acting, &solved);
        let mut points = vec![false; self.body.sheet.len()];
        for (pin, of) in cloth.pins.iter().zip(&self.pinned).filter(|(pin, _)| pin.holds) {
            match (&pin.part, of) {
                (_, Some(list)) => list.iter().for_each(|&p| points[p as usize] = true),
                (shot::PinnedPart::Region(region), None) => {
                    if let Some(weight) = step.weight(*region) {
                        for (held, x) in points.iter_mut().zip(&self.body.state.x) {
                            *held |= weight.at(x.as_vec3()) > 0.5;
                        }
                    }
                }
                _ => {}
            }
        }
        PinnedPoints { poses: world.placements(element), points }
    }

    /// The mean position of its points.
    fn middle(&self) -> DVec3 {
        let x = &self.body.state.x;
        x.iter().fold(DVec3::ZERO, |sum, x| sum + *x) / x.len().max(1) as f64
    }
}

/// Positions and velocities in the frame that the shot begins from, if it has the same sheet.
fn begins(context: PrepareContext, element: Id, sheet: &Sheet) -> Option<(Vec<DVec3>, Vec<DVec3>)> {
    let initial = context.initial_state?;
    let mesh = initial.frame.meshes.get(&element)?;
    let bodies = initial.frame.bodies.get(&element)?;
    if mesh.positions.len() != sheet.point_of.len() || bodies.is_empty() {
        return None;
    }
    let (position, orientation) = (bodies.positions[0], bodies.orientations[0]);
    let (mut x, mut v) = (vec![DVec3::ZERO; sheet.len()], vec![DVec3::ZERO; sheet.len()]);
    for (vertex, &point) in sheet.point_of.iter().enumerate() {
        x[point as usize] = (position + orientation * mesh.positions[vertex]).as_dvec3();
        if initial.velocities {
            let own = mesh.velocities.get(vertex).copied().unwrap_or_default();
            v[point as usize] = (bodies.velocities[0] + orientation * own).as_dvec3();
        }
    }
    Some((x, v))
}

impl Solver for Cloths {
    fn step(&mut self, step: &Step) -> Result<(), BlowUp> {
        for member in &mut self.sheets {
            let Some(element) = step.shot.element(member.element) else { continue };
            let (Some(solid), Some(cloth)) = (element.as_solid(), element.as_cloth()) else { continue };
            let pinned = member.pinned_points(step, element, cloth);
            let friction = solid.body.friction;
            let body = &mut member.body;
            // Within the pool, where many small parallel loops cost little.
            let mut stepped = || body.step(step, member.element, cloth, friction, &pinned);
            if let Err(what) = timed(Phase::Step, || rayon::scope(|_| stepped())) {
                return Err(BlowUp {
                    frame: step.frame_number(),
                    element: member.element,
                    name: member.name.clone(),
                    what: what.to_owned(),
                });
            }
        }
        Ok(())
    }

    fn pose(&self, element: Id) -> Option<Pose> {
        let member = self.sheets.iter().find(|member| member.element == element)?;
        Some((member.middle().as_vec3(), Quat::IDENTITY))
    }

    fn wants(&self) -> Wants {
        Wants { bodies: true, hits: false }
    }

    fn write(&mut self, frame: &mut Frame) {
        for member in &self.sheets {
            let State { x, v, .. } = &member.body.state;
            let middle = member.middle();
            let velocity = v.iter().fold(DVec3::ZERO, |sum, v| sum + *v) / v.len().max(1) as f64;
            let mut bodies = Bodies::default();
            bodies.push(middle.as_vec3(), Quat::IDENTITY, velocity.as_vec3(), Vec3::ZERO);
            frame.bodies.insert(member.element, bodies);
            let points = member.body.sheet.point_of.iter();
            let mesh = MeshState {
                topology: member.body.sheet.topology.clone(),
                positions: points.clone().map(|&p| (x[p as usize] - middle).as_vec3()).collect(),
                velocities: points.map(|&p| (v[p as usize] - velocity).as_vec3()).collect(),
                attributes: Vec::new(),
            };
            frame.meshes.insert(member.element, mesh);
        }
    }

    fn save(&self) -> SavedPart {
        let states: Vec<(Id, State)> =
            self.sheets.iter().map(|member| (member.element, member.body.state.clone())).collect();
        Box::new(move || postcard::to_stdvec(&states).expect("the state of a cloth serialises"))
    }

    fn restore(&mut self, bytes: Option<&[u8]>) -> Result<(), PrepareError> {
        let unfit = |what: &str| PrepareError::State(what.to_owned());
        let bytes = bytes.ok_or_else(|| unfit("it has no cloth"))?;
        let states: Vec<(Id, State)> =
            postcard::from_bytes(bytes).map_err(|error| PrepareError::State(error.to_string()))?;
        if states.len() != self.sheets.len() {
            return Err(unfit("it has other cloths"));
        }
        for (member, (id, state)) in self.sheets.iter_mut().zip(states) {
            if id != member.element || !state.fits(member.body.sheet.len()) {
                return Err(unfit("it has other cloths"));
            }
            member.body.state = state;
        }
        Ok(())
    }
}
