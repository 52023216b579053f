//! What a report definition holds: content, window, schedule, formats and audiences.

use std::{collections::BTreeMap, fmt};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::{
    Ask,
    audience::{self, Audience, AudienceQuery},
    dashboard::{ParameterValue, read_values},
    deliver::{self, Approval, Deliver, SendWhen},
    files::Files,
    read_name,
    reader::{Node, Place, Placed, quoted_list},
    reuse::{self, Change},
};
use crate::{
    message::Template,
    schedule::{self, Schedule, WEEKDAY_NAMES},
    span::Span,
    window::{CalendarUnit, Comparison, Hours, WindowKind, WindowRule, Within},
    writing::Writing,
    zone::Zone,
};

#[derive(Debug, Clone, PartialEq)]
pub struct Report {
    pub name: String,
    pub title: String,
    /// Who hears of runs that did not go as they should.
    pub owner: Option<Mailbox>,
    pub zone: Zone,
    pub window: WindowRule,
    /// Nothing if the report runs only when asked.
    pub schedule: Option<Schedule>,
    pub dashboards: Vec<Placed<String>>,
    /// What is different about some of their blocks in this report.
    pub changes: Vec<Change>,
    pub parameters: BTreeMap<String, Placed<ParameterValue>>,
    pub formats: Vec<Format>,
    pub files: Files,
    /// How its documents look; nothing for the usual one.
    pub look: Option<Placed<String>>,
    /// How its readers write numbers and dates.
    pub writing: Writing,
    pub audiences: Vec<Audience>,
    /// Further audiences, found when a run begins.
    pub audience_queries: Vec<AudienceQuery>,
    pub deliver: Deliver,
    pub approval: Option<Approval>,
    /// Whether the owner is told once a week that it is still quiet.
    pub confirm_quiet: bool,
    pub on_failed_block: OnFailedBlock,
    /// How long a run may take before it fails, in seconds.
    pub time_limit_seconds: u64,
    /// Whether its runs may be under way side by side.
    pub overlap: bool,
    /// What a scheduled run waits for.
    pub readiness: Option<Readiness>,
    pub send_when: SendWhen,
    /// The wording whose subject and text stand in for those that the report does not have.
    pub wording: Option<Placed<String>>,
    pub subject: Option<Template>,
    pub message: Option<Template>,
    pub place: Place,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    Pdf,
    Html,
    Csv,
    Xlsx,
    Json,
    Txt,
    Png,
}

impl Format {
    pub const ALL: [Format; 7] = [
        Format::Pdf,
        Format::Html,
        Format::Csv,
        Format::Xlsx,
        Format::Json,
        Format::Txt,
        Format::Png,
    ];

    /// Its name, which is also the ending of its files.
    pub fn name(self) -> &'static str {
        match self {
            Format::Pdf => "pdf",
            Format::Html => "html",
            Format::Csv => "csv",
            Format::Xlsx => "xlsx",
            Format::Json => "json",
            Format::Txt => "txt",
            Format::Png => "png",
        }
    }

    pub fn from_name(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|format| format.name() == name)
    }

    pub fn media_type(self) -> &'static str {
        match self {
            Format::Pdf => "application/pdf",
            Format::Html => "text/html; charset=utf-8",
            Format::Csv => "text/csv; charset=utf-8; header=present",
            Format::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            Format::Json => "application/json",
            Format::Txt => "text/plain; charset=utf-8",
            Format::Png => "image/png",
        }
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

/// A question that must be answered with yes before a scheduled run collects its data.
#[derive(Debug, Clone, PartialEq)]
pub struct Readiness {
    pub source: Placed<String>,
    /// A query whose first value is true or false.
    pub ask: Ask,
    /// How long to wait before asking again, in seconds.
    pub every_seconds: u64,
    /// How long after its instant a run waits at most, in seconds.
    pub deadline_seconds: u64,
    pub at_deadline: AtDeadline,
    pub place: Place,
}

/// What becomes of a run whose data is not ready in time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AtDeadline {
    /// It is made and sent, marked as incomplete.
    Run,
    /// It is held, and its owner told.
    #[default]
    Hold,
    /// It is put on record as skipped.
    Skip,
}

