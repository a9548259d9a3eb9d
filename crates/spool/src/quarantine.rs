//! What quarantine holds is bounded in records and in bytes. Sources and destinations share it: where it is full, the oldest records of those that have most go first, so that
//! nobody's are pushed out by somebody else's.

use diesel::prelude::*;
use diesel::sql_types::{BigInt, Text};
use diesel::sqlite::SqliteConnection;

use crate::schema::quarantine;

/// Most of a record that could not be read that is kept, in bytes.
pub const KEPT_OF_RECORD: usize = 64 << 10;
/// Most records of one body that are kept.
pub const KEPT_OF_BODY: usize = 1_000;
/// Most bytes of one body that are kept.
pub const KEPT_BYTES_OF_BODY: usize = 4 << 20;

/// Bounds of all that is kept.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Bounds {
    pub(crate) records: i64,
    pub(crate) bytes: i64,
}

pub(crate) const BOUNDS: Bounds = Bounds { records: 20_000, bytes: 256 << 20 };

#[derive(QueryableByName)]
struct Share {
    #[diesel(sql_type = Text)]
    place: String,
    #[diesel(sql_type = Text)]
    name: String,
    #[diesel(sql_type = BigInt)]
    records: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
}

#[derive(QueryableByName)]
struct Newest {
    #[diesel(sql_type = BigInt)]
    id: i64,
    #[diesel(sql_type = BigInt)]
    bytes: i64,
}

/// The most that each may have, so that all that is more than others have goes, and no more than must: those that have less keep all.
fn level(mut sizes: Vec<i64>, bound: i64) -> i64 {
    sizes.sort_unstable();
    let (mut left, mut others) = (bound, sizes.len() as i64);
    for size in sizes {
        let share = left / others;
        if size > share {
            return share;
        }
        left -= size;
        others -= 1;
    }
    i64::MAX
}

/// Forgets the oldest records of those that have more than their share. The ledger still counts them.
pub(crate) fn tidy(c: &mut SqliteConnection, bounds: Bounds) -> QueryResult<()> {
    const SIZE: &str = "length(data) + coalesce(length(earlier), 0)";
    let shares: Vec<Share> =
        diesel::sql_query(format!("SELECT place, name, count(*) AS records, sum({SIZE}) AS bytes FROM quarantine GROUP BY place, name")).load(c)?;
    let records = level(shares.iter().map(|s| s.records).collect(), bounds.records);
    let bytes = level(shares.iter().map(|s| s.bytes).collect(), bounds.bytes);
    for share in shares.iter().filter(|s| s.records > records || s.bytes > bytes) {
        let newest = format!("SELECT id, {SIZE} AS bytes FROM quarantine WHERE place = ? AND name = ? ORDER BY id DESC");
        let newest: Vec<Newest> = diesel::sql_query(newest).bind::<Text, _>(&share.place).bind::<Text, _>(&share.name).load(c)?;
        let (mut kept, mut sum) = (0, 0);
        while newest.get(kept).is_some_and(|one| (kept as i64) < records && sum + one.bytes <= bytes) {
            sum += newest[kept].bytes;
            kept += 1;
        }
        if let Some(first) = newest.get(kept) {
            let theirs = quarantine::table.filter(quarantine::place.eq(&share.place).and(quarantine::name.eq(&share.name)));
            diesel::delete(theirs.filter(quarantine::id.le(first.id))).execute(c)?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Records there: by name, so many of so many bytes.
    fn kept(c: &mut SqliteConnection, name: &str) -> Vec<i64> {
        quarantine::table.filter(quarantine::name.eq(name)).order(quarantine::id).select(quarantine::id).load(c).unwrap()
    }

    #[test]
    fn one_sources_records_push_out_nobody_elses() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("spool.db");
        crate::Spool::open(&path).unwrap().close();
        let mut c = crate::connect::writer(&path).unwrap();
        let add = |c: &mut SqliteConnection, name: &str, bytes: usize| {
            let stage = rockrose_ledger::Stage::Source;
            let aside = crate::queue::Aside { at_ms: 0, stage, name, via: "", reason: "no", data: &vec![b'x'; bytes], size: bytes, earlier: None };
            crate::queue::keep_aside(c, aside).unwrap()
        };
        let quiet: Vec<i64> = (0..3).map(|_| add(&mut c, "quiet", 100)).collect();
        let loud: Vec<i64> = (0..50).map(|_| add(&mut c, "loud", 1_000)).collect();
        let large: Vec<i64> = (0..4).map(|_| add(&mut c, "large", 10_000)).collect();
        tidy(&mut c, Bounds { records: 20, bytes: 1 << 20 }).unwrap();
        assert_eq!((kept(&mut c, "quiet"), kept(&mut c, "large")), (quiet.clone(), large.clone()));
        assert_eq!(kept(&mut c, "loud"), loud[37..], "the newest stay");
        tidy(&mut c, Bounds { records: 100, bytes: 30_000 }).unwrap();
        assert_eq!((kept(&mut c, "quiet"), kept(&mut c, "loud").len()), (quiet, 13));
        assert_eq!(kept(&mut c, "large"), large[3..]);
        tidy(&mut c, Bounds { records: 100, bytes: 30_000 }).unwrap();
        assert_eq!(kept(&mut c, "loud").len(), 13);
    }

    #[test]
    fn those_who_have_less_keep_all() {
        for (sizes, bound, expected) in [
            (vec![], 10, i64::MAX),
            (vec![5], 10, i64::MAX),
            (vec![11], 10, 10),
            (vec![100, 1], 10, 9),
            (vec![100, 50, 1, 1], 12, 5),
            (vec![4, 4, 4], 12, i64::MAX),
            (vec![4, 5, 4], 12, 4),
        ] {
            assert_eq!(level(sizes.clone(), bound), expected, "{sizes:?} {bound}");
        }
    }
}
