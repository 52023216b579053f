//! Dashboards.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DashboardView {
    pub name: String,
    pub title: String,
    pub file: String,
    pub summary: Option<String>,
    pub sections: usize,
    pub blocks: usize,
    /// The titles of blocks that other dashboards can use, too.
    pub block_titles: Vec<String>,
    pub parameters: Vec<String>,
    pub sources: Vec<String>,
    pub used_by: Vec<String>,
}
