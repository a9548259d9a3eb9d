//! Looks at what the plan's alerts watch, once a second, and notes what is to be told of them. Sources of kind `alerts` hand the notices on as events.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use rockrose_alerts::{Finding, Phase, Readings, Rules, Standing, State, Turn, find};
use rockrose_delivery::State as DestinationState;
use rockrose_language::{AlertCondition, Bound, Place};
use rockrose_ledger::{Amount, Equation, Measure, Stage};
use rockrose_plan::{Alert, CheckedPlan};
use rockrose_records::{AlertRecord, NewNotice, Notice, RecordsError, Side, Silence};
use rockrose_spool::{Spool, SpoolError, Volume};

use crate::{App, now_ms};

/// How often it is looked.
const EVERY: Duration = Duration::from_secs(1);
/// What was counted within a minute is committed so long after it, in milliseconds.
const SETTLE: i64 = 2_000;
/// What volumes are taken from.
const MEASURES: &[Measure] = &[Measure::Received, Measure::Taken, Measure::Delivered, Measure::Remainder, Measure::Quarantined];

/// What passes a place, or comes into quarantine there.
type Key = (Place, bool);

/// What passed the places that are watched, minute by minute, as far as it is asked for.
#[derive(Default)]
pub(crate) struct Volumes {
    watched: HashMap<Key, BTreeMap<i64, Amount>>,
    /// The minutes that are known, also of what did not pass in them.
    known: BTreeSet<i64>,
    first: Option<i64>,
}

/// The place that a row of the ledger counts for, and whether what came into quarantine there.
fn key(volume: &Volume) -> Option<Key> {
    let name = || volume.name.clone();
    match (volume.stage, volume.measure) {
        (Stage::Source, Measure::Received) => Some((Place::Source(name()), false)),
        (Stage::Source, Measure::Remainder) => Some((Place::Remainder, false)),
        (Stage::Source, Measure::Quarantined) => Some((Place::Source(name()), true)),
        (Stage::Route, Measure::Taken) => Some((Place::Route(name()), false)),
        (Stage::Destination, Measure::Delivered) => Some((Place::Destination(name()), false)),
        (Stage::Destination, Measure::Quarantined) => Some((Place::Destination(name()), true)),
        _ => None,
    }
}

impl Volumes {
    /// Reads what these conditions ask for at any time from `from_ms` to `to_ms`, milliseconds since 1970, and is not known yet; the rest is forgotten.
    pub(crate) async fn know(&mut self, spool: &Spool, conditions: &[&AlertCondition], from_ms: i64, to_ms: i64) -> Result<(), SpoolError> {
        let (from, to) = (from_ms.div_euclid(60_000), to_ms.div_euclid(60_000));
        let (mut watched, mut needed) = (HashSet::new(), BTreeSet::new());
        for condition in conditions {
            let AlertCondition::Volume { quarantined, at, over, bound, .. } = condition else { continue };
            watched.insert((at.clone(), *quarantined));
            let minutes = from - over.ms() / 60_000..to;
            needed.extend(minutes.clone());
            if let Bound::Share { of, .. } = bound {
                needed.extend(minutes.start - of.minutes_back()..minutes.end - of.minutes_back());
            }
        }
        if watched.is_empty() {
            *self = Volumes::default();
            return Ok(());
        }
        if !watched.iter().all(|key| self.watched.contains_key(key)) {
            self.known.clear();
            self.watched = watched.iter().map(|key| (key.clone(), BTreeMap::new())).collect();
        }
        self.watched.retain(|key, minutes| {
            minutes.retain(|minute, _| needed.contains(minute));
            watched.contains(key)
        });
        self.first = spool.first_minute(0).await?;
        // What is read is only known once all of it is: a read that fails begins anew.
        let known = std::mem::take(&mut self.known);
        let missing = if known.is_empty() {
            self.watched.values_mut().for_each(BTreeMap::clear);
            needed.clone()
        } else {
            needed.difference(&known).copied().collect()
        };
        for Range { start, end } in runs(missing.into_iter()) {
            for volume in spool.minute_volumes(start, end, MEASURES).await? {
                if let Some(minutes) = key(&volume).and_then(|key| self.watched.get_mut(&key)) {
                    *minutes.entry(volume.minute).or_default() += volume.amount;
                }
            }
        }
        self.known = needed;
        Ok(())
    }

