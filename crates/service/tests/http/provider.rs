//! Signing in by the organisation's identity provider, as a browser does it.

use std::{collections::HashMap, sync::Mutex, time::Instant};

use maple_lark_demo::{
    OpenIdProvider,
    openid_provider::{Broken, CLIENT, SECRET},
};
use reqwest::{Client, Method, Response, StatusCode, Url, header, redirect::Policy};
use serde_json::{Value, json};

use super::{PATIENCE, Place};

fn configuration(server: &OpenIdProvider) -> String {
    format!(
        "[identity-provider]\nissuer = \"{}\"\ntitle = \"Orrin Sound account\"\nclient = \"{CLIENT}\"\nsecret = \"{SECRET}\"\ncheck-every = \"PT1S\"\n\
         [identity-provider.roles]\nadministrator = [\"operations\"]\nauthor = [\"authors\"]\nviewer = [\"crew\"]\n\
         [identity-provider.teams]\nharbour = [\"crew\"]\n",
        server.issuer()
    )
}

async fn organisation() -> OpenIdProvider {
    let server = OpenIdProvider::start().await.unwrap();
    server.member("runa", "gulls-at-dawn", &["authors", "crew"]);
    server.member("bui", "three-red-buoys", &["crew"]);
    server.member("guest", "only-passing-by", &["visitors"]);
    server.member("admin", "not-the-one-here", &["crew"]);
    server
}

/// A browser: it keeps cookies and goes where it is told, one step at a time.
struct Browser<'p> {
    place: &'p Place,
    client: Client,
    jar: Mutex<HashMap<String, String>>,
}

impl<'p> Browser<'p> {
    fn new(place: &'p Place) -> Self {
        let client = Client::builder().redirect(Policy::none());
        Self {
            place,
            client: client.build().unwrap(),
            jar: Mutex::default(),
        }
    }

    async fn send(&self, method: Method, address: &str) -> Response {
        let own = address.starts_with(&self.place.base);
        let mut request = self.client.request(method, address);
        if own {
            let jar = self.jar.lock().unwrap();
            let all: Vec<String> = jar
                .iter()
                .map(|(name, value)| format!("{name}={value}"))
                .collect();
            request = request
                .header(header::COOKIE, all.join("; "))
                .header("Sec-Fetch-Site", "same-origin");
        }
        let answer = request.send().await.unwrap();
        for cookie in answer.headers().get_all(header::SET_COOKIE) {
            let text = cookie.to_str().unwrap();
            let (name, value) = text.split(';').next().unwrap().split_once('=').unwrap();
            assert!(value.is_empty() || text.contains("HttpOnly"), "{text}");
            let mut jar = self.jar.lock().unwrap();
            match value {
                "" => jar.remove(name),
                value => jar.insert(name.to_owned(), value.to_owned()),
            };
        }
        answer
    }

    async fn get(&self, path: &str) -> Response {
        self.send(Method::GET, &format!("{}{path}", self.place.base))
            .await
    }

    /// Goes to the provider and fills its form in; answers with where it is sent back to.
    async fn at_the_provider(&self, to: &str, name: &str, password: &str) -> String {
        let answer = self.get(&format!("/sign-in/begin?to={to}")).await;
        assert_eq!(answer.status(), StatusCode::SEE_OTHER);
        let address = Url::parse(answer.headers()["location"].to_str().unwrap()).unwrap();
        let asked: HashMap<String, String> = address.query_pairs().into_owned().collect();
        let form = [
            ("name", name),
            ("password", password),
            ("back", &asked["redirect_uri"]),
            ("state", &asked["state"]),
            ("challenge", &asked["code_challenge"]),
            ("scope", &asked["scope"]),
            ("nonce", &asked["nonce"]),
        ];
        let enter = address.join("/enter").unwrap();
        let answer = self.client.post(enter).form(&form).send().await.unwrap();
        answer.headers()["location"].to_str().unwrap().to_owned()
    }

    async fn sign_in(&self, name: &str, password: &str) -> (StatusCode, String) {
        let back = self.at_the_provider("/runs", name, password).await;
        let answer = self.send(Method::GET, &back).await;
        (answer.status(), answer.text().await.unwrap())
    }

