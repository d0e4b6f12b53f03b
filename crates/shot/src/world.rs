//! Poses of elements in the world: attachments and aims resolved.

use crate::{
    Element, ElementKind, Id, Shot,
    motion::{NotFinite, Sampler},
};
use glam::{Mat3, Quat, Vec3};

/// Place (m) and turn.
pub type Pose = (Vec3, Quat);

/// Pose of an element's first body in the run at a frame of the shot; none
/// if it is not the solver's, or not known.
pub type History<'a> = &'a dyn Fn(Id, f64) -> Option<Pose>;

/// The elements of a sampled shot in the world.
#[derive(Clone, Copy)]
pub struct World<'a> {
    shot: &'a Shot,
    sampler: &'a Sampler,
    frame: f64,
    solved: History<'a>,
}

/// A shot is nested at most so deep; faults refuse circles.
const DEPTH: u32 = 64;
/// Times of the past that an aim's damping looks back, in multiples of it.
const REACH: f64 = 5.0;

impl<'a> World<'a> {
    /// The elements of `shot`, which `sampler` gave for `frame`.
    pub fn new(shot: &'a Shot, sampler: &'a Sampler, frame: f64, solved: History<'a>) -> Self {
        Self { shot, sampler, frame, solved }
    }

    /// The shot as it is at the frame.
    pub fn shot(&self) -> &'a Shot {
        self.shot
    }

    /// Gives the shot at other times.
    pub fn sampler(&self) -> &'a Sampler {
        self.sampler
    }

    /// Place and turn of an element's origin.
    pub fn pose(&self, element: &Element) -> Pose {
        self.at_depth(element, DEPTH)
    }

    /// Place and turn of every copy.
    pub fn placements(&self, element: &Element) -> Vec<Pose> {
        element.spread(self.pose(element))
    }

    fn at_depth(&self, element: &Element, depth: u32) -> Pose {
        if let Some(pose) = (self.solved)(element.id, self.frame) {
            return pose;
        }
        let (mut position, mut orientation) = element.placement.pose();
        if depth == 0 {
            return (position, orientation);
        }
        if let Some(attached) = &element.attached
            && let Some(base) = self.shot.element(attached.to)
        {
            let (mut from, mut base_turn) = self.at_depth(base, depth - 1);
            if let (ElementKind::Curve(curve), Some(along)) = (&base.kind, attached.along) {
                let (point, direction) = curve.at(along);
                from += base_turn * point;
                if attached.facing {
                    base_turn *= facing(direction);
                }
            }
            (position, orientation) = (from + base_turn * position, base_turn * orientation);
        }
        if let Some(aim) = &element.aim
            && let Some(target) = self.shot.element(aim.target)
        {
            let target = self.target(target, f64::from(aim.damping_s), depth - 1);
            orientation = match element.kind {
                ElementKind::Solid(_)
                | ElementKind::Camera(_)
                | ElementKind::Region(_)
                | ElementKind::Curve(_) => towards(target - position),
                // Their axis is −y.
                _ => towards(target - position) * Quat::from_rotation_x(std::f32::consts::FRAC_PI_2),
            };
        }
        (position, orientation)
    }

    /// The point that an aim looks at: its target, or the target with a delay.
    fn target(&self, target: &Element, damping_s: f64, depth: u32) -> Vec3 {
        let now = self.at_depth(target, depth).0;
        let timing = self.shot.timing;
        let first = f64::from(timing.first);
        if damping_s <= 0.0 || self.frame <= first {
            return now;
        }
        let frames = damping_s * f64::from(timing.fps);
        // Before the first frame the target has always been where it is there.
        let (mut sum, mut weights) = (Vec3::ZERO, 0.0f32);
        let back = (REACH * frames).ceil().min(600.0) as u32;
        for step in 0..=back {
            let frame = (self.frame - f64::from(step)).max(first);
            let weight = (-f64::from(step) / frames).exp() as f32;
            sum += weight * self.earlier(target, frame, depth).unwrap_or(now);
            weights += weight;
        }
        sum / weights
    }

    fn earlier(&self, target: &Element, frame: f64, depth: u32) -> Option<Vec3> {
        if let Some(pose) = (self.solved)(target.id, frame) {
            return Some(pose.0);
        }
        let then = self.then(frame).ok()?;
        let world = World { shot: &then, frame, ..*self };
        Some(world.at_depth(then.element(target.id)?, depth).0)
    }

    fn then(&self, frame: f64) -> Result<Shot, NotFinite> {
        self.sampler.at(frame)
    }
}

