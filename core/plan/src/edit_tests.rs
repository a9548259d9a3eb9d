use super::*;
use crate::CheckedPlan;

const PLAN: &str = r#"# The ferries.

[source.gates]   # all four quays
kind = "http"
listen = "127.0.0.1:1"

# The desk.
[destination.desk]
kind = "discard"
always = ['redact email'] # for good

[destination.vault]
kind = "discard"

[recipe.short]
steps = [
    # what nobody reads
    'remove debug', # since spring
    'trim message to 400 B', # kept short
    # and the rest
    'remove spare' # by hand
]

# What goes wrong.
[[route]]
name = "trouble"
when = 'severity >= warn'
to = ["desk"]

[[route]] # for the auditors
name = "all"
do = ['use short', 'drop path starts with "/health"']
to = ["vault"]
"#;

fn change(edits: &[PlanEdit]) -> Result<String, EditError> {
    let after = edited(PLAN, edits)?;
    CheckedPlan::read(&after).unwrap_or_else(|m| panic!("{after}\n{m:?}"));
    Ok(after)
}

/// Lines that are only in one of the texts: `-` those of the first, `+` those of the second.
fn difference(after: &str) -> Vec<String> {
    let (mut found, mut rest): (Vec<String>, Vec<&str>) = (Vec::new(), after.lines().collect());
    for line in PLAN.lines() {
        match rest.iter().position(|l| *l == line) {
            Some(at) => drop(rest.remove(at)),
            None => found.push(format!("-{line}")),
        }
    }
    found.extend(rest.into_iter().map(|line| format!("+{line}")));
    found
}

fn expect(edit: &PlanEdit, lines: &[&str]) {
    let after = change(std::slice::from_ref(edit)).unwrap();
    assert_eq!(difference(&after), lines, "{edit:?}\n{after}");
}

fn add(part: &str, step: &str, number: Option<usize>) -> PlanEdit {
    PlanEdit::AddStep { part: part.into(), step: step.into(), number }
}

#[test]
fn a_step_is_added_where_it_is_said_and_nothing_else_changes() {
    expect(&add("route:trouble", "drop gate = \"4\"", None), &["+do = ['drop gate = \"4\"']"]);
    let after = change(&[add("route:trouble", "drop gate = 4", None)]).unwrap();
    assert!(after.contains("when = 'severity >= warn'\ndo = ['drop gate = 4']\nto = [\"desk\"]\n"), "{after}");
    expect(&add("source:gates", "tag a = 1", None), &["+on_arrival = ['tag a = 1']"]);
    expect(&add("destination:desk", "tag a = 1", Some(1)), &["-always = ['redact email'] # for good", "+always = ['tag a = 1', 'redact email'] # for good"]);
    expect(
        &add("recipe:short", "tag who = \"it's\"", Some(2)),
        &["-    'remove spare' # by hand", "+    \"tag who = \\\"it's\\\"\",", "+    'remove spare', # by hand"],
    );
    expect(&add("recipe:short", "tag a = 1", None), &["-    'remove spare' # by hand", "+    'remove spare', # by hand", "+    'tag a = 1',"]);
    let long = "drop message contains \"a gate that opens and shuts, and opens again\"";
    let lines = ["-do = ['use short', 'drop path starts with \"/health\"']", "+do = [", "+    'use short',", "+    'drop path starts with \"/health\"',"];
    expect(&add("route:all", long, None), &[&lines[..], &[&format!("+    '{long}',"), "+]"]].concat());
}

