//! Momentum of bodies that nothing holds: what a step's solution leaves of the balance of forces and torques is taken out by a rigid
//! motion, so that a body takes up exactly what solids give it.

use super::contact::Contacts;
use super::discretization::Discretization;
use super::holds::Holds;
use super::pair::Pair;
use super::prediction::Prediction;
use super::self_contact::SelfContact;
use geometry::DisjointSets;
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
    let mut joined = DisjointSets::new(discretization.bodies as usize);
    let body_of = |point: u32| discretization.body_of_point(point);
    for contact in near {
        let [first, others @ ..] = contact.points().map(body_of);
        others.into_iter().for_each(|other| {
            joined.join(first, other);
        });
    }
    let root_of = joined.roots();
    let mut groups: Vec<Group> =
        root_of.iter().map(|_| Group { held: holds.any_centre(), nodes: Vec::new() }).collect();
    for (node, body) in (0..).zip(&discretization.body_of) {
        let group = &mut groups[root_of[*body as usize] as usize];
        group.held |= holds.holds(node as usize);
        group.nodes.push(node);
    }
    for (point, contacts) in contacts.iter().flat_map(|of| of.iter().enumerate()) {
        // Whether it acted in the step or not.
        if contacts.iter().flatten().any(|contact| !contact.gives_way()) {
            groups[root_of[body_of(point as u32) as usize] as usize].held = true;
        }
    }
    groups.retain(|group| !group.held && !group.nodes.is_empty());
    groups
}

/// A small rigid motion.
struct RigidMotion {
    centre: DVec3,
    shift: DVec3,
    turn: DVec3,
}

impl RigidMotion {
    /// That by which the sums of the inertial forces and torques of some nodes become those of the forces `acting`, each at a place;
    /// none if no finite motion does.
    fn balancing(
        nodes: &[u32],
        acting: &[(DVec3, DVec3)],
        prediction: &Prediction,
        v_n: &[DVec3],
        x: &[DVec3],
    ) -> Option<Self> {
        let nodes = || nodes.iter().map(|node| *node as usize);
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
        // Points on a line have no inertia about the line.
        let trace = around.x_axis.x + around.y_axis.y + around.z_axis.z;
        let turn = (around + DMat3::from_diagonal(DVec3::splat(1e-9 * trace))).inverse() * torque;
        (shift.is_finite() && turn.is_finite()).then_some(Self { centre, shift, turn })
    }

    /// The displacement of a point.
    fn of(&self, x: DVec3) -> DVec3 {
        self.shift + self.turn.cross(x - self.centre)
    }
}

/// Leaves out the motions of bodies by which features of `pairs` could meet.
fn leave_out_meeting(
    motions: &mut [Option<RigidMotion>],
    discretization: &Discretization,
    group_of: &[u32],
    pairs: &[Pair],
    x: &[DVec3],
) {
    let group = |point: u32| group_of[discretization.body_of_point(point) as usize];
    let mut points = Vec::new();
    for pair in pairs {
        let of = pair.points();
        let (first, second) = (group(of[0]), group(of[3]));
        if first == second {
            continue;
        }
        if points.is_empty() {
            points = discretization.embedding.all(x);
        }
        let way = |point: &u32| {
            let motion = motions.get(group(*point) as usize).and_then(Option::as_ref);
            motion.map_or(0.0, |motion| motion.of(points[*point as usize]).length())
        };
        let ways = of.iter().map(way);
        let (near, far) = (ways.clone().take(pair.first()), ways.skip(pair.first()));
        if pair.nearest(&points).1.length() <= near.fold(0.0, f64::max) + far.fold(0.0, f64::max) {
            for group in [first, second] {
                if let Some(motion) = motions.get_mut(group as usize) {
                    *motion = None;
                }
            }
        }
    }
}

/// Moves the nodes of bodies that nothing holds, so that the sums of their inertial forces and torques are those of `forces`: by
/// solids that give way, each at one of the points. `contacts` are those that the last solution was found with, and those after it;
/// `pairs` are those that truncation kept apart, and `v_n` the velocities at the step's start. Bodies that would meet another by such
/// a motion stay where they are.
pub(super) fn balance(
    discretization: &Discretization,
    holds: &Holds,
    near: &[SelfContact],
    pairs: &[Pair],
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
    let of_group = |(group, acting): (&Group, &Vec<(DVec3, DVec3)>)| {
        RigidMotion::balancing(&group.nodes, acting, prediction, v_n, x)
    };
    let mut motions: Vec<Option<RigidMotion>> = groups.iter().zip(&acting).map(of_group).collect();
    leave_out_meeting(&mut motions, discretization, &group_of, pairs, x);
    for (group, motion) in groups.iter().zip(&motions) {
        if let Some(motion) = motion {
            group.nodes.iter().for_each(|&i| x[i as usize] += motion.of(x[i as usize]));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::deformable::sheet::sheet;
    use geometry::{Mesh, primitive};
    use rstest::rstest;
    use shot::Shape;

    #[rstest]
    #[case::further_than_the_gap(0.011, false)]
    #[case::less_far(0.009, true)]
    fn a_body_moves_only_where_it_meets_no_other(#[case] shift_m: f64, #[case] moves: bool) {
        let mesh = Mesh::refined(&Shape::plane(1.0, 1.0), primitive::plane(1.0, 1.0), 0.5, 100).unwrap();
        let sheets = sheet(&mesh).0.copies([1.0; 2].into_iter());
        // The second lies above the first.
        let mut x = sheets.rest.clone();
        let upper = x.len() / 2;
        x[upper..].iter_mut().for_each(|x| x.y += 0.01);
        let [a, b, c] = sheets.faces[0];
        let pairs = [Pair::PointTriangle([upper as u32 + a, a, b, c])];
        let down = RigidMotion { centre: DVec3::ZERO, shift: DVec3::NEG_Y * shift_m, turn: DVec3::ZERO };
        // The first is not balanced.
        let mut motions = [Some(down)];
        leave_out_meeting(&mut motions, &sheets, &[u32::MAX, 0], &pairs, &x);
        assert_eq!(motions[0].is_some(), moves);
    }
}
