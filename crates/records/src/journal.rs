//! The journal: who did what. Each entry is chained to the one before by a hash under a key of the key file, so that an entry that was changed or taken out shows.

use diesel::prelude::*;
use hmac::{Hmac, Mac};
use sha2::Sha256;

use crate::schema::{journal, journal_start};
use crate::{Records, RecordsError};

/// What somebody did, or tried to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Action {
    /// Who: the name of a person or a token; empty, if it is not known.
    pub who: String,
    /// From which address.
    pub address: String,
    /// What: `apply plan`, `sign in`, ….
    pub what: String,
    /// To what.
    pub subject: String,
    /// With what result: `done`, or why not.
    pub result: String,
}

/// An entry of the journal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JournalEntry {
    /// Its number, from 1.
    pub number: i64,
    /// When it was made, in milliseconds since 1970.
    pub at_ms: i64,
    /// What was done.
    pub action: Action,
}

/// Which entries are wanted.
#[derive(Clone, Debug, Default)]
pub struct JournalFilter {
    /// Only those with smaller numbers.
    pub before: Option<i64>,
    /// Only those since then, in milliseconds since 1970.
    pub since_ms: Option<i64>,
    /// Only those by this name.
    pub who: Option<String>,
    /// Only those of this action.
    pub action: Option<String>,
    /// Most entries.
    pub most: i64,
}

/// Whether the journal is whole.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct JournalCheck {
    /// How many entries there are.
    pub entries: i64,
    /// The number of the oldest one.
    pub first: Option<i64>,
    /// The number of the newest one.
    pub last: Option<i64>,
    /// The hash of the newest one, in hexadecimal digits. Whoever notes it elsewhere can tell later whether entries were cut off at the end.
    pub head: String,
    /// The number of the first entry that is not as it was written, or before which some are missing.
    pub broken_at: Option<i64>,
}

type Row = (i64, i64, String, String, String, String, String, Vec<u8>);

fn entry((number, at_ms, who, address, what, subject, result, _): Row) -> JournalEntry {
    JournalEntry { number, at_ms, action: Action { who, address, what, subject, result } }
}

