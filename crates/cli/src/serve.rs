//! `serve`: runs the service until it is told to stop.

use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use anyhow::Context;
use rockrose_service::{Service, Settings};
use sd_notify::NotifyState;
use tokio::signal::unix::{SignalKind, signal};

use rockrose_client::{End, Exit, Failure, Outcome, format};

use crate::log::log;

/// The settings file with which the client on this machine finds the service. It keeps its token; where there is none, or it is revoked, one is made.
///
/// Returns the file, and a link that signs a browser in.
pub(crate) async fn client_settings(service: &Service, data: &Path, certificate: Option<&Path>) -> anyhow::Result<(PathBuf, String)> {
    let path = data.join("client.toml");
    let kept = std::fs::read_to_string(&path).ok().and_then(|t| toml::from_str::<toml::Table>(&t).ok());
    let kept = kept.as_ref().and_then(|k| k.get("token")).and_then(toml::Value::as_str).filter(|t| !t.is_empty());
    let token = service.client_token("admin", kept).await?;
    // Written beside and moved into place, so that whoever reads it finds it whole, and a crash leaves the one before.
    let fresh = data.join("client.toml.new");
    let certificate = certificate.map(|path| std::fs::canonicalize(path).unwrap_or_else(|_| path.to_owned()));
    let ca = certificate.map_or_else(String::new, |path| format!("ca = {:?}\n", path.display().to_string()));
    let write = || {
        let mut file = std::fs::OpenOptions::new().create(true).truncate(true).write(true).mode(0o600).open(&fresh)?;
        write!(file, "# For `rockrose --config {}`. Keep it to yourself.\naddress = \"{}\"\ntoken = \"{token}\"\n{ca}", path.display(), service.local_url())?;
        file.sync_all()?;
        std::fs::rename(&fresh, &path)
    };
    write().with_context(|| format!("cannot write {}", path.display()))?;
    let link = service.sign_in_link(&token).await?;
    Ok((path, link))
}

/// Tells the system's service manager how the service is doing, if it was started by one that wants to know.
fn tell(states: &[NotifyState<'_>]) {
    if let Err(e) = sd_notify::notify(states) {
        tracing::warn!(error = %e, "the service manager could not be told");
    }
}

/// Tells the service manager again and again that the service is alive, where it watches for that.
fn watched() -> Option<tokio::task::JoinHandle<()>> {
    let every = sd_notify::watchdog_enabled()? / 2;
    Some(tokio::spawn(async move {
        let mut tick = tokio::time::interval(every);
        loop {
            tick.tick().await;
            tell(&[NotifyState::Watchdog]);
        }
    }))
}

/// Applies the plan in `path`, if it is another than the one that runs.
async fn apply(service: &Service, path: &Path, when: &str) -> anyhow::Result<Option<i64>> {
    let text = std::fs::read_to_string(path).with_context(|| format!("cannot read {}", path.display()))?;
    service.apply(&text, "serve", &format!("{} {when}", path.display()), &path.display().to_string()).await
}

/// Reads again what the service was given in files. What is wrong with them is logged, and all stays as it was.
async fn reload(service: &Service, plan: Option<&Path>) {
    let states = [Ok(NotifyState::Reloading), NotifyState::monotonic_usec_now()];
    tell(&states.into_iter().flatten().collect::<Vec<_>>());
    let applied = match plan {
        Some(path) => apply(service, path, "read again").await,
        None => Ok(None),
    };
    let read = match applied {
        Ok(Some(_)) => Ok(()),
        Ok(None) => service.reload().await,
        Err(e) => Err(e),
    };
    match read {
        Ok(()) => tracing::info!("read again"),
        Err(e) => tracing::error!("not read again, all stays as it was: {e:#}"),
    }
    tell(&[NotifyState::Ready]);
}

pub(crate) async fn serve(settings: Settings, plan: Option<PathBuf>, as_json: bool) -> Outcome {
    log();
    let mut end = End::listen()?;
    let mut again = signal(SignalKind::hangup()).map_err(anyhow::Error::from)?;
    let service = Service::start(&settings).await?;
    if let Some(path) = &plan
        && let Err(e) = apply(&service, path, "at the start").await
    {
        service.stop().await;
        return Err(Failure::new(Exit::BadPlan, format!("{e:#}")));
    }
    let (client, link) = client_settings(&service, &settings.data, settings.certificate.as_ref().map(|(certificate, _)| &**certificate)).await?;
    if as_json {
        format::print_json(&serde_json::json!({ "console": link, "config": client }))?;
    } else {
        format::line(&format!("console   {link}\nclient    rockrose --config {} status", client.display()))?;
    }
    let watched = watched();
    tell(&[NotifyState::Ready]);
    loop {
        tokio::select! {
            () = end.asked() => break,
            _ = again.recv() => reload(&service, plan.as_deref()).await,
        }
    }
    tell(&[NotifyState::Stopping]);
    service.stop().await;
    watched.iter().for_each(tokio::task::JoinHandle::abort);
    Ok(Exit::Done)
}
