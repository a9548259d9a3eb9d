//! Destinations: what they are, what they may hold, and what happens when they hold it.

use std::time::Duration;

use rockrose_archive::Part;
use rockrose_event::output::{LineTemplate, SyslogFacility};
use rockrose_language::{Mistake, Step, nearest};

use super::check::{Checker, MB, SecretName};
use super::keys::DESTINATION;
use super::parse::{At, HeaderValue, Raw, Section};

/// Bodies on their way at once, where nothing is said.
const IN_FLIGHT: u64 = 4;
/// The most that may be said.
const MAX_IN_FLIGHT: u64 = 64;
/// Headers that say how a body is written, or who sends it.
const OWN_HEADERS: &[&str] = &["authorization", "content-type", "content-encoding", "content-length", "host", "transfer-encoding", "connection"];

/// A destination.
#[derive(Clone, Debug, PartialEq)]
pub struct Destination {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: DestinationKind,
    /// Steps done to every event that leaves there.
    pub always: Vec<Step>,
    /// What it costs.
    pub price: Option<Price>,
    /// How many bytes may wait for it.
    pub hold_at_most: u64,
    /// How long events may wait for it; without, for ever.
    pub hold_for: Option<Duration>,
    /// What happens once it holds all it may.
    pub when_full: WhenFull,
    /// What waits is still delivered once it is taken out of the plan.
    pub drains: bool,
    /// Most bytes sent in a second.
    pub max_rate: Option<u64>,
    /// Most bodies on their way at once; 1 keeps the order.
    pub in_flight: u64,
}

/// What happens to events for a destination that holds all it may.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WhenFull {
    /// The sources that can reach it are pushed back.
    PushBack,
    /// The oldest that wait are let go.
    DropOldest,
    /// They go to another destination instead.
    Spill(String),
}

/// What a destination is, with what only that kind has.
#[derive(Clone, Debug, PartialEq)]
pub enum DestinationKind {
    /// Events are appended to a file.
    File(FileDestination),
    /// Events are posted.
    Http(HttpDestination),
    /// Events are sent as OTLP log records.
    Otlp(OtlpDestination),
    /// Events are sent as syslog messages.
    Syslog(SyslogDestination),
    /// Events are kept in objects of a store.
    Archive(ArchiveDestination),
    /// Events are counted and let go.
    Discard,
}

impl DestinationKind {
    /// The word for it in a plan.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            DestinationKind::File(_) => "file",
            DestinationKind::Http(_) => "http",
            DestinationKind::Otlp(_) => "otlp",
            DestinationKind::Syslog(_) => "syslog",
            DestinationKind::Archive(_) => "archive",
            DestinationKind::Discard => "discard",
        }
    }
}

impl DestinationKind {
    /// For one that leads to another node: that node's name, if it is known.
    #[must_use]
    pub fn forward(&self) -> Option<Option<&str>> {
        match self {
            DestinationKind::Http(HttpDestination { forward: Some(Forward(node)), .. }) => Some(node.as_deref()),
            _ => None,
        }
    }

    /// Whether events are kept there as they were received.
    #[must_use]
    pub fn as_received(&self) -> bool {
        matches!(self, DestinationKind::Archive(ArchiveDestination { as_received: true, .. }))
    }

    /// The secrets it refers to.
    pub(super) fn secrets(&self) -> Vec<&SecretName> {
        if let DestinationKind::Archive(archive) = self {
            return archive.access_secret.iter().collect();
        }
        let (DestinationKind::Http(http) | DestinationKind::Otlp(OtlpDestination { http, .. })) = self else { return Vec::new() };
        let signed = match &http.sign_in {
            SignIn::Open => None,
            SignIn::Bearer(secret) | SignIn::Basic(_, secret) => Some(secret),
        };
        signed
            .into_iter()
            .chain(http.headers.iter().filter_map(|(_, value)| if let HeaderText::Secret(secret) = value { Some(secret) } else { None }))
            .collect()
    }
}