impl Records {
    /// The hash of an entry that follows one with the hash `before`.
    fn chained(&self, before: &[u8], number: i64, at_ms: i64, action: &Action) -> Vec<u8> {
        // A key of any length is taken.
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.key.derive("journal")).unwrap_or_else(|_| unreachable!("a key of 32 bytes"));
        mac.update(before);
        mac.update(&number.to_le_bytes());
        mac.update(&at_ms.to_le_bytes());
        for text in [&action.who, &action.address, &action.what, &action.subject, &action.result] {
            mac.update(&(text.len() as u64).to_le_bytes());
            mac.update(text.as_bytes());
        }
        mac.finalize().into_bytes().to_vec()
    }

    /// Adds an entry; returns its number.
    pub fn note(&self, action: &Action, now_ms: i64) -> Result<i64, RecordsError> {
        self.with(|c| {
            c.immediate_transaction(|c| {
                let last: Option<(i64, Vec<u8>)> = journal::table.order(journal::number.desc()).select((journal::number, journal::hash)).first(c).optional()?;
                let last = match last {
                    Some(last) => Some(last),
                    None => journal_start::table.first(c).optional()?,
                };
                let (number, before) = last.map_or((1, Vec::new()), |(number, hash)| (number + 1, hash));
                let row = (
                    (journal::number.eq(number), journal::at_ms.eq(now_ms), journal::who.eq(&action.who), journal::address.eq(&action.address)),
                    (journal::action.eq(&action.what), journal::subject.eq(&action.subject), journal::result.eq(&action.result)),
                    journal::hash.eq(self.chained(&before, number, now_ms, action)),
                );
                diesel::insert_into(journal::table).values(row).execute(c)?;
                Ok(number)
            })
        })
    }

    /// Entries, the newest first.
    pub fn journal(&self, filter: &JournalFilter) -> Result<Vec<JournalEntry>, RecordsError> {
        let mut query = journal::table.order(journal::number.desc()).limit(filter.most).into_boxed();
        if let Some(before) = filter.before {
            query = query.filter(journal::number.lt(before));
        }
        if let Some(since) = filter.since_ms {
            query = query.filter(journal::at_ms.ge(since));
        }
        if let Some(who) = &filter.who {
            query = query.filter(journal::who.eq(who.clone()));
        }
        if let Some(action) = &filter.action {
            query = query.filter(journal::action.eq(action.clone()));
        }
        let rows: Vec<Row> = self.with(|c| Ok(query.load(c)?))?;
        Ok(rows.into_iter().map(entry).collect())
    }

    /// The entries that follow the one of number `after`, the oldest first, at the most `most`.
    pub fn journal_after(&self, after: i64, most: i64) -> Result<Vec<JournalEntry>, RecordsError> {
        let rows: Vec<Row> = self.with(|c| Ok(journal::table.filter(journal::number.gt(after)).order(journal::number).limit(most).load(c)?))?;
        Ok(rows.into_iter().map(entry).collect())
    }

    /// Goes through the whole journal and says whether it is as it was written.
    pub fn check_journal(&self) -> Result<JournalCheck, RecordsError> {
        const AT_ONCE: i64 = 1_000;
        let start: Option<(i64, Vec<u8>)> = self.with(|c| Ok(journal_start::table.first(c).optional()?))?;
        let (mut number, mut hash) = start.unwrap_or_default();
        let mut checked = JournalCheck { entries: 0, first: None, last: None, head: String::new(), broken_at: None };
        loop {
            let rows: Vec<Row> = self.with(|c| Ok(journal::table.filter(journal::number.gt(number)).order(journal::number).limit(AT_ONCE).load(c)?))?;
            if rows.is_empty() {
                checked.head = hash.iter().map(|b| format!("{b:02x}")).collect();
                return Ok(checked);
            }
            for row in rows {
                let (kept, before) = (row.7.clone(), number);
                let entry = entry(row);
                let is_right = entry.number == before + 1 && self.chained(&hash, entry.number, entry.at_ms, &entry.action) == kept;
                if !is_right && checked.broken_at.is_none() {
                    checked.broken_at = Some(entry.number);
                }
                checked.entries += 1;
                checked.first = checked.first.or(Some(entry.number));
                checked.last = Some(entry.number);
                (number, hash) = (entry.number, kept);
            }
        }
    }

    /// Removes entries from the front that were made before then, in milliseconds since 1970. What is left stays a whole journal. Returns how many went.
    pub fn forget_journal(&self, before_ms: i64) -> Result<usize, RecordsError> {
        self.with(|c| {
            c.immediate_transaction(|c| {
                // The first that stays; times may go back, numbers do not.
                let stays: Option<i64> =
                    journal::table.filter(journal::at_ms.ge(before_ms)).order(journal::number).select(journal::number).first(c).optional()?;
                let goes = journal::table.filter(journal::number.lt(stays.unwrap_or(i64::MAX)));
                let last: Option<(i64, Vec<u8>)> = goes.order(journal::number.desc()).select((journal::number, journal::hash)).first(c).optional()?;
                let Some((number, hash)) = last else { return Ok(0) };
                diesel::delete(journal_start::table).execute(c)?;
                diesel::insert_into(journal_start::table).values((journal_start::number.eq(number), journal_start::hash.eq(hash))).execute(c)?;
                Ok(diesel::delete(journal::table.filter(journal::number.le(number))).execute(c)?)
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use diesel::connection::SimpleConnection;

    use super::*;

    fn action(what: &str) -> Action {
        Action { who: "ann".into(), address: "192.0.2.4".into(), what: what.into(), subject: "desk".into(), result: "done".into() }
    }

    fn with(entries: i64) -> (tempfile::TempDir, Records) {
        let folder = tempfile::tempdir().unwrap();
        let records = Records::open(folder.path()).unwrap();
        for n in 1..=entries {
            assert_eq!(records.note(&action(&format!("deed {n}")), n * 10).unwrap(), n);
        }
        (folder, records)
    }

    #[test]
    fn an_entry_that_was_changed_or_taken_out_shows() {
        for (sql, broken_at) in [
            ("SELECT 1", None),
            ("UPDATE journal SET who = 'bo' WHERE number = 3", Some(3)),
            ("UPDATE journal SET at_ms = 31 WHERE number = 3", Some(3)),
            ("UPDATE journal SET who = 'an', address = 'n' || address WHERE number = 5", Some(5)),
            ("DELETE FROM journal WHERE number = 3", Some(4)),
            ("DELETE FROM journal WHERE number <= 2", Some(3)),
            ("UPDATE journal SET hash = x'00' WHERE number = 7", Some(7)),
            ("UPDATE journal SET number = 8 WHERE number = 7", Some(8)),
        ] {
            let (_folder, records) = with(7);
            records.with(|c| Ok(c.batch_execute(sql)?)).unwrap();
            assert_eq!(records.check_journal().unwrap().broken_at, broken_at, "{sql}");
        }
        // An entry that was written under the same key, in another course of things, does not fit in.
        let (_folder, records) = with(7);
        let swap = "CREATE TABLE other AS SELECT * FROM journal WHERE number = 3; DELETE FROM journal WHERE number >= 2";
        records.with(|c| Ok(c.batch_execute(swap)?)).unwrap();
        for n in 2..=5 {
            records.note(&action(&format!("another {n}")), n * 10).unwrap();
        }
        assert_eq!(records.check_journal().unwrap().broken_at, None);
        records.with(|c| Ok(c.batch_execute("DELETE FROM journal WHERE number = 3; INSERT INTO journal SELECT * FROM other")?)).unwrap();
        assert_eq!(records.check_journal().unwrap().broken_at, Some(3));
        // Whoever noted the newest hash sees that entries at the end are gone.
        let (_folder, records) = with(7);
        let head = records.check_journal().unwrap().head;
        records.with(|c| Ok(c.batch_execute("DELETE FROM journal WHERE number = 7")?)).unwrap();
        let checked = records.check_journal().unwrap();
        assert_eq!((checked.broken_at, checked.last), (None, Some(6)));
        assert_ne!(checked.head, head);
    }

    #[test]
    fn old_entries_go_from_the_front_and_the_rest_stays_whole() {
        let (_folder, records) = with(7);
        assert_eq!(records.forget_journal(35).unwrap(), 3);
        assert_eq!(records.forget_journal(35).unwrap(), 0);
        let checked = records.check_journal().unwrap();
        assert_eq!((checked.entries, checked.first, checked.last, checked.broken_at), (4, Some(4), Some(7), None));
        // All of them may go, and the numbers go on.
        assert_eq!(records.forget_journal(1_000).unwrap(), 4);
        assert_eq!(records.note(&action("more"), 5).unwrap(), 8);
        assert_eq!(records.check_journal().unwrap().broken_at, None);
        records.with(|c| Ok(c.batch_execute("DELETE FROM journal_start")?)).unwrap();
        assert_eq!(records.check_journal().unwrap().broken_at, Some(8));
    }

    #[test]
    fn entries_are_found_by_who_did_what_and_when() {
        let (_folder, records) = with(7);
        records.note(&Action { who: "bo".into(), ..action("deed 2") }, 80).unwrap();
        let numbers = |filter: JournalFilter| records.journal(&JournalFilter { most: 3, ..filter }).unwrap().iter().map(|e| e.number).collect::<Vec<_>>();
        assert_eq!(numbers(JournalFilter::default()), [8, 7, 6]);
        assert_eq!(numbers(JournalFilter { before: Some(6), ..JournalFilter::default() }), [5, 4, 3]);
        assert_eq!(numbers(JournalFilter { since_ms: Some(70), ..JournalFilter::default() }), [8, 7]);
        assert_eq!(numbers(JournalFilter { who: Some("bo".into()), ..JournalFilter::default() }), [8]);
        assert_eq!(numbers(JournalFilter { action: Some("deed 2".into()), ..JournalFilter::default() }), [8, 2]);
        assert_eq!(records.journal_after(6, 1).unwrap()[0].action.what, "deed 7");
    }
}
