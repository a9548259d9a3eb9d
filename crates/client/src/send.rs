//! `send`: ships a file or standard input to a source.

use std::io::{IsTerminal, Write};
use std::path::PathBuf;
use std::time::Duration;

use anyhow::Context;
use indicatif::{ProgressBar, ProgressStyle};
use reqwest::StatusCode;
use rockrose_api::{Flow, Problem};
use serde::Deserialize;
use serde_json::json;
use tokio::io::{AsyncRead, AsyncReadExt};

use crate::client::{Client, http};
use crate::{Common, Exit, Failure, Outcome, format};

pub(crate) struct SendArgs {
    pub(crate) file: Option<PathBuf>,
    pub(crate) source: Option<String>,
    pub(crate) url: Option<String>,
    pub(crate) key: Option<String>,
    pub(crate) gzip: bool,
}

/// Lines are sent in bodies of about this many bytes.
const BODY: usize = 1 << 20;
/// Longest line that is sent, in bytes.
const MAX_LINE: usize = 16 << 20;
/// How often a body that is not taken is tried again.
const TRIES: u32 = 10;

async fn url(common: &Common, args: &SendArgs) -> Result<String, Failure> {
    if let Some(url) = &args.url {
        return Ok(url.clone());
    }
    let name = args.source.as_deref().unwrap_or_default();
    let Flow { sources, .. } = Client::new(common)?.get("/api/v1/flow").await?.read()?;
    match sources.iter().find(|s| s.name == name) {
        Some(source) => Ok(format!("http://{}/in", source.listen)),
        None => {
            let known: Vec<&str> = sources.iter().map(|s| s.name.as_str()).collect();
            Err(Failure::new(Exit::Failed, format!("the running plan has no source `{name}`; it has: {}", known.join(", "))))
        }
    }
}

/// What a source says of a body that it took. It is none of the API's types: other programs answer so too, and what they leave out counts as none.
#[derive(Default, Deserialize)]
#[serde(default)]
struct Receipt {
    received: u64,
    read: u64,
    quarantined: u64,
}

#[derive(Default)]
struct Sent {
    received: u64,
    read: u64,
    quarantined: u64,
    bytes: u64,
}

struct Sender {
    http: reqwest::Client,
    url: String,
    key: Option<String>,
    gzip: bool,
    sent: Sent,
    bar: ProgressBar,
}

pub(crate) async fn send(common: &Common, args: SendArgs) -> Outcome {
    let url = url(common, &args).await?;
    let (mut input, size): (Box<dyn AsyncRead + Unpin>, Option<u64>) = match &args.file {
        None => (Box::new(tokio::io::stdin()), None),
        Some(path) => {
            let file = tokio::fs::File::open(path).await.with_context(|| format!("cannot read {}", path.display()))?;
            let size = file.metadata().await.ok().map(|m| m.len());
            (Box::new(file), size)
        }
    };
    let bar = if std::io::stderr().is_terminal() && !common.json { ProgressBar::new(size.unwrap_or(0)) } else { ProgressBar::hidden() };
    let style = if size.is_some() { "{bar:30} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left" } else { "{spinner} {bytes}, {bytes_per_sec}" };
    bar.set_style(ProgressStyle::with_template(style).map_err(anyhow::Error::from)?);
    let http = http(&[]).map_err(anyhow::Error::from)?;
    let mut sender = Sender { http, url, key: args.key, gzip: args.gzip, sent: Sent::default(), bar };
    let mut pending = Vec::with_capacity(2 * BODY);
    loop {
        let n = input.read_buf(&mut pending).await.context("the input cannot be read")?;
        let cut = if n == 0 {
            pending.len()
        } else if pending.len() < BODY {
            continue;
        } else {
            pending.iter().rposition(|b| *b == b'\n').map_or(0, |p| p + 1)
        };
        if cut > 0 {
            let rest = pending.split_off(cut);
            sender.body(std::mem::replace(&mut pending, rest)).await?;
        } else if pending.len() > MAX_LINE {
            return Err(Failure::new(Exit::Failed, "a line of the input is longer than 16 MiB"));
        }
        if n == 0 {
            break;
        }
    }
    sender.bar.finish_and_clear();
    let Sent { received, read, quarantined, bytes } = sender.sent;
    if common.json {
        return format::print_json(&json!({ "received": received, "read": read, "quarantined": quarantined, "bytes": bytes }));
    }
    let aside =
        if quarantined == 0 { String::new() } else { format!("; {} could not be read (`rockrose quarantine` shows them)", format::count(quarantined as i64)) };
    format::line(&format!("{} sent, {}{aside}", format::events(read as i64), format::bytes(bytes as f64)))
}

impl Sender {
    async fn body(&mut self, lines: Vec<u8>) -> Result<(), Failure> {
        let size = lines.len() as u64;
        let body: bytes::Bytes = if self.gzip {
            let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            encoder.write_all(&lines).and_then(|()| encoder.finish()).map_err(anyhow::Error::from)?.into()
        } else {
            lines.into()
        };
        let mut tries = 0;
        loop {
            let mut request = self.http.post(&self.url).header("content-type", "application/x-ndjson").body(body.clone());
            if self.gzip {
                request = request.header("content-encoding", "gzip");
            }
            if let Some(key) = &self.key {
                request = request.bearer_auth(key);
            }
            tries += 1;
            let why = match request.send().await {
                Ok(answer) if answer.status().is_success() => {
                    let receipt: Receipt = answer.json().await.unwrap_or_default();
                    self.sent.received += receipt.received;
                    self.sent.read += receipt.read;
                    self.sent.quarantined += receipt.quarantined;
                    self.sent.bytes += size;
                    self.bar.inc(size);
                    return Ok(());
                }
                Ok(answer) => {
                    let status = answer.status();
                    let why = answer.json().await.map_or_else(|_| format!("the source answered {status}"), |problem: Problem| problem.detail);
                    match status {
                        StatusCode::UNAUTHORIZED => return Err(Failure::new(Exit::NotSignedIn, why)),
                        s if s.is_client_error() && s != StatusCode::TOO_MANY_REQUESTS => return Err(Failure::new(Exit::Failed, why)),
                        _ => why,
                    }
                }
                // A body whose answer was lost may have been taken; sending it again could count it twice, so that is only done where the connection never stood.
                Err(e) if e.is_connect() => "cannot connect".to_owned(),
                Err(e) => {
                    return Err(Failure::new(Exit::Unreachable, format!("the connection broke while a body was sent, after {} events: {e}", self.sent.read)));
                }
            };
            if tries >= TRIES {
                return Err(Failure::new(Exit::Unreachable, format!("{}: {why} (tried {TRIES} times)", self.url)));
            }
            tokio::time::sleep(Duration::from_millis(200 << tries.min(5))).await;
        }
    }
}
