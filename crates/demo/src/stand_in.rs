//! What stand-ins that answer by HTTP have in common: a free port of loopback, and an end.

use std::{collections::HashSet, net::SocketAddr, time::Duration};

use anyhow::{Context, Result};
use rocket::{Build, Rocket};

/// A service on loopback; it ends with this.
pub(crate) struct StandIn {
    pub(crate) address: SocketAddr,
    shutdown: rocket::Shutdown,
}

impl StandIn {
    /// Rocket does not say which port it was given, so a free one is looked for first.
    pub(crate) fn free() -> Result<SocketAddr> {
        Ok(SocketAddr::from(([127, 0, 0, 1], crate::free_port()?)))
    }

    /// A service without routes yet.
    pub(crate) fn built(address: SocketAddr) -> Rocket<Build> {
        rocket::custom(rocket::Config {
            address: address.ip(),
            port: address.port(),
            log_level: rocket::config::LogLevel::Off,
            workers: 2,
            shutdown: rocket::config::Shutdown {
                ctrlc: false,
                signals: HashSet::new(),
                grace: 1,
                mercy: 1,
                ..Default::default()
            },
            ..rocket::Config::release_default()
        })
    }

    /// Starts it and waits until it answers.
    pub(crate) async fn start(address: SocketAddr, built: Rocket<Build>) -> Result<Self> {
        let ignited = built.ignite().await;
        let ignited = ignited.context("a stand-in cannot start")?;
        let shutdown = ignited.shutdown();
        // Reading the error keeps Rocket from panicking over one that nobody saw.
        tokio::spawn(async move {
            let ended = ignited.launch().await;
            ended.map(drop).map_err(|error| error.kind().to_string())
        });
        for _ in 0..100 {
            if tokio::net::TcpStream::connect(address).await.is_ok() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        Ok(Self { address, shutdown })
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.shutdown.clone().notify();
    }
}

/// A word that nobody guesses.
pub(crate) fn token() -> String {
    let mut bytes = [0_u8; 16];
    // Without random bytes there is nothing to go on with.
    getrandom::fill(&mut bytes).expect("the operating system gives random bytes");
    hex::encode(bytes)
}
