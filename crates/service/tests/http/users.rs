//! Users: invited, changed, disabled and removed; and what they do with their own sign-in.

use reqwest::{Client, Method, RequestBuilder, Response, StatusCode};
use serde_json::{Value, json};

use super::{PASSWORD, Place, problem};

const NEW: &str = "ferry tide lantern crow";

struct Asking<'p> {
    place: &'p Place,
    client: Client,
    token: String,
}

impl Asking<'_> {
    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.client.request(method, self.place.url(path));
        request.bearer_auth(&self.token)
    }

    async fn ask(&self, method: Method, path: &str, body: Value) -> Response {
        self.request(method, path).json(&body).send().await.unwrap()
    }

    /// What a refusal says.
    async fn refused(&self, method: Method, path: &str, body: Value) -> (StatusCode, String) {
        problem(self.ask(method, path, body).await).await
    }
}

async fn signs_in(place: &Place, name: &str, password: &str) -> Response {
    let credentials = json!({ "name": name, "password": password, "label": "test" });
    let client = Client::new();
    let request = client.post(place.url("/tokens")).json(&credentials);
    request.send().await.unwrap()
}

fn secret_of(invitation: &Value) -> String {
    let link = invitation["link"].as_str().unwrap();
    link.split_once("/invitation#").unwrap().1.to_owned()
}

