//! The source for agents: where they are managed (OpAMP over HTTP), and where they post what they collect.
//!
//! Who an agent is, is told by the certificate that it shows. Without one it may only ask to enrol, with a code.

use std::sync::Arc;

use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use rockrose_event::output::{QueuePlace, Stretch};
use rockrose_event::record::{DeclaredFormat, is_blank};
use rockrose_event::stamp::Stamp;
use rockrose_opamp::{AgentToServer, Message, ServerToAgent};
use rockrose_plan::AgentsSource;
use tokio::io::AsyncReadExt;
use tokio_util::sync::CancellationToken;

use super::{Endpoint, Kind, PasteLine, Start};
use crate::agents::{AgentTurn, QUEUES, StretchTurn};
use crate::listener::ShownCertificate;
use crate::probe::Probe;
use crate::requests::{Shared, content_type, note, peer, with_body};
use crate::{AgentMessage, AgentRefusal, BodyMetadata, KnownAgent, Problem, Receipt, Refusal, SenderFault, Sink, SourceSettings, host};

mod socket;

/// Most bytes of one message of the management protocol.
const MOST_MESSAGE: usize = 512 << 10;
/// So many bytes of the program are read at once.
const PIECE: usize = 256 << 10;

impl Kind for AgentsSource {
    const ALPN: &'static [&'static [u8]] = host::ALPN;

    async fn run<S: Sink>(self, start: Start<S>) {
        let stop = start.stop.clone();
        host::run(start, |shared| router(shared, stop)).await;
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        // Whoever shows no certificate is told so.
        probe.ask("POST", "/in", "", "401").await;
    }

    fn paste_lines(&self, _at: &Endpoint) -> Vec<PasteLine> {
        vec![PasteLine::new("the client here, for a line to paste on hosts", "rockrose agent code GROUP".to_owned())]
    }

    fn remedy(&self, what: SenderFault) -> Option<&'static str> {
        match what {
            SenderFault::Key => Some("enrol the agent with a new code: `rockrose agent code GROUP`"),
            SenderFault::Tls => Some("look at `rockrose agent status` on the host: agents know the certificate that was shown when they enrolled"),
            _ => None,
        }
    }
}

