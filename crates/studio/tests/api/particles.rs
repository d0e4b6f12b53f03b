//! Particles: saved, played, measured, shown backwards.

use crate::desk::{Desk, ball, deck, desk, wait_for};
use axum::http::StatusCode;
use serde_json::{Value, json};

async fn sparks(particles: Value) -> Desk {
    let desk = desk().await;
    desk.new_shot().await;
    desk.put(json!({"id": 9, "name": "Sparks", "kind": {"particles": particles}})).await;
    desk
}

#[tokio::test(flavor = "multi_thread")]
async fn births_and_deaths_are_told_frame_by_frame() {
    let births = json!({"schedule": { "total": {"count": 55}}, "from_frame": 1, "to_frame": 12});
    let desk =
        sparks(json!({"emission": births, "start": {"lifespan_s": 0.2, "lifespan_variation": 0.0}})).await;
    desk.played().await;
    let measured = desk.get("/api/runs/1/measured").await;
    let of = &measured["particles"][0];
    assert_eq!(of["element"], json!(9));
    let sum = |list: &str| of[list].as_array().unwrap().iter().map(|n| n.as_u64().unwrap()).sum::<u64>();
    assert_eq!(sum("born"), 55);
    let alive = of["alive"].as_array().unwrap().last().unwrap().as_u64().unwrap();
    assert_eq!(sum("born") - sum("gone"), alive);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_frame_for_the_viewport_has_its_particles_after_the_bodies() {
    let desk = sparks(json!({"emission": {"schedule": {"burst": {"count": 3}}}})).await;
    desk.played().await;
    let (_, frame) = desk.bytes("/api/runs/1/frames/4").await;
    let u32_at = |at: usize| u32::from_le_bytes(frame[at..at + 4].try_into().unwrap());
    assert_eq!([0, 4, 8, 12, 16, 20, 24].map(u32_at), [4, 1, 0, 0, 1, 9, 3]);
    assert_eq!(frame.len(), 28 + 3 * 28 + 4);
}

/// A page gets only what it shows, and no more particles than it can draw; its tags tell them apart.
#[tokio::test(flavor = "multi_thread")]
async fn a_page_gets_the_part_of_a_frame_that_it_shows() {
    let desk = sparks(json!({"emission": {"schedule": {"burst": {"count": 4000}}}})).await;
    desk.put(ball(11, "Ball")).await;
    desk.played().await;
    let of = async |query: &str| {
        let (status, frame) = desk.bytes(&format!("/api/runs/1/frames/4{query}")).await;
        assert_eq!(status, StatusCode::OK, "{query}");
        [4, 12].map(|at| u32::from_le_bytes(frame[at..at + 4].try_into().unwrap())).to_vec()
    };
    assert_eq!(of("").await, [1, 1]);
    assert_eq!(of("?without=11").await, [1, 0]);
    assert_eq!(of("?without=11,9&most=1000000").await, [1, 0]);
    assert_eq!(of("?most=1000").await, [4, 1]);
    let (_, few) = desk.bytes("/api/runs/1/frames/4?without=11&most=1000").await;
    // About 1,000 are expected of 4,000; a good hash is within five standard deviations.
    let count = u32::from_le_bytes(few[24..28].try_into().unwrap());
    assert!(count.abs_diff(1000) < 5 * 28, "{count}");
    for (query, said) in [("?without=sparks", "no list of ids"), ("?most=-1", "most")] {
        let (status, problem) = desk.ask("GET", &format!("/api/runs/1/frames/4{query}"), Value::Null).await;
        assert!(status.is_client_error(), "{status}");
        assert!(problem["detail"].as_str().unwrap().contains(said), "{problem}");
    }
    let many = (0..6000).map(|id| id.to_string()).collect::<Vec<_>>().join(",");
    let (status, problem) =
        desk.ask("GET", &format!("/api/runs/1/frames/4?without={many}"), Value::Null).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{problem}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_of_what_they_look_like_makes_nothing_stale() {
    let desk = sparks(json!({})).await;
    desk.played().await;
    desk.set("/elements/4/kind/particles/appearance/form", json!("disc")).await;
    desk.set("/elements/4/kind/particles/look/roughness", json!(0.9)).await;
    assert_eq!(desk.get("/api/shots/1/freshness").await["stretches"][0]["state"], json!("fresh"));
    desk.set("/elements/4/kind/particles/contact/restitution", json!(0.9)).await;
    let stale = desk.get("/api/shots/1/freshness").await;
    // The first frame is as staged: nothing has met anything yet.
    assert_eq!(stale["stretches"][0]["last"], json!(1));
    assert_eq!(stale["stretches"][1]["reason"], json!("before meeting of Sparks changed"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_is_refused_with_its_path() {
    let desk = sparks(json!({})).await;
    for (path, value, said) in [
        (
            "emission/schedule",
            json!({"rate": {"per_s": -1.0}}),
            "elements[4].kind.particles.emission.schedule.rate.per_s",
        ),
        ("emission/schedule", json!({"total": {"count": 10_000_000_000u64}}), "emission.schedule.total"),
        ("start/size_m", json!(0.0), "elements[4].kind.particles.start.size_m: 0 is outside"),
        ("start/lifespan_s", json!(0.0), "elements[4].kind.particles.start.lifespan_s"),
        ("source", json!({"solid": {"solid": 77}}), "77 is not the id of a solid"),
        (
            "events",
            json!([{"trigger": {"end": {}}, "action": {"solid": {"solid": 3}}}]),
            "comes from particles",
        ),
        ("emission/map", json!({"source": {"vertices": {}}}), "needs particles that are born on a shape"),
        (
            "emission",
            json!({"map": {"source": {"image": {"asset": "snow"}}}}),
            "emission.map.source.image.asset",
        ),
    ] {
        let patch =
            json!([{"op": "add", "path": format!("/elements/4/kind/particles/{path}"), "value": value}]);
        let change = json!({"base": 2, "label": "Wrong", "patch": patch});
        let (status, problem) = desk.ask("PATCH", "/api/shots/1", change).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{path}");
        assert!(problem.to_string().contains(said), "{path}: {problem}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_bake_of_too_many_says_how_many_and_how_much_and_keeps_the_frames_before() {
    let desk = sparks(json!({"emission": {"schedule": {"rate": {"per_s": 100.0}}}})).await;
    desk.played().await;
    let births = json!({"schedule": { "rate": {"per_s": 9e6}}, "preroll_s": 500.0});
    desk.set("/elements/4/kind/particles/emission", births).await;
    desk.set("/elements/4/kind/particles/start/lifespan_s", Value::Null).await;
    let mut events = desk.studio.events.subscribe();
    desk.ask("POST", "/api/shots/1/play", Value::Null).await;
    let message = loop {
        if let studio::studio::Event::BakeEnded { message, .. } = events.recv().await.unwrap() {
            break message.unwrap();
        }
    };
    assert!(
        message.starts_with("Sparks: would have 45") && message.contains("GB; at most 32000000"),
        "{message}"
    );
    let measured = desk.get("/api/runs/1/measured").await;
    assert_eq!(measured["frames"].as_array().unwrap().len(), 12);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_film_shows_the_run_backwards_and_later() {
    let desk =
        sparks(json!({"emission": {"schedule": {"burst": {"count": 1}}}, "start": {"lifespan_s": 0.25}}))
            .await;
    let settings = json!({"first": 1, "last": 12, "width": 16, "height": 16, "samples": 1, "backwards": true, "shift": 2});
    let (status, film) =
        desk.ask("POST", "/api/shots/1/films", json!({"name": "ToParticles", "settings": settings})).await;
    assert_eq!(status, StatusCode::OK, "{film}");
    let done = |films: &Value| films[0]["state"] == json!("done");
    let films = wait_for(&desk, "/api/shots/1/films", done).await;
    assert_eq!((&films[0]["done"], &films[0]["settings"]["shift"]), (&json!(12), &json!(2)));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_check_list_tells_what_cannot_be_born_and_what_has_no_end() {
    let desk = sparks(
        json!({"source": {"shape": {"shape": {"plane": {"size_m": [1.0, 1.0]}}, "domain": "volume"}}}),
    )
    .await;
    let told = |list: &Value, mistake: &str| -> Option<String> {
        let entries = list.as_array().unwrap().iter();
        let mut of = entries.filter(|entry| entry["mistake"] == mistake);
        of.next().map(|entry| entry["reason"].as_str().unwrap().to_owned())
    };
    let list = desk.get("/api/shots/1/check").await;
    let reason = told(&list, "cannot_be_born").unwrap();
    assert!(reason.starts_with("Sparks: there is no place to be born"), "{reason}");
    assert_eq!(told(&list, "endless_becoming"), None);
    desk.set("/elements/4/kind/particles/source", json!({"point": {}})).await;
    let split = json!([{"trigger": {"age": {"age_s": 0.1}}, "action": {"split": {"count": 3}}}]);
    desk.set("/elements/4/kind/particles/events", split).await;
    let list = desk.get("/api/shots/1/check").await;
    assert_eq!(told(&list, "cannot_be_born"), None);
    let reason = told(&list, "endless_becoming").unwrap();
    assert!(reason.starts_with("Sparks → Sparks: they become ever more"), "{reason}");
    let births = json!({"schedule": { "rate": {"per_s": 5e6}}});
    desk.set("/elements/4/kind/particles/emission", births).await;
    desk.set("/elements/4/kind/particles/start/lifespan_s", Value::Null).await;
    desk.set("/timing/last", json!(2_000)).await;
    let reason = told(&desk.get("/api/shots/1/check").await, "cannot_be_born").unwrap();
    assert!(reason.contains("GB; at most 32000000"), "{reason}");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_to_be_born_of_a_body_that_never_breaks_is_told_and_breaking_makes_frames_stale() {
    let desk = sparks(json!({"emission": {"schedule": { "total": { "count": 20}}}})).await;
    desk.put(ball(10, "Ball")).await;
    desk.put(deck(11)).await;
    let wrong = json!({"broken": {"solid": 9}});
    let patch = json!([{"op": "add", "path": "/elements/4/kind/particles/source", "value": wrong}]);
    let base = desk.get("/api/shots/1").await["revision"].clone();
    let change = json!({"base": base, "label": "Wrong", "patch": patch});
    let (status, problem) = desk.ask("PATCH", "/api/shots/1", change).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(
        problem.to_string().contains("kind.particles.source.broken.solid: is the element itself"),
        "{problem}"
    );

    desk.set("/elements/4/kind/particles/source", json!({"broken": {"solid": 10}})).await;
    let list = desk.get("/api/shots/1/check").await.to_string();
    assert!(list.contains("Sparks are born of Ball as it breaks, but it never does"), "{list}");
    desk.set("/elements/5/placement/position_m", json!([0.0, 0.5, 0.0])).await;
    desk.set("/elements/5/kind/solid/body/breaking_impulse_n_s", json!(1000.0)).await;
    assert!(!desk.get("/api/shots/1/check").await.to_string().contains("cannot_be_born"));
    desk.played().await;
    let alive = async || desk.get("/api/runs/1/measured").await["particles"][0]["alive"][11].clone();
    assert_eq!(alive().await, json!(0));
    desk.set("/elements/5/kind/solid/body/breaking_impulse_n_s", json!(2.0)).await;
    let stale = desk.get("/api/shots/1/freshness").await.to_string();
    assert!(stale.contains("before breaking of Ball changed"), "{stale}");
    desk.played().await;
    assert_eq!(alive().await, json!(20));
}

#[tokio::test(flavor = "multi_thread")]
async fn bodies_go_back_to_particles_only_when_that_can_be_told() {
    let desk = sparks(json!({})).await;
    for (back, said) in [
        (
            json!({"trigger": {"touch": {}}, "particles": 9}),
            "kind.solid.to_particles.trigger: is none of age, region",
        ),
        (
            json!({"trigger": {"age": {"age_s": 1.0}}, "particles": 3}),
            "kind.solid.to_particles.particles: 3 is not the id of particles",
        ),
        (json!({"trigger": {"region": {"region": 9}}, "particles": 9}), "9 is not the id of a region"),
        (
            json!({"trigger": {"slower": {"speed_m_s": -1.0}}, "particles": 9}),
            "kind.solid.to_particles.trigger.slower.speed_m_s",
        ),
    ] {
        let ball = json!({"id": 10, "name": "Ball", "kind": {"solid": {
            "shape": {"sphere": {"radius_m": 0.1}}, "from_particles": 5, "to_particles": back}}});
        let patch = json!([{"op": "add", "path": "/elements/-", "value": ball}]);
        let change = json!({"base": 2, "label": "Wrong", "patch": patch});
        let (status, problem) = desk.ask("PATCH", "/api/shots/1", change).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{back}");
        assert!(problem.to_string().contains(said), "{back}: {problem}");
    }
}