/// The turn that takes −z towards `direction`, with y kept up.
pub fn towards(direction: Vec3) -> Quat {
    let Some(back) = (-direction).try_normalize() else { return Quat::IDENTITY };
    let right = Vec3::Y.cross(back).try_normalize().unwrap_or(Vec3::X);
    Quat::from_mat3(&Mat3::from_cols(right, back.cross(right), back))
}

/// The turn that takes +z along `direction`, with y kept up.
fn facing(direction: Vec3) -> Quat {
    towards(-direction)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Aim, Attached, Moves, Shape, curve::Curve, motion::Channel};

    fn unsolved(_: Id, _: f64) -> Option<Pose> {
        None
    }

    fn pose_at(shot: &Shot, name: &str, frame: f64) -> Pose {
        let sampler = Sampler::new(shot).unwrap();
        let now = sampler.at(frame).unwrap();
        World::new(&now, &sampler, frame, &unsolved).pose(now.named(name).unwrap())
    }

    fn still(name: &str) -> Element {
        Element::solid(name, Shape::sphere(0.1), Moves::Still)
    }

    #[test]
    fn what_is_attached_goes_and_turns_with_its_base() {
        let mut shot = Shot::empty("Test");
        let base = shot.add(still("Arm").at(1.0, 0.0, 0.0).turned(0.0, std::f32::consts::FRAC_PI_2, 0.0));
        let mut lamp = still("Lamp").at(0.0, 0.0, 2.0);
        lamp.attached = Some(Attached { to: base, along: None, facing: false });
        shot.add(lamp);
        let (position, orientation) = pose_at(&shot, "Lamp", 1.0);
        assert!(position.distance(Vec3::new(3.0, 0.0, 0.0)) < 1e-5, "{position}");
        assert!((orientation * Vec3::Z).distance(Vec3::X) < 1e-5);
    }

    #[test]
    fn a_share_of_a_curve_can_be_keyed_and_faced() {
        let mut shot = Shot::empty("Test");
        let points_m = vec![Vec3::ZERO, Vec3::new(4.0, 0.0, 0.0)];
        let curve = Element::new(
            "Rail",
            ElementKind::Curve(Curve::Points { points_m, closed: false, smooth: false }),
        );
        let rail = shot.add(curve.at(0.0, 1.0, 0.0));
        let mut cart = still("Cart").keyed("attached.along", Channel::keyed([(1.0, 0.0f32), (9.0, 1.0)]));
        cart.attached = Some(Attached { to: rail, along: Some(0.0), facing: true });
        shot.add(cart);
        let (position, orientation) = pose_at(&shot, "Cart", 5.0);
        assert!(position.distance(Vec3::new(2.0, 1.0, 0.0)) < 1e-5);
        assert!((orientation * Vec3::Z).distance(Vec3::X) < 1e-5);
    }

    #[test]
    fn an_aim_looks_at_its_target_and_late_with_damping() {
        let mut shot = Shot::empty("Test");
        let target = shot.add(
            still("Float").keyed("placement.position_m[0]", Channel::keyed([(1.0, 0.0f32), (2.0, 3.0)])),
        );
        let mut eye = still("Eye").at(0.0, 0.0, 5.0);
        eye.aim = Some(Aim { target, damping_s: 0.0 });
        shot.add(eye);
        let at = |shot: &Shot, frame| pose_at(shot, "Eye", frame).1 * Vec3::NEG_Z;
        let direct = Vec3::new(3.0, 0.0, -5.0).normalize();
        assert!(at(&shot, 2.0).distance(direct) < 1e-5);
        shot.named_mut("Eye").unwrap().aim.as_mut().unwrap().damping_s = 0.5;
        let late = at(&shot, 2.0);
        assert!(late.x > 0.0 && late.x < 0.2 * direct.x, "{late}");
        assert!(at(&shot, 90.0).distance(direct) < 0.01);
    }

    #[test]
    fn a_light_aims_its_own_axis() {
        let mut shot = Shot::empty("Test");
        let target = shot.add(still("Float").at(2.0, 0.0, 0.0));
        shot.named_mut("Sun").unwrap().placement.position_m = Vec3::ZERO;
        shot.named_mut("Sun").unwrap().aim = Some(Aim { target, damping_s: 0.0 });
        assert!((pose_at(&shot, "Sun", 1.0).1 * Vec3::NEG_Y).distance(Vec3::X) < 1e-5);
    }
}
