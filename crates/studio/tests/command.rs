//! The command: what it prints, and its exit codes.

use rstest::rstest;
use std::path::Path;
use std::process::{Command, Output};
use tempfile::TempDir;

fn run(arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_bright-ripple")).args(arguments).output().unwrap()
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn sample() -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    assert!(run(&["sample", "Crate tumble", "--out", at(dir.path(), "shot").as_str()]).status.success());
    dir
}

fn at(dir: &Path, name: &str) -> String {
    dir.join(name).to_str().unwrap().to_owned()
}

#[test]
fn a_shot_is_baked_probed_and_rendered_to_a_film() {
    let dir = sample();
    let [shot, run_dir, film, video] =
        ["shot/shot.json", "run", "film", "film.mp4"].map(|name| at(dir.path(), name));
    let baked = run(&["bake", &shot, "--out", &run_dir, "--frames", "1-6", "--threads", "1"]);
    assert!(baked.status.success());
    assert_eq!(text(&baked.stderr).lines().last(), Some("baked 6 of 6"));
    let csv = text(&run(&["probe", &run_dir, "--element", "Net floats", "--frames", "6"]).stdout);
    assert_eq!(csv.lines().count(), 1 + 8);
    let json = run(&["probe", &run_dir, "--format", "json"]).stdout;
    let totals: Vec<serde_json::Value> = serde_json::from_slice(&json).unwrap();
    assert!(totals.len() == 6 && totals[5]["contacts"].as_f64().unwrap() > 10.0);
    let size = ["--size", "64x36", "--samples", "1", "--format", "exr"];
    let mut arguments = vec!["render", &shot, "--run", &run_dir, "--out", &film, "--frames", "1-6"];
    arguments.extend(size);
    arguments.extend(["--video", video.as_str()]);
    let rendered = run(&arguments);
    assert!(rendered.status.success(), "{}", text(&rendered.stderr));
    assert!(dir.path().join("film/frame-00006.exr").exists());
    assert_eq!(&std::fs::read(&video).unwrap()[4..8], b"ftyp");
}

#[test]
fn pictures_of_another_size_camera_or_shot_are_rendered_again_and_told() {
    let dir = sample();
    let [shot, run_dir, film] = ["shot/shot.json", "run", "film"].map(|name| at(dir.path(), name));
    let baked = run(&["bake", &shot, "--out", &run_dir, "--frames", "1-2"]);
    assert!(baked.status.success());
    let picture = dir.path().join("film/frame-00002.png");
    let render = |size: &str, samples: &str| {
        let rendered = run(&[
            "render",
            &shot,
            "--run",
            &run_dir,
            "--out",
            &film,
            "--frames",
            "1-2",
            "--size",
            size,
            "--samples",
            samples,
        ]);
        assert!(rendered.status.success(), "{}", text(&rendered.stderr));
        (text(&rendered.stderr), std::fs::read(&picture).unwrap())
    };
    let again = "were made from something else and are rendered again";
    let (first, first_bytes) = render("32x18", "1");
    assert!(!first.contains(again), "{first}");
    let (kept, kept_bytes) = render("32x18", "1");
    assert!(!kept.contains(again) && kept_bytes == first_bytes, "{kept}");
    for (size, samples) in [("48x27", "1"), ("48x27", "2")] {
        let (told, bytes) = render(size, samples);
        assert!(told.contains("2 pictures") && told.contains(again) && bytes != first_bytes, "{told}");
    }
    // Another camera, and a run of an older state of the shot.
    let mut document: serde_json::Value = serde_json::from_slice(&std::fs::read(&shot).unwrap()).unwrap();
    let camera = document["camera"].clone();
    let moved = |element: &mut serde_json::Value, key: &str, value: serde_json::Value| {
        element["placement"][key] = value;
        element.as_object_mut().unwrap().remove("channels");
        element.as_object_mut().unwrap().remove("aim");
    };
    for element in document["elements"].as_array_mut().unwrap() {
        if element["id"] == camera {
            moved(element, "position_m", serde_json::json!([0.0, 3.0, 9.0]));
        }
    }
    std::fs::write(&shot, document.to_string()).unwrap();
    let (told, _) = render("48x27", "2");
    assert!(told.contains(again), "{told}");
    document["physics"]["substeps"] = serde_json::json!(3);
    std::fs::write(&shot, document.to_string()).unwrap();
    let (told, _) = render("48x27", "2");
    assert!(told.contains("2 frames") && told.contains("from before substeps changed"), "{told}");
}

