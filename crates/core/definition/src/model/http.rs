//! How a place is reached by HTTP.

use crate::model::{page::SignInSteps, setting::Setting};

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