#[test]
fn examples_are_changed_and_removed_by_their_numbers() {
    let example = |gate: u32| format!("[[example]]\nsource = 'gates'\nevent = '{{\"gate\":{gate}}}'\nexpect = {{ desk = 'gate = {gate}' }}");
    let add = |gate| PlanEdit::AddPart { text: example(gate) };
    let with = |more: &[PlanEdit]| change(&[&[add(1), add(2), add(3)], more].concat());
    let whole = with(&[]).unwrap();
    assert!(whole.starts_with(PLAN.trim_end()) && whole.ends_with(&format!("{}\n\n{}\n\n{}\n", example(1), example(2), example(3))), "{whole}");
    assert_eq!(with(&[PlanEdit::RemoveExample { number: 2 }]).unwrap(), whole.replace(&format!("{}\n\n", example(2)), ""));
    assert_eq!(with(&[PlanEdit::ChangeExample { number: 2, text: example(7) }]).unwrap(), whole.replace(&example(2), &example(7)));
    assert!(matches!(with(&[PlanEdit::RemoveExample { number: 4 }]), Err(EditError::NoExample { number: 4, count: 3 })));
    assert!(matches!(change(&[PlanEdit::RemoveExample { number: 0 }]), Err(EditError::NoExample { number: 0, count: 0 })));
    assert!(matches!(with(&[PlanEdit::ChangeExample { number: 1, text: "[[route]]\nname = 'x'".into() }]), Err(EditError::NotExample)));
}

#[test]
fn steps_take_their_comments_with_them() {
    let part = || "recipe:short".to_owned();
    expect(
        &PlanEdit::RemoveStep { part: part(), number: 1 },
        &["-    # what nobody reads", "-    'remove debug', # since spring", "-    'remove spare' # by hand", "+    'remove spare', # by hand"],
    );
    let after = change(&[PlanEdit::MoveStep { part: part(), number: 3, to: 1 }]).unwrap();
    let list = "[\n    # and the rest\n    'remove spare', # by hand\n    # what nobody reads\n    'remove debug', # since spring\n    'trim message to 400 B', # kept short\n]";
    assert!(after.contains(list), "{after}");
    expect(
        &PlanEdit::ChangeStep { part: part(), number: 2, step: "trim message to 1 KB".into() },
        &[
            "-    'trim message to 400 B', # kept short",
            "-    'remove spare' # by hand",
            "+    'trim message to 1 KB', # kept short",
            "+    'remove spare', # by hand",
        ],
    );
    expect(
        &PlanEdit::RemoveStep { part: "route:all".into(), number: 1 },
        &["-do = ['use short', 'drop path starts with \"/health\"']", "+do = ['drop path starts with \"/health\"']"],
    );
}

#[test]
fn parts_come_go_and_move() {
    let route = "[[route]]\nname = \"more\"\nto = [\"desk\"]";
    let after = change(&[PlanEdit::AddPart { text: route.into() }]).unwrap();
    assert!(after.ends_with(&format!("to = [\"vault\"]\n\n{route}\n")) && after.starts_with(PLAN.trim_end()), "{after}");
    let after = change(&[PlanEdit::RemovePart { part: "route:trouble".into() }]).unwrap();
    assert!(!after.contains("What goes wrong") && after.contains("[[route]] # for the auditors"), "{after}");
    let after = change(&[PlanEdit::MoveRoute { name: "all".into(), to: 1 }]).unwrap();
    let (all, trouble) = (after.find("[[route]] # for the auditors").unwrap(), after.find("# What goes wrong.\n[[route]]").unwrap());
    assert!(all < trouble, "{after}");
    expect(
        &PlanEdit::Set { part: "route:trouble".into(), key: "when".into(), value: Some("'severity >= error'".into()) },
        &["-when = 'severity >= warn'", "+when = 'severity >= error'"],
    );
    expect(&PlanEdit::Set { part: "route:trouble".into(), key: "when".into(), value: None }, &["-when = 'severity >= warn'"]);
    expect(&PlanEdit::Set { part: "destination:desk".into(), key: "hold_for".into(), value: Some("\"2 days\"".into()) }, &["+hold_for = \"2 days\""]);
}

