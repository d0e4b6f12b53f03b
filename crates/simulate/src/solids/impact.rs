//! Impacts between frames: the states of a body before and after its hardest
//! contact, so that frames can be slowed without going through what was touched.

use super::Solids;
use super::flight::StateBefore;
use frames::Impact;
use glam::{Quat, Vec3};
use rapier3d::prelude::*;

/// Least change of velocity by contacts in a step that is noted, m/s.
const LEAST_M_S: f32 = 0.3;

/// An impact of the frame that is being computed.
#[derive(Clone, Copy)]
pub(super) struct Pending {
    /// Start and end, seconds after the frame before.
    span_s: [f32; 2],
    centres: [Vec3; 2],
    velocities: [Vec3; 2],
    orientation: Quat,
    /// Change of velocity, m/s.
    change_m_s: f32,
}

/// The impacts since the last frame, by member.
#[derive(Default)]
pub(super) struct Impacts {
    list: Vec<Option<Pending>>,
    /// Seconds since the last frame.
    passed_s: f32,
}

impl Impacts {
    /// A new frame begins.
    pub(super) fn begin(&mut self) {
        self.list.clear();
        self.passed_s = 0.0;
    }

    /// The impact of a member, as the `body`th of its element.
    pub(super) fn of(&self, member: usize, body: usize) -> Option<Impact> {
        let of = (*self.list.get(member)?)?;
        Some(Impact {
            body: body as u32,
            span: of.span_s.map(|seconds| seconds / self.passed_s),
            centres: of.centres,
            velocities: of.velocities,
            orientation: of.orientation,
        })
    }
}

/// The deepest overlap of a body at the start of the last step: the direction
/// out of the other body, and the depth, m.
fn deepest(world: &PhysicsWorld, collider: ColliderHandle) -> Option<(Vec3, f32)> {
    let mut deepest: Option<(Vec3, f32)> = None;
    for pair in world.narrow_phase.contact_pairs_with(collider) {
        let side = if pair.collider1 == collider { -1.0 } else { 1.0 };
        for manifold in pair.solver_manifolds() {
            for point in &manifold.points {
                if -point.dist > deepest.map_or(0.0, |(_, depth)| depth) {
                    deepest = Some((side * manifold.data.normal, -point.dist));
                }
            }
        }
    }
    deepest
}

impl Solids {
    /// Notes the impacts of a step of `dt` seconds: `touched` are the bodies, by
    /// their member, that contacts changed the velocity of, and by how much.
    pub(super) fn note_impacts(&mut self, before: &[StateBefore], touched: &[(usize, f32)], dt: f32) {
        let start = self.impacts.passed_s;
        let end = start + dt;
        self.impacts.passed_s = end;
        for &(member, change_m_s) in touched.iter().filter(|(_, change)| *change > LEAST_M_S) {
            let Ok(at) = before.binary_search_by_key(&member, |of| of.member) else { continue };
            let (of, list) = (&before[at], &mut self.impacts.list);
            if list.len() <= member {
                list.resize(member + 1, None);
            }
            let of_member = &self.state.members[member];
            let body = &self.state.world.bodies[of_member.handle];
            let (mut centre, velocity) = (body.center_of_mass(), body.linvel());
            let (mut touch_s, mut touch) = (start, of.centre);
            if let Some((away, depth)) = deepest(&self.state.world, of_member.collider) {
                // The library found the contact when the surfaces had passed each
                // other: the body touched earlier on its way.
                let approach = -of.velocity.dot(away);
                if approach > LEAST_M_S {
                    let back = (depth / approach).min(start).min(2.0 * dt);
                    (touch_s, touch) = (start - back, of.centre - of.velocity * back);
                }
                centre += away * (depth - (centre - of.centre).dot(away)).max(0.0);
            }
            match &mut list[member] {
                // A contact that goes on is one impact.
                Some(known) if (known.span_s[1] - start).abs() < 0.1 * dt => {
                    known.span_s[1] = end;
                    (known.centres[1], known.velocities[1]) = (centre, velocity);
                    known.change_m_s = known.change_m_s.max(change_m_s);
                }
                Some(known) if known.change_m_s >= change_m_s => {}
                place => {
                    *place = Some(Pending {
                        span_s: [touch_s, end],
                        centres: [touch, centre],
                        velocities: [of.velocity, velocity],
                        orientation: of.orientation,
                        change_m_s,
                    });
                }
            }
        }
    }
}
