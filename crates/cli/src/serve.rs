//! `serve`: runs the service until it is told to stop.

use std::io::Write;
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use anyhow::Context;
use rockrose_service::{Service, Settings};

use rockrose_client::{End, Exit, Failure, Outcome, format};

/// Log lines go to standard error; how much is set by `ROCKROSE_LOG`.
pub(crate) fn log() {
    let filter = tracing_subscriber::EnvFilter::try_from_env("ROCKROSE_LOG").unwrap_or_else(|_| "info".into());
    let ansi = std::io::IsTerminal::is_terminal(&std::io::stderr());
    tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_ansi(ansi).with_target(false).init();
}

/// The settings file with which the client on this machine finds the service. It keeps its token; where there is none, one is made.
pub(crate) async fn client_settings(service: &Service, data: &Path) -> anyhow::Result<PathBuf> {
    let path = data.join("client.toml");
    let kept = std::fs::read_to_string(&path).ok().and_then(|t| toml::from_str::<toml::Table>(&t).ok());
    let token = match kept.as_ref().and_then(|k| k.get("token")).and_then(toml::Value::as_str).filter(|t| !t.is_empty()) {
        Some(token) => token.to_owned(),
        None => service.make_client_token("admin").await?.reveal().to_owned(),
    };
    // Written beside and moved into place, so that whoever reads it finds it whole, and a crash leaves the one before.
    let fresh = data.join("client.toml.new");
    let write = || {
        let mut file = std::fs::OpenOptions::new().create(true).truncate(true).write(true).mode(0o600).open(&fresh)?;
        write!(file, "# For `rockrose --config {}`. Keep it to yourself.\naddress = \"http://{}\"\ntoken = \"{token}\"\n", path.display(), service.address())?;
        file.sync_all()?;
        std::fs::rename(&fresh, &path)
    };
    write().with_context(|| format!("cannot write {}", path.display()))?;
    Ok(path)
}

pub(crate) async fn serve(data: PathBuf, listen: SocketAddr, plan: Option<PathBuf>, as_json: bool) -> Outcome {
    log();
    let mut end = End::listen()?;
    let service = Service::start(&Settings { data: data.clone(), listen }).await?;
    if let Some(path) = plan {
        let applied = async {
            let text = std::fs::read_to_string(&path).with_context(|| format!("cannot read {}", path.display()))?;
            service.apply(&text, "serve", &format!("{} at the start", path.display()), &path.display().to_string()).await
        };
        if let Err(e) = applied.await {
            service.stop().await;
            return Err(Failure::new(Exit::BadPlan, format!("{e:#}")));
        }
    }
    let settings = client_settings(&service, &data).await?;
    let link = service.sign_in_link()?;
    if as_json {
        format::print_json(&serde_json::json!({ "console": link, "config": settings }))?;
    } else {
        format::line(&format!("console   {link}\nclient    rockrose --config {} status", settings.display()))?;
    }
    end.asked().await;
    service.stop().await;
    Ok(Exit::Done)
}
