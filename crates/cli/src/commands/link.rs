//! `link`: a way into the console.

use reqwest::Method;

use crate::client::Client;
use crate::{Common, Outcome, format};

pub(crate) async fn link(common: &Common) -> Outcome {
    let answer = Client::new(common)?.call(Method::POST, "/api/v1/sign-in-links", None).await?;
    if common.json {
        return format::print_json(&answer);
    }
    format::line(answer["url"].as_str().unwrap_or_default())
}
