//! The sign-in that is remembered between commands, in a file only its owner can read.

use std::{fs, io::Write, path::PathBuf};

use serde::{Deserialize, Serialize};

use crate::failure::Failure;

#[derive(Serialize, Deserialize)]
pub struct Saved {
    pub address: String,
    pub token: String,
    /// By which it is revoked; nothing for a token that was made elsewhere.
    pub token_id: Option<uuid::Uuid>,
}

fn path() -> Result<PathBuf, Failure> {
    let base = std::env::var_os("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")));
    base.map(|base| base.join("maple-lark").join("sign-in.json"))
        .ok_or_else(|| Failure::Local("neither HOME nor XDG_CONFIG_HOME is set, so the sign-in cannot be remembered; use MAPLE_LARK_TOKEN".to_owned()))
}

pub fn load() -> Option<Saved> {
    serde_json::from_str(&fs::read_to_string(path().ok()?).ok()?).ok()
}

pub fn save(saved: &Saved) -> Result<PathBuf, Failure> {
    use std::os::unix::fs::OpenOptionsExt;
    let path = path()?;
    let text = serde_json::to_string_pretty(saved).unwrap_or_default();
    let written = path
        .parent()
        .map_or(Ok(()), fs::create_dir_all)
        .and_then(|()| {
            // A file that was there with wider permissions is replaced, not written into.
            let _ = fs::remove_file(&path);
            fs::OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(&path)?
                .write_all(text.as_bytes())
        });
    written.map_err(|error| {
        Failure::Local(format!(
            "the sign-in cannot be remembered in {}: {error}",
            path.display()
        ))
    })?;
    Ok(path)
}

pub fn forget() -> Result<(), Failure> {
    let _ = fs::remove_file(path()?);
    Ok(())
}