#[test]
fn what_cannot_be_done_says_why() {
    let says = |edit: PlanEdit| edited(PLAN, &[edit]).unwrap_err().to_string();
    assert_eq!(says(add("route:none", "remove a", None)), "the plan has no route `none`");
    assert_eq!(says(add("table:none", "remove a", None)), "a table has no steps");
    assert_eq!(says(add("gates", "remove a", None)), "`gates` names no part of a plan: source:NAME, destination:NAME, table:NAME, recipe:NAME or route:NAME");
    assert_eq!(says(add("route:all", "remove a", Some(4))), "the route `all` has 2 steps, and no step 4");
    assert_eq!(says(PlanEdit::RemoveStep { part: "route:all".into(), number: 0 }), "the route `all` has 2 steps, and no step 0");
    assert_eq!(says(PlanEdit::AddPart { text: "[recipe.short]\nsteps = []".into() }), "the plan has a recipe `short` already");
    assert_eq!(says(PlanEdit::MoveRoute { name: "all".into(), to: 3 }), "the plan has 2 routes, so none can be number 3");
    assert!(says(PlanEdit::Set { part: "route:all".into(), key: "when".into(), value: Some("'open".into()) }).contains("TOML"));
    assert_eq!(
        edited("route = [{ name = \"a\" }]", &[add("route:a", "remove a", None)]).unwrap_err().to_string(),
        "the route `a` is written in a way that only an editor can change"
    );
    assert!(edited("[[route", &[]).is_err());
    assert_eq!(edited(PLAN, &[]).unwrap(), PLAN);
}

#[test]
fn assignments_are_taken_out_with_what_they_need_and_put_into_another_plan() {
    let plan = "# The ferry line.\n[source.hosts]\nkind = \"agents\"\nlisten = \"127.0.0.1:1\"\n[destination.d]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"d\"]\n\
        [table.ports]\nkind = \"csv\"\nkey = \"id\"\ntext = \"id,port\\n1,Lowmere\\n\"\n[table.other]\nkind = \"csv\"\nkey = \"id\"\ntext = \"id,x\\n1,2\\n\"\n\
        [recipe.masked]\nsteps = ['use inner']\n[recipe.inner]\nsteps = ['look up id in ports']\n[recipe.unused]\nsteps = ['remove a']\n\
        # What gates write.\n[collect.log]\nkind = \"file\"\npaths = [\"/var/log/a.log\"]\non_arrival = ['use masked'] # on the host\n\
        [collect.more]\nkind = \"file\"\npaths = [\"/var/log/b.log\"]\n\
        [assignment.gates]\nwhen = 'group = \"gates\"'\ncollect = [\"log\"]\n[assignment.kiosks]\ncollect = [\"more\"]\n";
    let checked = crate::CheckedPlan::read(plan).unwrap();
    let gates = checked.assignments_apart(&["gates".to_owned()]).unwrap();
    for there in ["[table.ports]", "[recipe.masked]", "[recipe.inner]", "# What gates write.\n[collect.log]", "# on the host", "[assignment.gates]"] {
        assert!(gates.contains(there), "{there}: {gates}");
    }
    for not in ["source", "destination", "route", "table.other", "unused", "more", "kiosks"] {
        assert!(!gates.contains(not), "{not}: {gates}");
    }
    assert_eq!(checked.assignments_apart(&["none".to_owned()]).unwrap_err().to_string(), "the plan has no assignment `none`");
    assert!(checked.assignments_apart(&[]).unwrap().contains("[assignment.kiosks]"));

    let bare = "[source.hosts]\nkind = \"agents\"\nlisten = \"127.0.0.1:1\"\n[destination.d]\nkind = \"discard\"\n[[route]]\nname = \"all\"\nto = [\"d\"]\n";
    let with = joined(bare, &gates).unwrap();
    let taken = crate::CheckedPlan::read(&with).unwrap();
    assert_eq!((taken.assignments.len(), taken.collects.len()), (1, 1));
    assert_eq!(joined(&with, &gates).unwrap(), with, "it is there already");
    // What it shares with the plan is not added again; what is another under the same name is said.
    let shared = joined(&format!("{bare}[recipe.inner]\nsteps = [\n  'look up id in ports', # as there\n]\n"), &gates).unwrap();
    assert_eq!(shared.matches("[recipe.inner]").count(), 1, "{shared}");
    // A route is added as well, though something else is there already.
    let routed = joined(&with, &format!("{gates}\n[[route]]\nname = \"more\"\nto = [\"d\"]\n")).unwrap();
    assert_eq!((routed.matches("[[route]]").count(), routed.matches("[collect.log]").count()), (2, 1), "{routed}");
    let other = joined(&format!("{bare}[recipe.inner]\nsteps = ['remove b']\n"), &gates);
    assert_eq!(other.unwrap_err().to_string(), "the plan has a recipe `inner` already");
    assert!(joined(bare, "[collect").is_err());
}
