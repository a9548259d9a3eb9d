//! Records survive, secrets stay sealed, tokens are kept only as hashes.

use std::os::unix::fs::PermissionsExt;

use super::*;

#[test]
fn revisions_are_numbered_and_guarded() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    assert_eq!(records.newest_revision().unwrap(), None);
    assert_eq!(records.add_revision(5, "ann", "first", "a = 1", Some(0), None).unwrap(), 1);
    assert_eq!(records.add_revision(6, "bo", "", "a = 2", Some(1), None).unwrap(), 2);
    assert!(matches!(records.add_revision(7, "cy", "", "a = 3", Some(1), None), Err(RecordsError::Conflict { newest: 2, expected: 1 })));
    records.set_forecast(2, "{\"less\":1}").unwrap();
    records.set_forecast(2, "{\"less\":2}").unwrap();
    drop(records);
    let records = Records::open(dir.path()).unwrap();
    assert_eq!((records.forecast(1).unwrap(), records.forecast(2).unwrap().as_deref()), (None, Some("{\"less\":2}")));
    assert_eq!(records.revisions(10).unwrap().iter().map(|r| r.number).collect::<Vec<_>>(), [2, 1]);
    assert_eq!(records.revision(1).unwrap().unwrap().text, "a = 1");
}

#[test]
fn what_is_sealed_is_opened_by_the_same_key_for_the_same_purpose_only() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let mut sealed = records.seal("samples", b"tern and plover").unwrap();
    assert!(!sealed.windows(6).any(|w| w == b"plover"));
    assert_eq!(records.unseal("samples", &sealed).as_deref(), Some(&b"tern and plover"[..]));
    assert_eq!(records.unseal("other", &sealed), None);
    let other = tempfile::tempdir().unwrap();
    assert_eq!(Records::open(other.path()).unwrap().unseal("samples", &sealed), None);
    *sealed.last_mut().unwrap() ^= 1;
    assert_eq!((records.unseal("samples", &sealed), records.unseal("samples", b"short")), (None, None));
}

#[test]
fn what_was_declined_stays_declined() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    records.decline("b", "ann", 1).unwrap();
    records.decline("a", "bo", 2).unwrap();
    records.decline("a", "bo", 3).unwrap();
    drop(records);
    let records = Records::open(dir.path()).unwrap();
    assert_eq!(records.declined().unwrap(), ["a", "b"]);
    assert_eq!((records.take_back_decline("a").unwrap(), records.take_back_decline("a").unwrap()), (true, false));
    assert_eq!(records.declined().unwrap(), ["b"]);
}

#[test]
fn a_draft_is_kept_and_not_overwritten_by_an_older_one() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let draft = |who: &str, version: i64, text: &str| Draft { who: who.into(), revision: 3, version, at_ms: 10 + version, text: text.into() };
    assert!(!records.set_draft(&draft("ann", 2, "no")).unwrap() && records.draft("ann").unwrap().is_none());
    assert!(records.set_draft(&draft("ann", 1, "one")).unwrap() && records.set_draft(&draft("bo", 1, "other")).unwrap());
    assert!(!records.set_draft(&draft("ann", 1, "again")).unwrap());
    assert!(records.set_draft(&draft("ann", 2, "two")).unwrap() && !records.set_draft(&draft("ann", 2, "late")).unwrap());
    drop(records);
    let records = Records::open(dir.path()).unwrap();
    assert_eq!(records.drafts().unwrap(), [draft("ann", 2, "two"), draft("bo", 1, "other")]);
    assert!(records.remove_draft("ann").unwrap() && !records.remove_draft("ann").unwrap());
    assert_eq!(records.drafts().unwrap(), [draft("bo", 1, "other")]);
}

