//! What a definition file can define.

use serde::{Deserialize, Serialize};

/// What a definition file defines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// What can be asked.
    Source,
    /// Queries, and the blocks that show them.
    Dashboard,
    /// What is made of dashboards, when, and for whom.
    Report,
    /// Named days.
    Calendar,
    /// A question asked again and again.
    Sampler,
    /// How documents look.
    Theme,
    /// Somebody who gets documents.
    Person,
    /// Several recipients under one name.
    Group,
    /// A way in which documents are delivered.
    Channel,
    /// A subject and a text for messages.
    MessageTemplate,
    /// A dashboard with gaps, to be filled with a source and values.
    Template,
}

impl Kind {
    /// All kinds.
    pub const ALL: [Kind; 11] = [
        Kind::Source,
        Kind::Dashboard,
        Kind::Report,
        Kind::Calendar,
        Kind::Sampler,
        Kind::Theme,
        Kind::Person,
        Kind::Group,
        Kind::Channel,
        Kind::MessageTemplate,
        Kind::Template,
    ];

    /// The word for it in definitions, API and command line.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Kind::Source => "source",
            Kind::Dashboard => "dashboard",
            Kind::Report => "report",
            Kind::Calendar => "calendar",
            Kind::Sampler => "sampler",
            Kind::Theme => "theme",
            Kind::Person => "person",
            Kind::Group => "group",
            Kind::Channel => "channel",
            Kind::MessageTemplate => "message-template",
            Kind::Template => "template",
        }
    }

    /// The kind of this word.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}
