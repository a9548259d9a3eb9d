//! The spool against a model of itself: whatever is stored, settled and interrupted in whatever order, each destination gets
//! its events in order, each once, and the account balances at every step.

use std::collections::BTreeMap;

use proptest::prelude::*;
use rockrose_ledger::{Earlier, Entry, Measure, Posting, Selection, TagAmount};

use super::super::*;
use super::account;

/// What is done to the spool next.
#[derive(Clone, Debug)]
enum Act {
    /// A body of so many lines is stored; the bits say which destinations each line goes to.
    Store(Vec<u8>),
    /// A destination takes up to so many bytes, and settles so many of the events, as delivered or refused.
    Settle { destination: usize, max_bytes: usize, events: usize, refused: bool },
    /// A destination takes a parcel and the process ends before it settles: nothing may change.
    Forget { destination: usize },
    /// The process ends and begins again.
    Reopen,
    /// From now on the account is told apart by other tags: a bit for each.
    Tags(u8),
}

const NAMES: [&str; 3] = ["a", "b", "c"];
const TAGS: [&str; 2] = ["team", "port"];

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        4 => proptest::collection::vec(0u8..8, 1..12).prop_map(Act::Store),
        6 => (0usize..3, 1usize..200, 1usize..20, proptest::bool::weighted(0.2)).prop_map(|(destination, max_bytes, events, refused)| Act::Settle { destination, max_bytes, events, refused }),
        1 => (0usize..3).prop_map(|destination| Act::Forget { destination }),
        1 => Just(Act::Reopen),
        1 => (0u8..4).prop_map(Act::Tags),
    ]
}

/// What should be in the spool.
#[derive(Default)]
struct Model {
    stored: usize,
    waiting: BTreeMap<usize, Vec<String>>,
    aside: Vec<String>,
    /// The tags by which it is told apart now.
    tags: Vec<&'static str>,
    /// What is counted by tag, value, destination and minute.
    by_tag: BTreeMap<(&'static str, String, &'static str, i64), Amount>,
}

impl Model {
    /// A body whose lines are numbered through, for the spool and for the model.
    fn arrival(&mut self, goes: &[u8]) -> Arrival {
        let mut lines = String::new();
        let mut chosen: [(Selection, Amount); 3] = Default::default();
        let mut values: BTreeMap<(&'static str, &'static str), BTreeMap<String, Amount>> = BTreeMap::new();
        for (i, bits) in goes.iter().enumerate() {
            let line = format!("{{\"line\":{},\"pad\":\"{}\"}}", self.stored, "x".repeat(self.stored % 40));
            self.stored += 1;
            for (d, (selection, amount)) in chosen.iter_mut().enumerate().filter(|(d, _)| bits >> d & 1 == 1) {
                selection.push(i as u32);
                amount.count(line.len());
                for tag in &self.tags {
                    let value = format!("{tag}{}", self.stored % 3);
                    values.entry((tag, NAMES[d])).or_default().entry(value).or_default().count(line.len());
                }
                self.waiting.entry(d).or_default().push(line.clone());
            }
            lines.push_str(&line);
            lines.push('\n');
        }
        let mut entries = Vec::new();
        let mut postings = Vec::new();
        for (name, (selection, amount)) in NAMES.iter().zip(chosen).filter(|(_, (s, _))| !s.is_empty()) {
            for measure in [Measure::Offered, Measure::Enqueued] {
                postings.push(Posting::new(account(Stage::Destination, name, "r", measure), amount));
            }
            let queued = postings.last_mut().unwrap();
            for (at, tag) in self.tags.iter().enumerate() {
                for (value, amount) in &values[&(*tag, *name)] {
                    queued.by_tag.push(TagAmount { tag: at, value: Arc::from(value.as_str()), amount: *amount });
                    *self.by_tag.entry((tag, value.clone(), name, self.stored as i64 / 60)).or_default() += *amount;
                }
            }
            postings.push(Posting::new(account(Stage::Route, "r", "s", Measure::Copies), amount));
            entries.push(Entry { destination: (*name).to_owned(), route: "r".into(), selection, earlier: Earlier::default(), amount });
        }
        Arrival {
            source: "s".into(),
            arrived_ms: 1_000 * self.stored as i64,
            data: pack(lines.into_bytes()),
            entries,
            postings,
            tags: self.tags.iter().map(|tag| Arc::from(*tag)).collect(),
            unread: Vec::new(),
            held: Vec::new(),
            metrics: Vec::new(),
            extras: CommitExtras::default(),
        }
    }
}

