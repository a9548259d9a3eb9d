//! By which names the service is reached, and whether what goes there is safe on its way.

use std::net::SocketAddr;

use axum::http::Uri;

use crate::Settings;

/// By which names, and over which scheme, the API and the console are reached.
#[derive(Clone, Debug)]
pub(crate) struct Site {
    /// What a link begins with: `https://logs.ferries.example`.
    base: String,
    /// The name that others know it by.
    name: Option<String>,
    /// It shows a certificate itself.
    over_tls: bool,
}

impl Site {
    /// # Errors
    /// If others could reach it without TLS though nobody said that this is so, or if the URL is none.
    pub(crate) fn new(settings: &Settings, address: SocketAddr) -> anyhow::Result<Site> {
        let over_tls = settings.certificate.is_some();
        anyhow::ensure!(
            address.ip().is_loopback() || over_tls || settings.behind_proxy,
            "other hosts could reach {address} without TLS: give it a certificate (--certificate and --key), or say that a proxy in front of it has one (--behind-proxy)"
        );
        let scheme = if over_tls { "https" } else { "http" };
        let Some(url) = &settings.public_url else { return Ok(Site { base: format!("{scheme}://{address}"), name: None, over_tls }) };
        let read: Option<(String, String)> = url.parse::<Uri>().ok().and_then(|uri| {
            let plain = uri.path() == "/" && uri.query().is_none() && matches!(uri.scheme_str(), Some("http" | "https"));
            plain.then(|| Some((format!("{}://{}", uri.scheme_str()?, uri.authority()?), uri.host()?.to_ascii_lowercase())))?
        });
        let (base, name) = read.ok_or_else(|| anyhow::anyhow!("`{url}` is no public URL: write `https://` and a name, without a path"))?;
        Ok(Site { base, name: Some(name), over_tls })
    }

    /// A link to `path`.
    pub(crate) fn url(&self, path: &str) -> String {
        format!("{}{path}", self.base)
    }

    /// Where clients on this machine find it.
    pub(crate) fn local_url(&self, address: SocketAddr) -> String {
        if self.over_tls { self.base.clone() } else { format!("http://{address}") }
    }

    /// Whether browsers reach it over TLS.
    pub(crate) fn is_safe(&self) -> bool {
        self.base.starts_with("https://")
    }

    /// Whether it is known by this name.
    pub(crate) fn knows(&self, host: &str) -> bool {
        rockrose_intake::is_plain_host(host) || self.name.as_deref() == Some(host)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn site(listen: &str, change: impl FnOnce(&mut Settings)) -> anyhow::Result<Site> {
        let listen: SocketAddr = listen.parse().unwrap();
        let mut settings = Settings::new("data".into(), listen);
        change(&mut settings);
        Site::new(&settings, listen)
    }

    #[test]
    fn what_others_reach_is_safe_or_said_not_to_be() {
        assert!(site("127.0.0.1:8600", |_| {}).is_ok() && site("[::1]:8600", |_| {}).is_ok());
        for open in ["0.0.0.0:8600", "192.0.2.4:8600", "[::]:8600"] {
            let refused = site(open, |_| {}).unwrap_err().to_string();
            assert!(refused.contains("--certificate") && refused.contains("--behind-proxy"), "{refused}");
            assert!(site(open, |s| s.behind_proxy = true).is_ok());
            assert!(site(open, |s| s.certificate = Some(("c".into(), "k".into()))).is_ok());
        }
    }

    #[test]
    fn it_is_known_by_addresses_and_by_the_name_that_was_said() {
        let plain = site("127.0.0.1:8600", |_| {}).unwrap();
        let named = site("127.0.0.1:8600", |s| s.public_url = Some("https://Logs.ferries.example".into())).unwrap();
        for (host, plainly, by_name) in [
            ("127.0.0.1", true, true),
            ("[::1]", true, true),
            ("192.0.2.4", true, true),
            ("localhost", true, true),
            ("logs.ferries.example", false, true),
            ("logs.ferries.example.evil.example", false, false),
            ("127.0.0.1.evil.example", false, false),
            ("?", false, false),
        ] {
            assert_eq!((plain.knows(host), named.knows(host)), (plainly, by_name), "{host}");
        }
        assert_eq!(named.url("/x"), "https://Logs.ferries.example/x");
        assert!(named.is_safe() && !plain.is_safe());
        assert_eq!(plain.url("/x"), "http://127.0.0.1:8600/x");
        for wrong in ["logs.ferries.example", "ftp://a.example", "https://a.example/path", "https://a.example/?q", ""] {
            assert!(site("127.0.0.1:8600", |s| s.public_url = Some(wrong.into())).is_err(), "{wrong}");
        }
    }
}
