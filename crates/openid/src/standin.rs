//! A small OpenID Connect provider for tests and trials. Whoever asks chooses an account of a page; there are no passwords. Its key is in its source, so it is good for nothing else.

use std::collections::HashMap;
use std::fmt::Write as _;
use std::future::Future;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::extract::{Form, Query, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use openidconnect::core::{CoreJwsSigningAlgorithm, CoreRsaPrivateSigningKey};
use openidconnect::{JsonWebKeyId, PrivateSigningKey};
use serde::Deserialize;
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use tokio::net::TcpListener;

const KEY: &str = include_str!("standin.pem");

/// What a stand-in does that a provider should not.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Twist {
    /// Nothing.
    #[default]
    None,
    /// Its tokens are another issuer's.
    OtherIssuer,
    /// Its tokens are for another client.
    OtherClient,
    /// Its tokens are for another sign-in.
    OtherNonce,
    /// Its tokens have ended.
    Ended,
    /// Its tokens are not signed.
    Unsigned,
    /// Its tokens are signed with the client's secret.
    BySecret,
    /// Its tokens are changed after they were signed.
    Changed,
    /// It does not vouch for addresses.
    Unverified,
    /// It tells who somebody is only on asking, not in its token.
    OnAsking,
    /// It tells of another account on asking.
    OtherOnAsking,
    /// It gives no identity token.
    NoToken,
    /// It describes itself in a way that nobody can read.
    Garbage,
    /// It never answers.
    Silent,
}

/// How a stand-in behaves.
#[derive(Clone, Debug, Default)]
pub struct StandIn {
    /// As what it knows the service.
    pub client: String,
    /// The client's secret; none: it asks for none.
    pub secret: Option<String>,
    /// The accounts that it has, by their e-mail addresses.
    pub accounts: Vec<String>,
}

struct Given {
    account: String,
    back: String,
    nonce: Option<String>,
    challenge: String,
}

struct Provider {
    settings: StandIn,
    issuer: String,
    key: CoreRsaPrivateSigningKey,
    twist: Arc<Mutex<Twist>>,
    /// What each code was given for; a code is good once.
    codes: Mutex<HashMap<String, Given>>,
    /// Whose each access token is.
    tokens: Mutex<HashMap<String, String>>,
}

/// Runs a stand-in on `listener` until `stop`. What it does wrong can be changed while it runs.
///
/// # Errors
/// If it cannot listen, or its key cannot be read.
pub async fn serve(settings: StandIn, listener: TcpListener, twist: Arc<Mutex<Twist>>, stop: impl Future<Output = ()> + Send + 'static) -> std::io::Result<()> {
    let key = CoreRsaPrivateSigningKey::from_pem(KEY, Some(JsonWebKeyId::new("standin".to_owned()))).map_err(std::io::Error::other)?;
    let issuer = format!("http://{}", listener.local_addr()?);
    let provider = Arc::new(Provider { settings, issuer, key, twist, codes: Mutex::default(), tokens: Mutex::default() });
    let router = Router::new()
        .route("/.well-known/openid-configuration", get(describe))
        .route("/keys", get(keys))
        .route("/authorize", get(choose))
        .route("/enter", get(enter))
        .route("/token", post(token))
        .route("/userinfo", get(userinfo))
        .with_state(provider);
    axum::serve(listener, router).with_graceful_shutdown(stop).await
}

fn random() -> String {
    let mut bytes = [0; 24];
    getrandom::fill(&mut bytes).unwrap_or_default();
    URL_SAFE_NO_PAD.encode(bytes)
}

