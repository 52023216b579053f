//! How a place is reached by HTTP.

use crate::model::setting::Setting;

/// A place that is read by HTTP.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Web {
    /// What every path is put behind.
    pub url: Setting,
    pub sign_in: Option<SignIn>,
    pub headers: Vec<(String, Setting)>,
    /// Certificates (PEM) to trust beside the machine's own.
    pub ca_file: Option<String>,
}

/// Secrets are only ever references.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignIn {
    Basic { user: Setting, password: Setting },
    Bearer { token: Setting },
    Header { name: String, value: Setting },
}
