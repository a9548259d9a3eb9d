//! `kind = "http"`: events are posted. OTLP over HTTP and gRPC shares its settings.

use std::time::Duration;

use rockrose_language::Mistake;

use super::tls::{self, CONNECTED, PASSWORD, TlsFiles, USER};
use super::{COMPRESS, Compression, DestinationSection, PlannedDestination, compression, url};
use crate::checker::{Checker, SecretName};
use crate::keys::{Key, Shape, key, needed};
use crate::scope::host_and_port;
use crate::section::{At, HeaderValue, Raw, Section};

const BODY_FORMS: &[&str] = &["json lines", "json array", "cloudevents"];
const SPREADS: &[&str] = &["first that answers", "in turn"];

/// Headers that say how a body is written, or who sends it.
const OWN_HEADERS: &[&str] = &["authorization", "content-type", "content-encoding", "content-length", "host", "transfer-encoding", "connection"];

/// Keys of destinations that bodies are posted to.
pub(super) const POSTED: &[Key] = &[
    needed("endpoints", Shape::Texts, "The URLs that events are posted to."),
    key(
        "spread",
        Shape::Word(SPREADS),
        "Which of several endpoints is used: the first that answers (if left out), or each in turn, those that do not answer passed over.",
    ),
    key("token", Shape::Secret, "The bearer token that is sent along."),
    USER,
    PASSWORD,
    key(
        "sign",
        Shape::Secret,
        "The key that each request is signed with: an HTTP message signature (RFC 9421) of HMAC-SHA-256 over method, authority, path and the body's digest.",
    ),
    key("headers", Shape::Headers, "Headers that are sent along: texts, or references to secrets."),
    COMPRESS,
    key("in_flight", Shape::Count, "Most bodies on their way at once; as many as its answers allow, up to this. 4 if left out."),
    key(
        "ordered",
        Shape::Truth,
        "Whether events are sent in the order in which they came, one body at a time. `false` if left out; the other kinds always keep it.",
    ),
];

/// A destination that events are posted to.
#[derive(Clone, Debug, PartialEq)]
pub struct HttpDestination {
    /// URLs, best first.
    pub endpoints: Vec<String>,
    /// Each is used in turn, not only the first that answers.
    pub in_turn: bool,
    /// It leads to another node.
    pub forward: Option<Forward>,
    /// How events are written.
    pub form: BodyForm,
    /// What is shown.
    pub sign_in: SignIn,
    /// Headers sent along.
    pub headers: Vec<(String, HeaderText)>,
    /// Each body says which stretch of the queue it holds.
    pub numbered: bool,
    /// The key that requests are signed with.
    pub sign: Option<SecretName>,
    /// How bodies are compressed.
    pub compression: Compression,
    /// Certificates, for https.
    pub tls: TlsFiles,
    /// How long an answer may take.
    pub timeout: Duration,
    /// Largest body in bytes, before compression.
    pub max_batch: u64,
}

/// That a destination leads to another node, and the name of that, if it is known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Forward(pub Option<String>);

/// How events are written in a body.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BodyForm {
    /// JSON objects, a line each.
    JsonLines,
    /// One JSON array.
    JsonArray,
    /// A batch of CloudEvents in JSON.
    CloudEvents,
    /// An OTLP request in protobuf.
    Otlp,
    /// An OTLP request in JSON.
    OtlpJson,
}

/// What is shown to an endpoint.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SignIn {
    /// Nothing.
    Open,
    /// A bearer token.
    Bearer(SecretName),
    /// A user and the password.
    Basic(String, SecretName),
}

/// What a header says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum HeaderText {
    /// A text that stands in the plan.
    Text(String),
    /// A secret's value.
    Secret(SecretName),
}

impl PlannedDestination for HttpDestination {
    const WORD: &'static str = "http";
    const EXAMPLE: &'static str = "endpoints = [\"http://127.0.0.1:9410/in\"]\n\
        # The token is kept by `rockrose secret set http-out`:\n\
        # token = { secret = \"http-out\" }\n";
    const KEYS: &'static [&'static [Key]] = &[
        POSTED,
        &[
            key("format", Shape::Word(BODY_FORMS), "How events are written. `json lines` if left out."),
            key(
                "forward",
                Shape::Text,
                "It is another Rockrose: its node, as `rockrose status` there shows it, or `unknown`. Events carry where they have passed, and stop where they have been.",
            ),
            key(
                "numbered",
                Shape::Truth,
                "Whether each body says which stretch of the queue it holds, so that a source of kind `agents` takes no event twice. They are then sent in order.",
            ),
        ],
        CONNECTED,
    ];

    fn read(c: &mut Checker<'_>, DestinationSection { section, .. }: DestinationSection<'_>) -> Option<HttpDestination> {
        let form = match section.text("format").map(|f| f.value) {
            Some("json array") => BodyForm::JsonArray,
            Some("cloudevents") => BodyForm::CloudEvents,
            _ => BodyForm::JsonLines,
        };
        Some(posted(c, section, form))
    }

    fn files(&self) -> Vec<&str> {
        self.tls.files()
    }

    fn address(&self) -> String {
        // A query could hold a secret.
        self.endpoints.first().and_then(|e| e.split('?').next()).unwrap_or_default().to_owned()
    }

    fn secrets(&self) -> Vec<&SecretName> {
        let signed = match &self.sign_in {
            SignIn::Open => None,
            SignIn::Bearer(secret) | SignIn::Basic(_, secret) => Some(secret),
        };
        signed
            .into_iter()
            .chain(&self.sign)
            .chain(self.headers.iter().filter_map(|(_, value)| if let HeaderText::Secret(secret) = value { Some(secret) } else { None }))
            .collect()
    }

    fn hosts(&self) -> Vec<String> {
        self.endpoints.iter().map(|endpoint| host_and_port(endpoint)).collect()
    }

    fn forward(&self) -> Option<Option<&str>> {
        self.forward.as_ref().map(|Forward(node)| node.as_deref())
    }
}

