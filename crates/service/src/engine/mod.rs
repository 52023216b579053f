//! The engine: notices what is due, takes work with a lease, does it step by step.
//!
//! Each step is a row before it is an action, so a process that is killed anywhere loses
//! nothing: another one takes the work over when the lease has run out.

use maple_lark_api::RunState;
mod audiences;
mod bounces;
mod catalogue;
mod channels;
mod clock;
mod collect;
mod deliver;
mod messages;
mod notices;
mod outbox;
mod readiness;
mod render;
mod sampler;
mod scheduler;

use std::{sync::Arc, time::Duration};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_data::figures::Operation;
use maple_lark_definition::{
    Ask, Channel, Mailbox, OnFailedBlock, Report, ResolvedAudience, Source, Times,
};
use maple_lark_document::{Snapshot, snapshot::Outcome};
use maple_lark_sources::{Answer, Question, Reader, Values};
use maple_lark_store::{Store, StoreError, runs::Run};
use maple_lark_time::Window;
use tokio::{
    sync::{Notify, watch},
    task::JoinSet,
};
use tracing::Instrument;
use uuid::Uuid;

use crate::Config;
pub use audiences::OnlyTo;
pub use catalogue::{Catalogue, parse_all};
pub use clock::Clock;
pub use collect::values_key;
use readiness::Ready;
pub use scheduler::{RequestError, RunRequest, backfill, past_instants, request_run};

/// How many runs one process works on at a time.
const RUN_WORKERS: usize = 4;
/// How often a worker without work looks for some.
const IDLE: Duration = Duration::from_millis(500);

/// What workers share.
pub(crate) struct Shared {
    pub store: Store,
    pub config: Arc<Config>,
    /// Names this process in leases.
    pub owner: Uuid,
    pub wake: Notify,
    pub sources: collect::Turns,
    /// How many deliveries each channel has in its hands.
    pub lanes: collect::Turns,
    pub reader: Reader,
    pub catalogue: catalogue::Cache,
    pub clock: Clock,
    pub sessions: channels::Sessions,
    pub messages: messages::Prepared,
    pub endings: outbox::Endings,
}

impl Shared {
    fn new(store: Store, config: Arc<Config>, clock: Clock) -> Self {
        Self {
            reader: Reader::new(config.boundary.clone(), config.vault.of(store.clone()))
                .with_commands(config.commands.clone()),
            store,
            config,
            owner: Uuid::new_v4(),
            wake: Notify::new(),
            sources: collect::Turns::default(),
            lanes: collect::Turns::default(),
            catalogue: catalogue::Cache::default(),
            clock,
            sessions: channels::Sessions::default(),
            messages: messages::Prepared::default(),
            endings: outbox::Endings::default(),
        }
    }

    fn now(&self) -> DateTime<Utc> {
        self.clock.now()
    }