    fn sum(&self, place: &Place, quarantined: bool, minutes: Range<i64>) -> Amount {
        let mut sum = Amount::default();
        if let Some(of) = self.watched.get(&(place.clone(), quarantined)).filter(|_| minutes.start < minutes.end) {
            of.range(minutes).for_each(|(_, amount)| sum += *amount);
        }
        sum
    }
}

/// Rising numbers as ranges of neighbours.
fn runs(numbers: impl Iterator<Item = i64>) -> Vec<Range<i64>> {
    let mut runs: Vec<Range<i64>> = Vec::new();
    for number in numbers {
        match runs.last_mut() {
            Some(run) if run.end == number => run.end += 1,
            _ => runs.push(number..number + 1),
        }
    }
    runs
}

impl Readings for Volumes {
    fn volume(&self, place: &Place, quarantined: bool, minutes: Range<i64>) -> Amount {
        self.sum(place, quarantined, minutes)
    }

    fn first_minute(&self) -> Option<i64> {
        self.first
    }

    fn heard_ms(&self, _: &str) -> Option<i64> {
        None
    }

    fn standing(&self, _: &str) -> Option<Standing> {
        None
    }

    fn is_balanced(&self) -> Option<bool> {
        None
    }
}

/// What is known at one moment.
struct Moment<'a> {
    volumes: &'a Volumes,
    heard: HashMap<String, i64>,
    standing: HashMap<String, Standing>,
    is_balanced: Option<bool>,
}

impl Readings for Moment<'_> {
    fn volume(&self, place: &Place, quarantined: bool, minutes: Range<i64>) -> Amount {
        self.volumes.sum(place, quarantined, minutes)
    }

    fn first_minute(&self) -> Option<i64> {
        self.volumes.first
    }

    fn heard_ms(&self, source: &str) -> Option<i64> {
        self.heard.get(source).copied()
    }

    fn standing(&self, destination: &str) -> Option<Standing> {
        self.standing.get(destination).copied()
    }

    fn is_balanced(&self) -> Option<bool> {
        self.is_balanced
    }
}

/// How the alerts stand.
#[derive(Default)]
pub(crate) struct Alerts(tokio::sync::Mutex<Book>);

#[derive(Default)]
struct Book {
    is_read: bool,
    stand: BTreeMap<String, AlertRecord>,
    silences: HashMap<String, Silence>,
    volumes: Volumes,
    /// Since when a source is in the plan, as far as this service knows.
    sources: HashMap<String, i64>,
    /// In which minute it was looked whether the ledger balances, and whether it did.
    balance: Option<(i64, bool)>,
}

/// An alert of the plan, and how it stands.
pub(crate) struct AlertStanding {
    pub(crate) alert: Alert,
    pub(crate) record: Option<AlertRecord>,
    pub(crate) silence: Option<Silence>,
}

/// Why an alert cannot be acknowledged.
#[derive(Debug)]
pub(crate) enum NotOn {
    Unknown,
    Quiet,
    Records(RecordsError),
}

fn state(record: &AlertRecord) -> State {
    State {
        phase: Phase::ALL.into_iter().find(|phase| phase.word() == record.phase).unwrap_or_default(),
        since_ms: record.since_ms,
        told_ms: record.told_ms,
        is_told: record.is_told,
        is_acknowledged: record.acknowledged_by.is_some(),
    }
}

fn notice(alert: &Alert, turn: Turn, says: String, since_ms: i64, at_ms: i64) -> NewNotice {
    NewNotice {
        at_ms,
        alert: alert.name.clone(),
        turn: turn.word().to_owned(),
        severity: alert.severity.word().to_owned(),
        says,
        watches: alert.when.to_string(),
        advice: alert.advice.clone(),
        since_ms,
    }
}

