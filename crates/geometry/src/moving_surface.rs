//! The surface of a mesh that changes its shape, over a step of time.

use crate::{Bounds, Bvh, RefitPlan, SurfaceKind, Topology};
use glam::{Mat3, Quat, Vec3};
use std::sync::{Arc, OnceLock};

/// A surface with its vertices at the start and at the end of a step, between
/// which they go in straight lines.
pub struct MovingSurface {
    topology: Arc<Topology>,
    before: Vec<Vec3>,
    after: Vec<Vec3>,
    /// Boxes hold both.
    bvh: Bvh,
    plan: RefitPlan,
    reach: f32,
    /// Length of the longest way of a vertex.
    longest_way: f32,
    kind: OnceLock<SurfaceKind>,
}

/// A place that goes with a face.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SurfacePlace {
    /// The face.
    pub triangle: u32,
    /// Barycentric weights of its corners, which sum to 1.
    pub weights: [f32; 3],
    /// Distance from there in the face's own frame, whose y axis is its normal and whose x axis is its first edge, m.
    pub offset: Vec3,
}

/// Where a ball first touches a moving surface.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SurfaceHit {
    /// When, as a fraction of the ball's way.
    pub t: f32,
    /// Unit normal of the face then, on the side that the ball comes from.
    pub normal: Vec3,
    /// The face.
    pub triangle: u32,
}

/// Parts of a step that are looked at for a crossing, each by itself.
const PARTS: u32 = 4;
/// The part of its radius at which a ball that touches no face within its bounds is met; its centre is the last.
const AT_RIDGES: f32 = 1.0 / 16.0;
/// Halvings of the time of a crossing.
const HALVINGS: u32 = 20;

impl MovingSurface {
    /// A surface that does not move in the first step.
    pub fn new(topology: Arc<Topology>, positions: Vec<Vec3>) -> Self {
        let bvh = Bvh::build(&positions, topology.triangles());
        let (reach, plan) = (reach(&positions), bvh.refit_plan(topology.triangles()));
        let (before, kind) = (positions.clone(), OnceLock::new());
        Self { topology, before, after: positions, bvh, plan, reach, longest_way: 0.0, kind }
    }

    /// The same with its vertices at other places at the step's end.
    #[must_use]
    pub fn corrected(&self, positions: &[Vec3]) -> Self {
        let mut surface = Self {
            topology: self.topology.clone(),
            before: Vec::new(),
            after: self.before.clone(),
            bvh: self.bvh.clone(),
            plan: self.plan.clone(),
            reach: self.reach,
            longest_way: self.longest_way,
            kind: self.kind.clone(),
        };
        surface.advance(positions);
        surface
    }

    /// The vertices at the step's start.
    pub fn positions_before(&self) -> &[Vec3] {
        &self.before
    }

    /// Goes on to the next step, at whose end the vertices are at `positions`.
    pub fn advance(&mut self, positions: &[Vec3]) {
        std::mem::swap(&mut self.before, &mut self.after);
        self.after.clear();
        self.after.extend_from_slice(positions);
        self.bvh.refit(&mut self.plan, &self.after, Some(&self.before));
        self.reach = reach(&self.before).max(reach(&self.after));
        let ways = self.before.iter().zip(&self.after).map(|(from, to)| from.distance_squared(*to));
        self.longest_way = ways.fold(0.0, f32::max).sqrt();
    }

    /// Its faces.
    pub fn topology(&self) -> &Arc<Topology> {
        &self.topology
    }

    /// The vertices at the step's end.
    pub fn positions(&self) -> &[Vec3] {
        &self.after
    }

    /// Distance from the origin to the furthest vertex in the step, m.
    pub fn reach(&self) -> f32 {
        self.reach
    }

    /// Length of the longest way of a vertex in the step, m.
    pub fn longest_way(&self) -> f32 {
        self.longest_way
    }

    /// The nearest point at the step's end and its face, if one is closer than `within`.
    pub fn nearest(&self, point: Vec3, within: f32) -> Option<(Vec3, u32)> {
        self.bvh.nearest(point, within)
    }

