//! Looks up what a setting refers to, at the moment it is needed and not before.

use std::{process::Stdio, time::Duration};

use maple_lark_definition::{Setting, Source};

use crate::{
    Reader, SourceError,
    error::{SettingError, SettingProblem},
};

const COMMAND_PATIENCE: Duration = Duration::from_secs(20);

impl Reader {
    /// The value behind a setting that is no source's.
    ///
    /// # Errors
    /// Names the reference, never the value.
    pub async fn setting(&self, setting: &Setting) -> Result<String, SettingError> {
        self.setting_for(setting, None).await
    }

    /// The same of what is sent to a host.
    ///
    /// # Errors
    /// As [`Reader::setting`], and if it may not be sent there.
    pub async fn setting_for(
        &self,
        setting: &Setting,
        host: Option<&str>,
    ) -> Result<String, SettingError> {
        self.look_up(setting, host)
            .await
            .map_err(|problem| SettingError {
                reference: setting.written(),
                problem,
            })
    }

    /// The whole text behind a setting that has several lines, such as a key: of a file all of it, not its
    /// first line.
    ///
    /// # Errors
    /// As [`Reader::setting_for`].
    pub async fn text_for(
        &self,
        setting: &Setting,
        host: Option<&str>,
    ) -> Result<String, SettingError> {
        let Setting::File(path) = setting else {
            return self.setting_for(setting, host).await;
        };
        let wrong = |problem| SettingError {
            reference: setting.written(),
            problem,
        };
        self.permissions.check(setting, host).map_err(wrong)?;
        let text = tokio::fs::read_to_string(path).await;
        let text = text.map_err(|error| wrong(SettingProblem::Unreadable(error)))?;
        if text.trim().is_empty() {
            return Err(wrong(SettingProblem::Empty));
        }
        Ok(text)
    }

    async fn look_up(
        &self,
        setting: &Setting,
        host: Option<&str>,
    ) -> Result<String, SettingProblem> {
        self.permissions.check(setting, host)?;
        self.found(setting).await
    }

    /// The value behind a setting, whatever may be done with it.
    pub(crate) async fn found(&self, setting: &Setting) -> Result<String, SettingProblem> {
        match setting {
            Setting::Plain(text) => Ok(text.clone()),
            Setting::Environment(variable) => {
                std::env::var(variable).map_err(|_| SettingProblem::NotSet)
            }
            Setting::File(path) => {
                let text = tokio::fs::read_to_string(path)
                    .await
                    .map_err(SettingProblem::Unreadable)?;
                let line = text.lines().next().unwrap_or_default();
                if line.is_empty() {
                    Err(SettingProblem::Empty)
                } else {
                    Ok(line.to_owned())
                }
            }
            Setting::Secret(secret) => (self.secrets)(secret.clone())
                .await
                .map_err(SettingProblem::Secret),
            Setting::Command(name) => self.said_by(name).await,
        }
    }

    /// The first line that a command of the configuration prints.
    async fn said_by(&self, name: &str) -> Result<String, SettingProblem> {
        let command = self.commands.get(name).ok_or(SettingProblem::NoCommand)?;
        let (program, arguments) = command.split_first().ok_or(SettingProblem::Empty)?;
        let mut process = tokio::process::Command::new(program);
        process
            .args(arguments)
            .stdin(Stdio::null())
            .stderr(Stdio::null())
            .kill_on_drop(true);
        let output = tokio::time::timeout(COMMAND_PATIENCE, process.output())
            .await
            .map_err(|_| SettingProblem::Endless(COMMAND_PATIENCE.as_secs()))?
            .map_err(SettingProblem::NotRun)?;
        if !output.status.success() {
            return Err(SettingProblem::Failed(output.status));
        }
        let line = String::from_utf8_lossy(&output.stdout)
            .lines()
            .next()
            .unwrap_or_default()
            .trim()
            .to_owned();
        if line.is_empty() {
            Err(SettingProblem::Silent)
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
        self.resolve_for(source, name, setting, None).await
    }

    /// The same of what is sent to a host.
    ///
    /// # Errors
    /// As [`Reader::resolve`], and if it may not be sent there.
    pub(crate) async fn resolve_for(
        &self,
        source: &Source,
        name: &'static str,
        setting: &Setting,
        host: Option<&str>,
    ) -> Result<String, SourceError> {
        self.look_up(setting, host)
            .await
            .map_err(|problem| SourceError::Setting {
                source_name: source.name.clone(),
                setting: name,
                reference: setting.written(),
                problem,
            })
    }
}
