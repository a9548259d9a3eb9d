//! Requests as they are sent, in protobuf, straight into lines: no record becomes a tree on the way.
//!
//! What records share (resource, scope) is read by the generated code, once for all of them. A record's own fields are slices of the request, and values are written as they are met.
//! Texts are looked at together, as they stand in the lines: one that is not UTF-8 makes those so, and only then is it looked for. Each alone would cost more.
//! The lines are those that [`crate::to_lines`] makes of the request once it is read; a test holds the two equal.

use opentelemetry_proto::tonic::common::v1::InstrumentationScope;
use opentelemetry_proto::tonic::resource::v1::Resource;
use prost::Message;
use rockrose_event::json::quote;

use crate::NotLines;
use crate::into_lines::{Broken, Lines, Record, Value, Writer, line, share_resource, share_scope};
use crate::value::{MAX_DEPTH, TOO_DEEP, write_bytes, write_double, write_int};

/// A field's content.
enum Content<'a> {
    Varint(u64),
    Eight([u8; 8]),
    Four([u8; 4]),
    Bytes(&'a [u8]),
}

/// The fields of one message, one after the other.
struct Fields<'a>(&'a [u8]);

impl<'a> Fields<'a> {
    #[inline(always)]
    fn varint(&mut self) -> Result<u64, Broken> {
        // Most are one byte.
        match self.0.split_first() {
            Some((byte, rest)) if *byte < 0x80 => {
                self.0 = rest;
                Ok(u64::from(*byte))
            }
            _ => self.long_varint(),
        }
    }

    fn long_varint(&mut self) -> Result<u64, Broken> {
        let mut value = 0u64;
        for (at, byte) in self.0.iter().enumerate().take(10) {
            value |= u64::from(byte & 0x7f) << (7 * at);
            if byte & 0x80 == 0 {
                // The tenth byte has room for one bit.
                if at == 9 && *byte > 1 {
                    return Err(Broken("a number is too large"));
                }
                self.0 = &self.0[at + 1..];
                return Ok(value);
            }
        }
        Err(Broken("a number is not terminated"))
    }

    #[inline]
    fn take<const N: usize>(&mut self) -> Result<[u8; N], Broken> {
        let (taken, rest) = self.0.split_first_chunk().ok_or(Broken("it ends within a field"))?;
        self.0 = rest;
        Ok(*taken)
    }

    /// The next field's number and content.
    #[inline(always)]
    fn next(&mut self) -> Result<Option<(u64, Content<'a>)>, Broken> {
        if self.0.is_empty() {
            return Ok(None);
        }
        let tag = self.varint()?;
        let content = match tag & 7 {
            0 => Content::Varint(self.varint()?),
            1 => Content::Eight(self.take()?),
            5 => Content::Four(self.take()?),
            2 => {
                let length = usize::try_from(self.varint()?).unwrap_or(usize::MAX);
                let (content, rest) = self.0.split_at_checked(length).ok_or(Broken("it ends within a field"))?;
                self.0 = rest;
                Content::Bytes(content)
            }
            _ => return Err(Broken("a field is of an unknown kind")),
        };
        if tag >> 3 == 0 || tag > u64::from(u32::MAX) {
            return Err(Broken("a field has no number"));
        }
        Ok(Some((tag >> 3, content)))
    }
}

impl<'a> Content<'a> {
    #[inline]
    fn bytes(self) -> Result<&'a [u8], Broken> {
        if let Content::Bytes(bytes) = self { Ok(bytes) } else { Err(WRONG) }
    }

    #[inline]
    fn varint(self) -> Result<u64, Broken> {
        if let Content::Varint(value) = self { Ok(value) } else { Err(WRONG) }
    }

    #[inline]
    fn eight(self) -> Result<[u8; 8], Broken> {
        if let Content::Eight(bytes) = self { Ok(bytes) } else { Err(WRONG) }
    }
}

const WRONG: Broken = Broken("a field is of another kind than it should be");
const NOT_UTF8: Broken = Broken("a text is not UTF-8");

/// A value as it stands in a request; none was given, or its bytes.
#[derive(Clone, Copy)]
struct Wire<'a>(Option<&'a [u8]>);

