//! Snapshots and documents in object storage, by the network interface: what is asked for comes from
//! there, and what is wrong with it is said.

use std::time::Instant;

use maple_lark_demo::{
    ObjectStorage,
    object_storage::{ACCESS_KEY, BUCKET, REGION, SECRET_KEY},
};
use reqwest::{Client, Response, StatusCode};
use serde_json::{Value, json};

use super::{PATIENCE, Place, problem};

fn configured(storage: &ObjectStorage, secret: &str) -> String {
    format!(
        "[storage.bucket]\nendpoint = \"{}\"\nregion = \"{REGION}\"\nname = \"{BUCKET}\"\nprefix = \"ferries\"\naccess-key = \"{ACCESS_KEY}\"\nsecret-key = \"{secret}\"\ntimeout = \"PT5S\"",
        storage.endpoint()
    )
}

struct Somebody {
    place: Place,
    client: Client,
    token: String,
}

impl Somebody {
    async fn new(storage: &ObjectStorage, secret: &str) -> Self {
        let place = Place::with(&configured(storage, secret), &[]).await;
        let (client, token) = (Client::new(), place.signed_in("administrator").await);
        place.with_report(&client, &token).await;
        Self {
            place,
            client,
            token,
        }
    }

    async fn get(&self, path: &str) -> Response {
        let request = self.client.get(self.place.url(path));
        request.bearer_auth(&self.token).send().await.unwrap()
    }

    /// A run of the report that is over.
    async fn run(&self) -> Value {
        let order = self.client.post(self.place.url("/reports/r/runs"));
        let order = order
            .bearer_auth(&self.token)
            .json(&json!({ "deliver": false }));
        let made: Value = order.send().await.unwrap().json().await.unwrap();
        let path = format!("/runs/{}", made["id"].as_str().unwrap());
        let began = Instant::now();
        loop {
            let run: Value = self.get(&path).await.json().await.unwrap();
            if run["state"] == "completed" {
                return run;
            }
            assert!(began.elapsed() < PATIENCE, "{run:#}");
            tokio::time::sleep(std::time::Duration::from_millis(50)).await;
        }
    }

    /// The document of a run, and where it lies in the storage.
    fn document(run: &Value) -> (String, String) {
        let one = &run["documents"][0];
        let sha256 = one["sha256"].as_str().unwrap();
        (
            format!("/documents/{}", one["id"].as_str().unwrap()),
            format!("ferries/{}/{sha256}", &sha256[..2]),
        )
    }

    /// What is said of the place for bodies.
    async fn condition(&self) -> Value {
        let all: Value = self.get("/condition").await.json().await.unwrap();
        let findings = all["findings"].as_array().unwrap();
        let found = findings.iter().find(|one| one["what"] == "storage");
        found.unwrap().clone()
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn documents_come_from_object_storage_and_are_what_was_put_there() {
    let storage = ObjectStorage::start().await.unwrap();
    let me = Somebody::new(&storage, SECRET_KEY).await;
    let run = me.run().await;
    let (path, name) = Somebody::document(&run);
    let kept = storage.objects();
    assert_eq!(kept.len(), 2, "{:?}", kept.keys());
    let answer = me.get(&path).await;
    assert_eq!(answer.status(), StatusCode::OK);
    assert!(answer.bytes().await.unwrap() == kept[&name]);
    assert_eq!(me.condition().await["stands"], "ok");
    let left = me.place.cluster.connect("maple_lark").await.unwrap();
    let mut left = left;
    let bytes: i64 = sqlx::query_scalar("select sum(octet_length(body)) from documents")
        .fetch_one(&mut left)
        .await
        .unwrap();
    assert_eq!(bytes, 0);

    // What is not what was put there is not handed out.
    let mut altered = kept[&name].clone();
    altered[0] ^= 1;
    storage.meddle(&name, Some(altered));
    let (status, words) = problem(me.get(&path).await).await;
    assert_eq!(status, StatusCode::INTERNAL_SERVER_ERROR);
    assert!(words.contains("has been altered"), "{words}");
    storage.meddle(&name, None);
    let (_, words) = problem(me.get(&path).await).await;
    assert!(words.contains("is not there any more"), "{words}");
    storage.meddle(&name, Some(kept[&name].clone()));
    assert_eq!(me.get(&path).await.status(), StatusCode::OK);

    // While it fails, reports are made all the same, and lie in the database.
    storage.fail(true);
    let (status, words) = problem(me.get(&path).await).await;
    assert_eq!(status, StatusCode::SERVICE_UNAVAILABLE, "{words}");
    let meanwhile = me.run().await;
    let (own, _) = Somebody::document(&meanwhile);
    assert_eq!(me.get(&own).await.status(), StatusCode::OK);
    let said = me.condition().await;
    assert_eq!(said["stands"], "problem", "{said}");
    assert!(!said.to_string().contains(SECRET_KEY));
    storage.fail(false);
    assert_eq!(me.get(&path).await.status(), StatusCode::OK);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_key_is_said_and_keeps_no_report_from_being_made() {
    let storage = ObjectStorage::start().await.unwrap();
    let me = Somebody::new(&storage, "another-key").await;
    let run = me.run().await;
    let (path, _) = Somebody::document(&run);
    assert_eq!(me.get(&path).await.status(), StatusCode::OK);
    assert!(storage.objects().is_empty());
    let said = me.condition().await;
    assert_eq!(said["stands"], "problem");
    let words = said["words"].as_str().unwrap();
    assert!(
        words.contains("SignatureDoesNotMatch") && !words.contains("another-key"),
        "{words}"
    );
}
