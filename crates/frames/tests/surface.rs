//! Finishing steps that work on surfaces, on runs of known meshes.

use frames::finish::{FinishContext, SharedFrames, StepResult, finished};
use frames::{Bodies, Frame, MeshState, RunFolder, RunFrames, encode};
use geometry::{Mesh, Meshes, Topology, mass_properties, primitive};
use glam::{Quat, Vec2, Vec3};
use rstest::rstest;
use shot::finish::{Finish, FinishOperation, SubdivisionScheme};
use shot::motion::Channel;
use shot::{Element, ElementKind, Id, Moves, Shape, Shot, fingerprint::Fingerprint, particles::Particles};
use std::collections::BTreeMap;
use std::sync::Arc;

const LAST: u32 = 6;

/// A run of a waving sheet and of a crate that does not change its shape.
struct Baked {
    _dir: tempfile::TempDir,
    run: RunFolder,
    shot: Shot,
    sheet: Id,
    chest: Id,
}

/// A sheet of quads, 2 m × 1 m.
fn flat() -> Mesh {
    let (nx, nz) = (16u32, 8u32);
    let mut mesh = Mesh::default();
    for (j, i) in (0..=nz).flat_map(|j| (0..=nx).map(move |i| (j, i))) {
        let uv = Vec2::new(i as f32 / nx as f32, j as f32 / nz as f32);
        mesh.positions.push(Vec3::new(2.0 * uv.x, 0.0, uv.y));
        mesh.uvs.push(uv);
    }
    for (j, i) in (0..nz).flat_map(|j| (0..nx).map(move |i| (j, i))) {
        let at = |di: u32, dj: u32| (j + dj) * (nx + 1) + i + di;
        mesh.triangles.extend([[at(0, 0), at(0, 1), at(1, 1)], [at(0, 0), at(1, 1), at(1, 0)]]);
    }
    mesh.normals = vec![Vec3::Y; mesh.positions.len()];
    mesh
}

fn baked() -> Baked {
    let dir = tempfile::tempdir().unwrap();
    let run = RunFolder::create(dir.path().join("run")).unwrap();
    let mut shot = Shot::empty("S");
    shot.timing.last = LAST;
    let sheet = shot.add(Element::solid("Sheet", Shape::plane(2.0, 1.0), Moves::Animated));
    let chest = shot.add(Element::solid("Chest", Shape::cuboid(1.0, 1.0, 1.0), Moves::Free));
    let mesh = flat();
    let topology = Arc::new(Topology::of(&mesh));
    for number in 1..=LAST {
        let mut frame = Frame::new(number, shot.timing.seconds(number));
        frame.fingerprint = Fingerprint([number as u8; 16]);
        let wave = |p: &Vec3| Vec3::Y * 0.1 * (4.0 * p.x + number as f32).sin();
        let mesh = MeshState {
            topology: topology.clone(),
            positions: mesh.positions.iter().map(|p| *p + wave(p)).collect(),
            velocities: mesh.positions.iter().map(|p| Vec3::Y * p.x).collect(),
            attributes: Vec::new(),
        };
        for id in [sheet, chest] {
            let mut bodies = Bodies::default();
            bodies.push(Vec3::ZERO, Quat::IDENTITY, Vec3::ZERO, Vec3::ZERO);
            frame.bodies.insert(id, bodies);
        }
        frame.meshes.insert(sheet, mesh);
        run.write(&frame).unwrap();
    }
    Baked { _dir: dir, run, shot, sheet, chest }
}

fn subdivide(levels: u32) -> FinishOperation {
    FinishOperation::Subdivide {
        scheme: SubdivisionScheme::CatmullClark,
        levels,
        crease_angle_rad: None,
        crease_group: None,
        crease_map: None,
    }
}

impl Baked {
    fn step(&mut self, element: Option<Id>, operation: FinishOperation) -> Id {
        let order = self.shot.elements.len() as u32;
        let finish = Finish { element, order, ..Finish::new(operation) };
        self.shot.add(Element::new("Step", ElementKind::Finish(finish)))
    }

