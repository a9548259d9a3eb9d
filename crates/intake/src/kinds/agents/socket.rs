//! The management protocol over WebSocket: a connection for each agent, over which it is told at once what it is to know.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::body::Body;
use axum::extract::ws::{CloseFrame, Message as Frame, WebSocket, WebSocketUpgrade, close_code};
use axum::extract::{FromRequestParts, Request};
use axum::response::{IntoResponse, Response};
use rockrose_opamp::{AgentToServer, ServerToAgent, framed, unframed};
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

use super::{MOST_MESSAGE, bearer, said, stranger, told};
use crate::listener::ShownCertificate;
use crate::requests::{Shared, peer};
use crate::{AgentMessage, AgentRefusal, Fingerprint, Problem, Sink};

/// How often an agent is asked whether it is still there.
const PING: Duration = Duration::from_secs(10);
/// One that is not heard for so long is let go.
const SILENCE: Duration = Duration::from_secs(30);

/// Who is at the other end.
struct Peer {
    from: Option<IpAddr>,
    certificate: Option<Fingerprint>,
    code: Option<String>,
}

/// Makes a WebSocket of a connection. Whoever shows neither a certificate nor a code gets none.
pub(super) async fn upgrade<S: Sink>(shared: Arc<Shared<S>>, request: Request<Body>, stop: CancellationToken) -> Response {
    let (mut head, _) = request.into_parts();
    let from = peer(&head.extensions);
    let admitted = || {
        shared.admit(None, &head.headers, from)?;
        let certificate = head.extensions.get::<ShownCertificate>().map(|shown| shown.0);
        let code = bearer(&head.headers).filter(|_| certificate.is_none());
        if certificate.is_none() && code.is_none() {
            return Err(stranger("whoever enrols shows a code, and agents that have enrolled show their certificate"));
        }
        match from.and_then(|from| shared.budget.attempts.wait(from)).filter(|_| code.is_some()) {
            Some(wait) => Err(Problem::too_many_failures(wait)),
            None => Ok(Peer { from, certificate, code }),
        }
    };
    let peer = match admitted() {
        Ok(peer) => peer,
        Err(problem) => return told(&shared, problem, &head),
    };
    match WebSocketUpgrade::from_request_parts(&mut head, &()).await {
        Ok(upgrade) => upgrade.max_message_size(MOST_MESSAGE).max_frame_size(MOST_MESSAGE).on_upgrade(async move |socket| {
            tokio::select! {
                () = stop.cancelled() => {}
                () = talk(&shared, socket, peer) => {}
            }
        }),
        Err(refused) => refused.into_response(),
    }
}

async fn close(socket: &mut WebSocket, code: u16, reason: &str) {
    // A reason has at most 123 bytes.
    let reason = &reason[..reason.floor_char_boundary(123)];
    let _ = socket.send(Frame::Close(Some(CloseFrame { code, reason: reason.into() }))).await;
}

/// What of a message is new to an agent that was `given` a plan of this hash, if anything is.
fn new_to(mut due: ServerToAgent, given: &[u8]) -> Option<ServerToAgent> {
    if due.remote_config.as_ref().is_some_and(|config| config.config_hash == given) {
        due.remote_config = None;
    }
    (due.remote_config.is_some() || due.custom_message.is_some()).then_some(due)
}

/// Talks with an agent until one of both ends it.
async fn talk<S: Sink>(shared: &Shared<S>, mut socket: WebSocket, peer: Peer) {
    let mut uid: Option<Vec<u8>> = None;
    let mut changed = shared.sink.agents_changed();
    let (mut ping, mut heard) = (tokio::time::interval_at(Instant::now() + PING, PING), Instant::now());
    // What it was given last over this connection: that is not given again before it has said what became of it.
    let mut given: Vec<u8> = Vec::new();
    loop {
        let answer: Option<ServerToAgent> = tokio::select! {
            frame = socket.recv() => match frame {
                Some(Ok(Frame::Binary(bytes))) => {
                    heard = Instant::now();
                    let says: AgentToServer = match unframed(&bytes) {
                        Ok(says) => says,
                        Err(e) => return close(&mut socket, close_code::PROTOCOL, &e.to_string()).await,
                    };
                    let id = says.instance_uid.clone();
                    let source = shared.settings.load().name.clone();
                    let message = AgentMessage { source, from: peer.from, certificate: peer.certificate, code: peer.code.clone(), says };
                    match said(shared, message).await {
                        Ok(answer) => {
                            if answer.error_response.is_none() {
                                uid = Some(id);
                            }
                            Some(answer)
                        }
                        Err(AgentRefusal::Stranger(why)) => return close(&mut socket, close_code::POLICY, &why).await,
                        Err(e @ AgentRefusal::NotKept(_)) => return close(&mut socket, close_code::AGAIN, &e.to_string()).await,
                    }
                }
                Some(Ok(Frame::Pong(_))) => {
                    heard = Instant::now();
                    match &uid {
                        Some(uid) => shared.sink.agent_due(uid).await.and_then(|due| new_to(due, &given)),
                        None => None,
                    }
                }
                Some(Ok(Frame::Ping(_))) => None,
                Some(Ok(Frame::Text(_))) => return close(&mut socket, close_code::UNSUPPORTED, "messages are binary").await,
                Some(Ok(Frame::Close(_)) | Err(_)) | None => return,
            },
            change = changed.changed(), if uid.is_some() => match (&uid, change) {
                (Some(uid), Ok(())) => shared.sink.agent_due(uid).await.and_then(|due| new_to(due, &given)),
                _ => None,
            },
            _ = ping.tick() => {
                if heard.elapsed() > SILENCE || socket.send(Frame::Ping(Vec::new().into())).await.is_err() {
                    return;
                }
                None
            }
        };
        if let Some(config) = answer.as_ref().and_then(|answer| answer.remote_config.as_ref()) {
            given.clone_from(&config.config_hash);
        }
        if let Some(answer) = answer
            && socket.send(Frame::Binary(framed(&answer).into())).await.is_err()
        {
            return;
        }
    }
}
