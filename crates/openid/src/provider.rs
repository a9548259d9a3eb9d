//! The provider, as this service asks it.

use std::future::Future;
use std::sync::Arc;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use openidconnect::core::{
    CoreAuthenticationFlow, CoreClient, CoreClientAuthMethod, CoreGenderClaim, CoreIdToken, CoreJwsSigningAlgorithm, CoreProviderMetadata,
};
use openidconnect::{
    AccessToken, AdditionalClaims, AuthType, AuthorizationCode, ClaimsVerificationError, ClientId, ClientSecret, CsrfToken, HttpRequest, HttpResponse,
    IssuerUrl, Nonce, OAuth2TokenResponse, PkceCodeChallenge, PkceCodeVerifier, RedirectUrl, Scope, SignatureVerificationError, SubjectIdentifier,
    TokenResponse, UserInfoClaims,
};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use tokio::sync::Mutex;

use crate::journey::Journey;
use crate::settings::Settings;

/// How long the provider may take for one answer.
const PATIENCE: Duration = Duration::from_secs(10);
/// Most bytes of one answer.
const MAX_ANSWER: usize = 1 << 20;
/// What the provider says of itself is asked again after so long.
const KEPT: Duration = Duration::from_secs(10 * 60);
/// A token by an unknown key makes it be asked again, but not sooner than this.
const AT_LEAST: Duration = Duration::from_secs(10);
/// How its tokens may be signed: by a key that it alone has.
const ALGORITHMS: [CoreJwsSigningAlgorithm; 9] = [
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha256,
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha384,
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha512,
    CoreJwsSigningAlgorithm::RsaSsaPssSha256,
    CoreJwsSigningAlgorithm::RsaSsaPssSha384,
    CoreJwsSigningAlgorithm::RsaSsaPssSha512,
    CoreJwsSigningAlgorithm::EcdsaP256Sha256,
    CoreJwsSigningAlgorithm::EcdsaP384Sha384,
    CoreJwsSigningAlgorithm::EdDsa,
];

/// Somebody's account at the provider.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Account {
    /// The provider's issuer and what it calls the account for ever, on a line each.
    pub id: String,
    /// The value of the claim that is a person's name here.
    pub name: String,
}

/// Why nobody was signed in. None of it holds what the provider said.
#[derive(Debug, thiserror::Error)]
pub enum OpenIdError {
    /// It cannot be asked, or not now.
    #[error("the provider cannot be asked: {0}")]
    Unreachable(String),
    /// What it answers is not what a provider would.
    #[error("the provider's answer cannot be used: {0}")]
    Answer(String),
    /// Its token is not one for this sign-in.
    #[error("the provider's token is not good: {0}")]
    Token(&'static str),
    /// It does not say who it is.
    #[error("the provider says nothing of `{0}`")]
    NoClaim(String),
    /// It does not vouch for the address.
    #[error("the provider has not verified the e-mail address")]
    Unverified,
}

#[derive(Debug, thiserror::Error)]
enum FetchError {
    #[error(transparent)]
    Http(#[from] reqwest::Error),
    #[error("its answer is longer than {MAX_ANSWER} bytes")]
    TooLong,
    #[error("its answer cannot be read")]
    Unreadable,
}

/// Claims beyond the standard's own.
#[derive(Debug, Deserialize, Serialize)]
struct Rest(Map<String, Value>);

impl AdditionalClaims for Rest {}

/// A provider, and as what it knows this service.
pub struct Provider {
    settings: Settings,
    http: reqwest::Client,
    secret: Option<ClientSecret>,
    issuer: IssuerUrl,
    /// What it said of itself, and when.
    known: Mutex<Option<(Arc<CoreProviderMetadata>, Instant)>>,
}

impl Provider {
    /// A provider by its settings; it is not asked yet.
    ///
    /// # Errors
    /// In words, if a file that the settings name cannot be read.
    pub fn new(settings: Settings) -> Result<Provider, String> {
        let read = |path: &std::path::Path| std::fs::read(path).map_err(|e| format!("cannot read {}: {e}", path.display()));
        let secret = match &settings.secret_file {
            None => None,
            Some(path) => {
                let text = String::from_utf8(read(path)?).map_err(|_| format!("{} is not text", path.display()))?;
                let text = text.trim();
                if text.is_empty() {
                    return Err(format!("{} is empty", path.display()));
                }
                Some(ClientSecret::new(text.to_owned()))
            }
        };
        let trusted = match &settings.ca {
            None => Vec::new(),
            Some(path) => reqwest::Certificate::from_pem_bundle(&read(path)?).map_err(|e| format!("{}: {e}", path.display()))?,
        };
        // On a system without any certificates of authorities, only those that were named are trusted.
        let builder = || {
            let builder = reqwest::Client::builder().no_proxy().timeout(PATIENCE).redirect(reqwest::redirect::Policy::none());
            builder.user_agent(concat!("rockrose/", env!("CARGO_PKG_VERSION")))
        };
        let http = builder().tls_certs_merge(trusted.iter().cloned()).build().or_else(|_| builder().tls_certs_only(trusted.iter().cloned()).build());
        let issuer = IssuerUrl::new(settings.issuer.clone()).map_err(|e| e.to_string())?;
        Ok(Provider { http: http.map_err(|e| e.to_string())?, secret, issuer, known: Mutex::default(), settings })
    }