#[test]
fn several_elements_are_probed_by_name_and_by_id() {
    let dir = sample();
    let [shot, run_dir] = ["shot/shot.json", "run"].map(|name| at(dir.path(), name));
    assert!(run(&["bake", &shot, "--out", &run_dir, "--frames", "1-2"]).status.success());
    let document: serde_json::Value = serde_json::from_slice(&std::fs::read(&shot).unwrap()).unwrap();
    let elements = document["elements"].as_array().unwrap();
    let id_of = |name: &str| elements.iter().find(|element| element["name"] == name).unwrap()["id"].clone();
    let (floats, block) = (id_of("Net floats"), id_of("Mooring block"));
    let id = block.to_string();
    let both = ["--element", "Net floats", "--element", &id, "--frames", "2", "--format", "json"];
    let printed = run(&[&["probe", &run_dir][..], &both].concat());
    let rows: Vec<serde_json::Value> = serde_json::from_slice(&printed.stdout).unwrap();
    let of = |id: &serde_json::Value| rows.iter().filter(|row| row["element"] == *id).count();
    assert_eq!((of(&floats), of(&block), rows.len()), (8, 1, 9));
    // Whole numbers stay whole.
    assert!(rows.iter().all(|row| row["frame"].is_u64()));
}

#[rstest]
#[case(&["check", "nowhere.json"], "nowhere.json: No such file")]
#[case(&["bake", "SHOT", "--out", "OUT", "--frames", "9-3"], "--frames 9-3: 9 comes after 3")]
#[case(&["bake", "SHOT", "--out", "OUT", "--frames", "1-999"], "--frames 1-999: there are frames 1-96")]
#[case(&["bake", "SHOT", "--out", "OUT", "--threads", "0"], "--threads 0: is outside 1 to 1024")]
#[case(&["probe", "OUT"], "run.json")]
#[case(&["render", "SHOT", "--run", "OUT", "--out", "OUT"], "run.json")]
fn bad_input_ends_with_2_and_one_line_that_says_where(#[case] arguments: &[&str], #[case] message: &str) {
    let dir = sample();
    let (shot, out) = (at(dir.path(), "shot/shot.json"), at(dir.path(), "out"));
    let arguments: Vec<&str> = arguments
        .iter()
        .map(|word| match *word {
            "SHOT" => shot.as_str(),
            "OUT" => out.as_str(),
            word => word,
        })
        .collect();
    let output = run(&arguments);
    assert_eq!(output.status.code(), Some(2));
    let said = text(&output.stderr);
    assert!(said.contains(message) && said.lines().count() == 1, "{said}");
}

#[test]
fn check_names_every_fault_by_its_path() {
    let dir = sample();
    let file = dir.path().join("shot/shot.json");
    let mut document: serde_json::Value = serde_json::from_slice(&std::fs::read(&file).unwrap()).unwrap();
    document["timing"]["fps"] = 0.into();
    document["physics"]["substeps"] = 9_999.into();
    std::fs::write(&file, document.to_string()).unwrap();
    let output = run(&["check", file.to_str().unwrap()]);
    assert_eq!(output.status.code(), Some(2));
    let said = text(&output.stdout);
    assert!(said.contains("timing.fps: 0 is outside 1 to 240"), "{said}");
    assert!(said.contains("physics.substeps: 9999 is outside 1 to 256"), "{said}");
}

#[test]
fn a_port_in_use_is_said() {
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = taken.local_addr().unwrap().port().to_string();
    let dir = tempfile::tempdir().unwrap();
    let output = run(&["serve", "--port", &port, "--data-dir", dir.path().to_str().unwrap()]);
    assert_eq!(output.status.code(), Some(2));
    assert!(text(&output.stderr).contains(&format!("port {port} is in use")));
}

