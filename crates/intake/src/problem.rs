//! Errors as answers: RFC 9457 problem documents, made in this one place.

use axum::Json;
use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Map, Value, json};

use crate::refusal::Refusal;

/// An error on its way to an HTTP client. Never carries event contents or secrets.
#[derive(Clone, Debug)]
pub struct Problem {
    status: StatusCode,
    kind: &'static str,
    title: &'static str,
    detail: String,
    retry_after: Option<u32>,
    more: Box<Map<String, Value>>,
}

impl Problem {
    /// A problem with its HTTP status, a short name for programs (`body-too-large`), a title, and what is wrong this time.
    #[must_use]
    pub fn new(status: StatusCode, kind: &'static str, title: &'static str, detail: impl Into<String>) -> Problem {
        Problem { status, kind, title, detail: detail.into(), retry_after: None, more: Box::default() }
    }

    /// Tells the client to come back after so many seconds.
    #[must_use]
    pub fn retry_after(mut self, seconds: u32) -> Problem {
        self.retry_after = Some(seconds);
        self
    }

    /// Adds a member to the document.
    #[must_use]
    pub fn with(mut self, name: &str, value: impl Into<Value>) -> Problem {
        self.more.insert(name.to_owned(), value.into());
        self
    }

    /// The answer's status.
    #[must_use]
    pub fn status(&self) -> StatusCode {
        self.status
    }

    /// Whether it is the one with this short name.
    #[must_use]
    pub fn is(&self, kind: &str) -> bool {
        self.kind == kind
    }

    /// After how many seconds the client is to come back, if it was told.
    #[must_use]
    pub fn comes_back_in(&self) -> Option<u32> {
        self.retry_after
    }

    /// What is wrong.
    #[must_use]
    pub fn detail(&self) -> &str {
        &self.detail
    }

    /// 401, with the scheme to use.
    #[must_use]
    pub fn unauthorised(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::UNAUTHORIZED, "not-signed-in", "Not signed in", detail)
    }

    /// 403: whoever asks is known, and was not granted this.
    #[must_use]
    pub fn not_granted(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::FORBIDDEN, "not-granted", "Not granted", detail)
    }

    /// 429: after so many failures, nothing is looked at for a while.
    #[must_use]
    pub fn too_many_failures(seconds: u32) -> Problem {
        let detail = format!("too many failures from this address; try again in {seconds} s");
        Problem::new(StatusCode::TOO_MANY_REQUESTS, "too-many-failures", "Too many failures", detail).retry_after(seconds)
    }

    /// 404.
    #[must_use]
    pub fn not_found(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::NOT_FOUND, "not-found", "Not found", detail)
    }

    /// 500: the fault is on this side.
    #[must_use]
    pub fn internal(detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "Internal error", detail)
    }

    /// 503: nothing was kept, and the sender should try again.
    #[must_use]
    pub fn unavailable(kind: &'static str, detail: impl Into<String>) -> Problem {
        Problem::new(StatusCode::SERVICE_UNAVAILABLE, kind, "Cannot accept this now", detail).retry_after(5)
    }
}

impl From<Refusal> for Problem {
    fn from(refusal: Refusal) -> Problem {
        let detail = refusal.to_string();
        match refusal {
            Refusal::Full { destination } => Problem::unavailable("full", detail).with("destination", destination),
            Refusal::Paused { .. } => Problem::unavailable("paused", detail).retry_after(30),
            Refusal::Gone => Problem::unavailable("source-gone", detail),
            Refusal::NotDurable => Problem::unavailable("not-durable", detail),
            Refusal::Stopping => Problem::unavailable("stopping", detail),
            Refusal::Repeated => Problem::unavailable("repeated", detail),
            Refusal::TooLarge => Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "too-many-copies", "The body is too large", detail),
            Refusal::KeyReused => Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "key-used-twice", "Idempotency key already used", detail),
            Refusal::NotJson(e) => {
                Problem::new(StatusCode::BAD_REQUEST, "not-json", "The body is not JSON", detail).with("line", e.line).with("column", e.column)
            }
            Refusal::Failed => Problem::internal(detail),
        }
    }
}

impl From<JsonRejection> for Problem {
    fn from(e: JsonRejection) -> Problem {
        Problem::new(e.status(), "bad-body", "The body cannot be read", e.body_text())
    }
}

impl From<QueryRejection> for Problem {
    fn from(e: QueryRejection) -> Problem {
        Problem::new(e.status(), "bad-query", "Malformed query", e.body_text())
    }
}

impl From<PathRejection> for Problem {
    fn from(e: PathRejection) -> Problem {
        Problem::new(e.status(), "bad-path", "Malformed path", e.body_text())
    }
}

/// Which problem an answer tells of; among its extensions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ProblemKind(pub &'static str);

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let mut document =
            json!({ "type": format!("urn:rockrose:problem:{}", self.kind), "title": self.title, "status": self.status.as_u16(), "detail": self.detail });
        if let Value::Object(members) = &mut document {
            members.extend(*self.more);
        }
        let mut response = (self.status, Json(document)).into_response();
        response.extensions_mut().insert(ProblemKind(self.kind));
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        if let Some(seconds) = self.retry_after {
            headers.insert(header::RETRY_AFTER, HeaderValue::from(seconds));
        }
        if self.status == StatusCode::UNAUTHORIZED {
            headers.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"));
        }
        response
    }
}
