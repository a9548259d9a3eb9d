//! What is kept beside queues and ledger: open windows, and metrics by minute.

use std::collections::BTreeMap;

use diesel::prelude::*;
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Added, Series, WindowChange, WindowState};

use crate::SpoolError;
use crate::schema::{held, metric_minute, metric_total};

/// Sum and buckets of a histogram, as they are kept.
type Values = Option<(f64, BTreeMap<i32, f64>)>;

pub(crate) fn keep_held(c: &mut SqliteConnection, changes: &[WindowChange]) -> QueryResult<()> {
    for change in changes {
        let id = change.id.to_be_bytes().to_vec();
        match &change.state {
            Some(content) => {
                let content = serde_json::to_string(content).map_err(|e| diesel::result::Error::SerializationError(Box::new(e)))?;
                diesel::replace_into(held::table).values((held::id.eq(id), held::content.eq(content))).execute(c)?;
            }
            None => {
                diesel::delete(held::table.find(id)).execute(c)?;
            }
        }
    }
    Ok(())
}

pub(crate) fn held(c: &mut SqliteConnection) -> Result<Vec<(u128, WindowState)>, SpoolError> {
    let rows: Vec<(Vec<u8>, String)> = held::table.select((held::id, held::content)).load(c)?;
    let mut all: Vec<(u128, WindowState)> =
        rows.into_iter().filter_map(|(id, content)| Some((u128::from_be_bytes(id.try_into().ok()?), serde_json::from_str(&content).ok()?))).collect();
    all.sort_by_key(|(_, held)| held.due_ms);
    Ok(all)
}

fn read(count: f64, content: &str) -> Added {
    Added { count, values: serde_json::from_str::<Values>(content).unwrap_or_default() }
}

fn labels(series: &Series) -> String {
    serde_json::to_string(&series.labels).unwrap_or_default()
}

pub(crate) fn add(c: &mut SqliteConnection, added: &BTreeMap<(i64, Series), Added>) -> QueryResult<()> {
    for ((minute, series), more) in added {
        let labels = labels(series);
        {
            use metric_minute::dsl as m;
            let known: Option<(f64, String)> =
                metric_minute::table.find((minute, &series.metric, &labels)).select((m::count, m::content)).first(c).optional()?;
            let mut sum = known.map(|(count, content)| read(count, &content)).unwrap_or_default();
            sum.add(more);
            let content = serde_json::to_string(&sum.values).unwrap_or_default();
            let row = (m::minute.eq(minute), m::metric.eq(&series.metric), m::labels.eq(&labels), m::count.eq(sum.count), m::content.eq(content));
            diesel::replace_into(metric_minute::table).values(row).execute(c)?;
        }
        use metric_total::dsl as m;
        let known: Option<(f64, String)> = metric_total::table.find((&series.metric, &labels)).select((m::count, m::content)).first(c).optional()?;
        let mut sum = known.map(|(count, content)| read(count, &content)).unwrap_or_default();
        sum.add(more);
        let content = serde_json::to_string(&sum.values).unwrap_or_default();
        let row = (m::metric.eq(&series.metric), m::labels.eq(&labels), m::count.eq(sum.count), m::content.eq(content));
        diesel::replace_into(metric_total::table).values(row).execute(c)?;
    }
    Ok(())
}

/// Forgets the minutes before `minute`.
pub(crate) fn forget(c: &mut SqliteConnection, minute: i64) -> QueryResult<()> {
    diesel::delete(metric_minute::table.filter(metric_minute::minute.lt(minute))).execute(c).map(|_| ())
}

pub(crate) fn totals(c: &mut SqliteConnection) -> Result<BTreeMap<Series, Added>, SpoolError> {
    use metric_total::dsl as m;
    let rows: Vec<(String, String, f64, String)> = metric_total::table.select((m::metric, m::labels, m::count, m::content)).load(c)?;
    let one = |(metric, labels, count, content): (String, String, f64, String)| {
        let labels = serde_json::from_str(&labels).ok()?;
        Some((Series { metric, labels }, read(count, &content)))
    };
    Ok(rows.into_iter().filter_map(one).collect())
}

pub(crate) fn minutes(c: &mut SqliteConnection, metric: &str, since: i64, until: Option<i64>) -> Result<Vec<(i64, Series, Added)>, SpoolError> {
    use metric_minute::dsl as m;
    let rows: Vec<(i64, String, f64, String)> = metric_minute::table
        .filter(m::metric.eq(metric).and(m::minute.ge(since)).and(m::minute.lt(until.unwrap_or(i64::MAX))))
        .order((m::minute, m::labels))
        .select((m::minute, m::labels, m::count, m::content))
        .load(c)?;
    let one = |(minute, labels, count, content): (i64, String, f64, String)| {
        let labels = serde_json::from_str(&labels).ok()?;
        Some((minute, Series { metric: metric.to_owned(), labels }, read(count, &content)))
    };
    Ok(rows.into_iter().filter_map(one).collect())
}
