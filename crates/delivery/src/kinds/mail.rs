//! Sends e-mail over SMTP (RFC 5321): the events that were gathered are one letter to all.
//!
//! A letter has a name of its own (its `Message-ID`), made of where its first event stands in the queue: one that is sent again, since its answer was lost, has the same.

use futures_util::future::BoxFuture;
use lettre::message::Mailbox;
use lettre::message::header::ContentType;
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, CertificateStore, Identity, Tls, TlsParameters};
use lettre::{AsyncSmtpTransport, AsyncTransport, Message, Tokio1Executor};
use rockrose_plan::{MailDestination, MailSafety};
use tokio_rustls::rustls::pki_types::CertificateDer;
use tokio_rustls::rustls::pki_types::pem::PemObject;

use super::letter::letter;
use crate::kind::{Failure, Gathering, Kind, Limits, OpenError, Outgoing, Outlet, Resolver, Taken, TlsError, all_written, deepest, one_line};
use crate::now_ms;
use crate::probe::Probe;

/// Most characters of what a mail server says that are told.
const WORDS: usize = 300;

/// A mail destination with its password.
#[derive(Clone, PartialEq, Eq)]
pub struct MailSettings {
    /// As the plan has it.
    pub mail: MailDestination,
    /// The password, if somebody signs in and it is kept.
    pub password: Option<String>,
    /// The name of the queue, which no other has.
    pub queue: String,
}

impl MailSettings {
    /// The settings of a plan, with the password.
    #[must_use]
    pub fn planned(mail: &MailDestination, resolver: &Resolver<'_>) -> MailSettings {
        let password = mail.sign_in.as_ref().and_then(|(_, name)| resolver.secret(name));
        MailSettings { mail: mail.clone(), password, queue: resolver.queue.to_owned() }
    }

    /// An e-mail address as it is written in the plan.
    fn mailbox(text: &str) -> Result<Mailbox, OpenError> {
        text.parse().map_err(|_| OpenError::Mailbox(text.to_owned()))
    }

    fn tls(&self) -> Result<Tls, OpenError> {
        let MailDestination { host, safety, tls, .. } = &self.mail;
        if *safety == MailSafety::Plain {
            return Ok(Tls::None);
        }
        let mut parameters = TlsParameters::builder(host.clone());
        if tls.ca_only {
            parameters = parameters.certificate_store(CertificateStore::None);
        }
        if let Some(path) = &tls.ca {
            let wrong = |source: Box<dyn std::error::Error + Send + Sync>| OpenError::Tls(TlsError::File { path: path.clone(), source });
            let pem = std::fs::read(path).map_err(|e| wrong(e.into()))?;
            parameters = parameters.add_root_certificate(Certificate::from_pem(&pem).map_err(|e| wrong(e.into()))?);
        }
        if let Some((certificate, key)) = &tls.client {
            let wrong = |path: &str, source: Box<dyn std::error::Error + Send + Sync>| TlsError::File { path: path.to_owned(), source };
            // The library takes these bytes for the certificate itself, whatever it calls them.
            let shown = CertificateDer::from_pem_file(certificate).map_err(|e| wrong(certificate, e.into()))?;
            let private = std::fs::read(key).map_err(|e| wrong(key, e.into()))?;
            parameters = parameters.identify_with(Identity::from_pem(&shown, &private).map_err(|e| wrong(key, e.into()))?);
        }
        let parameters = parameters.build_rustls().map_err(|e| OpenError::Mail(e.to_string()))?;
        Ok(if *safety == MailSafety::Tls { Tls::Wrapper(parameters) } else { Tls::Required(parameters) })
    }
}

struct MailOutlet {
    transport: AsyncSmtpTransport<Tokio1Executor>,
    from: Mailbox,
    to: Vec<Mailbox>,
    settings: MailSettings,
}

impl Kind for MailSettings {
    fn limits(&self) -> Limits<'_> {
        let gathers = Some(Gathering { bytes: self.mail.max_batch, every: self.mail.gather_for });
        Limits { max_batch: self.mail.max_batch as usize, parallel: false, gathers, file: None }
    }

    fn open(&self, _reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        let mail = &self.mail;
        let mut transport = AsyncSmtpTransport::<Tokio1Executor>::builder_dangerous(&mail.host).port(mail.port).tls(self.tls()?).timeout(Some(mail.timeout));
        if let (Some((user, _)), Some(password)) = (&mail.sign_in, &self.password) {
            transport = transport.credentials(Credentials::new(user.clone(), password.clone()));
        }
        let to = mail.to.iter().map(|to| MailSettings::mailbox(to)).collect::<Result<_, _>>()?;
        Ok(Box::new(MailOutlet { transport: transport.build(), from: MailSettings::mailbox(&mail.from)?, to, settings: self.clone() }))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(async move {
            let files = (self.mail.safety == MailSafety::Tls).then_some(&self.mail.tls);
            if probe.way_there(&self.mail.host, self.mail.port, files).await {
                probe.accept(self.open(None), "a test letter was accepted").await;
            }
        })
    }
}

impl Outlet for MailOutlet {
    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(async move {
            let message = self.message(&events)?;
            let patience = self.settings.mail.timeout;
            match tokio::time::timeout(patience, self.transport.send(message)).await {
                Ok(Ok(_)) => Ok(Taken::all()),
                Ok(Err(e)) => Err(self.failure(&e)),
                Err(_) => Err(Failure::later(format!("the mail server was not done within {} seconds", patience.as_secs_f64()))),
            }
        })
    }
}

impl MailOutlet {
    fn message(&self, events: &Outgoing<'_>) -> Result<Message, Failure> {
        let told = letter(&events.lines, self.settings.mail.subject.as_deref(), now_ms());
        all_written(told.events, events.events)?;
        let name = (events.origins)().first().map(|origin| format!("{}.{}.{}", self.settings.queue.replace('/', "."), origin.entry, origin.place));
        let name = name.map(|name| format!("<{name}@{}>", self.from.email.domain()));
        let message = self.to.iter().fold(Message::builder().from(self.from.clone()), |message, to| message.to(to.clone()));
        let message = message.message_id(name).subject(told.subject).header(ContentType::TEXT_PLAIN);
        message.body(told.text).map_err(|e| Failure::Refused(format!("it cannot be written as a letter: {e}")))
    }

    /// What a failure means for the events. What a server says for good of who signs in or of an address may be mended there, or in the plan: only the letter itself can be refused.
    fn failure(&self, e: &lettre::transport::smtp::Error) -> Failure {
        let secrets = self.settings.password.iter().map(String::as_str);
        let said = one_line(&deepest(e).to_string(), secrets, WORDS);
        let Some(code) = e.status().map(u16::from) else {
            let why = if e.is_timeout() { "the mail server did not answer in time".to_owned() } else { one_line(&e.to_string(), std::iter::empty(), 60) };
            let why = if said.is_empty() || why.contains(&said) { why } else { format!("{why}: {said}") };
            return Failure::later(why);
        };
        let why = if said.is_empty() { format!("answered {code}") } else { format!("answered {code}: {said}") };
        match code {
            552 => Failure::TooLarge(why),
            554 => Failure::Refused(why),
            _ => Failure::later(why),
        }
    }
}
