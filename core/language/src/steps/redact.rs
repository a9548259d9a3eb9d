//! `redact email, card keep last 4 in message`.

use std::fmt::{self, Display, Formatter};

use rockrose_event::field::{Path, write_quoted};

use super::StepKind;
use crate::cursor::{Cursor, Outcome};
use crate::list::{listed, write_list};
use crate::mistake::{Mistake, nearest};
use crate::pattern::Pattern;

/// Masks what must not be seen.
#[derive(Clone, Debug, PartialEq)]
pub struct Redact {
    /// What to look for, each with its mask.
    pub what: Vec<Redaction>,
    /// Where to look; empty: in all text and numbers of the event.
    pub fields: Vec<Path>,
}

/// One thing to redact and how it is masked.
#[derive(Clone, Debug, PartialEq)]
pub struct Redaction {
    /// What is looked for.
    pub what: What,
    /// What stands there afterwards.
    pub mask: Mask,
}

/// What a redaction looks for.
#[derive(Clone, Debug, PartialEq)]
pub enum What {
    /// A built-in detector.
    Detector(Detector),
    /// Whatever a regular expression finds; its groups, where it has any.
    Pattern(Pattern),
    /// The whole value of a field.
    Field(Path),
}

/// A built-in detector of personal data or secrets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Detector {
    /// E-mail addresses (RFC 5322 dot-atoms, with a domain of two labels or more).
    Email,
    /// Payment card numbers: 13 to 19 digits, alone or in groups, that pass the Luhn check (ISO/IEC 7812-1).
    Card,
    /// International bank account numbers, with their check digits (ISO 13616).
    Iban,
    /// Telephone numbers in the international and common national writings.
    Phone,
    /// National identity numbers written in groups of three, two and four digits.
    NationalId,
    /// IPv4 addresses.
    Ipv4,
    /// IPv6 addresses.
    Ipv6,
    /// Hardware addresses of six bytes.
    Mac,
    /// Bearer tokens, JSON web tokens, API keys in their known forms, and what stands behind words such as `api_key=`.
    Secret,
    /// The password of a name and password in a URL.
    UrlPassword,
    /// Private keys in PEM.
    PrivateKey,
}

impl Detector {
    /// All detectors, in the order in which messages name them.
    pub const ALL: [Detector; 11] = [
        Detector::Email,
        Detector::Card,
        Detector::Iban,
        Detector::Phone,
        Detector::NationalId,
        Detector::Ipv4,
        Detector::Ipv6,
        Detector::Mac,
        Detector::Secret,
        Detector::UrlPassword,
        Detector::PrivateKey,
    ];

    /// The word for it in sentences.
    #[must_use]
    pub fn word(self) -> &'static str {
        ["email", "card", "iban", "phone", "national_id", "ipv4", "ipv6", "mac", "secret", "url_password", "private_key"][self as usize]
    }
}

/// What stands in place of a redacted value.
#[derive(Clone, Debug, PartialEq)]
pub enum Mask {
    /// `***`
    Stars,
    /// `***` and the last N characters; separators do not count and do not stay.
    KeepLast(usize),
    /// The first N characters and `***`; separators do not count and do not stay.
    KeepFirst(usize),
    /// A given text.
    With(String),
    /// A keyed hash, so that equal values stay joinable.
    Hash,
}

impl StepKind for Redact {
    const VERB: &'static str = "redact";

    fn parse(c: &mut Cursor<'_>) -> Outcome<Redact> {
        let what = c.list(redactions)?.concat();
        let at = c.here();
        let fields = if c.words("in") { c.list(|c| c.path("a field to look in"))? } else { Vec::new() };
        if !fields.is_empty() && what.iter().any(|r| matches!(r.what, What::Field(_))) {
            let mistake = Mistake::new(at, "a whole field is redacted here, so there is nothing to look in").expected("the fields on their own, without `in`");
            // Or it was meant as a detector.
            let meant = Redact { what, fields }.fields_meant_as_detectors().next().map(|(_, detectors)| format!("redact {detectors} in …"));
            return Err(Mistake { nearest: meant, ..mistake });
        }
        Ok(Redact { what, fields })
    }

