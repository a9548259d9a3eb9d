//! The console's Plan place, in headless Chromium and by keyboard: sentences are written, tried, applied and taken back.

use std::fmt::Write;

use serde_json::{Value, json};
use thirtyfour::prelude::*;

use crate::browser::Browser;
use crate::harness::{Node, free_ports, post, until};

fn plan(source: u16, steps: &str) -> String {
    format!(
        "# The quays.\n[source.quays]\nkind = \"http\"\nlisten = \"127.0.0.1:{source}\"\n\
         [destination.desk]\nkind = \"discard\"\nprice = {{ per_gb = 2.40, currency = \"EUR\" }}\n[destination.vault]\nkind = \"discard\"\n\n\
         # What goes wrong.\n[[route]]\nname = \"trouble\"\nwhen = 'severity >= info'\ndo = [{steps}]\nto = [\"desk\"]\n"
    )
}

/// A node of which enough is known: a plan runs, and its samples hold events.
async fn node(source: u16) -> Node {
    let node = Node::start().await;
    node.apply(&plan(source, "'tag team = \"quays\"'"));
    let body = (0..300).fold(String::new(), |mut body, n| {
        let level = ["error", "info", "info", "debug"][n % 4];
        let _ = writeln!(
            body,
            "{{\"level\":\"{level}\",\"path\":\"{}\",\"gate\":{},\"message\":\"gate {n} told ann{n}@post.example\"}}",
            ["/health", "/pay"][n % 2],
            n % 7
        );
        body
    });
    let sampled = async || {
        assert_eq!(post(&node.http, source, body.clone()).await.status(), 200);
        (node.get("/api/v1/sample?point=source:quays").await["stands_for"].as_u64() > Some(250)).then_some(())
    };
    until("the sample holds events", sampled).await;
    node
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sentence_is_written_tried_applied_and_taken_back_by_keyboard() {
    let [source] = free_ports();
    let mut node = node(source).await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    // Anywhere by name, and from there by Tab alone.
    browser.chord(Key::Control, "k").await;
    browser.find("input[aria-label='Go to']").await.send_keys("Plan" + Key::Enter).await.unwrap();
    browser.sees("as it runs. Whatever you change here becomes a draft of yours.").await;
    browser.sees("What goes wrong.").await;
    browser.sees("personal data left in message (email)").await;
    browser.without_violations("the plan as it runs").await;

    // What may stand next is offered, from the events and from the language; a mistake is told at its place.
    browser.tab_to("Add a step").await;
    browser.keys(Key::Enter + "").await;
    browser.keys("drop pa").await;
    browser.offered("path").await;
    browser.keys(Key::Down + Key::Enter).await;
    browser.keys("starts with ").await;
    browser.offered("\"/health\"").await;
    browser.keys("5" + Key::Enter).await;
    browser.sees("expected a text in quotes").await;
    browser.without_violations("a sentence with a mistake").await;
    browser.keys(Key::Backspace + "\"/health\"").await;
    browser.sees("Removes every event").await;
    browser.keys(Key::Enter + "").await;
    // Its effect on the sample stands beside it, and what becomes of the events below.
    browser.sees("Your draft of revision 1: 1 part changed").await;
    browser.sees("removes").await;
    browser.sees("removed by drop path starts with \"/health\"").await;
    assert!(node.get("/api/v1/plan").await["text"].as_str().unwrap().contains("['tag team"), "nothing is applied yet");
    // It is moved up and back, and that is undone.
    browser.tab_to("Edit step 2: drop path starts with \"/health\"").await;
    browser.chord(Key::Alt, Key::Up + "").await;
    browser.focused("Edit step 1: drop path starts with \"/health\"").await;
    browser.chord(Key::Control, "z").await;
    browser.find("[data-step='2'] button[aria-label^='Edit step 2: drop']").await;

    // From drop-downs comes the same sentence.
    browser.tab_to("Edit the condition: severity >= info").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Build").await;
    browser.keys(" ").await;
    browser.tab_to("Field").await;
    browser.keys("gate").await;
    browser.tab_to("Comparison").await;
    browser.keys("<=").await;
    browser.tab_to("Value").await;
    browser.chord(Key::Control, "a").await;
    browser.keys("4").await;
    browser.tab_to("Write it").await;
    browser.keys(" ").await;
    browser.value_of("Condition", "severity >= info and gate <= 4").await;
    browser.back_to("Keep").await;
    browser.keys(" ").await;
    browser.find("button[aria-label='Edit the condition: severity >= info and gate <= 4']").await;

    // The draft is the person's, and outlives the browser.
    browser.driver.refresh().await.unwrap();
    browser.sees("Your draft of revision 1: 1 part changed").await;

    // Applied: first in words, with what is predicted.
    browser.tab_to("Apply…").await;
    browser.keys(Key::Enter + "").await;
    for shown in ["changed route trouble", "step added: drop path starts with \"/health\"", "Why, for those who look at it later"] {
        browser.sees(shown).await;
    }
    browser.without_violations("what applying does").await;
    browser.tab_to("Why, for those who look at it later").await;
    browser.keys("health checks cost too much").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✓ Revision 2 is active.").await;
    let active = node.get("/api/v1/plan").await["text"].as_str().unwrap().to_owned();
    assert!(active.starts_with("# The quays.") && active.contains("'drop path starts with \"/health\"'") && active.contains("gate <= 4"), "{active}");
    assert_eq!(node.get("/api/v1/plan/draft").await["version"], 0);

    // The history tells why, and what became of it; an earlier revision is applied again.
    browser.tab_to("with the revision").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("health checks cost too much").await;
    browser.without_violations("the revisions").await;
    browser.tab_to_start("1 no reason was given").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Apply it again…").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("It becomes the next revision").await;
    browser.tab_to("Apply revision 1 again").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("Revision 3").await;
    until("it runs", async || (node.get("/api/v1/plan").await["revision"] == 3).then_some(())).await;
    assert!(!node.get("/api/v1/plan").await["text"].as_str().unwrap().contains("/health"));
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_comes_second_is_told_before_anything_is_lost() {
    let [source] = free_ports();
    let mut node = node(source).await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    browser.driver.goto(node.url("/plan?part=route:trouble")).await.unwrap();
    let write = async |sentence: &str| {
        browser.click("Add a step").await;
        browser.keys(sentence).await;
        browser.keys(Key::Enter + "").await;
        browser.find(&format!("button[aria-label$=': {sentence}']")).await;
    };
    write("drop gate = 1").await;

    // Somebody else changes the same route: it is said, and both are shown.
    let token = node.json(&["token", "make", "bo", "--grant", "see", "--grant", "change"])["token"].as_str().unwrap().to_owned();
    let call = async |method: &str, path: &str, body: Value| {
        let request = node.http.request(method.parse().unwrap(), node.url(path)).bearer_auth(&token).json(&body);
        request.send().await.unwrap()
    };
    let edits = json!([{ "edit": "add_step", "part": "route:trouble", "step": "drop gate = 2" }]);
    assert_eq!(call("PUT", "/api/v1/plan/draft", json!({ "version": 0, "edits": edits })).await.status(), 200);
    browser.sees("bo is changing route trouble as well").await;
    browser.click("Compare").await;
    for shown in ["in your draft", "in bo’s draft", "drop gate = 2"] {
        browser.sees(shown).await;
    }
    browser.without_violations("both drafts").await;
    browser.click("Close").await;

    // They apply theirs, in the same lines: nothing is overwritten, and one says whose are kept.
    let text = plan(source, "'tag team = \"quays\"', 'drop gate = 2'").replace("kind = \"discard\"\n\n", "kind = \"discard\"\n# For auditors.\n\n");
    assert_eq!(call("POST", "/api/v1/revisions", json!({ "text": text, "expected_revision": 1 })).await.status(), 200);
    browser.sees("Revision 2 was applied since your draft began").await;
    browser.click("Take it up into the draft").await;
    browser.sees("Both changed the same lines").await;
    browser.sees("in revision 2").await;
    let draft = async || node.get("/api/v1/plan/draft").await;
    assert_eq!(draft().await["revision"], 1);
    browser.click("Keep mine").await;
    until("it is taken up", async || (draft().await["revision"] == 2).then_some(())).await;
    let kept = draft().await["text"].as_str().unwrap().to_owned();
    assert!(kept.contains("drop gate = 1") && !kept.contains("drop gate = 2") && kept.contains("# For auditors."), "{kept}");

    // Two windows do not disagree: what is changed in one shows in the other, and an older one overwrites nothing.
    let first = browser.driver.window().await.unwrap();
    let second = browser.driver.new_tab().await.unwrap();
    browser.driver.switch_to_window(second).await.unwrap();
    browser.driver.goto(node.url("/plan?part=route:trouble")).await.unwrap();
    browser.find("button[aria-label$=': drop gate = 1']").await;
    write("drop gate = 3").await;
    browser.driver.switch_to_window(first).await.unwrap();
    browser.find("button[aria-label$=': drop gate = 3']").await;
    let stale = node.http.put(node.url("/api/v1/plan/draft")).bearer_auth(node.token()).json(&json!({ "version": 1, "text": "" }));
    assert_eq!(stale.send().await.unwrap().status(), 409);

    // The whole file is the same text, and a mistake in it stands at its place.
    browser.click("Whole file").await;
    browser.find(".cm-content").await.click().await.unwrap();
    browser.chord(Key::Control, Key::End + "").await;
    browser.keys("\n[[route]]\nname = \"more\"\nto = [\"nowhere\"]\n").await;
    browser.sees("There is a mistake in the draft").await;
    browser.sees("nowhere").await;
    browser.find("nav[aria-label='Parts of the plan'] a[href*='more']").await;
    browser.without_violations("the whole file").await;
    browser.click("Discard").await;
    browser.click("Discard the draft?").await;
    browser.sees("Revision 2, as it runs").await;
    until("the editor shows the active plan", async || (!browser.find(".cm-content").await.text().await.unwrap().contains("nowhere")).then_some(())).await;
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_suggestion_becomes_a_draft_or_is_declined() {
    let [source] = free_ports();
    let mut node = node(source).await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    browser.driver.goto(node.url("/plan/suggestions")).await.unwrap();
    browser.sees("personal data leaves").await;
    browser.without_violations("the suggestions").await;
    let count = async || browser.driver.find_all(By::Css("ol[aria-label='Suggestions'] > li")).await.unwrap().len();
    let before = count().await;
    browser.find("button[aria-label^='Decline: redact email']").await.click().await.unwrap();
    browser.sees("1 declined before is left out").await;
    until("it is left out", async || (count().await < before).then_some(())).await;
    browser.find("button[aria-label^='Add to the draft: drop path']").await.click().await.unwrap();
    browser.sees("Your draft of revision 1: 1 part changed").await;
    let draft = node.get("/api/v1/plan/draft").await;
    assert!(draft["text"].as_str().unwrap().contains("drop path"), "{draft}");

    // A recipe from a kit; and the draft is tried on events that are pasted.
    browser.tab_to("From a kit").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("Add the kit access-log").await;
    browser.without_violations("the kits").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("parse message as access log").await;
    browser.driver.goto(node.url("/plan?part=route%3Atrouble")).await.unwrap();
    browser.tab_to("Try on other events").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to("The events").await;
    browser.keys("{\"level\":\"error\",\"path\":\"/ramp\",\"message\":\"pasted\"}").await;
    browser.tab_to("Try on these").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("tried on 1 event given").await;
    browser.sees("\"message\": \"pasted\"").await;
    browser.tab_to("Try on the samples again").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("events of the samples").await;

    // Whoever may not change the plan reads it, and can change nothing.
    let viewer = node.json(&["token", "make", "viewer", "--role", "viewer"])["token"].as_str().unwrap().to_owned();
    let link = node.http.post(node.url("/api/v1/sign-in-links")).bearer_auth(viewer).json(&json!({})).send().await.unwrap();
    let link = link.json::<Value>().await.unwrap()["url"].as_str().unwrap().to_owned();
    let other = Browser::start().await;
    other.driver.goto(&link).await.unwrap();
    other.click("Sign in to this console").await;
    other.sees("quays").await;
    other.driver.goto(node.url("/plan")).await.unwrap();
    other.sees("Your grants do not let you change it.").await;
    other.sees("tag team = \"quays\"").await;
    let shown = other.text().await;
    assert!(!shown.contains("Add a step") && !shown.contains("Apply") && !shown.contains("drop path"), "{shown}");
    other.driver.clone().quit().await.unwrap();
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn personal_data_is_redacted_at_one_destination_and_an_example_guards_it() {
    let [source] = free_ports();
    let mut node = Node::start().await;
    // Both get the same events: one within the house, one outside it.
    node.apply(&plan(source, "").replace("to = [\"desk\"]", "to = [\"desk\", \"vault\"]"));
    let body = (0..300).fold(String::new(), |mut body, n| {
        let _ = writeln!(body, "{{\"level\":\"info\",\"gate\":{},\"contact\":\"ann{n}@post.example\",\"message\":\"gate opened\"}}", n % 7);
        body
    });
    until("the sample holds events", async || {
        assert_eq!(post(&node.http, source, body.clone()).await.status(), 200);
        (node.get("/api/v1/sample?point=route:trouble").await["kept"].as_u64() > Some(100)).then_some(())
    })
    .await;
    let browser = Browser::start().await;
    browser.sign_in(&node).await;
    browser.sees("quays").await;
    // The Plan says what leaves with personal data in it; the sentence is written at the destination that must not have it.
    browser.chord(Key::Control, "k").await;
    browser.find("input[aria-label='Go to']").await.send_keys("Plan" + Key::Enter).await.unwrap();
    browser.find("nav[aria-label='Parts of the plan']").await;
    browser.tab_to("desk").await;
    browser.keys(Key::Enter + "").await;
    browser.find("section[aria-label='destination desk']").await;
    browser.sees("▲ Personal data is sent there: contact (email)").await;
    browser.tab_to("Add a step").await;
    browser.keys(Key::Enter + "").await;
    browser.keys("redact con").await;
    browser.offered("contact").await;
    browser.keys(Key::Down + Key::Enter + Key::Enter).await;
    browser.find("button[aria-label='Edit step 1: redact contact']").await;
    browser.sees("✓ No personal data was found in what is sent there.").await;

    // An example of a real event keeps it so; what is expected is told, and run as the draft is changed.
    browser.tab_to("Examples").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("The plan has no examples yet.").await;
    browser.without_violations("no examples").await;
    browser.tab_to("Make an example").await;
    browser.keys(Key::Enter + "").await;
    browser.tab_to_start("or one of the newest").await;
    browser.keys(Key::Down + "").await;
    browser.tab_to("What it shows, in your words").await;
    browser.keys("the desk gets no address").await;
    browser.without_violations("an example to be made").await;
    browser.tab_to("Add it to the draft").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✓ The example holds in your draft.").await;
    browser.sees("contact = \"***\"").await;
    browser.without_violations("the examples").await;
    browser.tab_to("Sentences").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✓ The example holds.").await;
    browser.tab_to("Apply…").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("step added: redact contact").await;
    browser.tab_to("Apply it").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("✓ Revision 2 is active.").await;
    let active = node.get("/api/v1/plan").await["text"].as_str().unwrap().to_owned();
    assert!(active.contains("redact contact") && active.contains("says = 'the desk gets no address'"), "{active}");
    browser.keys(Key::Escape + "").await;
    until("one destination gets it masked, the other as it is", async || {
        let tried = node.json(&["try"]);
        let of = |name: &str| tried["destinations"].as_array().unwrap().iter().find(|d| d["name"] == name).unwrap().to_string();
        (!of("desk").contains("contact") && of("vault").contains("contact")).then_some(())
    })
    .await;

    // Whoever takes the step away sees at once that the example does not hold, and why; it cannot be applied.
    browser.driver.goto(node.url("/plan?part=destination%3Adesk")).await.unwrap();
    browser.tab_to("Edit step 1: redact contact").await;
    browser.keys(Key::Enter + "").await;
    browser.chord(Key::Control, "a").await;
    browser.keys("redact gate" + Key::Enter).await;
    browser.sees("▲ An example does not hold: the desk gets no address.").await;
    browser.driver.goto(node.url("/plan/examples")).await.unwrap();
    browser.sees("contact = \"***\" does not hold").await;
    browser.without_violations("an example that fails").await;
    // What is expected is changed where it stands.
    browser.tab_to("What is expected at vault").await;
    browser.keys(Key::Down + Key::Down).await;
    browser.sees("it is sent there, as").await;
    browser.tab_to("Remove").await;
    browser.keys(Key::Enter + "").await;
    browser.keys(Key::Enter + "").await;
    browser.sees("The plan has no examples yet.").await;
    let refused = node.client(&["check", &node.write("broken.toml", &active.replace("redact contact", "redact gate"))]);
    assert_eq!(refused.status.code(), Some(3), "{refused:?}");
    browser.driver.clone().quit().await.unwrap();
    node.stop().await;
}