    /// What the console calls it.
    #[must_use]
    pub fn label(&self) -> String {
        self.settings.label()
    }

    /// Where a browser is sent, that `back` is where the provider sends it afterwards.
    ///
    /// # Errors
    /// If the provider does not say where.
    pub async fn begin(&self, journey: &Journey, back: &str) -> Result<String, OpenIdError> {
        let client = self.client(self.metadata(KEPT).await?.as_ref(), back)?;
        let challenge = PkceCodeChallenge::from_code_verifier_sha256(&PkceCodeVerifier::new(journey.verifier.clone()));
        let (state, nonce) = (CsrfToken::new(journey.state.clone()), Nonce::new(journey.nonce.clone()));
        let asked = client.authorize_url(CoreAuthenticationFlow::AuthorizationCode, || state, || nonce);
        let scopes = self.settings.scopes.iter().cloned().map(Scope::new);
        Ok(asked.add_scopes(scopes).set_pkce_challenge(challenge).url().0.into())
    }

    /// Whose account a browser came back with.
    ///
    /// # Errors
    /// If the provider cannot be asked, or its token is not one for this journey.
    pub async fn finish(&self, journey: &Journey, code: &str, back: &str) -> Result<Account, OpenIdError> {
        let metadata = self.metadata(KEPT).await?;
        let client = self.client(&metadata, back)?;
        let fetch = |request| self.fetch(request);
        let asked = client.exchange_code(AuthorizationCode::new(code.to_owned())).set_pkce_verifier(PkceCodeVerifier::new(journey.verifier.clone()));
        let answer = asked.request_async(&fetch).await.map_err(|e| match e {
            openidconnect::RequestTokenError::Request(e) => unreachable_for(&e),
            openidconnect::RequestTokenError::ServerResponse(said) => OpenIdError::Answer(format!("it refuses the code ({})", refusal(said.error().as_ref()))),
            _ => OpenIdError::Answer("it gives no token".to_owned()),
        })?;
        let token = answer.id_token().ok_or_else(|| OpenIdError::Answer("it gives no identity token".to_owned()))?;
        let subject = match self.subject(&metadata, token, journey) {
            Ok(subject) => subject,
            // It may have changed its keys since.
            Err(OpenIdError::Token(why)) => {
                let anew = self.metadata(AT_LEAST).await?;
                if Arc::ptr_eq(&anew, &metadata) {
                    return Err(OpenIdError::Token(why));
                }
                self.subject(&anew, token, journey)?
            }
            Err(e) => return Err(e),
        };
        let name = match self.name(&payload(token)?) {
            // It may be told only on asking.
            Err(OpenIdError::NoClaim(_)) if metadata.userinfo_endpoint().is_some() => self.name(&self.told(&client, answer.access_token(), &subject).await?)?,
            name => name?,
        };
        Ok(Account { id: format!("{}\n{}", self.settings.issuer, subject.as_str()), name })
    }