    fn results(&self) -> (SharedFrames, Vec<StepResult>) {
        assert_eq!(self.shot.faults(), []);
        let context = FinishContext::new(&self.shot, BTreeMap::new()).unwrap();
        let context = Arc::new(context.with_meshes(Meshes::default()));
        finished(Arc::new(RunFrames::of(self.run.clone(), &self.shot)), &context)
    }

    fn frames(&self) -> SharedFrames {
        let (frames, results) = self.results();
        assert!(results.iter().all(|result| result.problem.is_none()), "{results:?}");
        frames
    }

    fn problem(&self) -> String {
        self.results().1.into_iter().find_map(|result| result.problem).unwrap()
    }
}

#[test]
fn a_subdivided_sheet_has_more_faces_and_its_uvs_and_velocities() {
    let mut baked = baked();
    let before = baked.frames().frame(3).unwrap().meshes[&baked.sheet].clone();
    baked.step(Some(baked.sheet), subdivide(2));
    let frame = baked.frames().frame(3).unwrap();
    let mesh = &frame.meshes[&baked.sheet];
    assert_eq!(mesh.topology.triangles().len(), 16 * before.topology.triangles().len());
    for ((p, v), uv) in mesh.positions.iter().zip(&mesh.velocities).zip(mesh.topology.uvs()) {
        // Straight along z, and within the wave.
        assert!((p.z - uv.y).abs() < 0.02 && p.y.abs() < 0.101);
        assert!((v.y - p.x).abs() < 0.02, "velocities are those of what moves");
    }
    assert!(!frame.meshes.contains_key(&baked.chest));
}

/// Any frame, in any order, gives the same bytes.
#[test]
fn a_frame_does_not_depend_on_those_read_before() {
    let mut baked = baked();
    baked.step(
        Some(baked.sheet),
        FinishOperation::Subdivide {
            scheme: SubdivisionScheme::Loop,
            levels: 1,
            crease_angle_rad: Some(0.2),
            crease_group: None,
            crease_map: None,
        },
    );
    let bytes = |order: &[u32]| -> BTreeMap<u32, Vec<u8>> {
        let frames = baked.frames();
        order.iter().map(|&number| (number, encode(&frames.frame(number).unwrap()))).collect()
    };
    assert!(bytes(&[1, 2, 3, 4, 5, 6]) == bytes(&[5, 1, 6, 2, 4, 3]));
}

#[test]
fn a_body_that_does_not_change_its_shape_is_refined_too() {
    let mut baked = baked();
    baked.step(Some(baked.chest), subdivide(3));
    let frame = baked.frames().frame(2).unwrap();
    let mesh = frame.meshes[&baked.chest].mesh();
    let volume = mass_properties(&mesh).unwrap().volume;
    // The published volume of the limit of a cube is about 0.355 of it.
    assert!((0.3..0.45).contains(&volume), "{volume}");
}

/// A changed shape makes other frames of a stale run: they have another fingerprint.
#[test]
fn the_shape_of_a_body_is_part_of_what_its_frames_are_made_from() {
    let mut baked = baked();
    baked.step(Some(baked.chest), subdivide(1));
    let before = baked.frames();
    let place = baked.shot.elements.iter().position(|element| element.id == baked.chest).unwrap();
    baked.shot.elements[place].as_solid_mut().unwrap().shape = Shape::cuboid(2.0, 1.0, 1.0);
    let after = baked.frames();
    assert_ne!(before.fingerprint(2), after.fingerprint(2));
    let widest = |frames: &SharedFrames| {
        let frame = frames.frame(2).unwrap();
        frame.meshes[&baked.chest].positions.iter().map(|p| p.x).fold(0.0, f32::max)
    };
    assert!((widest(&after) / widest(&before) - 2.0).abs() < 0.2);
}

