//! What destinations that are sent requests have in common: their settings, and which of several endpoints is asked.

use std::ops::ControlFlow;
use std::time::Duration;

use base64::Engine;
use base64::prelude::BASE64_STANDARD;
use rockrose_event::output::QueuePlace;
use rockrose_plan::{BodyForm, Compression, HeaderText, HttpDestination, SecretName, SignIn, TlsFiles};

use crate::kind::{Failure, OpenError, Outlet, Resolver, Taken, one_line};
use crate::probe::Probe;

/// How long a connection may take to open.
pub(crate) const CONNECT_TIME: Duration = Duration::from_secs(10);
/// Most of a refusal's text that is kept, in characters.
const MAX_WORDS: usize = 200;
/// Most of a refusal's body that is read, in bytes.
pub(crate) const MAX_ANSWER: usize = 64 << 10;
/// Longest pause a destination may ask for.
pub(crate) const MAX_PAUSE: Duration = Duration::from_secs(3_600);

/// Where events are posted, and how. Never printed: it holds secrets.
#[derive(Clone, PartialEq, Eq)]
pub struct HttpSettings {
    /// URLs, best first.
    pub endpoints: Vec<String>,
    /// Each is used in turn, not only the first that answers.
    pub in_turn: bool,
    /// How events are written.
    pub form: BodyForm,
    /// The value of the `Authorization` header.
    pub authorization: Option<String>,
    /// Further headers.
    pub headers: Vec<(String, String)>,
    /// The name of the queue, where each body says which stretch of it it holds.
    pub numbered: Option<String>,
    /// The key that requests are signed with.
    pub sign: Option<String>,
    /// How bodies are compressed.
    pub compression: Compression,
    /// Certificates, for https.
    pub tls: TlsFiles,
    /// How long an answer may take.
    pub timeout: Duration,
    /// Largest body in bytes, before compression.
    pub max_batch: usize,
    /// What CloudEvents name as their source.
    pub node: String,
}

impl HttpSettings {
    /// JSON lines as gzip to one URL.
    #[must_use]
    pub fn new(endpoint: &str) -> HttpSettings {
        HttpSettings {
            endpoints: vec![endpoint.to_owned()],
            in_turn: false,
            form: BodyForm::JsonLines,
            authorization: None,
            headers: Vec::new(),
            numbered: None,
            sign: None,
            compression: Compression::Gzip,
            tls: TlsFiles::default(),
            timeout: Duration::from_secs(30),
            max_batch: 1_000_000,
            node: "urn:rockrose".to_owned(),
        }
    }

    /// As a plan has it, with its secrets.
    pub(crate) fn planned(http: &HttpDestination, resolver: &Resolver<'_>) -> HttpSettings {
        let value = |name: &SecretName| resolver.secret(name).unwrap_or_default();
        let header = |text: &HeaderText| match text {
            HeaderText::Text(text) => text.clone(),
            HeaderText::Secret(secret) => value(secret),
        };
        HttpSettings {
            endpoints: http.endpoints.clone(),
            in_turn: http.in_turn,
            form: http.form,
            authorization: match &http.sign_in {
                SignIn::Open => None,
                SignIn::Bearer(token) => Some(format!("Bearer {}", value(token))),
                SignIn::Basic(user, password) => Some(format!("Basic {}", BASE64_STANDARD.encode(format!("{user}:{}", value(password))))),
            },
            headers: http.headers.iter().map(|(name, text)| (name.clone(), header(text))).collect(),
            numbered: http.numbered.then(|| resolver.queue.to_owned()),
            sign: http.sign.as_ref().map(value),
            compression: http.compression,
            tls: http.tls.clone(),
            timeout: http.timeout,
            max_batch: http.max_batch as usize,
            node: format!("urn:rockrose:{}", resolver.node),
        }
    }