fn texts(bytes: &[u8]) -> Vec<String> {
    String::from_utf8(bytes.to_vec()).unwrap().lines().map(str::to_owned).collect()
}

/// Each value of each tag has what was stored of it within the minutes.
async fn by_tag(spool: &Spool, model: &Model, since: Option<i64>, until: Option<i64>) {
    for tag in TAGS {
        let mut expected: BTreeMap<(String, String), Amount> = BTreeMap::new();
        let within = |minute: i64| since.is_none_or(|since| minute >= since) && until.is_none_or(|until| minute < until);
        for ((_, value, name, _), amount) in model.by_tag.iter().filter(|((of, _, _, minute), _)| *of == tag && within(*minute)) {
            *expected.entry((value.clone(), (*name).to_owned())).or_default() += *amount;
        }
        let told = spool.by_tag(tag, since, until).await.unwrap().into_iter();
        let told: BTreeMap<(String, String), Amount> =
            told.filter(|(value, _)| value != rockrose_ledger::BEFORE).map(|(value, row)| ((value, row.account.name), row.amount)).collect();
        assert_eq!(told, expected, "{tag} from {since:?} to {until:?}");
    }
}

async fn run(acts: Vec<Act>) {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("spool.db");
    let mut spool = Spool::open(&path).unwrap();
    let mut model = Model::default();
    for act in acts {
        match act {
            Act::Store(goes) => spool.store(model.arrival(&goes)).await.unwrap(),
            Act::Settle { destination, max_bytes, events, refused } => {
                let expected = model.waiting.entry(destination).or_default();
                let Some(mut parcel) = spool.next(NAMES[destination], max_bytes).await.unwrap() else {
                    assert!(expected.is_empty(), "events wait and none came");
                    continue;
                };
                let all = texts(&parcel.front(usize::MAX));
                assert_eq!(all, expected[..parcel.len()], "in order, from the front");
                assert!(all.len() == 1 || all.iter().map(|l| l.len() + 1).sum::<usize>() <= max_bytes);
                let taken: Vec<String> = expected.drain(..events.min(parcel.len())).collect();
                let settlement = parcel.settle(events, refused.then(|| "no".to_owned()), 5);
                assert_eq!(settlement.amount().events as usize, taken.len());
                spool.settle(settlement).await.unwrap();
                assert_eq!(texts(&parcel.front(usize::MAX)), all[taken.len()..], "what is left of the parcel");
                if refused {
                    model.aside.extend(taken);
                }
            }
            Act::Forget { destination } => drop(spool.next(NAMES[destination], 100).await.unwrap()),
            Act::Tags(bits) => model.tags = TAGS.into_iter().enumerate().filter(|(n, _)| bits >> n & 1 == 1).map(|(_, tag)| tag).collect(),
            Act::Reopen => {
                spool.close();
                spool = Spool::open(&path).unwrap();
            }
        }
        for equation in spool.balance().await.unwrap() {
            assert!(equation.holds(), "{equation:?}");
        }
        by_tag(&spool, &model, None, None).await;
        let waiting = spool.waiting();
        for (d, lines) in &model.waiting {
            let now = waiting.get(NAMES[*d]).copied().unwrap_or_default();
            assert_eq!(now.amount.events as usize, lines.len());
            assert_eq!(now.amount.bytes as usize, lines.iter().map(String::len).sum::<usize>());
            assert_eq!(now.oldest_ms == 0, lines.is_empty());
        }
    }
    for (since, until) in [(None, Some(1)), (Some(1), None), (Some(1), Some(3))] {
        by_tag(&spool, &model, since, until).await;
    }
    let aside: Vec<String> = spool.quarantined(10_000).await.unwrap().into_iter().rev().map(|q| String::from_utf8(q.data).unwrap()).collect();
    assert_eq!(aside, model.aside);
    // Once nothing is queued, nothing is kept.
    for name in NAMES {
        while let Some(mut parcel) = spool.next(name, 1 << 20).await.unwrap() {
            let all = parcel.len();
            spool.settle(parcel.settle(all, None, 5)).await.unwrap();
        }
    }
    use diesel::prelude::*;
    let left: i64 = schema::batch::table.count().get_result(&mut connect::reader(&path).unwrap()).unwrap();
    assert_eq!(left, 0, "batches that nobody needs");
    spool.close();
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn any_order_of_work_is_kept_right(acts in proptest::collection::vec(act(), 1..40)) {
        tokio::runtime::Builder::new_current_thread().build().unwrap().block_on(run(acts));
    }
}
