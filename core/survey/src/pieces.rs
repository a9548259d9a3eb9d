//! A message cut into pieces: words, marks, and what varies from message to message.
//!
//! A piece varies if it shows so by itself: it has a digit in it, is a path, a name with dots in it, or the value of `key=value`. Words that vary are found only by comparing messages
//! with one another, which is for `settle`.

/// Longest part of a message that is looked at, in bytes.
pub(crate) const LONGEST: usize = 2_048;
/// Most pieces of a message that are looked at.
pub(crate) const MOST_PIECES: usize = 256;

/// Longest value in quotes that is taken as one, in bytes.
const LONGEST_QUOTED: usize = 256;
/// Most colons at which what stands between other marks is cut.
const MOST_COLONS: usize = 32;

/// What a varying part is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Sort {
    /// A whole number, as JSON writes it.
    Integer,
    /// A number with a point or an exponent in it, as JSON writes it.
    Number,
    /// A number in another writing, or with its unit.
    Amount,
    /// A time of day, a date, or both.
    Time,
    /// The address of a host.
    Ip,
    /// The address of a host with a port, or of a mailbox or a device.
    Address,
    /// What has digits and letters in it.
    Id,
    /// A file, a folder or a URL.
    Path,
    /// A word or a name.
    Word,
    /// What stands between quotes.
    Quoted,
    /// Several of these, separated by commas or white space.
    List,
    /// All that is left of the message.
    Rest,
}

impl Sort {
    /// The word for it.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Sort::Integer => "integer",
            Sort::Number => "number",
            Sort::Amount => "amount",
            Sort::Time => "time",
            Sort::Ip => "ip",
            Sort::Address => "address",
            Sort::Id => "id",
            Sort::Path => "path",
            Sort::Word => "word",
            Sort::Quoted => "quoted",
            Sort::List => "list",
            Sort::Rest => "rest",
        }
    }
}

/// What a piece is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Word,
    /// A mark, as it stands.
    Mark(u8),
    /// What varies.
    Var(Sort),
    /// A unit behind a number.
    Unit,
}

/// A piece of a message, by its bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Piece {
    pub(crate) start: u32,
    pub(crate) end: u32,
    pub(crate) kind: Kind,
}

impl Piece {
    pub(crate) fn of<'a>(&self, text: &'a [u8]) -> &'a [u8] {
        &text[self.start as usize..self.end as usize]
    }
}

const DIGIT: u16 = 1;
const LETTER: u16 = 2;
/// What stands for itself at the beginning of a chunk or within it.
const CUTS: u16 = 4;
const SPACE: u16 = 8;
/// What is peeled off at the end of a chunk.
const ENDS: u16 = 16;
const COLON: u16 = 32;
const SLASH: u16 = 64;
const DOT: u16 = 128;
const AT: u16 = 256;
const DASH: u16 = 512;
const OTHER: u16 = 1024;
/// What is looked at more closely.
const JOINS: u16 = COLON | SLASH | DOT | AT;

/// What each byte is.
static CLASS: [u16; 256] = classes();

const fn classes() -> [u16; 256] {
    let mut class = [0; 256];
    let mut b = 0;
    while b < 256 {
        class[b] = match b as u8 {
            b'0'..=b'9' => DIGIT,
            b'a'..=b'z' | b'A'..=b'Z' | 0x80.. => LETTER,
            b'=' | b'(' | b'[' | b'{' | b'<' | b'"' | b'|' | b'`' => CUTS,
            b')' | b']' | b'}' | b'>' | b',' | b';' => CUTS | ENDS,
            b'!' | b'?' | b'\'' => ENDS,
            b':' => COLON | ENDS,
            b'.' => DOT | ENDS,
            b'/' | b'\\' => SLASH,
            b'@' => AT,
            b'-' => DASH,
            0..=b' ' | 0x7f => SPACE,
            b'_' => LETTER,
            _ => OTHER,
        };
        b += 1;
    }
    class
}

#[inline(always)]
fn class(b: u8) -> u16 {
    CLASS[b as usize]
}

