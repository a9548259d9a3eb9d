//! What a connection begins with: enough to tell a sender that speaks another protocol than the source.

/// A protocol, by the first bytes of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum SpokenProtocol {
    /// The first record of a TLS handshake.
    Tls,
    /// A request line of HTTP/1, or the preface of HTTP/2.
    Http,
    /// A syslog message, counted or not.
    Syslog,
    /// A JSON object or array.
    Json,
}

/// So many of a connection's first bytes tell its protocol.
pub(crate) const FIRST: usize = 24;

const METHODS: [&[u8]; 9] = [b"GET ", b"POST ", b"PUT ", b"HEAD ", b"DELETE ", b"OPTIONS ", b"PATCH ", b"CONNECT ", b"TRACE "];

const PREFACE: &[u8] = b"PRI * HTTP/2";

impl SpokenProtocol {
    /// Which it is, if it is one of those that are known. A request line need not be whole.
    pub(crate) fn of(first: &[u8]) -> Option<SpokenProtocol> {
        if let [0x16, 0x03, 0..=4, ..] = first {
            return Some(SpokenProtocol::Tls);
        }
        if first.starts_with(PREFACE) || METHODS.iter().any(|m| first.strip_prefix(*m).is_some_and(|rest| matches!(rest.first(), Some(b'/' | b'*' | b'h')))) {
            return Some(SpokenProtocol::Http);
        }
        let digits = |bytes: &[u8]| bytes.iter().take_while(|b| b.is_ascii_digit()).count();
        let counted = digits(first);
        let message = if counted > 0 && first.get(counted) == Some(&b' ') { &first[counted + 1..] } else { first };
        if let [b'<', rest @ ..] = message
            && (1..=3).contains(&digits(rest))
            && rest.get(digits(rest)) == Some(&b'>')
        {
            return Some(SpokenProtocol::Syslog);
        }
        matches!(first.trim_ascii_start(), [b'{' | b'[', ..]).then_some(SpokenProtocol::Json)
    }

    /// What came, in words.
    pub(crate) fn word(self) -> &'static str {
        match self {
            SpokenProtocol::Tls => "TLS",
            SpokenProtocol::Http => "HTTP",
            SpokenProtocol::Syslog => "syslog",
            SpokenProtocol::Json => "JSON without HTTP",
        }
    }
}

/// Whether so few bytes came that it can still become HTTP.
pub(crate) fn may_become_http(first: &[u8]) -> bool {
    METHODS.iter().chain([&PREFACE]).any(|begin| begin.starts_with(first))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn protocols_are_told_by_their_first_bytes() {
        for (first, protocol) in [
            (&b"\x16\x03\x01\x02\x00\x01"[..], Some(SpokenProtocol::Tls)),
            (b"GET / HTTP/1.1\r\n", Some(SpokenProtocol::Http)),
            (b"OPTIONS * HTTP/1.1\r\n", Some(SpokenProtocol::Http)),
            (b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", Some(SpokenProtocol::Http)),
            (b"<34>1 - gate", Some(SpokenProtocol::Syslog)),
            (b"17 <34>1 - gate", Some(SpokenProtocol::Syslog)),
            (b" {\"gate\":4}", Some(SpokenProtocol::Json)),
            (b"POST is shut", None),
            (b"<gate>", None),
            (b"17 tickets", None),
            (b"\x16", None),
            (b"", None),
        ] {
            assert_eq!(SpokenProtocol::of(first), protocol, "{}", String::from_utf8_lossy(first));
        }
        assert!([&b""[..], b"P", b"POS", b"POST ", b"PRI *"].iter().all(|few| may_become_http(few)));
        assert!([&b"p"[..], b"POSTS", b"\x16", b"POST is shut"].iter().all(|other| !may_become_http(other)));
    }
}