    /// What the provider says of itself, if it was asked within `kept`; else it is asked again.
    async fn metadata(&self, kept: Duration) -> Result<Arc<CoreProviderMetadata>, OpenIdError> {
        let mut known = self.known.lock().await;
        if let Some((metadata, at)) = &*known
            && at.elapsed() < kept
        {
            return Ok(Arc::clone(metadata));
        }
        let fetch = |request| self.fetch(request);
        let found = CoreProviderMetadata::discover_async(self.issuer.clone(), &fetch).await.map_err(|e| match e {
            openidconnect::DiscoveryError::Request(e) => unreachable_for(&e),
            openidconnect::DiscoveryError::Response(status, ..) if !status.is_success() => {
                OpenIdError::Unreachable(format!("it responds with {}", status.as_u16()))
            }
            openidconnect::DiscoveryError::Validation(_) => OpenIdError::Answer("it calls itself by another issuer".to_owned()),
            _ => OpenIdError::Answer("it does not describe itself".to_owned()),
        })?;
        let found = Arc::new(found);
        *known = Some((Arc::clone(&found), Instant::now()));
        Ok(found)
    }

    /// The library's client, by what the provider says of itself.
    fn client(&self, metadata: &CoreProviderMetadata, back: &str) -> Result<Client, OpenIdError> {
        let token_uri = metadata.token_endpoint().cloned().ok_or_else(|| OpenIdError::Answer("it does not say where codes are exchanged".to_owned()))?;
        let back = RedirectUrl::new(back.to_owned()).map_err(|e| OpenIdError::Answer(e.to_string()))?;
        let takes = metadata.token_endpoint_auth_methods_supported();
        // Basic authentication is what holds where nothing is said.
        let in_body =
            takes.is_some_and(|takes| !takes.contains(&CoreClientAuthMethod::ClientSecretBasic) && takes.contains(&CoreClientAuthMethod::ClientSecretPost));
        let client = CoreClient::from_provider_metadata(metadata.clone(), ClientId::new(self.settings.client.clone()), self.secret.clone());
        let client = client.set_auth_type(if in_body { AuthType::RequestBody } else { AuthType::BasicAuth });
        Ok(client.set_redirect_uri(back).set_token_uri(token_uri))
    }

    /// Whose token it is, if it is one of this provider, for this service and this journey.
    fn subject(&self, metadata: &CoreProviderMetadata, token: &CoreIdToken, journey: &Journey) -> Result<SubjectIdentifier, OpenIdError> {
        let client = CoreClient::from_provider_metadata(metadata.clone(), ClientId::new(self.settings.client.clone()), self.secret.clone());
        let verifier = client.id_token_verifier().set_allowed_algs(ALGORITHMS);
        let claims = token.claims(&verifier, &Nonce::new(journey.nonce.clone())).map_err(|e| OpenIdError::Token(fault(&e)))?;
        Ok(claims.subject().clone())
    }

    /// What the provider tells of somebody on asking.
    async fn told(&self, client: &Client, token: &AccessToken, subject: &SubjectIdentifier) -> Result<Map<String, Value>, OpenIdError> {
        let fetch = |request| self.fetch(request);
        let unusable = || OpenIdError::Answer("it does not tell who signed in".to_owned());
        let asked = client.user_info(token.clone(), Some(subject.clone())).map_err(|_| unusable())?;
        let claims: UserInfoClaims<Rest, CoreGenderClaim> = asked.request_async(&fetch).await.map_err(|e| match e {
            openidconnect::UserInfoError::Request(e) => unreachable_for(&e),
            _ => unusable(),
        })?;
        match serde_json::to_value(&claims) {
            Ok(Value::Object(claims)) => Ok(claims),
            _ => Err(unusable()),
        }
    }

