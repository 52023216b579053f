//! The engine: notices what is due, takes work with a lease, does it step by step.
//!
//! Each step is a row before it is an action, so a process that is killed anywhere loses
//! nothing: another one takes the work over when the lease has run out.

mod archive;
mod ask;
mod clock;
mod definitions;
mod deliver;
mod follow;
mod forward;
mod guard;
pub(crate) mod keep;
mod lately;
mod limits;
mod lines;
mod notify;
mod people;
mod room;
mod run;
mod sample;
mod schedule;
mod shared;
pub mod snapshots;
mod storage;
mod telemetry;
mod zones;

use std::{sync::Arc, time::Duration};

use chrono::{DateTime, Utc};
use maple_lark_api::Work;
use maple_lark_definition::{Channel, Mailbox, Query, Report};
use maple_lark_document::Snapshot;
use maple_lark_sources::{Answer, Reader, Values};
use maple_lark_store::{Store, StoreError, run_lines::RunLine, teams::Sight};
use maple_lark_time::Window;
use tokio::{
    sync::{mpsc, watch},
    task::JoinSet,
};

use crate::Config;
pub(crate) use ask::{Among, AskError};
pub use clock::{Clock, look as look_at_the_clock};
pub use definitions::{Definitions, parse_all};
pub(crate) use deliver::{ChannelError, templates_of};
pub(crate) use guard::NotComputed;
pub use run::{OnlyTo, chosen, values_key};
pub use schedule::{RequestError, RunRequest, backfill, past_instants, request_run};
use shared::{IDLE, RUN_WORKERS, Shared};
pub use zones::use_zone_rules;

/// So long what is in hand may take when the service stops.
const PATIENCE: Duration = Duration::from_secs(2);

pub struct Engine {
    shared: Arc<Shared>,
    stop: watch::Sender<bool>,
    workers: JoinSet<()>,
}

/// Tells the engine to stop.
pub struct Stopper {
    shared: Arc<Shared>,
    stop: watch::Sender<bool>,
}

impl Stopper {
    pub fn stop(&self) {
        let _ = self.stop.send(true);
        self.shared.wake.notify_waiters();
    }
}

/// Lets others wake the engine when they have made work for it.
#[derive(Clone)]
pub struct EngineHandle(Arc<Shared>);

impl EngineHandle {
    pub fn wake(&self) {
        self.0.wake.notify_waiters();
    }

