//! A body as other solvers collide with it.

use super::BodyState;
use geometry::{Bounds, Mesh, MovingSurface, Ray, Surface, SurfaceKind, SurfacePlace};
use glam::{Affine3A, Vec3};
use shot::world::Pose;
use std::sync::Arc;

/// A body with its surface, over a substep.
#[derive(Clone)]
pub struct Collider {
    /// The body at the substep's end.
    pub now: BodyState,
    /// Its pose at the substep's start.
    pub before: Pose,
    pub(super) skin: Skin,
    /// Length of the substep, s.
    dt: f32,
    /// Distance from the origin to the furthest point, m.
    reach: f32,
    /// From space into the shape's own, at the substep's end.
    into: Affine3A,
    /// Whether it is a cloth or a soft body.
    deformable: bool,
}

/// The surface of a body.
#[derive(Clone)]
pub(super) enum Skin {
    Rigid(Arc<Surface>),
    /// One that changes its shape in the substep.
    Deforming(Arc<MovingSurface>),
}

impl Skin {
    fn reach(&self) -> f32 {
        match self {
            Self::Rigid(surface) => surface.reach(),
            Self::Deforming(surface) => surface.reach(),
        }
    }

    pub(super) fn triangles(&self) -> usize {
        match self {
            Self::Rigid(surface) => surface.triangles(),
            Self::Deforming(surface) => surface.topology().triangles().len(),
        }
    }
}

impl Collider {
    pub(super) fn new(now: BodyState, before: Pose, skin: Skin, dt: f32, deformable: bool) -> Self {
        let out = Affine3A::from_scale_rotation_translation(Vec3::splat(now.scale), now.pose.1, now.pose.0);
        let reach = skin.reach();
        Self { now, before, skin, dt, reach, into: out.inverse(), deformable }
    }

    /// Its pose at a fraction of the substep.
    #[inline]
    pub fn pose_at(&self, fraction: f32) -> Pose {
        if self.now.still || fraction >= 1.0 {
            return self.now.pose;
        }
        (self.before.0.lerp(self.now.pose.0, fraction), self.before.1.slerp(self.now.pose.1, fraction))
    }

    /// A point of space as seen from the body at a fraction of the substep, in the shape's own size.
    #[inline]
    fn local(&self, fraction: f32, point: Vec3) -> Vec3 {
        if self.now.still || fraction >= 1.0 {
            return self.into.transform_point3(point);
        }
        let pose = self.pose_at(fraction);
        pose.1.inverse() * (point - pose.0) / self.now.scale
    }

    /// The nearest point of the surface to `point` at the substep's end, if closer than `within`.
    #[inline]
    pub fn nearest(&self, point: Vec3, within: f32) -> Option<Vec3> {
        let pose = self.now.pose;
        let (point, within) = (self.local(1.0, point), within / self.now.scale);
        let on = match &self.skin {
            Skin::Rigid(surface) => surface.nearest(point, within)?,
            Skin::Deforming(surface) => surface.nearest(point, within)?.0,
        };
        Some(pose.0 + pose.1 * (on * self.now.scale))
    }

    /// A lower bound of a point's distance from the body at the end of the substep,
    /// exact only below `within`.
    #[inline]
    pub fn clearance(&self, point: Vec3, within: f32) -> f32 {
        let (point, scale) = (self.local(1.0, point), self.now.scale);
        match &self.skin {
            Skin::Rigid(surface) => surface.clearance(point, within / scale) * scale,
            Skin::Deforming(surface) => {
                let within = within / scale;
                surface.nearest(point, within).map_or(within, |(on, _)| on.distance(point)) * scale
            }
        }
    }

    /// Signed distance of a point from the body at the substep's end, m: negative inside; of points that are further than `within`
    /// that. A surface that is not closed is `thickness` thick.
    pub fn signed_distance(&self, point: Vec3, within: f32, thickness: f32) -> f32 {
        let (point, scale) = (self.local(1.0, point), self.now.scale);
        let (kind, on) = match &self.skin {
            Skin::Rigid(surface) => (surface.kind(), surface.nearest(point, within / scale)),
            Skin::Deforming(surface) => {
                (surface.kind(), surface.nearest(point, within / scale).map(|(on, _)| on))
            }
        };
        let enclosed = kind == SurfaceKind::Closed
            && match &self.skin {
                Skin::Rigid(surface) => surface.contains(point),
                Skin::Deforming(surface) => surface.bvh().contains(point),
            };
        let Some(on) = on else {
            return if enclosed { -within } else { within };
        };
        let normal = match &self.skin {
            Skin::Rigid(surface) => surface.normal(),
            Skin::Deforming(_) => Vec3::ZERO,
        };
        scale * kind.signed_distance(point - on, normal, enclosed, thickness / scale)
    }

    /// Whether the body is closed and thinner between two points, both outside, than they are apart.
    pub fn separates(&self, a: Vec3, b: Vec3) -> bool {
        let (bvh, kind) = match &self.skin {
            Skin::Rigid(surface) => (surface.bvh(), surface.kind()),
            Skin::Deforming(surface) => (surface.bvh(), surface.kind()),
        };
        kind == SurfaceKind::Closed && bvh.separates(self.local(1.0, a), self.local(1.0, b))
    }