#[test]
fn a_data_folder_that_cannot_be_written_is_said() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("file");
    std::fs::write(&file, "").unwrap();
    let output = run(&["serve", "--port", "0", "--data-dir", file.to_str().unwrap()]);
    assert_eq!(output.status.code(), Some(2));
    assert!(text(&output.stderr).contains("cannot be written"));
}

#[test]
fn a_frame_that_cannot_be_written_stops_the_bake_and_says_where() {
    let dir = sample();
    // A folder in the place of a frame cannot be written over.
    std::fs::create_dir_all(dir.path().join("run/checkpoints")).unwrap();
    std::fs::create_dir_all(dir.path().join("run/frames/solids/00004.brframe/x")).unwrap();
    let shot = at(dir.path(), "shot/shot.json");
    let output = run(&["bake", &shot, "--out", &at(dir.path(), "run"), "--frames", "1-8"]);
    assert_eq!(output.status.code(), Some(1));
    let said = text(&output.stderr);
    assert!(said.contains("00004.brframe"), "{said}");
    assert!(dir.path().join("run/frames/solids/00003.brframe").is_file());
    assert_eq!(std::fs::read_dir(dir.path().join("run/frames/solids")).unwrap().count(), 4);
}

#[test]
fn the_schema_is_json_schema() {
    let schema: serde_json::Value = serde_json::from_slice(&run(&["schema"]).stdout).unwrap();
    assert_eq!(schema["title"], "Shot");
}

#[rstest]
#[case("Crate tumble")]
#[case("Squall test")]
#[case("Float toss")]
#[case("Lantern parade")]
#[case("Brazier sparks")]
#[case("Scale shower")]
#[case("Ember fall")]
#[case("Gull scatter")]
#[case("Jar of light")]
fn every_sample_is_checked_and_baked(#[case] name: &str) {
    let dir = tempfile::tempdir().unwrap();
    let out = at(dir.path(), "shot");
    assert!(run(&["sample", name, "--out", &out]).status.success());
    let (shot, run_dir) = (format!("{out}/shot.json"), at(dir.path(), "run"));
    let checked = run(&["check", &shot]);
    assert!(
        checked.status.success() && text(&checked.stdout).contains("no faults"),
        "{}",
        text(&checked.stderr)
    );
    assert!(run(&["bake", &shot, "--out", &run_dir]).status.success());
}

#[test]
fn a_thrown_float_settles_in_its_basket() {
    let dir = tempfile::tempdir().unwrap();
    let out = at(dir.path(), "shot");
    assert!(run(&["sample", "Float toss", "--out", &out]).status.success());
    let run_dir = at(dir.path(), "run");
    assert!(run(&["bake", &format!("{out}/shot.json"), "--out", &run_dir]).status.success());
    let csv = text(&run(&["probe", &run_dir, "--element", "Float", "--frames", "96"]).stdout);
    let last: Vec<f64> = csv.lines().nth(1).unwrap().split(',').map(|part| part.parse().unwrap()).collect();
    let (x, y, z) = (last[3], last[4], last[5]);
    // The basket stands at x = 1.1; its floor is 0.24 m in radius, the float 0.115.
    assert!((x - 1.1).hypot(z) < 0.26 && (0.1..0.2).contains(&y), "{x} {y} {z}");
}

