//! What the service is told of the provider.

use std::path::{Path, PathBuf};

use serde::Deserialize;

/// Who the provider is, and as what it knows this service.
#[derive(Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// The provider's issuer, as it stands in its tokens: `https://id.ferries.example`.
    pub issuer: String,
    /// As what it knows this service.
    pub client: String,
    /// The file that the client's secret is in; none: this is a public client, which PKCE alone protects.
    pub secret_file: Option<PathBuf>,
    /// The claim that is a person's name here.
    #[serde(default = "email")]
    pub claim: String,
    /// What the console's button calls the provider; its host, if nothing is said.
    pub label: Option<String>,
    /// What is asked for besides `openid`.
    #[serde(default = "scopes")]
    pub scopes: Vec<String>,
    /// Certificates (PEM) that the provider's is checked against, besides the system's.
    pub ca: Option<PathBuf>,
}

fn email() -> String {
    "email".to_owned()
}

fn scopes() -> Vec<String> {
    vec!["email".to_owned(), "profile".to_owned()]
}

impl Settings {
    /// Reads a settings file. Paths in it are relative to its folder.
    ///
    /// # Errors
    /// In words, if it cannot be read or says something that cannot be.
    pub fn read(path: &Path) -> Result<Settings, String> {
        let text = std::fs::read_to_string(path).map_err(|e| format!("cannot read {}: {e}", path.display()))?;
        let mut settings: Settings = toml::from_str(&text).map_err(|e| format!("{}: {e}", path.display()))?;
        let folder = path.parent().unwrap_or(Path::new(""));
        for named in [&mut settings.secret_file, &mut settings.ca].into_iter().flatten() {
            *named = folder.join(&*named);
        }
        settings.check().map_err(|wrong| format!("{}: {wrong}", path.display()))?;
        Ok(settings)
    }

    fn check(&self) -> Result<(), String> {
        let url: reqwest::Url = self.issuer.parse().map_err(|e| format!("`issuer` is no URL: {e}"))?;
        let host = url.host_str().unwrap_or_default();
        let is_here = host == "localhost" || host.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok_and(|a| a.is_loopback());
        match url.scheme() {
            "https" => {}
            "http" if is_here => {}
            _ => return Err("`issuer` must begin with `https://`; only a provider on this machine may be asked over plain HTTP".to_owned()),
        }
        if self.client.is_empty() || self.claim.is_empty() {
            return Err("`client` and `claim` must not be empty".to_owned());
        }
        Ok(())
    }

    /// What the console calls the provider.
    #[must_use]
    pub fn label(&self) -> String {
        let host = || self.issuer.parse::<reqwest::Url>().ok().and_then(|url| url.host_str().map(str::to_owned));
        self.label.clone().or_else(host).unwrap_or_else(|| self.issuer.clone())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_says_who_the_provider_is() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("openid.toml");
        let read = |text: &str| {
            std::fs::write(&file, text).unwrap();
            Settings::read(&file)
        };
        let short = read("issuer = \"https://id.ferries.example\"\nclient = \"rockrose\"").unwrap_or_else(|e| panic!("{e}"));
        assert_eq!((short.claim.as_str(), short.label().as_str(), short.secret_file), ("email", "id.ferries.example", None));
        let long = read("issuer = \"http://127.0.0.1:9\"\nclient = \"r\"\nsecret_file = \"secret\"\nclaim = \"upn\"\nlabel = \"Saltmarsh\"\nscopes = []")
            .unwrap_or_else(|e| panic!("{e}"));
        assert_eq!(long.secret_file, Some(folder.path().join("secret")));
        assert_eq!((long.label().as_str(), long.scopes.len()), ("Saltmarsh", 0));
        for (wrong, says) in [
            ("issuer = \"http://id.ferries.example\"\nclient = \"r\"", "https://"),
            ("issuer = \"http://127.0.0.1.ferries.example\"\nclient = \"r\"", "https://"),
            ("issuer = \"id\"\nclient = \"r\"", "URL"),
            ("issuer = \"https://id.example\"", "client"),
            ("issuer = \"https://id.example\"\nclient = \"\"", "empty"),
            ("issuer = \"https://id.example\"\nclient = \"r\"\nsecret = \"s\"", "secret"),
        ] {
            assert!(read(wrong).err().unwrap_or_default().contains(says), "{wrong}");
        }
    }
}
