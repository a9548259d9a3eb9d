//! `ledger`: an account that adds up.

use clap::Args;
use rockrose_api::{LedgerAnswer, LedgerEntry, LedgerEquation};

use crate::client::Client;
use crate::format::{self, BAD, GOOD, HEAD, paint};
use crate::{Common, Exit, Outcome};

/// Events and bytes.
#[derive(Clone, Copy, Default)]
struct Sum {
    events: i64,
    bytes: i64,
}

struct Account<'a> {
    rows: Vec<&'a LedgerEntry>,
}

impl Account<'_> {
    fn sum(&self, measure: &str) -> Sum {
        self.sum_at(measure, None)
    }

    fn sum_at(&self, measure: &str, step: Option<(i32, &str)>) -> Sum {
        let mut sum = Sum::default();
        for row in self.rows.iter().filter(|r| r.measure == measure) {
            if step.is_none_or(|(position, sentence)| row.position == position && row.sentence == sentence) {
                sum.events += row.events;
                sum.bytes += row.bytes;
            }
        }
        sum
    }

    /// Each step that did anything, in order; or those that the active plan has no more.
    fn steps(&self, current: bool) -> Vec<(i32, &str)> {
        let mut steps: Vec<(i32, &str)> =
            self.rows.iter().filter(|r| r.position != 0 && r.current == current).map(|r| (r.position, r.sentence.as_str())).collect();
        steps.sort();
        steps.dedup();
        steps
    }
}

/// Longest line of a label, in characters, so that a page fits a narrow terminal.
const LABEL: usize = 60;

struct Page {
    rows: Vec<Vec<String>>,
}

impl Page {
    fn put(&mut self, label: String, events: String, bytes: String) {
        self.rows.push(vec![label, events, bytes]);
    }

    /// A label that may be long: it goes on in further lines, below its beginning.
    fn wrapped(&mut self, label: &str, events: String, bytes: String) {
        let indent = " ".repeat(label.len() - label.trim_start().len());
        let mut lines = vec![indent.clone()];
        for word in label.split_whitespace() {
            let current = lines.len() - 1;
            if lines[current].trim().is_empty() {
                lines[current].push_str(word);
            } else if lines[current].chars().count() + 1 + word.chars().count() <= LABEL {
                lines[current].push(' ');
                lines[current].push_str(word);
            } else {
                lines.push(format!("{indent}     {word}"));
            }
        }
        let mut lines = lines.into_iter();
        self.put(lines.next().unwrap_or_default(), events, bytes);
        for line in lines {
            self.put(line, String::new(), String::new());
        }
    }

    fn line(&mut self, label: &str, sum: Sum) {
        self.put(format!("  {label}"), format::count(sum.events), format::count(sum.bytes));
    }

    fn less(&mut self, label: &str, sum: Sum) {
        self.put(format!("  − {label}"), format::count(-sum.events), format::count(-sum.bytes));
    }

    /// What steps removed, and the bytes they saved or added on what they changed.
    fn steps(&mut self, account: &Account<'_>) {
        self.some_steps(account, true);
        let gone = account.steps(false);
        if gone.is_empty() {
            return;
        }
        let last = account.rows.iter().filter(|r| !r.current).filter_map(|r| r.last_revision).max();
        self.put(last.map_or_else(|| "  of earlier revisions:".to_owned(), |last| format!("  of earlier revisions, to {last}:")), String::new(), String::new());
        self.some_steps(account, false);
    }

    fn some_steps(&mut self, account: &Account<'_>, current: bool) {
        for (position, sentence) in account.steps(current) {
            let of = |measure: &str| account.sum_at(measure, Some((position, sentence)));
            let (removed, changed, failed, held) = (of("removed"), of("changed"), of("failed"), of("held"));
            if removed.events > 0 {
                self.wrapped(&format!("  − {position}. {sentence}"), format::count(-removed.events), format::count(-removed.bytes));
            }
            if held.events != 0 {
                self.wrapped(&format!("  ‖ {position}. {sentence} (holds back)"), format::count(-held.events), format::count(-held.bytes));
            }
            if changed.events > 0 {
                self.wrapped(&format!("  ± {position}. {sentence} (changed {})", format::count(changed.events)), String::new(), format::count(-changed.bytes));
            }
            if failed.events > 0 {
                self.wrapped(&format!("    {position}. {sentence} (failed on {})", format::count(failed.events)), String::new(), String::new());
            }
        }
    }
}

/// What part of the account is asked for: the last minutes, or a stretch of time; neither, everything since the beginning.
#[derive(Args)]
pub struct Span {
    /// Only the last N minutes
    #[arg(long, value_name = "N")]
    minutes: Option<i64>,
    /// Only from this time on, such as 2026-11-29T06:00:00Z
    #[arg(long, value_name = "TIME", conflicts_with = "minutes")]
    from: Option<jiff::Timestamp>,
    /// Only up to this time
    #[arg(long, value_name = "TIME", conflicts_with = "minutes")]
    to: Option<jiff::Timestamp>,
}