/// How an alert stands after it was looked at, and what is to be told.
fn turned(
    alert: &Alert,
    before: Option<&AlertRecord>,
    found: Option<Finding>,
    ends: Option<bool>,
    is_silenced: bool,
    now: i64,
) -> (AlertRecord, Option<NewNotice>) {
    let ms = |duration: Duration| i64::try_from(duration.as_millis()).unwrap_or(i64::MAX);
    let rules = Rules { hold_ms: ms(alert.lasting), again_ms: alert.again.map(ms), is_silenced };
    let mut stands = before.map(state).unwrap_or_default();
    let since = stands.since_ms;
    let turn = stands.step(now, found.as_ref().map(|f| f.holds), ends, rules);
    let says = found.map_or_else(|| before.map(|b| b.says.clone()).unwrap_or_default(), |f| f.says);
    let told = turn.map(|turn| notice(alert, turn, says.clone(), if turn == Turn::Over { since } else { stands.since_ms }, now));
    let record = AlertRecord {
        name: alert.name.clone(),
        phase: stands.phase.word().to_owned(),
        since_ms: stands.since_ms,
        told_ms: stands.told_ms,
        is_told: stands.is_told,
        acknowledged_by: before.and_then(|b| b.acknowledged_by.clone()).filter(|_| stands.is_acknowledged),
        says,
    };
    (record, told)
}

/// All that the alerts of a plan watch.
fn conditions(plan: &CheckedPlan) -> Vec<&AlertCondition> {
    plan.alerts.iter().flat_map(|alert| [Some(&alert.when), alert.until.as_ref()]).flatten().collect()
}

impl Book {
    async fn read(&mut self, app: &App) -> Result<(), RecordsError> {
        if !self.is_read {
            let (stand, silences) = app.records(|r| Ok((r.alerts()?, r.silences(now_ms())?))).await?;
            self.stand = stand.into_iter().map(|record| (record.name.clone(), record)).collect();
            self.silences = silences.into_iter().map(|silence| (silence.alert.clone(), silence)).collect();
            self.is_read = true;
        }
        Ok(())
    }

    fn is_silenced(&self, name: &str, now: i64) -> bool {
        self.silences.get(name).is_some_and(|silence| silence.until_ms > now)
    }

    /// When something was last heard from each source; from one of which nothing was, when it came into the plan.
    fn heard(&mut self, app: &App, plan: &CheckedPlan, now: i64) -> HashMap<String, i64> {
        self.sources.retain(|name, _| plan.sources.iter().any(|s| s.name == *name));
        let heard = plan.sources.iter().map(|source| {
            let begun = *self.sources.entry(source.name.clone()).or_insert(now);
            (source.name.clone(), app.sources.monitor(&source.name).get().last_event_ms.unwrap_or(begun))
        });
        heard.collect()
    }

