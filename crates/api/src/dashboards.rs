//! Dashboards.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::preview::BlockPlace;

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
    /// What stands on its page, in order; what is hidden is left out.
    pub layout: Vec<DashboardSection>,
}

/// A section of a dashboard.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DashboardSection {
    pub title: String,
    pub blocks: Vec<DashboardBlock>,
}

/// A block of a dashboard, to be asked for by its place.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DashboardBlock {
    /// May be empty.
    pub title: String,
    pub place: BlockPlace,
    /// How much of the page's width it takes.
    pub twelfths: u8,
}

/// What a report shows of one of its dashboards.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DashboardLayout {
    pub dashboard: String,
    pub title: String,
    pub sections: Vec<DashboardSection>,
}
