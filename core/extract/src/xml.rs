//! One XML element: its attributes, and the texts and attributes of the elements inside it, by their paths.
//!
//! Not a whole reader of XML: no entities but the five usual ones and those by number, no document types.

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

    /// What stands inside the element `name`, up to its closing tag, which is taken: its own text, and whether other elements were in it. Those go to `found`, by their paths.
    fn inside(&mut self, name: &[u8], path: &mut Vec<u8>, found: &mut Found, depth: usize) -> Option<(Vec<u8>, bool)> {
        let (mut content, mut elements) = (Vec::new(), false);
        loop {
            let len = memchr::memchr(b'<', self.rest())?;
            unescape(&self.rest()[..len], &mut content)?;
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
                return Some((content, elements));
            } else if rest.starts_with(b"<!--") {
                self.past(b"-->")?;
            } else if rest.starts_with(b"<![CDATA[") {
                self.at += 9;
                let end = memchr::memmem::find(self.rest(), b"]]>")?;
                content.extend_from_slice(&self.rest()[..end]);
                self.at += end + 3;
            } else {
                elements = true;
                self.element(path, found, depth + 1)?;
            }
        }
    }

    /// The element that begins here, by its path.
    fn element(&mut self, path: &mut Vec<u8>, found: &mut Found, depth: usize) -> Option<()> {
        if depth > MAX_DEPTH || found.pairs.len() > MAX_PAIRS {
            return None;
        }
        let (above, mut attributes) = (path.len(), Vec::new());
        let tag = self.open(|name, value| {
            let mut text = Vec::new();
            unescape(value, &mut text)?;
            attributes.push((name.to_vec(), text));
            (attributes.len() <= MAX_PAIRS).then_some(())
        })?;
        join(path, tag.name);
        let (content, elements) = if tag.empty { (Vec::new(), false) } else { self.inside(tag.name, path, found, depth)? };
        let content = content.trim_ascii();
        // `<Data Name="gate">G4</Data>` is a field called `gate`, however many of them there are.
        let called = attributes.iter().position(|(name, _)| name.eq_ignore_ascii_case(b"name") || name == b"key").filter(|_| !tag.empty && !elements);
        if let Some((_, name)) = called.map(|at| attributes.swap_remove(at)).filter(|(_, name)| !name.is_empty()) {
            path.truncate(above);
            join(path, &name);
        }
        let said = called.is_some() || attributes.is_empty() || !content.is_empty();
        if !elements && said {
            let name = found.free(path);
            found.typed(name, content);
        }
        let own = path.len();
        for (attribute, value) in &attributes {
            join(path, attribute);
            let name = found.free(path);
            found.typed(name, value);
            path.truncate(own);
        }
        path.truncate(above);
        Some(())
    }
}

fn join(path: &mut Vec<u8>, name: &[u8]) {
    if !path.is_empty() {
        path.push(b'.');
    }
    path.extend_from_slice(name);
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
        if name == b"xmlns" || name.starts_with(b"xmlns:") {
            return Some(());
        }
        content.clear();
        unescape(value, &mut content)?;
        let name = found.free(name);
        found.typed(name, &content);
        (found.pairs.len() <= MAX_PAIRS).then_some(())
    })?;
    if !outer.empty {
        walk.inside(outer.name, &mut Vec::new(), found, 0)?;
    }
    walk.space();
    (walk.at == text.len() && !found.pairs.is_empty()).then_some(())
}