    /// Which points are inside. A surface that changes its shape is not flat.
    pub fn kind(&self) -> SurfaceKind {
        *self.kind.get_or_init(|| match SurfaceKind::of(&self.after, self.topology.triangles()) {
            SurfaceKind::Flat => SurfaceKind::Open,
            kind => kind,
        })
    }

    /// The hierarchy of its triangles at the step's end.
    pub fn bvh(&self) -> &Bvh {
        &self.bvh
    }

    /// The place of a point near the surface: on the face that is nearest at the step's end. With `at_start` the point is where it
    /// is at the step's start.
    pub fn place(&self, point: Vec3, at_start: bool) -> Option<SurfacePlace> {
        let (on, triangle) = self.nearest(point, f32::INFINITY)?;
        let corners = self.topology.triangles()[triangle as usize].map(|v| self.after[v as usize]);
        let place = SurfacePlace { triangle, weights: barycentric(corners, on), offset: Vec3::ZERO };
        let (position, orientation) = self.at_place(&place, at_start)?;
        Some(SurfacePlace { offset: orientation.inverse() * (point - position), ..place })
    }

    /// Where a place is at the step's end, or at its start, and the frame of its face; none: there is no such face.
    pub fn at_place(&self, place: &SurfacePlace, at_start: bool) -> Option<(Vec3, Quat)> {
        let t = *self.topology.triangles().get(place.triangle as usize)?;
        let list = if at_start { &self.before } else { &self.after };
        let [a, b, c] = t.map(|v| list[v as usize]);
        let [wa, wb, wc] = place.weights;
        let y = (b - a).cross(c - a).try_normalize().unwrap_or(Vec3::Y);
        let x = (b - a).try_normalize().unwrap_or_else(|| y.any_orthonormal_vector());
        let orientation = Quat::from_mat3(&Mat3::from_cols(x, y, x.cross(y)));
        Some((a * wa + b * wb + c * wc + orientation * place.offset, orientation))
    }

    /// The way of a point of a face in the step, m.
    pub fn way(&self, triangle: u32, point: Vec3) -> Vec3 {
        let t = self.topology.triangles()[triangle as usize];
        let weights = barycentric(t.map(|v| self.after[v as usize]), point);
        (0..3).map(|i| (self.after[t[i] as usize] - self.before[t[i] as usize]) * weights[i]).sum()
    }

    /// When a ball whose centre goes from `from`, at a `fraction` of the step, to
    /// `to` at its end first touches a face, though both move. At edges the ball
    /// may pass by most of its radius, but not its centre.
    ///
    /// The distance of the centre from the plane of the moving face is a ratio
    /// of polynomials of the time (X. Provot, *Collision and self-collision
    /// handling in cloth model dedicated to design garments*, 1997); where it
    /// falls below the radius is found by halving.
    pub fn collide(&self, from: Vec3, fraction: f32, to: Vec3, radius: f32) -> Option<SurfaceHit> {
        let swept = Bounds { min: from.min(to) - radius, max: from.max(to) + radius };
        let mut first: Option<SurfaceHit> = None;
        self.bvh.overlapping(&swept, |triangle| {
            // Over a ridge the centre can come down between the planes of two faces without touching either within its bounds.
            let hit = [1.0, AT_RIDGES, 0.0]
                .into_iter()
                .find_map(|part| self.collide_face(triangle, from, fraction, to, part * radius));
            if let Some(hit) = hit
                && first.is_none_or(|first| (hit.t, hit.triangle) < (first.t, first.triangle))
            {
                first = Some(hit);
            }
        });
        first
    }

