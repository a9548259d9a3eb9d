//! A service in this process: what sources hand it, what a plan changes around it, who looks.

use std::sync::Arc;

use rockrose_event::record::DeclaredFormat;
use rockrose_intake::{self as intake, BodyMetadata, Sink};
use rockrose_language::Place;
use rockrose_ledger::Equation;

use crate::apply::{Author, Refusal, apply, missing_secrets, take_up};
use crate::history::{History, last_revision};
use crate::sink::PlanSink;
use crate::tail::Hub;
use crate::{App, Service, Settings};

struct Running {
    service: Service,
    _folder: tempfile::TempDir,
}

async fn service() -> Running {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    let service = Service::start(&Settings::new(folder.path().join("data"), "127.0.0.1:0".parse().unwrap())).await.unwrap();
    Running { service, _folder: folder }
}

impl Running {
    fn app(&self) -> &Arc<App> {
        &self.service.app
    }
}

fn by(name: &str) -> Author<'_> {
    Author { name, grants: None }
}

/// A plan whose source listens on a port that is free now.
fn plan(steps: &str, bound: &str) -> String {
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    format!(
        "[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:{port}\"\nmax_event = \"100 B\"\n[destination.dead]\nkind = \"http\"\nendpoints = [\"http://127.0.0.1:9/in\"]\nhold_at_most = \"{bound}\"\n[[route]]\nname = \"all\"\nwhen = 'wanted = true'\ndo = [{steps}]\nto = [\"dead\"]\n"
    )
}

async fn hand(app: &Arc<App>, body: &str, says: DeclaredFormat) -> Result<intake::Receipt, intake::Refusal> {
    hand_with(app, body, says, BodyMetadata::default()).await
}

async fn hand_with(app: &Arc<App>, body: &str, says: DeclaredFormat, with: BodyMetadata) -> Result<intake::Receipt, intake::Refusal> {
    PlanSink::new(Arc::clone(app)).accept("in", Arc::new(body.as_bytes().to_vec().into()), says, with).await
}

#[tokio::test]
async fn bodies_are_counted_queued_and_kept_aside() {
    let r = service().await;
    assert_eq!(hand(r.app(), "{}", DeclaredFormat::Lines).await.unwrap_err(), intake::Refusal::Gone, "no plan has this source");
    assert_eq!(apply(r.app(), &plan("'tag x = 1'", "1 MB"), by("ann"), "first", None).await.unwrap(), 1);
    let long = format!("{{\"long\":\"{}\"}}", "x".repeat(200));
    let receipt = hand(r.app(), &format!("{{\"wanted\":true}}\n{{\"wanted\":false}}\n{long}\n{{bad\n"), DeclaredFormat::Lines).await.unwrap();
    assert_eq!((receipt.received, receipt.read, receipt.quarantined), (4, 2, 2));
    assert_eq!(receipt.unreadable.iter().map(|u| u.record).collect::<Vec<_>>(), [3, 4]);
    assert!(receipt.unreadable[0].reason.contains("longer than the limit"));
    let wrong = hand(r.app(), "[1", DeclaredFormat::Json).await.unwrap_err();
    assert!(matches!(wrong, intake::Refusal::NotJson(_)));
    assert!(wrong.to_string().contains("line 1, column 3"), "{}", wrong.to_string());
    assert_eq!(r.app().spool.waiting()["dead"].amount.events, 1);
    assert!(r.app().spool.balance().await.unwrap().iter().all(Equation::holds));
    // Many unreadable records are all kept, but only the first few are named.
    let receipt = hand(r.app(), &"{bad\n".repeat(50), DeclaredFormat::Lines).await.unwrap();
    assert_eq!((receipt.quarantined, receipt.unreadable.len()), (50, rockrose_intake::NAMED_UNREADABLE));
    // Of a body with very many, or very long ones, the first are kept, and their beginnings; all are counted.
    let before = r.app().spool.quarantined(10_000).await.unwrap().len();
    let receipt = hand(r.app(), &"{bad\n".repeat(3_000), DeclaredFormat::Lines).await.unwrap();
    assert_eq!((receipt.quarantined, r.app().spool.quarantined(10_000).await.unwrap().len() - before), (3_000, rockrose_spool::KEPT_OF_BODY));
    let long = format!("{{\"long\":\"{}\"}}\n", "x".repeat(100_000));
    let receipt = hand(r.app(), &long.repeat(100), DeclaredFormat::Lines).await.unwrap();
    assert_eq!((receipt.quarantined, r.app().spool.quarantined(10_000).await.unwrap().len() - before - rockrose_spool::KEPT_OF_BODY), (100, 64));
    let newest = r.app().spool.quarantine_page(rockrose_spool::Page { before: None, most: 1, bytes: 10 }).await.unwrap().remove(0);
    assert_eq!((newest.data.as_slice(), newest.size), (&b"{\"long\":\"x"[..], long.len() - 1));
    let whole = r.app().spool.quarantined_one(newest.id).await.unwrap().unwrap();
    assert_eq!(whole.data.len(), rockrose_spool::KEPT_OF_RECORD);
    let older = r.app().spool.quarantine_page(rockrose_spool::Page { before: Some(newest.id), most: 2, bytes: 10 }).await.unwrap();
    assert_eq!(older.iter().map(|q| newest.id - q.id).collect::<Vec<_>>(), [1, 2]);
    // A source that cuts to size itself has records longer than an event may be by what is written around them; they have the file's path as well.
    let stamps = vec![rockrose_event::stamp::Stamp::new("path", "/log", 0).unwrap()];
    let with = BodyMetadata { bounded: true, stamps, ..BodyMetadata::default() };
    let cut = format!("{{\"wanted\":true,\"message\":\"{}\",\"cut\":true}}\n", "x".repeat(100));
    let receipt = hand_with(r.app(), &cut, DeclaredFormat::Lines, with).await.unwrap();
    assert_eq!((receipt.read, receipt.quarantined), (1, 0));
    let queued = r.app().spool.next("dead", 10_000).await.unwrap().unwrap();
    assert!(String::from_utf8_lossy(&queued.front(2)).contains("\"cut\":true,\"path\":\"/log\""));
    // Records that a source could not read are kept aside with its reason, and counted.
    let with = BodyMetadata { unreadable: vec![(2, "no level".into())], ..BodyMetadata::default() };
    let receipt = hand_with(r.app(), "{\"wanted\":true}\n{\"json\":{}}\n{}\n", DeclaredFormat::Lines, with).await.unwrap();
    assert_eq!((receipt.received, receipt.read, receipt.quarantined), (3, 2, 1));
    assert_eq!(receipt.unreadable, [intake::Unreadable { record: 2, reason: "no level".into() }]);
    assert!(r.app().spool.balance().await.unwrap().iter().all(Equation::holds));
    r.service.stop().await;
}

