//! The order of faces in which each most often lies beside the one before: what names them then takes little room.

use super::neighbours::{NONE, neighbours};

/// Puts the faces of a mesh into strips that wind around it: a face follows across an edge of the one before, which is its first
/// edge. Vertices are numbered anew as the faces come to them, then those without a face. Gives the vertex that each was.
pub fn into_strips(triangles: &mut Vec<[u32; 3]>, vertices: usize) -> Vec<u32> {
    let across = neighbours(triangles, vertices, |v| v);
    let (mut taken, mut waiting) = (vec![false; triangles.len()], Vec::new());
    let (mut number, mut was) = (vec![NONE; vertices], Vec::with_capacity(vertices));
    let mut numbered = |v: u32| {
        let number = &mut number[v as usize];
        if *number == NONE {
            *number = was.len() as u32;
            was.push(v);
        }
        *number
    };
    let mut strips = Vec::with_capacity(triangles.len());
    for start in 0..triangles.len() as u32 {
        waiting.push((start, 0));
        while let Some((triangle, first)) = waiting.pop() {
            if std::mem::replace(&mut taken[triangle as usize], true) {
                continue;
            }
            let edge = |i: usize| (first + i) % 3;
            let t = &triangles[triangle as usize];
            strips.push([0, 1, 2].map(|i| numbered(t[edge(i)])));
            for i in [edge(1), edge(2)] {
                let other = across[triangle as usize][i];
                if other != NONE && !taken[other as usize] {
                    // The edge as the other face has it, if both are wound alike.
                    let end = t[(i + 1) % 3];
                    let first = triangles[other as usize].iter().position(|v| *v == end);
                    waiting.push((other, first.unwrap_or(0)));
                }
            }
        }
    }
    *triangles = strips;
    for v in 0..vertices as u32 {
        numbered(v);
    }
    was
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, primitive};
    use rstest::rstest;

    #[rstest]
    #[case::closed(primitive::torus(1.0, 0.3, 40))]
    #[case::open(primitive::plane(1.0, 1.0))]
    #[case::split(primitive::cuboid(glam::Vec3::ONE, 0.0))]
    fn the_faces_are_the_same_and_follow_each_other(#[case] mesh: Mesh) {
        let mut strips = mesh.triangles.clone();
        let was = into_strips(&mut strips, mesh.positions.len());
        // From the least corner on, so that it does not count which is first.
        let turned = |t: [u32; 3]| {
            let least = (0..3).min_by_key(|i| t[*i]).unwrap();
            [t[least], t[(least + 1) % 3], t[(least + 2) % 3]]
        };
        let mut old: Vec<_> = mesh.triangles.iter().map(|t| turned(*t)).collect();
        let mut new: Vec<_> = strips.iter().map(|t| turned(t.map(|v| was[v as usize]))).collect();
        old.sort_unstable();
        new.sort_unstable();
        assert_eq!(old, new);
        let mut numbers = was.clone();
        numbers.sort_unstable();
        assert!(numbers.iter().copied().eq(0..mesh.positions.len() as u32));
        // Vertices come one after the other.
        let mut next = 0;
        for v in strips.iter().flatten() {
            assert!(*v <= next);
            next = next.max(v + 1);
        }
        let follows = |pair: &&[[u32; 3]]| pair[1][..2].iter().all(|v| pair[0].contains(v));
        let following = strips.windows(2).filter(follows).count();
        assert!(
            mesh.triangles.len() < 100 || following > strips.len() / 2,
            "{following} of {}",
            strips.len()
        );
    }
}