    fn explain(&self) -> String {
        let parts = self.what.iter().map(|r| {
            let what = match &r.what {
                What::Detector(d) => d.in_words().to_owned(),
                What::Pattern(p) => format!("what {p} finds (its groups, if it has any)"),
                What::Field(path) => format!("the whole value of {path}"),
            };
            format!("{what} {}", r.mask.in_words())
        });
        let parts = parts.collect::<Vec<_>>().join("; ");
        if self.what.iter().all(|r| matches!(r.what, What::Field(_))) {
            return format!("Masks {parts}.");
        }
        let place =
            if self.fields.is_empty() { "anywhere in the event, names and numbers included".to_owned() } else { format!("in {}", listed(&self.fields)) };
        format!("Masks, {place}: {parts}.")
    }

    fn reads(&self, out: &mut Vec<Path>) {
        out.extend_from_slice(&self.fields);
        out.extend(self.what.iter().filter_map(|r| if let What::Field(path) = &r.what { Some(path.clone()) } else { None }));
    }

    fn writes(&self) -> Option<Vec<&Path>> {
        let looks_everywhere = self.fields.is_empty() && self.what.iter().any(|r| !matches!(r.what, What::Field(_)));
        let named = self.what.iter().filter_map(|r| if let What::Field(path) = &r.what { Some(path) } else { None });
        (!looks_everywhere).then(|| self.fields.iter().chain(named).collect())
    }
}

/// The word for all detectors together.
const ALL: &str = "all";

/// What people call what detectors find, and the detectors. Each may also be the name of a field.
const NEAR_DETECTORS: &[(&[&str], &str)] = &[
    (&["mail", "e_mail", "email_address", "emails"], "email"),
    (&["credit_card", "creditcard", "cc", "pan", "card_number", "cards"], "card"),
    (&["bank_account", "account_number"], "iban"),
    (&["phone_number", "phonenumber", "telephone", "tel", "mobile", "phones"], "phone"),
    (&["ssn", "social_security", "social_security_number", "nino"], "national_id"),
    (&["ip", "ips", "ip_address", "ipaddress", "ip_addresses"], "ipv4, ipv6"),
    (&["mac_address", "macaddress"], "mac"),
    (&["token", "tokens", "api_key", "apikey", "password", "passwords", "passwd", "secrets", "credentials", "jwt"], "secret"),
    (&["pii", "personal_data", "everything", "sensitive"], ALL),
];

impl Redact {
    /// What is doubtful in the sentence `text` that this was read from: a word that is taken as a field and may well have been meant as a detector.
    #[must_use]
    pub fn doubts(&self, text: &str) -> Vec<Mistake> {
        let doubt = |(name, detectors): (&String, &'static str)| {
            // In quotes it is meant as a field.
            let at = text.match_indices(name.as_str()).find(|(at, _)| !text[..*at].ends_with('"')).map(|(at, _)| at)?;
            let message = format!("`{name}` is redacted as the field of that name; such values stay wherever else they stand");
            let expected = format!("`\"{name}\"` where the field is meant, or the detector");
            Some(Mistake { nearest: Some(detectors.to_owned()), ..Mistake::new(at..at + name.len(), message).expected(expected) })
        };
        self.fields_meant_as_detectors().filter_map(doubt).collect()
    }

    /// Fields whose names people give to what a detector finds, and that detector.
    fn fields_meant_as_detectors(&self) -> impl Iterator<Item = (&String, &'static str)> {
        let fields = self
            .what
            .iter()
            .filter_map(|r| if let What::Field(path) = &r.what { path.segments().first().filter(|_| path.segments().len() == 1) } else { None });
        let near = |name: &'_ String| {
            let folded = name.to_ascii_lowercase().replace('-', "_");
            NEAR_DETECTORS.iter().find(|(names, _)| names.contains(&folded.as_str())).map(|(_, detectors)| *detectors)
        };
        fields.filter_map(move |name| near(name).map(|detectors| (name, detectors)))
    }
}