    fn collide_face(
        &self,
        triangle: u32,
        from: Vec3,
        fraction: f32,
        to: Vec3,
        radius: f32,
    ) -> Option<SurfaceHit> {
        let t = self.topology.triangles()[triangle as usize];
        let corners = |s: f32| {
            let at = fraction + (1.0 - fraction) * s;
            t.map(|v| self.before[v as usize].lerp(self.after[v as usize], at))
        };
        // The unit normal, and the centre's height above the plane.
        let height = |s: f32| {
            let [a, b, c] = corners(s);
            let normal = (b - a).cross(c - a).normalize_or_zero();
            (normal, (from.lerp(to, s) - a).dot(normal))
        };
        let (normal, start) = height(0.0);
        if normal == Vec3::ZERO {
            return None;
        }
        let side = if start < 0.0 { -1.0 } else { 1.0 };
        let gap = |s: f32| side * height(s).1 - radius;
        let (mut low, mut high) = (0.0, 0.0);
        if gap(0.0) > 0.0 {
            let falls = (1..=PARTS).map(|part| part as f32 / PARTS as f32).find(|&s| gap(s) <= 0.0)?;
            (low, high) = (falls - 1.0 / PARTS as f32, falls);
            for _ in 0..HALVINGS {
                let middle = 0.5 * (low + high);
                if gap(middle) > 0.0 { low = middle } else { high = middle }
            }
        } else if gap(1.0 / 1024.0) >= gap(0.0) {
            // It is in touch, and goes away.
            return None;
        }
        let (normal, above) = height(low);
        let weights = barycentric(corners(low), from.lerp(to, low) - normal * above);
        let inside = weights.into_iter().all(|weight| weight >= -1e-5);
        inside.then_some(SurfaceHit {
            t: if high > 0.0 { low } else { 0.0 },
            normal: normal * side,
            triangle,
        })
    }
}

fn reach(positions: &[Vec3]) -> f32 {
    positions.iter().map(|p| p.length_squared()).fold(0.0, f32::max).sqrt()
}

