//! `report`: what a month came to: who sent what where, what it cost, what was saved, what failed.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use clap::{Args, ValueEnum};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use rockrose_api::{AlertNotice, AlertsAnswer, BudgetState, BudgetsAnswer, Flow, LedgerAnswer, LedgerByTag, LedgerEntry, Status};
use rockrose_language::Period;
use rockrose_ledger::Money;

use crate::client::Client;
use crate::cost::{hundredths, saved};
use crate::{Common, Exit, Failure, Outcome, cost, format};

/// So many of the steps that saved most are listed.
const SAVED: usize = 20;

/// How a report is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum As {
    /// A page for a terminal or a letter
    Text,
    /// One page of HTML, complete in itself
    Html,
    /// Comma-separated values: the table's name first in each row
    Csv,
}

/// Which report is made.
#[derive(Args)]
pub struct ReportArgs {
    /// The month; this one, if nothing is said
    #[arg(long, value_name = "YYYY-MM")]
    month: Option<String>,
    /// By whose clocks the month begins, by its name in the IANA time zone database
    #[arg(long, value_name = "ZONE", default_value = "UTC")]
    time_zone: String,
    /// How it is written
    #[arg(long = "as", value_enum, default_value = "text")]
    form: As,
    /// Write it to this file
    #[arg(long, short, value_name = "FILE")]
    output: Option<std::path::PathBuf>,
}

/// What stands in a table.
#[derive(Clone, Debug, PartialEq)]
enum Cell {
    Text(String),
    Count(i64),
    Bytes(i64),
    /// Amounts, each with its currency.
    Money(Vec<(Money, String)>),
}

impl Cell {
    /// Nothing.
    fn none() -> Cell {
        Cell::Text(String::new())
    }

    /// As people read it.
    fn shown(&self) -> String {
        match self {
            Cell::Text(text) => text.clone(),
            Cell::Count(count) => format::count(*count),
            Cell::Bytes(bytes) => format::bytes(*bytes as f64),
            Cell::Money(all) => all.iter().map(|(money, currency)| amount(*money, currency)).collect::<Vec<_>>().join(", "),
        }
    }

    /// As programs do: whole, and never rounded.
    fn whole(&self) -> String {
        match self {
            Cell::Text(text) => text.clone(),
            Cell::Count(number) | Cell::Bytes(number) => number.to_string(),
            Cell::Money(all) => all.iter().map(|(money, currency)| format!("{money} {currency}")).collect::<Vec<_>>().join(", "),
        }
    }
}

impl From<&str> for Cell {
    fn from(text: &str) -> Cell {
        Cell::Text(text.to_owned())
    }
}

/// A part of a report.
#[derive(Clone, Debug, PartialEq)]
struct Table {
    title: String,
    head: Vec<&'static str>,
    /// Columns of numbers.
    right: Vec<usize>,
    rows: Vec<Vec<Cell>>,
    /// What is said where there is nothing.
    none: &'static str,
}

/// What a report says.
#[derive(Clone, Debug, PartialEq)]
struct Report {
    title: String,
    says: Vec<String>,
    tables: Vec<Table>,
}

/// What the service knows of the span.
struct Known {
    ledger: LedgerAnswer,
    teams: BTreeMap<String, String>,
    budgets: BudgetsAnswer,
    notices: Vec<AlertNotice>,
    by_tag: Vec<LedgerByTag>,
}

/// Events and bytes.
type Sum = (i64, i64);

/// The month of a text such as `2026-11`, from its beginning to its end by the clocks of `zone`, in milliseconds since 1970.
fn month(text: &str, zone: &TimeZone) -> Option<(i64, i64)> {
    let (year, month) = text.split_once('-')?;
    let date = Date::new(year.parse().ok()?, month.parse().ok()?, 15).ok()?;
    let within = zone.to_zoned(date.at(12, 0, 0, 0)).ok()?.timestamp().as_millisecond();
    Some(Period::Month.around(within, zone))
}

/// Sums of the rows of some measures at a place, by name; of steps, nothing.
fn sums(rows: &[LedgerEntry], place: &str, measure: &str) -> BTreeMap<String, Sum> {
    let mut all: BTreeMap<String, Sum> = BTreeMap::new();
    for row in rows.iter().filter(|r| r.place == place && r.measure == measure && r.position == 0) {
        let sum = all.entry(row.name.clone()).or_default();
        sum.0 += row.events;
        sum.1 += row.bytes;
    }
    all
}