    /// What must not show wherever its words are shown.
    fn secrets(&self) -> impl Iterator<Item = &str> {
        let authorization = self.authorization.iter().flat_map(|a| [Some(a.as_str()), a.split_once(' ').map(|(_, secret)| secret)]).flatten();
        authorization.chain(self.headers.iter().map(|(_, value)| value.as_str())).chain(self.sign.as_deref()).filter(|s| s.len() > 3)
    }

    /// What the destination said, on one line, without secrets.
    pub(crate) fn words(&self, said: &[u8]) -> String {
        one_line(&String::from_utf8_lossy(said), self.secrets(), MAX_WORDS)
    }
}

/// Which of several endpoints is asked.
#[derive(Clone, Copy)]
pub(crate) struct EndpointRotation {
    /// The one that is tried first.
    current: usize,
    count: usize,
    /// Each is used in turn, not only the first that answers.
    in_turn: bool,
}

impl EndpointRotation {
    pub(crate) fn new(settings: &HttpSettings) -> EndpointRotation {
        EndpointRotation { current: 0, count: settings.endpoints.len(), in_turn: settings.in_turn }
    }

    /// Their places, the one that is tried first first.
    pub(crate) fn order(self) -> impl Iterator<Item = usize> {
        (0..self.count).map(move |turn| (self.current + turn) % self.count)
    }

    /// What follows from what the one at this place said: that is what is said for all, unless it could not be reached and passes its turn on.
    pub(crate) fn answered(&mut self, at: usize, said: Result<Taken, EndpointError>) -> ControlFlow<Result<Taken, Failure>, Failure> {
        match said {
            Err(EndpointError::Unreachable(why)) => ControlFlow::Continue(Failure::later(why)),
            Err(EndpointError::Answered(failure)) => ControlFlow::Break(Err(failure)),
            Err(EndpointError::Has(place)) => ControlFlow::Break(Err(Failure::later(format!("says that it has the queue up to {place}, which was not sent")))),
            Ok(taken) => {
                self.current = if self.in_turn { (at + 1) % self.count } else { at };
                ControlFlow::Break(Ok(taken))
            }
        }
    }
}

/// Why an endpoint did not take a body.
pub(crate) enum EndpointError {
    /// It could not be reached, or what it says was lost; another may be tried.
    Unreachable(String),
    /// It has answered.
    Answered(Failure),
    /// It has the queue up to this place already, and took nothing.
    Has(QueuePlace),
}

/// An endpoint without its query, which could hold a secret.
fn shown(endpoint: &str) -> &str {
    endpoint.split(['?', '#']).next().unwrap_or_default()
}

impl Probe {
    /// Looks at each of the endpoints by itself.
    pub(crate) async fn endpoints(&mut self, http: &HttpSettings, open: impl Fn(HttpSettings) -> Result<Box<dyn Outlet>, OpenError>) {
        for endpoint in &http.endpoints {
            let before = self.steps.len();
            self.endpoint(endpoint, &http.tls, open(HttpSettings { endpoints: vec![endpoint.clone()], ..http.clone() })).await;
            if http.endpoints.len() > 1 {
                self.steps[before..].iter_mut().for_each(|s| s.says = format!("{}: {}", shown(endpoint), s.says));
            }
        }
    }

    async fn endpoint(&mut self, endpoint: &str, files: &TlsFiles, outlet: Result<Box<dyn Outlet>, OpenError>) {
        let Some((secure, host, port)) = parts(endpoint) else {
            self.step("resolve", async { Err::<((), String), _>(OpenError::Url(endpoint.to_owned())) }).await;
            return;
        };
        if self.way_there(&host, port, secure.then_some(files)).await {
            self.accept(outlet, "it accepted a test event").await;
        }
    }
}

/// Whether an endpoint is safe, its host and its port.
pub(crate) fn parts(endpoint: &str) -> Option<(bool, String, u16)> {
    let url = reqwest::Url::parse(endpoint).ok()?;
    let host = url.host_str()?.trim_start_matches('[').trim_end_matches(']').to_owned();
    Some((url.scheme() == "https", host, url.port_or_known_default()?))
}
