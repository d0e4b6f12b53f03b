//! Meshes that sway after their own motion: each vertex is held to the place that its solid gives it by a damped spring.
//!
//! The distance d of a vertex from its place obeys d'' = a − 2 ζ ω d' − ω² d, with a the acceleration by forces. A place moves evenly
//! within a substep, so that the substep is solved exactly, by the exponential of the matrix of that equation (C. Moler and
//! C. Van Loan, *Nineteen dubious ways to compute the exponential of a matrix*, 2003): stable at any frequency.

use crate::forces::Points;
use crate::maps::MapsAt;
use crate::{BlowUp, PrepareContext, PrepareError, SavedPart, Solver, Step, Wants};
use frames::{Frame, MeshState};
use geometry::maps::MapSurface;
use geometry::{Meshes, Topology};
use glam::{DMat2, DVec2, DVec3, Vec3};
use serde::{Deserialize, Serialize};
use shot::world::{Pose, World};
use shot::{Element, Id, System, SystemId};
use std::f64::consts::TAU;
use std::sync::Arc;

/// Most vertices of a mesh.
const MAX_VERTICES: usize = 1_000_000;

struct Swaying {
    members: Vec<Member>,
}

struct Member {
    element: Id,
    name: String,
    at_rest: MapSurface,
    topology: Arc<Topology>,
    meshes: Meshes,
    /// Area around each vertex at rest, m².
    areas: Vec<f32>,
    /// Gravity at the first frame, m/s².
    gravity: Vec3,
    state: MemberState,
    /// The mesh at the end of the last substep; none: there was none.
    shown: Option<MeshState>,
}

/// All that a checkpoint needs of a mesh; empty before the first substep.
#[derive(Clone, Default, Serialize, Deserialize)]
struct MemberState {
    /// Positions, m, and velocities, m/s, of the vertices, as the springs have them.
    x: Vec<DVec3>,
    v: Vec<DVec3>,
    /// Their places, m.
    places: Vec<DVec3>,
}

/// Makes the solver, if the system is that of what sways.
pub(crate) fn prepare(
    context: PrepareContext,
    system: &System,
) -> Result<Option<Box<dyn Solver>>, PrepareError> {
    if system.id != SystemId::Sway {
        return Ok(None);
    }
    let mut members = Vec::new();
    for element in system.elements.iter().filter_map(|id| context.shot.element(*id)) {
        let Some(solid) = element.as_solid() else { continue };
        let missing = |source| PrepareError::Mesh { element: element.name.clone(), source };
        let refined = context.meshes.deforming(element, MAX_VERTICES).map_err(missing)?;
        let mesh = match refined {
            None => context.meshes.of_solid(solid).map_err(missing)?,
            Some(Ok(mesh)) => mesh,
            Some(Err(count)) => {
                let what = format!("{count} vertices; at most {MAX_VERTICES} sway: give it longer edges");
                return Err(PrepareError::TooMuch { element: element.name.clone(), what });
            }
        };
        let mut areas = vec![0.0; mesh.positions.len()];
        for face in &mesh.triangles {
            let [a, b, c] = face.map(|v| mesh.positions[v as usize]);
            let third = (b - a).cross(c - a).length() / 6.0;
            face.iter().for_each(|v| areas[*v as usize] += third);
        }
        members.push(Member {
            element: element.id,
            name: element.name.clone(),
            topology: Arc::new(Topology::of(&mesh)),
            at_rest: MapSurface::new(mesh),
            meshes: context.meshes.clone(),
            areas,
            gravity: context.shot.gravity_on(element, f64::from(context.shot.timing.first)),
            state: MemberState::default(),
            shown: None,
        });
    }
    Ok(Some(Box::new(Swaying { members })))
}

