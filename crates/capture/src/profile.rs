//! The folder that a browser keeps its things in while it runs.

use std::{fs::File, io, path::Path};

/// What the folders of browsers begin with.
const PREFIX: &str = "maple-lark-browser-";
/// Locked as long as the process that has made the folder lives; so is the browser.
const LOCK: &str = "in-use";

/// A folder of its own, removed when this is dropped.
pub(crate) struct Profile {
    folder: tempfile::TempDir,
    _lock: File,
}

impl Profile {
    /// A new folder. Those that services left behind which were killed are removed.
    pub(crate) fn new() -> io::Result<Self> {
        Self::within(&std::env::temp_dir())
    }

    fn within(temporary: &Path) -> io::Result<Self> {
        remove_orphans(temporary);
        let folder = tempfile::Builder::new()
            .prefix(PREFIX)
            .tempdir_in(temporary)?;
        // It has its name only once it is locked: whoever finds it can tell from it.
        let (unnamed, named) = (folder.path().join("new"), folder.path().join(LOCK));
        let lock = File::create_new(&unnamed)?;
        lock.lock()?;
        std::fs::rename(unnamed, named)?;
        Ok(Self {
            folder,
            _lock: lock,
        })
    }

    pub(crate) fn path(&self) -> &Path {
        self.folder.path()
    }
}

fn remove_orphans(temporary: &Path) {
    let entries = std::fs::read_dir(temporary).into_iter().flatten().flatten();
    let profiles = entries.filter(|entry| entry.file_name().to_string_lossy().starts_with(PREFIX));
    for profile in profiles.map(|entry| entry.path()) {
        if is_orphan(&profile)
            && let Err(error) = std::fs::remove_dir_all(&profile)
        {
            tracing::warn!(%error, "the folder of a browser that has ended stays");
        }
    }
}

/// Whether nobody has a folder any more. One without a lock may be about to get it.
fn is_orphan(profile: &Path) -> bool {
    File::open(profile.join(LOCK)).is_ok_and(|lock| lock.try_lock().is_ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_that_nobody_has_are_removed() {
        let temporary = tempfile::tempdir().unwrap();
        let folder = |name: &str| {
            let folder = temporary.path().join(name);
            std::fs::create_dir(&folder).unwrap();
            folder
        };
        let killed = folder("maple-lark-browser-a");
        std::fs::write(killed.join(LOCK), "").unwrap();
        let starting = folder("maple-lark-browser-b");
        let other = folder("somebody-else");
        std::fs::write(other.join(LOCK), "").unwrap();
        let runs = Profile::within(temporary.path()).unwrap();
        assert!(!killed.exists());
        assert!(starting.exists() && other.exists());
        let another = Profile::within(temporary.path()).unwrap();
        assert!(runs.path().exists() && another.path().exists());
        let path = runs.path().to_owned();
        drop(runs);
        assert!(!path.exists() && another.path().exists());
    }
}
