//! What the workers of one process share, and the leases that they hold.

use std::{sync::Arc, time::Duration};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_sources::Reader;
use maple_lark_store::{
    Store, StoreError,
    claims::{AttemptClaim, Claim},
};
use tokio::sync::Notify;
use uuid::Uuid;

use super::{
    clock::Clock,
    definitions,
    guard::{Computing, LONGEST_LOOK, NotComputed, Panicked, Parts},
    lately::Lately,
    limits::{ConcurrencyLimits, Purpose, Turns},
    room::Room,
};
use crate::Config;

/// How many runs one process works on at a time.
pub const RUN_WORKERS: usize = 4;

/// How often a worker without work looks for some.
pub const IDLE: Duration = Duration::from_millis(500);

/// What workers share.
pub(crate) struct Shared {
    pub store: Store,
    pub config: Arc<Config>,
    /// Names this process in leases.
    pub process: Uuid,
    /// When it began.
    pub began: std::time::Instant,
    pub wake: Notify,
    /// Something was put into the outbox.
    pub outbox: Notify,
    /// Somebody has changed how long things are kept.
    pub keep: Notify,
    pub source_limits: ConcurrencyLimits,
    pub reader: Reader,
    pub definitions: definitions::Cache,
    /// The samplers whose question is under way.
    pub sampling: Turns<String>,
    /// The runs that this process works on.
    pub in_hand: Turns<Uuid>,
    /// The deliveries that it carries.
    pub carried: Turns<Uuid>,
    /// The documents that were composed a moment ago.
    pub lately: Lately,
    /// How much of what sources have answered is held at a time.
    pub room: Arc<Room>,
    /// Threads for composing, sealing and the like.
    computing: Computing,
    /// The same for those who look.
    computing_to_look: Computing,
    /// Which parts of the engine are down.
    pub parts: Parts,
    pub clock: Clock,
}

impl Shared {
    pub fn new(store: Store, config: Arc<Config>, clock: Clock) -> Self {
        Self {
            reader: Reader::new(config.boundary.clone(), config.vault.of(store.clone()))
                .with_permissions(config.permissions.clone())
                .with_commands(config.commands.clone())
                .with_programs(config.source_programs.clone())
                .with_browser(config.browser.clone()),
            store,
            config,
            process: Uuid::new_v4(),
            began: std::time::Instant::now(),
            wake: Notify::new(),
            outbox: Notify::new(),
            keep: Notify::new(),
            source_limits: ConcurrencyLimits::default(),
            definitions: definitions::Cache::default(),
            sampling: Turns::default(),
            in_hand: Turns::default(),
            carried: Turns::default(),
            lately: Lately::default(),
            room: Arc::default(),
            computing: Computing::default(),
            computing_to_look: Computing::default(),
            parts: Parts::default(),
            clock,
        }
    }

    /// The threads that compute for a purpose.
    pub fn computing(&self, purpose: Purpose) -> &Computing {
        match purpose {
            Purpose::Work => &self.computing,
            Purpose::Looking => &self.computing_to_look,
        }
    }

    /// Computes something for somebody who waits for it, apart from runs and for so long at most.
    pub async fn compute_for_looking<T: Send + 'static>(
        &self,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, NotComputed> {
        let computing = self.computing(Purpose::Looking).run(work);
        match tokio::time::timeout(LONGEST_LOOK, computing).await {
            Ok(done) => Ok(done?),
            Err(_) => Err(NotComputed::TooLong),
        }
    }

    /// Whether most workers have a run in hand.
    pub fn is_busy(&self) -> bool {
        self.in_hand.count() > RUN_WORKERS / 2
    }

    pub fn now(&self) -> DateTime<Utc> {
        self.clock.now()
    }

    pub fn lease(&self) -> TimeDelta {
        TimeDelta::from_std(self.config.lease).unwrap_or(TimeDelta::seconds(30))
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

impl From<Panicked> for WorkError {
    fn from(error: Panicked) -> Self {
        Self::Run(error.to_string())
    }
}

/// What a lease is on.
#[derive(Clone, Copy)]
pub(crate) enum Held {
    Run(Claim),
    Delivery(AttemptClaim),
}

/// Renews a lease for as long as it is polled; answers only when it is lost. It is renewed by a
/// task of its own, so that what the caller does meanwhile cannot keep it from being.
pub async fn keep_lease(shared: &Arc<Shared>, held: Held) -> StoreError {
    // Ends its task when it is dropped.
    let mut renewing = tokio::task::JoinSet::new();
    loop {
        renewing.spawn(renew(shared.clone(), held));
        if let Some(Ok(lost)) = renewing.join_next().await {
            return lost;
        }
    }
}

async fn renew(shared: Arc<Shared>, held: Held) -> StoreError {
    loop {
        tokio::time::sleep(shared.config.lease / 3).await;
        let until = shared.now() + shared.lease();
        let renewed = match held {
            Held::Run(claim) => shared.store.renew_run(claim, until).await,
            Held::Delivery(claim) => shared.store.renew_delivery(claim, until).await,
        };
        if let Err(error @ StoreError::LeaseLost(_)) = renewed {
            return error;
        }
    }
}
