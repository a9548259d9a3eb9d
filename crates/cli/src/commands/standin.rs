//! `standin`: a stand-in for an outside destination.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use anyhow::Context;
use clap::Args;
use rockrose_delivery::standin::{StandIn, bind, serve};

use crate::{Exit, Outcome, format};

/// Takes JSON lines at `POST /in`, tells what it has at `GET /`
#[derive(Args)]
pub(crate) struct StandinArgs {
    /// Where it listens
    #[arg(long, default_value = "127.0.0.1:9410", value_name = "ADDRESS")]
    listen: SocketAddr,
    /// The file that events are appended to
    #[arg(long, value_name = "FILE")]
    into: Option<PathBuf>,
    /// The bearer token it asks for
    #[arg(long, env = "ROCKROSE_STANDIN_TOKEN", hide_env_values = true)]
    want_token: Option<String>,
    /// Think so long before each answer, in milliseconds
    #[arg(long, default_value_t = 0, value_name = "MS")]
    delay: u64,
    /// Answer 503 to one request in so many
    #[arg(long, default_value_t = 0, value_name = "N")]
    fail_one_in: u64,
    /// Answer 422 to a body in which this text stands
    #[arg(long, value_name = "TEXT")]
    refuse: Option<String>,
}

pub(crate) async fn standin(args: StandinArgs, as_json: bool) -> Outcome {
    let settings =
        StandIn { into: args.into, token: args.want_token, delay: Duration::from_millis(args.delay), fail_one_in: args.fail_one_in, refuse_text: args.refuse };
    let mut end = super::serve::End::listen()?;
    let listener = bind(args.listen).await.with_context(|| format!("cannot listen on {}", args.listen))?;
    let url = format!("http://{}/in", listener.local_addr().map_err(anyhow::Error::from)?);
    if as_json {
        format::print_json(&serde_json::json!({ "url": url }))?;
    } else {
        format::line(&format!("takes events at {url}"))?;
    }
    let stop = async move { end.asked().await };
    serve(settings, listener, stop).await.map_err(anyhow::Error::from)?;
    Ok(Exit::Done)
}
