use rockrose_language::{Place, parse_condition};

use super::*;

fn key() -> HashKey {
    HashKey::new([7; 32])
}

fn grants(sentences: &[&str]) -> Grants {
    Grants::read(sentences).unwrap()
}

#[test]
fn nothing_is_granted_that_is_not_said() {
    let all = [Need::Known, Need::See, Need::SeeAll, Need::Operate, Need::Change, Need::ChangeAll, Need::Secrets, Need::People, Need::Audit];
    for (sentences, met) in [
        (&[][..], &[][..]),
        (&["see"], &[Need::Known, Need::See, Need::SeeAll]),
        (&["see at remainder"], &[Need::Known, Need::See]),
        (&["see when a = 1"], &[Need::Known, Need::See]),
        (&["see after redact email"], &[Need::Known, Need::See]),
        (&["operate at source:kiosks"], &[Need::Known, Need::Operate]),
        (&["change team \"gates\""], &[Need::Known, Need::Change]),
        (&["change"], &[Need::Known, Need::Change, Need::ChangeAll]),
        (&["secrets", "audit"], &[Need::Known, Need::Secrets, Need::Audit]),
        (&["people"], &[Need::Known, Need::People]),
    ] {
        let grants = grants(sentences);
        let found: Vec<Need> = all.into_iter().filter(|need| grants.allow(*need)).collect();
        assert_eq!(found, met, "{sentences:?}");
    }
    let some = grants(&["operate at source:kiosks, destination:desk"]);
    assert!(some.operates(&Place::Source("kiosks".into())) && some.operates(&Place::Destination("desk".into())));
    assert!(!some.operates(&Place::Destination("kiosks".into())) && grants(&["operate"]).operates(&Place::Remainder));
}

#[test]
fn roles_can_be_read_and_only_the_owner_may_do_all() {
    for role in ROLES {
        let of = Grants::read(&role.grants("the \"quay\"")).unwrap_or_else(|m| panic!("{}: {m:?}", role.name));
        let all = [Need::SeeAll, Need::Operate, Need::ChangeAll, Need::Secrets, Need::People, Need::Audit].into_iter().all(|need| of.allow(need));
        assert_eq!(all, role.name == "owner", "{}", role.name);
        assert_eq!(role.is_of_a_team(), role.name == "team");
    }
    assert_eq!(Role::called("team").unwrap().grants("gates")[0], "see when team = \"gates\"");
    assert_eq!(Role::called("king"), None);
}

#[test]
fn mistakes_are_told_with_their_lines() {
    let wrong = Grants::read(&["see", "sea", "see when"]).unwrap_err();
    assert_eq!(wrong.iter().map(|w| (w.line, w.column)).collect::<Vec<_>>(), [(2, 1), (3, 9)]);
    assert!(Grants::read(&vec!["see"; MAX_GRANTS + 1]).is_err());
}

