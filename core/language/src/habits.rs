//! Sentences as people write them who know other languages. Where such a form is clear it is read as it is (by the parser itself); all others are answered with the sentence to write,
//! which is found here: the text is rewritten piece by piece, and shown only if what comes out is a sentence.

use std::ops::Range;

use crate::condition::Test;
use crate::mistake::Mistake;

/// What a piece of a sentence is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Word,
    Quoted,
    Pattern,
    Sign,
}

#[derive(Clone, Debug)]
struct Token<'a> {
    text: &'a str,
    at: Range<usize>,
    kind: Kind,
}

/// A piece that is to be written otherwise.
struct Edit {
    at: Range<usize>,
    with: String,
    says: &'static str,
}

/// Words that other languages have in place of one of ours: what is written, what stands for it, and what is said.
const WORDS: &[(&[&str], &str, &str)] = &[
    (&["AND"], "and", "`and` is written in small letters"),
    (&["OR"], "or", "`or` is written in small letters"),
    (&["NOT"], "not", "`not` is written in small letters"),
    (&["IN"], "in", "`in` is written in small letters"),
    (&["WHEN"], "when", "`when` is written in small letters"),
    (&["EXISTS"], "exists", "`exists` is written in small letters"),
    (&["CONTAINS", "has", "includes", "containing"], "contains", "that a text stands in another is asked by `contains`"),
    (&["MATCHES", "regex", "regexp", "rlike"], "matches", "a regular expression is asked by `matches`"),
    (&["startswith", "starts_with", "startsWith", "begins"], "starts with", "how a text begins is asked by `starts with`"),
    (&["endswith", "ends_with", "endsWith"], "ends with", "how a text ends is asked by `ends with`"),
];

/// Words that a condition behind a step may begin with elsewhere.
const CONDITIONED: &[&str] = &["if", "where", "IF", "WHERE"];

/// Steps as others call them, and ours, best first.
const VERBS: &[(&[&str], &[&str])] = &[
    (&["mask", "hide", "anonymize", "anonymise", "scrub", "sanitize", "obfuscate"], &["redact"]),
    (&["delete", "del", "unset"], &["remove", "drop"]),
    (&["discard", "exclude", "ignore", "reject", "skip"], &["drop", "remove"]),
    (&["filter", "include", "select", "only", "accept"], &["keep", "retain"]),
    (&["truncate", "shorten", "cut", "substr"], &["trim"]),
    (&["extract", "decode"], &["parse"]),
    (&["add", "assign", "let", "insert"], &["set", "tag"]),
    (&["throttle", "ratelimit", "rate_limit"], &["limit"]),
    (&["dedup", "deduplicate", "unique"], &["dedupe"]),
    (&["cast", "coerce"], &["convert"]),
    (&["mv", "move"], &["rename"]),
    (&["lookup", "enrich"], &["look up"]),
];

/// Types as others call them, and ours.
const TYPES: &[(&[&str], &str)] = &[
    (&["int", "int64", "long"], "integer"),
    (&["float", "double", "decimal", "numeric"], "number"),
    (&["bool"], "boolean"),
    (&["str", "string", "varchar"], "text"),
    (&["date", "datetime", "timestamp"], "time"),
];

/// Units of time as others write them, and ours.
const UNITS: &[(&[&str], &str)] = &[(&["s", "sec", "secs"], "seconds"), (&["m", "min", "mins"], "minutes"), (&["h", "hr", "hrs"], "hours")];

fn in_place<T: Copy>(word: &str, table: &[(&[&str], T)]) -> Option<T> {
    table.iter().find(|(written, _)| written.contains(&word)).map(|(_, ours)| *ours)
}

/// Whether a word begins a test in another language.
pub(crate) fn is_test(word: &str) -> bool {
    matches!(word, "is" | "IS" | "not" | "like" | "LIKE" | "ilike" | "between" | "BETWEEN") || WORDS.iter().any(|(written, ..)| written.contains(&word))
}

/// Whether a word is a step in another language.
pub(crate) fn is_step(word: &str) -> bool {
    in_place(word, VERBS).is_some()
}

