//! `[deliver]`, `[approval]` and `[send]` in a report: in what form, when, and after whose look.

use std::{fmt, str::FromStr};

use super::{
    Format,
    files::read_size,
    reader::{Node, Placed, quoted_list},
};
use crate::{span::Span, status::Status};

/// In what form a report's mails go out.
#[derive(Debug, Clone, PartialEq)]
pub struct Deliver {
    /// A channel of kind mail-server; the service's own if nothing is said.
    pub mail_server: Option<Placed<String>>,
    /// The formats that are attached; all that are made if nothing is said.
    pub attach: Option<Vec<Format>>,
    pub body: MailContent,
    pub link: Link,
    /// Past so many bytes, counted as encoded, a link goes instead of attachments.
    pub largest: u64,
    /// For how many seconds a delivery is tried again.
    pub give_up_seconds: Option<u64>,
    /// Recipients may take themselves off (RFC 8058).
    pub leaving: bool,
    /// So many seconds after its instant an undelivered run is late.
    pub late_after_seconds: u64,
}

impl Default for Deliver {
    fn default() -> Self {
        Self {
            mail_server: None,
            attach: None,
            body: MailContent::Summary,
            link: Link::Console,
            largest: 20_000_000,
            give_up_seconds: None,
            leaving: false,
            late_after_seconds: 3600,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailContent {
    /// The first figures and the first chart.
    Summary,
    /// The whole report.
    Full,
    /// The author's message alone.
    Text,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    None,
    /// To the run in the console, for those who may sign in.
    Console,
    /// Opens the documents of this run for whoever has it, for so many seconds.
    Signed {
        valid_seconds: u64,
    },
}

/// Somebody looks at a run before it goes out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Approval {
    /// How long it waits for that, in seconds.
    pub deadline_seconds: u64,
    /// Whether it goes out unseen at the deadline; it is cancelled if not.
    pub then_send: bool,
}

/// When a run's documents are worth a mail.
#[derive(Debug, Clone, PartialEq, Default)]
pub enum SendWhen {
    #[default]
    Always,
    /// When one of these queries has a row.
    Rows(Vec<Placed<String>>),
    /// When something in the document is at least this bad.
    Status(Status),
    /// When any, or all, of these are true of the key figures.
    Figures {
        conditions: Vec<Placed<Condition>>,
        all: bool,
    },
    /// When the status is another than in the run before.
    Change,
}

/// What is asked of one key figure: `payments_failed >= 20`, `bookings changed by 10 %`.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    pub figure: String,
    pub test: Test,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Test {
    Above(f64),
    AtLeast(f64),
    Below(f64),
    AtMost(f64),
    /// By so much against the comparison window.
    ChangedBy(f64),
    /// By so many percent of what it was.
    ChangedByPercent(f64),
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error(
    "\"{0}\" is no condition such as \"payments_failed >= 20\" or \"bookings changed by 10 %\""
)]
pub struct BadCondition(String);

impl FromStr for Condition {
    type Err = BadCondition;

    fn from_str(text: &str) -> Result<Self, BadCondition> {
        let bad = || BadCondition(text.to_owned());
        let number = |text: &str| {
            text.trim()
                .parse::<f64>()
                .ok()
                .filter(|number| number.is_finite())
        };
        let (figure, test) = if let Some((figure, by)) = text.split_once(" changed by ") {
            let test = match by.trim().strip_suffix('%') {
                Some(percent) => number(percent).map(Test::ChangedByPercent),
                None => number(by).map(Test::ChangedBy),
            };
            (figure, test)
        } else {
            let at = text.find(['<', '>']).ok_or_else(bad)?;
            let (figure, rest) = text.split_at(at);
            let test = match (&rest[..1], rest[1..].strip_prefix('=')) {
                (">", Some(rest)) => number(rest).map(Test::AtLeast),
                (">", None) => number(&rest[1..]).map(Test::Above),
                (_, Some(rest)) => number(rest).map(Test::AtMost),
                (_, None) => number(&rest[1..]).map(Test::Below),
            };
            (figure, test)
        };
        let figure = figure.trim();
        let named = !figure.is_empty() && !figure.contains(char::is_whitespace);
        named
            .then_some(())
            .and(test)
            .map(|test| Condition {
                figure: figure.to_owned(),
                test,
            })
            .ok_or_else(bad)
    }
}

impl fmt::Display for Condition {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let figure = &self.figure;
        match self.test {
            Test::Above(limit) => write!(f, "{figure} > {limit}"),
            Test::AtLeast(limit) => write!(f, "{figure} >= {limit}"),
            Test::Below(limit) => write!(f, "{figure} < {limit}"),
            Test::AtMost(limit) => write!(f, "{figure} <= {limit}"),
            Test::ChangedBy(amount) => write!(f, "{figure} changed by {amount}"),
            Test::ChangedByPercent(percent) => write!(f, "{figure} changed by {percent} %"),
        }
    }
}

impl Condition {
    /// Whether it is true of a figure, given what it was in the comparison window; nothing
    /// where that cannot be said.
    pub fn holds(&self, now: Option<f64>, before: Option<f64>) -> Option<bool> {
        let now = now?;
        Some(match self.test {
            Test::Above(limit) => now > limit,
            Test::AtLeast(limit) => now >= limit,
            Test::Below(limit) => now < limit,
            Test::AtMost(limit) => now <= limit,
            Test::ChangedBy(amount) => (now - before?).abs() >= amount,
            Test::ChangedByPercent(_) if before? == 0.0 => now != 0.0,
            Test::ChangedByPercent(percent) => ((now - before?) / before? * 100.0).abs() >= percent,
        })
    }
}

/// A length of time in seconds, within bounds.
pub(super) fn read_seconds(
    node: &Node<'_>,
    key: &'static str,
    least: &str,
    most: &str,
) -> Option<u64> {
    let seconds =
        |span: Span| (span.months == 0).then_some(span.seconds + u64::from(span.days) * 86_400);
    let bound = |text: &str| {
        text.parse::<Span>()
            .ok()
            .and_then(seconds)
            .unwrap_or_default()
    };
    match seconds(node.parsed::<Span>(key)?) {
        Some(seconds) if (bound(least)..=bound(most)).contains(&seconds) => Some(seconds),
        _ => {
            node.report(key, format!("must be between \"{least}\" and \"{most}\", made of weeks, days, hours, minutes and seconds"));
            None
        }
    }
}

pub(super) fn read_deliver(node: Node<'_>) -> Deliver {
    let usual = Deliver::default();
    let attach = node.has("attach").then(|| {
        let mut formats = Vec::new();
        for text in node.texts("attach") {
            match Format::from_name(&text.value) {
                Some(format) => formats.push(format),
                None => node.report(
                    "attach",
                    format!(
                        "\"{}\" is not one of {}",
                        text.value,
                        quoted_list(&Format::ALL.map(Format::name))
                    ),
                ),
            }
        }
        formats
    });
    let body = match node.choice("body", &["summary", "full", "text"]) {
        Some("full") => MailContent::Full,
        Some("text") => MailContent::Text,
        _ => MailContent::Summary,
    };
    let valid_seconds = read_seconds(&node, "link-valid", "PT1H", "P366D");
    let link = match node.choice("link", &["console", "signed", "none"]) {
        Some("signed") => Link::Signed {
            valid_seconds: valid_seconds.unwrap_or(14 * 86_400),
        },
        Some("none") => Link::None,
        _ => Link::Console,
    };
    if node.has("link-valid") && !matches!(link, Link::Signed { .. }) {
        node.report("link-valid", "link-valid goes with link = \"signed\" only");
    }
    let deliver = Deliver {
        mail_server: node.text("mail-server"),
        attach,
        body,
        link,
        largest: read_size(&node, "largest").unwrap_or(usual.largest),
        give_up_seconds: read_seconds(&node, "give-up", "PT1M", "P30D"),
        leaving: node.truth("leaving").unwrap_or(false),
        late_after_seconds: read_seconds(&node, "late-after", "PT1M", "P7D")
            .unwrap_or(usual.late_after_seconds),
    };
    node.close();
    deliver
}

pub(super) fn read_approval(node: Node<'_>) -> Approval {
    let deadline_seconds = read_seconds(&node, "deadline", "PT1M", "P14D").unwrap_or(86_400);
    let then_send = node.choice("at-deadline", &["cancel", "send"]) == Some("send");
    node.close();
    Approval {
        deadline_seconds,
        then_send,
    }
}

/// When a report is sent, and whether its owner hears once a week that it is still quiet.
pub(super) fn read_send_when(node: Node<'_>) -> (SendWhen, bool) {
    let when = node.required_choice(
        "when",
        &["always", "rows", "warning", "critical", "figures", "change"],
    );
    let (queries, written) = (node.texts("queries"), node.texts("figures"));
    let mut conditions = Vec::new();
    for text in written {
        match text.value.parse::<Condition>() {
            Ok(value) => conditions.push(Placed {
                value,
                place: text.place,
            }),
            Err(error) => node.report_at(&text.place, error.to_string()),
        }
    }
    let all = node.choice("match", &["any", "all"]) == Some("all");
    if when == Some("rows") && queries.is_empty() {
        node.report_self("say which queries: queries = [\"failed-jobs\"]");
    } else if when != Some("rows") && node.has("queries") {
        node.report("queries", "queries goes with when = \"rows\" only");
    }
    if when == Some("figures") && !node.has("figures") {
        node.report_self("say what of which figures: figures = [\"payments_failed >= 20\"]");
    }
    for key in ["figures", "match"] {
        if when != Some("figures") && node.has(key) {
            node.report(key, format!("{key} goes with when = \"figures\" only"));
        }
    }
    let confirm_quiet = node.truth("confirm-quiet").unwrap_or(false);
    if confirm_quiet && when == Some("always") {
        node.report(
            "confirm-quiet",
            "a report that is always sent is never quiet",
        );
    }
    node.close();
    let when = match when {
        Some("rows") => SendWhen::Rows(queries),
        Some("warning") => SendWhen::Status(Status::Warning),
        Some("critical") => SendWhen::Status(Status::Critical),
        Some("figures") => SendWhen::Figures { conditions, all },
        Some("change") => SendWhen::Change,
        _ => SendWhen::Always,
    };
    (when, confirm_quiet)
}