    /// A person's name here, by what is known of them there.
    fn name(&self, claims: &Map<String, Value>) -> Result<String, OpenIdError> {
        let claim = self.settings.claim.as_str();
        let name = claims.get(claim).and_then(Value::as_str).filter(|name| !name.is_empty()).ok_or_else(|| OpenIdError::NoClaim(claim.to_owned()))?;
        // Some providers write the truth as text.
        let is_true = |value: &Value| value.as_bool() == Some(true) || value.as_str() == Some("true");
        if claim == "email" && !claims.get("email_verified").is_some_and(is_true) {
            return Err(OpenIdError::Unverified);
        }
        Ok(name.to_owned())
    }

    fn fetch(&self, request: HttpRequest) -> impl Future<Output = Result<HttpResponse, FetchError>> + Send + 'static {
        let sent = reqwest::Request::try_from(request).map(|request| self.http.execute(request));
        async move {
            let mut answer = sent?.await?;
            let mut built = openidconnect::http::Response::builder().status(answer.status());
            if let Some(headers) = built.headers_mut() {
                *headers = answer.headers().clone();
            }
            let mut body = Vec::new();
            while let Some(more) = answer.chunk().await? {
                if body.len() + more.len() > MAX_ANSWER {
                    return Err(FetchError::TooLong);
                }
                body.extend_from_slice(&more);
            }
            built.body(body).map_err(|_| FetchError::Unreadable)
        }
    }
}

type Client = openidconnect::core::CoreClient<
    openidconnect::EndpointSet,
    openidconnect::EndpointNotSet,
    openidconnect::EndpointNotSet,
    openidconnect::EndpointNotSet,
    openidconnect::EndpointSet,
    openidconnect::EndpointMaybeSet,
>;

fn unreachable_for(e: &FetchError) -> OpenIdError {
    OpenIdError::Unreachable(match e {
        FetchError::Http(e) if e.is_timeout() => "it takes too long".to_owned(),
        FetchError::Http(e) if e.is_connect() => "it cannot be connected to".to_owned(),
        FetchError::Http(_) => "the connection broke".to_owned(),
        other => other.to_string(),
    })
}

/// The standard's words for a refusal, and nothing else that a provider says.
fn refusal(said: &str) -> &str {
    const WORDS: [&str; 6] = ["invalid_request", "invalid_client", "invalid_grant", "unauthorized_client", "unsupported_grant_type", "invalid_scope"];
    if WORDS.contains(&said) { said } else { "for a reason of its own" }
}

/// What is wrong with a token.
fn fault(e: &ClaimsVerificationError) -> &'static str {
    match e {
        ClaimsVerificationError::Expired(_) => "it has ended",
        ClaimsVerificationError::InvalidAudience(_) => "it is for another client",
        ClaimsVerificationError::InvalidIssuer(_) => "it is another issuer's",
        ClaimsVerificationError::InvalidNonce(_) => "it is for another sign-in",
        ClaimsVerificationError::SignatureVerification(SignatureVerificationError::NoSignature) => "it is not signed",
        ClaimsVerificationError::SignatureVerification(_) => "it is not signed by a key of the provider",
        _ => "it cannot be read",
    }
}

/// All claims of a token that was verified.
fn payload(token: &CoreIdToken) -> Result<Map<String, Value>, OpenIdError> {
    let unreadable = || OpenIdError::Token("its claims cannot be read");
    let text = token.to_string();
    let part = text.split('.').nth(1).ok_or_else(unreadable)?;
    let bytes = URL_SAFE_NO_PAD.decode(part).map_err(|_| unreadable())?;
    serde_json::from_slice(&bytes).map_err(|_| unreadable())
}