/// Cuts a sentence into pieces, of whatever language it may be.
fn tokens(text: &str) -> Vec<Token<'_>> {
    const SIGNS: &[&str] = &["||", "&&", "==", "!=", "=~", "!~", "~=", "<=", ">=", "<>"];
    let mut tokens = Vec::new();
    let mut at = 0;
    while let Some(first) = text[at..].chars().next() {
        let rest = &text[at..];
        let ends = |from: usize, end: char| {
            let mut escaped = false;
            rest.char_indices().skip_while(|(i, _)| *i < from).find(|(_, c)| {
                let found = *c == end && !escaped;
                escaped = *c == '\\' && !escaped;
                found
            })
        };
        let apart = text[..at].chars().next_back().is_none_or(|c| c.is_whitespace() || c == '(');
        let (kind, len) = if first.is_whitespace() {
            at += first.len_utf8();
            continue;
        } else if matches!(first, '"' | '\'') {
            (Kind::Quoted, ends(1, first).map_or(rest.len(), |(i, _)| i + 1))
        } else if first == '/' && apart && ends(1, '/').is_some() {
            let end = ends(1, '/').map_or(rest.len(), |(i, _)| i + 1);
            (Kind::Pattern, end + rest[end..].find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(rest.len() - end))
        } else if let Some(sign) = SIGNS.iter().find(|s| rest.starts_with(**s)) {
            (Kind::Sign, sign.len())
        } else {
            let inner = |c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '-' | '$' | '*' | '@' | ':' | '/' | '%');
            match rest.find(|c: char| !inner(c)).unwrap_or(rest.len()) {
                0 => (Kind::Sign, first.len_utf8()),
                len => (Kind::Word, len),
            }
        };
        tokens.push(Token { text: &rest[..len], at: at..at + len, kind });
        at += len;
    }
    tokens
}

/// The text between quotes, as it is written in ours.
fn quoted(token: &Token<'_>) -> String {
    let inner = &token.text[1..];
    let inner = inner.strip_suffix(['"', '\'']).unwrap_or(inner);
    format!("\"{}\"", if token.text.starts_with('\'') { inner.replace('"', "\\\"") } else { inner.to_owned() })
}

/// A text of another language's `like`, as a test of ours.
fn like(token: &Token<'_>) -> String {
    let text = quoted(token);
    let inner = &text[1..text.len() - 1];
    let bare = inner.trim_matches(['%', '*']);
    let text = bare.to_owned();
    let test = match (inner.starts_with(['%', '*']), inner.ends_with(['%', '*'])) {
        (true, true) => Test::Contains(text),
        (false, true) => Test::StartsWith(text),
        (true, false) => Test::EndsWith(text),
        (false, false) => Test::Alike(text),
    };
    test.to_string()
}

/// `1m`, `30sec`: a number and a unit that are written together.
fn short_time(word: &str) -> Option<String> {
    let digits = word.find(|c: char| !c.is_ascii_digit()).filter(|n| *n > 0)?;
    in_place(&word[digits..], UNITS).map(|unit| format!("{} {unit}", &word[..digits]))
}

