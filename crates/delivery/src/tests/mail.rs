//! E-mail: to the stand-in, over connections that are made safe in either way, to servers that refuse, hang or say odd things.

use rockrose_plan::{MailDestination, MailSafety, SecretName, TlsFiles};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

use super::*;
use crate::tests::certificates::make;

fn to(address: SocketAddr, safety: MailSafety) -> MailSettings {
    MailSettings {
        mail: MailDestination {
            host: if safety == MailSafety::Plain { address.ip().to_string() } else { "localhost".into() },
            port: address.port(),
            safety,
            sign_in: None,
            from: "Rockrose <rockrose@ferries.example>".into(),
            to: vec!["duty@ferries.example".into(), "Ann <ann@ferries.example>".into()],
            subject: Some("Saltmarsh".into()),
            gather_for: Duration::from_millis(300),
            tls: TlsFiles::default(),
            timeout: Duration::from_millis(500),
            max_batch: 100_000,
        },
        password: None,
        queue: "aa/d".into(),
    }
}

fn signing_in(settings: MailSettings, password: &str) -> MailSettings {
    let mail = MailDestination { sign_in: Some(("rockrose".into(), SecretName("mail".into()))), ..settings.mail };
    MailSettings { mail, password: Some(password.to_owned()), ..settings }
}

fn events() -> Vec<String> {
    ["{\"severity\":\"warn\",\"message\":\"Tänsy Quay is slow\"}", "{\"severity\":\"error\",\"message\":\"Lowmere is down\",\"advice\":\"Call.\"}"]
        .map(str::to_owned)
        .to_vec()
}