#[tokio::test]
async fn steps_that_were_edited_away_are_known_by_their_last_revision() {
    let r = service().await;
    apply(r.app(), &plan("'tag x = 1', 'tag y = 2'", "1 MB"), by("ann"), "", None).await.unwrap();
    apply(r.app(), &plan("'tag x = 1', 'tag y = 3'", "1 MB"), by("ann"), "", None).await.unwrap();
    apply(r.app(), &plan("'tag x = 1'", "1 MB"), by("ann"), "", None).await.unwrap();
    let step = |position: i32, sentence: &str| rockrose_ledger::Account {
        stage: rockrose_ledger::Stage::Route,
        name: "all".into(),
        via: "in".into(),
        position,
        sentence: sentence.into(),
        measure: rockrose_ledger::Measure::Changed,
    };
    let (active, steps) = History::steps(r.app()).await.unwrap();
    let last = |position, sentence: &str| last_revision(&steps, &step(position, sentence));
    assert_eq!((active, last(1, "tag x = 1"), last(2, "tag y = 2"), last(2, "tag y = 3")), (3, Some(3), Some(1), Some(2)));
    assert_eq!((last(2, "tag z = 1"), last(0, "")), (None, None));
    // What an earlier revision had is active again once that is.
    apply(r.app(), &plan("'tag x = 1', 'tag y = 2'", "1 MB"), by("ann"), "", None).await.unwrap();
    let (active, steps) = History::steps(r.app()).await.unwrap();
    assert_eq!((active, last_revision(&steps, &step(2, "tag y = 2"))), (4, Some(4)));
    r.service.stop().await;
}