    async fn look(&mut self, app: &App) -> anyhow::Result<()> {
        let running = app.engine.running();
        let plan = &running.checked;
        let now = now_ms();
        self.read(app).await?;
        let watched = conditions(plan);
        let heard = self.heard(app, plan, now);
        if watched.is_empty() && self.stand.is_empty() {
            return Ok(());
        }
        self.volumes.know(&app.spool, &watched, now - SETTLE, now - SETTLE).await?;
        if watched.contains(&&AlertCondition::Unbalanced) && self.balance.is_none_or(|(minute, _)| minute != now.div_euclid(60_000)) {
            self.balance = Some((now.div_euclid(60_000), app.spool.balance().await?.iter().all(Equation::holds)));
        }
        let waiting = app.spool.waiting();
        let standing = plan.destinations.iter().map(|d| {
            let (health, is_paused) = (app.engine.health(&d.name), app.engine.paused(Side::Destination, &d.name).is_some());
            let is = |state| health.as_ref().is_none_or(|health| health.state == state) && !is_paused;
            let failing_ms = health.as_ref().filter(|_| is(DestinationState::Failing)).map(|health| health.since_ms);
            let waits = waiting.get(&d.name).copied().unwrap_or_default();
            let is_untried = is(DestinationState::Idle) && waits.amount.events > 0;
            (d.name.clone(), Standing { failing_ms, is_untried, waiting: waits.amount, oldest_ms: waits.oldest_ms })
        });
        let moment = Moment { volumes: &self.volumes, heard, standing: standing.collect(), is_balanced: self.balance.map(|(_, balanced)| balanced) };
        // Volumes are of minutes that have settled.
        let find = |condition: &AlertCondition| find(condition, &moment, if matches!(condition, AlertCondition::Volume { .. }) { now - SETTLE } else { now });
        let (mut changed, mut told) = (Vec::new(), Vec::new());
        for alert in &plan.alerts {
            let before = self.stand.get(&alert.name);
            let ends = alert.until.as_ref().map(|until| find(until).is_some_and(|f| f.holds));
            let (record, notice) = turned(alert, before, find(&alert.when), ends, self.is_silenced(&alert.name, now), now);
            told.extend(notice);
            changed.push(record);
        }
        let gone: Vec<String> = self.stand.keys().filter(|name| plan.alerts.iter().all(|alert| alert.name != **name)).cloned().collect();
        for record in gone.iter().filter_map(|name| self.stand.get(name)).filter(|record| record.is_told && record.phase == Phase::On.word()) {
            // Whoever was told that it began is told that it is not watched any more.
            let last = app.records({
                let name = record.name.clone();
                move |r| r.newest_notices(Some(&name), 1)
            });
            if let Some(Notice { told: last, .. }) = last.await?.pop() {
                told.push(NewNotice { at_ms: now, turn: Turn::Over.word().to_owned(), says: "it is not watched any more".to_owned(), ..last });
            }
        }
        // The measured value changes all the time; it is kept with what matters.
        let is_news =
            |record: &&AlertRecord| self.stand.get(&record.name).is_none_or(|before| AlertRecord { says: before.says.clone(), ..(*record).clone() } != *before);
        let news: Vec<AlertRecord> = changed.iter().filter(is_news).cloned().collect();
        if !news.is_empty() || !told.is_empty() || !gone.is_empty() {
            for notice in &told {
                tracing::info!(alert = notice.alert, turn = notice.turn, says = notice.says, "alert");
            }
            let forgotten = gone.clone();
            app.records(move |r| r.turn_alerts(&news, &told).and_then(|()| r.forget_alerts(&forgotten))).await?;
        }
        gone.iter().for_each(|name| drop(self.stand.remove(name)));
        self.stand.extend(changed.into_iter().map(|record| (record.name.clone(), record)));
        Ok(())
    }
}

impl Alerts {
    /// The alerts of the active plan.
    pub(crate) async fn all(&self, app: &App) -> Result<Vec<AlertStanding>, RecordsError> {
        let mut book = self.0.lock().await;
        book.read(app).await?;
        let now = now_ms();
        let one = |alert: &Alert| AlertStanding {
            alert: alert.clone(),
            record: book.stand.get(&alert.name).cloned(),
            silence: book.silences.get(&alert.name).filter(|silence| silence.until_ms > now).cloned(),
        };
        Ok(app.engine.running().checked.alerts.iter().map(one).collect())
    }

    /// The names of those that are on and that nobody has acknowledged or silenced.
    pub(crate) async fn unacknowledged(&self, app: &App) -> Result<Vec<String>, RecordsError> {
        let all = self.all(app).await?;
        let is_open = |record: &AlertRecord| record.phase == Phase::On.word() && record.acknowledged_by.is_none();
        Ok(all.into_iter().filter(|a| a.silence.is_none() && a.record.as_ref().is_some_and(is_open)).map(|a| a.alert.name).collect())
    }

