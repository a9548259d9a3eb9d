//! Looks at what the plan's alerts watch, once a second, and notes what is to be told of them. Sources of kind `alerts` hand the notices on as events.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;

use rockrose_alerts::{BudgetReading, Finding, Heard, Phase, Readings, Rules, Standing, State, Turn, find};
use rockrose_delivery::State as DestinationState;
use rockrose_language::{AlertCondition, Bound, Counted, Place, VolumeUnit};
use rockrose_ledger::{Amount, Equation, Measure, Stage};
use rockrose_plan::{Alert, CheckedPlan};
use rockrose_records::{AlertRecord, NewNotice, Notice, RecordsError, Side, Silence, TokenKind};
use rockrose_spool::{Spool, SpoolError, Volume};

use crate::{App, now_ms};

/// How often it is looked.
const EVERY: Duration = Duration::from_secs(1);
/// What was counted within a minute is committed so long after it, in milliseconds.
const SETTLE: i64 = 2_000;
/// So many minutes are read again, for what was committed later still.
const LATE: i64 = 3;
/// What volumes are taken from.
const MEASURES: &[Measure] = &[Measure::Received, Measure::Taken, Measure::Delivered, Measure::Remainder, Measure::Quarantined];

/// What passed the places that are watched, minute by minute, as far as it is asked for.
#[derive(Default)]
pub(crate) struct Volumes {
    watched: HashMap<Counted, BTreeMap<i64, Amount>>,
    /// The minutes that are known, also of what did not pass in them.
    known: BTreeSet<i64>,
    first: Option<i64>,
}

/// What is counted, whatever the unit: both are kept.
fn counted(place: Place, quarantined: bool) -> Counted {
    Counted::At { unit: VolumeUnit::Events, quarantined, place }
}

/// The same, for what a condition counts.
fn key(of: &Counted) -> Counted {
    match of {
        Counted::At { quarantined, place, .. } => counted(place.clone(), *quarantined),
        Counted::Metric(_) => of.clone(),
    }
}

/// What a row of the ledger counts for.
fn counts_for(volume: &Volume) -> Option<Counted> {
    let name = || volume.name.clone();
    match (volume.stage, volume.measure) {
        (Stage::Source, Measure::Received) => Some(counted(Place::Source(name()), false)),
        (Stage::Source, Measure::Remainder) => Some(counted(Place::Remainder, false)),
        (Stage::Source, Measure::Quarantined) => Some(counted(Place::Source(name()), true)),
        (Stage::Route, Measure::Taken) => Some(counted(Place::Route(name()), false)),
        (Stage::Destination, Measure::Delivered) => Some(counted(Place::Destination(name()), false)),
        (Stage::Destination, Measure::Quarantined) => Some(counted(Place::Destination(name()), true)),
        _ => None,
    }
}

