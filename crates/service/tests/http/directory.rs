//! Signing in by the organisation's directory: a real one.

use std::time::{Duration, Instant};

use maple_lark_demo::{
    DirectoryServer,
    directory_server::{ORGANISATION, READER, READER_PASSWORD},
};
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};
use tokio::net::TcpListener;

use super::{PATIENCE, Place};

/// The configuration that leads to the directory, and what groups mean.
fn configuration(server: &DirectoryServer) -> String {
    format!(
        "[directory]\nhost = \"127.0.0.1:{}\"\ntls = \"tls\"\nca-file = \"{}\"\nuser = \"{READER}\"\npassword = \"{READER_PASSWORD}\"\n\
         base = \"ou=people,{ORGANISATION}\"\ngroups = \"ou=groups,{ORGANISATION}\"\ncheck-every = \"PT1S\"\n\
         [directory.roles]\nadministrator = [\"cn=operations,ou=groups,{ORGANISATION}\"]\nauthor = [\"CN=Authors, ou=groups, {ORGANISATION}\"]\nviewer = [\"cn=crew,ou=groups,{ORGANISATION}\"]\n\
         [directory.teams]\nharbour = [\"cn=crew,ou=groups,{ORGANISATION}\"]\n",
        server.tls_port,
        server.certificate().display()
    )
}

async fn organisation() -> DirectoryServer {
    let server = DirectoryServer::start().await.unwrap();
    for (name, password) in [
        ("runa", "gulls-at-dawn"),
        ("bui", "three-red-buoys"),
        ("guest", "only-passing-by"),
    ] {
        server.add_person(name, password).await.unwrap();
    }
    server.add_group("authors", "runa").await.unwrap();
    server.add_group("crew", "runa").await.unwrap();
    server.put_into("crew", "bui").await.unwrap();
    server
}

struct Asked<'p> {
    place: &'p Place,
    client: Client,
}

impl Asked<'_> {
    async fn sign_in(&self, name: &str, password: &str) -> (StatusCode, Value) {
        let order = json!({ "name": name, "password": password, "label": "test" });
        let request = self.client.post(self.place.url("/tokens")).json(&order);
        let answer = request.send().await.unwrap();
        (answer.status(), answer.json().await.unwrap())
    }

    async fn ask(
        &self,
        token: &str,
        method: Method,
        path: &str,
        body: Value,
    ) -> (StatusCode, Value) {
        let request = self.client.request(method, self.place.url(path));
        let request = request.bearer_auth(token).json(&body);
        let answer = request.send().await.unwrap();
        (answer.status(), answer.json().await.unwrap_or_default())
    }
}

