//! Elements that are there only in part: each path sees an element whole, or not at all, so that glass, shadows and
//! mirrored light follow the opacity, and the picture is the mixture of that with the element and that without.

use crate::sampler::hash;
use geometry::Mesh;
use shot::Id;

/// The paths that meet an element: those whose number for that element lies in one range.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Presence {
    from: f32,
    to: f32,
}

/// The number of a path, 0–1, by which it meets elements that are there in part; none in a scene that has no such element.
#[derive(Clone, Copy)]
pub(crate) struct Dissolve(pub Option<f32>);

impl Presence {
    /// On all paths.
    pub const WHOLE: Self = Self { from: 0.0, to: 1.0 };

    /// On a fraction of the paths. A negative number is that fraction of the paths from the other end of their numbers, so
    /// that parts with the opacities w − 1 and w share the paths among them.
    pub fn new(opacity: f32) -> Self {
        let fraction = opacity.abs().min(1.0);
        if opacity < 0.0 { Self { from: 1.0 - fraction, to: 1.0 } } else { Self { from: 0.0, to: fraction } }
    }

    /// The fraction of the paths that meet it.
    pub fn fraction(self) -> f32 {
        self.to - self.from
    }

    /// What is left of it where the look has an opacity too.
    pub fn times(self, opacity: f32) -> Self {
        let part = self.fraction() * opacity.clamp(0.0, 1.0);
        if self.from > 0.0 { Self { from: self.to - part, ..self } } else { Self { to: part, ..self } }
    }

    /// Whether an element is there for a path.
    pub fn met_by(self, element: Id, path: Dissolve) -> bool {
        let Some(number) = path.0 else { return true };
        if self == Self::WHOLE {
            return true;
        }
        // Another number for each element, still evenly spread over the paths (R. Cranley and T. Patterson, *Randomization of
        // number theoretic methods for multiple integration*, 1976).
        let number = (number + hash(element.0 ^ 0x0d15_501e) as f32 / u32::MAX as f32).fract();
        number >= self.from && number < self.to
    }
}

/// Most parts that a mesh has before its opacities are rounded to eighths.
const MAX_PARTS: usize = 16;

/// A mesh in parts of equal opacity, each with all vertices and the faces whose first vertex has that opacity.
pub(crate) fn parts_of(mesh: Mesh, opacities: Option<&[f32]>) -> Vec<(Mesh, f32)> {
    let Some(opacities) = opacities else { return vec![(mesh, 1.0)] };
    let distinct = |of: &dyn Fn(&[u32; 3]) -> f32| {
        let mut each: Vec<f32> = mesh.triangles.iter().map(of).collect();
        each.sort_by(f32::total_cmp);
        each.dedup();
        each
    };
    let exact = |face: &[u32; 3]| opacities[face[0] as usize].clamp(-1.0, 1.0);
    let rounded = |face: &[u32; 3]| (8.0 * exact(face)).round() / 8.0;
    let mut each = distinct(&exact);
    let mut of: &dyn Fn(&[u32; 3]) -> f32 = &exact;
    if each.len() > MAX_PARTS {
        (each, of) = (distinct(&rounded), &rounded);
    }
    let part = |opacity: f32| {
        let triangles = mesh.triangles.iter().copied().filter(|face| of(face) == opacity).collect();
        (Mesh { triangles, ..mesh.clone() }, opacity)
    };
    each.into_iter().filter(|opacity| *opacity != 0.0).map(part).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;
    use rstest::rstest;

    fn met(presence: Presence, element: u32) -> Vec<bool> {
        let n = 1_000;
        (0..n).map(|i| presence.met_by(Id(element), Dissolve(Some((i as f32 + 0.5) / n as f32)))).collect()
    }

    #[rstest]
    #[case(0.0)]
    #[case(0.3)]
    #[case(1.0)]
    fn an_element_is_met_by_the_fraction_of_paths_that_its_opacity_is(#[case] opacity: f32) {
        for element in [1, 7, 900] {
            let count = |presence| met(presence, element).iter().filter(|met| **met).count() as f32 / 1_000.0;
            assert!((count(Presence::new(opacity)) - opacity).abs() < 2e-3);
            assert!((count(Presence::new(-opacity)) - opacity).abs() < 2e-3);
            assert!((count(Presence::new(opacity).times(0.5)) - 0.5 * opacity).abs() < 2e-3);
            assert!((count(Presence::new(-opacity).times(0.5)) - 0.5 * opacity).abs() < 2e-3);
        }
        assert!(Presence::new(opacity).met_by(Id(1), Dissolve(None)));
    }

    #[test]
    fn two_parts_that_go_over_into_each_other_share_the_paths() {
        let (a, b) = (met(Presence::new(0.7), 5), met(Presence::new(-0.3), 5));
        // Rounding may leave one path to both or to none.
        assert!(a.iter().zip(&b).filter(|(a, b)| a == b).count() <= 1);
    }

    #[test]
    fn a_mesh_has_a_part_for_each_opacity() {
        let mesh = primitive::cuboid(glam::Vec3::ONE, 0.1);
        let faces = mesh.triangles.len();
        assert_eq!(parts_of(mesh.clone(), None).len(), 1);
        let opacities: Vec<f32> =
            (0..mesh.positions.len()).map(|v| if v < 5 { 0.25 } else { -0.75 }).collect();
        let parts = parts_of(mesh.clone(), Some(&opacities));
        assert_eq!(parts.iter().map(|(_, opacity)| *opacity).collect::<Vec<_>>(), [-0.75, 0.25]);
        assert_eq!(parts.iter().map(|(part, _)| part.triangles.len()).sum::<usize>(), faces);
        assert!(parts_of(mesh.clone(), Some(&vec![0.0; opacities.len()])).is_empty());
        let many: Vec<f32> = (0..opacities.len()).map(|v| v as f32 / opacities.len() as f32).collect();
        assert!(parts_of(mesh, Some(&many)).len() <= 9);
    }
}