/// What was spent, by a name and the currency; what is paid by the month is left out.
fn spent(rows: &[LedgerEntry], name: impl Fn(&LedgerEntry) -> String) -> BTreeMap<(String, String), Money> {
    cost::sums(rows, name).into_iter().map(|(of, spent)| (of, spent.money)).collect()
}

fn amount(money: Money, currency: &str) -> String {
    format!("{} {currency}", hundredths(money))
}

/// What was spent of a name, in each currency.
fn amounts(all: &BTreeMap<(String, String), Money>, name: &str) -> Cell {
    Cell::Money(all.iter().filter(|((n, _), _)| n == name).map(|((_, currency), money)| (*money, currency.clone())).collect())
}

/// Its cells: events and bytes of a name, or nothing where there were none.
fn cells(sums: &BTreeMap<String, Sum>, name: &str) -> [Cell; 2] {
    sums.get(name).map_or_else(|| [Cell::none(), Cell::none()], |(events, bytes)| [Cell::Count(*events), Cell::Bytes(*bytes)])
}

/// Its cell: events of a name, or nothing where there were none.
fn events(sums: &BTreeMap<String, Sum>, name: &str) -> Cell {
    sums.get(name).map_or_else(Cell::none, |(events, _)| Cell::Count(*events))
}

impl Known {
    fn sources(&self) -> Table {
        let rows = &self.ledger.rows;
        let (received, quarantined, lost) = (sums(rows, "source", "received"), sums(rows, "source", "quarantined"), sums(rows, "source", "lost"));
        let row = |name: &String| {
            let [count, bytes] = cells(&received, name);
            vec![name.as_str().into(), count, bytes, events(&quarantined, name), events(&lost, name)]
        };
        let head = vec!["source", "events", "bytes", "unreadable", "lost before"];
        Table { title: "Who sent".into(), head, right: vec![1, 2, 3, 4], rows: received.keys().map(row).collect(), none: "Nothing was received." }
    }

    fn routes(&self) -> Table {
        let rows = &self.ledger.rows;
        let (taken, out) = (sums(rows, "route", "taken"), sums(rows, "route", "out"));
        let cost = spent(rows, |row| row.via.clone());
        let row = |name: &String| {
            let team = self.teams.get(name).map_or("", String::as_str);
            [vec![name.as_str().into(), team.into()], cells(&taken, name).to_vec(), cells(&out, name).to_vec(), vec![amounts(&cost, name)]].concat()
        };
        let head = vec!["route", "team", "events", "bytes", "went on", "bytes", "costs"];
        Table { title: "By which ways".into(), head, right: vec![2, 3, 4, 5, 6], rows: taken.keys().map(row).collect(), none: "No route took anything." }
    }

    fn destinations(&self) -> Table {
        let rows = &self.ledger.rows;
        let of = |measure: &str| sums(rows, "destination", measure);
        let (queued, delivered, refused, discarded) = (of("enqueued"), of("delivered"), of("quarantined"), of("discarded"));
        let cost = spent(rows, |row| row.name.clone());
        let standing = |name: &str| {
            let of = self.ledger.costs.iter().find(|c| c.destination == name)?;
            Money::read_exact(of.standing.as_deref()?).filter(|money| *money != Money::ZERO).map(|money| Cell::Money(vec![(money, of.currency.clone())]))
        };
        let row = |name: &String| {
            let [count, bytes] = cells(&queued, name);
            let more =
                [events(&delivered, name), events(&refused, name), events(&discarded, name), amounts(&cost, name), standing(name).unwrap_or_else(Cell::none)];
            [name.as_str().into(), count, bytes].into_iter().chain(more).collect()
        };
        let head = vec!["destination", "events", "bytes", "accepted", "refused", "let go", "costs", "by the month"];
        Table { title: "Where it went".into(), head, right: vec![1, 2, 3, 4, 5, 6, 7], rows: queued.keys().map(row).collect(), none: "Nothing was sent." }
    }

