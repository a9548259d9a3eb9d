//! `link`: a way into the console.

use reqwest::Method;
use rockrose_api::{LinkRequest, SignInLink};

use crate::client::Client;
use crate::{Common, Outcome, format};

pub(crate) async fn link(common: &Common, person: Option<String>) -> Outcome {
    let answer = Client::new(common)?.call(Method::POST, "/api/v1/sign-in-links", &LinkRequest { person }).await?;
    if common.json {
        return answer.print();
    }
    format::line(&answer.read::<SignInLink>()?.url)
}