#[tokio::test]
async fn what_is_gathered_is_one_letter_to_all_and_a_letter_has_one_name() {
    let p = place();
    let kept = p.out.with_file_name("kept.txt");
    std::fs::create_dir_all(kept.parent().unwrap()).unwrap();
    let settings = standin::StandIn { speaks: standin::Speaks::Mail, into: Some(kept.clone()), token: Some("sandpiper".into()), ..Default::default() };
    let (address, _stop) = stand_in(settings, "127.0.0.1:0").await;
    let w = worker(&p, signing_in(to(address, MailSafety::Plain), "sandpiper"));
    queue(&p.spool, "d", &events()).await;
    until("both are sent", || drained(&p.spool, "d")).await;
    let letter = std::fs::read_to_string(&kept).unwrap();
    let name = letter.lines().find(|l| l.starts_with("Message-ID: ")).unwrap().to_owned();
    assert!(name.starts_with("Message-ID: <aa.d.") && name.ends_with("@ferries.example>"), "{name}");
    assert_eq!(
        letter.replace(&format!("{name}\n"), ""),
        "From: Rockrose <rockrose@ferries.example>\nTo: duty@ferries.example, Ann <ann@ferries.example>\nSubject: Saltmarsh [error] Lowmere is down (and 1 more)\n\n\
         warn\nTänsy Quay is slow\n    severity: warn\n\nerror\nLowmere is down\n    advice: Call.\n    severity: error\n\n"
    );
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_wrong_password_waits_and_never_shows() {
    let p = place();
    let settings = standin::StandIn { speaks: standin::Speaks::Mail, token: Some("right".into()), ..Default::default() };
    let (address, _stop) = stand_in(settings, "127.0.0.1:0").await;
    let w = worker(&p, signing_in(to(address, MailSafety::Plain), "sandpiper"));
    queue(&p.spool, "d", &events()).await;
    until("it fails", || w.health().get().failures >= 1).await;
    let error = w.health().get().last_error.unwrap();
    assert!(error.contains("answered 535") && !error.contains("sandpiper"), "{error}");
    assert_eq!(p.spool.waiting()["d"].amount.events, 2);
    w.stop(Duration::from_secs(5)).await;
}

#[tokio::test]
async fn a_letter_that_is_refused_for_good_is_set_aside_alone() {
    let p = place();
    let kept = p.out.with_file_name("kept.txt");
    std::fs::create_dir_all(kept.parent().unwrap()).unwrap();
    let settings = standin::StandIn { speaks: standin::Speaks::Mail, into: Some(kept.clone()), refuse_text: Some("Lowmere".into()), ..Default::default() };
    let (address, _stop) = stand_in(settings, "127.0.0.1:0").await;
    let w = worker(&p, to(address, MailSafety::Plain));
    queue(&p.spool, "d", &events()).await;
    until("it is done", || drained(&p.spool, "d")).await;
    let aside = p.spool.quarantined(10).await.unwrap();
    assert_eq!(aside.len(), 1);
    assert!(aside[0].reason.contains("answered 554") && aside[0].data == events()[1].as_bytes(), "{aside:?}");
    assert!(std::fs::read_to_string(&kept).unwrap().contains("Tänsy Quay is slow"));
    w.stop(Duration::from_secs(5)).await;
}

/// Makes connections safe and hands them on to `behind`, at once or after `STARTTLS`.
async fn safe(listener: TcpListener, acceptor: tokio_rustls::TlsAcceptor, behind: SocketAddr, starttls: bool) {
    while let Ok((stream, _)) = listener.accept().await {
        let acceptor = acceptor.clone();
        tokio::spawn(async move {
            let mut stream = BufReader::new(stream);
            if starttls {
                stream.write_all(b"220 ready\r\n").await?;
                let mut said = String::new();
                stream.read_line(&mut said).await?;
                stream.write_all(b"250-here\r\n250 STARTTLS\r\n").await?;
                said.clear();
                stream.read_line(&mut said).await?;
                if said != "STARTTLS\r\n" {
                    return Err(std::io::Error::other(said));
                }
                stream.write_all(b"220 go on\r\n").await?;
            }
            let mut safe = acceptor.accept(stream.into_inner()).await?;
            let mut inner = BufReader::new(TcpStream::connect(behind).await?);
            if starttls {
                let mut greeting = String::new();
                inner.read_line(&mut greeting).await?;
            }
            tokio::io::copy_bidirectional(&mut safe, &mut inner).await
        });
    }
}

#[tokio::test]
async fn connections_are_made_safe_in_either_way_and_only_with_a_good_certificate() {
    for (safety, starttls) in [(MailSafety::Tls, false), (MailSafety::StartTls, true)] {
        for (until_year, is_good) in [(2090, true), (2021, false)] {
            let p = place();
            let made = make(p.out.parent().unwrap().parent().unwrap(), (until_year, 1, 1));
            let settings = standin::StandIn { speaks: standin::Speaks::Mail, ..Default::default() };
            let (behind, _stop) = stand_in(settings, "127.0.0.1:0").await;
            let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
            let address = listener.local_addr().unwrap();
            tokio::spawn(safe(listener, made.acceptor.clone(), behind, starttls));
            let mut settings = to(address, safety);
            settings.mail.tls = TlsFiles { ca_only: true, ..made.files };
            settings.mail.timeout = Duration::from_secs(5);
            let w = worker(&p, settings);
            queue(&p.spool, "d", &events()).await;
            if is_good {
                until("it is sent", || drained(&p.spool, "d") || w.health().get().failures > 0).await;
                assert_eq!(w.health().get().last_error, None);
            } else {
                until("it fails", || w.health().get().failures >= 1).await;
                let error = w.health().get().last_error.unwrap().to_lowercase();
                assert!(error.contains("certificate") && error.contains("expired"), "{safety:?}: {error}");
            }
            w.stop(Duration::from_secs(5)).await;
        }
    }
}

#[tokio::test]
async fn a_server_that_does_not_make_it_safe_hangs_or_talks_nonsense_is_told_of_and_tried_again() {
    for (says, safety, expected) in [
        (Some("220 ready\r\n250 here\r\n"), MailSafety::StartTls, "STARTTLS"),
        (None, MailSafety::Plain, "was not done within 0.5 seconds"),
        (Some("220 ready\r\nnonsense\r\n"), MailSafety::Plain, ""),
        (Some("HTTP/1.1 400 Bad Request\r\n\r\n"), MailSafety::Plain, ""),
    ] {
        let p = place();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            while let Ok((mut stream, _)) = listener.accept().await {
                tokio::spawn(async move {
                    let _ = stream.write_all(says.unwrap_or_default().as_bytes()).await;
                    // Until the other end is tired of it.
                    let mut nothing = Vec::new();
                    let _ = stream.read_to_end(&mut nothing).await;
                });
            }
        });
        let w = worker(&p, to(address, safety));
        queue(&p.spool, "d", &events()).await;
        until("it is tried again", || w.health().get().failures >= 2).await;
        let error = w.health().get().last_error.unwrap();
        assert!(error.contains(expected) && !error.is_empty(), "{says:?}: {error}");
        assert_eq!(p.spool.waiting()["d"].amount.events, 2);
        w.stop(Duration::from_secs(5)).await;
    }
}