fn token(answer: &Value) -> String {
    answer["token"]
        .as_str()
        .unwrap_or_else(|| panic!("{answer:#}"))
        .to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn people_of_the_directory_are_users_at_their_first_sign_in() {
    let server = organisation().await;
    let place = Place::with(&configuration(&server), &[]).await;
    let admin = place.signed_in("administrator").await;
    let asked = Asked {
        place: &place,
        client: Client::new(),
    };
    let team = json!({ "name": "harbour" });
    assert!(
        asked
            .ask(&admin, Method::POST, "/teams", team)
            .await
            .0
            .is_success()
    );
    let (status, runa) = asked.sign_in("runa", "gulls-at-dawn").await;
    assert_eq!(status, StatusCode::CREATED, "{runa:#}");
    assert_eq!(
        (&runa["user"]["role"], &runa["user"]["teams"]),
        (&json!("author"), &json!(["harbour"]))
    );
    // However the name is written, it is one user.
    assert_eq!(
        asked.sign_in("Runa", "gulls-at-dawn").await.0,
        StatusCode::CREATED
    );
    let (_, users) = asked.ask(&admin, Method::GET, "/users", json!({})).await;
    let found: Vec<_> = users["items"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|user| user["signs_in_by"] == "directory")
        .map(|user| (&user["name"], &user["email"], &user["has_password"]))
        .collect();
    assert_eq!(
        found,
        [(
            &json!("runa"),
            &json!("runa@orrin-sound.example"),
            &json!(false)
        )]
    );
    // A wrong password, nobody of that name, and somebody who is in no group that may.
    for (name, password, expected) in [
        ("runa", "three-red-buoys", StatusCode::UNAUTHORIZED),
        ("nobody", "gulls-at-dawn", StatusCode::UNAUTHORIZED),
        ("runa", "", StatusCode::UNAUTHORIZED),
        ("guest", "only-passing-by", StatusCode::FORBIDDEN),
    ] {
        let (status, problem) = asked.sign_in(name, password).await;
        assert_eq!(status, expected, "{name}: {problem:#}");
        assert!(!problem.to_string().contains("uid="), "{problem:#}");
    }
    // Who is invited here signs in with their own password, also of a name that the directory has.
    assert!(!place.signed_in("author").await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_the_directorys_is_not_changed_here() {
    let server = organisation().await;
    let place = Place::with(&configuration(&server), &[]).await;
    let admin = place.signed_in("administrator").await;
    let asked = Asked {
        place: &place,
        client: Client::new(),
    };
    let runa = token(&asked.sign_in("runa", "gulls-at-dawn").await.1);
    let password = json!({ "current": "gulls-at-dawn", "new": "four words that are long" });
    for (who, method, path, body) in [
        (
            &admin,
            Method::PATCH,
            "/users/runa",
            json!({ "role": "administrator" }),
        ),
        (
            &admin,
            Method::PATCH,
            "/users/runa",
            json!({ "email": "x@x.example" }),
        ),
        (&admin, Method::POST, "/users/runa/invitation", json!({})),
        (&runa, Method::PUT, "/session/password", password),
    ] {
        let (status, problem) = asked.ask(who, method, path, body).await;
        assert_eq!(status, StatusCode::CONFLICT, "{path}: {problem:#}");
        let words = problem["detail"].as_str().unwrap();
        assert!(words.contains("the organisation's directory"), "{words}");
    }
    // Her password there is what stands between a browser that was left and her second factor.
    for (password, expected) in [
        ("another", StatusCode::UNPROCESSABLE_ENTITY),
        ("gulls-at-dawn", StatusCode::OK),
    ] {
        let again = json!({ "password": password });
        let (status, answer) = asked
            .ask(&runa, Method::POST, "/session/second-factor", again)
            .await;
        assert_eq!(status, expected, "{answer:#}");
    }
    // An administrator may keep her out.
    let disabled = json!({ "disabled": true });
    let (status, _) = asked
        .ask(&admin, Method::PATCH, "/users/runa", disabled)
        .await;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let (status, problem) = asked.sign_in("runa", "gulls-at-dawn").await;
    assert_eq!(status, StatusCode::FORBIDDEN, "{problem:#}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_leaves_the_directory_is_out_at_the_next_look_and_an_outage_puts_nobody_out() {
    let mut server = organisation().await;
    let place = Place::with(&configuration(&server), &[]).await;
    let admin = place.signed_in("administrator").await;
    let asked = Asked {
        place: &place,
        client: Client::new(),
    };
    let runa = token(&asked.sign_in("runa", "gulls-at-dawn").await.1);
    let bui = token(&asked.sign_in("bui", "three-red-buoys").await.1);
    let role = async |who: &str| {
        let (status, user) = asked.ask(who, Method::GET, "/session", json!({})).await;
        (status, user["role"].as_str().map(str::to_owned))
    };
    let until = async |who: &str, expected: (StatusCode, Option<&str>)| {
        let began = Instant::now();
        loop {
            let (status, role) = role(who).await;
            if (status, role.as_deref()) == expected {
                return;
            }
            assert!(began.elapsed() < PATIENCE, "{status} {role:?}");
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    // A group less is a role less.
    server.put_into("authors", "bui").await.unwrap();
    until(&bui, (StatusCode::OK, Some("author"))).await;
    server.take_out_of("authors", "runa").await.unwrap();
    until(&runa, (StatusCode::OK, Some("viewer"))).await;
    // Somebody before her whom the directory cannot tell from another stays, and shields nobody.
    server.add_namesake("bui").await.unwrap();
    server.remove_person("runa").await.unwrap();
    until(&runa, (StatusCode::UNAUTHORIZED, None)).await;
    let (_, trail) = asked
        .ask(
            &admin,
            Method::GET,
            "/audit?action=left_directory",
            json!({}),
        )
        .await;
    assert_eq!(trail["items"][0]["subject"], "runa", "{trail:#}");
    let (_, users) = asked.ask(&admin, Method::GET, "/users", json!({})).await;
    let left = users["items"].as_array().unwrap();
    let left = left.iter().find(|user| user["name"] == "runa").unwrap();
    assert!(left["left_at"].is_string(), "{left:#}");
    // Nobody can sign in while the directory is down, and nobody is put out.
    server.stop();
    let (status, problem) = asked.sign_in("bui", "three-red-buoys").await;
    assert_eq!(status, StatusCode::SERVICE_UNAVAILABLE, "{problem:#}");
    // In its place somebody takes what asks and answers nothing: two looks come to nothing.
    let silent = TcpListener::bind(("127.0.0.1", server.tls_port))
        .await
        .unwrap();
    for _ in 0..2 {
        drop(silent.accept().await.unwrap());
    }
    assert_eq!(role(&bui).await.1.as_deref(), Some("author"));
    // Who is of this place alone does not need it.
    assert!(!place.signed_in("viewer").await.is_empty());
}