/// Cuts a message into pieces. Returns how many bytes of it were looked at.
pub(crate) fn cut(text: &[u8], pieces: &mut Vec<Piece>) -> usize {
    pieces.clear();
    let text = &text[..text.len().min(LONGEST)];
    let mut at = 0;
    while at < text.len() && pieces.len() < MOST_PIECES {
        if class(text[at]) & SPACE != 0 {
            at += 1;
            continue;
        }
        let start = at;
        let mut seen = 0;
        while at < text.len() {
            let class = class(text[at]);
            if class & SPACE != 0 {
                break;
            }
            seen |= class;
            at += 1;
        }
        // Most are plain words and plain numbers.
        let before = pieces.last().map_or(Kind::Word, |p| p.kind);
        if seen == LETTER && matches!(before, Kind::Word | Kind::Unit) {
            push(pieces, start, at, Kind::Word);
        } else if seen == DIGIT && at - start <= 18 && (text[start] != b'0' || at - start == 1) {
            push(pieces, start, at, Kind::Var(Sort::Integer));
        } else {
            at = chunk(text, start, at, seen, pieces);
        }
    }
    pieces.truncate(MOST_PIECES);
    at
}

#[inline(always)]
fn push(pieces: &mut Vec<Piece>, start: usize, end: usize, kind: Kind) {
    pieces.push(Piece { start: start as u32, end: end as u32, kind });
}

/// What stands between white space. `seen` is what its bytes are, together. Returns where the next begins: a value in quotes may be longer.
fn chunk(text: &[u8], start: usize, end: usize, seen: u16, pieces: &mut Vec<Piece>) -> usize {
    if seen & (CUTS | JOINS | ENDS) == 0 {
        whole(text, start, end, seen, pieces);
        return end;
    }
    let behind = end;
    let mut end = end;
    let mut trailing = end;
    // What ends a sentence or closes a bracket; all of it, if there is nothing else.
    while trailing > start && class(text[trailing - 1]) & ENDS != 0 {
        trailing -= 1;
    }
    if trailing > start {
        std::mem::swap(&mut end, &mut trailing);
    }
    let inner = seen_in(&text[start..end]);
    let has_marks = inner & CUTS != 0 || text[start] == b'\'';
    if !has_marks && inner & JOINS == 0 {
        whole(text, start, end, inner, pieces);
        marks(text, end, trailing, pieces);
        return behind;
    }
    let mut from = start;
    let mut at = start;
    // Where there is nothing to cut at, a glance at each byte is saved.
    if !has_marks {
        at = end;
    }
    while at < end {
        let b = text[at];
        let cuts = match b {
            // A comma between digits may be one of a number.
            b',' => !(at > from && at + 1 < end && text[at - 1].is_ascii_digit() && text[at + 1].is_ascii_digit()),
            b'<' => !(at == from && at + 1 < end && text[at + 1].is_ascii_digit()),
            b'\'' => at == from,
            b => class(b) & CUTS != 0,
        };
        if cuts {
            part(text, from, at, pieces);
            push(pieces, at, at + 1, Kind::Mark(b));
            from = at + 1;
            if b == b'"'
                && at > start
                && text[at - 1] == b'='
                && let Some(length) = memchr::memchr(b'"', &text[from..text.len().min(from + LONGEST_QUOTED)])
            {
                if length > 0 {
                    push(pieces, from, from + length, Kind::Var(Sort::Quoted));
                }
                push(pieces, from + length, from + length + 1, Kind::Mark(b'"'));
                from += length + 1;
                at = from;
                if from > end {
                    return from;
                }
                continue;
            }
        }
        at += 1;
    }
    part(text, from, end, pieces);
    marks(text, end, trailing, pieces);
    behind
}

/// What was peeled off at the end of a chunk.
fn marks(text: &[u8], start: usize, end: usize, pieces: &mut Vec<Piece>) {
    for (at, b) in text.get(start..end).unwrap_or_default().iter().enumerate() {
        push(pieces, start + at, start + at + 1, Kind::Mark(*b));
    }
}

/// What stands between marks: cut at its colons where those join words.
fn part(text: &[u8], start: usize, end: usize, pieces: &mut Vec<Piece>) {
    let mut start = start;
    let mut seen = seen_in(&text[start..end]);
    for _ in 0..MOST_COLONS {
        if seen & COLON == 0 {
            break;
        }
        let bytes = &text[start..end];
        let Some(colon) = bytes.iter().position(|b| *b == b':').filter(|colon| !keeps_its_colons(bytes, *colon)) else { break };
        let at = start + colon;
        if at > start {
            whole(text, start, at, seen_in(&text[start..at]), pieces);
        }
        push(pieces, at, at + 1, Kind::Mark(b':'));
        start = at + 1;
        seen = seen_in(&text[start..end]);
    }
    if start < end {
        whole(text, start, end, seen, pieces);
    }
}

