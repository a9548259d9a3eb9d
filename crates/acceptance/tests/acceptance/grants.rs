//! Generated events, people and conditions, from outside: whatever is shown anywhere meets one of that person's grants, and what meets none is never shown.

use std::collections::{HashMap, HashSet};
use std::fmt::Write as _;
use std::sync::Arc;

use futures_util::StreamExt;
use serde_json::{Value, json};
use tokio::sync::Mutex;

use crate::harness::{Node, free_ports, http, post, until};

const PEOPLE: usize = 50;
const EVENTS: usize = 10_000;
const BATCH: usize = 100;
const TEAMS: [&str; 4] = ["gates", "kiosks", "quay", "boats"];
const PLACES: [&str; 4] = ["source:quays", "route:all", "destination:desk", "remainder"];

/// A condition that this test can answer by itself.
#[derive(Clone, Debug)]
enum Asked {
    Team(&'static str),
    AtLeast(u64),
    Within(u64, u64),
    Port,
    Not(Box<Asked>),
    And(Box<Asked>, Box<Asked>),
    Or(Box<Asked>, Box<Asked>),
}

impl Asked {
    fn any(random: &mut fastrand::Rng, deep: u8) -> Asked {
        let other = |random: &mut fastrand::Rng| Box::new(Asked::any(random, deep + 1));
        match random.u8(0..if deep < 3 { 7 } else { 4 }) {
            0 => Asked::Team(random.choice(TEAMS).unwrap()),
            1 => Asked::AtLeast(random.u64(0..10)),
            2 => Asked::Within(random.u64(0..5), random.u64(5..10)),
            3 => Asked::Port,
            4 => Asked::Not(other(random)),
            5 => Asked::And(other(random), other(random)),
            _ => Asked::Or(other(random), other(random)),
        }
    }

    fn sentence(&self) -> String {
        match self {
            Asked::Team(team) => format!("team = \"{team}\""),
            Asked::AtLeast(level) => format!("line >= {level}"),
            Asked::Within(from, to) => format!("line in {from}..{to}"),
            Asked::Port => "port exists".to_owned(),
            Asked::Not(one) => format!("not ({})", one.sentence()),
            Asked::And(one, other) => format!("({}) and ({})", one.sentence(), other.sentence()),
            Asked::Or(one, other) => format!("({}) or ({})", one.sentence(), other.sentence()),
        }
    }

