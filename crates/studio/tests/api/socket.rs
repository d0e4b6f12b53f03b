//! WebSockets of the desk.

use crate::desk::Desk;
use futures_util::StreamExt;
use serde_json::Value;
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::{Message, client::IntoClientRequest};
use tokio_tungstenite::{WebSocketStream, client_async};

pub type Socket = WebSocketStream<TcpStream>;

/// Serves the desk on a free port and connects to it.
pub async fn connect(desk: &Desk, path: &str) -> Socket {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let app = desk.app.clone();
    tokio::spawn(async move { axum::serve(listener, app).await });
    let request = format!("ws://{address}{path}").into_client_request().unwrap();
    client_async(request, TcpStream::connect(address).await.unwrap()).await.unwrap().0
}

pub async fn next(socket: &mut Socket) -> Message {
    let message = tokio::time::timeout(std::time::Duration::from_secs(30), socket.next()).await;
    message.expect("something is told within 30 s").unwrap().unwrap()
}

pub async fn told(socket: &mut Socket) -> Value {
    loop {
        if let Message::Text(text) = next(socket).await {
            return serde_json::from_str(&text).unwrap();
        }
    }
}
