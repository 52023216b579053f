//! One browser for all captures: started when the first one comes, kept while work is there,
//! ended when it is idle, and replaced when it has died or hangs.

use std::{
    ffi::OsStr,
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::Duration,
};

use chromiumoxide::handler::HandlerConfig;
use futures::StreamExt;
use tokio::sync::{Mutex, Semaphore};

use crate::{
    Captured, Failed, Order, Problem,
    fresh::Ready,
    page,
    profile::Profile,
    running::{Running, Sessions},
    watch::{Process, is_there},
};

/// How a browser is started and what it may take.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The program, by its path or by a name in `PATH`; the first of [`PROGRAMS`] that is there
    /// if none is named.
    pub program: Option<PathBuf>,
    /// How many captures at a time.
    pub most_at_once: usize,
    /// How much memory one page may take, in bytes.
    pub most_memory: u64,
    /// How long it is kept when nothing is to be done.
    pub idle: Duration,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            program: None,
            most_at_once: 2,
            most_memory: 1_000_000_000,
            idle: Duration::from_secs(60),
        }
    }
}

impl Settings {
    /// The program that is started: what is installed meanwhile is found.
    #[must_use]
    pub fn program(&self) -> PathBuf {
        let program = self.program_in(&std::env::var_os("PATH").unwrap_or_default());
        let itself = Path::new(WITHOUT_WINDOWS);
        // Debian's script waits for it: the kernel would end the script and not it.
        let is_script = [PROGRAMS[0], SCRIPT]
            .iter()
            .any(|one| program == Path::new(one));
        if is_script && itself.is_file() {
            itself.to_owned()
        } else {
            program
        }
    }

    fn program_in(&self, path: &OsStr) -> PathBuf {
        let usual = || {
            let mut there = PROGRAMS
                .iter()
                .filter(|name| is_there(Path::new(name), path));
            there.next().unwrap_or(&PROGRAMS[0]).into()
        };
        self.program.clone().unwrap_or_else(usual)
    }
}

/// The browser that captures are made in.
pub struct Browser {
    settings: Settings,
    running: Mutex<Option<Arc<Running>>>,
    permits: Semaphore,
    /// Counts captures, so that it is known whether one has come while it was idle.
    uses: AtomicU64,
    sessions: Sessions,
}

/// The browsers of Debian's packages. The first has no windows: a capture takes less than half
/// of the processor's time of the second, and two thirds of the memory.
pub const PROGRAMS: [&str; 2] = ["chromium-headless-shell", "chromium"];
/// Where Debian's package has the first of them itself.
const WITHOUT_WINDOWS: &str = "/usr/lib/chromium/chromium-headless-shell";
/// The script that the package puts into `PATH` for it.
const SCRIPT: &str = "/usr/bin/chromium-headless-shell";
/// How long the browser may take to say its version.
const ALIVE: Duration = Duration::from_secs(5);

impl Browser {
    #[must_use]
    pub fn new(settings: Settings) -> Arc<Self> {
        Arc::new(Self {
            permits: Semaphore::new(settings.most_at_once.max(1)),
            settings,
            running: Mutex::default(),
            uses: AtomicU64::new(0),
            sessions: Sessions::default(),
        })
    }

    /// The browser's name and version; it is started if it does not run.
    ///
    /// # Errors
    /// If it cannot be started.
    pub async fn version(self: &Arc<Self>) -> Result<String, Problem> {
        let version = self.running().await?.version.clone();
        self.end_when_idle();
        Ok(version)
    }

    /// Captures a page. A browser that dies in the middle of it is replaced once.
    ///
    /// # Errors
    /// If the page cannot be kept as it was asked for, with what was there instead.
    pub async fn capture(self: &Arc<Self>, order: &Order) -> Result<Captured, Box<Failed>> {
        let failed = |problem| {
            Box::new(Failed {
                problem,
                steps: Vec::new(),
                picture: None,
            })
        };
        // Never closed.
        let _permit = self.permits.acquire().await;
        let mut again = true;
        loop {
            let running = self.running().await.map_err(failed)?;
            let busy = running.process.busy();
            let (captured, used) = page::capture(&self.sessions, &running, order).await;
            // Nobody waits until it is closed.
            let of = running.clone();
            tokio::spawn(async move {
                if let Some(context) = used {
                    of.dispose(context).await;
                }
                drop(busy);
            });
            let died = captured.is_err() && self.has_died(&running).await;
            self.end_when_idle();
            if died && again {
                tracing::warn!("the browser has died; another is started");
                again = false;
                continue;
            }
            return captured;
        }
    }

    /// The most memory that the browser which runs has taken, in bytes; 0 if none runs.
    pub async fn peak_memory(&self) -> u64 {
        let running = self.running.lock().await;
        running
            .as_ref()
            .map_or(0, |running| running.process.peak_memory())
    }

    /// Whether a browser runs.
    pub async fn runs(&self) -> bool {
        self.running.lock().await.is_some()
    }

    /// Ends the browser.
    pub async fn end(&self) {
        *self.running.lock().await = None;
    }

