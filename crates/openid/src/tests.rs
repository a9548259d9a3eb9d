use std::sync::{Arc, Mutex};

use crate::standin::{StandIn, Twist, serve};
use crate::{Account, Journey, Journeys, OpenIdError, Provider, Settings};

const BACK: &str = "http://127.0.0.1:9/back";

struct Trial {
    provider: Provider,
    journeys: Journeys,
    twist: Arc<Mutex<Twist>>,
    issuer: String,
}

impl Trial {
    /// A provider and a stand-in, where the secret of each is this.
    async fn with(ours: Option<&str>, theirs: Option<&str>) -> Trial {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let issuer = format!("http://{}", listener.local_addr().unwrap());
        let twist: Arc<Mutex<Twist>> = Arc::default();
        let stand_in =
            StandIn { client: "rockrose".into(), secret: theirs.map(str::to_owned), accounts: vec!["ann@ferries.example".into(), "bo@ferries.example".into()] };
        tokio::spawn(serve(stand_in, listener, Arc::clone(&twist), std::future::pending()));
        let folder = tempfile::tempdir().unwrap();
        let secret_file = ours.map(|secret| {
            std::fs::write(folder.path().join("secret"), format!("{secret}\n")).unwrap();
            folder.path().join("secret")
        });
        let settings = Settings {
            issuer: issuer.clone(),
            client: "rockrose".into(),
            secret_file,
            claim: "email".into(),
            label: None,
            scopes: vec!["email".into()],
            ca: None,
        };
        Trial { provider: Provider::new(settings).unwrap_or_else(|e| panic!("{e}")), journeys: Journeys::new().unwrap(), twist, issuer }
    }

    /// A browser's way there: its journey, and the query that it comes back with.
    async fn go(&self, account: &str) -> (Journey, Vec<(String, String)>) {
        let journey = self.journeys.begin(0).unwrap();
        let url = self.provider.begin(&journey, BACK).await.unwrap();
        let chosen = format!("{}&account={account}", url.replace("/authorize?", "/enter?"));
        let answer = reqwest::Client::builder().redirect(reqwest::redirect::Policy::none()).no_proxy().build().unwrap().get(chosen).send().await.unwrap();
        let to = answer.headers()["location"].to_str().unwrap().to_owned();
        let query = to.strip_prefix(&format!("{BACK}?")).unwrap();
        (journey, form_urlencoded::parse(query.as_bytes()).into_owned().collect())
    }

    async fn sign_in(&self, account: &str) -> Result<Account, OpenIdError> {
        let (journey, query) = self.go(account).await;
        let part = |name: &str| query.iter().find(|(n, _)| n == name).map(|(_, v)| v.clone()).unwrap();
        let back = self.journeys.back(&journey.carried, &part("state"), 1).unwrap();
        self.provider.finish(&back, &part("code"), BACK).await
    }

    fn does(&self, twist: Twist) {
        *self.twist.lock().unwrap() = twist;
    }
}

#[tokio::test]
async fn an_account_is_known_by_what_the_provider_signed() {
    for secret in [Some("tern"), None] {
        let trial = Trial::with(secret, secret).await;
        let ann = trial.sign_in("ann@ferries.example").await.unwrap();
        assert_eq!(ann.name, "ann@ferries.example");
        assert!(ann.id.starts_with(&format!("{}\n", trial.issuer)));
        assert_eq!(trial.sign_in("ann@ferries.example").await.unwrap(), ann);
        assert_ne!(trial.sign_in("bo@ferries.example").await.unwrap().id, ann.id);
        trial.does(Twist::OnAsking);
        assert_eq!(trial.sign_in("ann@ferries.example").await.unwrap(), ann);
    }
}

#[tokio::test]
async fn what_a_provider_should_not_do_signs_nobody_in() {
    let trial = Trial::with(Some("tern"), Some("tern")).await;
    trial.sign_in("ann@ferries.example").await.unwrap();
    for (twist, says) in [
        (Twist::OtherIssuer, "another issuer"),
        (Twist::OtherClient, "another client"),
        (Twist::OtherNonce, "another sign-in"),
        (Twist::Ended, "has ended"),
        (Twist::Unsigned, "not signed"),
        (Twist::BySecret, "not signed by a key"),
        (Twist::Changed, "not signed by a key"),
        (Twist::Unverified, "not verified"),
        (Twist::OtherOnAsking, "does not tell who"),
        (Twist::NoToken, "no identity token"),
    ] {
        trial.does(twist);
        let refused = trial.sign_in("ann@ferries.example").await.map_err(|e| e.to_string());
        assert!(refused.as_ref().is_err_and(|e| e.contains(says)), "{twist:?}: {refused:?}");
    }
}

#[tokio::test]
async fn a_code_is_good_once_with_its_verifier_and_secret() {
    let trial = Trial::with(Some("tern"), Some("tern")).await;
    let (journey, query) = trial.go("ann@ferries.example").await;
    let code = query.iter().find(|(n, _)| n == "code").map(|(_, v)| v.clone()).unwrap();
    // Somebody else's journey with a code that they saw.
    let other = trial.journeys.begin(0).unwrap();
    let refused = |r: Result<Account, OpenIdError>, says: &str| {
        let said = r.map_err(|e| e.to_string());
        assert!(said.as_ref().is_err_and(|e| e.contains(says) && !e.contains("words of the provider")), "{said:?}");
    };
    refused(trial.provider.finish(&other, &code, BACK).await, "invalid_grant");
    refused(trial.provider.finish(&journey, &code, BACK).await, "invalid_grant");
    let wrong = Trial::with(Some("heron"), Some("tern")).await;
    refused(wrong.sign_in("ann@ferries.example").await, "invalid_client");
}

#[tokio::test]
async fn a_provider_that_cannot_be_asked_is_told_so() {
    let trial = Trial::with(None, None).await;
    trial.does(Twist::Garbage);
    let journey = trial.journeys.begin(0).unwrap();
    assert!(trial.provider.begin(&journey, BACK).await.unwrap_err().to_string().contains("does not describe itself"));
    // It is asked again the next time.
    trial.does(Twist::None);
    trial.provider.begin(&journey, BACK).await.unwrap();
    let nobody =
        Settings { issuer: "http://127.0.0.1:9".into(), client: "r".into(), secret_file: None, claim: "email".into(), label: None, scopes: vec![], ca: None };
    let nobody = Provider::new(nobody).unwrap_or_else(|e| panic!("{e}"));
    assert!(nobody.begin(&journey, BACK).await.unwrap_err().to_string().contains("cannot be connected to"));
}