fn cookie(answer: &Response) -> String {
    let set = answer.headers()["set-cookie"].to_str().unwrap();
    set.split(';').next().unwrap().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn somebody_is_invited_chooses_a_password_and_looks_after_it() {
    let place = Place::new().await;
    let admin = Asking {
        token: place.signed_in("administrator").await,
        client: Client::new(),
        place: &place,
    };
    let runa = json!({ "name": "runa.holm", "role": "viewer" });
    for (wrong, words) in [
        (
            json!({ "name": "runa holm", "role": "viewer" }),
            "letters, digits",
        ),
        (
            json!({ "name": "runa", "role": "viewer", "email": "runa" }),
            "\"runa\"",
        ),
        (json!({ "name": "runa", "role": "king" }), "king"),
    ] {
        let (status, said) = admin.refused(Method::POST, "/users", wrong).await;
        assert!(
            status.is_client_error() && said.contains(words),
            "{status} {said}"
        );
    }
    let invitation: Value = admin
        .ask(Method::POST, "/users", runa.clone())
        .await
        .json()
        .await
        .unwrap();
    assert_eq!(invitation["reason"], "the user has no mail address");
    let token = secret_of(&invitation);
    let (status, said) = admin.refused(Method::POST, "/users", runa).await;
    assert_eq!(status, StatusCode::CONFLICT, "{said}");
    assert_eq!(
        signs_in(&place, "runa.holm", "").await.status(),
        StatusCode::UNAUTHORIZED
    );

    // Whoever has the link, and nobody else.
    let open = Client::new();
    let post = async |path: &str, body: Value| {
        let request = open.post(place.url(path)).json(&body);
        request.send().await.unwrap()
    };
    let (status, _) = problem(post("/invitations", json!({ "token": "another" })).await).await;
    assert_eq!(status, StatusCode::NOT_FOUND);
    let seen: Value = post("/invitations", json!({ "token": token }))
        .await
        .json()
        .await
        .unwrap();
    assert_eq!(
        (&seen["name"], &seen["role"]),
        (&json!("runa.holm"), &json!("viewer"))
    );
    for (bad, words) in [("short", "too short"), ("password123", "tried first")] {
        let accepted = post(
            "/invitations/accept",
            json!({ "token": token, "password": bad }),
        )
        .await;
        let (status, said) = problem(accepted).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(said.contains(words), "{said}");
    }
    let accepted = post(
        "/invitations/accept",
        json!({ "token": token, "password": NEW }),
    )
    .await;
    assert_eq!(accepted.status(), StatusCode::OK);
    let session = cookie(&accepted);
    let again = post(
        "/invitations/accept",
        json!({ "token": token, "password": PASSWORD }),
    )
    .await;
    assert_eq!(again.status(), StatusCode::NOT_FOUND, "it is good once");

    // Her own sign-ins.
    let by_cookie = async |cookie: &str, method: Method, path: &str, body: Value| {
        let request = open
            .request(method, place.url(path))
            .header("Cookie", cookie);
        let request = request.header("Sec-Fetch-Site", "same-origin").json(&body);
        request.send().await.unwrap()
    };
    let other = post("/session", json!({ "name": "runa.holm", "password": NEW })).await;
    let other = cookie(&other);
    let sessions: Vec<Value> = by_cookie(&session, Method::GET, "/sessions", json!({}))
        .await
        .json()
        .await
        .unwrap();
    let current: Vec<bool> = sessions.iter().map(|one| one["current"] == true).collect();
    assert_eq!(current, [false, true], "the newest first");
    let change = |current: &str, new: &str| json!({ "current": current, "new": new });
    let better = "havnes pier at dawn";
    for (current, new, words) in [
        ("wrong", better, "nothing was changed"),
        (NEW, "1234567890", "tried first"),
    ] {
        let refused = by_cookie(
            &session,
            Method::PUT,
            "/session/password",
            change(current, new),
        )
        .await;
        let (status, said) = problem(refused).await;
        assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
        assert!(said.contains(words), "{said}");
    }
    let changed = by_cookie(
        &session,
        Method::PUT,
        "/session/password",
        change(NEW, better),
    )
    .await;
    assert_eq!(changed.status(), StatusCode::NO_CONTENT);
    // A browser that was left signed in is no place to guess at.
    let mut guesses = Vec::new();
    for _ in 0..6 {
        let guess = change("guess", NEW);
        let answer = by_cookie(&session, Method::PUT, "/session/password", guess).await;
        guesses.push(answer.status().as_u16());
    }
    assert_eq!(guesses, [422, 422, 422, 422, 422, 429]);
    let is_in = async |cookie: &str| {
        let answer = by_cookie(cookie, Method::GET, "/session", json!({})).await;
        answer.status() == StatusCode::OK
    };
    assert!(is_in(&session).await && !is_in(&other).await);
    assert_eq!(
        signs_in(&place, "runa.holm", NEW).await.status(),
        StatusCode::UNAUTHORIZED
    );
    let made: Value = signs_in(&place, "runa.holm", better)
        .await
        .json()
        .await
        .unwrap();
    let hers = Asking {
        token: made["token"].as_str().unwrap().to_owned(),
        client: Client::new(),
        place: &place,
    };
    let (status, _) = hers.refused(Method::GET, "/users", json!({})).await;
    assert_eq!(status, StatusCode::FORBIDDEN);

    // Disabled, she is out at once; enabled, her token is as good as before.
    let path = "/users/runa.holm";
    let disabled = admin
        .ask(Method::PATCH, path, json!({ "disabled": true }))
        .await;
    assert_eq!(disabled.status(), StatusCode::NO_CONTENT);
    assert!(!is_in(&session).await);
    let asked = hers.ask(Method::GET, "/session", json!({})).await;
    assert_eq!(asked.status(), StatusCode::UNAUTHORIZED);
    assert_eq!(
        signs_in(&place, "runa.holm", better).await.status(),
        StatusCode::UNAUTHORIZED
    );
    let (status, said) = admin
        .refused(Method::POST, "/users/runa.holm/invitation", json!({}))
        .await;
    assert!(
        status == StatusCode::CONFLICT && said.contains("enable the user first"),
        "{said}"
    );
    admin
        .ask(Method::PATCH, path, json!({ "disabled": false }))
        .await;
    let asked = hers.ask(Method::GET, "/session", json!({})).await;
    assert_eq!(asked.status(), StatusCode::OK);
    let listed: Value = admin
        .ask(Method::GET, "/users", json!({}))
        .await
        .json()
        .await
        .unwrap();
    let entry = &listed["items"][1];
    assert_eq!(
        (&entry["name"], &entry["has_password"]),
        (&json!("runa.holm"), &json!(true))
    );
    assert!(!entry["last_seen_at"].is_null() && entry["disabled_at"].is_null());
    assert!(!listed.to_string().contains("argon2"));

    // A forgotten password: the old one stays good until another is chosen.
    let link: Value = admin
        .ask(Method::POST, "/users/runa.holm/invitation", json!({}))
        .await
        .json()
        .await
        .unwrap();
    assert!(
        signs_in(&place, "runa.holm", better)
            .await
            .status()
            .is_success()
    );
    let token = secret_of(&link);
    let accepted = post(
        "/invitations/accept",
        json!({ "token": token, "password": NEW }),
    )
    .await;
    assert_eq!(accepted.status(), StatusCode::OK);
    assert!(
        signs_in(&place, "runa.holm", NEW)
            .await
            .status()
            .is_success()
    );
    let gone = admin.ask(Method::DELETE, path, json!({})).await;
    assert_eq!(gone.status(), StatusCode::NO_CONTENT);
    let asked = hers.ask(Method::GET, "/session", json!({})).await;
    assert_eq!(asked.status(), StatusCode::UNAUTHORIZED);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_last_administrator_stays_one() {
    let place = Place::new().await;
    let admin = Asking {
        token: place.signed_in("administrator").await,
        client: Client::new(),
        place: &place,
    };
    for (method, body) in [
        (Method::PATCH, json!({ "role": "author" })),
        (Method::PATCH, json!({ "disabled": true })),
        (Method::DELETE, json!({})),
    ] {
        let (status, said) = admin.refused(method, "/users/admin", body).await;
        assert_eq!(status, StatusCode::CONFLICT);
        assert!(said.contains("make somebody else one first"), "{said}");
    }
    let second = json!({ "name": "second", "role": "administrator" });
    let invitation: Value = admin
        .ask(Method::POST, "/users", second)
        .await
        .json()
        .await
        .unwrap();
    // An invitation that nobody has accepted is no administrator yet.
    let (status, _) = admin
        .refused(Method::DELETE, "/users/admin", json!({}))
        .await;
    assert_eq!(status, StatusCode::CONFLICT);
    let acceptance = json!({ "token": secret_of(&invitation), "password": NEW });
    let open = Client::new();
    let accepted = open
        .post(place.url("/invitations/accept"))
        .json(&acceptance);
    assert_eq!(accepted.send().await.unwrap().status(), StatusCode::OK);
    let gone = admin.ask(Method::DELETE, "/users/admin", json!({})).await;
    assert_eq!(gone.status(), StatusCode::NO_CONTENT);
    assert_eq!(
        signs_in(&place, "admin", PASSWORD).await.status(),
        StatusCode::UNAUTHORIZED
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn nobody_learns_who_there_is_by_asking_for_a_link_and_nobody_asks_for_many() {
    let place = Place::new().await;
    let ask = async |from: u8, name: &str| {
        let request = Place::client(from).post(place.url("/password-links"));
        request.json(&json!({ "name": name })).send().await.unwrap()
    };
    let admin = Asking {
        token: place.signed_in("administrator").await,
        client: Client::new(),
        place: &place,
    };
    let email = json!({ "email": "admin@orrin-sound.example" });
    admin.ask(Method::PATCH, "/users/admin", email).await;
    for name in ["admin", "nobody"] {
        let answer = ask(1, name).await;
        assert_eq!(answer.status(), StatusCode::NO_CONTENT, "{name}");
        assert!(answer.bytes().await.unwrap().is_empty());
    }
    for _ in 0..2 {
        assert_eq!(ask(2, "admin").await.status(), StatusCode::NO_CONTENT);
    }
    let (status, said) = problem(ask(3, "admin").await).await;
    assert_eq!(status, StatusCode::TOO_MANY_REQUESTS, "{said}");
    for n in 0..10 {
        assert_eq!(
            ask(4, &format!("x{n}")).await.status(),
            StatusCode::NO_CONTENT
        );
    }
    assert_eq!(ask(4, "y").await.status(), StatusCode::TOO_MANY_REQUESTS);
    // The password stays what it is.
    assert!(
        signs_in(&place, "admin", PASSWORD)
            .await
            .status()
            .is_success()
    );
}

/// What a device shows that has this key, so many steps of 30 seconds from now.
fn shown(key: &str, steps: i64) -> String {
    let secret = totp_rs::Secret::try_from_base32(key).unwrap();
    let device = totp_rs::Builder::new().with_secret(secret).build().unwrap();
    let at = chrono::Utc::now().timestamp() + steps * 30;
    device.generate(at.unsigned_abs()).to_string()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_factor_is_asked_for_and_no_code_is_good_twice() {
    let place = Place::new().await;
    let admin = Asking {
        token: place.signed_in("administrator").await,
        client: Client::new(),
        place: &place,
    };
    let (name, password) = ("runa", NEW);
    let invited = json!({ "name": name, "role": "viewer" });
    let invited = admin.ask(Method::POST, "/users", invited).await;
    let token = secret_of(&invited.json().await.unwrap());
    let accept = json!({ "token": token, "password": password });
    admin.ask(Method::POST, "/invitations/accept", accept).await;
    let signed_in: Value = signs_in(&place, name, password).await.json().await.unwrap();
    let viewer = Asking {
        token: signed_in["token"].as_str().unwrap().to_owned(),
        client: Client::new(),
        place: &place,
    };
    let factor = "/session/second-factor";
    let wrong = json!({ "password": "another" });
    let (status, said) = viewer.refused(Method::POST, factor, wrong).await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{said}");
    let again = json!({ "password": password });
    let (status, said) = viewer
        .refused(Method::PUT, factor, json!({ "code": "123456" }))
        .await;
    assert_eq!(status, StatusCode::CONFLICT, "{said}");
    let begun = viewer.ask(Method::POST, factor, again.clone()).await;
    let begun: Value = begun.json().await.unwrap();
    let key = begun["key"].as_str().unwrap();
    let uri = begun["uri"].as_str().unwrap();
    assert!(
        uri.starts_with("otpauth://totp/") && uri.contains(key),
        "{uri}"
    );
    assert!(begun["svg"].as_str().unwrap().contains("<svg"));
    // Nobody is asked for what was not confirmed.
    assert_eq!(
        signs_in(&place, name, password).await.status(),
        StatusCode::CREATED
    );
    let (status, said) = viewer
        .refused(Method::PUT, factor, json!({ "code": shown(key, 9) }))
        .await;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY, "{said}");
    let confirmed = json!({ "code": shown(key, -1) });
    let confirmed = viewer.ask(Method::PUT, factor, confirmed).await;
    let confirmed: Value = confirmed.json().await.unwrap();
    let codes = confirmed["codes"].as_array().unwrap();
    assert_eq!(codes.len(), 10);
    // The key is kept sealed, the codes as digests.
    let kept: String = sqlx::query_scalar("select row_to_json(u)::text || (select json_agg(c)::text from recovery_codes c) from users u where name = $1")
        .bind(name)
        .fetch_one(&mut place.cluster.connect("maple_lark").await.unwrap())
        .await
        .unwrap();
    assert!(!kept.contains(key) && !kept.contains(codes[0].as_str().unwrap()));

    let tries = async |path: &str, code: Option<&str>| {
        let mut given = json!({ "name": name, "password": password });
        if path == "/tokens" {
            given["label"] = "test".into();
        }
        if let Some(code) = code {
            given["code"] = code.into();
        }
        let sent = Client::new().post(place.url(path)).json(&given).send();
        let answer = sent.await.unwrap();
        let status = answer.status();
        let said: Value = answer.json().await.unwrap();
        (status, said)
    };
    for path in ["/session", "/tokens"] {
        let (status, said) = tries(path, None).await;
        assert_eq!(
            (status, &said["needs_code"]),
            (StatusCode::UNAUTHORIZED, &json!(true)),
            "{said}"
        );
    }
    let now = shown(key, 0);
    assert_eq!(tries("/session", Some(&now)).await.0, StatusCode::OK);
    let (status, said) = tries("/tokens", Some(&now)).await;
    assert_eq!(
        (status, &said["needs_code"]),
        (StatusCode::UNAUTHORIZED, &json!(true)),
        "twice"
    );
    let lost = codes[3].as_str().unwrap().to_uppercase();
    assert_eq!(tries("/tokens", Some(&lost)).await.0, StatusCode::CREATED);
    assert_eq!(
        tries("/tokens", Some(&lost)).await.0,
        StatusCode::UNAUTHORIZED,
        "twice"
    );
    let left: Value = viewer
        .ask(Method::GET, factor, json!({}))
        .await
        .json()
        .await
        .unwrap();
    assert_eq!(left["recovery_codes"], 9);

    // A link for a new password stands for the password alone.
    let link = admin
        .ask(Method::POST, "/users/runa/invitation", json!({}))
        .await;
    let token = secret_of(&link.json().await.unwrap());
    let another = "gull rope harbour dusk";
    let accept = json!({ "token": token, "password": another });
    let answer = Client::new()
        .post(place.url("/invitations/accept"))
        .json(&accept)
        .send();
    let answer = answer.await.unwrap();
    assert!(answer.headers().get("set-cookie").is_none());
    assert_eq!(problem(answer).await.0, StatusCode::UNAUTHORIZED);
    let mut with_code = accept.clone();
    with_code["code"] = codes[4].clone();
    let answer = Client::new()
        .post(place.url("/invitations/accept"))
        .json(&with_code)
        .send();
    assert_eq!(answer.await.unwrap().status(), StatusCode::OK);

    // Whoever has the password guesses no code.
    let guess = async || {
        let given = json!({ "name": name, "password": another, "label": "test", "code": "000000" });
        let sent = Client::new().post(place.url("/tokens")).json(&given).send();
        sent.await.unwrap().status()
    };
    let mut guesses = 0;
    while guess().await != StatusCode::TOO_MANY_REQUESTS {
        guesses += 1;
        assert!(guesses < 10, "codes are guessed without end");
    }

    // Lost for good: an administrator lets them in with the password alone.
    let reset = "/users/runa/second-factor";
    assert_eq!(
        admin.ask(Method::DELETE, reset, json!({})).await.status(),
        StatusCode::NO_CONTENT
    );
    let (status, _) = admin.refused(Method::DELETE, reset, json!({})).await;
    assert_eq!(status, StatusCode::CONFLICT);
    let left: Value = viewer
        .ask(Method::GET, factor, json!({}))
        .await
        .json()
        .await
        .unwrap();
    assert_eq!(
        (&left["since"], &left["recovery_codes"]),
        (&Value::Null, &json!(0))
    );
}