#[inline]
fn seen_in(bytes: &[u8]) -> u16 {
    bytes.iter().fold(0, |seen, b| seen | class(*b))
}

/// Whether colons belong to what they stand in: a time, an address, a URL, a path.
fn keeps_its_colons(bytes: &[u8], first: usize) -> bool {
    let (before, after) = (&bytes[..first], &bytes[first + 1..]);
    let in_address = |b: &u8| b.is_ascii_hexdigit() || matches!(b, b':' | b'.' | b'%' | b'-' | b'+' | b'T' | b'Z' | b',');
    after.starts_with(b"//")
        || (before.len() == 1 && after.first() == Some(&b'\\'))
        || (bytes.iter().all(in_address) && bytes.iter().any(u8::is_ascii_digit))
        || (!after.is_empty() && after.iter().all(u8::is_ascii_digit) && (before.contains(&b'.') || before.iter().any(u8::is_ascii_digit)))
}

/// A piece that is not cut further.
fn whole(text: &[u8], start: usize, end: usize, seen: u16, pieces: &mut Vec<Piece>) {
    let bytes = &text[start..end];
    let before = pieces.last().map_or(Kind::Word, |p| p.kind);
    let kind = if seen & DIGIT != 0 {
        // How often, or how wide, what stands before is.
        let is_factor = bytes[0] == b'*' && bytes.len() > 1 && bytes[1..].iter().all(u8::is_ascii_digit) && !pieces.is_empty();
        if is_factor { Kind::Unit } else { Kind::Var(with_digits(bytes, seen)) }
    } else if seen & JOINS != 0
        && let Some(sort) = joined(bytes, seen)
    {
        Kind::Var(sort)
    } else if before == Kind::Mark(b'=') && text.get(end) != Some(&b'=') {
        // The value of `key=value`, and no key itself.
        Kind::Var(Sort::Word)
    } else if seen & LETTER == 0 || bytes == b"_" {
        // Masked by somebody else.
        if bytes.len() > 1 && matches!(bytes[0], b'*' | b'#') && bytes.iter().all(|b| *b == bytes[0]) { Kind::Var(Sort::Word) } else { Kind::Mark(bytes[0]) }
    } else if matches!(before, Kind::Var(Sort::Integer | Sort::Number | Sort::Amount)) && is_unit(bytes) {
        Kind::Unit
    } else {
        Kind::Word
    };
    push(pieces, start, end, kind);
}

fn is_unit(bytes: &[u8]) -> bool {
    matches!(
        bytes,
        b"B" | b"KB"
            | b"MB"
            | b"GB"
            | b"TB"
            | b"kB"
            | b"KiB"
            | b"MiB"
            | b"GiB"
            | b"byte"
            | b"bytes"
            | b"s"
            | b"ms"
            | b"us"
            | b"ns"
            | b"sec"
            | b"secs"
            | b"second"
            | b"seconds"
            | b"msec"
            | b"min"
            | b"mins"
            | b"minutes"
            | b"hours"
            | b"days"
            | b"milliseconds"
    )
}

fn is_hex(bytes: &[u8]) -> bool {
    !bytes.is_empty() && bytes.iter().all(u8::is_ascii_hexdigit)
}

/// What has a digit in it.
fn with_digits(bytes: &[u8], seen: u16) -> Sort {
    if matches!(bytes[0], b'0'..=b'9' | b'-' | b'+' | b'<') {
        if let Some(sort) = number(bytes) {
            return sort;
        }
        if seen & (COLON | SLASH | DASH) != 0 && is_time(bytes) {
            return Sort::Time;
        }
    }
    let may_be_address = seen & (DOT | COLON | AT) != 0;
    if seen & SLASH != 0 {
        return if may_be_address && is_address(bytes.strip_prefix(b"/").unwrap_or(bytes)) { Sort::Address } else { Sort::Path };
    }
    match may_be_address && is_address(bytes) {
        true if seen & (LETTER | COLON | AT) == 0 => Sort::Ip,
        true => Sort::Address,
        false => Sort::Id,
    }
}