    fn teams(&self) -> Table {
        let cost = spent(&self.ledger.rows, |row| self.teams.get(&row.via).cloned().unwrap_or_else(|| "(no team)".to_owned()));
        let rows = cost.iter().map(|((team, currency), money)| vec![team.as_str().into(), Cell::Money(vec![(*money, currency.clone())])]).collect();
        Table { title: "Whose it was".into(), head: vec!["team", "costs"], right: vec![1], rows, none: "No destination has a price." }
    }

    /// What each value of a tag came to.
    fn by_tag(of: &LedgerByTag) -> Table {
        let money = |sums: &cost::Sums| Cell::Money(sums.iter().map(|(currency, money)| (*money, currency.clone())).collect());
        let row = |line: &cost::TagLine| {
            let amounts = [line.arrived, line.sent].into_iter().flat_map(|(events, bytes)| [Cell::Count(events), Cell::Bytes(bytes)]);
            std::iter::once(Cell::Text(line.value.clone())).chain(amounts).chain([money(&line.costs), money(&line.saved)]).collect()
        };
        let rows = cost::tag_lines(of).iter().map(row).collect();
        let head = vec!["value", "arrived", "bytes", "sent", "bytes", "costs", "saved by steps"];
        Table { title: format!("By {}", of.tag), head, right: vec![1, 2, 3, 4, 5, 6], rows, none: "Nothing was counted." }
    }

    fn saved(&self) -> Table {
        let all = saved(&self.ledger.rows);
        let row = |s: &cost::Saved| {
            let money = Cell::Money(vec![(s.money, s.currency.clone())]);
            vec![money, Cell::Count(s.events), Cell::Bytes(s.bytes), s.place.as_str().into(), s.sentence.as_str().into()]
        };
        let rows = all.iter().filter(|s| s.money > Money::ZERO).take(SAVED).map(row).collect();
        let head = vec!["saved", "events", "bytes", "at", "step"];
        Table {
            title: "What steps saved".into(),
            head,
            right: vec![0, 1, 2],
            rows,
            none: "No step has taken anything from what goes to a destination with a price.",
        }
    }

    /// Only in the month that goes on budgets stand as they do.
    fn budgets(&self) -> Option<Table> {
        let is_now = self.ledger.until_ms.is_none_or(|until| until > self.ledger.now_ms);
        let row = |b: &BudgetState| vec![b.name.as_str().into(), b.allows.as_str().into(), Cell::Text(format!("{} %", b.percent))];
        let rows: Vec<Vec<Cell>> = self.budgets.budgets.iter().map(row).collect();
        (is_now && !rows.is_empty()).then(|| Table {
            title: "Budgets, as they stand".into(),
            head: vec!["budget", "allows", "used"],
            right: vec![2],
            rows,
            none: "",
        })
    }

    fn failed(&self) -> Table {
        let began = |n: &&AlertNotice| n.turn == "began";
        let row = |n: &AlertNotice| vec![Cell::Text(format::moment(n.at_ms)), n.alert.as_str().into(), n.severity.as_str().into(), n.says.as_str().into()];
        let rows = self.notices.iter().filter(began).map(row).collect();
        let head = vec!["when", "alert", "severity", "measured"];
        Table { title: "What was told".into(), head, right: vec![], rows, none: "No alert was told, as far as the last hundred notices reach." }
    }

    fn report(&self, title: String, status: &Status) -> Report {
        let mut totals: BTreeMap<String, Money> = BTreeMap::new();
        for ((_, currency), money) in spent(&self.ledger.rows, |_| String::new()) {
            *totals.entry(currency).or_default() += money;
        }
        for cost in &self.ledger.costs {
            if let Some(money) = cost.standing.as_deref().and_then(Money::read_exact) {
                *totals.entry(cost.currency.clone()).or_default() += money;
            }
        }
        let in_all: Vec<String> = totals.iter().map(|(currency, money)| amount(*money, currency)).collect();
        let balance = if status.balanced { "The ledger balances." } else { "The ledger does not balance: see `rockrose ledger`." };
        let cost = if in_all.is_empty() {
            "No destination has a price.".to_owned()
        } else {
            format!("In all it cost {}, by the prices of the active plan.", in_all.join(" and "))
        };
        let mut tables = vec![self.sources(), self.routes(), self.destinations(), self.teams()];
        tables.extend(self.by_tag.iter().map(Known::by_tag));
        tables.push(self.saved());
        tables.extend(self.budgets());
        tables.push(self.failed());
        Report { title, says: vec![cost, balance.to_owned()], tables }
    }
}