#[test]
fn thickness_is_keyed_and_closes_the_sheet() {
    let mut baked = baked();
    let step = baked.step(None, FinishOperation::Thicken { thickness_m: 0.02, offset: 0.0 });
    let keys = Channel::keyed([(1.0, 0.02f32), (5.0, 0.1)]);
    let element = baked.shot.elements.iter_mut().find(|element| element.id == step).unwrap();
    element.channels.insert("kind.finish.operation.thicken.thickness_m".to_owned(), keys);
    let frames = baked.frames();
    let volume = |number: u32| {
        mass_properties(&frames.frame(number).unwrap().meshes[&baked.sheet].mesh()).unwrap().volume
    };
    assert!((volume(5) / volume(1) - 5.0).abs() < 0.05, "{} {}", volume(1), volume(5));
    assert_ne!(frames.fingerprint(1), frames.fingerprint(5));
}

#[test]
fn a_smoothed_shape_keeps_its_waves_and_its_size() {
    let mut baked = baked();
    let rough = baked.frames().frame(2).unwrap().meshes[&baked.sheet].clone();
    baked.step(Some(baked.sheet), FinishOperation::SmoothShape { passes: 60 });
    let smooth = baked.frames().frame(2).unwrap().meshes[&baked.sheet].clone();
    let most = |of: &[Vec3], part: fn(&Vec3) -> f32| of.iter().map(part).fold(f32::MIN, f32::max);
    assert_eq!(rough.topology, smooth.topology);
    // Waves that are long against the faces pass; roughness is a matter of geometry's tests.
    assert!((most(&smooth.positions, |p| p.y) - most(&rough.positions, |p| p.y)).abs() < 0.02);
    assert_ne!(rough.positions, smooth.positions);
    assert!((most(&smooth.positions, |p| p.x) - 2.0).abs() < 0.1);
}

#[test]
fn steps_follow_each_other() {
    let mut baked = baked();
    baked.step(Some(baked.sheet), subdivide(1));
    baked.step(Some(baked.sheet), FinishOperation::Thicken { thickness_m: 0.05, offset: 1.0 });
    baked.step(None, FinishOperation::Reverse {});
    let frames = baked.frames();
    let mesh = frames.frame(1).unwrap().meshes[&baked.sheet].mesh();
    assert!(mass_properties(&mesh).unwrap().volume > 0.05 * 1.9);
    assert_eq!(frames.range(), 1..=LAST);
}

#[rstest]
#[case::group(Some("rim"), None, "rim, which the mesh does not have")]
#[case::map(None, Some("uv"), "uv, which is no number by vertex")]
fn creases_by_what_is_not_there_are_told_on_the_row(
    #[case] group: Option<&str>,
    #[case] map: Option<&str>,
    #[case] says: &str,
) {
    let mut baked = baked();
    baked.step(
        Some(baked.sheet),
        FinishOperation::Subdivide {
            scheme: SubdivisionScheme::CatmullClark,
            levels: 1,
            crease_angle_rad: None,
            crease_group: group.map(str::to_owned),
            crease_map: map.map(str::to_owned),
        },
    );
    assert!(baked.problem().contains(says), "{}", baked.problem());
    // The unfinished frames are shown.
    let (frames, _) = baked.results();
    assert_eq!(frames.frame(1).unwrap().meshes[&baked.sheet].positions.len(), 17 * 9);
}

#[test]
fn what_has_no_surface_and_what_would_be_too_large_is_told() {
    let mut baked = baked();
    let dust = baked.shot.add(Element::new("Dust", ElementKind::Particles(Particles::default())));
    baked.step(Some(dust), subdivide(1));
    assert!(baked.problem().contains("Dust has none"));
    let mut baked = self::baked();
    baked.shot.named_mut("Chest").unwrap().as_solid_mut().unwrap().shape = Shape::sphere(1.0);
    baked.step(Some(baked.chest), subdivide(6));
    assert!(baked.problem().contains("at most"), "{}", baked.problem());
    let sphere = primitive::sphere(1.0, primitive::AROUND);
    assert!(sphere.triangles.len() * 4usize.pow(6) > geometry::subdivision::MAX_FACES);
}