/// What takes (d, d' / ω) over a substep.
fn propagator(omega: f64, damping_ratio: f64, dt: f64) -> DMat2 {
    let rate =
        DMat2::from_cols(DVec2::new(0.0, -omega), DVec2::new(omega, -2.0 * damping_ratio * omega)) * dt;
    let size = omega * dt * (1.0 + 2.0 * damping_ratio);
    let halvings = (size / 0.25).log2().ceil().clamp(0.0, 60.0) as u32;
    let small = rate * 0.5f64.powi(halvings as i32);
    let (mut sum, mut term) = (DMat2::IDENTITY, DMat2::IDENTITY);
    // The rest of the series is below 0.25¹³ / 13!.
    for n in 1..=12 {
        term = term * small * (1.0 / f64::from(n));
        sum += term;
    }
    (0..halvings).for_each(|_| sum = sum * sum);
    sum
}

impl Member {
    /// The weights of its map at the vertices.
    fn weights(&self, element: &Element, step: &Step) -> Option<Vec<f32>> {
        let map = element.acting_maps().next()?;
        let solved = |id: Id, _: f64| step.colliders.solved(id);
        let world = World::new(step.shot, step.sampler, step.acting, &solved);
        let (surfaces, meshes, seconds) = (step.surfaces, &self.meshes, step.seconds);
        let at = MapsAt { world: &world, surfaces, meshes, element, seconds };
        Some(self.at_rest.by_vertex(&self.at_rest.weights(map, &at)))
    }

    fn step(&mut self, step: &Step) -> Result<(), &'static str> {
        let found = step.shot.element(self.element);
        let Some((element, sway)) = found.and_then(|of| Some((of, of.as_swaying()?))) else { return Ok(()) };
        let Some(collider) = step.colliders.of(self.element).next() else { return Ok(()) };
        let (position, orientation) = collider.now.pose;
        let deformed = collider.deformed();
        let own = deformed.as_ref().map_or(&self.at_rest.mesh().positions, |mesh| &mesh.positions);
        if own.len() != self.areas.len() {
            return Err("has a mesh whose vertices change, so that it cannot sway");
        }
        let at = |(position, orientation): Pose| -> Vec<DVec3> {
            own.iter().map(|p| (position + orientation * *p).as_dvec3()).collect()
        };
        let places = at((position, orientation));
        let dt = f64::from(step.dt);
        if self.state.x.is_empty() {
            // It begins in its place, with the motion of its solid.
            let start = at(collider.before);
            self.state = MemberState { x: start.clone(), v: Vec::new(), places: start };
        }
        let before = std::mem::replace(&mut self.state.places, places);
        let moved = |i: usize| {
            if dt > 0.0 { (self.state.places[i] - before[i]) / dt } else { DVec3::ZERO }
        };
        if self.state.v.is_empty() {
            self.state.v = (0..before.len()).map(moved).collect();
        }
        let accelerations = self.accelerations(step, sway.mass_kg_m2);
        let omega = TAU * f64::from(sway.frequency_hz);
        let over = propagator(omega, f64::from(sway.damping_ratio), dt);
        for (i, from) in before.iter().enumerate() {
            let (place, velocity) = (self.state.places[i], moved(i));
            let rest = accelerations[i] / (omega * omega);
            let (d, way) = (self.state.x[i] - *from - rest, (self.state.v[i] - velocity) / omega);
            self.state.x[i] = place + rest + d * over.x_axis.x + way * over.y_axis.x;
            self.state.v[i] = velocity + (d * over.x_axis.y + way * over.y_axis.y) * omega;
        }
        if !self.state.x.iter().all(|x| x.is_finite()) {
            return Err("has no finite shape any more");
        }

