//! Why a sink does not take a body, in terms of no protocol: each protocol turns it into an answer of its own.

use rockrose_event::record::BodyError;

/// Why a body was not taken. Nothing of it was kept.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// A destination that the source can reach holds all it may.
    #[error("the queue of the destination `{destination}` is at its limit; its events wait to be delivered")]
    Full {
        /// Its name.
        destination: String,
    },
    /// An operator has paused the source.
    #[error("`{who}` paused this source")]
    Paused {
        /// The operator who paused it.
        who: String,
    },
    /// The source left the plan while the body was on its way.
    #[error("this source is no longer in the plan")]
    Gone,
    /// The copies that the plan's routes make of it come to more than one body may become.
    #[error("the plan's routes make more than 1 GB of copies of it; send smaller bodies")]
    TooLarge,
    /// The disk or the database refused.
    #[error("the events could not be written durably, so they were not accepted")]
    NotDurable,
    /// The service is stopping.
    #[error("the service is stopping")]
    Stopping,
    /// The same body is being taken at this moment, under the same idempotency key.
    #[error("the same body is being accepted at this moment")]
    Repeated,
    /// The idempotency key was used for another body.
    #[error("this `Idempotency-Key` was used for another body; every body has its own")]
    KeyReused,
    /// It was declared to be JSON and is not.
    #[error("{0}")]
    NotJson(BodyError),
    /// The work on it failed, through no fault of the sender.
    #[error("the body could not be processed")]
    Failed,
}

impl Refusal {
    /// Whether the same body may be taken later.
    #[must_use]
    pub fn is_temporary(&self) -> bool {
        match self {
            Refusal::Full { .. } | Refusal::Paused { .. } | Refusal::Gone | Refusal::NotDurable | Refusal::Stopping | Refusal::Repeated => true,
            Refusal::TooLarge | Refusal::KeyReused | Refusal::NotJson(_) | Refusal::Failed => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use axum::response::IntoResponse;
    use rockrose_event::record::{DeclaredFormat, split};

    use super::*;
    use crate::Problem;

    #[test]
    fn each_has_its_answer_over_http_and_says_whether_to_come_back() {
        let not_json = split(b"[{", DeclaredFormat::Json, 100).unwrap_err();
        let all = [
            (Refusal::Full { destination: "desk".into() }, 503, Some("5")),
            (Refusal::Paused { who: "ann".into() }, 503, Some("30")),
            (Refusal::Gone, 503, Some("5")),
            (Refusal::NotDurable, 503, Some("5")),
            (Refusal::Stopping, 503, Some("5")),
            (Refusal::Repeated, 503, Some("5")),
            (Refusal::TooLarge, 413, None),
            (Refusal::KeyReused, 422, None),
            (Refusal::NotJson(not_json), 400, None),
            (Refusal::Failed, 500, None),
        ];
        for (refusal, status, after) in all {
            let (temporary, says) = (refusal.is_temporary(), refusal.to_string());
            let problem = Problem::from(refusal);
            assert_eq!(problem.detail(), says);
            let answer = problem.into_response();
            let retry = answer.headers().get("retry-after").map(|v| v.to_str().unwrap());
            assert_eq!((answer.status().as_u16(), retry, temporary), (status, after, after.is_some()), "{says}");
        }
    }
}
