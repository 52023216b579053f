//! Definition files and what applying them changes.

use chrono::{DateTime, Utc};
use maple_lark_definition::Kind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::{problem::FileProblem, words::words};

words!(
    /// What becomes of a definition.
    ChangeAction, "change of a definition", {
    Add = "add",
    Alter = "alter",
    Remove = "remove",
});

words!(
    /// With what a definition was saved.
    SavedFrom, "way of saving", {
    Console = "console",
    CommandLine = "command-line",
    /// Another program.
    Api = "api",
    /// It was there before versions were kept.
    Before = "before",
});

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DefinitionFile {
    /// The file's path within its folder; it is kept, so that an export gives it back.
    pub file: String,
    pub text: String,
    /// The SHA-256 of the text that this one was made from; in an answer, of the text itself. An
    /// order with it is refused if another text is stored by now, and one with an empty text if
    /// anything of this name is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub based_on: Option<String>,
}

impl DefinitionFile {
    /// A file as somebody writes it, whatever is stored.
    #[must_use]
    pub fn new(file: String, text: String) -> Self {
        Self {
            file,
            text,
            based_on: None,
        }
    }
}

/// A folder of definitions.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Files {
    pub files: Vec<DefinitionFile>,
    /// What is to be said of this change in the history of what it changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Whether definitions that are not among the files are removed.
    #[serde(default)]
    pub remove_others: bool,
}

/// What one definition's change is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Change {
    pub action: ChangeAction,
    #[schema(schema_with = crate::core_enums::kind)]
    pub kind: Kind,
    pub name: String,
    pub file: String,
    /// Unified diff of the text.
    pub diff: String,
    /// For a report that is added or altered: its schedule in one sentence, with its zone.
    pub schedule: Option<String>,
    /// The next instants of that schedule, RFC 3339 with the offset of the report's zone.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub next: Vec<String>,
    /// For a report whose terms of keeping are others: what goes at once by them, in words. It is in plans
    /// alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lets_go: Option<String>,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Plan {
    pub changes: Vec<Change>,
    pub unchanged: usize,
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Applied {
    pub changes: Vec<Change>,
    pub unchanged: usize,
}

/// A text that a definition had, or its end.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DefinitionVersion {
    /// From 1, for each definition.
    pub version: i32,
    pub file: String,
    pub saved_at: DateTime<Utc>,
    pub saved_by: String,
    pub saved_from: SavedFrom,
    pub message: Option<String>,
    /// Whether it was removed with this version.
    pub removed: bool,
    /// What changed against the version before, as a unified diff; all of the first.
    pub diff: String,
    /// The text itself, where this version alone is asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

/// The versions of a definition, the latest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DefinitionVersions {
    pub items: Vec<DefinitionVersion>,
    pub page: u64,
    pub size: u64,
}

/// A definition as JSON.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DefinitionKeys {
    #[schema(schema_with = crate::core_enums::kind)]
    pub kind: Kind,
    pub name: String,
    pub file: String,
    /// Its tables: `source`, `report`, `schedule` and so on, with their keys.
    pub keys: serde_json::Value,
    /// The SHA-256 of the text.
    pub based_on: String,
}

/// A new definition: the tables that its file would have.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewDefinition {
    #[schema(value_type = serde_json::Value)]
    pub keys: serde_json::Map<String, serde_json::Value>,
    /// What is to be said of it in its history.
    #[serde(default)]
    pub message: Option<String>,
}

/// A change to some keys of a definition, as a JSON merge patch (RFC 7396): what is null goes,
/// what is not named stays, with its comments.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DefinitionPatch {
    #[schema(value_type = serde_json::Value)]
    pub keys: serde_json::Map<String, serde_json::Value>,
    /// The SHA-256 of the text that was changed; the change is refused (412) if another is
    /// stored by now.
    #[serde(default)]
    pub based_on: Option<String>,
    /// What is to be said of the change in the history.
    #[serde(default)]
    pub message: Option<String>,
}

/// A definition by its name, without its text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DefinitionName {
    pub kind: String,
    pub name: String,
    pub title: String,
    pub file: String,
    pub saved_at: DateTime<Utc>,
    pub saved_by: String,
}

/// A definition as somebody is editing it: its text, and the keys that the text is to say if they
/// were changed beside it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DraftOrder {
    pub text: String,
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub keys: Option<serde_json::Map<String, serde_json::Value>>,
}

/// The draft, as text and as keys, with what would be wrong about it. Nothing is stored.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Draft {
    pub text: String,
    /// Nothing where the text is not TOML.
    #[schema(value_type = Option<Object>)]
    pub keys: Option<serde_json::Value>,
    pub problems: Vec<FileProblem>,
}
