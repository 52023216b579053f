//! Sources and their tests.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SourceView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub kind: String,
    /// Where it is, as the definition writes it; never a secret.
    pub address: String,
    pub timeout_seconds: u64,
    pub row_limit: usize,
    pub used_by: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SourceTest {
    pub works: bool,
    /// What is there, or why it refused.
    pub detail: String,
    pub milliseconds: i64,
    /// Set when the account could write; Maple Lark itself only reads.
    pub warning: Option<String>,
}