impl Span {
    pub(crate) fn query(&self) -> String {
        let ms = |name: &str, at: Option<jiff::Timestamp>| at.map(|at| format!("{name}={}", at.as_millisecond()));
        let parts = [self.minutes.map(|m| format!("minutes={m}")), ms("from_ms", self.from), ms("to_ms", self.to)];
        parts.into_iter().flatten().collect::<Vec<_>>().join("&")
    }
}

pub(crate) async fn ledger(common: &Common, span: Span) -> Outcome {
    let client = Client::new(common)?;
    let query = span.query();
    let answer = client.get(&format!("/api/v1/ledger?{query}")).await?;
    let account: LedgerAnswer = answer.read()?;
    let exit = if account.balanced { Exit::Done } else { Exit::NotBalanced };
    if common.json {
        answer.print()?;
        return Ok(exit);
    }
    let (answer, all) = (&account, &account.rows);
    if all.is_empty() {
        format::line(if query.is_empty() { "Nothing has arrived yet." } else { "Nothing was counted in this time." })?;
        return Ok(exit);
    }
    let mut page = Page { rows: Vec::new() };
    for place in ["source", "route", "destination"] {
        let mut names: Vec<&str> = all.iter().filter(|r| r.place == place).map(|r| r.name.as_str()).collect();
        names.sort_unstable();
        names.dedup();
        for name in names {
            let account = Account { rows: all.iter().filter(|r| r.place == place && r.name == name).collect() };
            page.put(paint(&format!("{place} {name}"), HEAD), String::new(), String::new());
            match place {
                "source" => source(&mut page, &account),
                "route" => route(&mut page, &account),
                _ => destination(&mut page, &account, answer, name, query.is_empty()),
            }
        }
    }
    let since = span_in_words(answer.since_ms, answer.until_ms);
    let mut blocks = vec![since, format::table(&["", "events", "bytes"], &[1, 2], page.rows), verdict(&answer.equations)];
    blocks.extend(answer.caveats.iter().map(|caveat| paint(caveat, BAD)));
    format::blocks(&blocks)?;
    Ok(exit)
}

/// From when to when an account is.
pub(crate) fn span_in_words(since_ms: Option<i64>, until_ms: Option<i64>) -> String {
    let until = until_ms.map_or_else(|| "now".to_owned(), format::moment);
    match since_ms {
        Some(ms) => format!("From {} to {until}", format::moment(ms)),
        None if until_ms.is_some() => format!("From the beginning to {until}"),
        None => "Since the beginning".to_owned(),
    }
}

fn source(page: &mut Page, account: &Account<'_>) {
    let lost = account.sum("lost");
    if lost.events > 0 {
        page.line("lost before they were received", lost);
    }
    page.line("received", account.sum("received"));
    let quarantined = account.sum("quarantined");
    if quarantined.events > 0 {
        page.less("unreadable, in quarantine", quarantined);
    }
    let rewritten = account.sum("rewritten");
    if rewritten.events > 0 {
        page.wrapped(&format!("  ± written as JSON lines ({})", format::count(rewritten.events)), String::new(), format::count(-rewritten.bytes));
    }
    page.steps(account);
    page.line("= passed on", account.sum("passed"));
    page.line("  taken by routes", account.sum("routed"));
    page.line("  remainder, taken by none", account.sum("remainder"));
}

fn route(page: &mut Page, account: &Account<'_>) {
    page.line("taken", account.sum("taken"));
    page.steps(account);
    page.line("= out", account.sum("out"));
}

fn destination(page: &mut Page, account: &Account<'_>, answer: &LedgerAnswer, name: &str, whole: bool) {
    page.line("offered by routes", account.sum("offered"));
    page.steps(account);
    page.line("= queued", account.sum("enqueued"));
    page.line("  delivered", account.sum("delivered"));
    for (label, measure) in [("  refused, in quarantine", "quarantined"), ("  discarded", "discarded"), ("  spilled to another", "spilled")] {
        let sum = account.sum(measure);
        if sum.events > 0 {
            page.line(label, sum);
        }
    }
    if whole {
        let waiting = answer.waiting.iter().find(|w| w.destination == name);
        page.line("  waiting", waiting.map_or_else(Sum::default, |w| Sum { events: w.events, bytes: w.bytes }));
    }
}