/// The barycentric weights of a triangle's corners at a point of its plane; those
/// of its middle if it has no area.
pub fn barycentric([a, b, c]: [Vec3; 3], point: Vec3) -> [f32; 3] {
    let normal = (b - a).cross(c - a);
    let square = normal.length_squared();
    if square <= 0.0 {
        return [1.0 / 3.0; 3];
    }
    let v = (point - a).cross(c - a).dot(normal) / square;
    let w = (b - a).cross(point - a).dot(normal) / square;
    [1.0 - v - w, v, w]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, Ray, primitive};
    use proptest::prelude::*;

    /// A square 2 m wide, facing up.
    fn square() -> (Mesh, MovingSurface) {
        let mesh = primitive::plane(2.0, 2.0);
        let surface = MovingSurface::new(Arc::new(Topology::of(&mesh)), mesh.positions.clone());
        (mesh, surface)
    }

    proptest! {
        /// A ball and a square that both move are in touch when their gap closes.
        #[test]
        fn a_ball_meets_a_moving_square_at_the_time_of_their_relative_speed(
            height in 0.5f32..3.0, fall in -1f32..4.0, rise in -1f32..2.0, aside in -0.5f32..0.5, fraction in 0f32..0.9,
        ) {
            let (mesh, mut surface) = square();
            let moved: Vec<Vec3> = mesh.positions.iter().map(|p| *p + Vec3::new(aside, rise, 0.0)).collect();
            surface.advance(&moved);
            let (radius, from) = (0.1, Vec3::new(0.1, height + rise * fraction, 0.2));
            // What is left of the step is left of the way too.
            let hit = surface.collide(from, fraction, from - Vec3::Y * fall * (1.0 - fraction), radius);
            let closing = (fall + rise) * (1.0 - fraction);
            let exact = (height - radius) / closing;
            if closing > 0.0 && exact < 0.999 {
                let hit = hit.unwrap();
                prop_assert!((hit.t - exact).abs() < 1e-3 && hit.normal.distance(Vec3::Y) < 1e-5, "{hit:?} {exact}");
                let way = surface.way(hit.triangle, Vec3::new(0.1, rise, 0.2));
                prop_assert!(way.distance(Vec3::new(aside, rise, 0.0)) < 1e-5);
            } else if !(0.0..1.001).contains(&exact) {
                prop_assert!(hit.is_none(), "{hit:?} {exact}");
            }
        }

        /// A hierarchy that is fitted again answers as a new one does.
        #[test]
        fn a_refitted_hierarchy_answers_as_a_fresh_one(
            bend in 0f32..3.0, x in -1.5f32..1.5, y in -1.5f32..1.5, z in -1.5f32..1.5,
        ) {
            let mesh = primitive::torus(1.0, 0.3, primitive::AROUND);
            let bent = |p: &Vec3| {
                let (sin, cos) = (bend * p.x).sin_cos();
                Vec3::new(p.x, p.y * cos - p.z * sin, p.y * sin + p.z * cos)
            };
            let positions: Vec<Vec3> = mesh.positions.iter().map(bent).collect();
            let mut refitted = Bvh::build(&mesh.positions, &mesh.triangles);
            let mut plan = refitted.refit_plan(&mesh.triangles);
            refitted.refit(&mut plan, &positions, None);
            let fresh = Bvh::build(&positions, &mesh.triangles);
            let point = Vec3::new(x, y, z);
            let nearest = |bvh: &Bvh| bvh.nearest(point, f32::INFINITY).unwrap().0;
            prop_assert!((nearest(&refitted).distance(point) - nearest(&fresh).distance(point)).abs() < 1e-5);
            let ray = Ray::new(point, Vec3::new(0.3, -0.9, 0.2));
            let hit = |bvh: &Bvh| bvh.closest(&ray).map(|hit| hit.t);
            match (hit(&refitted), hit(&fresh)) {
                (Some(a), Some(b)) => prop_assert!((a - b).abs() < 1e-4),
                (a, b) => prop_assert_eq!(a, b),
            }
        }
    }

    /// A roof whose ridge lies along x at y = 0, which falls off by the slope on both sides, moved by a way in the step.
    fn roof(slope: f32, way: Vec3) -> MovingSurface {
        let mesh = primitive::plane(2.0, 2.0);
        let bent: Vec<Vec3> = (0..3)
            .flat_map(|row| {
                [-1.0, 1.0].map(|x| Vec3::new(x, if row == 1 { 0.0 } else { -slope }, row as f32 - 1.0))
            })
            .collect();
        let triangles = vec![[0, 2, 3], [0, 3, 1], [2, 4, 5], [2, 5, 3]];
        let mesh = Mesh { positions: bent, triangles, normals: Vec::new(), uvs: Vec::new(), ..mesh };
        let mut surface = MovingSurface::new(Arc::new(Topology::of(&mesh)), mesh.positions.clone());
        let moved: Vec<Vec3> = mesh.positions.iter().map(|p| *p + way).collect();
        surface.advance(&moved);
        surface
    }

    proptest! {
        #[test]
        fn a_ball_does_not_come_through_a_ridge(
            slope in 0.05f32..2.0, aside in -0.02f32..0.02, x in -0.5f32..0.5, rise in 0f32..0.5, below in proptest::bool::ANY,
        ) {
            let way = Vec3::new(0.0, rise, 0.0);
            // From above onto the ridge, or from below into the valley that it is there.
            let up = if below { -1.0 } else { 1.0 };
            let from = Vec3::new(x, 0.3 * up, aside);
            let to = Vec3::new(x, -0.3 * up, aside) + way;
            let hit = roof(slope, way).collide(from, 0.0, to, 0.05);
            prop_assert!(hit.is_some(), "{slope} {aside}");
            prop_assert!(hit.unwrap().normal.y * up > 0.0);
        }
    }

    #[test]
    fn a_ball_that_rests_on_a_face_and_goes_away_is_not_met() {
        let (_, surface) = square();
        let on = Vec3::new(0.2, 0.1, 0.2);
        assert!(surface.collide(on, 0.0, on + Vec3::Y, 0.1).is_none());
        assert_eq!(surface.collide(on, 0.0, on - Vec3::Y, 0.1).unwrap().t, 0.0);
        // Beside the square there is nothing to meet.
        let beside = Vec3::new(1.5, 0.5, 0.2);
        assert!(surface.collide(beside, 0.0, beside - Vec3::Y, 0.1).is_none());
    }

    #[test]
    fn both_sides_of_a_sheet_are_met() {
        let (_, surface) = square();
        let below = Vec3::new(0.2, -1.0, 0.2);
        let hit = surface.collide(below, 0.0, -below, 0.1).unwrap();
        assert!((hit.t - 0.45).abs() < 1e-4 && hit.normal == Vec3::NEG_Y, "{hit:?}");
    }
}
