//! Who follows which run: however many do, and however many runs they follow, the records are asked once.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, MutexGuard},
    time::{Duration, Instant},
};

use maple_lark_store::Store;
use tokio::sync::watch;
use uuid::Uuid;

/// How soon a change is noticed.
const PAUSE: Duration = Duration::from_millis(200);

/// The runs that somebody follows in this process.
#[derive(Clone, Default)]
pub struct Followed(Arc<Mutex<Runs>>);

#[derive(Default)]
struct Runs {
    /// What each was like when it was last looked at; nothing yet for one that was just added.
    all: HashMap<Uuid, (Option<String>, watch::Sender<()>)>,
    /// Whether somebody looks at them.
    looking: bool,
}

impl Followed {
    fn runs(&self) -> MutexGuard<'_, Runs> {
        self.0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    /// Hears of each change of a run from now on; the first may be one that was there before.
    pub fn follow(&self, store: &Store, run: Uuid) -> watch::Receiver<()> {
        let mut runs = self.runs();
        let entry = runs.all.entry(run);
        let (seen, sender) = entry.or_insert_with(|| (None, watch::Sender::new(())));
        // Whatever came between this and what the follower has read is told.
        *seen = None;
        let receiver = sender.subscribe();
        if !runs.looking {
            runs.looking = true;
            tokio::spawn(self.clone().look(store.clone()));
        }
        receiver
    }

    /// Looks at all of them as long as somebody follows one.
    async fn look(self, store: Store) {
        loop {
            let began = Instant::now();
            let ids: Vec<Uuid> = {
                let mut runs = self.runs();
                runs.all
                    .retain(|_, (_, sender)| sender.receiver_count() > 0);
                if runs.all.is_empty() {
                    runs.looking = false;
                    return;
                }
                runs.all.keys().copied().collect()
            };
            match store.run_marks(&ids).await {
                Ok(marks) => self.tell(marks),
                // Followers look by themselves now and then, and end if they cannot.
                Err(error) => tracing::debug!(%error, "runs that are followed were not looked at"),
            }
            // Most of the time is left to whatever carries them.
            tokio::time::sleep(PAUSE.max(began.elapsed() * 10)).await;
        }
    }

    fn tell(&self, marks: Vec<(Uuid, String)>) {
        let mut runs = self.runs();
        for (run, mark) in marks {
            if let Some((seen, sender)) = runs.all.get_mut(&run)
                && seen.as_ref() != Some(&mark)
            {
                *seen = Some(mark);
                sender.send_replace(());
            }
        }
    }
}