    fn lease(&self) -> TimeDelta {
        TimeDelta::from_std(self.config.lease).unwrap_or(TimeDelta::seconds(30))
    }
}

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

    /// An engine that only makes runs of what is due when [`EngineHandle::look`] is called,
    /// and works on none of them.
    pub fn of_a_scheduler_alone(store: Store, config: Arc<Config>, clock: Clock) -> Self {
        Self(Arc::new(Shared::new(store, config, clock)))
    }

    /// One look at the clock: makes the runs that are due and answers when it is worth
    /// another look.
    ///
    /// # Errors
    /// If the database cannot be used.
    pub async fn look(&self) -> Result<Option<DateTime<Utc>>, StoreError> {
        scheduler::tick(&self.0).await
    }

    /// What reads sources.
    pub fn reader(&self) -> &Reader {
        &self.0.reader
    }

    /// Asks a source once, when it is its turn. What went wrong, in words.
    pub(crate) async fn read(
        &self,
        source: &Source,
        ask: &Ask,
        times: &Times,
        values: &Values,
    ) -> Result<Answer, String> {
        let _turn = self.0.sources.turn(source).await;
        self.0
            .reader
            .read(source, Question { ask, times, values })
            .await
            .map_err(|error| error.to_string())
    }

    /// What a report of `catalogue` would show, were it made now; nothing is kept.
    pub(crate) async fn look_at(
        &self,
        catalogue: &Catalogue,
        report: &Report,
        window: Window,
        values: Values,
    ) -> Snapshot {
        collect::look(&self.0, catalogue, report, window, values).await
    }

    /// Tries a mail server step by step; the service's own if no channel is named.
    ///
    /// # Errors
    /// If its settings cannot be looked up.
    pub(crate) async fn probe(
        &self,
        channel: Option<&Channel>,
        to: &Mailbox,
    ) -> Result<maple_lark_delivery::Probe, String> {
        let server = channels::own_or_named(&self.0, channel).await?;
        let message = messages::test_message(&server, to, self.now());
        Ok(maple_lark_delivery::MailSession::probe(&server, &message).await)
    }

    /// Tries a channel that is no mail server, with something that shows that it works.
    pub(crate) async fn try_channel(&self, channel: &Channel) -> Result<String, String> {
        outbox::try_channel(&self.0, channel).await
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

    /// What a sampler has kept of a window.
    pub(crate) async fn history(
        &self,
        sampler: &str,
        window: &Window,
        then: &[Operation],
    ) -> Outcome {
        sampler::history(&self.0, sampler, window, then).await
    }

    /// The definitions as they are now.
    pub(crate) async fn catalogue(&self, store: &Store) -> Result<Arc<Catalogue>, StoreError> {
        self.0.catalogue.current(store).await
    }

    /// What time it is for the engine.
    pub fn now(&self) -> DateTime<Utc> {
        self.0.now()
    }
}

#[derive(Debug, thiserror::Error)]
pub(crate) enum WorkError {
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The run cannot go on; the text is for its record.
    #[error("{0}")]
    Run(String),
}

