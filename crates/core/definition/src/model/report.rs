//! What a report definition holds: content, window, schedule, formats and audiences.

use std::collections::BTreeMap;

use maple_lark_data::number_format::NumberFormat;
use maple_lark_time::{WindowRule, Zone, schedule::Schedule};
use serde::{Deserialize, Serialize};

use crate::{
    model::{
        audience::{Audience, AudienceQuery},
        block::Changes,
        deliver::{Approval, Deliver},
        files::Files,
        format::Format,
        keep::KeepTerms,
        mailbox::Mailbox,
        parameter::ParameterValue,
        readiness::Readiness,
        send_when::SendWhen,
        template::Template,
    },
    problem::{Place, Placed},
};

/// What is made of dashboards: when, of which time, in which formats, for whom.
#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    /// Its name, unique among reports.
    pub name: String,
    /// The team that it belongs to; none if it belongs to all.
    pub teams: Vec<Placed<String>>,
    /// Its title for people.
    pub title: String,
    /// Words by which people find it among others.
    pub tags: Vec<String>,
    /// Who hears of runs that did not go as they should.
    pub owner: Option<Mailbox>,
    /// The zone of its window, schedule and times.
    pub zone: Zone,
    /// The time that its figures are about.
    pub window: WindowRule,
    /// Nothing if the report runs only when asked.
    pub schedule: Option<Schedule>,
    /// Where its schedule names calendars.
    pub calendars: Vec<Placed<String>>,
    /// The dashboards that it shows, in order.
    pub dashboards: Vec<Placed<String>>,
    /// What is different about some of their blocks in this report.
    pub changes: Vec<Change>,
    /// Values for their parameters.
    pub parameters: BTreeMap<String, Placed<ParameterValue>>,
    /// The formats that it is written in.
    pub formats: Vec<Format>,
    /// What holds for all its files.
    pub files: Files,
    /// Whether its HTML answers its reader, by a script of its own.
    pub interactive: bool,
    /// How long what comes of its runs is kept, if it says anything of it; else as long as everywhere.
    pub keep: Option<KeepTerms>,
    /// Its theme; nothing for the usual one.
    pub theme: Option<Placed<String>>,
    /// How its readers write numbers and dates.
    pub number_format: NumberFormat,
    /// Who gets it.
    pub audiences: Vec<Audience>,
    /// Further audiences, found when a run begins.
    pub audience_queries: Vec<AudienceQuery>,
    /// In what form messages go out.
    pub deliver: Deliver,
    /// Who must agree before it goes out, if somebody must.
    pub approval: Option<Approval>,
    /// Whether the owner is told once a week that it is still quiet.
    pub confirm_quiet: bool,
    /// What happens if a block cannot be shown.
    pub on_failed_block: OnFailedBlock,
    /// How long a run may take before it fails, in seconds.
    pub time_limit_seconds: u64,
    /// Whether its runs may be under way side by side.
    pub overlap: bool,
    /// What a scheduled run waits for.
    pub readiness: Option<Readiness>,
    /// When its documents are worth a message.
    pub send_when: SendWhen,
    /// The message template whose subject and text stand in for those that the report does not have.
    pub message_template: Option<Placed<String>>,
    /// The subject of its messages, if not the usual one.
    pub subject: Option<Template>,
    /// The text of its messages, if not the usual one.
    pub message: Option<Template>,
    /// Where it was read.
    pub place: Place,
}

impl Report {
    /// The team that it belongs to; empty if it belongs to all.
    #[must_use]
    pub fn team(&self) -> &str {
        self.teams.first().map_or("", |team| team.value.as_str())
    }
}

/// What becomes of a run in which a block failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnFailedBlock {
    /// Keep it back and tell the owner: a wrong report is worse than a late one.
    #[default]
    Hold,
    /// Send it, plainly marked.
    Send,
}

impl From<Mailbox> for String {
    fn from(mailbox: Mailbox) -> String {
        mailbox.to_string()
    }
}

/// One `[[change]]` of a report.
#[derive(Debug, Clone, PartialEq)]
pub struct Change {
    /// Which dashboard's, if several have a block of that title.
    pub dashboard: Option<Placed<String>>,
    /// The block that is changed.
    pub block: Placed<String>,
    /// What is different about it.
    pub changes: Changes,
}