/// A number, if it is one.
fn number(bytes: &[u8]) -> Option<Sort> {
    let bare = bytes.strip_prefix(b"<").unwrap_or(bytes);
    let unsigned = bare.strip_prefix(b"-").or_else(|| bare.strip_prefix(b"+")).unwrap_or(bare);
    let digits = unsigned.iter().take_while(|b| b.is_ascii_digit()).count();
    if digits == 0 {
        return None;
    }
    let is_plain = bare.len() == bytes.len() && !bare.starts_with(b"+") && digits <= 18 && (digits == 1 || unsigned[0] != b'0');
    if digits == unsigned.len() {
        // Digits with zeros in front, or very many, are more often names than amounts.
        return Some(if is_plain {
            Sort::Integer
        } else if digits > 18 || unsigned[0] == b'0' {
            Sort::Id
        } else {
            Sort::Amount
        });
    }
    let fraction = match unsigned[digits..].strip_prefix(b".") {
        Some(behind) => 1 + behind.iter().take_while(|b| b.is_ascii_digit()).count(),
        None => 0,
    };
    let behind = &unsigned[digits + fraction..];
    match behind {
        _ if fraction == 1 => None,
        b"" => Some(if is_plain { Sort::Number } else { Sort::Amount }),
        _ if is_exponent(behind) => Some(if is_plain { Sort::Number } else { Sort::Amount }),
        b"%" => Some(Sort::Amount),
        _ if is_unit(behind) => Some(Sort::Amount),
        // `1,024`
        _ => {
            (fraction == 0 && behind.iter().all(|b| b.is_ascii_digit() || matches!(b, b',' | b'.'))).then_some(Sort::Amount).filter(|_| behind.contains(&b','))
        }
    }
}

fn is_exponent(bytes: &[u8]) -> bool {
    let Some((b'e' | b'E', rest)) = bytes.split_first() else { return false };
    let digits = rest.strip_prefix(b"-").or_else(|| rest.strip_prefix(b"+")).unwrap_or(rest);
    !digits.is_empty() && digits.len() <= 3 && digits.iter().all(u8::is_ascii_digit)
}

/// `10:04:31`, `10:04:31.250`, `2026-11-30`, `2026/11/30`, `2026-11-30T10:04:31Z`.
fn is_time(bytes: &[u8]) -> bool {
    let shape = |b: &u8| b.is_ascii_digit() || matches!(b, b':' | b'-' | b'/' | b'.' | b',' | b'T' | b'Z' | b'+');
    if bytes.len() < 5 || !bytes[0].is_ascii_digit() || !bytes.iter().all(shape) {
        return false;
    }
    let count = |wanted: u8| bytes.iter().filter(|b| **b == wanted).count();
    let is_date = |mark: u8| bytes.len() >= 8 && bytes[4] == mark && bytes[7] == mark && bytes[..4].iter().all(u8::is_ascii_digit);
    let is_clock =
        |bytes: &[u8]| bytes.len() >= 5 && bytes[2] == b':' && bytes[..2].iter().all(u8::is_ascii_digit) && bytes[3..5].iter().all(u8::is_ascii_digit);
    (is_clock(bytes) && count(b':') <= 2) || is_date(b'-') || is_date(b'/')
}

/// Addresses of four numbers, of eight groups, of hardware; with a port.
fn is_address(bytes: &[u8]) -> bool {
    let (host, port) = match bytes.iter().rposition(|b| *b == b':') {
        Some(colon) if bytes[..colon].contains(&b'.') => (&bytes[..colon], Some(&bytes[colon + 1..])),
        _ => (bytes, None),
    };
    if port.is_some_and(|port| port.is_empty() || !port.iter().all(u8::is_ascii_digit)) {
        return false;
    }
    let mut groups = 0;
    let four = host.split(|b| *b == b'.').all(|group| {
        groups += 1;
        (1..=3).contains(&group.len()) && group.iter().all(u8::is_ascii_digit)
    });
    if four && groups == 4 {
        return true;
    }
    // A name with a port, or with dots and a mailbox before them.
    let is_name = |host: &[u8]| host.contains(&b'.') && host.iter().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'-' | b'_'));
    if port.is_some() && is_name(host) {
        return true;
    }
    if let Some(at) = host.iter().position(|b| *b == b'@') {
        return at > 0 && is_name(&host[at + 1..]);
    }
    let colons = bytes.iter().filter(|b| **b == b':').count();
    colons >= 2 && bytes.split(|b| *b == b':').all(|group| group.len() <= 4 && (group.is_empty() || is_hex(group)))
}