/// A file that events are appended to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FileDestination {
    /// Its path.
    pub path: String,
    /// How events are written.
    pub layout: Layout,
    /// A file of so many bytes is put aside.
    pub rotate_at: Option<u64>,
    /// A new file is begun with each of these.
    pub rotate_every: Option<Period>,
    /// How many files that were put aside are kept.
    pub keep_files: Option<u64>,
    /// How files that were put aside are compressed.
    pub compression: Compression,
}

/// How events are written to a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Layout {
    /// JSON objects, a line each.
    JsonLines,
    /// Lines by a template (see [`rockrose_event::output::LineTemplate`]).
    Text(String),
    /// Rows of CSV with these columns, below a row of their names.
    Csv(Vec<String>),
}

/// A stretch of time that begins at a round one, in UTC.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Period {
    /// From hour to hour.
    Hour,
    /// From midnight to midnight.
    Day,
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

/// How bodies are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compression {
    /// Not at all.
    Plain,
    /// gzip
    Gzip,
    /// Zstandard
    Zstd,
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
    /// This.
    Text(String),
    /// A secret's value.
    Secret(SecretName),
}

/// Certificates beyond the system's, in files.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TlsFiles {
    /// Certificates that are trusted as well.
    pub ca: Option<String>,
    /// The certificate that is shown, and its key.
    pub client: Option<(String, String)>,
}

/// A destination that takes syslog messages.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SyslogDestination {
    /// How they get there.
    pub transport: SyslogTransport,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// Their facility.
    pub facility: SyslogFacility,
    /// Certificates, for TLS.
    pub tls: TlsFiles,
    /// How long connecting and writing may take.
    pub timeout: Duration,
    /// Most bytes sent at once.
    pub max_batch: u64,
}

/// How syslog messages get to a destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SyslogTransport {
    /// TCP, each message after its length (RFC 6587).
    Tcp,
    /// The same within TLS (RFC 5425).
    Tls,
    /// UDP, a datagram each (RFC 5426).
    Udp,
}

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
    /// How bodies are compressed.
    pub compression: Compression,
    /// Certificates, for https.
    pub tls: TlsFiles,
    /// How long an answer may take.
    pub timeout: Duration,
    /// Largest body in bytes, before compression.
    pub max_batch: u64,
}

/// A destination that keeps events in objects.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ArchiveDestination {
    /// Where.
    pub place: Place,
    /// The secret of its access key.
    pub access_secret: Option<SecretName>,
    /// What objects are.
    pub objects: Objects,
    /// Events are kept as they were received, not as steps have shaped them.
    pub as_received: bool,
    /// What objects are laid out by, outermost first.
    pub divide_by: Vec<Part>,
    /// An object is written once so many bytes wait.
    pub object_at: u64,
    /// One is written at least so often, if anything waits.
    pub object_every: Duration,
    /// Certificates, for https.
    pub tls: TlsFiles,
    /// How long an answer may take.
    pub timeout: Duration,
}

/// Where objects are kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// A folder.
    Folder(String),
    /// A bucket of a store that speaks the S3 protocol.
    Bucket {
        /// Its name.
        bucket: String,
        /// What stands before all keys.
        prefix: String,
        /// The store's URL; without, the usual one of the region.
        endpoint: Option<String>,
        /// The region.
        region: String,
        /// The access key.
        access_key: Option<String>,
    },
}

/// What objects are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Objects {
    /// JSON lines, compressed with Zstandard.
    JsonLines,
    /// Parquet.
    Parquet,
}

/// A destination that takes OTLP log records.
#[derive(Clone, Debug, PartialEq)]
pub struct OtlpDestination {
    /// Over gRPC, not HTTP.
    pub grpc: bool,
    /// Where, and how else.
    pub http: HttpDestination,
}

/// A price for what is sent.
#[derive(Clone, Debug, PartialEq)]
pub struct Price {
    /// For 1 000 000 000 bytes.
    pub per_gb: f64,
    /// ISO 4217 code.
    pub currency: String,
}