#[test]
fn secrets_are_sealed_and_bound_to_their_names_and_key() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let value = Secret::new("tern-and-plover".into());
    records.set_secret("desk", &value, Some("desk.example"), 1).unwrap();
    records.set_secret("desk", &value, None, 1).unwrap();
    assert_eq!(records.secret("desk").unwrap(), Some(value.clone()));
    assert_eq!(records.secret("other").unwrap(), None);
    assert_eq!((records.secrets().unwrap()[0].name.as_str(), records.secrets().unwrap()[0].shown_to.as_str()), ("desk", "desk.example"));
    assert_eq!(format!("{value:?}"), "Secret(…)");
    let key = dir.path().join("records.key");
    assert_eq!(std::fs::metadata(&key).unwrap().permissions().mode() & 0o777, 0o600);
    drop(records);
    for file in ["records.db", "records.db-wal"] {
        let bytes = std::fs::read(dir.path().join(file)).unwrap_or_default();
        assert!(!bytes.windows(6).any(|w| w == b"plover"), "{file}");
    }
    std::fs::set_permissions(&key, std::fs::Permissions::from_mode(0o644)).unwrap();
    assert!(matches!(Records::open(dir.path()), Err(RecordsError::Key(_))));
    std::fs::set_permissions(&key, std::fs::Permissions::from_mode(0o600)).unwrap();
    std::fs::write(&key, [9; 32]).unwrap();
    assert!(matches!(Records::open(dir.path()).unwrap().secret("desk"), Err(RecordsError::Key(_))));
    std::fs::remove_file(&key).unwrap();
    assert!(matches!(Records::open(dir.path()), Err(RecordsError::Key(_))));
}

#[test]
fn tokens_open_until_they_end() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let token = records.make_token("first", "see", "ann", 1, None).unwrap();
    let bearer = |text: &str, kind, now| records.bearer(text, kind, "192.0.2.4", now).unwrap();
    let found = bearer(token.reveal(), TokenKind::Client, 2).unwrap();
    assert_eq!((found.name.as_str(), found.grants.as_str(), found.is_person), ("first", "see", false));
    assert!(matches!(records.make_token("first", "", "ann", 1, None), Err(RecordsError::Taken { .. })));
    assert_eq!(bearer(token.reveal(), TokenKind::Session, 2), None);
    assert_eq!(bearer("guess", TokenKind::Client, 2), None);
    // A session by a token's link lives as long as the token does.
    let session = records.make_session("first", &Holder::Token(found.id), 10, 20).unwrap();
    assert_eq!(bearer(session.reveal(), TokenKind::Session, 19).unwrap().grants, "see");
    assert_eq!(bearer(session.reveal(), TokenKind::Session, 20), None);
    assert_eq!(records.end_token(found.id, TokenKind::Session).unwrap(), None);
    assert_eq!(records.end_token(found.id, TokenKind::Client).unwrap().as_deref(), Some("first"));
    assert_eq!(bearer(token.reveal(), TokenKind::Client, 2), None);
    assert_eq!(bearer(session.reveal(), TokenKind::Session, 19), None);
    assert_eq!(records.tokens(TokenKind::Session, 19).unwrap(), [], "it is not listed either");
    let bytes = std::fs::read(dir.path().join("records.db-wal")).unwrap_or_default();
    assert!(!bytes.windows(64).any(|w| w == session.reveal().as_bytes()));
    assert_eq!(format!("{session:?}"), "NewToken(…)");
    // One with an end makes room for its name when that has come.
    let short = records.make_token("short", "", "ann", 30, Some(40)).unwrap();
    assert!(bearer(short.reveal(), TokenKind::Client, 39).is_some());
    assert!(records.make_token("short", "", "ann", 40, None).is_ok());
}

#[test]
fn where_a_token_was_last_used_is_noted() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let token = records.make_token("first", "see", "ann", 1, Some(1_000_000)).unwrap();
    let used = || records.tokens(TokenKind::Client, 2).unwrap()[0].clone();
    assert_eq!((used().used_ms, used().made_by.as_str(), used().expires_ms), (None, "ann", Some(1_000_000)));
    for (at, from, noted) in [(100, "192.0.2.4", (100, "192.0.2.4")), (200, "192.0.2.5", (100, "192.0.2.4")), (60_100, "192.0.2.5", (60_100, "192.0.2.5"))] {
        records.bearer(token.reveal(), TokenKind::Client, from, at).unwrap().unwrap();
        assert_eq!((used().used_ms, used().used_from.as_deref()), (Some(noted.0), Some(noted.1)));
    }
}

