//! The provider keeps to its protocol, so that what signs in by it is held to it, too; and it breaks it in
//! the one way that a test asks for.

use std::{collections::HashMap, process::Command};

use base64::{Engine, engine::general_purpose::URL_SAFE_NO_PAD as URL64};
use maple_lark_demo::{
    OpenIdProvider,
    openid_provider::{Broken, CLIENT, SECRET},
};
use reqwest::{Client, Url, redirect::Policy};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

const BACK: &str = "http://127.0.0.1:9/sign-in/return";
const VERIFIER: &str = "a-proof-key-of-more-than-forty-three-characters-in-all";

/// A client of the provider that has read what it says of itself.
struct Visitor {
    client: Client,
    about: Value,
}

impl Visitor {
    async fn new(provider: &OpenIdProvider) -> Self {
        let client = Client::builder().redirect(Policy::none()).build().unwrap();
        let about = format!("{}/.well-known/openid-configuration", provider.issuer());
        let about = client
            .get(about)
            .send()
            .await
            .unwrap()
            .json()
            .await
            .unwrap();
        Self { client, about }
    }

    fn at(&self, what: &str) -> &str {
        self.about[what].as_str().unwrap()
    }

    /// What the browser is sent to after somebody has given name and password; or the status.
    async fn entered(&self, name: &str, password: &str, scope: &str) -> Result<Url, u16> {
        let challenge = URL64.encode(Sha256::digest(VERIFIER));
        let entry = [
            ("name", name),
            ("password", password),
            ("back", BACK),
            ("state", "of-ours"),
            ("challenge", &challenge),
            ("scope", scope),
            ("nonce", "once"),
        ];
        let url = self.at("authorization_endpoint");
        let answer = self.client.post(url).form(&entry).send().await.unwrap();
        match answer.headers().get("location") {
            Some(to) => Ok(to.to_str().unwrap().parse().unwrap()),
            None => Err(answer.status().as_u16()),
        }
    }

    async fn granted(&self, secret: &str, grant: &[(&str, &str)]) -> (u16, Value) {
        let request = self.client.post(self.at("token_endpoint")).form(grant);
        let answer = request
            .basic_auth(CLIENT, Some(secret))
            .send()
            .await
            .unwrap();
        let status = answer.status().as_u16();
        (status, answer.json().await.unwrap_or_default())
    }

    async fn refreshed(&self, token: &str) -> (u16, Value) {
        let grant = [("grant_type", "refresh_token"), ("refresh_token", token)];
        self.granted(SECRET, &grant).await
    }

    /// Tokens for somebody who has just signed in.
    async fn signed_in(&self, name: &str, scope: &str) -> (u16, Value) {
        let back = self.entered(name, "lighthouse", scope).await.unwrap();
        let code = answered(&back)["code"].clone();
        self.granted(SECRET, &with_code(&code, VERIFIER)).await
    }
}

fn answered(back: &Url) -> HashMap<String, String> {
    back.query_pairs().into_owned().collect()
}

fn with_code<'a>(code: &'a str, verifier: &'a str) -> [(&'a str, &'a str); 4] {
    [
        ("grant_type", "authorization_code"),
        ("code", code),
        ("redirect_uri", BACK),
        ("code_verifier", verifier),
    ]
}

fn claims(tokens: &Value) -> Value {
    let token = tokens["id_token"].as_str().unwrap();
    let claims = URL64.decode(token.split('.').nth(1).unwrap()).unwrap();
    serde_json::from_slice(&claims).unwrap()
}

/// Whether openssl finds that a token was signed with the provider's published key.
async fn is_signed(visitor: &Visitor, tokens: &Value) -> bool {
    let keys = visitor
        .client
        .get(visitor.at("jwks_uri"))
        .send()
        .await
        .unwrap();
    let keys: Value = keys.json().await.unwrap();
    let modulus = URL64
        .decode(keys["keys"][0]["n"].as_str().unwrap())
        .unwrap();
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name).display().to_string();
    let asked = format!(
        "asn1=SEQUENCE:key\n[key]\nalgorithm=SEQUENCE:algorithm\nbits=BITWRAP,SEQUENCE:numbers\n[algorithm]\noid=OID:rsaEncryption\nnothing=NULL\n[numbers]\nn=INTEGER:0x{}\ne=INTEGER:0x010001\n",
        hex::encode(modulus)
    );
    std::fs::write(path("key.conf"), asked).unwrap();
    let token = tokens["id_token"].as_str().unwrap();
    let (signed, signature) = token.rsplit_once('.').unwrap();
    std::fs::write(path("signed"), signed).unwrap();
    std::fs::write(path("signature"), URL64.decode(signature).unwrap()).unwrap();
    let openssl = |arguments: &str| {
        let arguments = arguments.split(' ').map(|one| match one.strip_prefix('@') {
            Some(file) => path(file),
            None => one.to_owned(),
        });
        Command::new("openssl").args(arguments).output().unwrap()
    };
    let made = openssl("asn1parse -genconf @key.conf -noout -out @key.der");
    assert!(made.status.success(), "{made:?}");
    let made = openssl("pkey -pubin -inform DER -in @key.der -out @key.pem");
    assert!(made.status.success(), "{made:?}");
    let checked = openssl("dgst -sha256 -verify @key.pem -signature @signature @signed");
    checked.status.success()
}