#[test]
fn an_event_is_shown_by_the_grant_that_hides_least() {
    let place = Place::Route("boarding".into());
    let mut eye = grants(&["see after redact email", "see at route:boarding when line = 4", "see at route:other"]).eye(&place, &key());
    let event = |line: u32| format!(r#"{{"line":{line},"message":"ann@post.example"}}"#).into_bytes();
    assert_eq!(eye.shows(&event(4), 0).unwrap().as_ref(), event(4));
    assert_eq!(eye.shows(&event(3), 0).unwrap().as_ref(), br#"{"line":3,"message":"***"}"#);
    assert!(!eye.sees_all() && !eye.is_blind());
    let all = |sentence: &str| (grants(&[sentence]).sees_all(&place), grants(&[sentence]).eye(&place, &key()).sees_all());
    for (sentence, sees) in
        [("see", true), ("see at route:boarding", true), ("see at route:other", false), ("see when a = 1", false), ("see after redact email", false)]
    {
        assert_eq!(all(sentence), (sees, sees), "{sentence}");
    }
    // What is no event cannot be looked through for what is to be hidden.
    for odd in [&b"{\"line\":4"[..], b"", b"[1]", b"{\"line\":3}{\"line\":3}", b"{\"message\":\"\xff\"}"] {
        assert_eq!(eye.shows(odd, 0), None, "{}", String::from_utf8_lossy(odd));
    }
    let mut other = grants(&["see at route:other"]).eye(&place, &key());
    assert!(other.is_blind() && other.shows(&event(4), 0).is_none());
    let mut all = grants(&["see"]).eye(&place, &key());
    assert_eq!(all.shows(b"no event", 0).unwrap().as_ref(), b"no event");
}

/// Events and conditions that are made up: whatever is shown meets a grant's condition, and what meets none is never shown.
#[test]
fn nobody_is_shown_one_event_too_many() {
    let mut random = fastrand::Rng::with_seed(29);
    let teams = ["gates", "kiosks", "quay", "boats", "payments"];
    let condition = |random: &mut fastrand::Rng| {
        let one = |random: &mut fastrand::Rng| match random.u8(..6) {
            0 => format!("team = \"{}\"", random.choice(teams).unwrap()),
            1 => format!("severity >= {}", random.choice(["info", "warn", "error"]).unwrap()),
            2 => format!("line in {}..{}", random.u8(..4), random.u8(4..9)),
            3 => format!("not (team ~= \"{}\")", random.choice(teams).unwrap().to_uppercase()),
            4 => "port exists".to_owned(),
            _ => format!("message contains \"{}\"", random.digit(10)),
        };
        let (a, b) = (one(random), one(random));
        match random.u8(..3) {
            0 => a,
            1 => format!("{a} and {b}"),
            _ => format!("{a} or {b}"),
        }
    };
    let places = [Place::Source("kiosks".into()), Place::Route("boarding".into()), Place::Destination("desk".into()), Place::Remainder];
    let events: Vec<(usize, Vec<u8>)> = (0..10_000)
        .map(|n| {
            let port = if random.bool() { format!(r#","port":{}"#, random.u8(..)) } else { String::new() };
            let (team, level, line) = (random.choice(teams).unwrap(), random.choice(["info", "warn", "error"]).unwrap(), random.u8(..9));
            let event = format!(r#"{{"team":"{team}","level":"{level}","line":{line},"message":"{n} for ann{n}@post.example"{port}}}"#);
            (random.usize(..places.len()), event.into_bytes())
        })
        .collect();
    let (mut shown, mut hidden) = (0, 0);
    for person in 0..50 {
        let conditions: Vec<(Option<usize>, String, bool)> =
            (0..random.usize(1..4)).map(|_| (random.bool().then(|| random.usize(..places.len())), condition(&mut random), random.bool())).collect();
        let sentence = |(at, when, masked): &(Option<usize>, String, bool)| {
            let at = at.map_or_else(String::new, |at| format!(" at {}", places[at]));
            format!("see{at} when {when}{}", if *masked { " after redact email" } else { "" })
        };
        let grants = Grants::read(&conditions.iter().map(sentence).collect::<Vec<_>>()).unwrap();
        let mut eyes: Vec<Eye> = places.iter().map(|place| grants.eye(place, &key())).collect();
        let asked: Vec<_> = conditions.iter().map(|(at, when, masked)| (at, rockrose_engine::Matcher::new(&parse_condition(when).unwrap()), *masked)).collect();
        for (place, event) in &events {
            let mut met = asked.iter().filter(|(at, when, _)| at.is_none_or(|at| at == *place) && when.meets(event, 0)).map(|(.., masked)| *masked).peekable();
            let expected = met.peek().is_some().then(|| met.any(|masked| !masked));
            let seen = eyes[*place].shows(event, 0);
            let plain = seen.as_ref().map(|seen| seen.windows(4).any(|w| w == b"@pos"));
            assert_eq!(plain, expected, "person {person}: {}", String::from_utf8_lossy(event));
            *(if seen.is_some() { &mut shown } else { &mut hidden }) += 1;
        }
    }
    assert!(shown > 50_000 && hidden > 50_000, "{shown} {hidden}");
}

#[test]
fn only_events_are_shown_as_events() {
    let place = Place::Remainder;
    let lines: [&[u8]; 6] = [
        b"{\"team\":\"gates\",\"to\":\"ann@post.example\"}",
        b"{\"team\":\"gates\"",
        b"{\"team\":\"gates\"} x",
        b"{\"team\":\"gates\",\"a\":\"\xff\"}",
        b"[]",
        b"gates",
    ];
    for sentence in ["see", "see when team = \"gates\"", "see after redact email", "see when team = \"gates\" after redact email"] {
        let mut eye = grants(&[sentence]).eye(&place, &key());
        let shown: Vec<bool> = lines.iter().map(|line| eye.shows_event(line, 0).is_some()).collect();
        assert_eq!(shown, [true, false, false, false, false, false], "{sentence}");
        assert_eq!(eye.shows_event(lines[0], 0).unwrap().contains("ann@"), !sentence.contains("redact"), "{sentence}");
    }
}

#[test]
fn what_bounds_ones_sight_is_told_by_place() {
    let some = grants(&["see at route:a", "see when b = 1", "operate", "see at route:c after redact email"]);
    let bounds = |place: &str| some.bounds(&Place::read(place).unwrap());
    assert_eq!(bounds("route:a"), None);
    assert_eq!(bounds("route:b").unwrap(), ["see when b = 1"]);
    assert_eq!(bounds("route:c").unwrap(), ["see when b = 1", "see at route:c after redact email"]);
    assert_eq!(grants(&["operate"]).bounds(&Place::Remainder).unwrap(), Vec::<String>::new());
}
