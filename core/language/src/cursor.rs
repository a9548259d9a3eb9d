//! Reads a sentence from left to right: words, numbers, quoted text, patterns, paths.

use std::cell::RefCell;
use std::ops::Range;

use rockrose_event::field::{Path, RESERVED};

use crate::following::{NameOf, Want};
use crate::literal::Literal;
use crate::mistake::Mistake;
use crate::pattern::Pattern;

/// Longest sentence that is read, in bytes.
pub const MAX_SENTENCE: usize = 16 * 1024;
/// Deepest nesting of parentheses and `not`.
const MAX_DEPTH: usize = 50;

pub(crate) type Outcome<T> = Result<T, Mistake>;

pub(crate) struct Cursor<'a> {
    text: &'a str,
    at: usize,
    depth: usize,
    /// The field whose value is asked for.
    about: Option<Path>,
    /// What was asked for at the end of the text, in vain.
    wants: RefCell<Vec<Want>>,
}

impl<'a> Cursor<'a> {
    pub(crate) fn new(text: &'a str) -> Outcome<Cursor<'a>> {
        if text.len() > MAX_SENTENCE {
            return Err(Mistake::new(0..0, "the sentence is longer than 16 KiB"));
        }
        let mut cursor = Cursor { text, at: 0, depth: 0, about: None, wants: RefCell::default() };
        cursor.space();
        Ok(cursor)
    }

    /// What may stand at the end of the text.
    pub(crate) fn wants(&self) -> Vec<Want> {
        self.wants.borrow().clone()
    }

    /// Notes what is asked for, if the text is at its end.
    fn note(&self, want: impl FnOnce() -> Want) {
        if self.at == self.text.len() {
            self.wants.borrow_mut().push(want());
        }
    }

    /// Notes words that may stand here.
    pub(crate) fn offers(&self, words: &[&str]) {
        words.iter().for_each(|word| self.note(|| Want::Word((*word).to_owned())));
    }

    /// Notes whose value is asked for from here on.
    pub(crate) fn about(&mut self, field: Option<Path>) {
        self.about = field;
    }

    pub(crate) fn rest(&self) -> &'a str {
        &self.text[self.at..]
    }

    pub(crate) fn at(&self) -> usize {
        self.at
    }

    /// What was taken since `start`, without the white space behind it.
    pub(crate) fn since(&self, start: usize) -> Range<usize> {
        start..start + self.text[start..self.at].trim_end().len()
    }

    pub(crate) fn rewind(&mut self, at: usize) {
        self.at = at;
    }

    pub(crate) fn done(&self) -> bool {
        self.at == self.text.len()
    }

    fn space(&mut self) {
        self.at = self.text.len() - self.rest().trim_start().len();
    }

    /// The extent of what stands at the cursor, to point at: a word, a quoted text or a single sign.
    pub(crate) fn here(&self) -> Range<usize> {
        let rest = self.rest();
        let plain = |c: char| c.is_alphanumeric() || c == '_' || c == '.' || c == '-';
        let len = match rest.chars().next() {
            None => 0,
            Some(c) if plain(c) => rest.find(|c| !plain(c)).unwrap_or(rest.len()),
            Some('"') => rest[1..].find('"').map_or(rest.len(), |n| n + 2),
            Some(c) => c.len_utf8(),
        };
        self.at..self.at + len
    }

