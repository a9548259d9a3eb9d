//! How alerts stand, what was told of them, and which are silenced.

use diesel::prelude::*;

use crate::schema::{alert, notice, silence};
use crate::{Records, RecordsError};

/// So many notices are kept.
const KEPT: i64 = 10_000;

/// How an alert stands.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Insertable, AsChangeset)]
#[diesel(table_name = alert, treat_none_as_null = true)]
pub struct AlertRecord {
    /// Its name.
    pub name: String,
    /// `quiet`, `rising` or `on`.
    pub phase: String,
    /// Since when, in milliseconds since 1970.
    pub since_ms: i64,
    /// When it was last told, in milliseconds since 1970.
    pub told_ms: i64,
    /// It was told that it is on.
    pub is_told: bool,
    /// Who has seen that it is on.
    pub acknowledged_by: Option<String>,
    /// What was measured, in words.
    pub says: String,
}

/// What is to be told of an alert.
#[derive(Clone, Debug, PartialEq, Eq, Insertable)]
#[diesel(table_name = notice)]
pub struct NewNotice {
    /// When it was so, in milliseconds since 1970.
    pub at_ms: i64,
    /// The alert.
    pub alert: String,
    /// `began`, `again` or `over`.
    pub turn: String,
    /// How grave it is.
    pub severity: String,
    /// What was measured, in words.
    pub says: String,
    /// What it watches.
    pub watches: String,
    /// What to do about it.
    pub advice: Option<String>,
    /// Since when it is on, or was, in milliseconds since 1970.
    pub since_ms: i64,
}

/// What was told of an alert.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Notice {
    /// Its number, from 1.
    pub number: i64,
    /// What.
    pub told: NewNotice,
}

/// An alert of which nobody is told for a while.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct Silence {
    /// The alert.
    pub alert: String,
    /// Until when, in milliseconds since 1970.
    pub until_ms: i64,
    /// Who said so.
    pub who: String,
}

type Row = (i64, i64, String, String, String, String, String, Option<String>, i64);

fn read(row: Row) -> Notice {
    let (number, at_ms, alert, turn, severity, says, watches, advice, since_ms) = row;
    Notice { number, told: NewNotice { at_ms, alert, turn, severity, says, watches, advice, since_ms } }
}

impl Records {
    /// How all alerts stand of which that was ever kept.
    pub fn alerts(&self) -> Result<Vec<AlertRecord>, RecordsError> {
        self.with(|c| Ok(alert::table.order(alert::name).load(c)?))
    }

    /// Keeps how alerts stand and what is to be told of them, and forgets those that are not watched any more, all at once.
    pub fn turn_alerts(&self, stand: &[AlertRecord], told: &[NewNotice], gone: &[String]) -> Result<(), RecordsError> {
        self.with(|c| {
            c.transaction(|c| {
                for record in stand {
                    diesel::insert_into(alert::table).values(record.clone()).on_conflict(alert::name).do_update().set(record.clone()).execute(c)?;
                }
                diesel::delete(alert::table.filter(alert::name.eq_any(gone))).execute(c)?;
                for one in told {
                    diesel::insert_into(notice::table).values(one.clone()).execute(c)?;
                }
                if !told.is_empty() {
                    let last: Option<i64> = notice::table.select(diesel::dsl::max(notice::number)).first(c)?;
                    diesel::delete(notice::table.filter(notice::number.le(last.unwrap_or(0) - KEPT))).execute(c)?;
                }
                Ok(())
            })
        })
    }

    /// All silences that last beyond `now_ms`.
    pub fn silences(&self, now_ms: i64) -> Result<Vec<Silence>, RecordsError> {
        self.with(|c| Ok(silence::table.filter(silence::until_ms.gt(now_ms)).order(silence::alert).load(c)?))
    }

    /// Nobody is told of an alert until `until_ms`, milliseconds since 1970.
    pub fn silence_alert(&self, name: &str, until_ms: i64, who: &str) -> Result<(), RecordsError> {
        self.with(|c| {
            let row = (silence::alert.eq(name), silence::until_ms.eq(until_ms), silence::who.eq(who));
            diesel::replace_into(silence::table).values(row).execute(c)?;
            Ok(())
        })
    }

    /// An alert is told again. Says whether it was silenced.
    pub fn end_silence(&self, name: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(silence::table.find(name)).execute(c)? > 0))
    }

    /// The number of the last notice; 0, if there is none.
    pub fn last_notice(&self) -> Result<i64, RecordsError> {
        self.with(|c| Ok(notice::table.select(diesel::dsl::max(notice::number)).first::<Option<i64>>(c)?.unwrap_or(0)))
    }

    /// At most `most` notices behind the one of this number, oldest first.
    pub fn notices_after(&self, number: i64, most: i64) -> Result<Vec<Notice>, RecordsError> {
        self.with(|c| Ok(notice::table.filter(notice::number.gt(number)).order(notice::number).limit(most).load::<Row>(c)?.into_iter().map(read).collect()))
    }

    /// The newest notices, at most `most`, newest first; of one alert, if one is named.
    pub fn newest_notices(&self, name: Option<&str>, most: i64) -> Result<Vec<Notice>, RecordsError> {
        self.with(|c| {
            let mut wanted = notice::table.order(notice::number.desc()).limit(most).into_boxed();
            if let Some(name) = name {
                wanted = wanted.filter(notice::alert.eq(name.to_owned()));
            }
            Ok(wanted.load::<Row>(c)?.into_iter().map(read).collect())
        })
    }
}
