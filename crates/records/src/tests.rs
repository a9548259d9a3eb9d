//! Records survive, secrets stay sealed, tokens are kept only as hashes.

use std::os::unix::fs::PermissionsExt;

use super::*;

#[test]
fn revisions_are_numbered_and_guarded() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    assert_eq!(records.newest_revision().unwrap(), None);
    assert_eq!(records.add_revision(5, "ann", "first", "a = 1", Some(0)).unwrap(), 1);
    assert_eq!(records.add_revision(6, "bo", "", "a = 2", Some(1)).unwrap(), 2);
    assert!(matches!(records.add_revision(7, "cy", "", "a = 3", Some(1)), Err(RecordsError::Conflict { newest: 2, expected: 1 })));
    drop(records);
    let records = Records::open(dir.path()).unwrap();
    assert_eq!(records.revisions(10).unwrap().iter().map(|r| r.number).collect::<Vec<_>>(), [2, 1]);
    assert_eq!(records.revision(1).unwrap().unwrap().text, "a = 1");
}

#[test]
fn secrets_are_sealed_and_bound_to_their_names_and_key() {
    let dir = tempfile::tempdir().unwrap();
    let records = Records::open(dir.path()).unwrap();
    let value = Secret::new("tern-and-plover".into());
    records.set_secret("desk", &value, 1).unwrap();
    assert_eq!(records.secret("desk").unwrap(), Some(value.clone()));
    assert_eq!(records.secret("other").unwrap(), None);
    assert_eq!(records.secrets().unwrap()[0].name, "desk");
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
    let token = records.make_token("first", TokenKind::Client, 1, None).unwrap();
    let found = records.bearer(token.reveal(), TokenKind::Client, 2).unwrap().unwrap();
    assert_eq!(found.name, "first");
    assert_eq!(records.bearer(token.reveal(), TokenKind::Session, 2).unwrap(), None);
    assert_eq!(records.bearer("guess", TokenKind::Client, 2).unwrap(), None);
    assert!(records.end_token(found.id).unwrap());
    assert_eq!(records.bearer(token.reveal(), TokenKind::Client, 2).unwrap(), None);
    let session = records.make_token("browser", TokenKind::Session, 10, Some(20)).unwrap();
    assert!(records.bearer(session.reveal(), TokenKind::Session, 19).unwrap().is_some());
    assert!(records.bearer(session.reveal(), TokenKind::Session, 20).unwrap().is_none());
    let bytes = std::fs::read(dir.path().join("records.db-wal")).unwrap_or_default();
    assert!(!bytes.windows(64).any(|w| w == session.reveal().as_bytes()));
    assert_eq!(format!("{session:?}"), "NewToken(…)");
}
