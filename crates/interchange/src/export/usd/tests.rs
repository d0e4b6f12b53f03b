use super::*;
use crate::export::fixture::{pose, scene};
use geometry::primitive;
use glam::Quat;
use openusd::sdf::AbstractData;
use rstest::rstest;

/// What a text says.
fn read(bytes: &[u8]) -> sdf::Data {
    openusd::usda::parse(std::str::from_utf8(bytes).unwrap()).unwrap()
}

fn value(data: &dyn AbstractData, path: &str, field: &str) -> Value {
    data.get_field(&sdf::Path::new(path).unwrap(), field).unwrap().into_owned()
}

fn samples(data: &dyn AbstractData, path: &str) -> Vec<(f64, Value)> {
    match value(data, path, "timeSamples") {
        Value::TimeSamples(samples) => samples,
        other => panic!("{path}: {other:?}"),
    }
}

#[test]
fn a_stage_is_read_back_with_its_times_and_values() {
    let bytes = write_usd(&scene(), UsdForm::Text).unwrap();
    let data = read(&bytes);
    for (field, expected) in [("startTimeCode", 1.0), ("endTimeCode", 3.0), ("timeCodesPerSecond", 24.0)] {
        assert_eq!(value(&data, "/", field), Value::Double(expected));
    }
    let moved = samples(&data, "/Shot/Fish_crate.xformOp:translate");
    assert_eq!(moved.iter().map(|(time, _)| *time).collect::<Vec<_>>(), [1.0, 2.0, 3.0]);
    assert_eq!(moved[1].1, Value::Vec3d(gf::Vec3d { x: 2.0, y: 1.0, z: -2.0 }));
    // What is the same in all frames is there once.
    assert!(
        matches!(value(&data, "/Shot/Fish_crate.points", "default"), Value::Vec3fVec(p) if p.len() == 24)
    );
    assert!(!data.has_field(&sdf::Path::new("/Shot/Fish_crate.points").unwrap(), "timeSamples"));
    // A second element of a name gets another.
    let sheet = samples(&data, "/Shot/Fish_crate_2.points");
    let Value::Vec3fVec(points) = &sheet[2].1 else { panic!("points") };
    assert_eq!((sheet.len(), points[0].y), (3, 3.0));
    // Velocities have the times of their positions.
    let velocities = samples(&data, "/Shot/Fish_crate_2.velocities");
    assert!(velocities.len() == 3 && matches!(&velocities[1].1, Value::Vec3fVec(v) if v[0].y == 24.0));
    // Particles are born.
    let born = samples(&data, "/Shot/_2_sparks.points");
    let count = |value: &Value| if let Value::Vec3fVec(list) = value { list.len() } else { 0 };
    assert_eq!(born.iter().map(|(_, value)| count(value)).collect::<Vec<_>>(), [1, 2, 3]);
    let degrees = samples(&data, "/Shot/Floats.angularVelocities").swap_remove(0).1;
    assert!(matches!(degrees, Value::Vec3fVec(v) if (v[0].y - 171.887).abs() < 1e-3));
    assert_eq!(value(&data, "/Shot/Floats/prototype", "typeName"), Value::Token("Mesh".into()));
    assert_eq!(value(&data, "/Shot/Camera.focalLength", "default"), Value::Float(35.0));
    assert_eq!(value(&data, "/Shot/Sun", "typeName"), Value::Token("DistantLight".into()));
}

/// All forms are read back as the same scene: meshes, copies, and points as round meshes.
#[rstest]
#[case("usda")]
#[case("usdc")]
#[case("usdz")]
fn what_is_written_is_read_back(#[case] extension: &str) {
    let form = UsdForm::of_extension(extension).unwrap();
    let (name, bytes) = (format!("shot.{extension}"), write_usd(&scene(), form).unwrap());
    let read = crate::read_sequence(&name, &bytes, 30.0).unwrap().sequence;
    assert_eq!((read.rate(), read.samples().len()), (24.0, 3));
    // A crate of 24 vertices, a sheet of 4, two copies of the crate, and 3 sparks of 20 flat faces.
    let last = &read.samples()[2];
    assert_eq!(last.positions.len(), 24 + 4 + 48 + 180);
    let (position, orientation, _) = pose(3.0);
    let corner = position + orientation * primitive::cuboid(Vec3::ONE, 0.0).positions[0];
    assert!(last.positions[0].distance(corner) < 1e-6, "{}", last.positions[0]);
    assert_eq!(last.positions[24].y, 4.0 + primitive::plane(1.0, 1.0).positions[0].y);
}

#[rstest]
#[case(UsdForm::Text, b"#usda 1.0")]
#[case(UsdForm::Binary, b"PXR-USDC")]
#[case(UsdForm::Package, b"PK\x03\x04")]
fn each_form_begins_as_the_format_says(#[case] form: UsdForm, #[case] start: &[u8]) {
    let bytes = write_usd(&scene(), form).unwrap();
    assert!(bytes.starts_with(start));
    // The same stage is the same bytes.
    assert!(bytes == write_usd(&scene(), form).unwrap());
}

/// The turn of a light takes −y to −z.
#[test]
fn a_light_shines_where_ours_does() {
    let data = read(&write_usd(&scene(), UsdForm::Text).unwrap());
    let Value::Quatf(q) = value(&data, "/Shot/Sun.xformOp:orient", "default") else { panic!("a turn") };
    let shines = Quat::from_xyzw(q.x, q.y, q.z, q.w) * Vec3::NEG_Z;
    assert!(shines.distance(Quat::from_rotation_y(0.0) * Vec3::NEG_Y) < 1e-6, "{shines}");
}