#[tokio::test]
async fn somebody_signs_in_and_is_who_the_token_says() {
    let provider = OpenIdProvider::start().await.unwrap();
    provider.member("runa.holm", "lighthouse", &["crew"]);
    let visitor = Visitor::new(&provider).await;
    let back = visitor.entered("runa.holm", "lighthouse", "openid").await;
    let given = answered(&back.unwrap());
    assert_eq!(given["state"], "of-ours");
    let grant = with_code(&given["code"], VERIFIER);
    let (status, tokens) = visitor.granted(SECRET, &grant).await;
    assert_eq!(status, 200, "{tokens}");
    let claims = claims(&tokens);
    for (claim, value) in [
        ("iss", json!(provider.issuer())),
        ("aud", json!(CLIENT)),
        ("nonce", json!("once")),
        ("preferred_username", json!("runa.holm")),
    ] {
        assert_eq!(claims[claim], value);
    }
    assert!(is_signed(&visitor, &tokens).await);
    assert_eq!(tokens["refresh_token"], Value::Null, "none was asked for");
    // A code is good once, and groups are said to whoever has the access token.
    assert_eq!(visitor.granted(SECRET, &grant).await.0, 400);
    let user = visitor.client.get(visitor.at("userinfo_endpoint"));
    let user = user.bearer_auth(tokens["access_token"].as_str().unwrap());
    let user: Value = user.send().await.unwrap().json().await.unwrap();
    assert_eq!(
        (&user["groups"], &user["sub"]),
        (&json!(["crew"]), &claims["sub"])
    );
}

#[tokio::test]
async fn nobody_signs_in_without_password_proof_or_secret() {
    let provider = OpenIdProvider::start().await.unwrap();
    provider.member("runa.holm", "lighthouse", &[]);
    let visitor = Visitor::new(&provider).await;
    for (name, password) in [("runa.holm", "guessed"), ("nobody", "lighthouse")] {
        assert_eq!(visitor.entered(name, password, "openid").await, Err(401));
    }
    for (secret, verifier, expected) in [(SECRET, "another", 400), ("guessed", VERIFIER, 401)] {
        let back = visitor.entered("runa.holm", "lighthouse", "openid").await;
        let code = answered(&back.unwrap())["code"].clone();
        let (status, said) = visitor.granted(secret, &with_code(&code, verifier)).await;
        assert_eq!(status, expected, "{said}");
    }
    let other = [("grant_type", "password"), ("username", "runa.holm")];
    assert_eq!(
        visitor.granted(SECRET, &other).await.1["error"],
        "unsupported_grant_type"
    );
}

#[tokio::test]
async fn a_refresh_token_is_good_once_and_not_for_somebody_who_has_left() {
    let provider = OpenIdProvider::start().await.unwrap();
    provider.member("runa.holm", "lighthouse", &[]);
    let visitor = Visitor::new(&provider).await;
    let (_, tokens) = visitor
        .signed_in("runa.holm", "openid offline_access")
        .await;
    let refresh = |tokens: &Value| tokens["refresh_token"].as_str().unwrap().to_owned();
    let first = refresh(&tokens);
    let (status, tokens) = visitor.refreshed(&first).await;
    assert_eq!(status, 200, "{tokens}");
    assert_eq!(visitor.refreshed(&first).await.0, 400, "it was good once");
    provider.leave("runa.holm");
    let second = refresh(&tokens);
    assert_eq!(visitor.refreshed(&second).await.0, 400, "they have left");
    let back = visitor
        .entered("runa.holm", "lighthouse", "openid")
        .await
        .unwrap();
    assert_eq!(answered(&back)["error"], "access_denied");
}

#[tokio::test]
async fn it_breaks_in_the_one_way_that_it_is_told_to() {
    let provider = OpenIdProvider::start().await.unwrap();
    provider.member("runa.holm", "lighthouse", &[]);
    let visitor = Visitor::new(&provider).await;
    for how in [
        Broken::Nonce,
        Broken::Audience,
        Broken::Expired,
        Broken::Signature,
        Broken::NoRefresh,
    ] {
        provider.breaks(how);
        let (status, tokens) = visitor
            .signed_in("runa.holm", "openid offline_access")
            .await;
        assert_eq!(status, 200);
        let claims = claims(&tokens);
        let wrong = [
            (Broken::Nonce, claims["nonce"] != "once"),
            (Broken::Audience, claims["aud"] != CLIENT),
            (
                Broken::Expired,
                claims["exp"].as_i64() < claims["iat"].as_i64(),
            ),
            (Broken::Signature, !is_signed(&visitor, &tokens).await),
            (Broken::NoRefresh, tokens["refresh_token"].is_null()),
        ];
        for (what, is_wrong) in wrong {
            assert_eq!(is_wrong, what == how, "{what:?} while {how:?}");
        }
    }
    provider.breaks(Broken::Down);
    let about = format!("{}/.well-known/openid-configuration", provider.issuer());
    assert_eq!(
        visitor.client.get(about).send().await.unwrap().status(),
        500
    );
    provider.breaks(Broken::Nothing);
    let out = format!(
        "{}?client_id={CLIENT}&post_logout_redirect_uri={BACK}",
        visitor.at("end_session_endpoint")
    );
    assert_eq!(
        visitor.client.get(out).send().await.unwrap().headers()["location"],
        BACK
    );
    assert_eq!(provider.signed_out(), 1);
}
