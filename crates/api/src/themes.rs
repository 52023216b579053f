//! Themes.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The text of a theme, as its file has it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ThemeText {
    pub text: String,
}
