//! Says in plain words what a sentence does, and to which fields.

use std::fmt::Write;

use rockrose_event::field::Path;
use rockrose_event::time::TimeForm;

use super::ast::{Condition, Conversion, Detector, Format, Joining, Mask, Operation, Ordering, Rate, Renaming, Selector, Step, Test, Value, What};
use super::{Mistake, parse_condition, parse_step};

/// Explains a step or a condition. Fails with the step's mistakes if the text begins as a step does, else with the condition's.
pub fn explain(text: &str) -> Result<String, Mistake> {
    let verb = text.trim_start().split(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default();
    match (parse_step(text), parse_condition(text)) {
        (Ok(step), _) => Ok(of_step(&step)),
        (Err(_), Ok(condition)) => Ok(of_condition(&condition)),
        (Err(step), Err(condition)) => {
            Err(if super::STEP_VERBS.contains(&verb) || super::nearest(verb, super::STEP_VERBS.iter().copied()).is_some() { step } else { condition })
        }
    }
}

fn of_step(step: &Step) -> String {
    let mut out = operation(&step.operation);
    if let Some(when) = &step.when {
        let _ = write!(out, "\nOnly for events of which this holds: {}.", words(when));
    }
    let mut fields = Vec::new();
    reads(&step.operation, &mut fields);
    step.when.iter().for_each(|c| fields_of(c, &mut fields));
    fields.sort();
    fields.dedup();
    if !fields.is_empty() {
        let _ = write!(out, "\nIt looks at: {}.", fields.join(", "));
    }
    out
}

fn of_condition(condition: &Condition) -> String {
    let mut fields = Vec::new();
    fields_of(condition, &mut fields);
    fields.sort();
    fields.dedup();
    let looks = if fields.is_empty() { String::new() } else { format!("\nIt looks at: {}. Where a field is missing, its test is false.", fields.join(", ")) };
    format!("True of an event if {}.{looks}", words(condition))
}

fn list<T: ToString>(items: &[T]) -> String {
    items.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

fn by(fields: &[Path], alone: &str, each: &str) -> String {
    if fields.is_empty() { alone.to_owned() } else { format!("{each} {}", list(fields)) }
}

fn operation(operation: &Operation) -> String {
    let unless = |c: &Option<Condition>, then: &str| c.as_ref().map_or_else(String::new, |c| format!(" {then} if {}.", words(c)));
    match operation {
        Operation::Keep(c) => format!("Removes every event but those of which this holds: {}.", words(c)),
        Operation::Drop(c) => format!("Removes every event of which this holds: {}.", words(c)),
        Operation::Sample { rate, by: key, unless: always } => {
            let share = match rate {
                Rate::OneIn(n) => format!("Keeps one event in {n}"),
                Rate::Percent(p) => format!("Keeps {p} % of the events"),
                Rate::Target(pace) => format!("Keeps about {} events per {}, by whatever share comes to that", pace.count, pace.per.word()),
            };
            let key = match rate {
                Rate::Target(_) => by(key, ", all together", ", for each value of"),
                _ => by(key, ", chosen by what the event holds", "; events that agree in these are kept or removed together:"),
            };
            format!("{share}{key}. What is kept says in sampled.weight how many events it stands for.{}", unless(always, "An event is always kept, unmarked,"))
        }
        Operation::Limit { pace, by: key, unless: always } => {
            format!(
                "Lets {} events pass per {}{}, and removes what comes faster.{}",
                pace.count,
                pace.per.word(),
                by(key, ", all together", ", for each value of"),
                unless(always, "An event always passes, uncounted,")
            )
        }
        Operation::Redact { what, fields } => {
            let parts = what.iter().map(|r| {
                let what = match &r.what {
                    What::Detector(d) => detector(*d).to_owned(),
                    What::Pattern(p) => format!("what {p} finds (its groups, if it has any)"),
                    What::Field(path) => format!("the whole value of {path}"),
                };
                format!("{what} {}", mask(&r.mask))
            });
            let parts: Vec<_> = parts.collect();
            let place = if fields.is_empty() { "anywhere in the event, names and numbers included".to_owned() } else { format!("in {}", list(fields)) };
            let whole = what.iter().all(|r| matches!(r.what, What::Field(_)));
            if whole { format!("Masks {}.", parts.join("; ")) } else { format!("Masks, {place}: {}.", parts.join("; ")) }
        }
        Operation::Tag(pairs) => format!("Tags the event, for the account by tag: {}.", values(pairs)),
        Operation::Set(pairs) => format!("Writes fields: {}. Where something that is needed is missing, that field stays as it is.", values(pairs)),
        Operation::Convert(pairs) => {
            let one = |(path, to): &(Path, Conversion)| {
                let kind = match to {
                    Conversion::Integer => "a whole number".to_owned(),
                    Conversion::Number => "a number".to_owned(),
                    Conversion::Boolean => "true or false".to_owned(),
                    Conversion::Text => "a text".to_owned(),
                    Conversion::Time(form) => format!("a time in UTC{}", time_form(form)),
                };
                format!("{path} becomes {kind}")
            };
            format!("Changes types: {}. A value that cannot be that stays as it is and is counted.", pairs.iter().map(one).collect::<Vec<_>>().join("; "))
        }
        Operation::Remove(chosen) => format!("Removes the fields {}.", selectors(chosen)),
        Operation::Retain(chosen) => format!("Removes every field but {} (and sampled.weight).", selectors(chosen)),
        Operation::Rename(pairs) => {
            let one = |r: &Renaming| match r {
                Renaming::Field(from, to) => format!("{from} is called {to}"),
                Renaming::Like(from, to) => format!("names like {from} become {to}"),
            };
            format!("Renames: {}.", pairs.iter().map(one).collect::<Vec<_>>().join("; "))
        }
        Operation::Parse { field, formats } => {
            let ways: Vec<_> = formats.iter().map(format).collect();
            format!(
                "Reads {field} as {} and adds what it finds as fields. If it is none of that, the event stays as it was, parse.failed says so, and it is counted.",
                ways.join(", else as ")
            )
        }
        Operation::LookUp { field, table, outputs } => {
            let what = if outputs.is_empty() {
                "every other column, by its name".to_owned()
            } else {
                let one =
                    |(path, column): &(Path, Option<String>)| column.as_ref().map_or_else(|| path.to_string(), |c| format!("{path} (from the column {c})"));
                outputs.iter().map(one).collect::<Vec<_>>().join(", ")
            };
            format!("Looks the value of {field} up in the table {table} and adds {what}. A value that the table does not have changes nothing.")
        }
        Operation::Locate { field, table, into } => {
            format!(
                "Looks the address in {field} up in the places of {table} and adds, as far as they are known, {into}.country, .region, .city, .latitude, .longitude, .network and .network_name."
            )
        }
        Operation::Resolve { field, into } => {
            format!("Writes the name of the address in {field} to {into}, if it is known by then; the batch does not wait for it.")
        }
        Operation::Dedupe { by: key, within, prefer } => {
            let agree = if key.is_empty() { "in everything".to_owned() } else { format!("in {}", list(key)) };
            match prefer {
                None => format!("Lets the first of those that agree {agree} within {within} through, and removes the others."),
                Some(source) => format!(
                    "Of those that agree {agree} within {within}, lets the one from {source} through and removes the others; one from elsewhere waits so long for it, and goes on if it does not come."
                ),
            }
        }
        Operation::Merge { within, by: key } => {
            format!(
                "Holds an event back for {within} and lets those that agree with it in {} go into it; then it goes on, with merged.count, merged.first and merged.last.",
                list(key)
            )
        }
        Operation::Join { how, by: key, within } => {
            let lines = match how {
                Joining::Starting(p) => format!("a line that matches {p} begins an event, and the others belong to the one before"),
                Joining::Continued(p) => format!("a line that matches {p} is continued by the next"),
                Joining::Going(p) => format!("a line that matches {p} belongs to the one before"),
                Joining::Indented => "a line that begins with white space belongs to the one before".to_owned(),
                Joining::Timeless => "a line that does not begin with a time belongs to the one before".to_owned(),
            };
            format!("Makes one event of several lines of message: {lines}{}. It waits {within} for the next line.", by(key, "", "; a stream for each value of"))
        }
        Operation::Trim { field, size } => format!("Cuts {field} to {size}, between characters; what was cut ends in `…`."),
        Operation::Count { name, by: labels } => format!(
            "Counts events in the metric {name}{}, weights of samples included. The event goes on unchanged.",
            by(labels, "", ", apart for each value of")
        ),
        Operation::Measure { field, name, by: labels } => {
            format!(
                "Adds the number in {field} to the histogram {name}{}, weights of samples included. The event goes on unchanged.",
                by(labels, "", ", apart for each value of")
            )
        }
        Operation::Use { recipe, arguments } => {
            let given: Vec<_> = arguments.iter().map(|(name, given)| format!("{name} as {given}")).collect();
            format!("Does all the steps of the recipe {recipe}{}.", if given.is_empty() { String::new() } else { format!(", with {}", given.join(", ")) })
        }
    }
}

fn detector(detector: Detector) -> &'static str {
    match detector {
        Detector::Email => "e-mail addresses",
        Detector::Card => "payment card numbers",
        Detector::Iban => "bank account numbers (IBAN)",
        Detector::Phone => "telephone numbers",
        Detector::NationalId => "national identity numbers",
        Detector::Ipv4 => "IPv4 addresses",
        Detector::Ipv6 => "IPv6 addresses",
        Detector::Mac => "hardware addresses",
        Detector::Secret => "tokens, API keys and passwords",
        Detector::UrlPassword => "passwords in URLs",
        Detector::PrivateKey => "private keys",
    }
}

fn mask(mask: &Mask) -> String {
    match mask {
        Mask::Stars => "by ***".to_owned(),
        Mask::KeepLast(n) => format!("but for the last {n} characters"),
        Mask::KeepFirst(n) => format!("but for the first {n} characters"),
        Mask::With(text) => format!("by `{text}`"),
        Mask::Hash => "by a keyed hash, the same for the same value".to_owned(),
    }
}

fn time_form(form: &TimeForm) -> String {
    let format = form.format.as_ref().map_or_else(String::new, |f| format!(", read as `{f}`"));
    let zone = form.zone.as_ref().map_or_else(String::new, |z| format!(", in the zone {z} where none is named"));
    format + &zone
}

fn values(pairs: &[(Path, Value)]) -> String {
    pairs.iter().map(|(path, value)| format!("{path} is {value}")).collect::<Vec<_>>().join("; ")
}

fn selectors(chosen: &[Selector]) -> String {
    let one = |s: &Selector| match s {
        Selector::Field(path) => path.to_string(),
        Selector::Like(like) => format!("whose name is like {like}"),
    };
    chosen.iter().map(one).collect::<Vec<_>>().join(", ")
}

fn format(format: &Format) -> String {
    match format {
        Format::Json => "a JSON object".to_owned(),
        Format::KeyValue => "key=value pairs".to_owned(),
        Format::Csv(names) => format!("values separated by commas ({})", list(names)),
        Format::AccessLog => "a line of a web server's access log".to_owned(),
        Format::Syslog => "a syslog message".to_owned(),
        Format::W3cLog(names) => format!("a line of a W3C extended log ({})", list(names)),
        Format::ContainerLog => "a container runtime's line".to_owned(),
        Format::TimedLine => "a line that tells its time and level".to_owned(),
        Format::Xml => "an XML element".to_owned(),
        Format::Template(template) => format!("`{template}`"),
        Format::Pattern(pattern) => format!("{pattern}"),
    }
}

fn words(condition: &Condition) -> String {
    match condition {
        Condition::Constant(true) => "anything".to_owned(),
        Condition::Constant(false) => "nothing".to_owned(),
        Condition::Or(any) => any.iter().map(inner).collect::<Vec<_>>().join(", or "),
        Condition::And(all) => all.iter().map(inner).collect::<Vec<_>>().join(", and "),
        Condition::Not(negated) => format!("it is not so that {}", inner(negated)),
        Condition::Field(path, test) => format!("{path} {}", test_words(test)),
    }
}

fn inner(condition: &Condition) -> String {
    match condition {
        Condition::Or(_) | Condition::And(_) => format!("({})", words(condition)),
        _ => words(condition),
    }
}

fn test_words(test: &Test) -> String {
    match test {
        Test::Exists => "is there".to_owned(),
        Test::Equals(v) => format!("is {v}"),
        Test::Differs(v) => format!("is there and is not {v}"),
        Test::Alike(text) => format!("is `{text}`, case ignored"),
        Test::Order(order, v) => {
            let word = match order {
                Ordering::Less => "is below",
                Ordering::AtMost => "is at most",
                Ordering::Greater => "is above",
                Ordering::AtLeast => "is at least",
            };
            format!("{word} {v}")
        }
        Test::Range(a, b) => format!("lies from {a} to {b}"),
        Test::OneOf(any) => format!("is one of {}", list(any)),
        Test::Network(network) => format!("is an address in {network}"),
        Test::Contains(text) => format!("contains `{text}`"),
        Test::StartsWith(text) => format!("starts with `{text}`"),
        Test::EndsWith(text) => format!("ends with `{text}`"),
        Test::Matches(pattern) => format!("matches {pattern}"),
    }
}

fn fields_of(condition: &Condition, out: &mut Vec<String>) {
    match condition {
        Condition::Or(parts) | Condition::And(parts) => parts.iter().for_each(|p| fields_of(p, out)),
        Condition::Not(inner) => fields_of(inner, out),
        Condition::Field(path, _) => out.push(path.to_string()),
        Condition::Constant(_) => {}
    }
}

fn value_fields(value: &Value, out: &mut Vec<String>) {
    match value {
        Value::Literal(_) => {}
        Value::Field(path) => out.push(path.to_string()),
        Value::Computed(a, _, b) => [a, b].into_iter().for_each(|v| value_fields(v, out)),
        Value::Call(_, values) => values.iter().for_each(|v| value_fields(v, out)),
    }
}

/// The fields that an operation reads.
fn reads(operation: &Operation, out: &mut Vec<String>) {
    let mut paths = |paths: &[Path]| out.extend(paths.iter().map(ToString::to_string));
    match operation {
        Operation::Keep(c) | Operation::Drop(c) => fields_of(c, out),
        Operation::Sample { by, unless, .. } | Operation::Limit { by, unless, .. } => {
            paths(by);
            unless.iter().for_each(|c| fields_of(c, out));
        }
        Operation::Redact { fields, what } => {
            paths(fields);
            out.extend(what.iter().filter_map(|r| if let What::Field(path) = &r.what { Some(path.to_string()) } else { None }));
        }
        Operation::Tag(pairs) | Operation::Set(pairs) => pairs.iter().for_each(|(_, v)| value_fields(v, out)),
        Operation::Convert(pairs) => out.extend(pairs.iter().map(|(p, _)| p.to_string())),
        Operation::Parse { field, .. }
        | Operation::LookUp { field, .. }
        | Operation::Locate { field, .. }
        | Operation::Resolve { field, .. }
        | Operation::Trim { field, .. } => {
            paths(std::slice::from_ref(field));
        }
        Operation::Dedupe { by, .. } | Operation::Merge { by, .. } | Operation::Count { by, .. } => paths(by),
        Operation::Join { by, .. } => {
            paths(by);
            out.push("message".to_owned());
        }
        Operation::Measure { field, by, .. } => {
            paths(std::slice::from_ref(field));
            out.extend(by.iter().map(ToString::to_string));
        }
        Operation::Rename(_) | Operation::Remove(_) | Operation::Retain(_) | Operation::Use { .. } => {}
    }
}
