//! `kind = "otlp"`: events are sent as OTLP log records, over HTTP or gRPC.

use rockrose_language::Mistake;

use super::http::{BodyForm, HttpDestination, POSTED, posted};
use super::tls::CONNECTED;
use super::{DestinationSection, PlannedDestination};
use crate::checker::{Checker, SecretName};
use crate::keys::{Key, Shape, key};

const TRANSPORTS: &[&str] = &["http", "http json", "grpc"];

/// A destination that takes OTLP log records.
#[derive(Clone, Debug, PartialEq)]
pub struct OtlpDestination {
    /// Over gRPC, not HTTP.
    pub grpc: bool,
    /// Where, and how else.
    pub http: HttpDestination,
}

impl PlannedDestination for OtlpDestination {
    const WORD: &'static str = "otlp";
    const EXAMPLE: &'static str = "endpoints = [\"http://127.0.0.1:14317\"]\n\
        # transport = \"http\"\n";
    const KEYS: &'static [&'static [Key]] = &[
        POSTED,
        &[key(
            "transport",
            Shape::Word(TRANSPORTS),
            "How log records are written and sent: `http` (protobuf), `http json` or `grpc`. `http` if left out. Over HTTP, an endpoint without a path is given `/v1/logs`.",
        )],
        CONNECTED,
    ];

    fn read(c: &mut Checker<'_>, DestinationSection { section, .. }: DestinationSection<'_>) -> Option<OtlpDestination> {
        let transport = section.text("transport").map_or("http", |t| t.value);
        let form = if transport == "http json" { BodyForm::OtlpJson } else { BodyForm::Otlp };
        let (grpc, mut http) = (transport == "grpc", posted(c, section, form));
        if let Some(sign) = section.get("sign").filter(|_| grpc) {
            c.mistakes.push(Mistake::new(sign.at.clone(), "requests over gRPC are not signed").expected("`transport = \"http\"`, or no `sign`"));
        }
        if !grpc {
            http.endpoints.iter_mut().for_each(|e| *e = with_path(e, "/v1/logs"));
        }
        Some(OtlpDestination { grpc, http })
    }

    fn files(&self) -> Vec<&str> {
        self.http.files()
    }

    fn address(&self) -> String {
        self.http.address()
    }

    fn secrets(&self) -> Vec<&SecretName> {
        self.http.secrets()
    }

    fn hosts(&self) -> Vec<String> {
        self.http.hosts()
    }
}

/// A URL that has no path, with this one.
fn with_path(url: &str, path: &str) -> String {
    let host = url.find("://").map_or(0, |at| at + 3);
    match url[host..].strip_suffix('/').unwrap_or(&url[host..]) {
        bare if bare.contains(['/', '?']) => url.to_owned(),
        bare => format!("{}{bare}{path}", &url[..host]),
    }
}

#[cfg(test)]
mod tests {
    use crate::CheckedPlan;

    #[test]
    fn requests_are_signed_over_http_only() {
        let read = |transport: &str| {
            CheckedPlan::read(&format!(
                "[destination.d]\nkind = \"otlp\"\nendpoints = [\"http://127.0.0.1:1\"]\ntransport = \"{transport}\"\nsign = {{ secret = \"key\" }}\n"
            ))
        };
        assert_eq!(read("http").unwrap().secrets()[0].0, "key");
        assert!(read("grpc").unwrap_err().iter().any(|m| m.line == 5 && m.message.contains("not signed")));
    }
}