impl Value for Wire<'_> {
    fn write(self, out: &mut Vec<u8>) -> Result<(), Broken> {
        value(self.0, MAX_DEPTH, out)
    }
}

fn value(bytes: Option<&[u8]>, depth: usize, out: &mut Vec<u8>) -> Result<(), Broken> {
    // A text and nothing else, as most are.
    if let Some([0x0a, length @ 0..0x80, text @ ..]) = bytes
        && text.len() == usize::from(*length)
        && depth > 0
    {
        quote(text, out);
        return Ok(());
    }
    // Of several, the last holds.
    let mut last = None;
    let mut fields = Fields(bytes.unwrap_or_default());
    while let Some((number, content)) = fields.next()? {
        if (1..=8).contains(&number) {
            last = Some((number, content));
        }
    }
    let Some((number, content)) = last.filter(|(number, _)| *number != 8) else {
        out.extend_from_slice(b"null");
        return Ok(());
    };
    if depth == 0 {
        return Err(Broken(TOO_DEEP));
    }
    match number {
        1 => quote(content.bytes()?, out),
        2 => out.extend_from_slice(if content.varint()? != 0 { b"true" } else { b"false" }),
        3 => write_int(content.varint()? as i64, out),
        4 => write_double(f64::from_le_bytes(content.eight()?), out),
        5 => {
            out.push(b'[');
            let (mut fields, begun) = (Fields(content.bytes()?), out.len());
            while let Some((number, content)) = fields.next()? {
                if number == 1 {
                    if out.len() > begun {
                        out.push(b',');
                    }
                    value(Some(content.bytes()?), depth - 1, out)?;
                }
            }
            out.push(b']');
        }
        6 => {
            out.push(b'{');
            let (mut fields, begun) = (Fields(content.bytes()?), out.len());
            while let Some((number, content)) = fields.next()? {
                if number == 1 {
                    let (key, member) = key_value(content.bytes()?)?;
                    if out.len() > begun {
                        out.push(b',');
                    }
                    quote(key, out);
                    out.push(b':');
                    value(member.0, depth - 1, out)?;
                }
            }
            out.push(b'}');
        }
        _ => write_bytes(content.bytes()?, out),
    }
    Ok(())
}

#[inline]
fn key_value(bytes: &[u8]) -> Result<(&[u8], Wire<'_>), Broken> {
    // Written in the usual order, and short, as most are.
    if let [0x0a, length @ 0..0x80, rest @ ..] = bytes
        && let Some((key, [0x12, length @ 0..0x80, value @ ..])) = rest.split_at_checked(usize::from(*length))
        && value.len() == usize::from(*length)
    {
        return Ok((key, Wire(Some(value))));
    }
    let (mut key, mut value) = (&b""[..], None);
    let mut fields = Fields(bytes);
    while let Some((number, content)) = fields.next()? {
        match number {
            1 => key = content.bytes()?,
            2 => value = Some(content.bytes()?),
            _ => {}
        }
    }
    Ok((key, Wire(value)))
}

fn record<'a>(bytes: &'a [u8], attributes: &mut Vec<(&'a [u8], Wire<'a>)>) -> Result<Record<'a, Wire<'a>>, Broken> {
    attributes.clear();
    let mut record = Record::default();
    let mut fields = Fields(bytes);
    while let Some((number, content)) = fields.next()? {
        match number {
            1 => record.time = u64::from_le_bytes(content.eight()?),
            2 => record.severity_number = content.varint()? as i32,
            3 => record.severity_text = content.bytes()?,
            5 => record.body = Some(Wire(Some(content.bytes()?))),
            6 => attributes.push(key_value(content.bytes()?)?),
            8 => record.flags = if let Content::Four(flags) = content { u32::from_le_bytes(flags) } else { return Err(WRONG) },
            9 => record.trace_id = content.bytes()?,
            10 => record.span_id = content.bytes()?,
            11 => record.observed = u64::from_le_bytes(content.eight()?),
            12 => record.event_name = content.bytes()?,
            _ => {}
        }
    }
    Ok(record)
}

