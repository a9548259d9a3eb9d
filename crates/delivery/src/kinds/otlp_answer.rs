//! What a receiver of OTLP log records answers, over HTTP or gRPC.

use rockrose_otlp::Message;
use rockrose_otlp::collector::ExportLogsServiceResponse;

use crate::kind::{Failure, Taken};

/// What a receiver that took `events` of them says of that.
pub(crate) fn taken(response: ExportLogsServiceResponse, events: usize, words: impl Fn(&str) -> String) -> Result<Taken, Failure> {
    let Some(partial) = response.partial_success else { return Ok(Taken::all()) };
    let refused = usize::try_from(partial.rejected_log_records).unwrap_or(0);
    let why = words(&partial.error_message);
    let why = if why.is_empty() { "it gives no reason".to_owned() } else { why };
    match refused {
        0 => Ok(Taken::all()),
        // Nothing was taken, so fewer can be tried without sending any twice.
        all if all >= events => Err(Failure::Refused(why)),
        some => Ok(Taken { refused: Some((some as u64, why)), ..Taken::all() }),
    }
}

/// Reads the answer to a body that was posted; `None` if it is none.
pub(crate) fn read_answer(said: &[u8], json: bool) -> Option<ExportLogsServiceResponse> {
    if !json {
        return ExportLogsServiceResponse::decode(said).ok();
    }
    if said.is_empty() {
        return Some(ExportLogsServiceResponse::default());
    }
    let said: serde_json::Value = serde_json::from_slice(said).ok()?;
    said.as_object()?;
    let mut response = ExportLogsServiceResponse::default();
    if let Some(partial) = said.get("partialSuccess").or_else(|| said.get("partial_success")).and_then(|p| p.as_object()) {
        let of = |names: [&str; 2]| names.iter().find_map(|n| partial.get(*n));
        let rejected = of(["rejectedLogRecords", "rejected_log_records"]);
        let rejected = rejected.and_then(|n| n.as_i64().or_else(|| n.as_str()?.parse().ok())).unwrap_or(0);
        let message = of(["errorMessage", "error_message"]).and_then(|m| m.as_str()).unwrap_or_default();
        response.partial_success =
            Some(rockrose_otlp::collector::ExportLogsPartialSuccess { rejected_log_records: rejected, error_message: message.to_owned() });
    }
    Some(response)
}

/// The message of a refusal that is written in protobuf.
pub(crate) fn status_message(said: &[u8]) -> Option<String> {
    tonic_types::Status::decode(said).ok().map(|status| status.message)
}