#[test]
fn what_a_session_may_do_is_what_its_person_may_at_that_moment() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    records.add_person("ann", "see", "admin", 1).unwrap();
    assert!(matches!(records.add_person("ann", "", "admin", 1), Err(RecordsError::Taken { .. })));
    let session = records.make_session("ann", &Holder::Person("ann".into()), 10, 1_000).unwrap();
    let bearer = || records.bearer(session.reveal(), TokenKind::Session, "", 20).unwrap();
    assert_eq!((bearer().unwrap().grants.as_str(), bearer().unwrap().is_person), ("see", true));
    assert!(records.grant("ann", "operate").unwrap() && !records.grant("bo", "operate").unwrap());
    assert_eq!(bearer().unwrap().grants, "operate");
    assert_eq!(records.bearer_again(bearer().unwrap().id, 20).unwrap(), bearer());
    let other = records.make_session("ann", &Holder::Person("ann".into()), 10, 1_000).unwrap();
    assert!(records.set_password("ann", Some("$argon2id$…"), Some(bearer().unwrap().id)).unwrap());
    assert!(bearer().is_some(), "but for the session that is kept");
    assert_eq!(records.bearer(other.reveal(), TokenKind::Session, "", 20).unwrap(), None);
    assert!(records.set_password("ann", Some("$argon2id$…"), None).unwrap());
    assert_eq!(bearer(), None, "a new password signs out");
    let session = records.make_session("ann", &Holder::Person("ann".into()), 10, 1_000).unwrap();
    assert!(records.remove_person("ann").unwrap() && !records.remove_person("ann").unwrap());
    assert_eq!(records.bearer(session.reveal(), TokenKind::Session, "", 20).unwrap(), None);
    assert_eq!(records.people().unwrap(), []);
}

#[test]
fn an_account_is_the_persons_whose_name_it_had_first() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    records.add_person("ann@ferries.example", "see", "admin", 1).unwrap();
    records.add_person("bo@ferries.example", "see", "admin", 1).unwrap();
    let of = |account: &str, name: &str| records.person_of_account(account, name).unwrap();
    let ann = AccountOf::Person("ann@ferries.example".into());
    assert_eq!(of("id\n1", "cy@ferries.example"), AccountOf::Nobody);
    assert_eq!(of("id\n1", "ann@ferries.example"), ann);
    // The address was changed, also to somebody else's.
    assert_eq!(of("id\n1", "ann@harbour.example"), ann);
    assert_eq!(of("id\n1", "bo@ferries.example"), ann);
    // The address was given to somebody else.
    assert_eq!(of("id\n2", "ann@ferries.example"), AccountOf::Other);
    assert_eq!(of("id\n2", "bo@ferries.example"), AccountOf::Person("bo@ferries.example".into()));
    // Somebody who is added anew has no account yet.
    records.remove_person("ann@ferries.example").unwrap();
    records.add_person("ann@ferries.example", "see", "admin", 1).unwrap();
    assert_eq!(of("id\n3", "ann@ferries.example"), ann);
}

#[test]
fn lifts_last_until_they_end_or_are_taken_back() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let lift = |until_ms| Lift { budget: "daily".into(), until_ms, who: "ann".into() };
    records.lift_budget(&lift(100)).unwrap();
    records.lift_budget(&lift(200)).unwrap();
    assert_eq!((records.lifts(150).unwrap(), records.lifts(200).unwrap()), (vec![lift(200)], Vec::new()));
    assert_eq!((records.end_lift("daily").unwrap(), records.end_lift("daily").unwrap()), (true, false));
}

#[test]
fn alerts_turn_and_are_told_at_once_and_silences_end() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let late = |phase: &str| AlertRecord {
        name: "late".into(),
        phase: phase.into(),
        since_ms: 5,
        told_ms: 5,
        is_told: true,
        acknowledged_by: (phase == "on").then(|| "ann".into()),
        says: "waits".into(),
    };
    let notice = |turn: &str| NewNotice {
        at_ms: 5,
        alert: "late".into(),
        turn: turn.into(),
        severity: "error".into(),
        says: "waits".into(),
        watches: "ledger out of balance".into(),
        advice: None,
        since_ms: 5,
    };
    assert_eq!(records.last_notice().unwrap(), 0);
    records.turn_alerts(&[late("on")], &[notice("began"), notice("again")], &[]).unwrap();
    records.turn_alerts(&[late("quiet")], &[notice("over")], &[]).unwrap();
    drop(records);
    let records = Records::open(dir.path()).unwrap();
    assert_eq!(records.alerts().unwrap(), [late("quiet")], "nobody has acknowledged what is over");
    let turns = |notices: Vec<Notice>| notices.into_iter().map(|n| (n.number, n.told.turn)).collect::<Vec<_>>();
    assert_eq!(turns(records.notices_after(1, 10).unwrap()), [(2, "again".to_owned()), (3, "over".to_owned())]);
    assert_eq!(turns(records.newest_notices(Some("late"), 1).unwrap()), [(3, "over".to_owned())]);
    assert_eq!((records.last_notice().unwrap(), records.newest_notices(Some("early"), 9).unwrap().len()), (3, 0));
    records.silence_alert("late", 100, "ann").unwrap();
    records.silence_alert("late", 200, "bo").unwrap();
    assert_eq!(records.silences(150).unwrap(), [Silence { alert: "late".into(), until_ms: 200, who: "bo".into() }]);
    assert!(records.silences(200).unwrap().is_empty() && records.end_silence("late").unwrap() && !records.end_silence("late").unwrap());
    records.turn_alerts(&[], &[], &["late".to_owned()]).unwrap();
    assert!(records.alerts().unwrap().is_empty());
}