/// A mail address with an optional display name: `Runa Holm <runa@orrin-sound.example>`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Mailbox {
    pub name: Option<String>,
    pub address: String,
}

#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[error(
    "\"{given}\" is not a mail address; write \"name@host.example\" or \"Full Name <name@host.example>\""
)]
pub struct BadMailbox {
    given: String,
}

impl std::str::FromStr for Mailbox {
    type Err = BadMailbox;

    fn from_str(given: &str) -> Result<Self, BadMailbox> {
        let bad = || BadMailbox {
            given: given.to_owned(),
        };
        let (name, address) = match given
            .trim()
            .strip_suffix('>')
            .and_then(|text| text.rsplit_once('<'))
        {
            Some((name, address)) => (
                Some(name.trim().trim_matches('"').to_owned()).filter(|name| !name.is_empty()),
                address.trim(),
            ),
            None => (None, given.trim()),
        };
        let (local, host) = address.rsplit_once('@').ok_or_else(bad)?;
        let allowed =
            |c: char| !c.is_whitespace() && !c.is_control() && !"<>()[],;:\\\"@".contains(c);
        let fits = !local.is_empty()
            && !host.is_empty()
            && local.len() <= 64
            && host.len() <= 255
            && local.chars().all(allowed)
            && host.chars().all(allowed);
        let dots = host.split('.').all(|label| !label.is_empty())
            && local.split('.').all(|part| !part.is_empty());
        if !fits
            || !dots
            || name
                .as_ref()
                .is_some_and(|name| name.chars().any(char::is_control))
        {
            return Err(bad());
        }
        Ok(Mailbox {
            name,
            address: address.to_owned(),
        })
    }
}

impl fmt::Display for Mailbox {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.name {
            Some(name) => write!(f, "{name} <{}>", self.address),
            None => f.write_str(&self.address),
        }
    }
}

impl TryFrom<String> for Mailbox {
    type Error = BadMailbox;

    fn try_from(given: String) -> Result<Self, BadMailbox> {
        given.parse()
    }
}

impl From<Mailbox> for String {
    fn from(mailbox: Mailbox) -> String {
        mailbox.to_string()
    }
}

