//! Live tail as server-sent events.

use std::convert::Infallible;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use axum::Extension;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::stream::{Stream, unfold};
use rockrose_engine::{Matcher, MatcherScratch};
use rockrose_grants::Eye;
use rockrose_intake::Problem;
use rockrose_language::{Condition, Place, parse_condition};
use rockrose_plan::Report;
use serde::Deserialize;
use utoipa::IntoParams;

use super::auth::Subject;
use super::extract::Asked;
use super::types::{self, Passed};
use crate::App;
use crate::caller::{Caller, Watched};
use crate::tail::{Hub, Shown, View, point};

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct TailQuery {
    /// `source:NAME`, `route:NAME`, `destination:NAME` or `remainder`.
    point: String,
    /// Only events that meet this condition as they came to the point.
    when: Option<String>,
    /// Only events that came through the point's steps.
    #[serde(default)]
    kept_only: bool,
}

struct Looking {
    app: Arc<App>,
    view: View,
    place: Place,
    /// Who looks, and what they see of what passes here.
    watched: Watched,
    eye: Eye,
    matcher: Option<(Matcher, MatcherScratch)>,
    kept_only: bool,
    skipped: u64,
    /// Whoever looks was told under which grants they see what passes here.
    is_told: bool,
}

impl Looking {
    async fn next(&mut self) -> Option<Event> {
        loop {
            if !self.is_told {
                self.is_told = true;
                let bounds = self.watched.caller.grants.bounds(&self.place);
                return Event::default().event("grants").json_data(bounds).ok();
            }
            let skipped = self.view.skipped.load(Ordering::Relaxed);
            if skipped > self.skipped {
                let more = skipped - self.skipped;
                self.skipped = skipped;
                return Some(Event::default().event("skipped").data(more.to_string()));
            }
            let shown = tokio::select! {
                biased;
                () = self.app.stopping.cancelled() => return None,
                () = self.watched.stale() => {
                    // Who sees nothing here any more looks no further.
                    self.eye = self.watched.again().await?.open_eye(&self.app, &self.place).ok()?;
                    self.is_told = false;
                    continue;
                }
                shown = self.view.next() => shown?,
            };
            if let Some(event) = self.event(&shown) {
                return Some(event);
            }
        }
    }

    fn event(&mut self, shown: &Shown) -> Option<Event> {
        let capture = &shown.capture;
        if self.kept_only && capture.after.is_none() {
            return None;
        }
        // What is asked for is asked of what is seen, so that nobody finds out by asking what they do not see.
        let before = self.eye.shows_event(&capture.before, shown.at_ms)?;
        if self.matcher.as_mut().is_some_and(|(matcher, scratch)| !matcher.meets_next(before.as_bytes(), shown.at_ms, scratch)) {
            return None;
        }
        let after = capture.after.as_deref().and_then(|after| self.eye.shows_event(after, shown.at_ms));
        let (removed_by, held_by) = (capture.removed_by.as_deref(), capture.held_by.as_deref());
        let passed = Passed { at_ms: shown.at_ms, before: &before, after: after.as_deref(), removed_by, held_by };
        Some(Event::default().event("event").data(passed.line()))
    }
}

/// A condition that is asked for; nothing, if it is empty.
pub(super) fn condition(text: &str) -> Result<Option<Condition>, Problem> {
    let text = text.trim();
    if text.is_empty() {
        return Ok(None);
    }
    parse_condition(text).map(Some).map_err(|m| {
        let report = Report::new(text, &m);
        let detail = report.to_string();
        let mistake = serde_json::to_value(types::mistake(report)).unwrap_or_default();
        Problem::new(StatusCode::BAD_REQUEST, "bad-condition", "The condition cannot be read", detail).with("mistakes", vec![mistake])
    })
}

/// Events as they pass a point of the plan, as they came and as they went on: `event` with a `TailEvent`; `skipped` with the number of events that came too fast to show; at first and when it
/// changes, `grants` with the sentences under which whoever looks sees some of the events here, or `null` if they see all.
#[utoipa::path(get, path = "/api/v1/tail", tag = "watch", params(TailQuery),
    responses((status = 200, description = "A stream of server-sent events.", content_type = "text/event-stream", body = types::TailEvent),
        (status = 400, body = types::Problem), (status = 401, body = types::Problem), (status = 404, body = types::Problem), (status = 503, body = types::Problem)))]
pub(crate) async fn tail(
    State(app): State<Arc<App>>,
    Extension(caller): Extension<Arc<Caller>>,
    Asked(query): Asked<TailQuery>,
) -> Result<(Extension<Subject>, Sse<impl Stream<Item = Result<Event, Infallible>>>), Problem> {
    let place = super::place(&query.point)?;
    if point(&place, &app.engine.running().compiled).is_none() {
        return Err(Problem::not_found(format!("the running plan has no {}", query.point.replacen(':', " ", 1))));
    }
    let watched = Watched::new(&app, Arc::clone(&caller));
    let eye = caller.open_eye(&app, &place)?;
    let matcher = query.when.as_deref().map(condition).transpose()?.flatten();
    let matcher = matcher.map(|condition| (Matcher::new(&condition), MatcherScratch::default()));
    let subject = Subject(match &query.when {
        Some(when) => format!("{place} when {when}"),
        None => place.to_string(),
    });
    let view = Hub::look(&app, place.clone()).ok_or_else(|| Problem::unavailable("too-many-viewers", "64 viewers are connected already"))?;
    let looking = Looking { app, view, place, watched, eye, matcher, kept_only: query.kept_only, skipped: 0, is_told: false };
    let stream = unfold(looking, |mut looking| async move { looking.next().await.map(|e| (Ok(e), looking)) });
    Ok((Extension(subject), Sse::new(stream).keep_alive(KeepAlive::new().interval(Duration::from_secs(15)))))
}