/// What may be written otherwise in a text. `Err`: nothing can.
fn edits(text: &str, tokens: &[Token<'_>], verb: Option<&str>) -> Vec<Edit> {
    let mut edits: Vec<Edit> = Vec::new();
    let mut at = 0;
    if let (Some(verb), Some(first)) = (verb, tokens.first()) {
        edits.push(Edit { at: first.at.clone(), with: verb.to_owned(), says: "there is no such step" });
        at = 1;
    }
    while at < tokens.len() {
        let token = &tokens[at];
        let behind = |n: usize| tokens.get(at + n);
        let word = |n: usize| behind(n).filter(|t| t.kind == Kind::Word).map_or("", |t| t.text);
        let edit = |with: String, says| Edit { at: token.at.clone(), with, says };
        let mut used = 1;
        match (token.kind, token.text) {
            (Kind::Sign, "||") => edits.push(edit(" or ".into(), "`||` is written `or`")),
            (Kind::Sign, "&&") => edits.push(edit(" and ".into(), "`&&` is written `and`")),
            (Kind::Sign, "!") => edits.push(edit("not ".into(), "`!` is written `not`")),
            (Kind::Sign, "<>") => edits.push(edit("!=".into(), "`<>` is written `!=`")),
            (Kind::Sign, sign @ ("=~" | "!~" | "~")) => {
                let with = if sign == "!~" { " not matches " } else { " matches " };
                edits.push(edit(with.into(), "a regular expression is asked by `matches /…/`"));
                edits.extend(behind(1).filter(|t| t.kind == Kind::Quoted).map(|t| pattern(t)));
                used = 2;
            }
            (Kind::Quoted, text) if text.starts_with('\'') => edits.push(edit(quoted(token), "a text stands in double quotes")),
            (Kind::Word, "like" | "LIKE" | "ilike") if behind(1).is_some_and(|t| t.kind == Kind::Quoted) => {
                let end = tokens[at + 1].at.end;
                edits.push(Edit { at: token.at.start..end, with: like(&tokens[at + 1]), says: "there is no `like`" });
                used = 2;
            }
            (Kind::Word, "between" | "BETWEEN") if matches!(word(2), "and" | "AND") && behind(3).is_some() => {
                let (from, to) = (&tokens[at + 1], &tokens[at + 3]);
                edits.push(Edit { at: token.at.start..to.at.end, with: format!("in {}..{}", from.text, to.text), says: "a range is asked by `in FROM..TO`" });
                used = 4;
            }
            (Kind::Word, "is" | "IS") | (Kind::Sign, "=" | "==" | "!=") if at > 0 => {
                let not = usize::from(matches!(word(1), "not" | "NOT"));
                if matches!(word(1 + not), "null" | "NULL" | "nil" | "none" | "None" | "missing" | "empty" | "undefined") {
                    let field = &tokens[at - 1];
                    let there = (not == 1) != (token.text == "!=");
                    let with = if there { format!("{} exists", field.text) } else { format!("not ({} exists)", field.text) };
                    edits.push(Edit { at: field.at.start..tokens[at + 1 + not].at.end, with, says: "whether a field is there is asked by `exists`" });
                    used = 2 + not;
                } else if token.kind == Kind::Word {
                    edits.push(edit(if not == 1 { "!=" } else { "=" }.into(), "that a field has a value is asked by `=`"));
                    edits.extend((not == 1).then(|| Edit { at: tokens[at + 1].at.clone(), with: String::new(), says: "" }));
                    used = 1 + not;
                }
            }
            (Kind::Word, word) if CONDITIONED.contains(&word) => {
                edits.push(edit(if at == 0 { String::new() } else { "when".into() }, "under which condition is said by `when`"));
            }
            (Kind::Word, word) => {
                let before = at.checked_sub(1).map_or("", |before| tokens[before].text);
                if let Some((_, ours, says)) = WORDS.iter().find(|(written, ..)| written.contains(&word)) {
                    edits.push(edit((*ours).to_owned(), says));
                } else if let Some(ours) = in_place(word, TYPES).filter(|_| before == "to") {
                    edits.push(edit(ours.to_owned(), "there is no such type"));
                } else if let Some(time) = short_time(word) {
                    edits.push(edit(time, "a length of time is written with its unit as a word"));
                } else if let Some(unit) = in_place(word, UNITS).filter(|_| before.bytes().all(|b| b.is_ascii_digit()) && !before.is_empty()) {
                    edits.push(edit(unit.to_owned(), "a length of time is written with its unit as a word"));
                }
            }
            _ => {}
        }
        at += used;
    }
    edits.extend(mask_behind_its_place(text, tokens));
    edits
}

/// A text in quotes, as a regular expression.
fn pattern(token: &Token<'_>) -> Edit {
    let text = quoted(token);
    Edit { at: token.at.clone(), with: format!("/{}/", text[1..text.len() - 1].replace('/', "\\/")), says: "a regular expression stands between slashes" }
}

/// `redact card in message keep last 4`: the mask belongs before the place.
fn mask_behind_its_place(text: &str, tokens: &[Token<'_>]) -> Option<Edit> {
    let place = |word: &[&str], from: usize| tokens.iter().skip(from).position(|t| t.kind == Kind::Word && word.contains(&t.text)).map(|at| at + from);
    if !tokens.first().is_some_and(|t| t.text == "redact" || in_place(t.text, VERBS).is_some()) {
        return None;
    }
    let from = place(&["in"], 1)?;
    let mask = place(&["keep", "with", "as"], from)?;
    let end = place(&["when"], mask).map_or(text.len(), |when| tokens[when].at.start);
    let (place, mask) = (&text[tokens[from].at.start..tokens[mask].at.start], &text[tokens[mask].at.start..end]);
    let at = tokens[from].at.start..end;
    Some(Edit { at, with: format!("{} {} ", mask.trim(), place.trim()), says: "how something is masked is said before where" })
}

fn edited(text: &str, edits: &[Edit]) -> Option<String> {
    let (mut out, mut at) = (String::new(), 0);
    for edit in edits {
        out.push_str(text.get(at..edit.at.start)?);
        out.push_str(&edit.with);
        at = edit.at.end;
    }
    out.push_str(&text[at..]);
    Some(out)
}

/// The mistake that says which sentence to write for `text`, where that is known; else `mistake`. `read` reads a text and prints what it read.
pub(crate) fn told(text: &str, mistake: Mistake, verbs: &[&str], read: impl Fn(&str) -> Option<String>) -> Mistake {
    let tokens = tokens(text);
    let first = tokens.first().map_or("", |t| t.text);
    let ours: Vec<Option<&str>> = match in_place(first, VERBS) {
        Some(ours) if !verbs.is_empty() => ours.iter().copied().map(Some).collect(),
        _ => vec![None],
    };
    for verb in &ours {
        let mut edits = edits(text, &tokens, *verb);
        edits.sort_by_key(|edit| edit.at.start);
        let Some(edit) = edits.first() else { continue };
        if let Some(sentence) = edited(text, &edits).and_then(|text| read(&text)) {
            let says = if verb.is_some() { format!("there is no step `{first}`") } else { edit.says.to_owned() };
            return Mistake { at: edit.at.clone(), message: says, expected: None, nearest: Some(sentence) };
        }
    }
    // At least the word that begins it.
    if let (Some(verb), Some(token)) = (ours[0], tokens.first())
        && mistake.nearest.is_none()
        && mistake.at.start == token.at.start
    {
        return Mistake { nearest: Some(verb.to_owned()), ..mistake };
    }
    mistake
}

#[cfg(test)]
mod tests {
    use crate::{parse_condition, parse_step};

    /// What is written, and the sentence that it is read as.
    const TAKEN: &[(&str, &str)] = &[
        ("status == 500", "status = 500"),
        ("port not in (80, 443)", "not (port in (80, 443))"),
        ("message not contains \"gangway\"", "not (message contains \"gangway\")"),
        ("gate not exists and a not starts with \"x\"", "not (gate exists) and not (a starts with \"x\")"),
        ("message contains any (\"a\", \"b\") and x = 1", "(message contains \"a\" or message contains \"b\") and x = 1"),
        ("message not contains any (\"a\", \"b\")", "not (message contains \"a\" or message contains \"b\")"),
        ("ip in \"192.0.2.0/24\"", "ip in 192.0.2.0/24"),
        ("ip in (192.0.2.0/24, \"2001:db8::/32\")", "ip in 192.0.2.0/24 or ip in 2001:db8::/32"),
        ("severity >= WARNING and severity != crit", "severity >= warn and severity != fatal"),
        ("severity in Notice..ERR", "severity in info..error"),
        ("length(message) > 2 KB", "length(message) > 2000"),
        ("lower(a) not in (\"x\")", "not (lower(a) in (\"x\"))"),
        ("a > field b and c = lower(field \"odd d\")", "a > field b and c = lower(field \"odd d\")"),
        ("a * (b + 1) >= length(c) - 2", "a * (b + 1) >= length(c) - 2"),
        ("time older than 300 seconds", "time older than 300 seconds"),
        ("sample to 10 per s", "sample to 10 per second"),
        ("limit 10/min by gate", "limit 10 per minute by gate"),
    ];

    /// What is written, and the sentence that is answered.
    const TOLD: &[(&str, &str)] = &[
        ("a = 1 || b = 2", "a = 1 or b = 2"),
        ("a = 1 && !(b = 2)", "a = 1 and not (b = 2)"),
        ("a = 1 AND b = 2 OR NOT c = 3", "a = 1 and b = 2 or not (c = 3)"),
        ("message =~ \"time.*out\"", "message matches /time.*out/"),
        ("path !~ \"^/health\"", "not (path matches /^\\/health/)"),
        ("message like \"%gangway%\"", "message contains \"gangway\""),
        ("message LIKE 'gate%'", "message starts with \"gate\""),
        ("status between 500 and 599", "status in 500..599"),
        ("user is null", "not (user exists)"),
        ("user is not null and x = 1", "user exists and x = 1"),
        ("user = null", "not (user exists)"),
        ("user != null", "user exists"),
        ("service is \"boarding\"", "service = \"boarding\""),
        ("message startswith 'x'", "message starts with \"x\""),
        ("where status = 500", "status = 500"),
        ("level >= WARN", "severity >= warn"),
        ("lvl = error", "severity = error"),
        ("severity_text > \"INFO\"", "severity > info"),
        ("mask email", "redact email"),
        ("mask card in message keep last 4", "redact card keep last 4 in message"),
        ("redact card in message keep last 2", "redact card keep last 2 in message"),
        ("delete debug.*", "remove debug.*"),
        ("delete severity = debug", "drop severity = debug"),
        ("truncate message to 2 KB", "trim message to 2 KB"),
        ("filter severity >= warn", "keep severity >= warn"),
        ("drop path = \"/health\" if status = 200", "drop path = \"/health\" when status = 200"),
        ("drop true where service == \"kiosk\"", "drop true when service = \"kiosk\""),
        ("convert status to int", "convert status to integer"),
        ("merge repeats within 1m by message", "merge repeats within 1 minute by message"),
        ("merge repeats within 30 sec by message", "merge repeats within 30 seconds by message"),
        ("exclude message like '%ping%'", "drop message contains \"ping\""),
    ];

    const STEPS: &[&str] = &["sample", "limit", "mask", "redact", "delete", "truncate", "filter", "drop", "convert", "merge", "exclude"];

    fn read(text: &str) -> Result<String, crate::Mistake> {
        if STEPS.iter().chain(crate::STEP_VERBS).any(|verb| text.starts_with(&format!("{verb} "))) {
            parse_step(text).map(|step| step.to_string())
        } else {
            parse_condition(text).map(|condition| condition.to_string())
        }
    }

    #[test]
    fn what_is_common_and_clear_is_read() {
        for (written, canonical) in TAKEN {
            assert_eq!(read(written).map_err(|m| format!("{m:?}")).as_deref(), Ok(*canonical), "{written}");
            assert_eq!(read(canonical).as_deref(), Ok(*canonical));
        }
    }

    #[test]
    fn everything_else_is_answered_with_the_sentence_to_write() {
        for (written, sentence) in TOLD {
            let mistake = read(written).map(|s| format!("{written} was read as {s}")).unwrap_err();
            assert_eq!(mistake.nearest.as_deref(), Some(*sentence), "{written}: {mistake:?}");
            assert!(!mistake.message.is_empty() && mistake.at.end <= written.len() && mistake.at.start < mistake.at.end, "{written}: {mistake:?}");
            assert_eq!(read(sentence).as_deref(), Ok(*sentence));
        }
    }

    #[test]
    fn what_is_no_habit_keeps_its_own_answer() {
        for (written, nearest) in
            [("drop message contain \"x\"", Some("contains")), ("drop a = ", None), ("sampel 1 in 10", Some("sample")), ("mask", Some("redact"))]
        {
            assert_eq!(parse_step(written).unwrap_err().nearest.as_deref(), nearest, "{written}");
        }
        // What is explained is taken as what it looks like.
        for (written, nearest) in [("user = null", Some("not (user exists)")), ("user contains", None), ("usr b", Some("use")), ("mask", Some("redact"))] {
            assert_eq!(crate::explain(written).unwrap_err().nearest.as_deref(), nearest, "{written}");
        }
        // A text may hold anything.
        assert!(parse_condition("message contains \"a || b && !c like 'x'\"").is_ok());
    }
}
