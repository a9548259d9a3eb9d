//! The engine's passes: split, validate, pull, route, edit, write.

use std::cell::RefCell;
use std::hint::black_box;

use rockrose_core::engine::{CompiledPlan, Scratch};
use rockrose_core::plan::CheckedPlan;
use rockrose_core::read::{Says, split};
use rockrose_core::redact::HashKey;

/// A plan that the corpus is run through, and the ratios that are its goals.
pub(crate) struct Pass {
    pub(crate) what: &'static str,
    pub(crate) over_tape: Option<f64>,
    pub(crate) over_tree: Option<f64>,
    plan: CompiledPlan,
    scratch: RefCell<Scratch>,
}

impl Pass {
    fn new(what: &'static str, over_tape: Option<f64>, over_tree: Option<f64>, routes: &str) -> Pass {
        let text = format!("[source.in]\nkind = \"http\"\nlisten = \"127.0.0.1:1\"\n[destination.out]\nkind = \"discard\"\n{routes}");
        let plan = match CheckedPlan::read(&text) {
            Ok(plan) => CompiledPlan::new(&plan, HashKey::new([0; 32])),
            Err(reports) => panic!("{}", reports.iter().map(|r| r.render(what)).collect::<String>()),
        };
        Pass { what, over_tape, over_tree, plan, scratch: RefCell::default() }
    }

    /// The whole corpus, in bodies of about 1 MiB.
    pub(crate) fn run(&self, corpus: &[u8]) {
        let mut scratch = self.scratch.borrow_mut();
        let mut start = 0;
        while start < corpus.len() {
            let reach = (start + (1 << 20)).min(corpus.len());
            let end = corpus[..reach].iter().rposition(|b| *b == b'\n').map_or(reach, |n| n + 1);
            let body = &corpus[start..end];
            if let Ok(records) = split(body, Says::Lines, 1 << 20) {
                black_box(self.plan.process(0, body, &records, None, &mut scratch).lines.len());
            }
            start = end;
        }
    }
}

/// Ten routes over five fields.
const CONDITIONS: [&str; 10] = [
    "service = \"boarding\"",
    "service = \"payments\" and severity >= error",
    "http.status in 500..599",
    "duration_ms > 1900",
    "port = \"Lowmere\" and severity >= warn",
    "service in (\"crew\", \"vessel\") and http.status = 404",
    "http.status = 404 and duration_ms < 100",
    "port = \"Skerry Point\" and duration_ms in 500..600",
    "severity >= error",
    "service = \"kiosk\" and not (severity >= warn)",
];

fn route(name: &str, when: &str, steps: &str) -> String {
    format!("[[route]]\nname = \"{name}\"\nwhen = '''{when}'''\ndo = [{steps}]\nto = [\"out\"]\n")
}

/// All passes.
pub(crate) fn all() -> Vec<Pass> {
    // Nine routes are decided for every event and take none; the tenth takes all and does the work.
    let decided: String = CONDITIONS[1..].iter().enumerate().map(|(i, c)| route(&format!("r{i}"), &format!("({c}) and sequence < 0"), "")).collect();
    let core = format!("{decided}{}", route("all", "message exists", "'redact email in message', 'tag team = \"quays\"'"));
    let plain = format!("{decided}{}", route("all", "message exists", ""));
    let few = route("few", "duration_ms < 20", "");
    vec![
        Pass::new("core pass: 10 routes, redact e-mail, tag", Some(1.2), Some(6.0), &core),
        Pass::new("10 routes, nothing changed", Some(1.5), None, &plain),
        Pass::new("a route that takes 1 %", Some(2.0), None, &few),
    ]
}