    /// Has what was kept for long enough looked for at once.
    pub(crate) fn look_at_what_is_kept(&self) {
        self.0.keep.notify_one();
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

    pub(crate) fn config(&self) -> &Config {
        &self.0.config
    }

    /// What reads sources.
    pub fn reader(&self) -> &Reader {
        &self.0.reader
    }

    /// Asks a query once, with those that it needs.
    pub(crate) async fn ask(&self, among: &Among<'_>, query: &Query) -> Result<Answer, AskError> {
        ask::ask(&self.0, among, query).await
    }

    /// Computes something for somebody who waits for it: off the async threads, apart from
    /// runs, and for so long at most.
    ///
    /// # Errors
    /// If it takes longer, or panics.
    pub(crate) async fn compute<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, NotComputed> {
        self.0.compute_for_looking(work).await
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

    /// Writes to somebody by the mail server that notices go by, at once.
    ///
    /// # Errors
    /// If it does not take the message; it is not tried again.
    pub(crate) async fn write_to(
        &self,
        to: &Mailbox,
        subject: String,
        text: String,
    ) -> Result<(), maple_lark_delivery::DeliveryError> {
        let id = format!("user.{}", uuid::Uuid::now_v7());
        notify::write_to(&self.0, to, &id, self.now(), (subject, text)).await
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

    /// The definitions as they are now, as far as somebody sees them.
    pub(crate) async fn definitions(
        &self,
        store: &Store,
        sight: &Sight,
    ) -> Result<Arc<Definitions>, StoreError> {
        self.0.definitions.seen(store, sight).await
    }

    /// The parts of the engine that are down at this moment.
    pub(crate) fn down(&self) -> Vec<&'static str> {
        self.0.parts.down()
    }

    /// What is wrong with this machine's clock, if anything.
    pub(crate) fn clock_difference(&self) -> Option<String> {
        self.0.clock.difference()
    }

    /// What time it is for the engine.
    pub fn now(&self) -> DateTime<Utc> {
        self.0.now()
    }
}

impl Engine {
    pub fn start(store: Store, config: Arc<Config>, clock: Clock) -> Self {
        let shared = Arc::new(Shared::new(store, config.clone(), clock));
        let (stop, stopped) = watch::channel(false);
        let mut engine = Self {
            shared,
            stop,
            workers: JoinSet::new(),
        };
        engine.part("clock", &stopped, follow::follow);
        engine.part("time zone rules", &stopped, zones::watch_zone_rules);
        let takes = |work| config.takes(work);
        if takes(Work::Collect) {
            engine.part("samplers", &stopped, sample::watch_samplers);
        }
        if takes(Work::Collect) || takes(Work::Render) {
            for _ in 0..RUN_WORKERS {
                engine.part("runs", &stopped, work_on_runs);
            }
        }
        if takes(Work::Deliver) {
            engine.part("outbox", &stopped, deliver::watch_the_outbox);
        }
        if takes(Work::Schedule) {
            engine.part("schedule", &stopped, schedule::watch_the_clock);
            engine.keep_house(&stopped);
        }
        engine
    }

    /// The parts that tell people, keep to terms and look after what others keep.
    fn keep_house(&mut self, stopped: &watch::Receiver<bool>) {
        let config = self.shared.config.clone();
        self.part("notices", stopped, notify::watch_for_trouble);
        self.part("archive", stopped, archive::watch_the_archive);
        self.part("archive days", stopped, archive::seal_the_days);
        if config.audit_channel.is_some() {
            self.part("audit channel", stopped, forward::forward_the_audit_trail);
        }
        if config.directory.is_some() {
            self.part("directory", stopped, people::watch_the_directory);
        }
        if config.identity_provider.is_some() {
            self.part("identity provider", stopped, people::watch_the_provider);
        }
        self.part("keeping", stopped, keep::watch_what_is_kept);
        if config.storage.is_some() {
            self.part("storage", stopped, storage::watch_the_storage);
        }
        if config.telemetry.is_some() {
            self.part("telemetry", stopped, telemetry::send_telemetry);
        }
        if config.bounces.is_some() {
            self.part("bounces", stopped, notify::bounces::watch_the_maildir);
        }
    }

    /// Keeps what the log says of runs with them.
    pub fn keep_lines(&mut self, store: Store, said: mpsc::Receiver<RunLine>) {
        self.workers
            .spawn(lines::keep(store, said, self.stop.subscribe()));
    }

    /// Starts a part of the engine, which is begun again should it break.
    fn part<F>(
        &mut self,
        name: &'static str,
        stopped: &watch::Receiver<bool>,
        work: fn(Arc<Shared>, watch::Receiver<bool>) -> F,
    ) where
        F: Future<Output = ()> + Send + 'static,
    {
        let (shared, stopped) = (self.shared.clone(), stopped.clone());
        self.workers.spawn(async move {
            let part = || work(shared.clone(), stopped.clone());
            shared.parts.keep_up(name, part).await;
        });
    }

    pub fn handle(&self) -> EngineHandle {
        EngineHandle(self.shared.clone())
    }

    /// What tells the workers to stop.
    pub fn stopper(&self) -> Stopper {
        Stopper {
            shared: self.shared.clone(),
            stop: self.stop.clone(),
        }
    }

    /// Lets every worker finish what it has in hand, for a moment, and releases the rest.
    pub async fn stop(mut self) {
        self.stopper().stop();
        let drained = tokio::time::timeout(PATIENCE, async {
            while self.workers.join_next().await.is_some() {}
        })
        .await;
        if drained.is_err() {
            self.workers.shutdown().await;
        }
        let (store, process) = (&self.shared.store, self.shared.process);
        if let Err(error) = store.release_all(process, self.shared.now()).await {
            tracing::warn!(%error, "leases could not be released; they run out by themselves");
        }
        tracing::info!("the engine has stopped");
    }
}

/// Works on one run after the other until the engine stops; pauses when there is none.
async fn work_on_runs(shared: Arc<Shared>, mut stopped: watch::Receiver<bool>) {
    while !*stopped.borrow() {
        let pause = match run::work_on_a_run(&shared).await {
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