    async fn who(&self) -> Value {
        let answer = self.get("/api/v1/session").await;
        answer.json().await.unwrap()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_comes_back_from_the_provider_is_signed_in() {
    let server = organisation().await;
    let place = Place::with(&configuration(&server), &[]).await;
    let admin = place.signed_in("administrator").await;
    let client = Client::new();
    let made = client.post(place.url("/teams")).bearer_auth(&admin);
    let made = made
        .json(&json!({ "name": "harbour" }))
        .send()
        .await
        .unwrap();
    assert!(made.status().is_success());
    let browser = Browser::new(&place);
    let ways: Value = browser.get("/api/v1/sign-in").await.json().await.unwrap();
    assert_eq!(
        ways,
        json!({ "provider": "Orrin Sound account", "passkeys": false })
    );

    let (status, page) = browser.sign_in("runa", "gulls-at-dawn").await;
    assert_eq!(status, StatusCode::OK, "{page}");
    assert!(
        page.contains("url=&#x2f;runs") || page.contains("url=/runs"),
        "{page}"
    );
    let who = browser.who().await;
    assert_eq!(
        (
            &who["name"],
            &who["role"],
            &who["teams"],
            &who["signs_in_by"]
        ),
        (
            &json!("runa"),
            &json!("author"),
            &json!(["harbour"]),
            &json!("provider")
        )
    );
    // What she had for the way is gone with it.
    assert!(
        !browser
            .jar
            .lock()
            .unwrap()
            .contains_key("maple_lark_sign_in")
    );

    // Signed out here, she is told where to sign out there.
    let out = browser.send(Method::DELETE, &place.url("/session")).await;
    let then = out.json::<Value>().await.unwrap();
    let then = then["then"].as_str().unwrap();
    assert!(then.starts_with(&server.issuer()), "{then}");
    assert!(
        browser
            .send(Method::GET, then)
            .await
            .status()
            .is_redirection()
    );
    assert_eq!(server.signed_out(), 1);
    assert_eq!(
        browser.get("/api/v1/session").await.status(),
        StatusCode::UNAUTHORIZED
    );

    // Both are on record, and nothing that is secret is.
    let trail = client
        .get(place.url("/audit?user=runa"))
        .bearer_auth(&admin);
    let trail = trail.send().await.unwrap().text().await.unwrap();
    assert!(
        trail.contains("\"sign_in\"") && trail.contains("by the identity provider"),
        "{trail}"
    );
    assert!(
        !trail.contains("code=") && !trail.contains(SECRET),
        "{trail}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_is_signed_in_by_what_does_not_hold() {
    let server = organisation().await;
    let place = Place::with(&configuration(&server), &[]).await;
    let _ = place.signed_in("administrator").await;
    let refused = async |name: &str, password: &str, expected: StatusCode, words: &str| {
        let browser = Browser::new(&place);
        let (status, page) = browser.sign_in(name, password).await;
        assert_eq!(status, expected, "{name}: {page}");
        assert!(page.contains(words), "{page}");
        assert!(page.contains("href=\"/sign-in\""), "{page}");
        assert_eq!(
            browser.get("/api/v1/session").await.status(),
            StatusCode::UNAUTHORIZED
        );
    };
    let forbidden = StatusCode::FORBIDDEN;
    refused("guest", "only-passing-by", forbidden, "none of your groups").await;
    // Somebody of this name has a password here; they are not the same.
    refused(
        "admin",
        "not-the-one-here",
        forbidden,
        "Somebody else here has the name",
    )
    .await;
    let unavailable = StatusCode::SERVICE_UNAVAILABLE;
    for broken in [
        Broken::Nonce,
        Broken::Audience,
        Broken::Expired,
        Broken::Signature,
        Broken::NoRefresh,
    ] {
        server.breaks(broken);
        refused(
            "runa",
            "gulls-at-dawn",
            unavailable,
            "no answer that counts",
        )
        .await;
    }
    server.breaks(Broken::Nothing);
    server.leave("bui");
    let declined = StatusCode::UNAUTHORIZED;
    refused("bui", "three-red-buoys", declined, "did not let you in").await;

    // A sign-in that one browser began is of no use to another, nor twice.
    let browser = Browser::new(&place);
    let back = browser.at_the_provider("/", "runa", "gulls-at-dawn").await;
    let other = Browser::new(&place);
    assert_eq!(
        other.send(Method::GET, &back).await.status(),
        StatusCode::BAD_REQUEST
    );
    let _ = other.at_the_provider("/", "runa", "gulls-at-dawn").await;
    assert_eq!(
        other.send(Method::GET, &back).await.status(),
        StatusCode::BAD_REQUEST
    );
    assert_eq!(
        browser.send(Method::GET, &back).await.status(),
        StatusCode::OK
    );
    assert_eq!(
        browser.send(Method::GET, &back).await.status(),
        StatusCode::BAD_REQUEST
    );
    // Nor one that another provider says it has sent.
    let back = browser.at_the_provider("/", "runa", "gulls-at-dawn").await;
    let mixed = format!("{back}&iss=https://evil.example");
    assert_eq!(
        browser.send(Method::GET, &mixed).await.status(),
        StatusCode::BAD_REQUEST
    );
    // And nobody is led elsewhere afterwards.
    let back = browser
        .at_the_provider("https://evil.example", "runa", "gulls-at-dawn")
        .await;
    let page = browser.send(Method::GET, &back).await.text().await.unwrap();
    assert!(!page.contains("evil.example"), "{page}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_leaves_the_provider_is_out_and_what_is_its_own_is_not_changed_here() {
    let server = organisation().await;
    let place = Place::with(&configuration(&server), &[]).await;
    let admin = place.signed_in("administrator").await;
    let browser = Browser::new(&place);
    assert_eq!(
        browser.sign_in("bui", "three-red-buoys").await.0,
        StatusCode::OK
    );
    let client = Client::new();
    let ask = async |method: Method, path: &str, body: Value| {
        let request = client.request(method, place.url(path)).bearer_auth(&admin);
        request.json(&body).send().await.unwrap().status()
    };
    let conflict = StatusCode::CONFLICT;
    assert_eq!(
        ask(
            Method::PATCH,
            "/users/bui",
            json!({ "role": "administrator" })
        )
        .await,
        conflict
    );
    assert_eq!(
        ask(Method::POST, "/users/bui/invitation", json!({})).await,
        conflict
    );
    // She has no password here that could be tried.
    let tried = json!({ "name": "bui", "password": "three-red-buoys", "label": "test" });
    let tried = client
        .post(place.url("/tokens"))
        .json(&tried)
        .send()
        .await
        .unwrap();
    assert_eq!(tried.status(), StatusCode::UNAUTHORIZED);

    // Her groups change, and so does what she may; an outage changes nothing.
    server.member("bui", "three-red-buoys", &["operations"]);
    let until = async |what: &str, done: &dyn Fn(&Value) -> bool| {
        let began = Instant::now();
        loop {
            let who = browser.who().await;
            if done(&who) {
                return;
            }
            assert!(began.elapsed() < PATIENCE, "{what}: {who}");
            tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        }
    };
    until("another role", &|who| who["role"] == "administrator").await;
    for broken in [Broken::Down, Broken::Silent] {
        server.breaks(broken);
        tokio::time::sleep(std::time::Duration::from_secs(3)).await;
        assert_eq!(browser.who().await["role"], "administrator", "{broken:?}");
    }
    // Whatever was used up meanwhile, it is looked again.
    server.breaks(Broken::Nothing);
    server.member("bui", "three-red-buoys", &["authors"]);
    until("yet another role", &|who| who["role"] == "author").await;
    server.leave("bui");
    until("signed out", &|who| who["status"] == 401).await;
    let trail = client
        .get(place.url("/audit?action=left_directory"))
        .bearer_auth(&admin);
    let trail: Value = trail.send().await.unwrap().json().await.unwrap();
    assert_eq!(trail["items"][0]["subject"], "bui", "{trail:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn without_a_provider_there_is_no_way_to_one() {
    let place = Place::new().await;
    let browser = Browser::new(&place);
    let ways: Value = browser.get("/api/v1/sign-in").await.json().await.unwrap();
    assert_eq!(ways, json!({ "provider": null, "passkeys": false }));
    for path in ["/sign-in/begin", "/sign-in/return?code=a&state=b"] {
        let answer = browser.get(path).await;
        assert_eq!(answer.status(), StatusCode::NOT_FOUND);
        assert!(
            answer
                .text()
                .await
                .unwrap()
                .contains("no identity provider")
        );
    }
}
