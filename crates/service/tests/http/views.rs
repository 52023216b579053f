//! Published views: opened by those who may, and showing nothing else.

use maple_lark_fixtures::{self as fixtures, Fixture};
use reqwest::{Client, StatusCode, redirect::Policy};
use serde_json::{Value, json};

use super::{Place, problem};

fn checks() -> Fixture {
    Fixture::new("source", "s")
        .key("title", "S")
        .key("kind", "local-checks")
}

fn board() -> Fixture {
    fixtures::dashboard("board")
        .key("title", "The board")
        .table("[[parameter]]\nname = \"port\"\ntitle = \"Port\"\nkind = \"text\"\nchoices = [\"havnes\", \"skarvoy\", \"ostrey\"]\ndefault = \"havnes\"")
        .block("show = \"text\"\ntext = \"All is well.\"")
}

async fn put(place: &Place, token: &str, path: &str, body: Value) -> reqwest::Response {
    let request = Client::new().post(place.url(path)).bearer_auth(token);
    request.json(&body).send().await.unwrap()
}

/// A visitor, who follows no redirection and keeps cookies by hand.
fn visitor() -> Client {
    Client::builder().redirect(Policy::none()).build().unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_view_is_opened_by_those_who_may_and_shows_nothing_else() {
    let place = Place::new().await;
    let admin = place.signed_in("administrator").await;
    let files = json!({ "files": [
        { "file": "s.toml", "text": &*checks() },
        { "file": "board.toml", "text": &*board() },
    ] });
    let applied = put(&place, &admin, "/definitions/apply", files).await;
    assert_eq!(
        applied.status(),
        StatusCode::OK,
        "{}",
        applied.text().await.unwrap()
    );
    let publish = async |order: Value| put(&place, &admin, "/views", order).await;

    for (wrong, words) in [
        (json!({}), "give one of dashboard and snapshot"),
        (
            json!({ "dashboard": "none" }),
            "there is no dashboard \"none\"",
        ),
        (
            json!({ "dashboard": "board", "days": 900 }),
            "days: 1 to 366",
        ),
        (
            json!({ "dashboard": "board", "password": "short" }),
            "at least 8 characters",
        ),
        (
            json!({ "dashboard": "board", "choices": { "prot": ["havnes"] } }),
            "prot",
        ),
        (
            json!({ "dashboard": "board", "values": { "prot": "havnes" } }),
            "prot",
        ),
    ] {
        let (status, said) = problem(publish(wrong.clone()).await).await;
        assert!(
            status.is_client_error() && said.contains(words),
            "{wrong}: {status} {said}"
        );
    }

    let chosen = json!({ "dashboard": "board", "choices": { "port": ["skarvoy", "havnes"] } });
    let view: Value = publish(chosen).await.json().await.unwrap();
    let address = view["address"].as_str().unwrap();
    let path = &address[address.find("/view/").unwrap()..];
    let base = place.url("").replace("/api/v1", "");
    let open = async |path: &str| visitor().get(format!("{base}{path}")).send().await.unwrap();
    let page = open(path).await;
    assert_eq!(page.status(), StatusCode::OK);
    let policy = page.headers()["content-security-policy"]
        .to_str()
        .unwrap()
        .to_owned();
    assert!(
        policy.contains("frame-ancestors 'none'") && !policy.contains("script"),
        "{policy}"
    );
    assert_eq!(page.headers()["cache-control"], "no-store");
    let html = page.text().await.unwrap();
    assert!(
        html.contains("<label>Port <select name=\"port\">")
            && html.contains("<option value=\"skarvoy\" selected>")
            && !html.contains("ostrey"),
        "{html}"
    );
    let shown = async |path: &str| {
        let answer = open(path).await;
        (answer.status(), answer.text().await.unwrap())
    };
    let (status, html) = shown(&format!("{path}/content")).await;
    assert!(
        status == StatusCode::OK && html.contains("Port: skarvoy"),
        "{status} {html}"
    );
    let (_, html) = shown(&format!("{path}/content?port=havnes")).await;
    assert!(html.contains("Port: havnes"));
    // What is not in the list is not shown, nor any other parameter changed.
    for other in ["?port=ostrey", "?port=", "?port=havnes%27"] {
        for of in ["", "/content"] {
            assert_eq!(
                shown(&format!("{path}{of}{other}")).await.0,
                StatusCode::NOT_FOUND
            );
        }
    }
    // Somebody else's address is none.
    let forged = format!("{}x", &path[..path.len() - 1]);
    assert_eq!(shown(&forged).await.0, StatusCode::NOT_FOUND);
    let id = view["id"].as_str().unwrap();
    let by_id = open(&format!("/view/{id}")).await;
    assert_eq!(
        by_id.status(),
        StatusCode::SEE_OTHER,
        "who knows the identifier alone signs in"
    );
    let signed_in = visitor()
        .get(format!("{base}/view/{id}"))
        .bearer_auth(&admin);
    let signed_in = signed_in.send().await.unwrap();
    assert_eq!(
        signed_in.status(),
        StatusCode::NOT_FOUND,
        "it has another address"
    );

    // With a password.
    let locked =
        json!({ "dashboard": "board", "title": "Locked", "password": "gull rope harbour" });
    let locked: Value = publish(locked).await.json().await.unwrap();
    assert_eq!(locked["has_password"], true);
    let address = locked["address"].as_str().unwrap();
    let door = &address[address.find("/view/").unwrap()..];
    let (_, html) = shown(door).await;
    assert!(
        html.contains("name=\"password\"") && !html.contains("iframe"),
        "{html}"
    );
    assert!(!shown(&format!("{door}/content")).await.1.contains("Port: "));
    let give = async |password: &str| {
        let form = visitor().post(format!("{base}{door}"));
        form.form(&[("password", password)]).send().await.unwrap()
    };
    assert_eq!(give("another one").await.status(), StatusCode::FORBIDDEN);
    let given = give("gull rope harbour").await;
    assert_eq!(given.status(), StatusCode::SEE_OTHER);
    let cookie = given.headers()["set-cookie"].to_str().unwrap();
    assert!(
        cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"),
        "{cookie}"
    );
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let with = async |path: String| {
        let answer = visitor()
            .get(format!("{base}{path}"))
            .header("Cookie", &cookie);
        answer.send().await.unwrap().text().await.unwrap()
    };
    assert!(
        with(format!("{door}/content"))
            .await
            .contains("Port: havnes")
    );
    for _ in 0..6 {
        give("another one").await;
    }
    let blocked = give("gull rope harbour").await.text().await.unwrap();
    assert!(blocked.contains("too many attempts"), "{blocked}");

    // For those who sign in.
    let own = json!({ "dashboard": "board", "signed_in": true });
    let own: Value = publish(own).await.json().await.unwrap();
    assert_eq!(own["expires_at"], Value::Null);
    let id = own["id"].as_str().unwrap();
    assert_eq!(
        open(&format!("/view/{id}")).await.status(),
        StatusCode::SEE_OTHER
    );
    let signed_in = visitor()
        .get(format!("{base}/view/{id}/content"))
        .bearer_auth(&admin);
    let signed_in = signed_in.send().await.unwrap().text().await.unwrap();
    assert!(signed_in.contains("Port: havnes"), "{signed_in}");

    // Counted, and over for whoever has the address once it is ended or its time has come.
    let list = async || -> Value {
        let asked = Client::new().get(place.url("/views")).bearer_auth(&admin);
        asked.send().await.unwrap().json().await.unwrap()
    };
    let listed = list().await;
    assert_eq!(
        (&listed["total"], &listed["items"][2]["opened"]),
        (&json!(3), &json!(2)),
        "{listed}"
    );
    let audit = Client::new().get(place.url("/audit?action=opened_view"));
    let audit: Value = audit
        .bearer_auth(&admin)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(
        audit["total"], 4,
        "two by the address, one by password, one signed in: {audit}"
    );
    let first = view["id"].as_str().unwrap();
    let end = Client::new()
        .delete(place.url(&format!("/views/{first}")))
        .bearer_auth(&admin);
    assert_eq!(end.send().await.unwrap().status(), StatusCode::NO_CONTENT);
    assert_eq!(shown(path).await.0, StatusCode::NOT_FOUND);
    assert_eq!(
        shown(&format!("{path}/content")).await.0,
        StatusCode::NOT_FOUND
    );
    let mut records = place.cluster.connect("maple_lark").await.unwrap();
    sqlx::query("update published_views set expires_at = now() - interval '1 second'")
        .execute(&mut records)
        .await
        .unwrap();
    assert!(
        with(door.to_owned())
            .await
            .contains("This link is not valid")
    );
    // A viewer is listed what can be opened, and what is over is not.
    let viewer = place.signed_in("viewer").await;
    let asked = Client::new().get(place.url("/views")).bearer_auth(viewer);
    let listed: Value = asked.send().await.unwrap().json().await.unwrap();
    assert_eq!(listed["total"], 0);
}