#[test]
fn agents_enrol_once_with_a_code_and_are_known_by_their_certificates() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    assert!(records.authority().unwrap().is_none());
    let authority = Authority { certificate: "C".into(), key: "K-of-terns".into() };
    assert_eq!(records.keep_authority(&authority).unwrap().key, "K-of-terns");
    assert_eq!(records.keep_authority(&Authority { certificate: "D".into(), key: "L".into() }).unwrap().certificate, "C", "the first stays");
    assert!(!std::fs::read(dir.path().join("records.db")).unwrap().windows(10).any(|w| w == b"K-of-terns"));

    let (id, code) = records.make_code("kiosks", 2, "ann", 10, 1_000).unwrap();
    let code = code.reveal();
    let new = |id: &str, name: &str, key: u8| NewAgent { id: id.into(), name: name.into(), key: vec![key], certificate: vec![key, 1] };
    let enrol = |code: &str, agent: NewAgent, now: i64| records.enrol(code, &agent, now);
    assert!(matches!(enrol("other", new("a", "kiosk-1", 1), 20), Err(EnrolRefusal::Code)));
    assert!(matches!(enrol(code, new("a", "kiosk-1", 1), 1_000), Err(EnrolRefusal::Code)), "it has ended");
    assert_eq!(enrol(code, new("a", "kiosk-1", 1), 20).unwrap().group, "kiosks");
    // Its answer was lost: it asks again, which is no further use. Another key cannot.
    assert_eq!(enrol(code, NewAgent { certificate: vec![1, 2], ..new("a", "kiosk-1", 1) }, 30).unwrap().certificate, [1, 2]);
    assert_eq!(records.codes(40).unwrap().iter().map(|c| (c.id, c.uses_left)).collect::<Vec<_>>(), [(id, 1)]);
    assert!(matches!(enrol(code, new("a", "kiosk-1", 9), 40), Err(EnrolRefusal::Id)));
    assert!(matches!(enrol(code, new("b", "kiosk-1", 2), 40), Err(EnrolRefusal::Name(_))), "a name is one agent's");
    enrol(code, new("b", "kiosk-2", 2), 40).unwrap();
    assert!(matches!(enrol(code, new("c", "kiosk-3", 3), 50), Err(EnrolRefusal::Code)), "it is used up");
    assert!(records.codes(50).unwrap().is_empty());

    records.renew_agent("a", &[1, 2], &[6], 60).unwrap();
    // Neither answer came: it still has the first.
    records.renew_agent("a", &[1, 2], &[7], 60).unwrap();
    records.note_agents(&[("a".into(), 70, "{\"x\":1}".into(), "{}".into())]).unwrap();
    let of = || records.agents().unwrap().into_iter().find(|agent| agent.id == "a").unwrap();
    assert_eq!((of().certificate, of().previous, of().seen_ms, of().facts.as_str()), (vec![7], Some(vec![1, 2]), 70, "{\"x\":1}"));
    records.agent_renewed("a").unwrap();
    assert_eq!(of().previous, None);
    assert!(records.retire_agent("a").unwrap() && !records.retire_agent("a").unwrap());
    let (id, again) = records.make_code("gates", 1, "ann", 70, 1_000).unwrap();
    assert!(enrol(again.reveal(), new("d", "kiosk-1", 4), 80).is_ok(), "the name is free");
    assert!(!records.end_code(id + 1).unwrap() && records.end_code(id).unwrap());
}
