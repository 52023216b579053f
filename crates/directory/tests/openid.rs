//! The provider is asked over its own protocol; what it signs is made by openssl, not by the library
//! that checks it.

use std::{collections::HashMap, time::Duration};

use maple_lark_demo::{
    OpenIdProvider,
    openid_provider::{Broken, CLIENT, SECRET},
};
use maple_lark_directory::{Begun, LetIn, NotLooked, Provider, ProviderError, ProviderSettings};
use reqwest::{Client, StatusCode, redirect::Policy};
use url::Url;

const BACK: &str = "http://127.0.0.1:9/sign-in/return";

fn settings(server: &OpenIdProvider) -> ProviderSettings {
    ProviderSettings {
        issuer: server.issuer(),
        client: CLIENT.to_owned(),
        secret: Some(SECRET.to_owned()),
        scopes: vec!["profile".to_owned(), "email".to_owned()],
        name: "preferred_username".to_owned(),
        mail: "email".to_owned(),
        groups: "groups".to_owned(),
        back: BACK.to_owned(),
        looks_later: true,
        ca: None,
        timeout: Duration::from_secs(10),
    }
}

async fn server() -> OpenIdProvider {
    let server = OpenIdProvider::start().await.unwrap();
    server.member("runa", "gulls-at-dawn", &["authors", "harbour"]);
    server
}

/// What a browser does: the form of the provider is filled in. Answers with what comes back.
async fn signs_in(begun: &Begun, name: &str, password: &str) -> HashMap<String, String> {
    let asked: HashMap<String, String> = begun.address.query_pairs().into_owned().collect();
    assert_eq!(asked["code_challenge_method"], "S256");
    assert_eq!(asked["redirect_uri"], BACK);
    assert!(!begun.address.as_str().contains(&begun.verifier));
    let form = [
        ("name", name),
        ("password", password),
        ("back", &asked["redirect_uri"]),
        ("state", &asked["state"]),
        ("challenge", &asked["code_challenge"]),
        ("scope", &asked["scope"]),
        ("nonce", &asked["nonce"]),
    ];
    let client = Client::builder().redirect(Policy::none()).build().unwrap();
    let enter = begun.address.join("/enter").unwrap();
    let answer = client.post(enter).form(&form).send().await.unwrap();
    assert_eq!(answer.status(), StatusCode::SEE_OTHER);
    let place = answer.headers()["location"].to_str().unwrap();
    Url::parse(place)
        .unwrap()
        .query_pairs()
        .into_owned()
        .collect()
}

