//! A browser that has been started, and what sites keep of those who have signed in.

use std::{
    collections::HashMap,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
};

use chromiumoxide::cdp::browser_protocol::{browser::BrowserContextId, network::CookieParam};

use crate::{
    fresh::{self, Ready},
    profile::Profile,
    watch::Process,
};

/// A browser that has been started.
pub(crate) struct Running {
    pub(crate) browser: Arc<chromiumoxide::Browser>,
    pub(crate) version: String,
    /// What it says to sites that it is.
    pub(crate) agent: String,
    pub(crate) process: Process,
    /// Whether it has stopped answering; captures to come get another.
    pub(crate) hangs: AtomicBool,
    pub(crate) ready: Ready,
    /// How much memory one page may take, in bytes.
    pub(crate) most_memory: u64,
    /// Removed when it is ended.
    pub(crate) _profile: Profile,
}

impl Running {
    /// Closes a context with all that belongs to it. A browser that does not do so in time is not
    /// used again.
    pub(crate) async fn dispose(&self, context: BrowserContextId) {
        if !fresh::dispose(&self.browser, context).await {
            self.hangs.store(true, Ordering::Release);
        }
    }
}

/// What a site keeps of somebody who has signed in.
#[derive(Clone, Default)]
pub(crate) struct Session {
    pub(crate) cookies: Vec<CookieParam>,
    /// What the page's origin keeps in local storage.
    pub(crate) storage: Vec<(String, String)>,
}

/// Sign-ins kept at most; past it all are forgotten and made anew.
const MOST_SESSIONS: usize = 100;

/// Sign-ins, by the words that captures which share one have in common. They are in memory alone.
#[derive(Default)]
pub(crate) struct Sessions(Mutex<HashMap<String, Session>>);

impl Sessions {
    pub(crate) fn of(&self, key: &str) -> Option<Session> {
        let sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.get(key).cloned()
    }

    /// Keeps what a sign-in has left, or forgets it.
    pub(crate) fn keep(&self, key: &str, session: Option<Session>) {
        let mut sessions = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if sessions.len() >= MOST_SESSIONS {
            sessions.clear();
        }
        match session {
            Some(session) => sessions.insert(key.to_owned(), session),
            None => sessions.remove(key),
        };
    }
}
