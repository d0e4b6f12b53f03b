//! Cloths and soft bodies over HTTP: their maps, their materials, and what the Check list says of them.

use crate::desk::{Desk, deck, desk, solid};
use axum::http::StatusCode;
use rstest::rstest;
use serde_json::{Value, json};

/// A plane of 2 × 2 m with parts of a solid set.
fn sheet(parts: Value) -> Value {
    let mut element = solid(9, "Sheet", json!({"plane": {"size_m": [2.0, 2.0]}}), [0.0, 1.0, 0.0], json!({}));
    for (part, value) in parts.as_object().unwrap() {
        element["kind"]["solid"][part] = value.clone();
    }
    element
}

fn map(source: Value) -> Value {
    json!([{"name": "hem", "layers": [{"source": source}]}])
}

/// A cloth of two copies, of which the second is placed and turned about x.
fn two_sheets(position_m: [f64; 3], turn: f64) -> Value {
    let copy = |position_m: [f64; 3], turn: f64| json!({"position_m": position_m, "orientation_rad": [turn, 0.0, 0.0], "size": 1.0});
    json!({"cloth": {"edge_m": 0.1}, "placed": [copy([0.0; 3], 0.0), copy(position_m, turn)]})
}

async fn with(parts: Value) -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    desk.put(sheet(parts)).await;
    desk
}

async fn entries(desk: &Desk) -> Vec<Value> {
    let list = desk.get("/api/shots/1/check").await;
    list.as_array().unwrap().iter().filter(|e| e["mistake"] != json!("frames_missing")).cloned().collect()
}

#[rstest]
#[case(json!({"soft": {"edge_m": 0.05}}), "Sheet is open, so that it has no inside", "Make it cloth", "Made cloth")]
#[case(json!({"cloth": {"edge_m": 0.5}}), "has about 4 edges along its longest side", "Shorter edges", "Shorter edges")]
#[case(json!({"cloth": {"thickness_m": 0.02}}), "is 20.0 mm thick with edges of 30.0 mm", "Half an edge thick", "Half an edge thick")]
#[case(json!({"cloth": {"shut_in_air": 1.0}}), "no air can be shut in it", "Let air pass", "Air passes")]
#[case(
    json!({"cloth": {"pins": [{"part": {"side": "left"}}, {"part": {"map": "hem"}}]}, "maps": map(json!({"painted": {"strokes": []}}))}),
    "Pin 2 of Sheet holds nothing", "Remove the pin", "Pin removed"
)]
#[case(
    json!({"cloth": {}, "maps": map(json!({"painted": {"strokes": [
        {"effect": "add", "points_m": [[0.0, 0.7, 0.2], [0.3, 0.7, 0.2]], "radius_m": 0.2, "strength": 1.0, "softness": 0.5}
    ]}}))}),
    "The map hem of Sheet was painted on another mesh; strokes that lie off this one (1) act", "Lay them on the mesh", "Strokes laid on the mesh"
)]
#[case(
    two_sheets([0.0, 0.3, 0.013], 1.4),
    "crosses itself at", "Draw apart before the first frame", "Drawn apart before the first frame"
)]
#[case(two_sheets([0.0, 0.001, 0.0], 0.0), "lies 1.0 mm from another copy of it", "Thinner", "Thinner")]
#[tokio::test(flavor = "multi_thread")]
async fn what_is_likely_wrong_is_mended_at_a_press(
    #[case] parts: Value,
    #[case] reason: &str,
    #[case] label: &str,
    #[case] history: &str,
) {
    let desk = with(parts).await;
    let found = entries(&desk).await;
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(found[0]["reason"].as_str().unwrap().contains(reason), "{}", found[0]);
    assert_eq!(found[0]["fix"], json!(label));
    let body = json!({"mistake": found[0]["mistake"], "elements": found[0]["elements"]});
    let (status, shot) = desk.ask("POST", "/api/shots/1/fix", body).await;
    assert_eq!((status, &shot["undo"]), (StatusCode::OK, &json!(history)), "{shot}");
    assert_eq!(entries(&desk).await, Vec::<Value>::new());
}

