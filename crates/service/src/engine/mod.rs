//! The engine: notices what is due, takes work with a lease, does it step by step.
//!
//! Each step is a row before it is an action, so a process that is killed anywhere loses
//! nothing: another one takes the work over when the lease has run out.

mod ask;
mod clock;
mod definitions;
mod deliver;
mod limits;
mod notify;
mod run;
mod sample;
mod schedule;
mod shared;
mod zones;

use std::{sync::Arc, time::Duration};

use chrono::{DateTime, Utc};
use maple_lark_definition::{Channel, Mailbox, Query, Report};
use maple_lark_document::Snapshot;
use maple_lark_sources::{Answer, Reader, Values};
use maple_lark_store::{Store, StoreError};
use maple_lark_time::Window;
use tokio::{sync::watch, task::JoinSet};

use crate::Config;
pub(crate) use ask::{Among, AskError};
pub use clock::Clock;
pub use definitions::{Definitions, parse_all};
pub(crate) use deliver::ChannelError;
pub use run::{OnlyTo, values_key};
pub use schedule::{RequestError, RunRequest, backfill, past_instants, request_run};
use shared::{IDLE, Shared};
pub use zones::use_zone_rules;

/// How many runs one process works on at a time.
const RUN_WORKERS: usize = 4;

pub struct Engine {
    shared: Arc<Shared>,
    stop: watch::Sender<bool>,
    workers: JoinSet<()>,
}

/// Lets others wake the engine when they have made work for it.
#[derive(Clone)]
pub struct EngineHandle(Arc<Shared>);

impl EngineHandle {
    pub fn wake(&self) {
        self.0.wake.notify_waiters();
    }

    /// An engine that only makes runs of what is due when [`EngineHandle::tick`] is called,
    /// and works on none of them.
    pub fn of_a_scheduler_alone(store: Store, config: Arc<Config>, clock: Clock) -> Self {
        Self(Arc::new(Shared::new(store, config, clock)))
    }

    /// One tick: makes the runs that are due and answers when the next is worth
    /// it.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn tick(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        schedule::tick(&self.0).await
    }

    /// What reads sources.
    pub fn reader(&self) -> &Reader {
        &self.0.reader
    }

    /// Asks a query once, with those that it needs.
    pub(crate) async fn ask(&self, among: &Among<'_>, query: &Query) -> Result<Answer, AskError> {
        ask::ask(&self.0, among, query).await
    }

    /// What a report of `definitions` would show, were it made now; nothing is kept.
    pub(crate) async fn preview(
        &self,
        definitions: &Definitions,
        report: &Report,
        window: Window,
        values: Values,
    ) -> Snapshot {
        run::preview(&self.0, definitions, report, window, values).await
    }

    /// Tries a mail server step by step; the service's own if no channel is named.
    ///
    /// # Errors
    /// If its settings cannot be looked up.
    pub(crate) async fn probe(
        &self,
        channel: Option<&Channel>,
        to: &Mailbox,
    ) -> Result<maple_lark_delivery::Probe, ChannelError> {
        let server = deliver::mail_server_of(&self.0, channel).await?;
        let message = deliver::test_message(&server, to, self.now());
        Ok(maple_lark_delivery::MailSession::probe(&server, &message).await)
    }

    /// Tests a channel that is no mail server, with something that shows that it works.
    pub(crate) async fn test_channel(&self, channel: &Channel) -> Result<String, ChannelError> {
        deliver::driver(channel).test(&self.0).await
    }

    /// Where the service's own mail server is, if it has one.
    pub(crate) fn own_mail_server(&self) -> Option<String> {
        self.0
            .config
            .mail
            .as_ref()
            .map(|mail| format!("{}:{}", mail.server.host, mail.server.port))
    }

    /// A link's secret part, and whether one is right.
    pub(crate) fn signer(&self) -> &crate::secrets::Vault {
        &self.0.config.vault
    }

    /// The definitions as they are now.
    pub(crate) async fn definitions(&self, store: &Store) -> Result<Arc<Definitions>, StoreError> {
        self.0.definitions.current(store).await
    }

    /// What time it is for the engine.
    pub fn now(&self) -> DateTime<Utc> {
        self.0.now()
    }
}

impl Engine {
    pub fn start(store: Store, config: Arc<Config>, clock: Clock) -> Self {
        let shared = Arc::new(Shared::new(store, config, clock));
        let (stop, stopped) = watch::channel(false);
        let mut workers = JoinSet::new();
        workers.spawn(schedule::watch_the_clock(shared.clone(), stopped.clone()));
        workers.spawn(zones::watch_zone_rules(shared.clone(), stopped.clone()));
        workers.spawn(sample::watch_samplers(shared.clone(), stopped.clone()));
        for _ in 0..RUN_WORKERS {
            workers.spawn(until_stopped(
                shared.clone(),
                stopped.clone(),
                |shared| async move { run::work_on_a_run(&shared).await },
            ));
        }
        workers.spawn(deliver::watch_the_outbox(shared.clone(), stopped.clone()));
        workers.spawn(notify::watch_for_trouble(shared.clone(), stopped.clone()));
        if shared.config.bounces.is_some() {
            workers.spawn(notify::bounces::watch_the_maildir(
                shared.clone(),
                stopped.clone(),
            ));
        }
        Self {
            shared,
            stop,
            workers,
        }
    }

    pub fn handle(&self) -> EngineHandle {
        EngineHandle(self.shared.clone())
    }

    /// Lets every worker finish what it has in hand, for a while, and releases the rest.
    pub async fn stop(mut self) {
        let _ = self.stop.send(true);
        self.shared.wake.notify_waiters();
        let drained = tokio::time::timeout(Duration::from_secs(10), async {
            while self.workers.join_next().await.is_some() {}
        })
        .await;
        if drained.is_err() {
            self.workers.shutdown().await;
        }
        if let Err(error) = self.shared.store.release_all(self.shared.owner).await {
            tracing::warn!(%error, "leases could not be released; they run out by themselves");
        }
        tracing::info!("the engine has stopped");
    }
}

/// Repeats `work` until the engine stops; pauses when there was none to do.
async fn until_stopped<F, W>(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>, work: W)
where
    W: Fn(Arc<Shared>) -> F,
    F: Future<Output = Result<bool, StoreError>>,
{
    while !*stopped.borrow() {
        let pause = match work(shared.clone()).await {
            Ok(true) => continue,
            Ok(false) => IDLE,
            Err(error) => {
                tracing::error!(%error, "the engine could not work; it tries again in a moment");
                IDLE * 4
            }
        };
        tokio::select! {
            () = tokio::time::sleep(pause) => {}
            () = shared.wake.notified() => {}
            _ = stopped.changed() => {}
        }
    }
}