impl Report {
    fn text(&self) -> String {
        let mut blocks = vec![format::paint(&self.title, format::HEAD), self.says.join("\n")];
        for table in &self.tables {
            let shown = if table.rows.is_empty() {
                table.none.to_owned()
            } else {
                format::table(&table.head, &table.right, table.rows.iter().map(|row| row.iter().map(Cell::shown).collect()).collect())
            };
            blocks.push(format!("{}\n{shown}", format::paint(&table.title, format::HEAD)));
        }
        blocks.join("\n\n")
    }

    fn html(&self) -> String {
        let mut out = format!(
            "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<title>{0}</title>\n<style>\
             body{{font:15px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:70rem;padding:0 1rem;color:#241c19}}\
             h1{{font-size:1.5rem}}h2{{font-size:1.1rem;margin:1.8rem 0 .4rem}}table{{border-collapse:collapse;width:100%}}\
             th,td{{text-align:left;padding:.25rem .8rem .25rem 0;border-bottom:1px solid #e4d9d3;vertical-align:top}}\
             .n{{text-align:right;font-variant-numeric:tabular-nums;white-space:nowrap}}</style>\n</head>\n<body>\n<h1>{0}</h1>\n",
            escaped(&self.title)
        );
        for line in &self.says {
            let _ = writeln!(out, "<p>{}</p>", escaped(line));
        }
        for table in &self.tables {
            let _ = writeln!(out, "<h2>{}</h2>", escaped(&table.title));
            if table.rows.is_empty() {
                let _ = writeln!(out, "<p>{}</p>", escaped(table.none));
                continue;
            }
            let class = |at: usize| if table.right.contains(&at) { " class=\"n\"" } else { "" };
            let cells = |tag: &str, row: &[String]| -> String {
                let cell = |(at, text): (usize, &String)| format!("<{tag}{}>{}</{tag}>", class(at), escaped(text));
                format!("<tr>{}</tr>\n", row.iter().enumerate().map(cell).collect::<String>())
            };
            let head: Vec<String> = table.head.iter().map(|h| (*h).to_owned()).collect();
            let body: String = table.rows.iter().map(|row| cells("td", &row.iter().map(Cell::shown).collect::<Vec<_>>())).collect();
            let _ = write!(out, "<table>\n<thead>\n{}</thead>\n<tbody>\n{body}</tbody>\n</table>\n", cells("th", &head));
        }
        out.push_str("</body>\n</html>");
        out
    }