pub(super) fn posted(c: &mut Checker<'_>, section: &Section, form: BodyForm) -> HttpDestination {
    let endpoints = section.texts("endpoints");
    if endpoints.is_empty()
        && let Some(empty) = section.get("endpoints")
    {
        c.mistakes.push(Mistake::new(empty.at.clone(), "no endpoint is given").expected("at least one URL"));
    }
    for endpoint in endpoints {
        url(c, endpoint);
    }
    HttpDestination {
        endpoints: endpoints.iter().map(|e| e.value.clone()).collect(),
        in_turn: section.text("spread").is_some_and(|s| s.value == "in turn"),
        forward: forward(c, section),
        numbered: numbered(c, section, form),
        form,
        sign_in: sign_in(c, section),
        headers: headers(c, section),
        sign: c.secret(section, "sign"),
        compression: compression(section, Compression::Gzip),
        tls: tls::tls(c, section),
        timeout: tls::timeout(c, section),
        max_batch: tls::max_batch(c, section),
    }
}

/// Whether bodies say which stretch of the queue they hold.
fn numbered(c: &mut Checker<'_>, section: &Section, form: BodyForm) -> bool {
    let Some(At { value: Raw::Truth(true), at }) = section.get("numbered") else { return false };
    if form != BodyForm::JsonLines {
        c.mistakes.push(Mistake::new(at.clone(), "only JSON lines are numbered"));
    }
    true
}

fn forward(c: &mut Checker<'_>, section: &Section) -> Option<Forward> {
    let written = section.text("forward")?;
    if let Some(form) = section.text("format").filter(|f| f.value != "json lines") {
        c.mistakes.push(Mistake::new(form.at, "to another node events go as JSON lines"));
    }
    if written.value == "unknown" {
        return Some(Forward(None));
    }
    if written.value.len() != 16 || !written.value.bytes().all(|b| b.is_ascii_hexdigit() && !b.is_ascii_uppercase()) {
        let message = format!("`{}` is no node", written.value);
        c.mistakes.push(Mistake::new(written.at, message).expected("the 16 characters that `rockrose status` shows there, or `unknown`"));
        return None;
    }
    Some(Forward(Some(written.value.to_owned())))
}

fn sign_in(c: &mut Checker<'_>, section: &Section) -> SignIn {
    let (token, password) = (c.secret(section, "token"), c.secret(section, "password"));
    match (token, section.text("user"), password) {
        (Some(_), user, password) if user.is_some() || password.is_some() => {
            let at = section.get("token").map_or(section.name.at.clone(), |t| t.at.clone());
            c.mistakes.push(Mistake::new(at, "a token and a password cannot both be shown").expected("`token`, or `user` and `password`"));
            SignIn::Open
        }
        (Some(token), ..) => SignIn::Bearer(token),
        (None, Some(user), Some(password)) if !user.value.contains(':') => SignIn::Basic(user.value.to_owned(), password),
        (None, None, None) => SignIn::Open,
        (None, user, _) => {
            let at = user.map(|u| u.at).or_else(|| section.get("password").map(|p| p.at.clone())).unwrap_or_else(|| section.name.at.clone());
            c.mistakes.push(Mistake::new(at, "this is half of a sign-in").expected("`user` (without `:`) and `password = { secret = \"NAME\" }`"));
            SignIn::Open
        }
    }
}

fn headers(c: &mut Checker<'_>, section: &Section) -> Vec<(String, HeaderText)> {
    let Some(At { value: Raw::Headers(written), .. }) = section.get("headers") else { return Vec::new() };
    let token = |b: u8| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b);
    let mut headers = Vec::new();
    for (name, value) in written {
        if name.value.is_empty() || !name.value.bytes().all(token) {
            c.mistakes.push(Mistake::new(name.at.clone(), format!("`{}` cannot name a header", name.value)));
        } else if OWN_HEADERS.iter().any(|own| own.eq_ignore_ascii_case(&name.value)) {
            c.mistakes.push(Mistake::new(name.at.clone(), format!("the header `{}` is set from other keys", name.value)));
        }
        headers.push((
            name.value.clone(),
            match value {
                HeaderValue::Text(text) => {
                    if !text.value.bytes().all(|b| (b' '..0x7f).contains(&b)) {
                        c.mistakes.push(Mistake::new(text.at.clone(), "a header has printable ASCII only"));
                    }
                    HeaderText::Text(text.value.clone())
                }
                HeaderValue::Secret(secret) => {
                    c.name(secret, "secret");
                    HeaderText::Secret(SecretName(secret.value.clone()))
                }
            },
        ));
    }
    headers
}