#[test]
fn particles_are_probed_and_a_run_is_rendered_backwards() {
    let dir = tempfile::tempdir().unwrap();
    let shot = at(dir.path(), "sparks");
    run(&["sample", "Brazier sparks", "--out", &shot]);
    let (file, out) = (format!("{shot}/shot.json"), at(dir.path(), "run"));
    assert!(run(&["bake", &file, "--out", &out, "--frames", "1-6"]).status.success());
    let csv = text(&run(&["probe", &out, "--element", "Sparks", "--frames", "1-1"]).stdout);
    let (head, rows) = csv.split_once('\n').unwrap();
    let position = "position_x_m,position_y_m,position_z_m";
    let velocity = "velocity_x_m_s,velocity_y_m_s,velocity_z_m_s";
    assert_eq!(head, format!("frame,time_s,particle,{position},{velocity},size_m,age_s,lifespan_s"));
    // 900 a second for a second and a half before the first frame, but for those that are gone.
    let count = rows.lines().count();
    assert!((700..1_350).contains(&count), "{count}");

    let film = at(dir.path(), "film");
    let arguments = ["render", &file, "--run", &out, "--out", &film, "--size", "16x16", "--samples", "1"];
    // Backwards the first frame shows the last of the shot, which is not baked.
    let refused = run(&[&arguments[..], &["--frames", "1-2", "--backwards"]].concat());
    assert_eq!(refused.status.code(), Some(2));
    assert!(text(&refused.stderr).contains("frame 95 is not in"), "{}", text(&refused.stderr));
    let shifted = run(&[&arguments[..], &["--frames", "95-96", "--backwards", "--shift", "-1"]].concat());
    assert!(shifted.status.success(), "{}", text(&shifted.stderr));
    assert!(std::path::Path::new(&format!("{film}/frame-00096.png")).exists());
}

#[test]
fn a_formula_that_is_wrong_is_told_by_its_path_and_place() {
    let dir = sample();
    let shot = at(dir.path(), "shot/shot.json");
    let mut document: serde_json::Value = serde_json::from_slice(&std::fs::read(&shot).unwrap()).unwrap();
    document["elements"][0]["channels"] =
        serde_json::json!({"kind.force.strength": {"expression": "1 + tyme"}});
    std::fs::write(&shot, document.to_string()).unwrap();
    let checked = run(&["check", &shot]);
    assert_eq!(checked.status.code(), Some(2));
    let said = text(&checked.stderr) + &text(&checked.stdout);
    assert!(
        said.contains("elements[0].channels.kind.force.strength.expression: at character 5: tyme"),
        "{said}"
    );
}

#[test]
fn a_formula_without_a_value_stops_the_bake_at_its_frame_and_keeps_those_before() {
    let dir = sample();
    let (shot, run_dir) = (at(dir.path(), "shot/shot.json"), at(dir.path(), "run"));
    let mut document: serde_json::Value = serde_json::from_slice(&std::fs::read(&shot).unwrap()).unwrap();
    document["elements"][0]["channels"] =
        serde_json::json!({"kind.force.strength": {"expression": "1 / (frame - 5)"}});
    std::fs::write(&shot, document.to_string()).unwrap();
    let baked = run(&["bake", &shot, "--out", &run_dir]);
    assert_eq!(baked.status.code(), Some(1));
    assert!(
        text(&baked.stderr).contains("frame 5: Gravity has a formula for strength"),
        "{}",
        text(&baked.stderr)
    );
    let frames = std::fs::read_dir(dir.path().join("run/frames/solids")).unwrap().count();
    assert_eq!(frames, 4);
}

#[test]
fn a_run_is_finished_into_a_run_of_its_own_and_probed_as_it_is_shown() {
    let dir = tempfile::tempdir().unwrap();
    let [folder, shot, run_dir, finished, film] =
        ["shot", "shot/shot.json", "run", "finished", "film"].map(|name| at(dir.path(), name));
    assert!(run(&["sample", "Slow toss", "--out", &folder]).status.success());
    assert!(run(&["bake", &shot, "--out", &run_dir]).status.success());
    let done = run(&["finish", &shot, "--run", &run_dir, "--out", &finished]);
    assert_eq!(text(&done.stderr).lines().last(), Some("finished 68 of 68"));
    // What the run was baked with is done to its frames, and the finished run has it done.
    let probe = |of: &str, more: &[&str]| {
        let csv = text(&run(&[&["probe", of, "--element", "Float"][..], more].concat()).stdout);
        let row = |line: &str| line.split(',').map(|value| value.parse::<f64>().unwrap()).collect::<Vec<_>>();
        csv.lines().skip(1).map(row).collect::<Vec<_>>()
    };
    let shown = probe(&run_dir, &[]);
    assert_eq!((shown.len(), probe(&run_dir, &["--computed"]).len()), (68, 48));
    // As exact as stored frames are, in m, m/s and rad/s.
    let stored = probe(&finished, &[]).concat();
    assert!(stored.iter().zip(shown.concat()).all(|(a, b)| (a - b).abs() <= 0.0051), "{stored:?}");
    // A film has the finished frames too, and none beyond.
    let render = |frames: &str| {
        run(&[
            "render",
            &shot,
            "--run",
            &run_dir,
            "--out",
            &film,
            "--frames",
            frames,
            "--size",
            "32x18",
            "--samples",
            "1",
        ])
    };
    assert!(render("60-61").status.success());
    let refused = render("60-69");
    assert_eq!(refused.status.code(), Some(2));
    assert!(text(&refused.stderr).contains("there are frames 1-68"), "{}", text(&refused.stderr));
}

