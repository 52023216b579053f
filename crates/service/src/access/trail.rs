//! What is to be put on record of a request: guards say who asks, handlers add what only they know.

use std::sync::{Arc, Mutex};

use rocket::{
    Request,
    request::{FromRequest, Outcome},
};

/// What is known of a request besides its path: who asks, and what came of it.
#[derive(Debug, Clone, Default)]
pub struct Trail(Arc<Mutex<Noted>>);

/// What guards and handlers have said.
#[derive(Debug, Default)]
pub struct Noted {
    pub actor: Option<String>,
    pub details: Vec<String>,
    /// Instead of the operation that the description of the API has for the path.
    pub action: Option<&'static str>,
    /// Instead of what stands in the path.
    pub subject: Option<String>,
}

impl Trail {
    /// The trail of a request; the same for whoever asks for it.
    pub fn of<'r>(request: &'r Request<'_>) -> &'r Self {
        request.local_cache(Self::default)
    }

    /// What is known so far.
    pub fn noted(&self) -> std::sync::MutexGuard<'_, Noted> {
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    /// Who asks.
    pub fn actor(&self, name: &str) {
        self.noted().actor = Some(name.to_owned());
    }

    /// What only the handler knows. Never a secret.
    pub fn note(&self, detail: impl Into<String>) {
        self.noted().details.push(detail.into());
    }

    /// For what is no operation of the API, or has a secret in its path.
    pub fn is(&self, action: &'static str, subject: impl Into<String>) {
        let mut noted = self.noted();
        noted.action = Some(action);
        noted.subject = Some(subject.into());
    }
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Trail {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        Outcome::Success(Self::of(request).clone())
    }
}
