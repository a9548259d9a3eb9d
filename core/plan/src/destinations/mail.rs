//! `kind = "mail"`: events are sent as e-mail.

use std::time::Duration;

use rockrose_language::Mistake;

use super::tls::{self, CONNECTED, PASSWORD, TlsFiles, USER};
use super::{DestinationSection, PlannedDestination};
use crate::checker::{Checker, SecretName};
use crate::keys::{Key, Shape, key, needed};
use crate::section::{At, Raw};

/// How long events are gathered for one letter, where nothing is said.
const GATHERED: Duration = Duration::from_secs(10);
/// Longest time for which they may be.
const LONGEST: Duration = Duration::from_secs(86_400);

/// A destination that gets e-mail.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MailDestination {
    /// The mail server's host.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// How the connection is made safe.
    pub safety: MailSafety,
    /// Who signs in, and the secret with the password.
    pub sign_in: Option<(String, SecretName)>,
    /// From whom it is.
    pub from: String,
    /// To whom it goes.
    pub to: Vec<String>,
    /// What stands before each subject.
    pub subject: Option<String>,
    /// For so long events are gathered for one letter.
    pub gather_for: Duration,
    /// Certificates.
    pub tls: TlsFiles,
    /// How long an answer may take.
    pub timeout: Duration,
    /// Most bytes of events in one letter.
    pub max_batch: u64,
}

/// How a connection to a mail server is made safe.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MailSafety {
    /// By TLS from its beginning (RFC 8314).
    Tls,
    /// By `STARTTLS`, before anything else is said (RFC 3207).
    StartTls,
    /// Not at all.
    Plain,
}

impl PlannedDestination for MailDestination {
    const WORD: &'static str = "mail";
    const EXAMPLE: &'static str = "server = \"smtps://mail.ferries.example:465\"\n\
        from = \"Rockrose <rockrose@ferries.example>\"\n\
        to = [\"duty@ferries.example\"]\n\
        # user = \"rockrose\"\n\
        # password = { secret = \"NAME\" }\n";
    const KEYS: &'static [&'static [Key]] = &[
        &[
            needed("server", Shape::Text, "The mail server: `smtps://HOST:PORT` (TLS), or `smtp://HOST:PORT` (made safe by STARTTLS)."),
            key("unprotected", Shape::Truth, "Whether an `smtp` server is spoken to without STARTTLS. Not, if left out."),
            USER,
            PASSWORD,
            needed("from", Shape::Text, "From whom it is: `rockrose@ferries.example`, or `Rockrose <rockrose@ferries.example>`."),
            needed("to", Shape::Texts, "To whom it goes."),
            key("subject", Shape::Text, "What stands before each subject."),
            key("gather_for", Shape::Duration, "For so long events are gathered for one letter. 10 seconds if left out."),
        ],
        CONNECTED,
    ];

    fn read(c: &mut Checker<'_>, DestinationSection { section, .. }: DestinationSection<'_>) -> Option<MailDestination> {
        let is_unprotected = matches!(section.get("unprotected"), Some(At { value: Raw::Truth(true), .. }));
        let server = section.text("server");
        let parts = server.as_ref().and_then(|server| parts(server.value));
        if let (Some(server), None) = (&server, &parts) {
            let mistake = Mistake::new(server.at.clone(), format!("`{}` is no mail server", server.value));
            c.mistakes.push(mistake.expected("`smtps://HOST:PORT` or `smtp://HOST:PORT`"));
        }
        let mailbox = |written: At<&str>, c: &mut Checker<'_>| {
            if !is_mailbox(written.value) {
                let mistake = Mistake::new(written.at, format!("`{}` is no e-mail address", written.value));
                c.mistakes.push(mistake.expected("`duty@ferries.example`, or `Duty <duty@ferries.example>`"));
            }
            written.value.to_owned()
        };
        let from = section.text("from").map(|from| mailbox(from, c));
        let to: Vec<String> = section.texts("to").iter().map(|to| mailbox(At { value: to.value.as_str(), at: to.at.clone() }, c)).collect();
        if let Some(empty) = section.get("to").filter(|_| to.is_empty()) {
            c.mistakes.push(Mistake::new(empty.at.clone(), "nobody gets it").expected("at least one e-mail address"));
        }
        let sign_in = match (section.text("user"), section.secret("password")) {
            (Some(user), Some(password)) => {
                if is_unprotected {
                    let mistake = Mistake::new(password.at.clone(), "the password would be sent unprotected");
                    c.mistakes.push(mistake.expected("a connection that is made safe, or no sign-in"));
                }
                Some((user.value.to_owned(), SecretName(password.value.clone())))
            }
            (None, None) => None,
            (Some(At { at, .. }), None) => {
                c.mistakes.push(Mistake::new(at, "somebody signs in with a password").expected("both `user` and `password`"));
                None
            }
            (None, Some(At { at, .. })) => {
                c.mistakes.push(Mistake::new(at.clone(), "a password is somebody's").expected("both `user` and `password`"));
                None
            }
        };
        let gather_for = c.duration_up_to(section, "gather_for", GATHERED, LONGEST);
        let (tls, timeout, max_batch) = (tls::tls(c, section), tls::timeout(c, section), tls::max_batch(c, section));
        let (is_tls, host, port) = parts?;
        if is_tls && is_unprotected {
            let at = section.get("unprotected").map(|u| u.at.clone()).unwrap_or_default();
            c.mistakes.push(Mistake::new(at, "an `smtps` server is always made safe").expected("an `smtp` server, or no `unprotected`"));
        }
        let safety = match (is_tls, is_unprotected) {
            (true, _) => MailSafety::Tls,
            (false, false) => MailSafety::StartTls,
            (false, true) => MailSafety::Plain,
        };
        let subject = section.text("subject").map(|subject| subject.value.to_owned());
        Some(MailDestination { host, port, safety, sign_in, from: from?, to, subject, gather_for, tls, timeout, max_batch })
    }

    fn caveat(&self) -> Option<&'static str> {
        Some("delivered means accepted by the mail server: whether a letter was read, or found its mailbox, is not known")
    }

    fn secrets(&self) -> Vec<&SecretName> {
        self.sign_in.iter().map(|(_, password)| password).collect()
    }

    fn files(&self) -> Vec<&str> {
        self.tls.files()
    }

    fn hosts(&self) -> Vec<String> {
        vec![self.address()]
    }

    fn address(&self) -> String {
        format!("{}:{}", self.host, self.port)
    }
}