/// One sign-in from its beginning to its end.
async fn sign_in(provider: &Provider) -> Result<LetIn, ProviderError> {
    let begun = provider.begin().await?;
    let back = signs_in(&begun, "runa", "gulls-at-dawn").await;
    assert_eq!(back["state"], begun.state);
    provider
        .finish(back["code"].clone(), begun.nonce, begun.verifier)
        .await
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_is_known_with_their_groups_and_looked_at_again() {
    let server = server().await;
    let provider = Provider::new(settings(&server)).unwrap();
    assert!(provider.test().await.unwrap().ends_with("answers"));
    let first = sign_in(&provider)
        .await
        .unwrap_or_else(|error| panic!("{error}"));
    let person = &first.person;
    assert_eq!(person.name, "runa");
    assert_eq!(person.mail.as_deref(), Some("runa@orrin-sound.example"));
    // These are in no token; the provider says them when it is asked.
    assert_eq!(person.groups, ["authors", "harbour"]);
    assert_ne!(person.entry, "runa");

    server.member("runa", "gulls-at-dawn", &["viewers"]);
    let grant = first.grant.clone().unwrap();
    let again = provider.look_again(&grant, &person.entry).await.unwrap();
    let again = again.expect("she is still let in");
    assert_eq!(again.person.groups, ["viewers"]);
    // A grant is good once; the next came with the answer.
    assert!(
        provider
            .look_again(&grant, &person.entry)
            .await
            .unwrap()
            .is_none()
    );
    let grant = again.grant.unwrap();
    let other = provider.look_again(&grant, "somebody else").await;
    assert!(matches!(
        other,
        Err(NotLooked {
            error: ProviderError::NotValid(_),
            ..
        })
    ));

    let next = sign_in(&provider)
        .await
        .unwrap_or_else(|error| panic!("{error}"));
    server.leave("runa");
    let left = provider
        .look_again(&next.grant.unwrap(), &person.entry)
        .await;
    assert!(left.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_does_not_hold_lets_nobody_in() {
    let server = server().await;
    let provider = Provider::new(settings(&server)).unwrap();
    for (broken, words) in [
        (Broken::Nonce, "another sign-in"),
        (Broken::Audience, "audience"),
        (Broken::Expired, "xpired"),
        (Broken::Signature, "ignature"),
        (Broken::NoRefresh, "no refresh token"),
        (Broken::Down, "refuses"),
    ] {
        server.breaks(broken);
        let Err(error) = sign_in(&provider).await else {
            panic!("{broken:?} was let in");
        };
        let said = error.to_string();
        assert!(said.contains(words), "{broken:?}: {said}");
        assert!(!said.contains(SECRET), "{said}");
    }
    server.breaks(Broken::Nothing);

    // A code is good for who began, and once.
    let begun = provider.begin().await.unwrap();
    let back = signs_in(&begun, "runa", "gulls-at-dawn").await;
    let other = provider.begin().await.unwrap();
    let stolen = provider.finish(back["code"].clone(), other.nonce, other.verifier);
    assert!(matches!(stolen.await, Err(ProviderError::Refused(_))));
    let used = provider.finish(back["code"].clone(), begun.nonce, begun.verifier);
    assert!(matches!(used.await, Err(ProviderError::Refused(_))));

    let mut wrong = settings(&server);
    wrong.secret = Some("not-it".to_owned());
    let refused = sign_in(&Provider::new(wrong).unwrap()).await;
    assert!(refused.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_provider_that_is_not_there_says_nothing_of_anybody() {
    let server = server().await;
    let provider = Provider::new(settings(&server)).unwrap();
    let runa = sign_in(&provider)
        .await
        .unwrap_or_else(|error| panic!("{error}"));
    server.breaks(Broken::Down);
    let grant = runa.grant.unwrap();
    assert!(
        provider
            .look_again(&grant, &runa.person.entry)
            .await
            .is_err()
    );
    // An outage costs nobody their grant.
    server.breaks(Broken::Nothing);
    let again = provider
        .look_again(&grant, &runa.person.entry)
        .await
        .unwrap();
    assert!(again.is_some());

    // A grant that was used up before the provider fell silent is followed by the next.
    let grant = again.unwrap().grant.unwrap();
    server.breaks(Broken::Silent);
    let Err(failed) = provider.look_again(&grant, &runa.person.entry).await else {
        panic!("nobody said who she is");
    };
    assert!(failed.to_string().contains("gives no answer"), "{failed}");
    server.breaks(Broken::Nothing);
    let shown = format!("{failed:?}");
    let next = failed.grant.expect("the next grant came already");
    assert!(!shown.contains(&next), "{shown}");
    let again = provider
        .look_again(&next, &runa.person.entry)
        .await
        .unwrap();
    assert!(again.is_some());

    let mut elsewhere = settings(&server);
    elsewhere.issuer = "http://127.0.0.1:9".to_owned();
    let nowhere = Provider::new(elsewhere).unwrap();
    let error = nowhere.test().await.unwrap_err().to_string();
    assert!(
        error.contains("http://127.0.0.1:9 gives no answer"),
        "{error}"
    );
    assert!(nowhere.sign_out("http://127.0.0.1:9/").await.is_none());

    // One that calls itself otherwise is another.
    let mut other = settings(&server);
    other.issuer = format!("{}/", server.issuer());
    let error = Provider::new(other).unwrap().begin().await.err().unwrap();
    assert!(error.to_string().contains("gives no answer"), "{error}");

    let mut unwritten = settings(&server);
    unwritten.back = "not an address".to_owned();
    assert!(matches!(
        Provider::new(unwritten),
        Err(ProviderError::Address { .. })
    ));
    let mut untrusted = settings(&server);
    untrusted.ca = Some(b"no certificate".to_vec());
    assert!(matches!(
        Provider::new(untrusted),
        Err(ProviderError::Certificates)
    ));
}

#[tokio::test(flavor = "multi_thread")]
async fn the_way_out_leads_back_to_where_it_should() {
    let server = server().await;
    let mut settings = settings(&server);
    settings.looks_later = false;
    let provider = Provider::new(settings).unwrap();
    // Leave to look later is asked for only where somebody looks.
    assert!(
        !provider
            .begin()
            .await
            .unwrap()
            .address
            .as_str()
            .contains("offline")
    );
    let out = provider
        .sign_out("http://127.0.0.1:9/sign-in")
        .await
        .unwrap();
    let client = Client::builder().redirect(Policy::none()).build().unwrap();
    let answer = client.get(out).send().await.unwrap();
    assert_eq!(answer.headers()["location"], "http://127.0.0.1:9/sign-in");
    assert_eq!(server.signed_out(), 1);
}
