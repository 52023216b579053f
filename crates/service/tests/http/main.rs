//! The service by its network interface, in the process of the test: who gets in, what an order
//! may say, and what comes back.

#![allow(
    clippy::too_many_lines,
    reason = "a test tells one story from its beginning to its end"
)]

mod archive;
mod audit;
mod contract;
mod directory;
mod held;
mod hostile;
mod keys;
mod leaks;
mod looking;
mod orders;
mod provider;
mod rights;
mod signing_in;
mod storage;
mod teams;
mod users;
mod views;

use maple_lark_fixtures as fixtures;
use std::{
    net::IpAddr,
    time::{Duration, Instant},
};

use maple_lark_demo::TestCluster;
use maple_lark_service::{Clock, Config, start};
use maple_lark_store::Store;
use reqwest::{Client, Response, StatusCode};
use serde_json::{Value, json};
use tempfile::TempDir;
use tokio::task::JoinHandle;

const PASSWORD: &str = "correct horse battery";
/// Far longer than anything here takes; only a hang gets there.
const PATIENCE: Duration = Duration::from_secs(120);

/// A service with a database of its own; both are gone with it.
struct Place {
    base: String,
    task: JoinHandle<()>,
    cluster: TestCluster,
    _folder: TempDir,
}

impl Drop for Place {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Place {
    async fn new() -> Self {
        Self::with("", &[]).await
    }

    /// The same with more lines of configuration, and with more addresses that may be reached.
    async fn with(more: &str, reach: &[String]) -> Self {
        let _ = tracing::subscriber::set_global_default(tracing::subscriber::NoSubscriber::new());
        let folder = TempDir::new().unwrap();
        let cluster = TestCluster::new().await.unwrap();
        let tables = async |_, owner: String| {
            Store::open(&owner, 1).await?;
            Ok(())
        };
        let secret = cluster
            .copy("maple_lark_tables", "maple_lark", "maple_lark", tables)
            .await
            .unwrap();
        let port = maple_lark_demo::free_port().unwrap();
        let address = std::net::SocketAddr::from(([127, 0, 0, 1], port));
        let config = folder.path().join("maple-lark.toml");
        let key = folder.path().join("secret-key");
        std::fs::write(&key, "5a".repeat(32)).unwrap();
        let text = format!(
            "listen = \"{address}\"\ndatabase = \"{}\"\nsources-may-reach = {:?}\nsecret-key = \"file:{}\"\nfirst-administrator-password = \"{PASSWORD}\"\n{more}\n",
            cluster.url_for("maple_lark", &secret, "maple_lark"),
            [&[cluster.address()], reach].concat(),
            key.display()
        );
        std::fs::write(&config, text).unwrap();
        let config = Config::read(&config.display().to_string()).unwrap();
        let running = start(config, Clock::of_the_database()).await.unwrap();
        let place = Self {
            base: format!("http://{address}"),
            task: tokio::spawn(async move { running.run().await.unwrap() }),
            cluster,
            _folder: folder,
        };
        let began = Instant::now();
        let health = format!("{}/health", place.base);
        while reqwest::get(&health).await.is_err() {
            assert!(began.elapsed() < PATIENCE, "the service does not start");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        place
    }

    /// Somebody at an address of the loopback network.
    fn client(last: u8) -> Client {
        Client::builder()
            .local_address(IpAddr::from([127, 0, 0, last]))
            .build()
            .unwrap()
    }

    fn url(&self, path: &str) -> String {
        format!("{}/api/v1{path}", self.base)
    }

    async fn token(&self, from: &Client) -> Response {
        self.try_password(from, PASSWORD).await
    }

    async fn try_password(&self, from: &Client, password: &str) -> Response {
        let credentials = json!({ "name": "admin", "password": password, "label": "test" });
        from.post(self.url("/tokens"))
            .json(&credentials)
            .send()
            .await
            .unwrap()
    }

    /// A source that is this test's own database, with one connection at a time, and a report.
    async fn with_report(&self, client: &Client, token: &str) {
        let secret = self.cluster.role("reader").await.unwrap();
        self.cluster.database("plain", "owner").await.unwrap();
        let source = fixtures::source("plain")
            .key("address", self.cluster.address())
            .key("database", self.cluster.name("plain"))
            .key("user", "reader")
            .key("password", "secret:reader")
            .key("max-concurrency", 1);
        let dashboard = fixtures::dashboard("d").query("q", "plain", "sql = \"select 1 as one\"");
        let report = fixtures::report("r", "d")
            .key("title", "R")
            .list("formats", &["csv"]);
        let stored = client
            .put(self.url("/secrets/reader"))
            .bearer_auth(token)
            .json(&json!({ "value": secret }))
            .send()
            .await
            .unwrap();
        assert!(
            stored.status().is_success(),
            "{}",
            stored.text().await.unwrap()
        );
        let files = json!({ "files": [
            { "file": "plain.toml", "text": &*source },
            { "file": "d.toml", "text": &*dashboard },
            { "file": "r.toml", "text": &*report },
        ] });
        let applied = client
            .post(self.url("/definitions/apply"))
            .bearer_auth(token)
            .json(&files)
            .send()
            .await
            .unwrap();
        assert!(
            applied.status().is_success(),
            "{}",
            applied.text().await.unwrap()
        );
    }

    /// A token of somebody with a role.
    async fn signed_in(&self, role: &str) -> String {
        let made: Value = self.token(&Self::client(1)).await.json().await.unwrap();
        let mut records = self.cluster.connect("maple_lark").await.unwrap();
        sqlx::query("update users set role = $1")
            .bind(role)
            .execute(&mut records)
            .await
            .unwrap();
        made["token"].as_str().unwrap().to_owned()
    }
}

/// The status of an answer, and what its problem details say.
async fn problem(answer: Response) -> (StatusCode, String) {
    let status = answer.status();
    let kind = answer.headers()["content-type"]
        .to_str()
        .unwrap()
        .to_owned();
    let body: Value = answer.json().await.unwrap();
    assert_eq!(kind, "application/problem+json", "{body}");
    assert_eq!(body["status"], status.as_u16(), "{body}");
    (status, body["detail"].as_str().unwrap().to_owned())
}
