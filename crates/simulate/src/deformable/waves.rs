//! How many waves run along a held sheet.

use super::discretization::Discretization;
use super::torn::TornMesh;
use super::{MAX_NODES, sheet};
use frames::Frame;
use geometry::{Bvh, Mesh, Meshes, barycentric};
use glam::{Mat3, Vec3};
use shot::Element;

/// Lines along the sheet, and places on each.
const LINES: usize = 7;
const PLACES: usize = 96;
/// Part of the sheet's width at either side that has no line.
const MARGIN: f32 = 0.1;
/// A turning point counts if the line goes back from it by this part of the sheet's length, and of its greatest deflection.
const LEAST_OF_LENGTH: f32 = 0.004;
const LEAST_OF_DEFLECTION: f32 = 0.1;

/// A place on the mesh at rest.
type Place = ([u32; 3], [f32; 3]);

/// Counts the waves along a held sheet.
pub struct WaveCounter {
    element: shot::Id,
    vertices: usize,
    /// From where it is held to its free end.
    lines: Vec<Vec<Place>>,
    /// Length of the lines at rest, m.
    length: f32,
}

impl WaveCounter {
    /// Of a cloth that is held at a side, at corners or at points; none of others.
    pub fn new(element: &Element, meshes: &Meshes) -> Option<Self> {
        element.as_cloth()?;
        let mesh = meshes.deforming(element, MAX_NODES).ok()??.ok()?;
        let (of, _, edge_m, _) = sheet::torn_sheet(TornMesh::new(&mesh));
        let held = held_places(element, &of, edge_m)?;
        Self::along(element.id, &mesh, held)
    }

    /// Of a mesh that is held about a place at rest.
    fn along(element: shot::Id, mesh: &Mesh, held: Vec3) -> Option<Self> {
        let positions = &mesh.positions;
        let middle = positions.iter().sum::<Vec3>() / positions.len().max(1) as f32;
        let along = (middle - held).try_normalize()?;
        let normal: Vec3 = mesh
            .triangles
            .iter()
            .map(|t| {
                let [a, b, c] = t.map(|v| positions[v as usize]);
                (b - a).cross(c - a)
            })
            .sum();
        let across = normal.cross(along).try_normalize()?;
        let range = |axis: Vec3| {
            positions
                .iter()
                .map(|p| p.dot(axis))
                .fold((f32::INFINITY, f32::NEG_INFINITY), |(low, high), s| (low.min(s), high.max(s)))
        };
        let ((low, high), (left, right)) = (range(along), range(across));
        let bvh = Bvh::build(positions, &mesh.triangles);
        let off = middle - along * middle.dot(along) - across * middle.dot(across);
        let place = |line: usize, i: usize| {
            let t = MARGIN + (1.0 - 2.0 * MARGIN) * line as f32 / (LINES - 1) as f32;
            let s = i as f32 / (PLACES - 1) as f32;
            let at = off + along * (low + s * (high - low)) + across * (left + t * (right - left));
            let (on, face) = bvh.nearest(at, f32::INFINITY)?;
            let corners = mesh.triangles[face as usize];
            Some((corners, barycentric(corners.map(|v| positions[v as usize]), on)))
        };
        let line = |line: usize| (0..PLACES).map(|i| place(line, i)).collect::<Option<Vec<Place>>>();
        let lines = (0..LINES).map(line).collect::<Option<_>>()?;
        Some(Self { element, vertices: positions.len(), lines, length: high - low })
    }

    /// Waves along the sheet in a frame, the mean over its lines; no unit. A line that bulges to one side once has half a wave.
    /// None: the frame has no such mesh.
    pub fn count(&self, frame: &Frame) -> Option<f32> {
        let mesh = frame.meshes.get(&self.element)?;
        // Of copies the first is taken.
        let first = mesh.positions.get(..self.vertices)?;
        let sum: usize = self.lines.iter().map(|line| self.turning_points(line, first)).sum();
        Some(0.5 * sum as f32 / self.lines.len() as f32)
    }