impl Volumes {
    /// Reads what these conditions ask for at any time from `from_ms` to `to_ms`, milliseconds since 1970, and is not known yet; the rest is forgotten.
    pub(crate) async fn know(&mut self, spool: &Spool, conditions: &[&AlertCondition], from_ms: i64, to_ms: i64) -> Result<(), SpoolError> {
        let (from, to) = (from_ms.div_euclid(60_000), to_ms.div_euclid(60_000));
        let (mut watched, mut needed) = (HashSet::new(), BTreeSet::new());
        for condition in conditions {
            let AlertCondition::Volume { over, bound, .. } = condition else { continue };
            watched.extend(condition.counted().into_iter().map(key));
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
        // What is read is only known once all of it is: a read that fails begins anew.
        let mut known = std::mem::take(&mut self.known);
        if !watched.iter().all(|key| self.watched.contains_key(key)) {
            known.clear();
        }
        // What arrived within a minute may be committed after it: the last minutes are read again.
        known.retain(|minute| *minute < to - LATE && needed.contains(minute));
        self.watched.retain(|key, _| watched.contains(key));
        for key in watched {
            self.watched.entry(key).or_default().retain(|minute, _| known.contains(minute));
        }
        self.first = spool.first_minute(0).await?;
        for Range { start, end } in runs(needed.difference(&known).copied()) {
            for volume in spool.minute_volumes(start, end, MEASURES, self.names()).await? {
                if let Some(minutes) = counts_for(&volume).and_then(|key| self.watched.get_mut(&key)) {
                    *minutes.entry(volume.minute).or_default() += volume.amount;
                }
            }
            for (of, minutes) in &mut self.watched {
                let Counted::Metric(metric) = of else { continue };
                let mut counts: BTreeMap<i64, f64> = BTreeMap::new();
                for (minute, _, added) in spool.metric_minutes(metric, start, Some(end)).await? {
                    *counts.entry(minute).or_default() += added.count;
                }
                // Weights of what was sampled may be fractions.
                minutes.extend(counts.into_iter().map(|(minute, count)| (minute, Amount { events: count.round() as i64, bytes: 0 })));
            }
        }
        self.known = needed;
        Ok(())
    }

    /// The names of the places that are watched; of the remainder, which is counted at every source, all.
    fn names(&self) -> Option<Vec<String>> {
        let name = |of: &Counted| match of {
            Counted::At { place: Place::Source(name) | Place::Route(name) | Place::Destination(name), .. } => Some(name.clone()),
            Counted::At { place: Place::Remainder, .. } => None,
            // It is not in the ledger.
            Counted::Metric(_) => Some(String::new()),
        };
        self.watched.keys().map(name).collect()
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
    fn volume(&self, counted: &Counted, minutes: Range<i64>) -> Amount {
        let mut sum = Amount::default();
        if let Some(of) = self.watched.get(&key(counted)).filter(|_| minutes.start < minutes.end) {
            of.range(minutes).for_each(|(_, amount)| sum += *amount);
        }
        sum
    }

    fn first_minute(&self) -> Option<i64> {
        self.first
    }
}

/// What is known at one moment.
struct Moment<'a> {
    volumes: &'a Volumes,
    heard: HashMap<String, Heard>,
    standing: HashMap<String, Standing>,
    is_balanced: Option<bool>,
    /// Name, group, and what was heard of each agent.
    agents: Vec<(String, String, Heard)>,
    budgets: HashMap<String, BudgetReading>,
    disk: Option<(i64, i64)>,
    tokens: Option<Vec<(String, i64)>>,
}

impl Readings for Moment<'_> {
    fn volume(&self, counted: &Counted, minutes: Range<i64>) -> Amount {
        self.volumes.volume(counted, minutes)
    }

    fn first_minute(&self) -> Option<i64> {
        self.volumes.first_minute()
    }

    fn heard(&self, source: &str) -> Option<Heard> {
        self.heard.get(source).copied()
    }

    fn standing(&self, destination: &str) -> Option<Standing> {
        self.standing.get(destination).copied()
    }

    fn agents(&self, group: Option<&str>) -> Option<Vec<(String, Heard)>> {
        let of = self.agents.iter().filter(|(_, theirs, _)| group.is_none_or(|group| group == theirs));
        Some(of.map(|(name, _, heard)| (name.clone(), *heard)).collect())
    }

    fn disk(&self) -> Option<(i64, i64)> {
        self.disk
    }

    fn tokens(&self) -> Option<Vec<(String, i64)>> {
        self.tokens.clone()
    }