#[test]
fn a_kept_run_that_a_step_shows_is_named_on_the_command_line() {
    let dir = tempfile::tempdir().unwrap();
    let [folder, shot, run_dir, out] =
        ["shot", "shot/shot.json", "run", "out"].map(|name| at(dir.path(), name));
    assert!(run(&["sample", "Float toss", "--out", &folder]).status.success());
    let mut document: serde_json::Value = serde_json::from_slice(&std::fs::read(&shot).unwrap()).unwrap();
    document["timing"]["last"] = 4.into();
    let step = serde_json::json!({"id": 900, "name": "Again", "kind": {"finish": {"operation": {"join": {"run": 2}}}}});
    document["elements"].as_array_mut().unwrap().push(step);
    std::fs::write(&shot, document.to_string()).unwrap();
    assert!(run(&["bake", &shot, "--out", &run_dir]).status.success());
    let alone = run(&["finish", &shot, "--run", &run_dir, "--out", &out]);
    assert!(alone.status.success());
    assert!(
        text(&alone.stderr).contains("Again: needs kept run 2, which is not there"),
        "{}",
        text(&alone.stderr)
    );
    let joined = run(&["finish", &shot, "--run", &run_dir, "--kept", &format!("2={run_dir}"), "--out", &out]);
    assert_eq!(text(&joined.stderr).lines().last(), Some("finished 8 of 8"));
    let bad = run(&["finish", &shot, "--run", &run_dir, "--kept", "two", "--out", &out]);
    assert_eq!(bad.status.code(), Some(2));
}

