//! Looks up what a setting refers to, at the moment it is needed and not before.

use maple_lark_core::definition::{Setting, Source};

use crate::{Reader, SourceError};

impl Reader {
    /// The value behind a setting that is no source's.
    ///
    /// # Errors
    /// Names the reference, never the value.
    pub async fn setting(&self, setting: &Setting) -> Result<String, String> {
        let fail = |problem: String| format!("{} {problem}", setting.written());
        match setting {
            Setting::Plain(text) => Ok(text.clone()),
            Setting::Environment(variable) => std::env::var(variable).map_err(|_| fail("is not set in the environment of the service".to_owned())),
            Setting::File(path) => {
                let text = tokio::fs::read_to_string(path).await.map_err(|error| fail(format!("cannot be read: {error}")))?;
                let line = text.lines().next().unwrap_or_default();
                if line.is_empty() { Err(fail("is empty".to_owned())) } else { Ok(line.to_owned()) }
            }
            Setting::Secret(secret) => (self.secrets)(secret.clone()).await.map_err(fail),
        }
    }

    /// The value behind a source's setting.
    ///
    /// # Errors
    /// Names the reference, never the value.
    pub(crate) async fn resolve(&self, source: &Source, name: &'static str, setting: &Setting) -> Result<String, SourceError> {
        let said = |words: String| {
            let problem = words.strip_prefix(&setting.written()).unwrap_or(&words).trim_start().to_owned();
            SourceError::Setting { source_name: source.name.clone(), setting: name, reference: setting.written(), problem }
        };
        self.setting(setting).await.map_err(said)
    }
}