/// What has no digit but a dot, a slash or the like in it.
fn joined(bytes: &[u8], seen: u16) -> Option<Sort> {
    if seen & SLASH != 0 {
        let slashes = bytes.iter().filter(|b| matches!(b, b'/' | b'\\')).count();
        if slashes >= 2 || matches!(bytes[0], b'/' | b'~' | b'.') || seen & DOT != 0 || bytes.contains(&b'\\') {
            return (bytes.len() > slashes).then_some(Sort::Path);
        }
    }
    (seen & (COLON | AT) != 0 && is_address(bytes)).then_some(Sort::Address)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn shown(text: &str) -> String {
        let mut pieces = Vec::new();
        cut(text.as_bytes(), &mut pieces);
        let piece = |p: &Piece| {
            let text = String::from_utf8_lossy(p.of(text.as_bytes())).into_owned();
            match p.kind {
                Kind::Word | Kind::Mark(_) => text,
                Kind::Var(sort) => format!("<{text} {sort:?}>"),
                Kind::Unit => format!("[{text}]"),
            }
        };
        pieces.iter().map(piece).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn messages_are_cut_where_a_reader_would() {
        for (text, pieces) in [
            ("gate 4 opens", "gate <4 Integer> opens"),
            ("took 12.5 ms, 3 KB", "took <12.5 Number> [ms] , <3 Integer> [KB]"),
            ("took 12ms, 5%, -3, +3, 007, 1e3", "took <12ms Amount> , <5% Amount> , <-3 Integer> , <+3 Amount> , <007 Id> , <1e3 Number>"),
            ("user=ann rhost=192.0.2.4  uid=0", "user = <ann Word> rhost = <192.0.2.4 Ip> uid = <0 Integer>"),
            ("from /192.0.2.4:50010 to desk.ferries.example:80", "from </192.0.2.4:50010 Address> to <desk.ferries.example:80 Address>"),
            ("at 10:04:31.250 on 2026-11-30", "at <10:04:31.250 Time> on <2026-11-30 Time>"),
            ("open /etc/ferry.conf and http://a.example/x?y=1", "open </etc/ferry.conf Path> and <http://a.example/x?y Path> = <1 Integer>"),
            ("read/write I/O", "read/write I/O"),
            ("blk_-162 and 0x1f and 3f2a9c", "<blk_-162 Id> and <0x1f Id> and <3f2a9c Id>"),
            ("Quay::moor: can't [tide]", "Quay : : moor : can't [ tide ]"),
            ("saw org.example.Ferry.", "saw org.example.Ferry ."),
            ("logname= uid=0 tty=a on = no", "logname = uid = <0 Integer> tty = <a Word> on = <no Word>"),
            ("\"GET /quay\" (done)", "\" GET </quay Path> \" ( done )"),
            ("<1 sec", "<<1 Amount> [sec]"),
            ("on **** ...", "on <**** Word> ..."),
            ("tag=\"two words\", n=\"\"", "tag = \" <two words Quoted> \" , n = \" \""),
            ("ferry.exe *64 - open", "ferry.exe [*64] - open"),
            ("ann@post.example waits", "<ann@post.example Address> waits"),
            ("C:\\ferry\\a.dll", "<C:\\ferry\\a.dll Path>"),
            ("1,024 of 3,4", "<1,024 Amount> of <3,4 Amount>"),
            ("fe80::1 and 02:42:ac:11:00:02", "<fe80::1 Address> and <02:42:ac:11:00:02 Address>"),
            ("", ""),
            ("---", "---"),
        ] {
            assert_eq!(shown(text), pieces, "{text}");
        }
    }

    #[test]
    fn any_bytes_are_cut_within_bounds() {
        let mut random = fastrand::Rng::with_seed(3);
        let mut pieces = Vec::new();
        for _ in 0..2_000 {
            let text: Vec<u8> =
                (0..random.usize(..3_000)).map(|_| if random.bool() { random.u8(..) } else { *random.choice(b"=:/.\\,<>[]\"' 09aZ@").unwrap() }).collect();
            let looked = cut(&text, &mut pieces);
            assert!(looked <= LONGEST && pieces.len() <= MOST_PIECES);
            let mut end = 0;
            for piece in &pieces {
                assert!(piece.start >= end && piece.end > piece.start && piece.end as usize <= looked, "in order, and none empty");
                end = piece.end;
            }
        }
    }
}
