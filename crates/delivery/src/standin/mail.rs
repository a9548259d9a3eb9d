//! A mail server (RFC 5321) that keeps what it is sent: each letter with its subject as text, the way a person reads it.

use std::sync::Arc;
use std::time::Duration;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinSet;

use super::{Mood, Shared, hang};

/// Longest letter, in bytes.
const MAX_LETTER: usize = 32 << 20;
/// Longest command, in bytes.
const MAX_COMMAND: u64 = 4_096;

pub(super) async fn serve(shared: Arc<Shared>, listener: TcpListener, stop: impl Future<Output = ()>) -> std::io::Result<()> {
    let mut connections = JoinSet::new();
    tokio::pin!(stop);
    loop {
        tokio::select! {
            () = &mut stop => return Ok(()),
            Ok((stream, _)) = listener.accept() => {
                connections.spawn(talk(Arc::clone(&shared), stream));
            }
            Some(_) = connections.join_next(), if !connections.is_empty() => {}
        }
    }
}

/// One connection. What it wants to be safe is refused: it stands in on this machine only.
async fn talk(shared: Arc<Shared>, stream: TcpStream) -> std::io::Result<()> {
    let mut stream = BufReader::new(stream);
    stream.write_all(b"220 standin.ferries.example ready\r\n").await?;
    let mut is_known = shared.settings.token.is_none();
    loop {
        let mut line = Vec::new();
        if (&mut stream).take(MAX_COMMAND).read_until(b'\n', &mut line).await? == 0 {
            return Ok(());
        }
        let line = String::from_utf8_lossy(&line).trim_end().to_owned();
        let word = line.split(' ').next().unwrap_or_default().to_ascii_uppercase();
        let answer: &[u8] = match word.as_str() {
            "EHLO" if shared.settings.token.is_some() => b"250-standin.ferries.example\r\n250-AUTH PLAIN\r\n250 8BITMIME\r\n",
            "EHLO" => b"250-standin.ferries.example\r\n250 8BITMIME\r\n",
            "AUTH" => {
                // Who signs in does not matter; the password does, behind the last zero byte.
                let given = line.rsplit(' ').next().and_then(|text| STANDARD.decode(text).ok()).unwrap_or_default();
                let password = given.rsplit(|b| *b == 0).next().unwrap_or_default();
                is_known = shared.settings.token.as_ref().is_some_and(|token| token.as_bytes() == password);
                if is_known { b"235 welcome\r\n" } else { b"535 the name or password is wrong\r\n" }
            }
            "MAIL" | "RCPT" if !is_known => b"530 sign in first\r\n",
            "HELO" | "MAIL" | "RCPT" | "RSET" | "NOOP" => b"250 fine\r\n",
            "DATA" => {
                stream.write_all(b"354 go on, and end with a point\r\n").await?;
                let Some(letter) = letter(&mut stream).await? else { return Ok(()) };
                match answer(&shared, &letter).await {
                    Some(answer) => answer,
                    None => return Ok(()),
                }
            }
            "QUIT" => {
                stream.write_all(b"221 goodbye\r\n").await?;
                return Ok(());
            }
            _ => b"502 not here\r\n",
        };
        stream.write_all(answer).await?;
    }
}

/// A letter up to the point that ends it, without what stands for points at the beginnings of lines.
async fn letter(stream: &mut BufReader<TcpStream>) -> std::io::Result<Option<String>> {
    let mut whole = Vec::new();
    loop {
        let mut line = Vec::new();
        if stream.read_until(b'\n', &mut line).await? == 0 || whole.len() > MAX_LETTER {
            return Ok(None);
        }
        if line == b".\r\n" {
            return Ok(Some(String::from_utf8_lossy(&whole).into_owned()));
        }
        whole.extend_from_slice(line.strip_prefix(b".").unwrap_or(&line));
    }
}

/// What is answered to a letter; nothing, where the connection is closed instead.
async fn answer(shared: &Shared, letter: &str) -> Option<&'static [u8]> {
    match shared.mood() {
        Mood::Well => {}
        Mood::Slow(time) => tokio::time::sleep(time).await,
        Mood::Refusing => return Some(b"554 not accepted\r\n"),
        Mood::Failing => return Some(b"451 try again later\r\n"),
        Mood::Hanging => hang().await,
        Mood::Closing => return None,
    }
    let read = readable(letter);
    if shared.refuses(read.as_bytes()) {
        return Some(b"554 it has an event that this place does not accept\r\n");
    }
    match shared.keep(1, read.as_bytes()) {
        Ok(()) => Some(b"250 accepted\r\n"),
        Err(_) => {
            tokio::time::sleep(Duration::from_millis(10)).await;
            Some(b"452 it cannot be kept\r\n")
        }
    }
}

/// A letter as it is read: who it is from and to, its subject and its text, and an empty line.
fn readable(letter: &str) -> String {
    let (head, body) = letter.split_once("\r\n\r\n").unwrap_or((letter, ""));
    let head = head.replace("\r\n ", " ").replace("\r\n\t", " ");
    let field = |name: &str| head.lines().find_map(|line| line.split_once(": ").filter(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| v.to_owned()));
    let encoding = field("Content-Transfer-Encoding").unwrap_or_default().to_ascii_lowercase();
    let text = match encoding.as_str() {
        "quoted-printable" => quoted_printable(body),
        "base64" => STANDARD.decode(body.replace(['\r', '\n'], "")).map(|b| String::from_utf8_lossy(&b).into_owned()).unwrap_or_default(),
        _ => body.to_owned(),
    };
    let named = |name: &str| field(name).map_or_else(String::new, |value| format!("{name}: {value}\n"));
    format!("{}{}{}{}\n{}\n\n", named("From"), named("To"), named("Subject"), named("Message-ID"), text.replace("\r\n", "\n").trim_end_matches('\n'))
}

/// RFC 2045, section 6.7.
fn quoted_printable(body: &str) -> String {
    let joined = body.replace("=\r\n", "");
    let (mut out, mut rest) = (Vec::new(), joined.as_bytes());
    while let Some((first, behind)) = rest.split_first() {
        let pair = behind.get(..2).and_then(|pair| std::str::from_utf8(pair).ok()).and_then(|pair| u8::from_str_radix(pair, 16).ok());
        match (first, pair) {
            (b'=', Some(byte)) => {
                out.push(byte);
                rest = &behind[2..];
            }
            _ => {
                out.push(*first);
                rest = behind;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn letters_are_kept_as_they_are_read() {
        let letter = "From: a@b.example\r\nTo: c@d.example\r\nSubject: [error]\r\n long\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nT=C3=A4nsy =\r\nQuay=3D\r\n    n: 5\r\n";
        assert_eq!(readable(letter), "From: a@b.example\nTo: c@d.example\nSubject: [error] long\n\nTänsy Quay=\n    n: 5\n\n");
        assert!(readable("Content-Transfer-Encoding: base64\r\n\r\naGFy\r\nYm91cg==\r\n").ends_with("\nharbour\n\n"));
        assert_eq!(readable("odd"), "\n\n\n");
    }
}