    fn csv(&self) -> String {
        let line = |row: &[String]| row.iter().map(|cell| quoted(cell)).collect::<Vec<_>>().join(",");
        let mut out = String::new();
        for table in &self.tables {
            let head: Vec<String> = ["table"].iter().chain(&table.head).map(|h| (*h).to_owned()).collect();
            let _ = writeln!(out, "{}", line(&head));
            for row in &table.rows {
                let _ = writeln!(out, "{}", line(&std::iter::once(table.title.clone()).chain(row.iter().map(Cell::whole)).collect::<Vec<_>>()));
            }
        }
        out.trim_end().to_owned()
    }
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// A cell of CSV (RFC 4180). What a spreadsheet would take for a formula is told that it is a text.
fn quoted(cell: &str) -> String {
    let cell = if cell.starts_with(['=', '+', '@', '\t']) { format!("'{cell}") } else { cell.to_owned() };
    if cell.contains(['"', ',', '\n', '\r']) { format!("\"{}\"", cell.replace('"', "\"\"")) } else { cell }
}

pub(crate) async fn report(common: &Common, args: ReportArgs) -> Outcome {
    let zone = TimeZone::get(&args.time_zone).map_err(|_| Failure::new(Exit::Failed, format!("there is no time zone `{}`", args.time_zone)))?;
    let now = jiff::Timestamp::now().to_zoned(zone.clone());
    let asked = args.month.unwrap_or_else(|| now.strftime("%Y-%m").to_string());
    let Some((from, to)) = month(&asked, &zone) else { return Err(Failure::new(Exit::Failed, format!("`{asked}` is no month: write it as 2026-11"))) };
    let client = Client::new(common)?;
    let ledger: LedgerAnswer = client.get(&format!("/api/v1/ledger?from_ms={from}&to_ms={to}")).await?.read()?;
    let mut by_tag: Vec<LedgerByTag> = Vec::new();
    for tag in &ledger.tags {
        by_tag.push(client.get(&cost::tag_query(tag, &format!("from_ms={from}&to_ms={to}"))).await?.read()?);
    }
    let flow: Flow = client.get("/api/v1/flow").await?.read()?;
    let budgets: BudgetsAnswer = client.get("/api/v1/budgets").await?.read()?;
    let alerts: AlertsAnswer = client.get("/api/v1/alerts").await?.read()?;
    let status: Status = client.get("/api/v1/status").await?.read()?;
    let notices = alerts.notices.into_iter().filter(|n| (from..to).contains(&n.at_ms)).collect();
    let teams = flow.routes.into_iter().filter_map(|r| Some((r.name, r.team?))).collect();
    let so_far = if to > now.timestamp().as_millisecond() { ", so far" } else { "" };
    let report = Known { ledger, teams, budgets, notices, by_tag }.report(format!("{} in {asked}{so_far}", status.node), &status);
    if common.json {
        let table = |t: &Table| serde_json::json!({ "title": t.title, "head": t.head, "rows": t.rows.iter().map(|row| row.iter().map(Cell::whole).collect::<Vec<_>>()).collect::<Vec<_>>() });
        return format::print_json(
            &serde_json::json!({ "title": report.title, "says": report.says, "tables": report.tables.iter().map(table).collect::<Vec<_>>() }),
        );
    }
    let written = match args.form {
        As::Text => report.text(),
        As::Html => report.html(),
        As::Csv => report.csv(),
    };
    match args.output {
        None => format::line(&written),
        Some(path) => {
            std::fs::write(&path, format!("{written}\n")).map_err(|e| Failure::new(Exit::Failed, format!("{}: {e}", path.display())))?;
            format::line(&format!("The report is in {}.", path.display()))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_month_is_that_of_the_calendar() {
        let ms = |text: &str| text.parse::<jiff::Timestamp>().unwrap().as_millisecond();
        assert_eq!(month("2026-02", &TimeZone::UTC), Some((ms("2026-02-01T00:00:00Z"), ms("2026-03-01T00:00:00Z"))));
        let lisbon = TimeZone::get("Europe/Lisbon").unwrap();
        assert_eq!(month("2026-10", &lisbon), Some((ms("2026-09-30T23:00:00Z"), ms("2026-11-01T00:00:00Z"))));
        assert_eq!(["2026", "2026-13", "soon-1", ""].map(|wrong| month(wrong, &TimeZone::UTC)), [None; 4]);
    }

    #[test]
    fn a_report_is_written_for_people_browsers_and_spreadsheets() {
        let table = Table {
            title: "Who sent".into(),
            head: vec!["source", "events"],
            right: vec![1],
            rows: vec![vec!["=a<b>".into(), Cell::Count(1_000)]],
            none: "Nothing.",
        };
        let empty = Table { rows: Vec::new(), title: "What was told".into(), ..table.clone() };
        let report = Report { title: "quay in 2026-11".into(), says: vec!["In all it cost 1.00 EUR.".into()], tables: vec![table, empty] };
        let text = report.text();
        for words in ["quay in 2026-11", "In all it cost 1.00 EUR.", "Who sent\n", "=a<b>", "What was told\nNothing."] {
            assert!(text.contains(words), "{words} in\n{text}");
        }
        let html = report.html();
        assert!(
            html.contains("<td>=a&lt;b&gt;</td><td class=\"n\">1\u{202f}000</td>") && html.contains("<p>Nothing.</p>") && html.ends_with("</html>"),
            "{html}"
        );
        assert_eq!(report.csv(), "table,source,events\nWho sent,'=a<b>,1000\ntable,source,events");
        assert_eq!([quoted("a,\"b\""), quoted("-1")], ["\"a,\"\"b\"\"\"", "-1"]);
    }
}