fn router<S: Sink>(shared: Arc<Shared<S>>, stop: CancellationToken) -> Router {
    let connected = async move |State(shared): State<Arc<Shared<S>>>, request: Request| socket::upgrade(shared, request, stop.clone()).await;
    Router::new()
        .route("/in", post(events::<S>))
        .route(rockrose_opamp::PATH, post(managed::<S>).get(connected))
        .route("/agent/setup", get(setup::<S>))
        .route("/agent/rockrose", get(program::<S>))
        .fallback(|| async { Problem::not_found(format!("agents post events to `/in`, and are managed at `{}`", rockrose_opamp::PATH)) })
        .method_not_allowed_fallback(|| async { Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method-not-allowed", "Method not allowed", "agents post") })
        .with_state(shared)
}

fn stranger(says: impl Into<String>) -> Problem {
    Problem::unauthorised(says)
}

/// Takes events of an agent.
async fn events<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    let from = peer(request.extensions());
    match take(&shared, request).await {
        Ok(Taken::All(receipt)) => {
            let taken = Ok(receipt);
            note(&shared.monitor, &taken, from);
            taken.map(Json).into_response()
        }
        Ok(Taken::Had(place)) => {
            let problem = Problem::new(StatusCode::CONFLICT, "partly-taken", "Partly taken before", format!("the queue is taken up to {place}"));
            let mut answer = problem.into_response();
            if let Ok(value) = place.to_string().parse() {
                answer.headers_mut().insert(QueuePlace::HEADER, value);
            }
            answer
        }
        Err(problem) => {
            let taken = Err(problem);
            note(&shared.monitor, &taken, from);
            taken.map(|receipt: Receipt| Json(receipt)).into_response()
        }
    }
}

/// What became of a body.
enum Taken {
    /// All of it is durable.
    All(Receipt),
    /// Its queue was taken up to there, which is within it; nothing of it was taken now.
    Had(QueuePlace),
}

async fn take<S: Sink>(shared: &Shared<S>, request: Request) -> Result<Taken, Problem> {
    let (head, body) = request.into_parts();
    let from = peer(&head.extensions);
    let settings = shared.admit(None, &head.headers, from)?;
    let shown = head.extensions.get::<ShownCertificate>().map(|shown| shown.0);
    let shown = shown.ok_or_else(|| stranger("agents show the certificate that they were given when they enrolled"))?;
    let agent = shared.sink.agent(&shown).await.ok_or_else(|| stranger("this agent is not known any more: it was retired"))?;
    let stretch = match head.headers.get(Stretch::HEADER) {
        None => None,
        Some(value) => {
            let read = value.to_str().ok().and_then(|text| text.parse::<Stretch>().ok());
            let bad = || Problem::new(StatusCode::BAD_REQUEST, "bad-stretch", "Not a stretch of a queue", rockrose_event::output::NoStretch.to_string());
            Some(read.ok_or_else(bad)?)
        }
    };
    let declared = if content_type(&head.headers) == "application/json" { DeclaredFormat::Json } else { DeclaredFormat::Lines };
    with_body(shared, &settings, &head.headers, body, async |body| {
        if is_blank(&body) {
            return Err(Problem::new(StatusCode::BAD_REQUEST, "empty-body", "Empty request", "the body is empty"));
        }
        hand_on(shared, &settings, &agent, stretch, body, declared).await
    })
    .await
}

/// Hands events on with the name of their agent; those of a queue once.
async fn hand_on<S: Sink>(
    shared: &Shared<S>,
    settings: &SourceSettings,
    agent: &KnownAgent,
    stretch: Option<Stretch>,
    body: Vec<u8>,
    declared: DeclaredFormat,
) -> Result<Taken, Problem> {
    let stamp = |field: &str, value: &str| Stamp::new(field, value, crate::now_ms()).map_err(|e| Problem::internal(e.to_string()));
    let stamps = vec![stamp("agent.name", &agent.name)?, stamp("agent.group", &agent.group)?];
    let body = Arc::new(body.into());
    let Some(stretch) = stretch else {
        let with = BodyMetadata { stamps, ..BodyMetadata::default() };
        let receipt = shared.sink.accept(&settings.name, body, declared, with).await.map_err(Problem::from)?;
        return Ok(Taken::All(receipt));
    };
    let mut turn = shared.budget.agents.turn(&settings.name, &agent.id).await;
    match turn.look(&*shared.sink, &settings.name, &agent.id, &stretch).await.map_err(Problem::from)? {
        StretchTurn::Repeated => return Ok(Taken::All(Receipt { repeated: true, ..Receipt::default() })),
        StretchTurn::Partly(place) => return Ok(Taken::Had(place)),
        StretchTurn::TooMany => {
            let detail = format!("an agent has at most {QUEUES} queues; enrol it anew");
            return Err(Problem::new(StatusCode::BAD_REQUEST, "too-many-queues", "Too many queues", detail));
        }
        StretchTurn::New => {}
    }
    let with = BodyMetadata { stamps, positions: vec![AgentTurn::position(&agent.id, &stretch)], ..BodyMetadata::default() };
    // The turn lasts for as long as the events are on their way, even if the agent hangs up meanwhile.
    let (sink, source) = (Arc::clone(&shared.sink), settings.name.clone());
    let taking = tokio::spawn(async move {
        let taken = sink.accept(&source, body, declared, with).await;
        turn.ended(&stretch, taken.is_ok());
        taken
    });
    let receipt = taking.await.unwrap_or(Err(Refusal::Failed)).map_err(Problem::from)?;
    Ok(Taken::All(receipt))
}

/// Answers a message of the management protocol.
async fn managed<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    let from = peer(request.extensions());
    match answer(&shared, request).await {
        Ok(body) => ([(header::CONTENT_TYPE, rockrose_opamp::CONTENT_TYPE)], body).into_response(),
        Err(problem) => {
            let taken: Result<Receipt, Problem> = Err(problem);
            note(&shared.monitor, &taken, from);
            taken.map(Json).into_response()
        }
    }
}

/// Lets whoever shows a code with which an agent may enrol fetch what is needed on a host that has nothing yet. Returns the script.
async fn may_fetch<S: Sink>(shared: &Shared<S>, head: &Parts) -> Result<String, Problem> {
    let from = peer(&head.extensions);
    let settings = shared.admit(None, &head.headers, from)?;
    if let Some(wait) = from.and_then(|from| shared.budget.attempts.wait(from)) {
        return Err(Problem::too_many_failures(wait));
    }
    let code = bearer(&head.headers).ok_or_else(|| stranger("whoever fetches this shows a code: `rockrose agent code GROUP` makes the line that does"))?;
    let found = shared.sink.agent_setup(&settings.name, &code).await;
    if let Some(from) = from {
        match &found {
            Err(AgentRefusal::Stranger(_)) => drop(shared.budget.attempts.failed(from)),
            Err(AgentRefusal::NotKept(_)) => {}
            Ok(_) => shared.budget.attempts.succeeded(from),
        }
    }
    found.map_err(refused)
}

