//! A service in a process of its own, as it runs for real, with what it may take.

use std::{
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use maple_lark_demo::Cluster;
use serde_json::{Value, json};
use sqlx::PgConnection;

use crate::{Done, free_port};

const PATIENCE: Duration = Duration::from_secs(600);

/// Where the service listens and keeps its records, with its mail server.
struct Settings {
    text: String,
    reader: String,
}

pub struct Running {
    child: Child,
    base: String,
    http: reqwest::Client,
    token: String,
    settings: Settings,
}

impl Drop for Running {
    fn drop(&mut self) {
        // One that has been killed is another's number by now.
        if matches!(self.child.try_wait(), Ok(Some(_))) {
            return;
        }
        let _ = Command::new("kill")
            .args(["-TERM", &self.child.id().to_string()])
            .status();
        let _ = self.child.wait();
    }
}

impl Running {
    /// Starts a service on a database of its own and signs in. The source `operations` reads
    /// the database `orrin_ops` as somebody who may only read.
    pub async fn start(folder: &Path, cluster: &Cluster, mail_port: u16) -> Done<Self> {
        let secret = cluster.database("maple_lark", "maple_lark").await?;
        let reader = cluster.role("orrin_reader").await?;
        cluster.database("orrin_ops", "orrin_owner").await?;
        let text = format!(
            "database = \"{}\"\nfirst-administrator-password = \"bench\"\nsources-may-reach = [\"{}\"]\ndefinitions-may-use = [\"env:READER\"]\n\
             [mail]\nhost = \"127.0.0.1\"\nport = {mail_port}\ntls = \"off\"\nfrom = \"a@orrin-sound.example\"\n",
            cluster.url_for("maple_lark", &secret, "maple_lark"),
            cluster.address(),
        );
        let settings = Settings { text, reader };
        let mut running = Self::spawn(folder, settings, String::new()).await?;
        let signed = running
            .post(
                "/tokens",
                &json!({ "name": "admin", "password": "bench", "label": "bench" }),
            )
            .await?;
        running.token = signed["token"].as_str().ok_or("no token")?.to_owned();
        Ok(running)
    }

    /// Another process beside it, on the same records.
    pub async fn another(&self, folder: &Path) -> Done<Self> {
        let settings = Settings {
            text: self.settings.text.clone(),
            reader: self.settings.reader.clone(),
        };
        Self::spawn(folder, settings, self.token.clone()).await
    }

    async fn spawn(folder: &Path, settings: Settings, token: String) -> Done<Self> {
        let port = free_port()?;
        let config = folder.join(format!("maple-lark-{port}.toml"));
        let text = format!("listen = \"127.0.0.1:{port}\"\n{}", settings.text);
        std::fs::write(&config, text)?;
        let binary = std::env::current_exe()?
            .parent()
            .and_then(Path::parent)
            .ok_or("no folder")?
            .join("maple-lark");
        let mut command = Command::new(&binary);
        command
            .args(["serve", "--config"])
            .arg(&config)
            .env("READER", &settings.reader)
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let running = Self {
            child: command.spawn()?,
            base: format!("http://127.0.0.1:{port}"),
            http: reqwest::Client::new(),
            token,
            settings,
        };
        let began = Instant::now();
        while !reqwest::get(format!("{}/ready", running.base))
            .await
            .is_ok_and(|answer| answer.status().is_success())
        {
            if began.elapsed() > Duration::from_secs(60) {
                return Err("the service does not get ready".into());
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(running)
    }

    /// Ends it as a machine does that loses its power.
    pub fn kill(&mut self) -> Done<()> {
        self.child.kill()?;
        self.child.wait()?;
        Ok(())
    }

    /// Follows a run, and hands on what is told as it comes.
    pub async fn follow(&self, run: &str) -> Done<reqwest::Response> {
        let url = format!("{}/api/v1/runs/{run}/events", self.base);
        let answer = self.http.get(url).bearer_auth(&self.token).send().await?;
        Ok(answer.error_for_status()?)
    }

    /// How long its threads have computed so far, in seconds.
    pub fn computed(&self) -> Done<f64> {
        computed(self.child.id())
    }

    /// The source that every report of a benchmark reads.
    pub fn source(cluster: &Cluster, more: &str) -> Value {
        let text = format!(
            "[source]\nname = \"operations\"\nkind = \"postgresql\"\naddress = \"{}\"\ndatabase = \"orrin_ops\"\nuser = \"orrin_reader\"\npassword = \"env:READER\"\ntls = \"off\"\n{more}",
            cluster.address()
        );
        json!({ "file": "source.toml", "text": text })
    }

    pub async fn post(&self, path: &str, body: &Value) -> Done<Value> {
        self.ask(path, body).await
    }

    /// The same for whatever type the answer has.
    pub async fn ask<T: serde::de::DeserializeOwned>(&self, path: &str, body: &Value) -> Done<T> {
        let answer = self
            .http
            .post(format!("{}/api/v1{path}", self.base))
            .bearer_auth(&self.token)
            .json(body)
            .send()
            .await?;
        if answer.status().is_success() {
            Ok(answer.json().await?)
        } else {
            Err(answer.text().await?.into())
        }
    }

    /// Sets something; what the service says is thrown away.
    pub async fn put(&self, path: &str, body: &Value) -> Done<()> {
        let url = format!("{}/api/v1{path}", self.base);
        let request = self.http.put(url).bearer_auth(&self.token).json(body);
        let answer = request.send().await?;
        if answer.status().is_success() {
            Ok(())
        } else {
            Err(answer.text().await?.into())
        }
    }

    /// Reads from the service; what it says is thrown away.
    pub async fn get(&self, path: &str) -> Done<()> {
        let url = match path.strip_prefix("/../..") {
            Some(path) => format!("{}{path}", self.base),
            None => format!("{}/api/v1{path}", self.base),
        };
        let answer = self.http.get(url).bearer_auth(&self.token).send().await?;
        let status = answer.status();
        let text = answer.text().await?;
        if status.is_success() {
            Ok(())
        } else {
            Err(text.into())
        }
    }

    pub async fn apply(&self, files: Vec<Value>) -> Done<()> {
        self.post(
            "/definitions/apply",
            &json!({ "files": files, "remove_others": false }),
        )
        .await
        .map(drop)
    }

    /// The most memory that was resident so far, in MiB.
    pub fn peak(&self) -> Done<f64> {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let line = status
            .lines()
            .find_map(|line| line.strip_prefix("VmHWM:"))
            .ok_or("no VmHWM")?;
        Ok(line.trim().trim_end_matches("kB").trim().parse::<f64>()? / 1024.0)
    }
}

/// How long the threads of a process have computed so far, in seconds.
pub fn computed(process: u32) -> Done<f64> {
    let stat = procfs::process::Process::new(process.try_into()?)?.stat()?;
    Ok((stat.utime + stat.stime) as f64 / procfs::ticks_per_second() as f64)
}

/// How often the records are asked where a watch measures.
pub const OFTEN: Duration = Duration::from_millis(50);
/// How often where the records say themselves when it was: what is measured should not pay for it.
pub const SELDOM: Duration = Duration::from_millis(500);

/// Waits until a count in the records has come, and asks every so often.
pub async fn until(
    records: &mut PgConnection,
    every: Duration,
    sql: &'static str,
    wanted: i64,
) -> Done<()> {
    let began = Instant::now();
    while sqlx::query_scalar::<_, i64>(sql)
        .fetch_one(&mut *records)
        .await?
        < wanted
    {
        let held: Option<String> = sqlx::query_scalar(
            "select problem from runs where state in ('held', 'failed') limit 1",
        )
        .fetch_optional(&mut *records)
        .await?
        .flatten();
        if let Some(problem) = held {
            return Err(format!("a run went wrong: {problem}").into());
        }
        if began.elapsed() > PATIENCE {
            return Err(format!("{sql} does not come to {wanted}").into());
        }
        tokio::time::sleep(every).await;
    }
    Ok(())
}
