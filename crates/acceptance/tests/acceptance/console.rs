//! The console, in headless Chromium.

use serde_json::json;
use thirtyfour::prelude::*;

use crate::browser::Browser;
use crate::harness::{Node, free_ports, post, until};

fn plan(source: u16, dead: u16) -> String {
    format!(
        r#"
[source.quays]
kind = "http"
listen = "127.0.0.1:{source}"
[destination.counted]
kind = "discard"
price = {{ per_gb = 2.40, currency = "EUR" }}
[destination.lost]
kind = "http"
endpoints = ["http://127.0.0.1:{dead}/in"]
always = ['redact email']
[[route]]
name = "trouble"
when = 'severity >= warn'
do = ['drop quiet = true', 'tag team = "quays"']
to = ["counted", "lost"]
"#
    )
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_answers_its_questions() {
    let [source, dead] = free_ports();
    let mut node = Node::start().await;
    let browser = Browser::start().await;

    // Unknown browsers are told how to come in; an empty service what to do first.
    browser.driver.goto(node.url("/")).await.unwrap();
    browser.sees("Or sign in by a link.").await;
    let refused = "return performance.getEntriesByType('resource').filter(r => r.responseStatus >= 400).map(r => r.name)";
    assert_eq!(browser.script(refused).await, json!([]), "nothing is asked that would be refused");
    browser.sign_in(&node).await;
    browser.sees("The plan is empty.").await;
    // A first plan stands there, by what is chosen, and pages say what they are.
    browser.find("select").await.send_keys("syslog").await.unwrap();
    browser.sees("[source.syslog-in]").await;
    browser.sees("rockrose new-plan --from syslog --to file").await;
    let titled = async |title: &str| until(title, async || (browser.driver.title().await.unwrap() == title).then_some(())).await;
    titled("Flow – Rockrose").await;
    browser.driver.goto(node.url("/nowhere")).await.unwrap();
    assert_eq!(browser.find("h1").await.text().await.unwrap(), "No page at this address.");
    titled("No such page – Rockrose").await;
    browser.driver.goto(node.url("/")).await.unwrap();

    node.apply(&plan(source, dead));
    browser.sees("no events received yet").await;
    let send = async || {
        let body = "{\"level\":\"warn\",\"gate\":\"3\",\"msg\":\"gangway stuck\"}\n{\"level\":\"warn\",\"quiet\":true}\n{\"level\":\"info\"}\n{broken\n";
        assert_eq!(post(&node.http, source, body).await.status(), 200);
    };
    send().await;

    // Flow: sources, routes with their sentences and what each removed, destinations with their state.
    for shown in [
        "quays",
        "1 unreadable, in quarantine",
        "when severity >= warn",
        "drop quiet = true",
        "−50 %",
        "Remainder",
        "failing",
        "cannot connect",
        "always redact email",
        "ledger balanced",
    ] {
        browser.sees(shown).await;
    }
    assert!(browser.driver.find_all(By::Css("svg path")).await.unwrap().len() >= 4, "bands join the cards");
    // Shares are of what passes now, and totals stand beside them.
    let step = async || browser.find("[data-point='route:trouble'] ol").await.text().await.unwrap_or_default();
    until("nothing passes any more", async || Some(step().await).filter(|s| s.contains("1 in total") && !s.contains('%'))).await;
    let body = "{\"level\":\"warn\",\"msg\":\"gangway stuck\"}\n".repeat(3) + "{\"level\":\"warn\",\"quiet\":true}\n";
    assert_eq!(post(&node.http, source, body).await.status(), 200);
    until("a quarter is removed now", async || Some(step().await).filter(|s| s.contains("−25 %") && s.contains("2 in total"))).await;

    // A chosen point opens its events, live; what was removed is struck through, what came is underlined.
    browser.find("button[aria-label='Show route trouble']").await.click().await.unwrap();
    browser.sees("Waiting for the next event here.").await;
    until("an event shows", async || {
        send().await;
        browser.driver.find(By::Css("aside ins")).await.ok()
    })
    .await;
    assert_eq!(browser.find("aside ins").await.text().await.unwrap(), ", \"team\": \"quays\"");
    assert!(browser.find("aside del").await.text().await.unwrap().contains("quiet"));
    browser.sees("removed by drop quiet = true").await;
    assert!(browser.driver.current_url().await.unwrap().query().unwrap().contains("trouble"), "what is looked at is in the address");
    // Its last hour is drawn, and stands in a table beside the drawing.
    let drawn = "const c = document.querySelector('[role=img][aria-label^=\"The last hour\"] canvas'); if (!c) return false; \
                 const p = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; return p.some((v, i) => i % 4 === 3 && v > 0)";
    until("the last hour is drawn", async || (browser.script(drawn).await == json!(true)).then_some(())).await;
    browser.driver.find(By::XPath("//figure//summary[.='As a table']")).await.unwrap().click().await.unwrap();
    let told = browser.find("[aria-label='The last hour of route trouble'] tbody").await.text().await.unwrap();
    let taken: u64 = told.lines().map(|l| l.split(' ').rev().nth(1).unwrap().parse::<u64>().unwrap()).sum();
    assert!(taken >= 6, "{told}");
    browser.driver.action_chain().send_keys(Key::Escape).perform().await.unwrap();
    until("the drawer closes", async || browser.driver.find(By::Css("aside")).await.is_err().then_some(())).await;

    // A source: tested, paused, and asked why one of its events goes where it goes.
    browser.find("button[aria-label='Show source quays']").await.click().await.unwrap();
    browser.sees("no event has a time").await;
    browser.click("Test").await;
    browser.sees("there is room in the queues").await;
    browser.click("Pause").await;
    browser.sees("paused it").await;
    assert_eq!(post(&node.http, source, "{}").await.status(), 503);
    browser.click("Resume").await;
    until("it is resumed: it accepts events again", async || (post(&node.http, source, "{}").await.status() == 200).then_some(())).await;
    browser.click("Raw and read").await;
    until("records show, as they came and as they were read", async || {
        post(&node.http, source, "gate 4 opened\n{\"gate\":5\n".repeat(3)).await;
        let records = browser.driver.find(By::XPath("//*[@role='dialog']//ol[@aria-label='Records']")).await.ok()?.text().await.ok()?;
        ["came\ngate 4 opened", "read as\n{\"message\":\"gate 4 opened\"}", "not read"].iter().all(|shown| records.contains(shown)).then_some(())
    })
    .await;
    browser.driver.action_chain().send_keys(Key::Escape).perform().await.unwrap();
    until("the records close", async || browser.driver.find(By::Css("[role='dialog']")).await.is_err().then_some(())).await;
    until("an event shows", async || {
        send().await;
        browser.driver.find(By::XPath("//aside//li[contains(., 'gangway')]//button")).await.ok()?.click().await.ok()
    })
    .await;
    for shown in ["Why it goes where it goes", "trouble ✓ takes it", "severity is \"warn\"", "→ lost", "waits, behind", "cannot connect"] {
        browser.sees(shown).await;
    }
    browser.driver.action_chain().send_keys(Key::Escape).perform().await.unwrap();
    until("the answer closes", async || browser.driver.find(By::Css("[role='dialog']")).await.is_err().then_some(())).await;
    browser.driver.action_chain().send_keys(Key::Escape).perform().await.unwrap();
    until("the drawer closes", async || browser.driver.find(By::Css("aside")).await.is_err().then_some(())).await;

    // The route's page.
    browser.find("a[aria-label='Open route trouble']").await.click().await.unwrap();
    browser.sees("Events, before and after").await;
    browser.sees("events removed").await;
    let field = browser.find("input[placeholder='severity >= warn']").await;
    field.send_keys("gate =").await.unwrap();
    field.send_keys(Key::Enter + "").await.unwrap();
    browser.sees("Column 7: the sentence ends too early").await;
    field.send_keys(" \"3\"").await.unwrap();
    field.send_keys(Key::Enter + "").await.unwrap();
    until("only what meets the condition shows", async || {
        send().await;
        let lines = browser.driver.find_all(By::Css("ol[aria-label='Events, newest first'] li")).await.ok()?;
        (!lines.is_empty()).then_some(())
    })
    .await;
    assert!(!browser.text().await.contains("\"quiet\": true"));

    // The ledger adds up, and says so.
    browser.find("nav a[href='/ledger']").await.click().await.unwrap();
    for shown in ["Balanced.", "source quays", "− unreadable, in quarantine", "remainder, taken by none", "destination lost", "waiting"] {
        browser.sees(shown).await;
    }

    // By keyboard alone: anywhere by name.
    browser.driver.action_chain().key_down(Key::Control).send_keys("k").key_up(Key::Control).perform().await.unwrap();
    browser.find("input[aria-label='Go to']").await.send_keys("trou" + Key::Enter).await.unwrap();
    browser.sees("Events, before and after").await;

    // Light and dark are told apart by the page itself.
    let ground = async || browser.script("return getComputedStyle(document.documentElement).backgroundColor").await;
    let light = ground().await;
    browser.script("document.documentElement.dataset.theme = document.documentElement.dataset.theme === 'dark' ? 'light' : 'dark'; return null").await;
    assert_ne!(light, ground().await);

    let log = browser.script("return performance.getEntriesByType('resource').filter(r => new URL(r.name).host !== location.host).map(r => r.name)").await;
    assert_eq!(log, json!([]), "the console asks nobody but its own service");
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thousand_routes_stay_usable_and_choices_are_kept() {
    let [source, others @ ..] = free_ports::<4>();
    let mut node = Node::start().await;
    let mut text = format!("[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.counted]\nkind = \"discard\"\n");
    for (n, port) in others.iter().enumerate() {
        text.push_str(&format!("[source.quays-{n}]\nkind = \"http\"\nlisten = \"127.0.0.1:{port}\"\n"));
    }
    for n in 1..100 {
        text.push_str(&format!("[destination.desk-{n}]\nkind = \"discard\"\n"));
    }
    for n in 0..1_000 {
        text.push_str(&format!("[[route]]\nname = \"gate-{n}\"\nwhen = 'gate = {n}'\ndo = ['tag number = {n}']\nto = [\"counted\"]\n"));
    }
    node.apply(&text);
    assert_eq!(post(&node.http, source, "{\"gate\":737}\n{\"gate\":5}\n{\"gate\":-1}\n").await.status(), 200);
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("Routes (1000)").await;
    browser.sees("880 more; find them by name.").await;
    // Four sources to each of the 120 routes that are drawn, one past them, and from each route to where it goes.
    browser.sees("Of 601 bands, the 400 that carry most are drawn.").await;
    assert_eq!(browser.driver.find_all(By::Css("svg[aria-label^='What flows'] path")).await.unwrap().len(), 400);
    let search = browser.find("input[aria-label='Find a route']").await;
    search.send_keys("gate-737").await.unwrap();
    browser.sees("gate-737").await;
    until("only that one is drawn", async || {
        let cards = browser.driver.find_all(By::Css("article[data-point^='route:']")).await.ok()?;
        (cards.len() == 1).then_some(())
    })
    .await;
    // A line is opened in place, and the sentences are shown of all.
    browser.find("button[aria-label='Unfold gate-737']").await.click().await.unwrap();
    browser.sees("when gate = 737").await;
    browser.sees("1 in total").await;
    browser.find("button[aria-label='Fold gate-737']").await.click().await.unwrap();
    browser.click("Show the sentences").await;
    browser.sees("when gate = 737").await;
    browser.click("One line a route").await;

    // Frozen numbers stand still while events pass; thawed, they catch up.
    let arrived = async || browser.find("article[data-point='source:quays'] .num").await.attr("title").await.unwrap().unwrap();
    until("the source has its three", async || arrived().await.contains("; 3 since").then_some(())).await;
    let freeze = browser.driver.find(By::XPath("//button[text()='Freeze']")).await.unwrap();
    freeze.click().await.unwrap();
    browser.sees("Frozen").await;
    assert_eq!(post(&node.http, source, "{\"gate\":737}\n").await.status(), 200);
    until("the service has counted it", async || (node.get("/api/v1/flow").await["sources"][0]["received"]["events"] == 4).then_some(())).await;
    assert!(arrived().await.contains("; 3 since"));
    browser.driver.find(By::XPath("//button[text()='Frozen']")).await.unwrap().click().await.unwrap();
    until("the numbers move again", async || arrived().await.contains("; 4 since").then_some(())).await;

    // The account draws some of them, and a sum is followed to one that is not drawn; the address says what is looked at.
    let one_each: String = (0..1_000).map(|gate| format!("{{\"gate\":{gate}}}\n")).collect();
    assert_eq!(post(&node.http, source, one_each).await.status(), 200);
    browser.driver.goto(node.url("/ledger?span=hour")).await.unwrap();
    browser.sees("of which 40 are drawn; find the others by name.").await;
    let drawn = async || browser.driver.find_all(By::Css("section[aria-label='routes'] article")).await.unwrap().len();
    assert_eq!(drawn().await, 40);
    browser.tab_to_start("taken by routes").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("by route gate-737").await;
    browser.keys(Key::Enter + "").await;
    browser.focused("The account of route gate-737").await;
    assert_eq!(drawn().await, 1);
    until("the address says it", async || {
        browser.driver.current_url().await.unwrap().query().filter(|q| q.contains("span=hour") && q.contains("find=gate-737")).map(drop)
    })
    .await;
    browser.without_violations("the account of very many routes").await;
    browser.driver.refresh().await.unwrap();
    browser.sees("gate-737").await;
    assert_eq!(drawn().await, 1, "what the address says is what is shown");

    // A route of the plan chooses among very many destinations by their names.
    browser.driver.goto(node.url("/plan?part=route:gate-737")).await.unwrap();
    browser.sees("and 83 more").await;
    browser.sees("and 960 more; find them by name").await;
    browser.tab_to_start("Find destinations").await;
    browser.keys("desk-42").await;
    browser.tab_to("desk-42").await;
    browser.keys(" ").await;
    browser.sees("✓ desk-42").await;
    browser.sees("✓ counted").await;
    browser.without_violations("a plan of very many parts").await;
    for (page, last) in [("/sources", "quays"), ("/deliveries", "desk-99")] {
        browser.driver.goto(node.url(page)).await.unwrap();
        browser.sees(last).await;
        browser.without_violations(&format!("{page} of very many parts")).await;
    }
    browser.driver.goto(node.url("/")).await.unwrap();
    browser.sees("Routes (1000)").await;

    // The theme is chosen in the menu and outlives the page.
    browser.find("button[aria-label='Appearance and session']").await.click().await.unwrap();
    browser.driver.query(By::XPath("//*[@role='menuitemradio'][contains(., 'Dark')]")).first().await.unwrap().click().await.unwrap();
    let theme = async || browser.script("return document.documentElement.dataset.theme").await;
    until("it is dark", async || (theme().await == json!("dark")).then_some(())).await;
    browser.driver.refresh().await.unwrap();
    browser.sees("Routes (1000)").await;
    assert_eq!(theme().await, json!("dark"));

    // Every control has a name, and a page that is not there says so.
    let nameless = "return [...document.querySelectorAll('button, a, input')].filter(e => !(e.innerText || e.ariaLabel || e.labels?.length || e.querySelector('img[alt]'))).map(e => e.outerHTML)";
    assert_eq!(browser.script(nameless).await, json!([]));
    browser.driver.goto(node.url("/routes/nowhere")).await.unwrap();
    browser.sees("has no route “nowhere”").await;
    browser.driver.goto(node.url("/no-such-page")).await.unwrap();
    browser.sees("No page at this address.").await;

    // Signed out, nothing is shown any more.
    browser.find("button[aria-label='Appearance and session']").await.click().await.unwrap();
    browser.driver.query(By::XPath("//*[@role='menuitem'][contains(., 'Sign out')]")).first().await.unwrap().click().await.unwrap();
    browser.sees("Or sign in by a link.").await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn routes_are_grouped_the_account_is_taken_along_and_an_outage_heals() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    let route = |name: &str, team: &str| format!("[[route]]\nname = \"{name}\"\nteam = \"of-{team}\"\ndo = ['tag team = \"{team}\"']\nto = [\"counted\"]\n");
    node.apply(&format!(
        "[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n[destination.counted]\nkind = \"discard\"\nprice = {{ per_gb = 2.40, currency = \"EUR\" }}\n{}{}{}",
        route("boarding", "gates"),
        route("fares", "money"),
        route("crossings", "gates")
    ));
    assert_eq!(post(&node.http, source, "{\"gate\":7}\n".repeat(50)).await.status(), 200);
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("crossings").await;
    browser.without_violations("the flow").await;
    // What a band carries is told to whoever comes to it by keyboard.
    browser.tab_to_start("source quays → route boarding:").await;
    // Grouped by a tag, which the browser remembers.
    browser.tab_to_start("grouped by").await;
    browser.keys("the team").await;
    browser.sees("team of-gates").await;
    browser.keys(Key::Down + "").await;
    browser.sees("team gates").await;
    browser.click("One line a route").await;
    browser.driver.refresh().await.unwrap();
    browser.sees("team money").await;
    browser.find("button[aria-label='Unfold fares']").await;
    browser.without_violations("the flow in lines").await;
    // The keys are listed.
    browser.keys("?").await;
    browser.sees("Everything can be done without a mouse.").await;
    browser.without_violations("the keys").await;
    browser.keys(Key::Escape + "").await;

    // The account tells what it costs, and is taken along.
    browser.driver.goto(node.url("/ledger")).await.unwrap();
    browser.sees("costs, at 2.40 EUR a GB").await;
    browser.without_violations("the ledger").await;
    browser.script("window.taken = []; URL.createObjectURL = (blob) => { blob.text().then((t) => window.taken.push(t)); return '#'; }; return null").await;
    browser.click("Take along as CSV").await;
    let taken = until("the file is made", async || browser.script("return window.taken[0] ?? null").await.as_str().map(str::to_owned)).await;
    assert!(
        taken.starts_with("place,name,via,position,sentence,measure,events,bytes,money,currency\r\n") && taken.contains("source,quays,,0,,received,50,"),
        "{taken}"
    );
    assert!(taken.lines().any(|line| line.starts_with("destination,counted,boarding,0,,enqueued,50,") && line.ends_with(",EUR")), "{taken}");

    // While the service is away that is said, and what was shown stays; when it is back, the page heals by itself.
    node.kill();
    browser.sees("the service does not answer").await;
    browser.sees("source quays").await;
    node.begin().await;
    until("the page has healed", async || {
        let text = browser.text().await;
        (text.contains("ledger balanced") && !text.contains("does not answer")).then_some(())
    })
    .await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn people_are_added_sign_in_and_see_what_they_may() {
    let [source, dead] = free_ports();
    let mut node = Node::start().await;
    node.apply(&plan(source, dead));
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    browser.driver.goto(node.url("/people")).await.unwrap();
    browser.sees("Nobody was added yet.").await;
    // A wrong sentence is told at its place, and a right one is kept.
    browser.click("Add").await;
    browser.find("input[name=name]").await.send_keys("ann").await.unwrap();
    let grants = browser.find("form textarea").await;
    grants.send_keys("sea when team = \"quays\"").await.unwrap();
    browser.click("Save").await;
    browser.sees("did you mean see?").await;
    grants.clear().await.unwrap();
    grants.send_keys("see when team = \"quays\" after redact email").await.unwrap();
    browser.click("Save").await;
    browser.sees("Done.").await;
    browser.click("Close").await;
    browser.sees("see when team = \"quays\" after redact email").await;
    browser.sees("add person").await;
    browser.sees("As it was written").await;
    let password = node.http.put(node.url("/api/v1/people/ann/password")).bearer_auth(node.token());
    assert_eq!(password.json(&json!({ "password": "heron on the mooring" })).send().await.unwrap().status(), 204);
    // Ending the session signs the browser out.
    browser.click("End").await;
    browser.click("End the session of admin?").await;
    browser.sees("Or sign in by a link.").await;
    browser.find("input[name=name]").await.send_keys("ann").await.unwrap();
    browser.find("input[name=password]").await.send_keys("heron on the mooring").await.unwrap();
    browser.click("Sign in").await;
    browser.sees("trouble").await;
    browser.driver.goto(node.url("/people")).await.unwrap();
    browser.sees("You are signed in as ann").await;
    let text = browser.text().await;
    assert!(!text.contains("Journal") && !text.contains("Tokens of programs"), "{text}");
    // The tail shows her team's events alone, masked.
    browser.driver.goto(node.url("/routes/trouble")).await.unwrap();
    browser.sees("Waiting for the next event").await;
    browser.sees("Your grants show you some of the events here: see when team = \"quays\" after redact email").await;
    let body =
        "{\"level\":\"warn\",\"msg\":\"ann@post.example waits\",\"team\":\"quays\"}\n{\"level\":\"warn\",\"msg\":\"for the boats\",\"team\":\"boats\"}\n";
    let seen = async || {
        assert_eq!(post(&node.http, source, body).await.status(), 200);
        browser.text().await.contains("*** waits").then_some(())
    };
    until("the event is shown", seen).await;
    let text = browser.text().await;
    assert!(!text.contains("ann@post.example") && !text.contains("for the boats"), "{text}");
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_signs_in_through_the_companys_provider() {
    let (mut node, _provider) = crate::people::with_provider().await;
    let browser = Browser::start().await;
    browser.driver.goto(node.url("/")).await.unwrap();
    browser.follow("Sign in with Saltmarsh Ferries").await;
    browser.follow("None of these").await;
    browser.sees("No account of Saltmarsh Ferries was chosen.").await;
    browser.follow("Sign in with Saltmarsh Ferries").await;
    browser.follow("ann@ferries.example").await;
    browser.sees("Nobody was added here by that account's name").await;
    node.json(&["person", "add", "ann@ferries.example", "--role", "viewer"]);
    browser.follow("Sign in with Saltmarsh Ferries").await;
    browser.follow("ann@ferries.example").await;
    browser.driver.goto(node.url("/people")).await.unwrap();
    browser.sees("You are signed in as ann@ferries.example").await;
    node.stop().await;
}
