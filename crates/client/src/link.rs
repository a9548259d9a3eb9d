//! `link`: a way into the console.

use reqwest::Method;
use rockrose_api::SignInLink;

use crate::client::Client;
use crate::{Common, Outcome, format};

pub(crate) async fn link(common: &Common) -> Outcome {
    let answer = Client::new(common)?.call_bare(Method::POST, "/api/v1/sign-in-links").await?;
    if common.json {
        return answer.print();
    }
    format::line(&answer.read::<SignInLink>()?.url)
}