/// Whether a text can be an e-mail address, with or without a name before it. The mail server knows better.
fn is_mailbox(text: &str) -> bool {
    let inner = match text.split_once('<') {
        Some((_, rest)) => rest.strip_suffix('>').unwrap_or_default(),
        None => text,
    };
    let good = |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_graphic() && !b"<>()[],;:\\\"@ ".contains(&b));
    !text.contains(char::is_control) && inner.split_once('@').is_some_and(|(user, host)| good(user) && good(host))
}

/// `smtps://host:port`: whether it is safe from its beginning, and the rest.
fn parts(written: &str) -> Option<(bool, String, u16)> {
    let (scheme, rest) = written.split_once("://")?;
    let is_tls = match scheme {
        "smtps" => true,
        "smtp" => false,
        _ => return None,
    };
    let (host, port) = rest.rsplit_once(':')?;
    let good = !host.is_empty() && host.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b'_'));
    Some((is_tls, host.to_owned(), port.parse().ok().filter(|p| *p > 0)?)).filter(|_| good)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{CheckedPlan, DestinationKind, Report};

    fn read(lines: &str) -> Result<MailDestination, Vec<Report>> {
        let plan = CheckedPlan::read(&format!("[destination.duty]\nkind = \"mail\"\n{lines}\n"))?;
        let DestinationKind::Mail(mail) = &plan.destinations[0].kind else { panic!("{lines}") };
        Ok(mail.clone())
    }

    const WHO: &str = "from = 'a@b.example'\nto = ['Duty <c@d.example>']";

    #[test]
    fn mail_is_read_and_its_mistakes_pointed_at() {
        let mail = read(&format!("server = 'smtps://mail.ferries.example:465'\nuser = 'rockrose'\npassword = {{ secret = 'mail' }}\n{WHO}")).unwrap();
        assert_eq!((mail.safety, mail.host.as_str(), mail.port, mail.gather_for), (MailSafety::Tls, "mail.ferries.example", 465, GATHERED));
        assert_eq!(mail.hosts(), ["mail.ferries.example:465"]);
        assert_eq!(read(&format!("server = 'smtp://mail:587'\n{WHO}")).unwrap().safety, MailSafety::StartTls);
        assert_eq!(read(&format!("server = 'smtp://mail:25'\nunprotected = true\n{WHO}")).unwrap().safety, MailSafety::Plain);
        let server = "server = 'smtp://mail:587'";
        for (lines, says) in [
            (format!("server = 'mail:25'\n{WHO}"), "`mail:25` is no mail server"),
            (format!("server = 'smtp://a@mail:25'\n{WHO}"), "is no mail server"),
            (format!("{server}\nfrom = 'a'\nto = ['c@d.example']"), "`a` is no e-mail address"),
            (format!("{server}\nfrom = 'a@b.example'\nto = ['c@d', 'e f@g']"), "`e f@g` is no e-mail address"),
            (format!("{server}\nfrom = 'a@b.example'\nto = [\"c@d\\nBcc: x@y\"]"), "is no e-mail address"),
            (format!("{server}\nfrom = 'a@b.example'\nto = []"), "nobody gets it"),
            (format!("{server}\nuser = 'a'\n{WHO}"), "somebody signs in with a password"),
            (format!("{server}\npassword = {{ secret = 'a' }}\n{WHO}"), "a password is somebody's"),
            (format!("{server}\nunprotected = true\nuser = 'a'\npassword = {{ secret = 'a' }}\n{WHO}"), "would be sent unprotected"),
            (format!("server = 'smtps://mail:465'\nunprotected = true\n{WHO}"), "always made safe"),
            (WHO.to_owned(), "needs `server`"),
        ] {
            let reports = read(&lines).unwrap_err();
            assert!(reports.iter().any(|r| r.message.contains(says)), "{lines}: {reports:?}");
        }
    }
}