/// Gives out the script that puts an agent on a host.
async fn setup<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    let (head, _) = request.into_parts();
    match may_fetch(&shared, &head).await {
        Ok(script) => ([(header::CONTENT_TYPE, "text/x-shellscript; charset=utf-8")], script).into_response(),
        Err(problem) => told(&shared, problem, &head),
    }
}

/// Gives out the program of agents.
async fn program<S: Sink>(State(shared): State<Arc<Shared<S>>>, request: Request) -> Response {
    let (head, _) = request.into_parts();
    // Those that have enrolled show their certificate, the others a code.
    let shown = head.extensions.get::<ShownCertificate>().map(|shown| shown.0);
    let is_known = match &shown {
        Some(shown) => shared.sink.agent(shown).await.is_some(),
        None => false,
    };
    if !is_known && let Err(problem) = may_fetch(&shared, &head).await {
        return told(&shared, problem, &head);
    }
    let path = shared.sink.agent_program();
    let opened = async {
        let file = tokio::fs::File::open(&path).await?;
        let size = file.metadata().await?.len();
        std::io::Result::Ok((file, size))
    };
    match opened.await {
        Ok((file, size)) => {
            let headers = [(header::CONTENT_TYPE, "application/octet-stream".to_owned()), (header::CONTENT_LENGTH, size.to_string())];
            (headers, Body::from_stream(pieces(file))).into_response()
        }
        Err(e) => Problem::internal(format!("the program cannot be read: {e}")).into_response(),
    }
}

/// A file, piece by piece.
fn pieces(file: tokio::fs::File) -> impl futures_util::Stream<Item = std::io::Result<Bytes>> {
    futures_util::stream::try_unfold(file, async |mut file| {
        let mut piece = Vec::with_capacity(PIECE);
        let read = (&mut file).take(PIECE as u64).read_to_end(&mut piece).await?;
        Ok((read > 0).then(|| (Bytes::from(piece), file)))
    })
}

fn told<S: Sink>(shared: &Shared<S>, problem: Problem, head: &Parts) -> Response {
    let taken: Result<Receipt, Problem> = Err(problem);
    note(&shared.monitor, &taken, peer(&head.extensions));
    taken.map(Json).into_response()
}

fn refused(why: AgentRefusal) -> Problem {
    match why {
        AgentRefusal::Stranger(says) => stranger(says),
        refusal @ AgentRefusal::NotKept(_) => Problem::unavailable("not-kept", refusal.to_string()).retry_after(5),
    }
}

/// Hands a message on; who shows codes that are none has to wait longer each time.
async fn said<S: Sink>(shared: &Shared<S>, message: AgentMessage) -> Result<ServerToAgent, AgentRefusal> {
    let from = message.from.filter(|_| message.code.is_some());
    let said = shared.sink.agent_says(message).await;
    if let Some(from) = from {
        match &said {
            Err(AgentRefusal::Stranger(_)) => drop(shared.budget.attempts.failed(from)),
            Err(AgentRefusal::NotKept(_)) => {}
            Ok(_) => shared.budget.attempts.succeeded(from),
        }
    }
    said
}

fn bearer(headers: &HeaderMap) -> Option<String> {
    let (scheme, code) = headers.get(header::AUTHORIZATION)?.to_str().ok()?.split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| code.trim().to_owned())
}

async fn answer<S: Sink>(shared: &Shared<S>, request: Request) -> Result<Vec<u8>, Problem> {
    let (head, body) = request.into_parts();
    let from = peer(&head.extensions);
    let settings = shared.admit(None, &head.headers, from)?;
    if content_type(&head.headers) != rockrose_opamp::CONTENT_TYPE {
        let detail = "messages of the management protocol are sent as `application/x-protobuf`";
        return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "not-opamp", "Not a message of OpAMP", detail));
    }
    let certificate = head.extensions.get::<ShownCertificate>().map(|shown| shown.0);
    let code = bearer(&head.headers).filter(|_| certificate.is_none());
    if code.is_some()
        && let Some(wait) = from.and_then(|from| shared.budget.attempts.wait(from))
    {
        return Err(Problem::too_many_failures(wait));
    }
    let narrow = SourceSettings { max_body: MOST_MESSAGE, max_unpacked: MOST_MESSAGE, ..(*settings).clone() };
    let name = settings.name.clone();
    let says = with_body(shared, &narrow, &head.headers, body, async |body| {
        AgentToServer::decode(&*body).map_err(|e| Problem::new(StatusCode::BAD_REQUEST, "not-opamp", "Not a message of OpAMP", e.to_string()))
    })
    .await?;
    said(shared, AgentMessage { source: name, from, certificate, code, says }).await.map(|answer| answer.encode_to_vec()).map_err(refused)
}