pub(super) fn read(root: &Node<'_>) -> Option<Report> {
    let node = root.table("report")?;
    let name = read_name(&node);
    let title = node.required("title").value;
    let owner = node.parsed::<Mailbox>("owner");
    node.required("time-zone");
    let zone = node.parsed::<Zone>("time-zone");
    let dashboards = node.texts("dashboards");
    if dashboards.is_empty() {
        node.report(
            "dashboards",
            "a report needs at least one dashboard, such as dashboards = [\"ferry-operations\"]",
        );
    }
    let on_failed_block = match node.choice("on-failed-block", &["hold", "send"]) {
        Some("send") => OnFailedBlock::Send,
        _ => OnFailedBlock::Hold,
    };
    let time_limit_seconds = match node.parsed::<Span>("time-limit").map(|span| span.elapsed()) {
        None => 3600,
        Some(Some(limit)) if limit.num_days() < 1 => limit.num_seconds() as u64,
        Some(_) => {
            node.report("time-limit", "must be between \"PT1S\" and \"PT23H\"");
            3600
        }
    };
    let overlap = node.truth("overlap").unwrap_or(false);
    let mut formats = Vec::new();
    for text in node.texts("formats") {
        match Format::from_name(&text.value) {
            Some(format) if formats.contains(&format) => {
                node.report("formats", format!("\"{}\" is named twice", text.value))
            }
            Some(format) => formats.push(format),
            None => node.report(
                "formats",
                format!(
                    "\"{}\" is not one of {}",
                    text.value,
                    quoted_list(&Format::ALL.map(Format::name))
                ),
            ),
        }
    }
    if !node.has("formats") {
        formats = vec![Format::Pdf];
    }
    let writing = Writing::like(
        node.choice("numbers", &Writing::NUMBERS)
            .unwrap_or_default(),
        node.choice("dates", &Writing::DATES).unwrap_or_default(),
    );
    let look = node.text("look");
    let place = node.place();
    node.close();

    let window = match root.table("window") {
        Some(window) => read_window(window, zone),
        None => {
            root.report(
                "window",
                "the table [window] is missing; write for instance [window] and previous = \"day\"",
            );
            None
        }
    };
    let has_schedule = root.has("schedule");
    let schedule = root.table("schedule").and_then(super::schedule::read);
    let readiness = root
        .table("readiness")
        .and_then(|node| read_readiness(node, has_schedule));
    let (send_when, confirm_quiet) = root
        .table("send")
        .map(deliver::read_send_when)
        .unwrap_or_default();
    let files = root
        .table("files")
        .map(super::files::read)
        .unwrap_or_default();
    let changes = root
        .tables("change")
        .into_iter()
        .map(reuse::read_change)
        .collect();
    let parameters = read_values(root.table("parameters"));
    let audiences: Vec<Audience> = root
        .tables("audience")
        .into_iter()
        .map(audience::read_audience)
        .collect();
    let audience_queries = root
        .tables("audiences-from")
        .into_iter()
        .filter_map(audience::read_query)
        .collect();
    let deliver = root
        .table("deliver")
        .map(deliver::read_deliver)
        .unwrap_or_default();
    let approval = root.table("approval").map(deliver::read_approval);
    for (index, audience) in audiences.iter().enumerate() {
        if audiences[..index]
            .iter()
            .any(|earlier| earlier.name == audience.name)
        {
            root.report(
                "audience",
                format!("two audiences are named \"{}\"", audience.name),
            );
        }
    }

    let (wording, subject, message) = match root.table("message") {
        Some(node) => {
            let found = (
                node.text("wording"),
                super::wording::read_template(&node, "subject"),
                super::wording::read_template(&node, "text"),
            );
            node.close();
            found
        }
        None => (None, None, None),
    };
    if has_schedule && schedule.is_none() {
        return None;
    }
    Some(Report {
        name,
        title,
        owner,
        zone: zone?,
        window: window?,
        schedule,
        dashboards,
        changes,
        parameters,
        formats,
        files,
        look,
        writing,
        audiences,
        audience_queries,
        deliver,
        approval,
        confirm_quiet,
        on_failed_block,
        time_limit_seconds,
        overlap,
        readiness,
        send_when,
        wording,
        subject,
        message,
        place,
    })
}

pub(super) fn read_window(node: Node<'_>, zone: Option<Zone>) -> Option<WindowRule> {
    let shapes: Vec<&str> = ["previous", "last", "to-date", "interval"]
        .into_iter()
        .filter(|key| node.has(key))
        .collect();
    let unit = |key| {
        node.choice(key, &CalendarUnit::NAMES)
            .and_then(CalendarUnit::from_name)
    };
    let previous = unit("previous");
    let count = node.whole("count", 1..=1000);
    let last = node.parsed::<Span>("last");
    let to_date = unit("to-date");
    let interval = node.text("interval");
    let lag = node.parsed::<Span>("lag");
    let week_starts = node
        .choice("week-starts", &WEEKDAY_NAMES)
        .and_then(schedule::weekday_from_name)
        .unwrap_or(chrono::Weekday::Mon);
    let compare = node
        .choice("compare", &Comparison::NAMES)
        .and_then(Comparison::from_name);
    let within = read_within(&node);
    if shapes.len() != 1 {
        node.report_self("a window has exactly one of previous = \"day\", last = \"PT24H\", to-date = \"month\" or interval = \"2026-01-01/2026-02-01\"");
        node.close();
        return None;
    }
    if node.has("count") && shapes[0] != "previous" {
        node.report("count", "count goes with previous only");
    }
    let kind = match shapes[0] {
        "previous" => previous.map(|unit| WindowKind::Previous {
            unit,
            count: count.unwrap_or(1) as u32,
        }),
        "last" => last.map(WindowKind::Last),
        "to-date" => to_date.map(WindowKind::ToDate),
        _ => interval.and_then(|text| match (read_interval(&text.value, zone?), zone) {
            (Some((from, to)), _) if from < to => Some(WindowKind::Fixed { from, to }),
            (Some(_), _) => {
                node.report("interval", "the interval ends before it begins");
                None
            }
            _ => {
                node.report(
                    "interval",
                    format!(
                        "\"{}\" is not an ISO 8601 interval such as \"2026-01-01/2026-02-01\"",
                        text.value
                    ),
                );
                None
            }
        }),
    };
    node.close();
    Some(WindowRule {
        kind: kind?,
        lag,
        week_starts,
        within,
        compare,
    })
}