/// A sheet of 2 × 2 m with a fin along the middle, and a face without an area.
const FINNED: &[u8] = b"v -1 0 -1\nv 0 0 -1\nv 1 0 -1\nv -1 0 1\nv 0 0 1\nv 1 0 1\nv 0 0.3 -1\nv 0 0.3 1\n\
    f 1 4 5\nf 1 5 2\nf 2 5 6\nf 2 6 3\nf 2 5 8\nf 2 8 7\nf 1 1 2\n";

#[tokio::test(flavor = "multi_thread")]
async fn a_mesh_that_is_no_surface_is_repaired_at_a_press() {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(deck(8)).await;
    let (_, uploaded) = desk.upload("/api/shots/1/assets?name=Finned.obj", FINNED).await;
    desk.set("/assets/Finned", uploaded["asset"].clone()).await;
    let shape = json!({"mesh": {"asset": "Finned", "scale": 1.0}});
    let mut sheet = solid(9, "Sheet", shape, [0.0, 1.0, 0.0], json!({}));
    sheet["kind"]["solid"]["cloth"] = json!({"edge_m": 0.1});
    let index = desk.put(sheet).await;
    let found = entries(&desk).await;
    assert_eq!(found.len(), 1, "{found:?}");
    assert!(found[0]["reason"].as_str().unwrap().contains("edges with more than two faces"), "{}", found[0]);
    let body = json!({"mistake": "unsound_mesh", "elements": [9]});
    let (status, shot) = desk.ask("POST", "/api/shots/1/fix", body).await;
    assert_eq!((status, &shot["undo"]), (StatusCode::OK, &json!("Mesh repaired")), "{shot}");
    assert_eq!(entries(&desk).await, Vec::<Value>::new());
    let asset = shot["document"]["elements"][index]["kind"]["solid"]["shape"]["mesh"]["asset"].clone();
    let (status, obj) = desk.bytes(&format!("/api/shots/1/assets/{}", asset.as_str().unwrap())).await;
    assert_eq!(status, StatusCode::OK);
    let faces = String::from_utf8(obj).unwrap().lines().filter(|line| line.starts_with("f ")).count();
    assert_eq!(faces, 4);
}

