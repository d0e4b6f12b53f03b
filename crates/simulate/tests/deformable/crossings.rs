//! An exact test of edges against triangles, which is not the solver's.

use frames::Frame;
use geometry::{Bounds, Bvh};
use glam::{DVec3, Vec3};
use shot::Id;

/// Number of pairs of an edge and a triangle that cross, of some elements.
pub(crate) fn crossings(frame: &Frame, ids: &[Id]) -> usize {
    let (mut positions, mut triangles): (Vec<DVec3>, Vec<[u32; 3]>) = (Vec::new(), Vec::new());
    for id in ids {
        let (first, middle) = (positions.len() as u32, frame.bodies[id].positions[0].as_dvec3());
        // In double precision: rounded places of flat sheets cross.
        positions.extend(frame.meshes[id].positions.iter().map(|p| middle + p.as_dvec3()));
        triangles.extend(frame.meshes[id].topology.triangles().iter().map(|t| t.map(|p| p + first)));
    }
    let rounded: Vec<Vec3> = positions.iter().map(|p| p.as_vec3()).collect();
    let tree = Bvh::build(&rounded, &triangles);
    let at = |p: u32| positions[p as usize];
    let mut count = 0;
    for [a, b, c] in &triangles {
        for [p, q] in [[*a, *b], [*b, *c], [*c, *a]] {
            if p > q {
                continue;
            }
            let ends = [at(p), at(q)];
            let bounds = [p, q].iter().fold(Bounds::EMPTY, |bounds, p| bounds.with(rounded[*p as usize]));
            tree.overlapping(&bounds, |t| {
                let corners = triangles[t as usize];
                let shared = corners.iter().any(|corner| ends.contains(&at(*corner)));
                count += usize::from(!shared && crosses(at(p), at(q), corners.map(at)));
            });
        }
    }
    count
}

fn crosses(p: DVec3, q: DVec3, [a, b, c]: [DVec3; 3]) -> bool {
    let volume = |a: DVec3, b: DVec3, c: DVec3, d: DVec3| (b - a).cross(c - a).dot(d - a);
    if volume(a, b, c, p) * volume(a, b, c, q) >= 0.0 {
        return false;
    }
    let turns = [volume(p, q, a, b), volume(p, q, b, c), volume(p, q, c, a)];
    turns.iter().all(|t| *t > 0.0) || turns.iter().all(|t| *t < 0.0)
}