fn read_readiness(node: Node<'_>, has_schedule: bool) -> Option<Readiness> {
    let source = node.required("source");
    let ask = super::query::read_ask(&node);
    let seconds = |key, least: i64, most: i64, usual: u64| match node
        .parsed::<Span>(key)
        .map(|span| span.elapsed())
    {
        None => usual,
        Some(Some(length)) if (least..=most).contains(&length.num_seconds()) => {
            length.num_seconds() as u64
        }
        Some(_) => {
            node.report(
                key,
                format!(
                    "must be between \"{}\" and \"{}\"",
                    in_seconds(least),
                    in_seconds(most)
                ),
            );
            usual
        }
    };
    let every_seconds = seconds("every", 1, 86_400, 60);
    let deadline_seconds = seconds("deadline", 1, 7 * 86_400, 3600);
    let at_deadline = match node.choice("at-deadline", &["hold", "run", "skip"]) {
        Some("run") => AtDeadline::Run,
        Some("skip") => AtDeadline::Skip,
        _ => AtDeadline::Hold,
    };
    if !has_schedule {
        node.report_self("only scheduled runs wait, and this report has no [schedule]");
    }
    let place = node.place();
    node.close();
    Some(Readiness {
        source,
        ask: ask?,
        every_seconds,
        deadline_seconds,
        at_deadline,
        place,
    })
}

fn in_seconds(seconds: i64) -> Span {
    Span {
        months: 0,
        days: 0,
        seconds: seconds as u64,
    }
}

fn read_within(node: &Node<'_>) -> Option<Within> {
    let hours = node.texts("only-hours");
    let hours = hours
        .iter()
        .filter_map(|text| {
            text.value
                .parse::<Hours>()
                .map_err(|error| node.report("only-hours", error.to_string()))
                .ok()
        })
        .collect();
    let mut days = Vec::new();
    for text in node.texts("only-days") {
        match (
            text.value.as_str(),
            schedule::weekday_from_name(&text.value),
        ) {
            ("weekday", _) => days.extend(
                WEEKDAY_NAMES[..5]
                    .iter()
                    .filter_map(|name| schedule::weekday_from_name(name)),
            ),
            (_, Some(day)) => days.push(day),
            (other, None) => {
                let near = crate::nearest::suggestion(other, WEEKDAY_NAMES);
                node.report(
                    "only-days",
                    format!(
                        "\"{other}\" is not a weekday, nor \"weekday\" for Monday to Friday.{near}"
                    ),
                );
            }
        }
    }
    Within::new(hours, days)
        .map_err(|(one, other)| {
            node.report(
                "only-hours",
                format!("{one} and {other} overlap; join them or make them apart"),
            )
        })
        .ok()
        .flatten()
}

type Instant = chrono::DateTime<chrono::Utc>;

/// `start/end`, each a date or a date and time, with or without an offset; without one it
/// is civil time in `zone`.
fn read_interval(text: &str, zone: Zone) -> Option<(Instant, Instant)> {
    let side = |text: &str| {
        let text = text.trim();
        if let Ok(at) = text.parse::<Instant>() {
            return Some(at);
        }
        if let Ok(date) = text.parse::<NaiveDate>() {
            return Some(zone.start_of(date));
        }
        ["%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M"]
            .iter()
            .find_map(|form| chrono::NaiveDateTime::parse_from_str(text, form).ok())
            .map(|local| zone.instant(local))
    };
    let (from, to) = text.split_once('/')?;
    Some((side(from)?, side(to)?))
}