    /// When a ball whose centre goes from `from` at `fraction` to `to` at the
    /// substep's end first touches the body, though both move: the fraction of its
    /// way, and the unit normal. At edges the sphere may pass by a part of its radius.
    #[inline]
    pub fn intersect(&self, from: Vec3, fraction: f32, to: Vec3, radius: f32) -> Option<(f32, Vec3)> {
        let origin = self.local(fraction, from);
        let end = self.local(1.0, to);
        let direction = end - origin;
        if let Skin::Deforming(surface) = &self.skin {
            let hit = surface.collide(origin, fraction, end, radius / self.now.scale)?;
            let normal = self.pose_at(fraction + (1.0 - fraction) * hit.t).1 * hit.normal;
            return Some((hit.t, normal));
        }
        let length = direction.length() * self.now.scale;
        if length <= 0.0 {
            return None;
        }
        // The sphere touches before its centre does: the ray extends beyond the way's end.
        let t_max = 1.0 + 4.0 * radius / length;
        let Skin::Rigid(surface) = &self.skin else { return None };
        let (t, normal) = surface.intersect(&Ray { origin, direction, t_max })?;
        let facing = -normal.dot(direction) * self.now.scale / length;
        if facing <= 1e-4 {
            return None;
        }
        let t = t - radius / (facing * length);
        if t > 1.0 {
            return None;
        }
        let t = t.max(0.0);
        Some((t, self.pose_at(fraction + (1.0 - fraction) * t).1 * normal))
    }

    /// Velocity of the surface at a point, m/s.
    #[inline]
    pub fn velocity_at(&self, point: Vec3) -> Vec3 {
        let rigid = self.now.velocity + self.now.angular_velocity.cross(point - self.now.centre);
        match &self.skin {
            Skin::Deforming(_) if self.dt > 0.0 => {
                let way = self.own_way(self.local(1.0, point));
                rigid + self.now.pose.1 * (way * (self.now.scale / self.dt))
            }
            _ => rigid,
        }
    }

    /// Upper bound of the way that the body's surface makes near a point in `dt` seconds, m.
    #[inline]
    pub fn longest_way(&self, point: Vec3, dt: f32) -> f32 {
        let rigid = self.now.velocity + self.now.angular_velocity.cross(point - self.now.centre);
        let own = match &self.skin {
            Skin::Rigid(_) => 0.0,
            Skin::Deforming(surface) => surface.longest_way() * self.now.scale,
        };
        rigid.length() * dt + own
    }

    /// Whether it is a cloth or a soft body.
    pub fn is_deformable(&self) -> bool {
        self.deformable
    }

    /// Whether it changes its shape.
    pub fn deforms(&self) -> bool {
        matches!(self.skin, Skin::Deforming(_))
    }

    /// The way in the substep of a point of its surface against the body, in the
    /// body's own frame and size, m.
    pub fn own_way(&self, on: Vec3) -> Vec3 {
        match &self.skin {
            Skin::Deforming(surface) => {
                let nearest = surface.nearest(on, f32::INFINITY);
                nearest.map_or(Vec3::ZERO, |(on, face)| surface.way(face, on))
            }
            Skin::Rigid(_) => Vec3::ZERO,
        }
    }

    /// The place of a point on the surface of a body that changes its shape, for as long as it has the same faces; none: it does
    /// not change it. With `at_start` the point is where it is at the substep's start.
    pub fn place(&self, point: Vec3, at_start: bool) -> Option<SurfacePlace> {
        let Skin::Deforming(surface) = &self.skin else { return None };
        let (position, orientation) = if at_start { self.before } else { self.now.pose };
        let place = surface.place(orientation.inverse() * (point - position) / self.now.scale, at_start)?;
        Some(SurfacePlace { offset: place.offset * self.now.scale, ..place })
    }

    /// Where a place of its surface is at the substep's end, or at its start, and the frame of its face.
    pub fn at_place(&self, place: &SurfacePlace, at_start: bool) -> Option<Pose> {
        let Skin::Deforming(surface) = &self.skin else { return None };
        let (position, orientation) = if at_start { self.before } else { self.now.pose };
        let on = SurfacePlace { offset: Vec3::ZERO, ..*place };
        let (at, turned) = surface.at_place(&on, at_start)?;
        let turned = orientation * turned;
        Some((position + orientation * (at * self.now.scale) + turned * place.offset, turned))
    }

    /// The surface of a cloth or a soft body, whose vertices are in space.
    pub fn deformable_surface(&self) -> Option<&MovingSurface> {
        match &self.skin {
            Skin::Deforming(surface) if self.deformable => Some(surface),
            _ => None,
        }
    }

    /// Length of the substep, s.
    pub fn dt(&self) -> f32 {
        self.dt
    }

    /// The mesh of a body that changes its shape, as it is at the substep's end.
    pub fn deformed(&self) -> Option<Mesh> {
        match &self.skin {
            Skin::Rigid(_) => None,
            Skin::Deforming(surface) => Some(surface.topology().mesh_at(surface.positions().to_vec())),
        }
    }

    /// Inverse effective mass at a point along a direction, 1/kg.
    #[inline]
    pub fn mobility(&self, point: Vec3, normal: Vec3) -> f32 {
        if self.now.inverse_mass == 0.0 {
            return 0.0;
        }
        let arm = (point - self.now.centre).cross(normal);
        self.now.inverse_mass + arm.dot(self.now.inverse_inertia * arm)
    }

    /// A box that holds it over the substep.
    pub fn bounds(&self) -> Bounds {
        let reach = Vec3::splat(self.reach * self.now.scale);
        let around = |position: Vec3| Bounds { min: position - reach, max: position + reach };
        around(self.before.0).union(around(self.now.pose.0))
    }
}