impl Checker<'_> {
    pub(super) fn destination(&mut self, section: &Section) -> Option<Destination> {
        self.name(&section.name, "destination");
        self.keys(section, DESTINATION, "destination");
        let always = self.steps(section.texts("always"));
        let hold_at_most = self.size(section, "hold_at_most", 4_000 * MB, 10_000_000 * MB);
        let most = Duration::from_secs(365 * 86_400);
        let hold_for = section.text("hold_for").map(|_| self.duration_up_to(section, "hold_for", most, most));
        let max_rate = section.text("max_rate").map(|_| self.size(section, "max_rate", MB, 10_000 * MB));
        let in_flight = if let Some(At { value: Raw::Count(n), .. }) = section.get("in_flight") { (*n).min(MAX_IN_FLIGHT) } else { IN_FLIGHT };
        let in_flight = match section.get("ordered") {
            Some(At { value: Raw::Truth(true), at }) => {
                if matches!(section.get("in_flight"), Some(At { value: Raw::Count(n), .. }) if *n > 1) {
                    self.mistakes
                        .push(Mistake::new(at.clone(), "several bodies on their way at once keep no order").expected("`ordered`, or `in_flight` above 1"));
                }
                1
            }
            _ => in_flight,
        };
        let drains = section.text("when_removed").is_some_and(|w| w.value == "drain");
        let when_full = match section.text("when_full") {
            None => WhenFull::PushBack,
            Some(written) => self.when_full(&written),
        };
        let price = match section.get("price") {
            Some(At { value: Raw::Price(per_gb, currency), .. }) => {
                Some(Price { per_gb: *per_gb, currency: currency.as_ref().map_or_else(|| "EUR".to_owned(), |c| c.value.clone()) })
            }
            _ => None,
        };
        let kind = match section.text("kind")?.value {
            "file" => {
                let path = section.text("path")?;
                if path.value.is_empty() || path.value.ends_with('/') || path.value.contains('\0') {
                    self.mistakes.push(Mistake::new(path.at, "this names no file").expected("a file's path"));
                }
                DestinationKind::File(FileDestination {
                    path: path.value.to_owned(),
                    layout: self.layout(section),
                    rotate_at: section.text("rotate_at").map(|_| self.size(section, "rotate_at", MB, 1_000_000 * MB)),
                    rotate_every: section.text("rotate_every").map(|p| if p.value == "hour" { Period::Hour } else { Period::Day }),
                    keep_files: if let Some(At { value: Raw::Count(n), .. }) = section.get("keep_files") { Some(*n) } else { None },
                    compression: compression(section, Compression::Plain),
                })
            }
            "http" => {
                let form = match section.text("format").map(|f| f.value) {
                    Some("json array") => BodyForm::JsonArray,
                    Some("cloudevents") => BodyForm::CloudEvents,
                    _ => BodyForm::JsonLines,
                };
                DestinationKind::Http(self.http(section, form))
            }
            "otlp" => {
                let transport = section.text("transport").map_or("http", |t| t.value);
                let form = if transport == "http json" { BodyForm::OtlpJson } else { BodyForm::Otlp };
                let (grpc, mut http) = (transport == "grpc", self.http(section, form));
                if !grpc {
                    http.endpoints.iter_mut().for_each(|e| *e = with_path(e, "/v1/logs"));
                }
                DestinationKind::Otlp(OtlpDestination { grpc, http })
            }
            "syslog" => {
                let address = section.text("address")?;
                let Some((transport, host, port)) = syslog_address(address.value) else {
                    self.mistakes.push(
                        Mistake::new(address.at.clone(), format!("`{}` is nowhere that messages go", address.value))
                            .expected("`tcp://HOST:PORT`, `tls://HOST:PORT` or `udp://HOST:PORT`"),
                    );
                    return None;
                };
                DestinationKind::Syslog(SyslogDestination {
                    transport,
                    host,
                    port,
                    facility: section.text("facility").and_then(|f| SyslogFacility::read(f.value)).unwrap_or_default(),
                    tls: self.tls(section),
                    timeout: self.duration(section, "timeout", Duration::from_secs(30)),
                    max_batch: self.size(section, "max_batch", MB, 100 * MB),
                })
            }
            "archive" => DestinationKind::Archive(self.archive(section, &always)?),
            "discard" => DestinationKind::Discard,
            _ => return None,
        };
        Some(Destination { name: section.name.value.clone(), kind, always, price, hold_at_most, hold_for, when_full, drains, max_rate, in_flight })
    }

    fn archive(&mut self, section: &Section, always: &[Step]) -> Option<ArchiveDestination> {
        let store = section.text("store")?;
        let of = |key: &str| section.text(key).map(|t| t.value.to_owned());
        let access_secret = self.secret(section, "access_secret");
        if access_secret.is_some() != section.get("access_key").is_some() {
            let at = section.get("access_key").or_else(|| section.get("access_secret")).map_or(section.name.at.clone(), |t| t.at.clone());
            self.mistakes.push(Mistake::new(at, "this is half of a sign-in").expected("`access_key` and `access_secret = { secret = \"NAME\" }`"));
        }
        let place = match store.value.strip_prefix("s3://") {
            Some(rest) => {
                let (bucket, prefix) = rest.split_once('/').unwrap_or((rest, ""));
                let named = (3..=63).contains(&bucket.len()) && bucket.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b"-._".contains(&b));
                if !named || prefix.split('/').any(|p| p == "." || p == "..") {
                    self.mistakes.push(
                        Mistake::new(store.at.clone(), format!("`{}` is no place in a store", store.value)).expected("`s3://BUCKET` or `s3://BUCKET/PREFIX`"),
                    );
                }
                if let Some(At { value: Raw::Text(url), at }) = section.get("endpoint") {
                    self.url(&At { value: url.clone(), at: at.clone() });
                }
                let prefix = prefix.trim_matches('/').to_owned();
                let region = of("region").unwrap_or_else(|| "us-east-1".to_owned());
                Place::Bucket { bucket: bucket.to_owned(), prefix, endpoint: of("endpoint"), region, access_key: of("access_key") }
            }
            None => {
                if store.value.is_empty() || store.value.contains("://") || store.value.contains('\0') {
                    let expected = "a folder's path, or `s3://BUCKET/PREFIX`";
                    self.mistakes.push(Mistake::new(store.at.clone(), format!("`{}` is no place for objects", store.value)).expected(expected));
                }
                for key in ["endpoint", "region", "access_key", "access_secret", "ca"] {
                    if let Some(beside) = section.get(key) {
                        self.mistakes
                            .push(Mistake::new(beside.at.clone(), format!("a folder has no use for `{key}`")).expected("`store = \"s3://BUCKET\"` beside it"));
                    }
                }
                Place::Folder(store.value.to_owned())
            }
        };
        let as_received = section.text("events").is_some_and(|e| e.value == "as received");
        if as_received && !always.is_empty() {
            let at = section.get("always").map_or(section.name.at.clone(), |a| a.at.clone());
            self.mistakes
                .push(Mistake::new(at, "events that are kept as received are changed by no step").expected("`events = \"as shaped\"`, or no `always`"));
        }
        let mut divide_by = Vec::new();
        for written in section.texts("divide_by") {
            match Part::read(&written.value) {
                Some(part) if !divide_by.contains(&part) => divide_by.push(part),
                Some(_) => self.mistakes.push(Mistake::new(written.at.clone(), "it is divided by this already")),
                None => {
                    self.mistakes
                        .push(Mistake::new(written.at.clone(), format!("`{}` divides nothing", written.value)).expected("`date`, `hour` or a field's path"));
                }
            }
        }
        if section.get("divide_by").is_none() {
            divide_by = vec![Part::Date, Part::Hour];
        }
        Some(ArchiveDestination {
            place,
            access_secret,
            objects: if section.text("objects").is_some_and(|o| o.value == "parquet") { Objects::Parquet } else { Objects::JsonLines },
            as_received,
            divide_by,
            object_at: self.size(section, "object_at", 32 * MB, 256 * MB),
            object_every: self.duration(section, "object_every", Duration::from_secs(300)),
            tls: TlsFiles { ca: of("ca"), client: None },
            timeout: self.duration(section, "timeout", Duration::from_secs(30)),
        })
    }

    fn http(&mut self, section: &Section, form: BodyForm) -> HttpDestination {
        let endpoints = section.texts("endpoints");
        if endpoints.is_empty()
            && let Some(empty) = section.get("endpoints")
        {
            self.mistakes.push(Mistake::new(empty.at.clone(), "no endpoint is given").expected("at least one URL"));
        }
        for endpoint in endpoints {
            self.url(endpoint);
        }
        HttpDestination {
            endpoints: endpoints.iter().map(|e| e.value.clone()).collect(),
            in_turn: section.text("spread").is_some_and(|s| s.value == "in turn"),
            forward: self.forward(section),
            form,
            sign_in: self.sign_in(section),
            headers: self.headers(section),
            compression: compression(section, Compression::Gzip),
            tls: self.tls(section),
            timeout: self.duration(section, "timeout", Duration::from_secs(30)),
            max_batch: self.size(section, "max_batch", MB, 100 * MB),
        }
    }

    fn forward(&mut self, section: &Section) -> Option<Forward> {
        let written = section.text("forward")?;
        if let Some(form) = section.text("format").filter(|f| f.value != "json lines") {
            self.mistakes.push(Mistake::new(form.at, "to another node events go as JSON lines"));
        }
        if written.value == "unknown" {
            return Some(Forward(None));
        }
        if written.value.len() != 16 || !written.value.bytes().all(|b| b.is_ascii_hexdigit() && !b.is_ascii_uppercase()) {
            let message = format!("`{}` is no node", written.value);
            self.mistakes.push(Mistake::new(written.at, message).expected("the 16 characters that `rockrose status` shows there, or `unknown`"));
            return None;
        }
        Some(Forward(Some(written.value.to_owned())))
    }

    fn layout(&mut self, section: &Section) -> Layout {
        let (template, columns) = (section.text("template"), section.get("columns"));
        let word = section.text("layout").map_or("json lines", |l| l.value);
        let here = section.get("layout").map_or_else(|| section.name.at.clone(), |l| l.at.clone());
        let beside = if word == "text" { columns.map(|c| c.at.clone()) } else { template.as_ref().map(|t| t.at.clone()) };
        let beside = beside.or_else(|| if word == "json lines" { columns.map(|c| c.at.clone()) } else { None });
        if let Some(at) = beside {
            self.mistakes
                .push(Mistake::new(at, format!("the layout `{word}` has no use for this")).expected("`template` beside \"text\", `columns` beside \"csv\""));
        }
        match (word, template) {
            ("text", Some(template)) => {
                if let Err((at, why)) = LineTemplate::new(template.value) {
                    let at = self.place_in(&template, at);
                    self.mistakes.push(Mistake::new(at, why));
                }
                Layout::Text(template.value.to_owned())
            }
            ("text", None) => {
                self.mistakes.push(Mistake::new(here, "lines of text need a template").expected("`template = \"{time} {severity} {message}\"`"));
                Layout::JsonLines
            }
            ("csv", _) => {
                let columns: Vec<String> = section.texts("columns").iter().map(|c| c.value.clone()).collect();
                if columns.is_empty() {
                    self.mistakes.push(Mistake::new(here, "rows of CSV need columns").expected("`columns = [\"time\", \"severity\", \"message\"]`"));
                }
                Layout::Csv(columns)
            }
            _ => Layout::JsonLines,
        }
    }

    fn sign_in(&mut self, section: &Section) -> SignIn {
        let (token, password) = (self.secret(section, "token"), self.secret(section, "password"));
        match (token, section.text("user"), password) {
            (Some(_), user, password) if user.is_some() || password.is_some() => {
                let at = section.get("token").map_or(section.name.at.clone(), |t| t.at.clone());
                self.mistakes.push(Mistake::new(at, "a token and a password cannot both be shown").expected("`token`, or `user` and `password`"));
                SignIn::Open
            }
            (Some(token), ..) => SignIn::Bearer(token),
            (None, Some(user), Some(password)) if !user.value.contains(':') => SignIn::Basic(user.value.to_owned(), password),
            (None, None, None) => SignIn::Open,
            (None, user, _) => {
                let at = user.map(|u| u.at).or_else(|| section.get("password").map(|p| p.at.clone())).unwrap_or_else(|| section.name.at.clone());
                self.mistakes.push(Mistake::new(at, "this is half of a sign-in").expected("`user` (without `:`) and `password = { secret = \"NAME\" }`"));
                SignIn::Open
            }
        }
    }

    fn headers(&mut self, section: &Section) -> Vec<(String, HeaderText)> {
        let Some(At { value: Raw::Headers(written), .. }) = section.get("headers") else { return Vec::new() };
        let token = |b: u8| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b);
        let mut headers = Vec::new();
        for (name, value) in written {
            if name.value.is_empty() || !name.value.bytes().all(token) {
                self.mistakes.push(Mistake::new(name.at.clone(), format!("`{}` cannot name a header", name.value)));
            } else if OWN_HEADERS.iter().any(|own| own.eq_ignore_ascii_case(&name.value)) {
                self.mistakes.push(Mistake::new(name.at.clone(), format!("the header `{}` is set from other keys", name.value)));
            }
            headers.push((
                name.value.clone(),
                match value {
                    HeaderValue::Text(text) => {
                        if !text.value.bytes().all(|b| (b' '..0x7f).contains(&b)) {
                            self.mistakes.push(Mistake::new(text.at.clone(), "a header has printable ASCII only"));
                        }
                        HeaderText::Text(text.value.clone())
                    }
                    HeaderValue::Secret(secret) => {
                        self.name(secret, "secret");
                        HeaderText::Secret(SecretName(secret.value.clone()))
                    }
                },
            ));
        }
        headers
    }

    fn tls(&mut self, section: &Section) -> TlsFiles {
        let of = |key: &str| section.text(key).map(|t| t.value.to_owned());
        let client = match (of("client_certificate"), of("client_key")) {
            (Some(certificate), Some(key)) => Some((certificate, key)),
            (None, None) => None,
            _ => {
                let at = section.get("client_certificate").or_else(|| section.get("client_key")).map_or(section.name.at.clone(), |t| t.at.clone());
                self.mistakes.push(Mistake::new(at, "a certificate is shown with its key").expected("both `client_certificate` and `client_key`"));
                None
            }
        };
        TlsFiles { ca: of("ca"), client }
    }

    fn when_full(&mut self, written: &At<&str>) -> WhenFull {
        match written.value.strip_prefix("spill to ").map(str::trim) {
            _ if written.value == "push back" => WhenFull::PushBack,
            _ if written.value == "drop oldest" => WhenFull::DropOldest,
            Some(name) if !name.is_empty() => WhenFull::Spill(name.to_owned()),
            _ => {
                let message = format!("`{}` is nothing that can be done", written.value);
                self.mistakes.push(
                    Mistake::new(written.at.clone(), message)
                        .expected("`push back`, `drop oldest` or `spill to NAME`")
                        .near(written.value, ["push back", "drop oldest", "spill to"]),
                );
                WhenFull::PushBack
            }
        }
    }

    fn url(&mut self, endpoint: &At<String>) {
        let rest = endpoint.value.strip_prefix("http://").or_else(|| endpoint.value.strip_prefix("https://"));
        let host = rest.map(|r| r.split(['/', '?', '#']).next().unwrap_or_default());
        match host {
            Some(host) if host.contains('@') => {
                self.mistakes.push(
                    Mistake::new(endpoint.at.clone(), "a name and password cannot stand in a plan")
                        .expected("the URL without them, and `token = { secret = \"NAME\" }`"),
                );
            }
            Some(host) if !host.is_empty() && endpoint.value.bytes().all(|b| b > b' ' && b != 0x7f) => {}
            _ => self.mistakes.push(Mistake::new(endpoint.at.clone(), format!("`{}` is not a URL", endpoint.value)).expected("`http://…` or `https://…`")),
        }
    }
}

