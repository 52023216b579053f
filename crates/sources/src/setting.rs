//! Looks up what a setting refers to, at the moment it is needed and not before.

use std::{process::Stdio, time::Duration};

use maple_lark_definition::{Setting, Source};

use crate::{Reader, SourceError};

const COMMAND_PATIENCE: Duration = Duration::from_secs(20);

impl Reader {
    /// The value behind a setting that is no source's.
    ///
    /// # Errors
    /// Names the reference, never the value.
    pub async fn setting(&self, setting: &Setting) -> Result<String, String> {
        let fail = |problem: String| format!("{} {problem}", setting.written());
        match setting {
            Setting::Plain(text) => Ok(text.clone()),
            Setting::Environment(variable) => std::env::var(variable)
                .map_err(|_| fail("is not set in the environment of the service".to_owned())),
            Setting::File(path) => {
                let text = tokio::fs::read_to_string(path)
                    .await
                    .map_err(|error| fail(format!("cannot be read: {error}")))?;
                let line = text.lines().next().unwrap_or_default();
                if line.is_empty() {
                    Err(fail("is empty".to_owned()))
                } else {
                    Ok(line.to_owned())
                }
            }
            Setting::Secret(secret) => (self.secrets)(secret.clone()).await.map_err(fail),
            Setting::Command(name) => self.said_by(name).await.map_err(fail),
        }
    }

    /// The first line that a command of the configuration prints.
    async fn said_by(&self, name: &str) -> Result<String, String> {
        let command = self.commands.get(name).ok_or_else(|| {
            "is not a command of the service's configuration; add it under [commands]".to_owned()
        })?;
        let (program, arguments) = command.split_first().ok_or_else(|| "is empty".to_owned())?;
        let mut process = tokio::process::Command::new(program);
        process
            .args(arguments)
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .kill_on_drop(true);
        let output = match tokio::time::timeout(COMMAND_PATIENCE, process.output()).await {
            Err(_) => {
                return Err(format!(
                    "did not end within {} s",
                    COMMAND_PATIENCE.as_secs()
                ));
            }
            Ok(Err(error)) => return Err(format!("cannot be run: {error}")),
            Ok(Ok(output)) => output,
        };
        if !output.status.success() {
            return Err(format!("failed: {}", output.status));
        }
        let line = String::from_utf8_lossy(&output.stdout)
            .lines()
            .next()
            .unwrap_or_default()
            .trim()
            .to_owned();
        if line.is_empty() {
            Err("printed nothing".to_owned())
        } else {
            Ok(line)
        }
    }

    /// The value behind a source's setting.
    ///
    /// # Errors
    /// Names the reference, never the value.
    pub(crate) async fn resolve(
        &self,
        source: &Source,
        name: &'static str,
        setting: &Setting,
    ) -> Result<String, SourceError> {
        let said = |words: String| {
            let problem = words
                .strip_prefix(&setting.written())
                .unwrap_or(&words)
                .trim_start()
                .to_owned();
            SourceError::Setting {
                source_name: source.name.clone(),
                setting: name,
                reference: setting.written(),
                problem,
            }
        };
        self.setting(setting).await.map_err(said)
    }
}