fn verdict(equations: &[LedgerEquation]) -> String {
    let off: Vec<&LedgerEquation> = equations.iter().filter(|e| !e.holds).collect();
    if off.is_empty() {
        return format!("{}: all {} equations hold, to the event and to the byte", paint("balanced", GOOD), equations.len());
    }
    let line = |e: &&LedgerEquation| {
        let (events, bytes) = (e.left_events - e.right_events, e.left_bytes - e.right_bytes);
        format!("  {} {}: {}: off by {} events and {} bytes", e.place, e.name, e.says, format::count(events), format::count(bytes))
    };
    format!("{}\n{}", paint("NOT balanced", BAD), off.iter().map(line).collect::<Vec<_>>().join("\n"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(measure: &str, position: i32, sentence: &str, events: i64, bytes: i64) -> LedgerEntry {
        let [place, name, via] = ["route", "r", "s"].map(str::to_owned);
        LedgerEntry {
            place,
            name,
            via,
            position,
            sentence: sentence.to_owned(),
            measure: measure.to_owned(),
            events,
            bytes,
            current: true,
            last_revision: None,
            money: None,
            currency: None,
            saved: Vec::new(),
        }
    }

    fn printed(rows: &[LedgerEntry], print: fn(&mut Page, &Account<'_>)) -> Vec<String> {
        let mut page = Page { rows: Vec::new() };
        print(&mut page, &Account { rows: rows.iter().collect() });
        page.rows.into_iter().map(|r| r.join("|").trim().to_owned()).collect()
    }

    #[test]
    fn steps_of_earlier_revisions_stand_apart() {
        let mut rows = [row("removed", 1, "drop a = 1", 3, 30), row("removed", 1, "drop b = 1", 2, 20)];
        (rows[1].current, rows[1].last_revision) = (false, Some(4));
        let mut page = Page { rows: Vec::new() };
        page.steps(&Account { rows: rows.iter().collect() });
        let labels: Vec<&str> = page.rows.iter().map(|line| line[0].as_str()).collect();
        assert_eq!(labels, ["  − 1. drop a = 1", "  of earlier revisions, to 4:", "  − 1. drop b = 1"]);
    }

    #[test]
    fn lines_of_an_account_add_up() {
        let rows = [
            row("taken", 0, "", 10, 1_000),
            row("removed", 1, "drop a = 1", 3, 300),
            row("changed", 2, "tag x = 1", 7, -70),
            row("failed", 2, "tag x = 1", 1, 100),
            row("out", 0, "", 7, 770),
        ];
        let lines = printed(&rows, route);
        assert_eq!(lines[0], "taken|10|1\u{202f}000");
        assert_eq!(lines[1], "− 1. drop a = 1|-3|-300");
        assert!(lines[2].starts_with("± 2. tag x = 1") && lines[2].contains("changed 7") && lines[2].ends_with("||70"), "{}", lines[2]);
        assert!(lines[3].contains("failed on 1"));
        assert_eq!(lines[4], "= out|7|770");
        // The bytes column adds up: what was taken, less what went, plus what was added, is what is out.
        assert_eq!(1_000 - 300 + 70, 770);
    }

    #[test]
    fn a_long_sentence_goes_on_below_with_its_numbers_beside_its_beginning() {
        let sentence = "sample 1 in 5 by trace_id unless severity >= warn or kind = \"refund\" or kind = \"declined\"";
        let rows = [row("removed", 4, sentence, 3, 300)];
        let lines = printed(&rows, route);
        assert!(lines[1].starts_with("− 4. sample 1 in 5 by") && lines[1].ends_with("|-3|-300"), "{}", lines[1]);
        assert!(lines.iter().all(|l| l.split('|').next().unwrap().chars().count() <= LABEL), "{lines:?}");
        let joined: Vec<&str> = lines[1..3].iter().flat_map(|l| l.split('|').next().unwrap().split_whitespace()).collect();
        assert_eq!(joined[2..].join(" "), sentence, "not a word is lost");
    }

    #[test]
    fn amounts_are_summed_over_where_they_came_from() {
        let mut second = row("taken", 0, "", 5, 50);
        second.via = "other".to_owned();
        let lines = printed(&[row("taken", 0, "", 10, 100), second], route);
        assert_eq!(lines, ["taken|15|150", "= out|0|0"]);
    }

    #[test]
    fn the_verdict_says_by_how_much() {
        let equation = |left: i64, right: i64| {
            let [place, name, says] = ["route", "r", "taken = out + removed"].map(str::to_owned);
            let (left_bytes, right_bytes) = (10 * left, 10 * right);
            LedgerEquation { place, name, says, holds: left == right, left_events: left, right_events: right, left_bytes, right_bytes }
        };
        let good = verdict(&[equation(3, 3), equation(0, 0)]);
        assert!(good.contains("balanced: all 2 equations hold"), "{good}");
        let bad = verdict(&[equation(3, 3), equation(5, 3)]);
        assert!(bad.starts_with("NOT balanced") && bad.contains("route r: taken = out + removed: off by 2 events and 20 bytes"), "{bad}");
        assert_eq!(bad.lines().count(), 2);
    }
}