fn compression(section: &Section, usual: Compression) -> Compression {
    match section.text("compress").map(|c| c.value) {
        Some("none") => Compression::Plain,
        Some("gzip") => Compression::Gzip,
        Some("zstd") => Compression::Zstd,
        _ => usual,
    }
}

/// `tcp://host:port`, in its parts.
/// A URL that has no path, with this one.
fn with_path(url: &str, path: &str) -> String {
    let host = url.find("://").map_or(0, |at| at + 3);
    match url[host..].strip_suffix('/').unwrap_or(&url[host..]) {
        bare if bare.contains(['/', '?']) => url.to_owned(),
        bare => format!("{}{bare}{path}", &url[..host]),
    }
}

fn syslog_address(written: &str) -> Option<(SyslogTransport, String, u16)> {
    let (scheme, rest) = written.split_once("://")?;
    let transport = match scheme {
        "tcp" => SyslogTransport::Tcp,
        "tls" => SyslogTransport::Tls,
        "udp" => SyslogTransport::Udp,
        _ => return None,
    };
    let (host, port) = rest.rsplit_once(':')?;
    let host = host.strip_prefix('[').and_then(|h| h.strip_suffix(']')).unwrap_or(host);
    let good = !host.is_empty() && host.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b':' | b'_'));
    Some((transport, host.to_owned(), port.parse().ok().filter(|p| *p > 0)?)).filter(|_| good)
}

