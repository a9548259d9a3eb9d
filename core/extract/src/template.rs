//! Line templates: literal text and typed places in turn.

use std::net::IpAddr;

use memchr::memmem;
use rockrose_event::address::address;
use rockrose_event::json::Kind;
use rockrose_event::{scan, time};
use rockrose_language::{Part, Placeholder, Template};

use super::Found;

#[derive(Debug)]
enum Piece {
    Text(Box<[u8]>),
    /// Which known name it fills, of what type, and what text ends it (nothing: the line does).
    Placeholder(Option<usize>, Typed, Option<Box<memmem::Finder<'static>>>),
}

#[derive(Debug)]
enum Typed {
    Text,
    Word,
    Integer,
    Number,
    Ip,
    Rest,
    Time(Box<time::Reader>),
}

/// A template ready to read by.
#[derive(Debug)]
pub(super) struct Compiled {
    pieces: Vec<Piece>,
}

impl Compiled {
    pub(super) fn new(template: &Template) -> Compiled {
        let mut pieces = Vec::new();
        let mut names = 0;
        for (i, part) in template.parts.iter().enumerate() {
            match part {
                Part::Text(text) => pieces.push(Piece::Text(text.as_bytes().into())),
                Part::Field(path, place) => {
                    let name = path.as_ref().map(|_| names);
                    names += usize::from(path.is_some());
                    let typed = match place {
                        Placeholder::Text => Typed::Text,
                        Placeholder::Word => Typed::Word,
                        Placeholder::Integer => Typed::Integer,
                        Placeholder::Number => Typed::Number,
                        Placeholder::Ip => Typed::Ip,
                        Placeholder::Rest => Typed::Rest,
                        Placeholder::Time(form) => Typed::Time(Box::new(time::Reader::new(form))),
                    };
                    let end = match template.parts.get(i + 1) {
                        Some(Part::Text(next)) => Some(Box::new(memmem::Finder::new(next.as_bytes()).into_owned())),
                        _ => None,
                    };
                    pieces.push(Piece::Placeholder(name, typed, end));
                }
            }
        }
        Compiled { pieces }
    }

    pub(super) fn read(&self, text: &[u8], now_ms: i64, found: &mut Found) -> Option<()> {
        let mut at = 0;
        for piece in &self.pieces {
            match piece {
                Piece::Text(literal) => {
                    if !text[at..].starts_with(literal) {
                        return None;
                    }
                    at += literal.len();
                }
                Piece::Placeholder(name, typed, end) => {
                    let rest = &text[at..];
                    let len = match end {
                        None => rest.len(),
                        // One byte or two are looked for quickest directly.
                        Some(end) => match end.needle() {
                            [only] => memchr::memchr(*only, rest)?,
                            _ => end.find(rest)?,
                        },
                    };
                    typed.take(&rest[..len], *name, now_ms, found)?;
                    at += len;
                }
            }
        }
        (at == text.len()).then_some(())
    }
}

impl Typed {
    fn take(&self, text: &[u8], name: Option<usize>, now_ms: i64, found: &mut Found) -> Option<()> {
        let put_text = |found: &mut Found| name.into_iter().for_each(|n| found.text(n, text));
        match self {
            Typed::Rest => put_text(found),
            Typed::Text if !text.is_empty() => put_text(found),
            Typed::Word if !text.is_empty() && !text.iter().any(u8::is_ascii_whitespace) => put_text(found),
            Typed::Ip => {
                address(text).map(|_: IpAddr| ())?;
                put_text(found);
            }
            Typed::Integer | Typed::Number => {
                let whole = whole(text);
                if !whole {
                    let span = scan::value_at(text, 0).ok()?;
                    let number = span.kind == Kind::Number && span.start == 0 && span.end as usize == text.len();
                    let fraction = text.iter().any(|b| matches!(b, b'.' | b'e' | b'E'));
                    if !number || (fraction && matches!(self, Typed::Integer)) {
                        return None;
                    }
                }
                name.into_iter().for_each(|n| found.token(n, text));
            }
            Typed::Time(reader) => {
                let time = reader.read(text, now_ms)?;
                if let Some(n) = name {
                    found.put(super::Name::Known(n as u16), |out| {
                        out.push(b'"');
                        time::write(time, out);
                        out.push(b'"');
                    });
                }
            }
            Typed::Text | Typed::Word => return None,
        }
        Some(())
    }
}

/// Digits only, and none too many in front.
fn whole(text: &[u8]) -> bool {
    text.iter().all(u8::is_ascii_digit) && (text.len() == 1 || text.first().is_some_and(|b| *b != b'0'))
}