#[tokio::test]
async fn a_source_is_pushed_back_only_by_what_it_can_reach() {
    let r = service().await;
    let two = plan("", "100 B")
        + "[source.other]\nkind = \"http\"\nlisten = \"127.0.0.1:0\"\n[destination.easy]\nkind = \"discard\"\n[[route]]\nname = \"others\"\nfrom = [\"other\"]\nto = [\"easy\"]\n";
    let two = two.replace("name = \"all\"\n", "name = \"all\"\nfrom = [\"in\"]\n");
    apply(r.app(), &two, by("ann"), "", None).await.unwrap();
    let event = "{\"wanted\":true,\"text\":\"about sixty bytes of this and of that\"}\n";
    assert!(hand(r.app(), &event.repeat(2), DeclaredFormat::Lines).await.is_ok());
    let full = hand(r.app(), event, DeclaredFormat::Lines).await.unwrap_err();
    assert!(matches!(&full, intake::Refusal::Full { destination } if destination == "dead"), "{full}");
    let other =
        PlanSink::new(Arc::clone(r.app())).accept("other", Arc::new(event.as_bytes().to_vec().into()), DeclaredFormat::Lines, BodyMetadata::default()).await;
    assert!(other.is_ok());
    r.service.stop().await;
}

#[tokio::test]
async fn plans_that_cannot_run_change_nothing() {
    let r = service().await;
    let good = plan("", "1 MB");
    apply(r.app(), &good, by("ann"), "", None).await.unwrap();
    assert!(matches!(apply(r.app(), "nonsense", by("bo"), "", None).await, Err(Refusal::Mistakes(_))));
    let secret = good.replace("hold_at_most", "token = { secret = \"t\" }\nhold_at_most");
    assert!(matches!(apply(r.app(), &secret, by("bo"), "", None).await, Err(Refusal::Secrets(names)) if names == ["t"]));
    assert_eq!(missing_secrets(r.app(), &rockrose_plan::CheckedPlan::read(&secret).unwrap()).await.unwrap(), ["t"]);
    let busy = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let taken = format!("{good}[source.late]\nkind = \"http\"\nlisten = \"{}\"\n", busy.local_addr().unwrap());
    assert!(matches!(apply(r.app(), &taken, by("bo"), "", None).await, Err(Refusal::Listen { .. })));
    // Two files that are one, by a link.
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    std::os::unix::fs::symlink(folder.path().join("a.jsonl"), folder.path().join("b.jsonl")).unwrap();
    std::fs::write(folder.path().join("a.jsonl"), "").unwrap();
    let file = |name: &str| format!("[destination.{name}]\nkind = \"file\"\npath = \"{}\"\n", folder.path().join(name).with_extension("jsonl").display());
    let shared = format!("{good}{}{}", file("a"), file("b"));
    assert!(matches!(apply(r.app(), &shared, by("bo"), "", None).await, Err(Refusal::Mistakes(mistakes)) if mistakes.len() == 2));
    assert!(matches!(apply(r.app(), "", by("bo"), "", Some(7)).await, Err(Refusal::Records(_))));
    assert_eq!(r.app().engine.running().revision, 1);
    assert_eq!(r.app().records(|r| r.revisions(10)).await.unwrap().len(), 1);
    assert!(hand(r.app(), "{\"wanted\":true}", DeclaredFormat::Lines).await.is_ok(), "the plan that ran still runs");
    // A set secret makes it good; an unchanged plan is not recorded again.
    r.service.set_secret("t", "value", "anywhere").await.unwrap();
    assert_eq!(apply(r.app(), &secret, by("bo"), "", Some(1)).await.unwrap(), 2);
    assert_eq!(r.service.apply(&secret, "bo", "", "p").await.unwrap(), None);
    take_up(r.app(), 2, &secret).await.unwrap();
    assert_eq!(r.app().records(|r| r.revisions(10)).await.unwrap().len(), 2);
    r.service.stop().await;
}