/// What is wrong with where destinations spill to: one that is not there, a circle, or one whose own steps would be passed by.
pub(super) fn spills(sections: &[Section], destinations: &[Destination]) -> Vec<Mistake> {
    let find = |name: &str| destinations.iter().find(|d| d.name == name);
    let mut mistakes = Vec::new();
    for (section, destination) in sections.iter().filter_map(|s| Some((s, find(&s.name.value)?))) {
        let (WhenFull::Spill(to), Some(written)) = (&destination.when_full, section.text("when_full")) else { continue };
        let Some(target) = find(to) else {
            let names = destinations.iter().map(|d| d.name.as_str()).filter(|n| *n != destination.name);
            let mut mistake = Mistake::new(written.at, format!("there is no destination `{to}`"));
            mistake.nearest = nearest(to, names).map(str::to_owned);
            mistakes.push(mistake);
            continue;
        };
        // The way on from there must end.
        let mut next = Some(target);
        for _ in 0..destinations.len() {
            next = match next {
                Some(Destination { when_full: WhenFull::Spill(on), .. }) => find(on),
                _ => None,
            };
        }
        if next.is_some() || target.name == destination.name {
            mistakes.push(
                Mistake::new(written.at, format!("what `{}` spills comes back to it", destination.name)).expected("a destination that does not spill back"),
            );
        } else if target.kind.forward().is_some() && target.kind.forward() != destination.kind.forward() {
            let message = format!("`{to}` leads to another node, and what `{}` spills would not be marked", destination.name);
            mistakes.push(Mistake::new(written.at, message).expected("a destination that does not forward"));
        } else if !target.always.is_empty() && target.always != destination.always {
            // Events were shaped for the one that spills; what the other does always would not be done to them.
            let message = format!("`{to}` has steps that it does always, which are not done to what `{}` spills", destination.name);
            mistakes.push(Mistake::new(written.at, message).expected("a destination with the same `always` steps, or with none"));
        }
    }
    mistakes
}
