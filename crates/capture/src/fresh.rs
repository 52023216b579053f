//! A page that nothing has been loaded into yet, in a context of its own. One is kept ready, since
//! to open it takes about as long as to load a small page.

use std::{
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

use chromiumoxide::{
    Browser, Page,
    cdp::browser_protocol::{
        browser::{
            BrowserContextId, PermissionDescriptor, PermissionSetting, SetDownloadBehaviorBehavior,
            SetDownloadBehaviorParams, SetPermissionParams,
        },
        target::{
            CreateBrowserContextParams, CreateTargetParams, DisposeBrowserContextParams,
            EventTargetCrashed,
        },
    },
};
use futures::StreamExt;
use tokio::{
    sync::Notify,
    task::{JoinHandle, JoinSet},
};

use crate::{Problem, gate::OpenGate};

/// What a page may ask for and is not given.
const FORBIDDEN: [&str; 6] = [
    "geolocation",
    "notifications",
    "camera",
    "microphone",
    "clipboard-read",
    "clipboard-write",
];
/// How long the browser may take to close what belongs to a capture.
const CLOSING: Duration = Duration::from_secs(3);
/// How long one that is to be kept ready may take to open.
const OPENING: Duration = Duration::from_secs(10);

/// Whether a page has crashed.
#[derive(Default)]
pub(crate) struct Crash {
    happened: AtomicBool,
    told: Notify,
}

impl Crash {
    pub(crate) fn has_happened(&self) -> bool {
        self.happened.load(Ordering::Acquire)
    }

    /// Ends when it happens, or at once if it has.
    pub(crate) async fn happens(&self) {
        let mut told = std::pin::pin!(self.told.notified());
        told.as_mut().enable();
        if !self.has_happened() {
            told.await;
        }
    }

    fn happen(&self) {
        self.happened.store(true, Ordering::Release);
        self.told.notify_waiters();
    }
}

/// A page that belongs to no capture yet. Its gate lets nothing through.
pub(crate) struct Fresh {
    pub(crate) page: Page,
    pub(crate) context: BrowserContextId,
    pub(crate) gate: OpenGate,
    pub(crate) crash: Arc<Crash>,
    /// It is watched as long as this lives.
    pub(crate) watched: JoinSet<()>,
}

impl Fresh {
    async fn open(browser: &Browser) -> Result<Self, Problem> {
        let gate = OpenGate::open()
            .await
            .map_err(|error| Problem::Protocol(error.to_string()))?;
        let context = CreateBrowserContextParams::builder()
            .dispose_on_detach(true)
            .proxy_server(format!("socks5://{}", gate.address))
            .proxy_bypass_list("<-loopback>")
            .build();
        let context = browser.create_browser_context(context).await?;
        let mut crashes = browser.event_listener::<EventTargetCrashed>().await?;
        let opened = tokio::try_join!(blank(browser, &context), restrict(browser, &context));
        match opened {
            Ok((page, ())) => {
                let (crash, mut watched) = (Arc::<Crash>::default(), JoinSet::new());
                let (tell, own) = (crash.clone(), page.target_id().clone());
                watched.spawn(async move {
                    while let Some(event) = crashes.next().await {
                        if event.target_id == own {
                            tell.happen();
                        }
                    }
                });
                Ok(Self {
                    page,
                    context,
                    gate,
                    crash,
                    watched,
                })
            }
            Err(problem) => {
                dispose(browser, context).await;
                Err(problem)
            }
        }
    }
}

async fn blank(browser: &Browser, context: &BrowserContextId) -> Result<Page, Problem> {
    let target = CreateTargetParams::builder()
        .url("about:blank")
        .browser_context_id(context.clone())
        .build()
        .map_err(Problem::Protocol)?;
    Ok(browser.new_page(target).await?)
}

/// Nothing is granted, and nothing is written to disk.
async fn restrict(browser: &Browser, context: &BrowserContextId) -> Result<(), Problem> {
    let permissions = FORBIDDEN.map(async |name| {
        let deny = SetPermissionParams::builder()
            .permission(PermissionDescriptor::new(name))
            .setting(PermissionSetting::Denied)
            .browser_context_id(context.clone())
            .build()
            .map_err(Problem::Protocol)?;
        browser.execute(deny).await.map_err(Problem::from)
    });
    futures::future::try_join_all(permissions).await?;
    let deny = SetDownloadBehaviorParams::builder()
        .behavior(SetDownloadBehaviorBehavior::Deny)
        .browser_context_id(context.clone())
        // Whether downloads are told of is so for all contexts: no would silence those of others.
        .events_enabled(true)
        .build()
        .map_err(Problem::Protocol)?;
    browser.execute(deny).await?;
    Ok(())
}

/// Closes a context with all that belongs to it; whether the browser did so in time.
pub(crate) async fn dispose(browser: &Browser, context: BrowserContextId) -> bool {
    let dispose = browser.execute(DisposeBrowserContextParams::new(context));
    tokio::time::timeout(CLOSING, dispose).await.is_ok()
}

/// The page that is kept ready, or on its way.
#[derive(Default)]
pub(crate) struct Ready(Mutex<Option<JoinHandle<Option<Fresh>>>>);

impl Ready {
    /// The page that is ready; without one, another. The next is made ready meanwhile.
    pub(crate) async fn take(&self, browser: &Arc<Browser>) -> Result<Fresh, Problem> {
        let ready = self.slot().take();
        let fresh = match ready {
            // One that could not be opened says nothing of the next.
            Some(ready) => ready.await.ok().flatten(),
            None => None,
        };
        let fresh = match fresh {
            Some(fresh) if !fresh.crash.has_happened() => fresh,
            Some(crashed) => {
                dispose(browser, crashed.context).await;
                Fresh::open(browser).await?
            }
            None => Fresh::open(browser).await?,
        };
        let next = browser.clone();
        self.slot().get_or_insert_with(|| {
            tokio::spawn(async move {
                let fresh = tokio::time::timeout(OPENING, Fresh::open(&next)).await;
                fresh.ok()?.ok()
            })
        });
        Ok(fresh)
    }

    fn slot(&self) -> MutexGuard<'_, Option<JoinHandle<Option<Fresh>>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
