//! A data folder of its own, asked by requests.

use axum::Router;
use axum::body::Body;
use axum::http::{Request, StatusCode};
use http_body_util::BodyExt;
use serde_json::{Value, json};
use std::sync::Arc;
use studio::studio::Studio;
use tempfile::TempDir;
use tower::ServiceExt;

pub struct Desk {
    pub app: Router,
    pub dir: TempDir,
    pub studio: Arc<Studio>,
}

pub async fn desk() -> Desk {
    let dir = tempfile::tempdir().unwrap();
    let studio = Studio::open(dir.path()).await.unwrap();
    Desk { app: studio::api::app(studio.clone()), dir, studio }
}

impl Desk {
    pub async fn send(&self, request: Request<Body>) -> (StatusCode, Vec<u8>) {
        let response = self.app.clone().oneshot(request).await.unwrap();
        let status = response.status();
        (status, response.into_body().collect().await.unwrap().to_bytes().to_vec())
    }

    pub async fn ask(&self, method: &str, path: &str, body: Value) -> (StatusCode, Value) {
        let body = if body.is_null() { Body::empty() } else { Body::from(body.to_string()) };
        let request = Request::builder().method(method).uri(path).header("host", "127.0.0.1:7700");
        let (status, bytes) =
            self.send(request.header("content-type", "application/json").body(body).unwrap()).await;
        (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    pub async fn upload(&self, path: &str, bytes: &[u8]) -> (StatusCode, Value) {
        let request = Request::builder().method("POST").uri(path).header("host", "localhost");
        let (status, bytes) = self.send(request.body(Body::from(bytes.to_vec())).unwrap()).await;
        (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    pub async fn get(&self, path: &str) -> Value {
        let (status, value) = self.ask("GET", path, Value::Null).await;
        assert_eq!(status, StatusCode::OK, "{path}: {value}");
        value
    }

    pub async fn bytes(&self, path: &str) -> (StatusCode, Vec<u8>) {
        let request = Request::builder().uri(path).header("host", "localhost");
        self.send(request.body(Body::empty()).unwrap()).await
    }

    /// Changes one value of shot 1 as it is now.
    pub async fn set(&self, path: &str, value: Value) -> Value {
        let base = self.get("/api/shots/1").await["revision"].clone();
        let patch = json!([{"op": "add", "path": path, "value": value}]);
        let body = json!({"base": base, "label": format!("Set {path}"), "patch": patch});
        let (status, shot) = self.ask("PATCH", "/api/shots/1", body).await;
        assert_eq!(status, StatusCode::OK, "{shot}");
        shot
    }

    /// Adds an element to shot 1 as it is now; the index it has.
    pub async fn put(&self, element: Value) -> usize {
        let shot = self.set("/elements/-", element).await;
        shot["document"]["elements"].as_array().unwrap().len() - 1
    }

    /// Plays shot 1 until all its frames are fresh.
    pub async fn played(&self) -> Value {
        self.ask("POST", "/api/shots/1/play", Value::Null).await;
        let whole = |v: &Value| v["playing"] == json!(false) && v["stretches"][0]["state"] == json!("fresh");
        wait_for(self, "/api/shots/1/freshness", whole).await
    }

    pub async fn new_shot(&self) -> Value {
        let new = json!({"name": "Test", "width": 64, "height": 36, "fps": 24, "first": 1, "last": 12});
        self.ask("POST", "/api/shots", new).await.1
    }

    pub async fn add(&self, base: i64, element: Value) -> (StatusCode, Value) {
        let patch = json!([{"op": "add", "path": "/elements/-", "value": element}]);
        self.ask("PATCH", "/api/shots/1", json!({"base": base, "label": "Added", "patch": patch})).await
    }
}

pub fn ball(id: u32, name: &str) -> Value {
    json!({"id": id, "name": name, "kind": {"solid": {"shape": {"sphere": {"radius_m": 0.2}}}},
           "placement": {"position_m": [0, 2, 0]}})
}

pub fn solid(id: u32, name: &str, shape: Value, position: [f32; 3], body: Value) -> Value {
    json!({"id": id, "name": name, "kind": {"solid": {"shape": shape, "body": body}}, "placement": {"position_m": position}})
}

pub fn deck(id: u32) -> Value {
    solid(id, "Deck", json!({"plane": {"size_m": [8, 8]}}), [0.0; 3], json!({"moves": "still"}))
}

/// Asks until the answer is as wanted.
pub async fn wait_for(desk: &Desk, path: &str, done: impl Fn(&Value) -> bool) -> Value {
    for _ in 0..600 {
        let (_, value) = desk.ask("GET", path, Value::Null).await;
        if done(&value) {
            return value;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    panic!("{path} did not come to that within 30 s");
}
