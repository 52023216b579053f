//! The Maple Lark service: API, engine and console in one process. Any number of such
//! processes can share one database, which is their queue, their lock and their store.

mod access;
pub mod api;
pub mod check;
pub mod config;
mod console;
mod engine;
mod fonts;
pub mod init;
mod logging;
mod measures;
pub mod memory;
mod secrets;
mod tls;

use std::{net::SocketAddr, sync::Arc};

use maple_lark_store::Store;
use rocket::fairing::AdHoc;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use sd_notify::NotifyState;
use tokio::sync::oneshot;

pub use api::openapi;
pub use config::Config;
pub use engine::{Clock, EngineHandle};

#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    #[error(transparent)]
    Config(#[from] config::ConfigError),
    #[error(
        "the database cannot be used: {0}. Check \"database\" in the configuration, and that PostgreSQL runs there"
    )]
    Store(#[from] maple_lark_store::StoreError),
    #[error(
        "the service cannot listen on {address}: {words}. Choose another \"listen\" in the configuration, or stop what uses that port"
    )]
    Listen { address: String, words: String },
}

/// A service that has been put together and whose engine works; [`Running::run`] opens its
/// address.
pub struct Running {
    server: rocket::Rocket<rocket::Build>,
    engine: engine::Engine,
    address: SocketAddr,
    /// What ends TLS before the server.
    front: Option<tls::Front>,
}

/// Opens the database and starts the engine, by the given clock.
///
/// # Errors
/// If the database cannot be used.
pub async fn start(config: Config, clock: Clock) -> Result<Running, ServeError> {
    let lines = logging::start(&config);
    engine::use_zone_rules(clock.now());
    fonts::provide(config.fonts.clone());
    let store = open_store(&config).await?;
    engine::look_at_the_clock(&clock, &store).await?;
    access::first_administrator(&store, &config).await?;
    let config = Arc::new(config);
    let address = config.listen;
    let callers = tls::Callers::default();
    let front = match config.tls.clone() {
        Some(files) => Some(
            tls::Front::open(address, files, callers.clone(), config.head_timeout)
                .await
                .map_err(|error| ServeError::Listen {
                    address: address.to_string(),
                    words: error.to_string(),
                })?,
        ),
        None => None,
    };
    let mut engine = engine::Engine::start(store.clone(), config.clone(), clock);
    engine.keep_lines(store.clone(), lines);
    Ok(Running {
        server: api::rocket(store, config, engine.handle(), callers),
        engine,
        address,
        front,
    })
}

/// Opens the database; where it cannot be used yet, it is waited for as long as the
/// configuration says.
async fn open_store(config: &Config) -> Result<Store, maple_lark_store::StoreError> {
    let began = std::time::Instant::now();
    let mut told = false;
    loop {
        match Store::open(&config.database, config.connections).await {
            Err(error) if error.may_pass() && began.elapsed() < config.wait_for_database => {
                if !told {
                    let seconds = config.wait_for_database.as_secs();
                    tracing::warn!(%error, seconds, "the database cannot be used yet; it is waited for");
                    told = true;
                }
                tokio::time::sleep(LOOK_AGAIN).await;
            }
            opened => {
                let outside = config
                    .storage
                    .as_ref()
                    .map(|storage| storage.outside.clone());
                return opened.map(|store| store.with_outside(outside));
            }
        }
    }
}

/// A database that cannot be used is tried again after so long.
const LOOK_AGAIN: std::time::Duration = std::time::Duration::from_millis(300);

impl Running {
    pub fn handle(&self) -> EngineHandle {
        self.engine.handle()
    }

    /// Serves until it is told to stop, then finishes or releases what it has begun.
    ///
    /// # Errors
    /// If the address cannot be listened on.
    pub async fn run(self) -> Result<(), ServeError> {
        let (port, known) = oneshot::channel();
        // Where the server listens is known when it does.
        let tells = AdHoc::on_liftoff("front", move |rocket| {
            let own = rocket.config().port;
            Box::pin(async move {
                // Without TLS nobody waits for it.
                let _ = port.send(own);
            })
        });
        let server = self.server.attach(tells).ignite().await;
        let mut passing = None;
        let launched = match server {
            Ok(server) => {
                // The engine stops at once, not when the last request has been answered.
                let (asked, stop) = (server.shutdown(), self.engine.stopper());
                let front = self
                    .front
                    .map(|front| front.serve(known, server.shutdown()));
                passing = front.map(tokio::spawn);
                tokio::spawn(async move {
                    asked.await;
                    told_to_the_system(NotifyState::Stopping);
                    stop.stop();
                });
                server.launch().await
            }
            Err(error) => Err(error),
        };
        if let Some(passing) = passing {
            let _ = passing.await;
        }
        self.engine.stop().await;
        match launched {
            Ok(_) => Ok(()),
            // Reading the error also keeps Rocket from panicking over one that nobody saw.
            Err(error) => Err(ServeError::Listen {
                address: self.address.to_string(),
                words: error.kind().to_string(),
            }),
        }
    }
}

/// Tells whoever started the service, if they wait for it, how far it is (the notification protocol of
/// systemd). Where nobody listens, the service works all the same.
fn told_to_the_system(state: NotifyState<'_>) {
    if let Err(error) = sd_notify::notify(&[state]) {
        tracing::warn!(%error, "whoever started the service cannot be told how far it is");
    }
}

/// Lets this process have as many connections and files as the system allows it. Callers that
/// begin a request and never end it keep a connection each, which the web framework does not
/// limit; with the usual 1,024 a few of them would keep everybody else out.
fn raise_file_limit() {
    let limit = getrlimit(Resource::Nofile);
    let raised = Rlimit {
        current: limit.maximum,
        ..limit
    };
    if let Err(error) = setrlimit(Resource::Nofile, raised) {
        tracing::warn!(%error, "the limit of open files stays as it is");
    }
}

/// Runs the service until it is told to stop.
pub async fn serve(config: Config) -> Result<(), ServeError> {
    raise_file_limit();
    start(config, Clock::of_the_database()).await?.run().await
}