        let weights = self.weights(element, step);
        let back = orientation.inverse();
        let amount = |i: usize| sway.amount * weights.as_ref().map_or(1.0, |weights| weights[i]);
        let shown = |i: usize| {
            let off = (self.state.x[i] - self.state.places[i]).as_vec3();
            own[i] + back * off * amount(i)
        };
        let speed = |i: usize| back * (self.state.v[i] - moved(i)).as_vec3() * amount(i);
        self.shown = Some(MeshState {
            topology: self.topology.clone(),
            positions: (0..own.len()).map(shown).collect(),
            velocities: (0..own.len()).map(speed).collect(),
            attributes: Vec::new(),
        });
        Ok(())
    }

    /// By all forces but the gravity under which it has its shape.
    fn accelerations(&self, step: &Step, mass_kg_m2: f32) -> Vec<DVec3> {
        let positions: Vec<Vec3> = self.state.x.iter().map(|x| x.as_vec3()).collect();
        let own: Vec<Vec3> = self.state.v.iter().map(|v| v.as_vec3()).collect();
        let mut velocities = own.clone();
        let inverse_masses: Vec<f32> =
            self.areas.iter().map(|area| 1.0 / (area * mass_kg_m2).max(1e-9)).collect();
        let mut points = Points {
            positions: &positions,
            velocities: &mut velocities,
            inverse_masses: &inverse_masses,
            drag_areas: &self.areas,
        };
        if step.dt <= 0.0 {
            return vec![DVec3::ZERO; own.len()];
        }
        step.field.acting(self.element).push(&mut points, step.dt);
        let by = |(after, before): (&Vec3, &Vec3)| ((*after - *before) / step.dt - self.gravity).as_dvec3();
        velocities.iter().zip(&own).map(by).collect()
    }
}

impl Solver for Swaying {
    fn step(&mut self, step: &Step) -> Result<(), BlowUp> {
        for member in &mut self.members {
            member.step(step).map_err(|what| BlowUp {
                frame: step.frame_number(),
                element: member.element,
                name: member.name.clone(),
                what: what.to_owned(),
            })?;
        }
        Ok(())
    }

    fn pose(&self, _: Id) -> Option<Pose> {
        None
    }

    fn wants(&self) -> Wants {
        Wants { bodies: true, ..Wants::default() }
    }

    fn write(&mut self, frame: &mut Frame) {
        let shown = self.members.iter().filter_map(|of| Some((of.element, of.shown.clone()?)));
        frame.meshes.extend(shown);
    }

    fn save(&self) -> SavedPart {
        let saved: Vec<(Id, MemberState)> =
            self.members.iter().map(|member| (member.element, member.state.clone())).collect();
        Box::new(move || postcard::to_stdvec(&saved).expect("the state of what sways serialises"))
    }

    fn restore(&mut self, bytes: Option<&[u8]>) -> Result<(), PrepareError> {
        let unfit = || PrepareError::State("other meshes sway".to_owned());
        let saved: Vec<(Id, MemberState)> = postcard::from_bytes(bytes.ok_or_else(unfit)?)
            .map_err(|error| PrepareError::State(error.to_string()))?;
        let fits = |(member, (id, state)): (&Member, &(Id, MemberState))| {
            let n = member.areas.len();
            let lengths = [state.x.len(), state.places.len()];
            member.element == *id
                && (lengths == [0, 0] || lengths == [n, n])
                && (state.v.is_empty() || state.v.len() == n)
        };
        if saved.len() != self.members.len() || !self.members.iter().zip(&saved).all(fits) {
            return Err(unfit());
        }
        self.members.iter_mut().zip(saved).for_each(|(member, (_, state))| member.state = state);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(3.0, 0.2, 0.01)]
    #[case(0.5, 0.0, 0.3)]
    #[case(200.0, 0.9, 0.04)]
    fn a_substep_is_that_of_the_damped_oscillator(
        #[case] hz: f64,
        #[case] damping_ratio: f64,
        #[case] dt: f64,
    ) {
        let omega = TAU * hz;
        let over = propagator(omega, damping_ratio, dt);
        let damped = omega * (1.0 - damping_ratio * damping_ratio).sqrt();
        let (decay, fall) = (damping_ratio * omega, (-damping_ratio * omega * dt).exp());
        let (sin, cos) = (damped * dt).sin_cos();
        let expected = fall * (cos + decay / damped * sin);
        assert!((over.x_axis.x - expected).abs() < 1e-9);
        assert!((over.y_axis.x - fall * omega / damped * sin).abs() < 1e-9);
        // Two halves of a step are the step.
        let half = propagator(omega, damping_ratio, 0.5 * dt);
        assert!((half * half - over).abs_diff_eq(DMat2::ZERO, 1e-9));
    }

    #[test]
    fn the_strongest_damping_and_the_fastest_swing_stay_finite() {
        let over = propagator(TAU * 1_000.0, 10.0, 1.0);
        assert!(over.is_finite() && over.x_axis.length() < 1e-3);
    }
}