    pub(crate) fn written(&self) -> &'a str {
        &self.text[self.here()]
    }

    /// A mistake at the cursor: what was expected there, against what stands there.
    pub(crate) fn unexpected<T>(&self, expected: &str, words: &[&str]) -> Outcome<T> {
        self.offers(words);
        let written = self.written();
        let message = if written.is_empty() { "the sentence ends too early".to_owned() } else { format!("unexpected `{written}`") };
        Err(Mistake::new(self.here(), message).expected(expected).near(written, words.iter().copied()))
    }

    pub(crate) fn deeper(&mut self) -> Outcome<()> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(Mistake::new(self.here(), "nested more than 50 levels deep"));
        }
        Ok(())
    }

    pub(crate) fn shallower(&mut self) {
        self.depth -= 1;
    }

    /// Takes a sign such as `(` or `>=`.
    pub(crate) fn sign(&mut self, sign: &str) -> bool {
        if !sign.is_empty() {
            self.note(|| Want::Sign(sign.to_owned()));
        }
        let found = self.rest().starts_with(sign);
        if found {
            self.at += sign.len();
            self.space();
        }
        found
    }

    pub(crate) fn peek_word(&self) -> &'a str {
        let rest = self.rest();
        let len = rest.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_')).unwrap_or(rest.len());
        &rest[..len]
    }

    /// Takes `words` (separated by single spaces) if they stand here.
    pub(crate) fn words(&mut self, words: &str) -> bool {
        let start = self.at;
        let mut rest = words;
        for word in words.split(' ') {
            if self.peek_word() != word {
                self.note(|| Want::Word(rest.to_owned()));
                self.at = start;
                return false;
            }
            self.at += word.len();
            self.space();
            rest = rest[word.len()..].trim_start();
        }
        true
    }

    pub(crate) fn need_words(&mut self, words: &str) -> Outcome<()> {
        if self.words(words) { Ok(()) } else { self.unexpected(&format!("`{words}`"), &[words]) }
    }

    /// A quoted text.
    pub(crate) fn quoted(&mut self, what: &str) -> Outcome<String> {
        let start = self.at;
        let mut chars = self.rest().char_indices();
        if !matches!(chars.next(), Some((_, '"'))) {
            self.note(|| Want::Value(self.about.clone()));
            return self.unexpected(what, &[]);
        }
        let mut text = String::new();
        while let Some((i, c)) = chars.next() {
            match c {
                '"' => {
                    self.at += i + 1;
                    self.space();
                    return Ok(text);
                }
                '\\' => match chars.next().map(|(_, c)| c) {
                    Some('n') => text.push('\n'),
                    Some('t') => text.push('\t'),
                    Some('r') => text.push('\r'),
                    Some(c @ ('"' | '\\')) => text.push(c),
                    Some('u') if chars.as_str().starts_with('{') => {
                        let hex: String = chars.as_str()[1..].chars().take_while(char::is_ascii_hexdigit).take(6).collect();
                        let closed = chars.as_str()[1 + hex.len()..].starts_with('}');
                        match u32::from_str_radix(&hex, 16).ok().and_then(char::from_u32) {
                            Some(c) if closed => text.push(c),
                            _ => return Err(Mistake::new(start + i..start + i + 2, "an escape that names no character").expected("`\\u{…}` with hex digits")),
                        }
                        for _ in 0..hex.len() + 2 {
                            chars.next();
                        }
                    }
                    _ => return Err(Mistake::new(start + i..start + i + 1, "an unknown escape").expected(r#"`\"`, `\\`, `\n`, `\t`, `\r` or `\u{…}`"#)),
                },
                c => text.push(c),
            }
        }
        Err(Mistake::new(start..self.text.len(), "a text that does not end").expected("a closing `\"`"))
    }

    /// A regular expression between slashes, checked.
    pub(crate) fn pattern(&mut self) -> Outcome<Pattern> {
        let start = self.at;
        if !self.rest().starts_with('/') {
            self.note(|| Want::Pattern);
            return self.unexpected("a regular expression between slashes", &[]);
        }
        let mut escaped = false;
        for (i, c) in self.rest().char_indices().skip(1) {
            if c == '/' && !escaped {
                let source = self.rest()[1..i].to_owned();
                self.at += i + 1;
                let ignore_case = self.rest().starts_with('i') && !self.rest()[1..].starts_with(|c: char| c.is_alphanumeric());
                if ignore_case {
                    self.at += 1;
                }
                let pattern = Pattern::new(source, ignore_case);
                if pattern.source.is_empty() {
                    return Err(Mistake::new(start..self.at, "an empty regular expression"));
                }
                if let Some((at, why, instead)) = pattern.wrong() {
                    let at = start + 1 + at.start..start + 1 + at.end;
                    return Err(Mistake { expected: instead.map(str::to_owned), ..Mistake::new(at, format!("the regular expression is wrong: {why}")) });
                }
                self.space();
                return Ok(pattern);
            }
            escaped = c == '\\' && !escaped;
        }
        Err(Mistake::new(start..self.text.len(), "a regular expression that does not end").expected("a closing `/`"))
    }

    /// Reads a regular expression whose groups are taken.
    pub(crate) fn grouped_pattern(&mut self) -> Outcome<Pattern> {
        let start = self.at;
        let pattern = self.pattern()?;
        match pattern.too_many_groups() {
            None => Ok(pattern),
            Some((why, expected)) => Err(Mistake::new(start..self.at, why).expected(expected)),
        }
    }

    fn name_len(text: &str) -> usize {
        let bytes = text.as_bytes();
        let mut len = 0;
        while let Some(&b) = bytes.get(len) {
            let inner = b == b'-' && len > 0 && bytes.get(len + 1).is_some_and(|n| n.is_ascii_alphanumeric() || *n == b'_' || *n == b'-');
            let plain = b == b'_' || b.is_ascii_alphabetic() || (len > 0 && b.is_ascii_digit());
            if !(plain || inner) {
                break;
            }
            len += 1;
        }
        len
    }

    /// What stands in the sentence from byte `at` on.
    pub(crate) fn before(&self, at: usize) -> &'a str {
        &self.text[at..]
    }

    /// A name without dots, plain or in quotes.
    pub(crate) fn name(&mut self, what: &str) -> Outcome<String> {
        if self.rest().starts_with('"') {
            return self.quoted(what);
        }
        let at = self.here();
        let path = self.path(what)?;
        match path.segments() {
            [name] => Ok(name.clone()),
            _ => Err(Mistake::new(at, "such a name has no dots").expected(what)),
        }
    }

    /// A column's name: as a field's, or with the signs that log formats have in theirs (`cs(User-Agent)`).
    pub(crate) fn column(&mut self, what: &str) -> Outcome<Path> {
        let rest = self.rest();
        let len = Self::name_len(rest);
        if len > 0
            && rest[len..].starts_with('(')
            && let Some(close) = rest[len..].find(')')
        {
            let inner = &rest[len + 1..len + close];
            if !inner.is_empty() && inner.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_')) {
                self.at += len + close + 1;
                self.space();
                return Ok(Path::name(&rest[..len + close + 1]));
            }
        }
        self.path(what)
    }

    /// A name with at least one `*`, and where it stands; takes nothing if none stands here.
    pub(crate) fn wildcard(&mut self) -> Option<(Range<usize>, String)> {
        let rest = self.rest();
        let len = rest.find(|c: char| !(c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.' | '*'))).unwrap_or(rest.len());
        if !rest[..len].contains('*') {
            return None;
        }
        let at = self.at..self.at + len;
        self.at += len;
        self.space();
        Some((at, rest[..len].to_owned()))
    }

    /// What is given to a recipe's parameter, as written: everything up to the next `,` or `)` outside quotes, slashes and parentheses.
    pub(crate) fn argument(&mut self) -> Outcome<String> {
        let start = self.at;
        let rest = self.rest();
        let (mut depth, mut quoted, mut slashed, mut escaped) = (0usize, false, false, false);
        for (i, c) in rest.char_indices() {
            match c {
                _ if escaped => {}
                '"' if !slashed => quoted = !quoted,
                '/' if !quoted && (slashed || i == 0) => slashed = !slashed,
                '(' if !quoted && !slashed => depth += 1,
                ')' if !quoted && !slashed && depth > 0 => depth -= 1,
                ')' | ',' if !quoted && !slashed && depth == 0 => {
                    let written = rest[..i].trim_end();
                    if written.is_empty() {
                        return Err(
                            Mistake::new(start..start + i, "nothing is given here").expected("a field, a text in quotes, a number or a regular expression")
                        );
                    }
                    self.at += i;
                    return Ok(written.to_owned());
                }
                _ => {}
            }
            escaped = c == '\\' && !escaped && (quoted || slashed);
        }
        Err(Mistake::new(start..self.text.len(), "the recipe's parameters do not end").expected("a closing `)`"))
    }

    /// A field path.
    pub(crate) fn path(&mut self, what: &str) -> Outcome<Path> {
        let mut segments = Vec::new();
        loop {
            let rest = self.rest();
            if rest.starts_with('"') {
                let start = self.at;
                let segment = self.quoted("a name")?;
                if segment.is_empty() {
                    return Err(Mistake::new(start..start + 2, "a field with an empty name"));
                }
                // White space behind the closing quote ends the path.
                let ended = self.text[..self.at].ends_with(char::is_whitespace);
                segments.push(segment);
                if ended {
                    return Ok(Path::of(segments));
                }
            } else {
                let len = Self::name_len(rest);
                let name = &rest[..len];
                if len == 0 {
                    self.note(|| NameOf::read(what).map_or(Want::Field, Want::Name));
                    return self.unexpected(what, &[]);
                }
                if segments.is_empty() && RESERVED.contains(&name) {
                    let message = format!("`{name}` is a word of the language");
                    return Err(Mistake::new(self.here(), message).expected(format!("{what}; a field of that name is written \"{name}\"")));
                }
                segments.push(name.to_owned());
                self.at += len;
            }
            if self.rest().starts_with('.') && !self.rest().starts_with("..") {
                self.at += 1;
            } else {
                self.space();
                return Ok(Path::of(segments));
            }
        }
    }

    /// A number, if one stands here.
    pub(crate) fn number(&mut self) -> Option<f64> {
        let rest = self.rest();
        let bytes = rest.as_bytes();
        let digits = |from: usize| from + bytes[from..].iter().take_while(|b| b.is_ascii_digit()).count();
        let start = usize::from(bytes.first() == Some(&b'-'));
        let mut len = digits(start);
        if len == start {
            return None;
        }
        if bytes.get(len) == Some(&b'.') && bytes.get(len + 1).is_some_and(u8::is_ascii_digit) {
            len = digits(len + 1);
        }
        if matches!(bytes.get(len), Some(b'e' | b'E')) {
            let sign = usize::from(matches!(bytes.get(len + 1), Some(b'+' | b'-')));
            let end = digits((len + 1 + sign).min(bytes.len()));
            if end > len + 1 + sign {
                len = end;
            }
        }
        let value: f64 = rest[..len].parse().ok()?;
        if !value.is_finite() {
            return None;
        }
        self.at += len;
        self.space();
        Some(value)
    }

    /// A whole number of at least 1.
    pub(crate) fn count(&mut self, what: &str) -> Outcome<u64> {
        let (at, start) = (self.here(), self.at);
        match self.number() {
            Some(n) if n >= 1.0 && n.fract() == 0.0 && n <= 9e15 => Ok(n as u64),
            Some(_) => Err(Mistake::new(at, "not a whole number of at least 1").expected(what)),
            None => {
                self.at = start;
                self.unexpected(what, &[])
            }
        }
    }

    /// A text, number or truth value.
    pub(crate) fn literal(&mut self) -> Option<Outcome<Literal>> {
        if self.rest().starts_with('"') {
            return Some(self.quoted("a text").map(Literal::Text));
        }
        if self.words("true") {
            return Some(Ok(Literal::Bool(true)));
        }
        if self.words("false") {
            return Some(Ok(Literal::Bool(false)));
        }
        self.note(|| Want::Value(self.about.clone()));
        self.number().map(|n| Ok(Literal::Number(n)))
    }

    /// Items separated by commas.
    pub(crate) fn list<T>(&mut self, mut item: impl FnMut(&mut Self) -> Outcome<T>) -> Outcome<Vec<T>> {
        let mut items = vec![item(self)?];
        while self.sign(",") {
            items.push(item(self)?);
        }
        Ok(items)
    }
}