#[test]
fn frames_are_handed_on_as_meshes() {
    let dir = tempfile::tempdir().unwrap();
    let [shot, run_dir, glb, obj] =
        ["shot/shot.json", "run", "quay.glb", "quay.obj"].map(|name| at(dir.path(), name));
    assert!(run(&["sample", "Quay flags", "--out", &at(dir.path(), "shot")]).status.success());
    // Its flags are shown at other times; five frames are enough without.
    let mut document: serde_json::Value = serde_json::from_slice(&std::fs::read(&shot).unwrap()).unwrap();
    document["elements"].as_array_mut().unwrap().retain(|element| element["kind"]["finish"].is_null());
    std::fs::write(&shot, document.to_string()).unwrap();
    assert!(run(&["bake", &shot, "--out", &run_dir, "--frames", "1-5"]).status.success());
    let exported = run(&["export", &shot, "--run", &run_dir, "--frames", "1-5", "--out", &glb]);
    assert!(exported.status.success(), "{}", text(&exported.stderr));
    let read = interchange::read_sequence("quay.glb", &std::fs::read(&glb).unwrap(), 24.0).unwrap();
    assert_eq!((read.sequence.samples().len(), read.sequence.rate()), (5, 24.0));
    assert!(run(&["export", &shot, "--run", &run_dir, "--frames", "4-5", "--out", &obj]).status.success());
    let whole =
        interchange::read_mesh("quay.obj", &std::fs::read(dir.path().join("quay_00005.obj")).unwrap());
    let faces = |mesh: &geometry::Mesh| mesh.triangles.len();
    assert_eq!(faces(&whole.unwrap()), faces(read.sequence.rest()));
    let other = run(&["export", &shot, "--run", &run_dir, "--out", &at(dir.path(), "quay.fbx")]);
    assert_eq!(other.status.code(), Some(2));
    assert!(text(&other.stderr).contains("is none of .glb, .obj, .abc, .usda, .usdc, .usdz"));
    let usd = at(dir.path(), "quay.usda");
    assert!(run(&["export", &shot, "--run", &run_dir, "--frames", "1-5", "--out", &usd]).status.success());
    let stage = std::fs::read_to_string(&usd).unwrap();
    assert!(stage.starts_with("#usda 1.0") && stage.contains("endTimeCode = 5"));
    for prim in ["def Mesh \"Flag\"", "def PointInstancer \"Crate_pile\"", "def Camera \"Pier_camera\""] {
        assert!(stage.contains(prim), "{prim}");
    }
    // The crate file and the archive hold the same flag.
    for name in ["quay.usdc", "quay.abc"] {
        let file = at(dir.path(), name);
        assert!(
            run(&["export", &shot, "--run", &run_dir, "--frames", "1-5", "--out", &file]).status.success()
        );
        let scene = interchange::read_sequence(name, &std::fs::read(&file).unwrap(), 24.0).unwrap().sequence;
        assert_eq!((scene.samples().len(), scene.rate()), (5, 24.0), "{name}");
        assert_eq!(faces(scene.rest()), faces(read.sequence.rest()), "{name}");
    }
    let missing = run(&["export", &shot, "--run", &run_dir, "--frames", "9", "--out", &glb]);
    assert_eq!((missing.status.code(), text(&missing.stderr).contains("frame 9")), (Some(2), true));
}

#[test]
fn one_system_is_baked_alone_by_the_name_of_an_element() {
    let dir = tempfile::tempdir().unwrap();
    let [shot, run_dir] = ["shot/shot.json", "run"].map(|name| at(dir.path(), name));
    assert!(run(&["sample", "Brazier sparks", "--out", &at(dir.path(), "shot")]).status.success());
    let bake = |only: &str| run(&["bake", &shot, "--out", &run_dir, "--frames", "1-4", "--only", only]);
    let systems = || -> Vec<String> {
        let entries = std::fs::read_dir(dir.path().join("run/frames")).unwrap();
        entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect()
    };
    assert!(bake("Crates").status.success());
    assert_eq!(systems(), ["solids"]);
    assert!(bake("Sparks").status.success());
    assert_eq!(systems().len(), 2);
    let unknown = bake("Smoke");
    assert_eq!(unknown.status.code(), Some(2));
    assert!(text(&unknown.stderr).contains("--only Smoke: the shot computes"), "{}", text(&unknown.stderr));
}

/// A shot that goes round is baked until its state meets itself, and the command says where.
#[test]
fn a_shot_that_goes_round_is_baked_no_further_than_it_needs() {
    let dir = tempfile::tempdir().unwrap();
    let [shot, run_dir] = ["shot.json", "run"].map(|name| at(dir.path(), name));
    let mut document = shot::Shot::empty("Round");
    (document.timing.last, document.timing.loop_frames) = (60, Some(12));
    let dust = shot::particles::Particles {
        emission: shot::particles::Emission {
            schedule: shot::particles::EmissionSchedule::Rate { per_s: 30.0 },
            ..Default::default()
        },
        start: shot::particles::Start { lifespan_s: Some(0.3), ..Default::default() },
        ..Default::default()
    };
    document.add(shot::Element::new("Dust", shot::ElementKind::Particles(dust)));
    std::fs::write(&shot, serde_json::to_vec(&document).unwrap()).unwrap();
    let baked = run(&["bake", &shot, "--out", &run_dir]);
    assert!(baked.status.success(), "{}", text(&baked.stderr));
    assert_eq!(text(&baked.stderr).lines().last(), Some("went round: frame 25 is frame 13 again"));
    assert!(
        text(&run(&["bake", &shot, "--out", &run_dir]).stderr).lines().count() == 0,
        "nothing is left to do"
    );
}