    async fn has_died(&self, running: &Running) -> bool {
        if running.hangs.load(Ordering::Acquire) {
            return false;
        }
        // What has lost its connection may take a moment to be gone.
        for _ in 0..10 {
            if running.process.has_ended() {
                return true;
            }
            let answers = tokio::time::timeout(ALIVE, running.browser.version()).await;
            if matches!(answers, Ok(Ok(_))) {
                return false;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        true
    }

    async fn running(&self) -> Result<Arc<Running>, Problem> {
        self.uses.fetch_add(1, Ordering::AcqRel);
        let mut slot = self.running.lock().await;
        if let Some(running) = &*slot {
            let well = !running.process.has_ended()
                && !running.hangs.load(Ordering::Acquire)
                && matches!(
                    tokio::time::timeout(ALIVE, running.browser.version()).await,
                    Ok(Ok(_))
                );
            if well {
                return Ok(running.clone());
            }
        }
        // Captures under way keep the old one until they are done with it.
        *slot = None;
        let running = Arc::new(self.start().await?);
        *slot = Some(running.clone());
        Ok(running)
    }

    /// Starts it in its own sandbox where the system lets it.
    async fn start(&self) -> Result<Running, Problem> {
        if rustix::process::geteuid().is_root() {
            tracing::warn!(
                "the browser runs without its sandbox, because the service runs as root"
            );
            return self.start_with(&["--no-sandbox"]).await;
        }
        match self.start_with(&[]).await {
            Err(Problem::NotStarted(words)) if words.to_lowercase().contains("sandbox") => {
                tracing::warn!(words, "the browser runs without its sandbox");
                self.start_with(&["--no-sandbox"]).await
            }
            other => other,
        }
    }

    async fn start_with(&self, more: &[&str]) -> Result<Running, Problem> {
        let failed = |error: std::io::Error| Problem::NotStarted(error.to_string());
        let profile = Profile::new().map_err(failed)?;
        let arguments: Vec<String> = ARGUMENTS
            .iter()
            .chain(more)
            .map(ToString::to_string)
            .chain([format!("--user-data-dir={}", profile.path().display())])
            .collect();
        let process = Process::start(
            &self.settings.program(),
            arguments,
            profile.path(),
            self.settings.most_memory,
        )
        .await?;
        let config = HandlerConfig {
            ignore_https_errors: false,
            viewport: None,
            // Each capture has a limit of its own.
            request_timeout: Duration::from_secs(3600),
            ..HandlerConfig::default()
        };
        let (browser, mut handler) =
            chromiumoxide::Browser::connect_with_config(process.address.clone(), config).await?;
        // Whoever waits for an answer hears that there will be none when this ends.
        tokio::spawn(async move { while let Some(Ok(())) = handler.next().await {} });
        let told = browser.version().await?;
        let version = told.product.replace('/', " ");
        tracing::info!(version, "the browser has started");
        Ok(Running {
            browser: Arc::new(browser),
            version: version
                .replace("Headless", "")
                .replace("Chrome", "Chromium"),
            agent: told.user_agent.replace("Headless", ""),
            process,
            hangs: AtomicBool::new(false),
            ready: Ready::default(),
            most_memory: self.settings.most_memory,
            _profile: profile,
        })
    }

    fn end_when_idle(self: &Arc<Self>) {
        let (this, uses) = (Arc::downgrade(self), self.uses.load(Ordering::Acquire));
        let idle = self.settings.idle;
        tokio::spawn(async move {
            tokio::time::sleep(idle).await;
            if let Some(this) = this.upgrade()
                && this.uses.load(Ordering::Acquire) == uses
            {
                this.end().await;
            }
        });
    }
}

/// Headless, quiet, and with no way to the network but the one that each capture is given. The
/// first four features would have the browser load pages of its own beside each one that is
/// captured.
const ARGUMENTS: [&str; 27] = [
    "--headless",
    "--remote-debugging-port=0",
    "--proxy-server=socks5://127.0.0.1:9",
    "--proxy-bypass-list=<-loopback>",
    "--host-resolver-rules=MAP * ~NOTFOUND , EXCLUDE 127.0.0.1",
    "--force-webrtc-ip-handling-policy=disable_non_proxied_udp",
    "--webrtc-ip-handling-policy=disable_non_proxied_udp",
    "--disable-quic",
    "--disable-gpu",
    "--disable-dev-shm-usage",
    "--disable-extensions",
    "--disable-component-extensions-with-background-pages",
    "--disable-component-update",
    "--disable-background-networking",
    "--disable-background-timer-throttling",
    "--disable-backgrounding-occluded-windows",
    "--disable-renderer-backgrounding",
    "--disable-client-side-phishing-detection",
    "--disable-breakpad",
    "--disable-default-apps",
    "--disable-sync",
    "--disable-domain-reliability",
    "--disable-features=SpareRendererForSitePerProcess,WebUIOmniboxPopup,WebUIOmniboxAimPopup,WebUIOmniboxFullPopup,Translate,MediaRouter,OptimizationHints,DialMediaRouteProvider,AutofillServerCommunication,HttpsUpgrades,HttpsFirstBalancedModeAutoEnable",
    "--hide-scrollbars",
    "--mute-audio",
    "--no-first-run",
    "--no-default-browser-check",
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_browser_without_windows_is_taken_where_both_are_there() {
        let folder = tempfile::tempdir().unwrap();
        let path = std::env::join_paths([Path::new("/nowhere"), folder.path()]).unwrap();
        let usual = Settings::default();
        assert_eq!(
            usual.program_in(&path),
            Path::new("chromium-headless-shell")
        );
        std::fs::write(folder.path().join("chromium"), "").unwrap();
        assert_eq!(usual.program_in(&path), Path::new("chromium"));
        std::fs::write(folder.path().join("chromium-headless-shell"), "").unwrap();
        assert_eq!(
            usual.program_in(&path),
            Path::new("chromium-headless-shell")
        );
        let named = |program: &str| Settings {
            program: Some(program.into()),
            ..Settings::default()
        };
        assert_eq!(named("another").program_in(&path), Path::new("another"));
        // Debian's script gives way to the program itself, and no other does.
        assert_eq!(named(SCRIPT).program(), Path::new(WITHOUT_WINDOWS));
        assert_eq!(usual.program(), Path::new(WITHOUT_WINDOWS));
        let own = "/opt/browsers/chromium-headless-shell";
        assert_eq!(named(own).program(), Path::new(own));
    }
}
