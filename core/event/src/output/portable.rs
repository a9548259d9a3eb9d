//! An event as every reader of JSON takes it.
//!
//! What JSON's grammar allows is more than most readers take: escapes of half a surrogate pair, numbers beyond a double, any depth. Events are passed on as they came, so such things
//! reach destinations; an encoder that reads events with an ordinary reader asks for this form of those that it cannot read.

use crate::json::quote;

/// What was rewritten so that every reader takes it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Rewritten {
    /// Halves of surrogate pairs became U+FFFD.
    pub text: bool,
    /// Numbers beyond a double became texts of their digits.
    pub number: bool,
    /// What is nested too deep became a text of its JSON.
    pub depth: bool,
}

impl Rewritten {
    /// Whether anything was.
    #[must_use]
    pub fn any(self) -> bool {
        self != Rewritten::default()
    }

    /// What was, in words.
    pub fn words(self) -> impl Iterator<Item = &'static str> {
        [(self.text, "text"), (self.number, "number"), (self.depth, "depth")].into_iter().filter_map(|(is, word)| is.then_some(word))
    }
}

/// Writes an event, one JSON value, in a form that every reader takes, and with no more than `max_depth` levels. The bytes must be JSON, as all that was read as an event is.
pub fn portable(json: &[u8], max_depth: usize, out: &mut Vec<u8>) -> Rewritten {
    let (mut rewritten, mut depth, mut at) = (Rewritten::default(), 0, 0);
    while at < json.len() {
        let end = match json[at] {
            b'"' => {
                let end = string_end(json, at);
                rewritten.text |= write_string(&json[at..end], out);
                end
            }
            b'-' | b'0'..=b'9' => {
                let end = json[at..].iter().position(|b| !matches!(b, b'-' | b'+' | b'.' | b'e' | b'E' | b'0'..=b'9')).map_or(json.len(), |n| at + n);
                rewritten.number |= write_number(&json[at..end], out);
                end
            }
            b'{' | b'[' if depth == max_depth => {
                let end = nested_end(json, at);
                let mut inner = Vec::new();
                // The text is JSON in its turn.
                let within = portable(&json[at..end], usize::MAX, &mut inner);
                quote(&inner, out);
                rewritten = Rewritten { text: rewritten.text | within.text, number: rewritten.number | within.number, depth: true };
                end
            }
            other => {
                match other {
                    b'{' | b'[' => depth += 1,
                    b'}' | b']' => depth -= 1,
                    _ => {}
                }
                out.push(other);
                at + 1
            }
        };
        at = end;
    }
    rewritten
}

/// Where the string ends that begins at `at`, its quotation mark included.
fn string_end(json: &[u8], at: usize) -> usize {
    let mut end = at + 1;
    while let Some(byte) = json.get(end) {
        match byte {
            b'"' => return end + 1,
            b'\\' => end += 2,
            _ => end += 1,
        }
    }
    json.len()
}

/// Where the object or array ends that begins at `at`.
fn nested_end(json: &[u8], at: usize) -> usize {
    let (mut depth, mut end) = (0, at);
    while let Some(byte) = json.get(end) {
        match byte {
            b'"' => {
                end = string_end(json, end);
                continue;
            }
            b'{' | b'[' => depth += 1,
            b'}' | b']' => depth -= 1,
            _ => {}
        }
        end += 1;
        if depth == 0 {
            return end;
        }
    }
    json.len()
}

/// Writes a string, its quotation marks included; says whether anything in it was half a pair.
fn write_string(string: &[u8], out: &mut Vec<u8>) -> bool {
    let (mut halves, mut rest) = (false, string);
    while let Some(slash) = memchr::memchr(b'\\', rest) {
        let (before, escape) = rest.split_at(slash);
        out.extend_from_slice(before);
        let used = match (unit(escape), escape.get(6..).and_then(unit)) {
            (Some(0xd800..=0xdbff), Some(0xdc00..=0xdfff)) => 12,
            (Some(0xd800..=0xdfff), _) => {
                out.extend_from_slice("\u{fffd}".as_bytes());
                halves = true;
                rest = &escape[6..];
                continue;
            }
            (Some(_), _) => 6,
            (None, _) => 2.min(escape.len()),
        };
        out.extend_from_slice(&escape[..used]);
        rest = &escape[used..];
    }
    out.extend_from_slice(rest);
    halves
}

/// The code unit of an escape of the form `\uXXXX`.
fn unit(escape: &[u8]) -> Option<u32> {
    let digits = escape.strip_prefix(b"\\u")?.get(..4)?;
    u32::from_str_radix(std::str::from_utf8(digits).ok()?, 16).ok()
}

/// Writes a number; says whether it had to be written as a text.
fn write_number(number: &[u8], out: &mut Vec<u8>) -> bool {
    let is_beyond = std::str::from_utf8(number).ok().and_then(|n| n.parse::<f64>().ok()).is_none_or(f64::is_infinite);
    if is_beyond {
        quote(number, out);
    } else {
        out.extend_from_slice(number);
    }
    is_beyond
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(json: &str, max_depth: usize) -> (String, Vec<&'static str>) {
        let mut out = Vec::new();
        let rewritten = portable(json.as_bytes(), max_depth, &mut out);
        (String::from_utf8(out).unwrap(), rewritten.words().collect())
    }

    #[test]
    fn what_every_reader_takes_stays_as_it_is() {
        for json in [r#"{}"#, r#"{"a":"\"\\\u00e9 \ud83d\ude80 x","b":[1,-2.50e+3,1e308],"c":{"d":null,"e":true}}"#, r#" { "a" : 1 } "#] {
            assert_eq!(written(json, 8), (json.to_owned(), vec![]));
        }
    }

    #[test]
    fn what_some_do_not_take_is_rewritten_and_told() {
        for (json, expected, words) in [
            (r#"{"a":"x\ud800y"}"#, "{\"a\":\"x\u{fffd}y\"}", vec!["text"]),
            (r#"{"\udc00":"\ud800\ud800\udc00"}"#, "{\"\u{fffd}\":\"\u{fffd}\\ud800\\udc00\"}", vec!["text"]),
            (r#"{"a":"\\ud800"}"#, r#"{"a":"\\ud800"}"#, vec![]),
            (r#"{"a":[1e999,-1E+400,0]}"#, r#"{"a":["1e999","-1E+400",0]}"#, vec!["number"]),
            (r#"{"a":{"b":{"c":[1,"}"]}},"d":1}"#, r#"{"a":{"b":"{\"c\":[1,\"}\"]}"},"d":1}"#, vec!["depth"]),
            (r#"{"a":{"b":[1e999,"\ud800"]}}"#, "{\"a\":{\"b\":\"[\\\"1e999\\\",\\\"\u{fffd}\\\"]\"}}", vec!["text", "number", "depth"]),
        ] {
            assert_eq!(written(json, 2), (expected.to_owned(), words), "{json}");
        }
    }
}