    fn budget(&self, name: &str) -> Option<BudgetReading> {
        self.budgets.get(name).cloned()
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
    /// Of which revision and minute the volumes are known.
    known: Option<(i64, i64)>,
    /// In which minute it was looked whether the ledger balances, and whether it did.
    balance: Option<(i64, bool)>,
    /// In which minute it was looked which tokens end, and when they do.
    tokens: Option<(i64, Vec<(String, i64)>)>,
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

/// How many percent of the disk with the data are used, of what anybody may use of it, and how many bytes are free.
fn disk(app: &App) -> Option<(i64, i64)> {
    let of = nix::sys::statvfs::statvfs(app.samples_file.parent()?).ok()?;
    let (all, free, available) = (i128::from(of.blocks()), i128::from(of.blocks_free()), i128::from(of.blocks_available()));
    let used = all - free;
    let percent = (used * 100).checked_div(used + available)?;
    Some((i64::try_from(percent).ok()?, i64::try_from(available * i128::from(of.fragment_size())).ok()?))
}

/// All that some alerts watch.
fn conditions(alerts: &[Alert]) -> Vec<&AlertCondition> {
    alerts.iter().flat_map(|alert| [Some(&alert.when), alert.until.as_ref()]).flatten().collect()
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

    /// What was heard from the sources of which that is watched.
    fn heard(&mut self, app: &App, plan: &CheckedPlan, watched: &[&AlertCondition], now: i64) -> HashMap<String, Heard> {
        self.sources.retain(|name, _| plan.sources.iter().any(|s| s.name == *name));
        plan.sources.iter().for_each(|source| {
            self.sources.entry(source.name.clone()).or_insert(now);
        });
        let silent = watched.iter().filter_map(|condition| if let AlertCondition::Silent { source, .. } = condition { Some(source) } else { None });
        let heard = |name: &String| {
            let last = app.sources.monitor(name).get().last_event_ms.map(Heard::At);
            Some((name.clone(), last.or_else(|| self.sources.get(name).copied().map(Heard::NothingSince))?))
        };
        silent.filter_map(heard).collect()
    }

    async fn look(&mut self, app: &App) -> anyhow::Result<()> {
        let running = app.engine.running();
        let plan = &running.checked;
        let now = now_ms();
        self.read(app).await?;
        let alerts = plan.all_alerts();
        let watched = conditions(&alerts);
        let heard = self.heard(app, plan, &watched, now);
        if watched.is_empty() && self.stand.is_empty() {
            return Ok(());
        }
        let known = Some((running.revision, (now - SETTLE).div_euclid(60_000)));
        if self.known != known {
            self.volumes.know(&app.spool, &watched, now - SETTLE, now - SETTLE).await?;
            self.known = known;
        }
        if watched.contains(&&AlertCondition::Unbalanced) && self.balance.is_none_or(|(minute, _)| minute != now.div_euclid(60_000)) {
            self.balance = Some((now.div_euclid(60_000), app.spool.balance().await?.iter().all(Equation::holds)));
        }
        let minute = now.div_euclid(60_000);
        let asks_tokens = watched.iter().any(|condition| matches!(condition, AlertCondition::TokenEnds { .. }));
        if asks_tokens && self.tokens.as_ref().is_none_or(|(known, _)| *known != minute) {
            let tokens = app.records(move |r| r.tokens(TokenKind::Client, now)).await?;
            self.tokens = Some((minute, tokens.into_iter().filter_map(|token| Some((token.name, token.expires_ms?))).collect()));
        }
        let disk = if watched.iter().any(|condition| matches!(condition, AlertCondition::Disk { .. })) { disk(app) } else { None };
        let waiting = app.spool.waiting();
        let destinations = watched.iter().filter_map(|condition| match condition {
            AlertCondition::Failing { destination, .. }
            | AlertCondition::Oldest { destination, .. }
            | AlertCondition::Promise { destination, .. }
            | AlertCondition::Waiting { destination, .. } => Some(destination),
            _ => None,
        });
        let standing = destinations.map(|name| {
            let (health, is_paused) = (app.engine.health(name), app.engine.paused(Side::Destination, name).is_some());
            let is = |state| health.as_ref().is_none_or(|health| health.state == state) && !is_paused;
            let failing_ms = health.as_ref().filter(|_| is(DestinationState::Failing)).map(|health| health.since_ms);
            let waits = waiting.get(name).copied().unwrap_or_default();
            let late = health.as_ref().and_then(|health| health.freshness.late);
            let promise = running.checked.destinations.iter().find(|d| d.name == *name).and_then(|d| d.within);
            let promise_used = promise.zip(late).map(|(promise, late)| promise.used_percent(late));
            let is_untried = is(DestinationState::Idle) && waits.amount.events > 0;
            (name.clone(), Standing { failing_ms, is_untried, waiting: waits.amount, oldest_ms: waits.oldest_ms, promise_used })
        });
        let agents =
            if watched.iter().any(|condition| matches!(condition, AlertCondition::AgentSilent { .. })) { app.agents.heard(app.started_ms) } else { Vec::new() };
        let standing = standing.collect();
        let moment = Moment {
            volumes: &self.volumes,
            heard,
            standing,
            is_balanced: self.balance.map(|(_, balanced)| balanced),
            agents,
            budgets: app.budgets.readings(),
            disk,
            tokens: self.tokens.as_ref().map(|(_, tokens)| tokens.clone()),
        };
        // Volumes are of minutes that have settled.
        let find = |condition: &AlertCondition| find(condition, &moment, if matches!(condition, AlertCondition::Volume { .. }) { now - SETTLE } else { now });
        let (mut changed, mut told) = (Vec::new(), Vec::new());
        for alert in &alerts {
            let before = self.stand.get(&alert.name);
            let ends = alert.until.as_ref().map(|until| find(until).is_some_and(|f| f.holds));
            let (record, notice) = turned(alert, before, find(&alert.when), ends, self.is_silenced(&alert.name, now), now);
            told.extend(notice);
            changed.push(record);
        }
        let gone: Vec<String> = self.stand.keys().filter(|name| alerts.iter().all(|alert| alert.name != **name)).cloned().collect();
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
            app.records(move |r| r.turn_alerts(&news, &told, &forgotten)).await?;
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
        Ok(app.engine.running().checked.all_alerts().iter().map(one).collect())
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
            app.records(move |r| r.turn_alerts(&[kept], &[], &[])).await.map_err(NotOn::Records)?;
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

    #[tokio::test]
    async fn what_is_committed_late_is_counted_once() {
        use rockrose_ledger::{Account, Posting};
        use rockrose_spool::Arrival;
        let folder = tempfile::tempdir().unwrap();
        let spool = Spool::open(&folder.path().join("spool.db")).unwrap();
        let arrives = async |minute: i64, name: &str, measure: Measure, events: i64| {
            let account = Account { stage: Stage::Source, name: name.to_owned(), via: String::new(), position: 0, sentence: String::new(), measure };
            let posting = Posting::new(account, Amount { events, bytes: 10 * events });
            let arrival = Arrival { source: name.to_owned(), arrived_ms: minute * 60_000 + 5, postings: vec![posting], ..Arrival::default() };
            spool.store(arrival).await.unwrap();
        };
        let conditions =
            ["events at source:quays over 5 minutes > 1", "events at remainder over 5 minutes > 1"].map(|text| rockrose_language::parse_alert(text).unwrap());
        let (of_source, all) = (vec![&conditions[0]], conditions.iter().collect::<Vec<_>>());
        let quays = counted(Place::Source("quays".into()), false);
        let mut volumes = Volumes::default();
        let known = async |volumes: &mut Volumes, conditions: &[&AlertCondition], minute: i64| {
            volumes.know(&spool, conditions, minute * 60_000, minute * 60_000).await.unwrap();
            volumes.volume(&quays, minute - 5..minute).events
        };
        arrives(100, "quays", Measure::Received, 3).await;
        arrives(100, "gates", Measure::Received, 50).await;
        assert_eq!(known(&mut volumes, &of_source, 101).await, 3);
        arrives(100, "quays", Measure::Received, 4).await;
        assert_eq!(known(&mut volumes, &of_source, 102).await, 7, "what came late is counted, and what was known is not counted again");
        arrives(99, "quays", Measure::Remainder, 2).await;
        assert_eq!(
            (known(&mut volumes, &all, 102).await, volumes.volume(&counted(Place::Remainder, false), 97..102).events),
            (7, 2),
            "another place is watched from now on"
        );
        assert_eq!((known(&mut volumes, &all, 106).await, volumes.first), (0, Some(99)), "minute 100 is over five minutes ago");
        tokio::task::spawn_blocking(move || spool.close()).await.unwrap();
    }
}