impl Provider {
    fn twist(&self) -> Twist {
        *self.twist.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn sign(&self, claims: &Value, twist: Twist) -> String {
        let part = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let algorithm = match twist {
            Twist::Unsigned => "none",
            Twist::BySecret => "HS256",
            _ => "RS256",
        };
        let signed = format!("{}.{}", part(&json!({ "alg": algorithm, "typ": "JWT", "kid": "standin" })), part(claims));
        let signature = match twist {
            Twist::Unsigned => Vec::new(),
            Twist::BySecret => openidconnect::core::CoreHmacKey::new(self.settings.secret.clone().unwrap_or_default())
                .sign(&CoreJwsSigningAlgorithm::HmacSha256, signed.as_bytes())
                .unwrap_or_default(),
            _ => self.key.sign(&CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha256, signed.as_bytes()).unwrap_or_default(),
        };
        let signed = if twist == Twist::Changed {
            let mut claims = claims.clone();
            claims["email"] = json!("owner@ferries.example");
            format!("{}.{}", part(&json!({ "alg": algorithm, "typ": "JWT", "kid": "standin" })), part(&claims))
        } else {
            signed
        };
        format!("{signed}.{}", URL_SAFE_NO_PAD.encode(signature))
    }
}

async fn describe(State(it): State<Arc<Provider>>) -> Response {
    match it.twist() {
        Twist::Garbage => return "<html>sign in".into_response(),
        Twist::Silent => tokio::time::sleep(Duration::from_secs(3_600)).await,
        _ => {}
    }
    let at = |path: &str| format!("{}{path}", it.issuer);
    Json(json!({
        "issuer": it.issuer,
        "authorization_endpoint": at("/authorize"),
        "token_endpoint": at("/token"),
        "userinfo_endpoint": at("/userinfo"),
        "jwks_uri": at("/keys"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["RS256", "HS256", "none"],
        "code_challenge_methods_supported": ["S256"],
    }))
    .into_response()
}

async fn keys(State(it): State<Arc<Provider>>) -> Json<Value> {
    Json(json!({ "keys": [it.key.as_verification_key()] }))
}

#[derive(Deserialize)]
struct Authorize {
    client_id: String,
    redirect_uri: String,
    response_type: String,
    scope: String,
    state: String,
    nonce: Option<String>,
    code_challenge: Option<String>,
    code_challenge_method: Option<String>,
    account: Option<String>,
}

impl Authorize {
    /// What is wrong with what a browser was sent with.
    fn wrong(&self, settings: &StandIn) -> Option<&'static str> {
        match () {
            () if self.client_id != settings.client => Some("unknown client"),
            () if self.response_type != "code" => Some("only codes are given"),
            () if !self.scope.split(' ').any(|scope| scope == "openid") => Some("the scope `openid` is missing"),
            () if self.code_challenge_method.as_deref() != Some("S256") || self.code_challenge.is_none() => Some("a challenge (S256) is required"),
            () => None,
        }
    }
}

fn query(pairs: &[(&str, &str)]) -> String {
    form_urlencoded::Serializer::new(String::new()).extend_pairs(pairs).finish()
}

/// The page where an account is chosen.
async fn choose(State(it): State<Arc<Provider>>, Query(asked): Query<Authorize>) -> Response {
    if let Some(wrong) = asked.wrong(&it.settings) {
        return (StatusCode::BAD_REQUEST, wrong).into_response();
    }
    let mut page =
        "<!doctype html><title>Stand-in provider</title><body style=\"font-family:sans-serif;margin:4rem auto;max-width:24rem\"><h1>Stand-in provider</h1>"
            .to_owned();
    let shared = [
        ("client_id", asked.client_id.as_str()),
        ("redirect_uri", &asked.redirect_uri),
        ("response_type", "code"),
        ("scope", &asked.scope),
        ("state", &asked.state),
        ("nonce", asked.nonce.as_deref().unwrap_or_default()),
        ("code_challenge", asked.code_challenge.as_deref().unwrap_or_default()),
        ("code_challenge_method", "S256"),
    ];
    for account in &it.settings.accounts {
        let to = query(&[&shared[..], &[("account", account)]].concat()).replace('&', "&amp;");
        let name = account.replace('&', "&amp;").replace('<', "&lt;");
        let _ = write!(page, "<p><a href=\"/enter?{to}\">{name}</a>");
    }
    let no = query(&[("error", "access_denied"), ("state", &asked.state)]).replace('&', "&amp;");
    let _ = write!(page, "<p><a href=\"{}?{no}\">None of these</a>", asked.redirect_uri.replace('"', "%22"));
    Html(page).into_response()
}

/// Gives a code for the account that was chosen.
async fn enter(State(it): State<Arc<Provider>>, Query(asked): Query<Authorize>) -> Response {
    let account = asked.account.clone().filter(|account| it.settings.accounts.contains(account));
    let (None, Some(account)) = (asked.wrong(&it.settings), account) else { return StatusCode::BAD_REQUEST.into_response() };
    let code = random();
    let given = Given { account, back: asked.redirect_uri.clone(), nonce: asked.nonce, challenge: asked.code_challenge.unwrap_or_default() };
    it.codes.lock().unwrap_or_else(PoisonError::into_inner).insert(code.clone(), given);
    Redirect::to(&format!("{}?{}", asked.redirect_uri, query(&[("code", &code), ("state", &asked.state)]))).into_response()
}

#[derive(Deserialize)]
struct Exchange {
    grant_type: String,
    code: String,
    redirect_uri: String,
    code_verifier: Option<String>,
    client_id: Option<String>,
}

fn refused(status: StatusCode, error: &str) -> Response {
    // What it says besides is shown nowhere.
    (status, Json(json!({ "error": error, "error_description": "words of the provider" }))).into_response()
}

async fn token(State(it): State<Arc<Provider>>, headers: HeaderMap, Form(asked): Form<Exchange>) -> Response {
    let basic = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).and_then(|v| v.strip_prefix("Basic "));
    let basic = basic.and_then(|v| STANDARD.decode(v).ok()).and_then(|v| String::from_utf8(v).ok());
    let known = match (&it.settings.secret, basic) {
        (Some(secret), Some(basic)) => basic == format!("{}:{secret}", it.settings.client),
        (None, None) => asked.client_id.as_deref() == Some(&it.settings.client),
        _ => false,
    };
    if !known {
        return refused(StatusCode::UNAUTHORIZED, "invalid_client");
    }
    let given = it.codes.lock().unwrap_or_else(PoisonError::into_inner).remove(&asked.code);
    let proves = |given: &Given| asked.code_verifier.as_ref().is_some_and(|v| URL_SAFE_NO_PAD.encode(Sha256::digest(v)) == given.challenge);
    let Some(given) = given.filter(|given| asked.grant_type == "authorization_code" && given.back == asked.redirect_uri && proves(given)) else {
        return refused(StatusCode::BAD_REQUEST, "invalid_grant");
    };
    let (twist, now) = (it.twist(), jiff::Timestamp::now().as_second());
    let mut claims = json!({
        "iss": if twist == Twist::OtherIssuer { "https://id.other.example" } else { &it.issuer },
        "aud": if twist == Twist::OtherClient { "other" } else { &it.settings.client },
        "sub": subject(&given.account),
        "nonce": if twist == Twist::OtherNonce { Some("other".to_owned()) } else { given.nonce },
        "iat": now - if twist == Twist::Ended { 7_200 } else { 0 },
        "exp": now + if twist == Twist::Ended { -3_600 } else { 300 },
    });
    if !matches!(twist, Twist::OnAsking | Twist::OtherOnAsking) {
        claims["email"] = json!(given.account);
        claims["email_verified"] = json!(twist != Twist::Unverified);
    }
    let access = random();
    it.tokens.lock().unwrap_or_else(PoisonError::into_inner).insert(access.clone(), given.account);
    let mut answer = json!({ "access_token": access, "token_type": "Bearer", "expires_in": 300 });
    if twist != Twist::NoToken {
        answer["id_token"] = json!(it.sign(&claims, twist));
    }
    Json(answer).into_response()
}

/// What an account is called for ever.
fn subject(account: &str) -> String {
    Sha256::digest(account)[..8].iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

async fn userinfo(State(it): State<Arc<Provider>>, headers: HeaderMap) -> Response {
    let shown = headers.get(header::AUTHORIZATION).and_then(|v| v.to_str().ok()).and_then(|v| v.strip_prefix("Bearer "));
    let account = shown.and_then(|shown| it.tokens.lock().unwrap_or_else(PoisonError::into_inner).get(shown).cloned());
    let Some(account) = account else { return StatusCode::UNAUTHORIZED.into_response() };
    let sub = if it.twist() == Twist::OtherOnAsking { subject("other") } else { subject(&account) };
    Json(json!({ "sub": sub, "email": account, "email_verified": true })).into_response()
}
