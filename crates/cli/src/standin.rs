//! `standin`: a stand-in for an outside destination, or for an OpenID Connect provider.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use anyhow::Context;
use clap::Args;
use rockrose_delivery::standin::{Schedule, Speaks, StandIn, bind, serve};

use rockrose_client::{End, Exit, Outcome, format};
use rockrose_openid::standin as openid;

#[derive(Clone, Copy, clap::ValueEnum)]
enum As {
    /// JSON lines at /in, OTLP log records at /v1/logs; `GET /` reports what it has
    Http,
    /// OTLP log records over gRPC
    Grpc,
    /// Syslog messages over TCP (each after its length) and UDP
    Syslog,
    /// A mail server (SMTP); `--into` gets each letter as it is read
    Mail,
    /// An object store that speaks the S3 protocol; `--into` is the folder of its objects
    Store,
    /// An OpenID Connect provider, to try signing in with; `--account` adds its accounts
    Openid,
}

/// Stands in for an outside destination, which can be slow, refuse, fail or not respond, or for an OpenID Connect provider
#[derive(Args)]
pub(crate) struct StandinArgs {
    /// What it stands in for
    #[arg(long = "as", value_enum, default_value = "http")]
    speaks: As,
    /// Address to listen on
    #[arg(long, default_value = "127.0.0.1:9410", value_name = "ADDRESS")]
    listen: SocketAddr,
    /// File to append received events to; for an object store, its folder
    #[arg(long, value_name = "FILE")]
    into: Option<PathBuf>,
    /// Bearer token that it requires; for an object store, the access key; for a mail server, the password; for an OpenID Connect provider, the client's secret
    #[arg(long, env = "ROCKROSE_STANDIN_TOKEN", hide_env_values = true)]
    want_token: Option<String>,
    /// Delay before each response, in milliseconds
    #[arg(long, default_value_t = 0, value_name = "MS")]
    delay: u64,
    /// Fail one request in N
    #[arg(long, default_value_t = 0, value_name = "N")]
    fail_one_in: u64,
    /// Refuse bodies that contain this text
    #[arg(long, value_name = "TEXT")]
    refuse: Option<String>,
    /// Refuse bodies of more than N events as too large
    #[arg(long, default_value_t = 0, value_name = "N")]
    most_events: usize,
    /// Its behaviour in turn, repeated: `well for 20s, slow 2s for 10s, failing for 5s`; also `refusing`, `hanging`, `closing`
    #[arg(long, value_name = "MOODS", value_parser = Schedule::read)]
    schedule: Option<Schedule>,
    /// E-mail address of an account of an OpenID Connect provider; may be repeated
    #[arg(long, value_name = "EMAIL", default_values_t = ["ann@ferries.example".to_owned(), "bo@ferries.example".to_owned()])]
    account: Vec<String>,
    /// Name by which an OpenID Connect provider knows the service
    #[arg(long, value_name = "NAME", default_value = "rockrose")]
    client: String,
}

pub(crate) async fn standin(args: StandinArgs, as_json: bool) -> Outcome {
    let mut end = End::listen()?;
    let listener = bind(args.listen).await.with_context(|| format!("cannot listen on {}", args.listen))?;
    let address = listener.local_addr().map_err(anyhow::Error::from)?;
    let stop = async move { end.asked().await };
    let says = |verb: &str, url: &str| {
        if as_json { format::print_json(&serde_json::json!({ "url": url })) } else { format::line(&format!("{verb} at {url}")) }
    };
    let (speaks, url) = match args.speaks {
        As::Http => (Speaks::Http, format!("http://{address}/in")),
        As::Grpc => (Speaks::Grpc, format!("http://{address}")),
        As::Syslog => (Speaks::Syslog, format!("tcp://{address}")),
        As::Mail => (Speaks::Mail, format!("smtp://{address}")),
        As::Store => (Speaks::Store, format!("http://{address}")),
        As::Openid => {
            says("signs people in", &format!("http://{address}"))?;
            let provider = openid::StandIn { client: args.client, secret: args.want_token, accounts: args.account };
            openid::serve(provider, listener, Arc::default(), stop).await.map_err(anyhow::Error::from)?;
            return Ok(Exit::Done);
        }
    };
    let settings = StandIn {
        speaks,
        into: args.into,
        token: args.want_token,
        delay: Duration::from_millis(args.delay),
        fail_one_in: args.fail_one_in,
        refuse_text: args.refuse,
        most_events: args.most_events,
        schedule: args.schedule.unwrap_or_default(),
    };
    says("takes events", &url)?;
    serve(settings, listener, stop).await.map_err(anyhow::Error::from)?;
    Ok(Exit::Done)
}
