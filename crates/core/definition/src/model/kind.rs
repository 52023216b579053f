//! What a definition file can define.

use serde::{Deserialize, Serialize};

/// What a definition file defines.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    Source,
    Dashboard,
    Report,
    Calendar,
    Sampler,
    Theme,
    Person,
    Group,
    Channel,
    MessageTemplate,
}

impl Kind {
    pub const ALL: [Kind; 10] = [
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
    ];

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
        }
    }

    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.name() == name)
    }
}