/// Finishing steps that change surfaces are left out where the shape is wanted as it was computed.
#[tokio::test(flavor = "multi_thread")]
async fn a_shape_is_handed_on_as_it_was_computed() {
    let desk = with(json!({"cloth": {"edge_m": 0.5}})).await;
    let thicken = json!({"operation": {"thicken": {"thickness_m": 0.02, "offset": 0.0}}});
    desk.put(json!({"id": 20, "name": "Thick", "kind": {"finish": thicken}})).await;
    desk.played().await;
    let vertices = async |query: &str| {
        let path = format!("/api/shots/1/meshes/obj?first=3&last=3&element=9{query}");
        let (status, obj) = desk.bytes(&path).await;
        assert_eq!(status, StatusCode::OK);
        String::from_utf8(obj).unwrap().lines().filter(|line| line.starts_with("v ")).count()
    };
    assert_eq!(vertices("&computed=true").await, 25);
    assert!(vertices("").await >= 50);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_map_is_sent_with_its_mesh_at_rest() {
    let parts = json!({"cloth": {"edge_m": 0.5}, "maps": map(json!({"side": {"side": "right"}}))});
    let desk = with(parts).await;
    let (status, bytes) = desk.bytes("/api/shots/1/maps/9/1?map=hem").await;
    assert_eq!(status, StatusCode::OK);
    let number = |at: usize| u32::from_le_bytes(bytes[4 * at..4 * at + 4].try_into().unwrap());
    let (vertices, triangles) = (number(0) as usize, number(1) as usize);
    assert_eq!((vertices, triangles), (25, 32));
    assert_eq!(bytes.len(), 4 * (2 + 3 * vertices + 3 * triangles + vertices));
    for vertex in 0..vertices {
        let (x, weight) = (number(2 + 3 * vertex), number(2 + 3 * vertices + 3 * triangles + vertex));
        assert!((f32::from_bits(weight) - 0.5 * (f32::from_bits(x) + 1.0)).abs() < 1e-6);
    }
    // Without a map the mesh comes alone.
    let (status, bytes) = desk.bytes("/api/shots/1/maps/9/1").await;
    assert_eq!(status, StatusCode::OK);
    assert!(bytes[bytes.len() - 4 * vertices..].iter().all(|byte| *byte == 0));
}

#[rstest]
#[case("/api/shots/1/maps/9/1?map=seam", 404, "a map \"seam\" of Sheet")]
#[case("/api/shots/1/maps/77/1?map=hem", 404, "element 77")]
#[case("/api/shots/1/maps/1/1", 422, "has no mesh")]
#[tokio::test(flavor = "multi_thread")]
async fn a_map_that_is_not_there_is_refused(#[case] path: &str, #[case] status: u16, #[case] detail: &str) {
    let desk = with(json!({"cloth": {}, "maps": map(json!({"whole": {}}))})).await;
    let (found, problem) = desk.ask("GET", path, Value::Null).await;
    assert_eq!(found.as_u16(), status, "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains(detail), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_material_of_ones_own_is_kept_replaced_and_deleted() {
    let desk = with(json!({"cloth": {"mass_kg_m2": 0.8, "pins": [{"part": {"side": "left"}}]}})).await;
    let keep = |name: &str| json!({"shot": 1, "element": 9, "name": name});
    let (status, _) = desk.ask("POST", "/api/materials", keep(" wet sail ")).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let own = |list: &Value| -> Vec<String> {
        let all = list["cloth"].as_array().unwrap().iter().filter(|of| of["own"] == json!(true));
        all.map(|of| of["name"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(own(&desk.get("/api/materials").await), ["wet sail"]);
    let last = desk.get("/api/shots/1").await["document"]["elements"].as_array().unwrap().len() - 1;
    desk.set(&format!("/elements/{last}/kind/solid/cloth/mass_kg_m2"), json!(0.2)).await;
    let moved = desk.get("/api/shots/1/toward/9?material=wet%20sail&degree=0.5").await;
    assert!((moved["mass_kg_m2"].as_f64().unwrap() - 0.4).abs() < 1e-6, "{moved}");
    assert_eq!(moved["pins"].as_array().unwrap().len(), 1, "pins stay");
    // Kept again it is replaced.
    desk.ask("POST", "/api/materials", keep("wet sail")).await;
    let moved = desk.get("/api/shots/1/toward/9?material=wet%20sail&degree=1").await;
    assert!((moved["mass_kg_m2"].as_f64().unwrap() - 0.2).abs() < 1e-6, "{moved}");
    let (status, _) = desk.ask("DELETE", "/api/materials/cloth/wet%20sail", Value::Null).await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(own(&desk.get("/api/materials").await), Vec::<String>::new());
    let (status, _) = desk.ask("DELETE", "/api/materials/cloth/wet%20sail", Value::Null).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}

#[rstest]
#[case(json!({"shot": 1, "element": 9, "name": "silk"}), "comes with the application")]
#[case(json!({"shot": 1, "element": 9, "name": "  "}), "from 1 to 80 characters")]
#[case(json!({"shot": 1, "element": 8, "name": "deck"}), "neither a free cloth nor a free soft body nor a liquid")]
#[tokio::test(flavor = "multi_thread")]
async fn a_material_that_cannot_be_kept_is_refused(#[case] body: Value, #[case] detail: &str) {
    let desk = with(json!({"cloth": {}})).await;
    let (status, problem) = desk.ask("POST", "/api/materials", body).await;
    assert!(status.is_client_error(), "{status}");
    assert!(problem["detail"].as_str().unwrap().contains(detail), "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sheet_that_begins_in_a_solid_is_put_on_top_of_it() {
    let desk = with(json!({"cloth": {"edge_m": 0.1}})).await;
    let block = solid(
        10,
        "Block",
        json!({"box": {"size_m": [0.5, 0.5, 0.5], "edge_m": 0.0}}),
        [0.0, 1.1, 0.0],
        json!({"moves": "still"}),
    );
    desk.put(block).await;
    let found = entries(&desk).await;
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!(found[0]["reason"], json!("Sheet begins partly within Block, and jumps out of it."));
    let body = json!({"mistake": found[0]["mistake"], "elements": found[0]["elements"]});
    let (status, shot) = desk.ask("POST", "/api/shots/1/fix", body).await;
    assert_eq!(status, StatusCode::OK, "{shot}");
    assert_eq!(entries(&desk).await, Vec::<Value>::new());
    let elements = shot["document"]["elements"].as_array().unwrap();
    let sheet = elements.iter().find(|of| of["name"] == "Sheet").unwrap();
    assert!((sheet["placement"]["position_m"][1].as_f64().unwrap() - 1.354).abs() < 1e-3, "{sheet}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_size_of_a_cloth_and_the_time_of_its_frames_are_foreseen() {
    let desk = with(json!({"cloth": {"edge_m": 0.1}})).await;
    let facts = desk.get("/api/shots/1/mesh_facts/9").await;
    let vertices = facts["vertices"].as_u64().unwrap();
    assert!((400..600).contains(&vertices), "{facts}");
    assert!(facts["seconds_a_frame"].as_f64().unwrap() > 0.0, "{facts}");
    assert_eq!((&facts["cells"], &facts["groups"]), (&Value::Null, &json!([])));
    let rigid = desk.get("/api/shots/1/mesh_facts/8").await;
    assert_eq!((&rigid["vertices"], &rigid["too_many"]), (&Value::Null, &Value::Null));
    desk.set("/elements/5/kind/solid/cloth/edge_m", json!(0.0005)).await;
    let many = desk.get("/api/shots/1/mesh_facts/9").await;
    assert!(many["too_many"].as_u64().unwrap() > 1_000_000, "{many}");
    let (status, _) = desk.ask("GET", "/api/shots/1/mesh_facts/77", Value::Null).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_cells_of_a_soft_body_and_the_waves_of_a_held_cloth_are_those_of_the_run() {
    let desk = with(json!({"cloth": {"edge_m": 0.2, "pins": [{"part": {"side": "left"}}]}})).await;
    desk.set("/timing/last", json!(4)).await;
    let mut block = solid(
        10,
        "Block",
        json!({"box": {"size_m": [0.4, 0.2, 0.2], "edge_m": 0.0}}),
        [0.0, 3.0, 0.0],
        json!({"moves": "free"}),
    );
    block["kind"]["solid"]["soft"] = json!({"cell_m": 0.2, "edge_m": 0.2});
    desk.put(block).await;
    desk.played().await;
    let waves = desk.get("/api/runs/1/waves/9").await;
    assert_eq!(waves["frames"], json!([1, 2, 3, 4]), "{waves}");
    assert!(waves["waves"].as_array().unwrap().iter().all(|of| of.as_f64().unwrap() < 2.0), "{waves}");
    // Two cells side by side have twenty sides.
    let (status, bytes) = desk.bytes("/api/runs/1/interior/10/2").await;
    assert_eq!((status, bytes.len()), (StatusCode::OK, 20 * 2 * 3 * 4));
    let points: Vec<f32> = bytes.chunks_exact(4).map(|b| f32::from_le_bytes(b.try_into().unwrap())).collect();
    assert!(points.chunks_exact(3).all(|p| p[0].abs() < 0.25 && (2.7..3.2).contains(&p[1])), "{points:?}");
    for path in ["/api/runs/1/waves/10", "/api/runs/1/interior/9/2", "/api/runs/1/interior/10/99"] {
        let (status, problem) = desk.ask("GET", path, Value::Null).await;
        assert_eq!(status, StatusCode::NOT_FOUND, "{path}: {problem}");
    }
}