    /// Keeps that somebody has seen that an alert is on.
    pub(crate) async fn acknowledge(&self, app: &App, name: &str, who: &str) -> Result<(), NotOn> {
        let mut book = self.0.lock().await;
        book.read(app).await.map_err(NotOn::Records)?;
        let record = book.stand.get(name).ok_or(NotOn::Unknown)?;
        if record.phase != Phase::On.word() {
            return Err(NotOn::Quiet);
        }
        if record.acknowledged_by.is_none() {
            let record = AlertRecord { acknowledged_by: Some(who.to_owned()), ..record.clone() };
            let kept = record.clone();
            app.records(move |r| r.turn_alerts(&[kept], &[])).await.map_err(NotOn::Records)?;
            book.stand.insert(record.name.clone(), record);
        }
        Ok(())
    }

    /// Nobody is told of an alert until `until_ms`, milliseconds since 1970.
    pub(crate) async fn silence(&self, app: &App, silence: Silence) -> Result<(), RecordsError> {
        let mut book = self.0.lock().await;
        book.read(app).await?;
        let kept = silence.clone();
        app.records(move |r| r.silence_alert(&kept.alert, kept.until_ms, &kept.who)).await?;
        book.silences.insert(silence.alert.clone(), silence);
        Ok(())
    }

    /// An alert is told again. Says whether it was silenced.
    pub(crate) async fn end_silence(&self, app: &App, name: &str) -> Result<bool, RecordsError> {
        let mut book = self.0.lock().await;
        book.read(app).await?;
        let asked = name.to_owned();
        app.records(move |r| r.end_silence(&asked)).await?;
        Ok(book.silences.remove(name).is_some_and(|silence| silence.until_ms > now_ms()))
    }
}

/// Looks once a second.
pub(crate) async fn run(app: Arc<App>) {
    let mut ticks = tokio::time::interval(EVERY);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        ticks.tick().await;
        if let Err(e) = app.alerts.0.lock().await.look(&app).await {
            tracing::warn!(error = %e, "alerts cannot be looked at; they are looked at again");
        }
    }
}

/// A notice as an event.
pub(crate) fn event(notice: &Notice) -> String {
    let told = &notice.told;
    let time = |ms: i64| jiff::Timestamp::from_millisecond(ms).map(|time| time.to_string()).unwrap_or_default();
    let message = match told.turn.as_str() {
        "over" => format!("{} is over: {}", told.alert, told.says),
        "again" => format!("{} is still so: {}", told.alert, told.says),
        _ => format!("{}: {}", told.alert, told.says),
    };
    let mut event = serde_json::json!({
        "time": time(told.at_ms),
        "severity": told.severity,
        "service": "rockrose",
        "message": message,
        "number": notice.number,
        "alert": told.alert,
        "turn": told.turn,
        "watches": told.watches,
        "since": time(told.since_ms),
    });
    if let Some(advice) = &told.advice {
        event["advice"] = advice.as_str().into();
    }
    event.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn neighbours_are_read_at_once() {
        assert_eq!(runs([1, 2, 3, 7, 9, 10].into_iter()), [1..4, 7..8, 9..11]);
        assert!(runs(std::iter::empty()).is_empty());
    }

    #[test]
    fn a_notice_is_an_event_that_says_what_and_since_when() {
        let told = NewNotice {
            at_ms: 60_000,
            alert: "desk-late".into(),
            turn: "over".into(),
            severity: "error".into(),
            says: "nothing waits".into(),
            watches: "ledger out of balance".into(),
            advice: Some("call".into()),
            since_ms: 1_000,
        };
        let event: serde_json::Value = serde_json::from_str(&event(&Notice { number: 4, told })).unwrap();
        assert_eq!(event["message"], "desk-late is over: nothing waits");
        assert_eq!((&event["time"], &event["since"]), (&"1970-01-01T00:01:00Z".into(), &"1970-01-01T00:00:01Z".into()));
        assert_eq!((&event["severity"], &event["advice"], &event["number"]), (&"error".into(), &"call".into(), &4.into()));
    }
}