    fn holds(&self, event: &Value) -> bool {
        let line = event["line"].as_u64().unwrap();
        match self {
            Asked::Team(team) => event["team"] == **team,
            Asked::AtLeast(level) => line >= *level,
            Asked::Within(from, to) => (*from..=*to).contains(&line),
            Asked::Port => event.get("port").is_some(),
            Asked::Not(one) => !one.holds(event),
            Asked::And(one, other) => one.holds(event) && other.holds(event),
            Asked::Or(one, other) => one.holds(event) || other.holds(event),
        }
    }
}

/// The numbers of the events that somebody was shown at a place.
type Shown = HashMap<(usize, &'static str), HashSet<u64>>;

struct Granted {
    at: Option<&'static str>,
    when: Asked,
    masked: bool,
}

struct Person {
    token: String,
    grants: Vec<Granted>,
}

impl Person {
    /// How they see an event at a place: not at all, masked, or as it is.
    fn sees(&self, place: &str, event: &Value) -> Option<bool> {
        let met = self.grants.iter().filter(|g| g.at.is_none_or(|at| at == place) && g.when.holds(event));
        met.map(|g| g.masked).reduce(|one, other| one && other)
    }

    /// Checks what was shown at a place, as it was shown.
    fn check(&self, place: &str, shown: &Value) {
        let masked = self.sees(place, shown).unwrap_or_else(|| panic!("{place}: {shown}"));
        assert_eq!(shown["message"].as_str().unwrap().contains('@'), !masked, "{place}: {shown}");
    }
}

fn event(number: usize) -> Value {
    let mut random = fastrand::Rng::with_seed(number as u64);
    let mut event = json!({ "id": number, "team": random.choice(TEAMS).unwrap(), "line": random.u64(0..10), "message": format!("gate {number} for ann{number}@post.example") });
    if random.bool() {
        event["port"] = json!("Lowmere");
    }
    if random.u8(0..10) == 0 {
        event["note"] = json!("unwelcome");
    }
    event
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_is_shown_one_event_too_many_anywhere() {
    let [source, port] = free_ports();
    let mut node = Node::start().await;
    let _desk = crate::queues::stand_in(&node, port, &["--refuse", "unwelcome"]);
    // What goes on is another team's in part, and nothing of one port is taken.
    node.apply(&format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.desk]\nkind = \"http\"\nendpoints = [\"http://127.0.0.1:{port}/in\"]\nalways = ['tag seen = 1']\n\
         [[route]]\nname = \"all\"\nwhen = 'line < 8'\ndo = ['tag team = \"boats\" when line = 3', 'redact phone']\nto = [\"desk\"]\n"
    ));
    let mut random = fastrand::Rng::with_seed(50);
    let mut people = Vec::new();
    for number in 0..PEOPLE {
        let granted = |random: &mut fastrand::Rng| Granted {
            at: random.bool().then(|| *random.choice(&PLACES).unwrap()),
            when: Asked::any(random, 0),
            masked: random.bool(),
        };
        let grants: Vec<Granted> = (0..random.usize(1..4)).map(|_| granted(&mut random)).collect();
        let sentence = |g: &Granted| {
            let at = g.at.map_or_else(String::new, |at| format!(" at {at}"));
            format!("see{at} when {}{}", g.when.sentence(), if g.masked { " after redact email" } else { "" })
        };
        let asked = json!({ "name": format!("p{number}"), "grants": grants.iter().map(sentence).collect::<Vec<_>>() });
        let made = node.http.post(node.url("/api/v1/tokens")).bearer_auth(node.token()).json(&asked).send().await.unwrap();
        let token = made.json::<Value>().await.unwrap()["token"].as_str().unwrap().to_owned();
        people.push(Arc::new(Person { token, grants }));
    }
    // Everybody looks at one point, and some also at what comes next; where they see nothing, they are refused.
    let shown: Arc<Mutex<Shown>> = Arc::default();
    let (mut looking, mut refused) = (Vec::new(), 0);
    for (number, person) in people.iter().enumerate() {
        let (place, person, shown) = (PLACES[number % PLACES.len()], Arc::clone(person), Arc::clone(&shown));
        let tail = http()
            .get(node.url(&format!("/api/v1/tail?point={place}")))
            .bearer_auth(&person.token)
            .timeout(std::time::Duration::from_secs(120))
            .send()
            .await
            .unwrap();
        if !person.grants.iter().any(|g| g.at.is_none_or(|at| at == place)) {
            assert_eq!(tail.status(), 403);
            refused += 1;
            continue;
        }
        assert_eq!(tail.status(), 200);
        looking.push(tokio::spawn(async move {
            let (mut stream, mut text) = (tail.bytes_stream(), Vec::new());
            while let Some(Ok(more)) = stream.next().await {
                text.extend_from_slice(&more);
                while let Some(end) = text.iter().position(|b| *b == b'\n') {
                    let line: Vec<u8> = text.drain(..=end).collect();
                    let Some(data) = line.strip_prefix(b"data: ") else { continue };
                    let Ok(passed) = serde_json::from_slice::<Value>(data) else { continue };
                    let Some(before) = passed.get("before") else { continue };
                    person.check(place, before);
                    // As it went on, it may be one that they do not see.
                    if passed["after"].is_object() {
                        person.check(place, &passed["after"]);
                    }
                    shown.lock().await.entry((number, place)).or_default().insert(before["id"].as_u64().unwrap());
                }
            }
        }));
    }
    assert!(refused > 0 && looking.len() > 30, "{refused} {}", looking.len());
    let catching: Vec<_> = people[..10]
        .iter()
        .map(|person| {
            let (person, url) = (Arc::clone(person), node.url("/api/v1/sources/quays/next?events=100&wait=5"));
            tokio::spawn(async move {
                let caught = http().get(url).bearer_auth(&person.token).send().await.unwrap();
                if caught.status() == 403 {
                    return 0;
                }
                let caught = caught.json::<Value>().await.unwrap();
                for record in caught.as_array().unwrap() {
                    assert!(record["raw"].is_null(), "{record}");
                    person.check("source:quays", &record["read"]);
                    if record["after"].is_object() {
                        person.check("source:quays", &record["after"]);
                    }
                }
                caught.as_array().unwrap().len()
            })
        })
        .collect();
    let events: Vec<Value> = (0..EVENTS).map(event).collect();
    for batch in events.chunks(BATCH) {
        let body = batch.iter().fold(String::new(), |mut body, event| {
            let _ = writeln!(body, "{event}");
            body
        });
        assert_eq!(post(&node.http, source, body).await.status(), 200);
    }
    let mut caught = 0;
    for task in catching {
        caught += task.await.unwrap();
    }
    assert!(caught > 100, "{caught}");
    node.drained().await;
    // Nobody was shown one too many, and those who may were shown most.
    let expected = |number: usize, person: &Person| {
        let place = PLACES[number % PLACES.len()];
        let is_there = |event: &&Value| match place {
            "source:quays" => true,
            "remainder" => event["line"].as_u64().unwrap() >= 8,
            _ => event["line"].as_u64().unwrap() < 8,
        };
        // A destination gets what the route made of them.
        let at = |event: &Value| {
            let mut event = event.clone();
            if place == "destination:desk" && event["line"] == 3 {
                event["team"] = json!("boats");
            }
            event
        };
        events.iter().filter(is_there).filter(|e| person.sees(place, &at(e)).is_some()).map(|e| e["id"].as_u64().unwrap()).collect::<HashSet<_>>()
    };
    let (mut seen, mut allowed) = (0, 0);
    for (number, person) in people.iter().enumerate() {
        let (expected, shown) = (expected(number, person), shown.lock().await.remove(&(number, PLACES[number % PLACES.len()])).unwrap_or_default());
        assert!(shown.is_subset(&expected), "p{number}");
        (seen, allowed) = (seen + shown.len(), allowed + expected.len());
    }
    assert!(seen > allowed / 2 && allowed > 20_000, "{seen} of {allowed} were shown");

    // The samples, and what is told of them: of those events that somebody may see, and no others.
    let (mut seen, mut refused) = (0, 0);
    for (number, person) in people.iter().enumerate() {
        let place = ["source:quays", "route:all", "remainder"][number % 3];
        let ask = async |what: &str| node.http.get(node.url(&format!("/api/v1/{what}point={place}"))).bearer_auth(&person.token).send().await.unwrap();
        let sample = ask("sample?most=1000&").await;
        if !person.grants.iter().any(|g| g.at.is_none_or(|at| at == place)) {
            for answer in [sample, ask("fields?").await, ask("patterns?").await] {
                assert_eq!(answer.status(), 403);
            }
            refused += 1;
            continue;
        }
        let sample = sample.json::<Value>().await.unwrap();
        let shown: Vec<&Value> = sample["events"].as_array().unwrap().iter().map(|e| &e["event"]).collect();
        shown.iter().for_each(|event| person.check(place, event));
        seen += shown.len();
        if number % 4 > 0 {
            continue;
        }
        // Every team that is told of is one of an event that they were shown, or would be.
        let may = |team: &str| events.iter().any(|e| e["team"] == team && person.sees(place, e).is_some());
        let told = ask("patterns?field=team&").await.json::<Value>().await.unwrap();
        for pattern in told["patterns"].as_array().unwrap() {
            pattern["examples"].as_array().unwrap().iter().for_each(|team| assert!(may(team.as_str().unwrap()), "{place}: {pattern}"));
        }
    }
    assert!(seen > 500 && refused > 0, "{seen} {refused}");

    // Quarantine, as everybody sees it, and why.
    let pages = async |token: &str| {
        let (mut all, mut before) = (Vec::new(), String::new());
        loop {
            let page = node.http.get(node.url(&format!("/api/v1/quarantine?most=1000{before}"))).bearer_auth(token).send().await.unwrap();
            let page: Vec<Value> = page.json().await.unwrap();
            let Some(last) = page.last() else { return all };
            before = format!("&before={}", last["id"]);
            all.extend(page);
        }
    };
    let unwelcome = events.iter().filter(|e| e.get("note").is_some() && e["line"].as_u64().unwrap() < 8).count();
    let all = until("what was refused is in quarantine", async || Some(pages(&node.token()).await).filter(|all| all.len() == unwelcome)).await;
    let read = |entry: &Value| serde_json::from_str::<Value>(entry["data"].as_str().unwrap()).unwrap();
    let (mut seen, mut hidden) = (0, 0);
    for person in &people {
        let theirs: HashMap<i64, Value> = pages(&person.token).await.into_iter().map(|e| (e["id"].as_i64().unwrap(), e)).collect();
        for (n, entry) in all.iter().enumerate() {
            let (id, data) = (entry["id"].as_i64().unwrap(), read(entry));
            let sees = person.sees("destination:desk", &data);
            assert_eq!(theirs.contains_key(&id), sees.is_some(), "{data}");
            *(if sees.is_some() { &mut seen } else { &mut hidden }) += 1;
            if let Some(masked) = sees {
                assert_eq!(theirs[&id].to_string().contains('@'), !masked, "{}", theirs[&id]);
            }
            if n % 50 == 0 {
                let why = node.http.get(node.url(&format!("/api/v1/quarantine/{id}/why"))).bearer_auth(&person.token).send().await.unwrap();
                assert_eq!(why.status().as_u16(), if sees.is_some() { 200 } else { 404 }, "{data}");
                let said = why.text().await.unwrap();
                assert!(sees == Some(false) || !said.contains('@'), "{said}");
                let asked = json!({ "source": "quays", "event": data.to_string() });
                let why = node.http.post(node.url("/api/v1/why")).bearer_auth(&person.token).json(&asked).send().await.unwrap();
                let sees = person.sees("source:quays", &data);
                assert_eq!(why.status().as_u16(), if sees.is_some() { 200 } else { 403 }, "{data}");
                let said = why.text().await.unwrap();
                assert!(sees == Some(false) || !said.contains('@'), "{said}");
            }
        }
    }
    assert!(seen > 5_000 && hidden > 5_000, "{seen} {hidden}");
    for task in looking {
        task.abort();
        assert!(!matches!(task.await, Err(e) if e.is_panic()));
    }
    node.balanced();
    node.stop().await;
}