/// A message that several records share, and its schema's URL.
type SharedPart<'a, M> = Result<(M, &'a str), Broken>;

/// What the records under a message share, as far as it can be read, and the messages of the next level.
fn parts<'a, M: Message + Default>(bytes: &'a [u8], list: &mut Vec<&'a [u8]>) -> Result<SharedPart<'a, M>, Broken> {
    let (mut shared, mut schema) = (Ok(M::default()), &b""[..]);
    list.clear();
    let mut fields = Fields(bytes);
    while let Some((number, content)) = fields.next()? {
        match number {
            1 => {
                let bytes = content.bytes()?;
                shared = shared.and_then(|mut so_far| match so_far.merge(bytes) {
                    Ok(()) => Ok(so_far),
                    Err(_) => Err(Broken("what its record shares with others cannot be read")),
                });
            }
            2 => list.push(content.bytes()?),
            3 => schema = content.bytes()?,
            _ => {}
        }
    }
    Ok(shared.and_then(|shared| Ok((shared, simdutf8::basic::from_utf8(schema).map_err(|_| NOT_UTF8)?))))
}

/// Whether a message has a field of that number.
fn has(bytes: &[u8], wanted: u64) -> Result<bool, Broken> {
    let mut fields = Fields(bytes);
    while let Some((number, _)) = fields.next()? {
        if number == wanted {
            return Ok(true);
        }
    }
    Ok(false)
}

/// The records of a request in protobuf (`ExportLogsServiceRequest`) as JSON objects, a line each, of `max` bytes together at the most. Of a record that cannot be read, its bytes stand
/// there in base64.
///
/// # Errors
/// If the bytes are no request, or the lines are too many.
pub fn lines_of(request: &[u8], max: usize) -> Result<Lines, NotLines> {
    let mut out = Writer::new(request.len() * 2, max);
    let (mut shared, mut scopes, mut records, mut attributes) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let mut resources = Fields(request);
    while let Some((number, content)) = resources.next()? {
        if number != 1 {
            continue;
        }
        let resource: SharedPart<'_, Resource> = parts(content.bytes()?, &mut scopes)?;
        for of_scope in &scopes {
            let scope: SharedPart<'_, InstrumentationScope> = parts(of_scope, &mut records)?;
            let sharing = share(&resource, &scope, has(of_scope, 1)?, &mut shared);
            for bytes in &records {
                let write = |out: &mut Vec<u8>| {
                    sharing?;
                    let record = record(bytes, &mut attributes)?;
                    line(&record, &attributes, &shared, out)
                };
                out.record(write, |out| came(bytes, out))?;
            }
        }
    }
    let mut lines = out.finish();
    if simdutf8::basic::from_utf8(&lines.text).is_err() {
        tell_of_odd_texts(&mut lines);
    }
    Ok(lines)
}

/// What records have of their resource and scope.
fn share(resource: &SharedPart<'_, Resource>, scope: &SharedPart<'_, InstrumentationScope>, has_scope: bool, out: &mut Vec<u8>) -> Result<(), Broken> {
    out.clear();
    let (resource, resource_schema) = resource.as_ref().map_err(|e| *e)?;
    let (scope, schema) = scope.as_ref().map_err(|e| *e)?;
    share_resource(Some(resource), resource_schema, out)?;
    share_scope(Some(scope).filter(|_| has_scope), schema, out)
}

/// A record that cannot be read, as it came.
fn came(bytes: &[u8], out: &mut Vec<u8>) {
    out.extend_from_slice(b"{\"protobuf\":");
    write_bytes(bytes, out);
    out.push(b'}');
}

/// Notes the lines that are not UTF-8.
fn tell_of_odd_texts(lines: &mut Lines) {
    let split = lines.text.split(|b| *b == b'\n').enumerate();
    let odd = split.filter(|(_, line)| simdutf8::basic::from_utf8(line).is_err()).map(|(at, _)| (at as u32 + 1, NOT_UTF8.to_string()));
    lines.unreadable.extend(odd);
    lines.unreadable.sort_by_key(|(number, _)| *number);
}
