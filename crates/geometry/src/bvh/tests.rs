use super::*;
use crate::primitive;
use proptest::prelude::*;

fn brute(positions: &[Vec3], triangles: &[[u32; 3]], ray: &Ray) -> f32 {
    let mut nearest = f32::INFINITY;
    for t in triangles {
        let [a, b, c] = t.map(|v| positions[v as usize].as_dvec3());
        let (d, o) = (ray.direction.as_dvec3(), ray.origin.as_dvec3());
        let (e1, e2) = (b - a, c - a);
        let p = d.cross(e2);
        let inverse = 1.0 / e1.dot(p);
        let s = o - a;
        let (u, q) = (s.dot(p) * inverse, s.cross(e1));
        let (v, t) = (d.dot(q) * inverse, e2.dot(q) * inverse);
        if u >= 0.0 && v >= 0.0 && u + v <= 1.0 && t > 0.0 {
            nearest = nearest.min(t as f32);
        }
    }
    nearest
}

fn vector(range: f32) -> impl Strategy<Value = Vec3> {
    [-range..range, -range..range, -range..range].prop_map(Vec3::from)
}

proptest! {
    #[test]
    fn closest_is_what_testing_every_triangle_gives(origin in vector(3.0), target in vector(0.5)) {
        let mesh = primitive::torus(1.0, 0.4, primitive::AROUND);
        let bvh = Bvh::build(&mesh.positions, &mesh.triangles);
        let ray = Ray::new(origin, (target - origin).normalize());
        let expected = brute(&mesh.positions, &mesh.triangles, &ray);
        let found = bvh.closest(&ray).map_or(f32::INFINITY, |hit| hit.t);
        prop_assert!(found == expected || (found - expected).abs() < 1e-4, "{found} {expected}");
        let portable = walk::portable_closest(&bvh, &ray).map_or(f32::INFINITY, |hit| hit.t);
        prop_assert!(portable == expected || (portable - expected).abs() < 1e-4);
        prop_assert_eq!(bvh.any(&ray), found.is_finite());
    }
}

#[test]
fn the_walk_over_items_meets_every_box_on_the_way() {
    let bounds: Vec<_> = (0..100)
        .map(|i| Bounds { min: Vec3::new(i as f32, -0.4, -0.4), max: Vec3::new(i as f32 + 0.5, 0.4, 0.4) })
        .collect();
    let tree = Tree::build(&bounds);
    let mut met = Vec::new();
    tree.walk(&Ray::new(Vec3::new(-1.0, 0.0, 0.0), Vec3::X), |item| {
        met.push(item);
        f32::INFINITY
    });
    met.sort_unstable();
    assert_eq!(met, (0..100).collect::<Vec<_>>());
}

#[test]
fn an_empty_hierarchy_is_never_hit() {
    assert_eq!(Bvh::build(&[], &[]).closest(&Ray::new(Vec3::ZERO, Vec3::X)), None);
}

#[test]
fn a_ray_along_an_axis_hits_a_box_face_on() {
    let mesh = primitive::cuboid(Vec3::ONE, 0.0);
    let bvh = Bvh::build(&mesh.positions, &mesh.triangles);
    for axis in [Vec3::X, Vec3::Y, Vec3::Z, Vec3::NEG_X, Vec3::NEG_Y, Vec3::NEG_Z] {
        let hit =
            bvh.closest(&Ray::new(-3.0 * axis + Vec3::splat(0.1) * (Vec3::ONE - axis.abs()), axis)).unwrap();
        assert!((hit.t - 2.5).abs() < 1e-5);
    }
}
