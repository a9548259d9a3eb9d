//! One XML element: its attributes, and the texts of the elements right inside it.
//!
//! Not a whole reader of XML: no entities but the five usual ones and those by number, no document types. What lies deeper than one level is passed over.

use super::{Found, MAX_PAIRS};

/// Deepest nesting that is passed over.
const MAX_DEPTH: usize = 64;

struct Walk<'a> {
    text: &'a [u8],
    at: usize,
}

/// A tag's name, and whether it closes itself.
struct Tag<'a> {
    name: &'a [u8],
    empty: bool,
}

impl<'a> Walk<'a> {
    fn rest(&self) -> &'a [u8] {
        &self.text[self.at..]
    }

    fn space(&mut self) {
        while self.rest().first().is_some_and(u8::is_ascii_whitespace) {
            self.at += 1;
        }
    }

    /// Goes behind the next `what`.
    fn past(&mut self, what: &[u8]) -> Option<()> {
        self.at += memchr::memmem::find(self.rest(), what)? + what.len();
        Some(())
    }

    fn name(&mut self) -> Option<&'a [u8]> {
        let rest = self.rest();
        let good = |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-' | b'.' | b':') || *b >= 0x80;
        let len = rest.iter().position(|b| !good(b)).unwrap_or(rest.len());
        self.at += len;
        (len > 0 && !rest[0].is_ascii_digit() && !matches!(rest[0], b'-' | b'.')).then(|| &rest[..len])
    }

    /// The opening tag whose `<` stands here; each attribute goes to `each`.
    fn open(&mut self, mut each: impl FnMut(&[u8], &[u8]) -> Option<()>) -> Option<Tag<'a>> {
        self.at += 1;
        let name = self.name()?;
        loop {
            self.space();
            match self.rest().first()? {
                b'>' => {
                    self.at += 1;
                    return Some(Tag { name, empty: false });
                }
                b'/' if self.rest().get(1) == Some(&b'>') => {
                    self.at += 2;
                    return Some(Tag { name, empty: true });
                }
                _ => {
                    let attribute = self.name()?;
                    self.space();
                    if self.rest().first() != Some(&b'=') {
                        return None;
                    }
                    self.at += 1;
                    self.space();
                    let quote = *self.rest().first().filter(|q| matches!(q, b'"' | b'\''))?;
                    self.at += 1;
                    let len = memchr::memchr(quote, self.rest())?;
                    let value = &self.rest()[..len];
                    self.at += len + 1;
                    each(attribute, value)?;
                }
            }
        }
    }

    /// What stands inside the element `name`, up to its closing tag, which is taken. Says whether other elements were in it.
    fn inside(&mut self, name: &[u8], content: &mut Vec<u8>, depth: usize) -> Option<bool> {
        let mut elements = false;
        loop {
            let len = memchr::memchr(b'<', self.rest())?;
            unescape(&self.rest()[..len], content)?;
            self.at += len;
            let rest = self.rest();
            if rest.starts_with(b"</") {
                self.at += 2;
                let closed = self.name()?;
                self.space();
                if closed != name || self.rest().first() != Some(&b'>') {
                    return None;
                }
                self.at += 1;
                return Some(elements);
            } else if rest.starts_with(b"<!--") {
                self.past(b"-->")?;
            } else if rest.starts_with(b"<![CDATA[") {
                self.at += 9;
                let end = memchr::memmem::find(self.rest(), b"]]>")?;
                content.extend_from_slice(&self.rest()[..end]);
                self.at += end + 3;
            } else {
                elements = true;
                if depth > MAX_DEPTH {
                    return None;
                }
                let tag = self.open(|_, _| Some(()))?;
                if !tag.empty {
                    self.inside(tag.name, &mut Vec::new(), depth + 1)?;
                }
            }
        }
    }
}

/// Appends `text` with its entities resolved; fails on one that is not known.
fn unescape(text: &[u8], out: &mut Vec<u8>) -> Option<()> {
    let mut rest = text;
    while let Some(at) = memchr::memchr(b'&', rest) {
        out.extend_from_slice(&rest[..at]);
        let end = at + memchr::memchr(b';', &rest[at..rest.len().min(at + 12)])?;
        let entity = std::str::from_utf8(&rest[at + 1..end]).ok()?;
        let c = match entity {
            "lt" => '<',
            "gt" => '>',
            "amp" => '&',
            "quot" => '"',
            "apos" => '\'',
            _ => {
                let number = entity.strip_prefix('#')?;
                let code = number.strip_prefix(['x', 'X']).map_or_else(|| number.parse().ok(), |hex| u32::from_str_radix(hex, 16).ok())?;
                char::from_u32(code)?
            }
        };
        out.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes());
        rest = &rest[end + 1..];
    }
    out.extend_from_slice(rest);
    Some(())
}

pub(super) fn read(text: &[u8], found: &mut Found) -> Option<()> {
    let mut walk = Walk { text, at: 0 };
    walk.space();
    while walk.rest().starts_with(b"<?") || walk.rest().starts_with(b"<!--") {
        let end: &[u8] = if walk.rest().starts_with(b"<?") { b"?>" } else { b"-->" };
        walk.past(end)?;
        walk.space();
    }
    if walk.rest().first() != Some(&b'<') {
        return None;
    }
    let mut content = Vec::new();
    let outer = walk.open(|name, value| {
        content.clear();
        unescape(value, &mut content)?;
        let name = found.free(name);
        found.typed(name, &content);
        (found.pairs.len() <= MAX_PAIRS).then_some(())
    })?;
    if !outer.empty {
        loop {
            let len = memchr::memchr(b'<', walk.rest())?;
            walk.at += len;
            let rest = walk.rest();
            if rest.starts_with(b"</") {
                walk.inside(outer.name, &mut Vec::new(), 0)?;
                break;
            } else if rest.starts_with(b"<!--") {
                walk.past(b"-->")?;
            } else if rest.starts_with(b"<![CDATA[") {
                walk.past(b"]]>")?;
            } else {
                let tag = walk.open(|_, _| Some(()))?;
                content.clear();
                let deeper = !tag.empty && walk.inside(tag.name, &mut content, 1)?;
                if !deeper {
                    let name = found.free(tag.name);
                    found.typed(name, content.trim_ascii());
                }
                if found.pairs.len() > MAX_PAIRS {
                    return None;
                }
            }
        }
    }
    walk.space();
    (walk.at == text.len() && !found.pairs.is_empty()).then_some(())
}