    /// Number of turning points of a line's deflection from the straight line between its ends.
    fn turning_points(&self, line: &[Place], positions: &[Vec3]) -> usize {
        let at = |(corners, weights): &Place| -> Vec3 {
            corners.iter().zip(weights).map(|(v, weight)| positions[*v as usize] * *weight).sum()
        };
        let line: Vec<Vec3> = line.iter().map(at).collect();
        let (start, end) = (line[0], line[line.len() - 1]);
        let Some(chord) = (end - start).try_normalize() else { return 0 };
        let off: Vec<Vec3> = line.iter().map(|p| (*p - start).reject_from_normalized(chord)).collect();
        // The direction in which it deflects most, by power iteration.
        let outer = |sum: Mat3, r: &Vec3| sum + Mat3::from_cols(*r * r.x, *r * r.y, *r * r.z);
        let moments = off.iter().fold(Mat3::ZERO, outer);
        let furthest = |a: &&Vec3, b: &&Vec3| a.length_squared().total_cmp(&b.length_squared());
        let mut way = off.iter().max_by(furthest).map_or(Vec3::ZERO, |r| r.normalize_or_zero());
        for _ in 0..40 {
            way = (moments * way).normalize_or(way);
        }
        let deflections: Vec<f32> = off.iter().map(|r| r.dot(way)).collect();
        let most = deflections.iter().fold(0.0f32, |most, d| most.max(d.abs()));
        turning_points(&deflections, (LEAST_OF_LENGTH * self.length).max(LEAST_OF_DEFLECTION * most))
    }
}

/// Where the sheet is held: the mean of the places at rest that its pins hold.
fn held_places(element: &Element, of: &Discretization, edge_m: f64) -> Option<Vec3> {
    let lists = of.pinned(element.pins(), edge_m);
    let pins =
        element.pins().iter().zip(lists).filter(|(pin, _)| !matches!(pin.part, shot::PinnedPart::Whole {}));
    let nodes: Vec<u32> = pins.filter_map(|(_, list)| list).flatten().collect();
    let sum: Vec3 = nodes.iter().map(|node| of.rest[*node as usize].as_vec3()).sum();
    (!nodes.is_empty()).then(|| sum / nodes.len() as f32)
}

/// Extremes from which the values go back by at least so much, those at the ends not counted.
fn turning_points(values: &[f32], least: f32) -> usize {
    let Some(first) = values.first() else { return 0 };
    let (mut low, mut high, mut rises, mut count) = (*first, *first, None, 0);
    for &value in values {
        (low, high) = (low.min(value), high.max(value));
        match rises {
            None if high - value >= least && value < *first => (rises, low) = (Some(false), value),
            None if value - low >= least => (rises, high) = (Some(true), value),
            Some(true) if high - value >= least => {
                (rises, low) = (Some(false), value);
                count += 1;
            }
            Some(false) if value - low >= least => {
                (rises, high) = (Some(true), value);
                count += 1;
            }
            _ => {}
        }
    }
    count
}

#[cfg(test)]
mod tests {
    use super::*;
    use frames::{Bodies, MeshState};
    use geometry::{Topology, primitive};
    use glam::Quat;
    use rstest::rstest;
    use std::f32::consts::TAU;
    use std::sync::Arc;

    #[test]
    fn small_ripples_are_no_turning_points() {
        let wave = |i: usize| (TAU * 2.0 * i as f32 / 95.0).sin() + 0.01 * (i as f32).sin();
        let values: Vec<f32> = (0..96).map(wave).collect();
        assert_eq!(turning_points(&values, 0.1), 4);
        assert_eq!(turning_points(&[1.0; 20], 0.1), 0);
        assert_eq!(turning_points(&[], 0.1), 0);
    }

    /// A flag of 2 m with sine waves of any number, height and direction.
    #[rstest]
    fn waves_of_a_flag_are_counted(
        #[values(0.5, 1.0, 2.0, 3.5)] waves: f32,
        #[values(0.05, 0.2)] height: f32,
        #[values(0.0, 0.7, 2.0)] turn: f32,
    ) {
        let shape = shot::Shape::plane(2.0, 1.0);
        let mesh = Mesh::refined(&shape, primitive::plane(2.0, 1.0), 0.04, 100_000).unwrap();
        let id = shot::Id(3);
        let counter = WaveCounter::along(id, &mesh, Vec3::new(-1.0, 0.0, 0.0)).unwrap();
        let rotation = Quat::from_euler(glam::EulerRot::XYZ, turn, 0.3, -turn);
        let moved = |p: &Vec3| {
            let lift = height * (TAU * waves * (p.x + 1.0) / 2.0).sin();
            rotation * Vec3::new(p.x, lift, p.z)
        };
        let mut frame = Frame::default();
        let positions: Vec<Vec3> = mesh.positions.iter().map(moved).collect();
        let velocities = vec![Vec3::ZERO; positions.len()];
        let topology = Arc::new(Topology::of(&mesh));
        frame.meshes.insert(id, MeshState { topology, positions, velocities, attributes: Vec::new() });
        frame.bodies.insert(id, Bodies::default());
        let found = counter.count(&frame).unwrap();
        assert!((found - waves).abs() <= 0.25, "{found} for {waves}");
    }
}