impl Engine {
    pub fn start(store: Store, config: Arc<Config>, clock: Clock) -> Self {
        let shared = Arc::new(Shared::new(store, config, clock));
        let (stop, stopped) = watch::channel(false);
        let mut workers = JoinSet::new();
        workers.spawn(scheduler::watch_the_clock(shared.clone(), stopped.clone()));
        workers.spawn(sampler::watch_samplers(shared.clone(), stopped.clone()));
        for _ in 0..RUN_WORKERS {
            workers.spawn(until_stopped(
                shared.clone(),
                stopped.clone(),
                |shared| async move { work_on_a_run(&shared).await },
            ));
        }
        workers.spawn(outbox::watch_the_outbox(shared.clone(), stopped.clone()));
        workers.spawn(notices::watch_for_trouble(shared.clone(), stopped.clone()));
        if shared.config.bounces.is_some() {
            workers.spawn(bounces::watch_the_maildir(shared.clone(), stopped.clone()));
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

/// Takes one run and brings it as far as the outbox. Answers whether there was one.
async fn work_on_a_run(shared: &Arc<Shared>) -> Result<bool, StoreError> {
    let Some(run) = shared
        .store
        .claim_run(shared.owner, shared.now(), shared.lease())
        .await?
    else {
        return Ok(false);
    };
    let span = tracing::info_span!("run", id = %run.id, report = %run.report);
    async {
        tracing::info!(state = %run.state, scheduled_for = %run.scheduled_for, "taken");
        let limit = time_limit(&run);
        let outcome = tokio::select! {
            () = tokio::time::sleep(limit) => Err(WorkError::Run(format!("it took longer than its time limit of {} s", limit.as_secs()))),
            outcome = advance(shared, &run) => outcome,
            lost = keep_lease(shared, Held::Run(run.id)) => Err(WorkError::Store(lost)),
        };
        match outcome {
            Ok(()) => Ok(()),
            Err(WorkError::Run(problem)) => {
                tracing::error!(problem, "failed");
                shared.store.set_run_state(run.id, shared.owner, RunState::Failed, Some(&problem), shared.now()).await
            }
            Err(WorkError::Store(StoreError::LeaseLost(_))) => {
                tracing::warn!("this run was cancelled, or another process has taken it over");
                Ok(())
            }
            Err(WorkError::Store(error)) => Err(error),
        }
    }
    .instrument(span)
    .await?;
    Ok(true)
}

fn time_limit(run: &Run) -> Duration {
    let catalogue = Catalogue::frozen(&run.definitions).ok();
    let report = catalogue
        .as_ref()
        .and_then(|catalogue| catalogue.set.reports.get(&run.report));
    Duration::from_secs(report.map_or(3600, |report| report.time_limit_seconds))
}

/// What a lease is on.
#[derive(Clone, Copy)]
pub(crate) enum Held {
    Run(Uuid),
    Delivery(Uuid),
}

/// Renews a lease for as long as it is polled; answers only when it is lost.
async fn keep_lease(shared: &Shared, held: Held) -> StoreError {
    loop {
        tokio::time::sleep(shared.config.lease / 3).await;
        let until = shared.now() + shared.lease();
        let renewed = match held {
            Held::Run(id) => shared.store.renew_run(id, shared.owner, until).await,
            Held::Delivery(id) => shared.store.renew_delivery(id, shared.owner, until).await,
        };
        if let Err(error @ StoreError::LeaseLost(_)) = renewed {
            return error;
        }
    }
}

/// Each stage looks first at what an earlier process has already kept.
async fn advance(shared: &Arc<Shared>, run: &Run) -> Result<(), WorkError> {
    let (store, owner) = (&shared.store, shared.owner);
    let catalogue = Catalogue::frozen(&run.definitions).map_err(WorkError::Run)?;
    let report = catalogue.set.reports.get(&run.report).ok_or_else(|| {
        WorkError::Run(format!("the run holds no definition of \"{}\"", run.report))
    })?;

    if run.state == RunState::Releasing {
        let audiences = audiences::audiences(shared, run, &catalogue, report).await?;
        return send(shared, run, report, &audiences).await;
    }
    let incomplete = match readiness::wait(shared, run, &catalogue, report).await? {
        Ready::Yes => run.incomplete.clone(),
        Ready::Never(reason) => Some(reason),
        Ready::Later => return Ok(()),
    };
    store
        .set_run_state(run.id, owner, RunState::Collecting, None, shared.now())
        .await?;
    let audiences = audiences::audiences(shared, run, &catalogue, report).await?;
    let value_sets = audiences::value_sets(&catalogue, report, &audiences);
    collect::collect(shared, run, &catalogue, report, value_sets, incomplete).await?;

    store
        .set_run_state(run.id, owner, RunState::Rendering, None, shared.now())
        .await?;
    let failed = render::render(shared, run, report, &audiences).await?;
    shared.wake.notify_waiters();

    if let Some((block, reason)) = failed.first()
        && report.on_failed_block == OnFailedBlock::Hold
    {
        let more = if failed.len() > 1 {
            format!(" (and {} more)", failed.len() - 1)
        } else {
            String::new()
        };
        let problem = format!("\"{block}\" could not be made: {reason}{more}");
        tracing::warn!(problem, "held");
        store
            .set_run_state(run.id, owner, RunState::Held, Some(&problem), shared.now())
            .await?;
        return Ok(());
    }
    if !run.deliver || audiences.is_empty() {
        store
            .set_run_state(run.id, owner, RunState::Completed, None, shared.now())
            .await?;
        tracing::info!("made, without deliveries");
        return Ok(());
    }
    if let Some(approval) = &report.approval
        && run.only_to.is_none()
        && !deliver::all_quiet(shared, run).await?
    {
        let deadline = shared.now() + TimeDelta::seconds(approval.deadline_seconds as i64);
        tracing::info!(%deadline, "waits until somebody has looked at it");
        store.await_approval(run.id, owner, deadline).await?;
        shared.wake.notify_waiters();
        return Ok(());
    }
    send(shared, run, report, &audiences).await
}

/// Puts a run's deliveries into the outbox, unless there is nothing to say.
async fn send(
    shared: &Shared,
    run: &Run,
    report: &Report,
    audiences: &[ResolvedAudience],
) -> Result<(), WorkError> {
    if let Some(reason) = deliver::enqueue(shared, run, report, audiences).await? {
        tracing::info!(reason, "quiet");
        shared
            .store
            .set_run_state(
                run.id,
                shared.owner,
                RunState::Quiet,
                Some(&reason),
                shared.now(),
            )
            .await?;
        notices::confirm_quiet(shared, run, report, &reason).await?;
    }
    shared.wake.notify_waiters();
    Ok(())
}
