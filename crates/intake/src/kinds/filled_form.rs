//! Bodies that are filled-in forms, as the logging handlers of some languages and web pages post them: `level=warn&message=gangway+stuck`.
//!
//! Many clients call whatever they post a form unless they are told otherwise. So a body is one only if it is written as one from its first byte to its last; anything else is read as it would be without the name.

use rockrose_event::json::quote;

/// Most fields that a form may have; one with more is read as text.
const MAX_FIELDS: usize = 256;

/// The form as a line with one JSON object, each field a text; several of one name become a list. `None`: it is not written as a form.
pub(crate) fn as_line(body: &[u8]) -> Option<Vec<u8>> {
    let body = body.trim_ascii_end();
    if !is_written_as_form(body) {
        return None;
    }
    let mut fields: Vec<(String, Vec<String>)> = Vec::new();
    for (name, value) in form_urlencoded::parse(body) {
        if name.contains('\u{fffd}') || value.contains('\u{fffd}') {
            return None;
        }
        match fields.iter().position(|(known, _)| *known == name) {
            Some(at) => fields[at].1.push(value.into_owned()),
            None if fields.len() == MAX_FIELDS => return None,
            None => fields.push((name.into_owned(), vec![value.into_owned()])),
        }
    }
    let mut line = Vec::with_capacity(body.len() + 16 * fields.len());
    line.push(b'{');
    for (at, (name, values)) in fields.iter().enumerate() {
        if at > 0 {
            line.push(b',');
        }
        quote(name.as_bytes(), &mut line);
        line.push(b':');
        if let [value] = &values[..] {
            quote(value.as_bytes(), &mut line);
            continue;
        }
        for (at, value) in values.iter().enumerate() {
            line.push(if at == 0 { b'[' } else { b',' });
            quote(value.as_bytes(), &mut line);
        }
        line.push(b']');
    }
    line.extend_from_slice(b"}\n");
    Some(line)
}

/// Whether it is `name=value` pairs with `&` between them, of the signs that a form has.
fn is_written_as_form(body: &[u8]) -> bool {
    let sign = |b: &u8| b.is_ascii_alphanumeric() || b"*-._~+%!'()$,:;/?@[]=".contains(b);
    let escapes_are_whole =
        |text: &[u8]| memchr::memchr_iter(b'%', text).all(|at| text.get(at + 1..at + 3).is_some_and(|two| two.iter().all(u8::is_ascii_hexdigit)));
    let pair = |pair: &[u8]| memchr::memchr(b'=', pair).is_some_and(|at| at > 0) && pair.iter().all(sign) && escapes_are_whole(pair);
    body.split(|b| *b == b'&').all(pair)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn line(body: &str) -> Option<String> {
        as_line(body.as_bytes()).map(|line| String::from_utf8(line).unwrap())
    }

    #[test]
    fn a_form_is_one_object() {
        assert_eq!(
            line("level=warn&message=gangway+stuck+at+%22Lowmere%22&gate=4").unwrap(),
            "{\"level\":\"warn\",\"message\":\"gangway stuck at \\\"Lowmere\\\"\",\"gate\":\"4\"}\n"
        );
        assert_eq!(line("port=Tansy%20Quay&port=Lowmere&note=\r\n").unwrap(), "{\"port\":[\"Tansy Quay\",\"Lowmere\"],\"note\":\"\"}\n");
        assert_eq!(line("m=%C3%A9").unwrap(), "{\"m\":\"é\"}\n");
    }

    #[test]
    fn what_is_not_written_as_one_is_left_alone() {
        let many = (0..=MAX_FIELDS).map(|n| format!("f{n}=1")).collect::<Vec<_>>().join("&");
        for other in
            ["", "gate open", "{\"a\":\"b=c\"}", "a=b\nc=d", "level=warn gate=4", "a=%4", "a=%zz", "=x", "a=b&", "a=b&c", "m=%FF", "a=\u{e9}", "<14>a=b", &many]
        {
            assert_eq!(line(other), None, "{other}");
        }
    }
}
