//! A value that is given as it is, or by reference.

use std::str::FromStr;

use crate::model::name;

/// A text given as it is, or by a reference that is looked up when it is needed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Setting {
    /// The text itself.
    Plain(String),
    /// `env:NAME`: an environment variable of the service.
    Environment(String),
    /// `file:/path`: the first line of a file that the service can read.
    File(String),
    /// `secret:name`: kept encrypted by the service.
    Secret(String),
    /// `command:name`: the first line that a command prints, which the configuration of the
    /// service names. Definitions cannot say what is run.
    Command(String),
}

impl Setting {
    /// As it is written in a definition; shows the reference, never what it refers to.
    #[must_use]
    pub fn written(&self) -> String {
        match self {
            Setting::Plain(text) => text.clone(),
            Setting::Environment(name) => format!("env:{name}"),
            Setting::File(path) => format!("file:{path}"),
            Setting::Secret(name) => format!("secret:{name}"),
            Setting::Command(name) => format!("command:{name}"),
        }
    }
}

/// Why a reference is none.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum BadSetting {
    /// The name of an environment variable is missing.
    #[error(
        "\"env:\" must be followed by the name of an environment variable, such as \"env:READER_PASSWORD\""
    )]
    Variable,
    /// The path of a file is missing or not absolute.
    #[error(
        "\"file:\" must be followed by an absolute path, such as \"file:/etc/maple-lark/reader-password\""
    )]
    Path,
    /// The name of a stored secret cannot be one.
    #[error(
        "\"secret:\" must be followed by the name of a stored secret, in small letters, digits and hyphens, such as \"secret:reader-password\""
    )]
    Secret,
    /// The name of a command cannot be one.
    #[error(
        "\"command:\" must be followed by the name of a command from the configuration of the service, such as \"command:mail-token\""
    )]
    Command,
}

impl FromStr for Setting {
    type Err = BadSetting;

    fn from_str(text: &str) -> Result<Self, BadSetting> {
        if let Some(name) = text.strip_prefix("env:") {
            let valid =
                !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
            return valid
                .then(|| Setting::Environment(name.to_owned()))
                .ok_or(BadSetting::Variable);
        }
        if let Some(name) = text.strip_prefix("secret:") {
            return name::is_name(name)
                .then(|| Setting::Secret(name.to_owned()))
                .ok_or(BadSetting::Secret);
        }
        if let Some(name) = text.strip_prefix("command:") {
            return name::is_name(name)
                .then(|| Setting::Command(name.to_owned()))
                .ok_or(BadSetting::Command);
        }
        match text.strip_prefix("file:") {
            Some(path) if path.starts_with('/') => Ok(Setting::File(path.to_owned())),
            Some(_) => Err(BadSetting::Path),
            None => Ok(Setting::Plain(text.to_owned())),
        }
    }
}