#[tokio::test]
async fn viewers_see_their_point_and_hold_up_nobody() {
    let r = service().await;
    apply(r.app(), &plan("'drop n = 2', 'tag seen = true'", "10 MB"), by("ann"), "", None).await.unwrap();
    let running = r.app().engine.running();
    assert!(r.app().tail.watch(&running.compiled).is_none(), "nobody looks, so nothing is captured");
    let mut route = Hub::look(r.app(), Place::Route("all".into())).unwrap();
    let mut rest = Hub::look(r.app(), Place::Remainder).unwrap();
    let gone = Hub::look(r.app(), Place::Route("no-such".into())).unwrap();
    hand(r.app(), "{\"wanted\":true,\"n\":1}\n{\"wanted\":true,\"n\":2}\n{\"n\":3}\n", DeclaredFormat::Lines).await.unwrap();
    let first = route.next().await.unwrap();
    assert_eq!(first.capture.after.as_deref(), Some(&br#"{"wanted":true,"n":1,"seen":true}"#[..]));
    let second = route.next().await.unwrap();
    assert_eq!((second.capture.after.as_ref(), second.capture.removed_by.as_deref()), (None, Some("drop n = 2")));
    assert_eq!(rest.next().await.unwrap().capture.before, br#"{"n":3}"#);
    assert!(futures_util::FutureExt::now_or_never(rest.next()).is_none());
    drop(gone);
    // One that does not read is skipped and told how many; bodies go on.
    for _ in 0..20 {
        hand(r.app(), &"{\"wanted\":true,\"n\":1}\n".repeat(100), DeclaredFormat::Lines).await.unwrap();
    }
    assert!(route.skipped.load(std::sync::atomic::Ordering::Relaxed) > 1_000);
    drop(route);
    drop(rest);
    assert!(r.app().tail.watch(&running.compiled).is_none());
    // Only so many may look at once.
    let all: Vec<_> = std::iter::from_fn(|| Hub::look(r.app(), Place::Remainder)).collect();
    assert_eq!(all.len(), 64);
    r.service.stop().await;
}

#[tokio::test]
async fn what_is_kept_is_taken_up_again() {
    let folder = tempfile::Builder::new().prefix("rockrose-").tempdir().unwrap();
    let settings = Settings::new(folder.path().join("data"), "127.0.0.1:0".parse().unwrap());
    let _ = rustls::crypto::ring::default_provider().install_default();
    let text = plan("", "1 MB");
    {
        let service = Service::start(&settings).await.unwrap();
        assert!(Service::start(&settings).await.is_err(), "one service a folder");
        let (one, two) = (service.client_token("a", None).await.unwrap(), service.client_token("b", Some("unknown")).await.unwrap());
        assert!(one != two && two != "unknown");
        assert_eq!(service.client_token("a", Some(&one)).await.unwrap(), one);
        assert_eq!(service.apply(&text, "ann", "", "p").await.unwrap(), Some(1));
        assert!(service.apply("x", "ann", "", "plan.toml").await.unwrap_err().to_string().contains("plan.toml:1:"));
        hand(&service.app, "{\"wanted\":true}", DeclaredFormat::Lines).await.unwrap();
        assert!(service.sign_in_link(&one).await.unwrap().contains("/sign-in?code="));
        service.stop().await;
    }
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&settings.data).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o700, "only its owner may look into it");
    for file in std::fs::read_dir(&settings.data).unwrap().map(|entry| entry.unwrap()) {
        let mode = std::os::unix::fs::PermissionsExt::mode(&file.metadata().unwrap().permissions());
        assert_eq!(mode & 0o077, 0, "{}", file.path().display());
    }
    let service = Service::start(&settings).await.unwrap();
    assert_eq!(service.app.engine.running().revision, 1);
    assert_eq!(service.app.spool.waiting()["dead"].amount.events, 1);
    service.stop().await;
}

#[tokio::test]
async fn only_sources_that_reach_a_step_that_holds_events_back_wait_for_its_turn() {
    let r = service().await;
    let port = || std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let text = format!(
        "[source.plain]\nkind = \"http\"\nlisten = \"127.0.0.1:{}\"\n[source.merged]\nkind = \"http\"\nlisten = \"127.0.0.1:{}\"\n[destination.d]\nkind = \"discard\"\n\
         [[route]]\nname = \"a\"\nfrom = [\"plain\"]\nto = [\"d\"]\n[[route]]\nname = \"b\"\nfrom = [\"merged\"]\ndo = ['merge repeats within 1 hour by gate']\nto = [\"d\"]\n",
        port(),
        port()
    );
    apply(r.app(), &text, by("ann"), "", None).await.unwrap();
    let send = |source: &'static str| {
        let sink = PlanSink::new(Arc::clone(r.app()));
        async move {
            let taken = sink.accept(source, Arc::new(b"{\"gate\":1}\n".to_vec().into()), DeclaredFormat::Lines, BodyMetadata::default());
            tokio::time::timeout(std::time::Duration::from_secs(20), taken).await.expect("it waits for somebody else's turn").is_ok()
        }
    };
    let running = r.app().engine.running();
    let turn = running.order.turn(&[0]).await;
    assert!(send("plain").await, "it reaches no such step");
    let waiting = tokio::spawn(send("merged"));
    assert!(send("plain").await);
    assert!(!waiting.is_finished(), "somebody else has the turn");
    drop(turn);
    assert!(waiting.await.unwrap());
    assert!(r.app().spool.balance().await.unwrap().iter().all(Equation::holds));
    r.service.stop().await;
}
