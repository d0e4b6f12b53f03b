//! Momentum of bodies that nothing holds: what a step's solution leaves of the balance of forces and torques is taken out by a rigid
//! motion, so that a body takes up exactly what solids give it.

use super::contact::Contacts;
use super::discretization::Discretization;
use super::holds::Holds;
use super::prediction::Prediction;
use super::self_contact::SelfContact;
use glam::{DMat3, DVec3};

/// Bodies that touch, or are near each other, and what they have in common.
struct Group {
    /// Whether anything but solids that give way may act on it.
    held: bool,
    nodes: Vec<u32>,
}

/// The groups of bodies.
fn groups(
    discretization: &Discretization,
    holds: &Holds,
    near: &[SelfContact],
    contacts: [&[Contacts]; 2],
) -> Vec<Group> {
    let mut joined: Vec<u32> = (0..discretization.bodies).collect();
    fn root(joined: &mut [u32], mut at: u32) -> usize {
        while joined[at as usize] != at {
            joined[at as usize] = joined[joined[at as usize] as usize];
            at = joined[at as usize];
        }
        at as usize
    }
    let body_of = |point: u32| discretization.body_of_point(point);
    for contact in near {
        let [first, others @ ..] = contact.points().map(body_of);
        for other in others.into_iter().filter(|other| *other != first) {
            let (a, b) = (root(&mut joined, first), root(&mut joined, other));
            joined[a.max(b)] = a.min(b) as u32;
        }
    }
    let mut groups: Vec<Group> =
        (0..joined.len()).map(|_| Group { held: holds.any_centre(), nodes: Vec::new() }).collect();
    for (node, body) in (0..).zip(&discretization.body_of) {
        let group = &mut groups[root(&mut joined, *body)];
        group.held |= holds.holds(node as usize);
        group.nodes.push(node);
    }
    for (point, contacts) in contacts.iter().flat_map(|of| of.iter().enumerate()) {
        // Whether it acted in the step or not.
        if contacts.iter().flatten().any(|contact| !contact.gives_way()) {
            groups[root(&mut joined, body_of(point as u32))].held = true;
        }
    }
    groups.retain(|group| !group.held && !group.nodes.is_empty());
    groups
}

/// Moves the nodes of bodies that nothing holds, so that the sums of their inertial forces and torques are those of `forces`: by
/// solids that give way, each at one of the points. `contacts` are those that the last solution was found with, and those after it;
/// `v_n` are the velocities at the step's start.
pub(super) fn balance(
    discretization: &Discretization,
    holds: &Holds,
    near: &[SelfContact],
    contacts: [&[Contacts]; 2],
    points: &[DVec3],
    forces: &[(u32, DVec3)],
    prediction: &Prediction,
    v_n: &[DVec3],
    x: &mut [DVec3],
) {
    let groups = groups(discretization, holds, near, contacts);
    if groups.is_empty() {
        return;
    }
    let mut group_of = vec![u32::MAX; discretization.bodies as usize];
    for (number, group) in (0..).zip(&groups) {
        group
            .nodes
            .iter()
            .for_each(|node| group_of[discretization.body_of[*node as usize] as usize] = number);
    }
    let mut acting: Vec<Vec<(DVec3, DVec3)>> = vec![Vec::new(); groups.len()];
    for (point, force) in forces {
        let group = group_of[discretization.body_of_point(*point) as usize];
        if let Some(list) = acting.get_mut(group as usize) {
            list.push((points[*point as usize], *force));
        }
    }
    for (group, acting) in groups.iter().zip(&acting) {
        let nodes = || group.nodes.iter().map(|node| *node as usize);
        let inertia: f64 = nodes().map(|i| prediction.inertia[i]).sum();
        let centre = nodes().map(|i| x[i] * prediction.inertia[i]).sum::<DVec3>() / inertia;
        let (mut force, mut torque) = (DVec3::ZERO, DVec3::ZERO);
        for (at, by) in acting {
            force += *by;
            torque += (*at - centre).cross(*by);
        }
        // How both sums grow with a displacement and a small turn about the centre.
        let (mut along, mut around) = (DMat3::ZERO, DMat3::ZERO);
        for i in nodes() {
            let own = prediction.inertial_force(i, x[i], v_n[i]);
            let r = x[i] - centre;
            force -= own;
            torque -= r.cross(own);
            along += prediction.growth(i);
            let outer = DMat3::from_cols(r * r.x, r * r.y, r * r.z);
            around +=
                (DMat3::from_diagonal(DVec3::splat(r.length_squared())) - outer) * prediction.inertia[i];
        }
        let shift = along.inverse() * force;
        // What lies on a line has no inertia about it.
        let trace = around.x_axis.x + around.y_axis.y + around.z_axis.z;
        let turn = (around + DMat3::from_diagonal(DVec3::splat(1e-9 * trace))).inverse() * torque;
        if shift.is_finite() && turn.is_finite() {
            for i in nodes() {
                x[i] += shift + turn.cross(x[i] - centre);
            }
        }
    }
}
