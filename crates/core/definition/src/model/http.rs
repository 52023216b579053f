//! How a place is reached by HTTP.

use crate::model::{
    page::{PageStep, SignInSteps},
    setting::Setting,
};

/// A place that is read by HTTP.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Web {
    /// What every path is put behind.
    pub url: Setting,
    /// How the service signs in, if it must.
    pub sign_in: Option<SignIn>,
    /// Headers that every request has.
    pub headers: Vec<(String, Setting)>,
    /// Certificates (PEM) to trust beside the machine's own.
    pub ca_file: Option<String>,
}

impl Web {
    /// The settings whose values nobody is to read: what it is signed in with, and the headers.
    #[must_use]
    pub fn secrets(&self) -> Vec<&Setting> {
        let sign_in: Vec<&Setting> = match &self.sign_in {
            None => Vec::new(),
            Some(SignIn::Basic { password, .. }) => vec![password],
            Some(SignIn::Bearer { token }) => vec![token],
            Some(SignIn::Header { value, .. } | SignIn::Cookie { value, .. }) => vec![value],
            Some(SignIn::Form(steps)) => steps
                .iter()
                .filter_map(|step| match step {
                    PageStep::Fill { with, .. } => Some(with),
                    _ => None,
                })
                .collect(),
        };
        let headers = self.headers.iter().map(|(_, value)| value);
        sign_in.into_iter().chain(headers).collect()
    }
}

/// Secrets are only ever references.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignIn {
    /// With a name and a password (RFC 7617).
    Basic {
        /// The name.
        user: Setting,
        /// The password.
        password: Setting,
    },
    /// With a token (RFC 6750).
    Bearer {
        /// The token.
        token: Setting,
    },
    /// With a header of its own.
    Header {
        /// The header.
        name: String,
        /// Its value.
        value: Setting,
    },
    /// With a cookie (RFC 6265).
    Cookie {
        /// The cookie.
        name: String,
        /// Its value.
        value: Setting,
    },
    /// As a person does, in a form of the page. Only live pages have one.
    Form(SignInSteps),
}