/// What stands between two commas: one thing to redact, or what all detectors find.
fn redactions(c: &mut Cursor<'_>) -> Outcome<Vec<Redaction>> {
    if c.written() == ALL {
        c.words(ALL);
        let mask = mask(c)?;
        return Ok(Detector::ALL.map(|detector| Redaction { what: What::Detector(detector), mask: mask.clone() }).into());
    }
    let what = what(c)?;
    Ok(vec![Redaction { what, mask: mask(c)? }])
}

fn mask(c: &mut Cursor<'_>) -> Outcome<Mask> {
    let mask = if c.words("keep") {
        let first = c.words("first");
        if !first && !c.words("last") {
            return c.unexpected("`last` or `first`", &["last", "first"]);
        }
        let count = c.count("how many characters to keep")? as usize;
        if first { Mask::KeepFirst(count) } else { Mask::KeepLast(count) }
    } else if c.words("with") {
        Mask::With(c.quoted("a text in quotes")?)
    } else if c.words("as") {
        c.need_words("hash")?;
        Mask::Hash
    } else {
        Mask::Stars
    };
    Ok(mask)
}

fn what(c: &mut Cursor<'_>) -> Outcome<What> {
    if c.rest().starts_with('/') {
        return c.grouped_pattern().map(What::Pattern);
    }
    if let Some(detector) = Detector::ALL.into_iter().find(|d| c.written() == d.word()) {
        c.words(detector.word());
        return Ok(What::Detector(detector));
    }
    c.offers(&Detector::ALL.map(Detector::word));
    let at = c.here();
    let words: Vec<_> = Detector::ALL.iter().map(|d| format!("`{}`", d.word())).collect();
    let expected = format!("a detector ({}, or `all` of them), a regular expression between slashes, or a field", words.join(", "));
    let quoted = c.rest().starts_with('"');
    let path = c.path(&expected)?;
    if !quoted
        && let [word] = path.segments()
        && let Some(near) = nearest(word, Detector::ALL.map(Detector::word))
    {
        return Err(Mistake::new(at, format!("`{word}` is no detector"))
            .expected(format!("{expected}; a field of that name is written \"{word}\""))
            .near(word, [near]));
    }
    Ok(What::Field(path))
}

impl Detector {
    fn in_words(self) -> &'static str {
        match self {
            Detector::Email => "e-mail addresses",
            Detector::Card => "payment card numbers",
            Detector::Iban => "bank account numbers (IBAN)",
            Detector::Phone => "telephone numbers",
            Detector::NationalId => "national identity numbers",
            Detector::Ipv4 => "IPv4 addresses",
            Detector::Ipv6 => "IPv6 addresses",
            Detector::Mac => "hardware addresses",
            Detector::Secret => "tokens, API keys and passwords",
            Detector::UrlPassword => "passwords in URLs",
            Detector::PrivateKey => "private keys",
        }
    }
}

impl Mask {
    fn in_words(&self) -> String {
        match self {
            Mask::Stars => "by ***".to_owned(),
            Mask::KeepLast(n) => format!("but for the last {n} characters"),
            Mask::KeepFirst(n) => format!("but for the first {n} characters"),
            Mask::With(text) => format!("by `{text}`"),
            Mask::Hash => "by a keyed hash, the same for the same value".to_owned(),
        }
    }
}

impl Display for Redact {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str("redact ")?;
        write_list(f, &self.what, ", ")?;
        if !self.fields.is_empty() {
            f.write_str(" in ")?;
            write_list(f, &self.fields, ", ")?;
        }
        Ok(())
    }
}

impl Display for Redaction {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match &self.what {
            What::Detector(detector) => f.write_str(detector.word())?,
            What::Pattern(pattern) => pattern.fmt(f)?,
            What::Field(path) => match path.segments() {
                // A field whose name is (nearly) a detector's is told from it by its quotes.
                [only] if only == ALL || nearest(only, Detector::ALL.map(Detector::word)).is_some() => write_quoted(f, only)?,
                _ => path.fmt(f)?,
            },
        }
        match &self.mask {
            Mask::Stars => Ok(()),
            Mask::KeepLast(n) => write!(f, " keep last {n}"),
            Mask::KeepFirst(n) => write!(f, " keep first {n}"),
            Mask::With(text) => {
                f.write_str(" with ")?;
                write_quoted(f, text)
            }
            Mask::Hash => f.write_str(" as hash"),
        }
    }
}
