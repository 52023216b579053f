//! Reads reports from their tables.

use maple_lark_data::number_format::NumberFormat;
use maple_lark_time::{Zone, english::quoted_list, span::Span};

use crate::{
    model::{
        audience::Audience,
        format::Format,
        mailbox::Mailbox,
        report::{OnFailedBlock, Report},
    },
    read::{
        audience, changes, deliver, files, keep, message_template,
        name::{read_name, read_team},
        node::Node,
        parameter::read_values,
        readiness::read_readiness,
        schedule, send_when,
        window::read_window,
    },
};

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
pub(crate) fn read(root: &Node<'_>) -> Option<Report> {
    let node = root.table("report")?;
    let name = read_name(&node);
    let teams = read_team(&node);
    let title = node.required("title").value;
    let tags = read_tags(&node);
    let owner = node.parsed::<Mailbox>("owner");
    node.required("time-zone");
    let zone = node.parsed::<Zone>("time-zone");
    let dashboards = node.texts("dashboards");
    if dashboards.is_empty() {
        node.report_empty(
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
    let interactive = node.truth("interactive").unwrap_or(false);
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
    let number_format = NumberFormat::like(
        node.choice("numbers", &NumberFormat::NUMBERS)
            .unwrap_or_default(),
        node.choice("dates", &NumberFormat::DATES)
            .unwrap_or_default(),
    );
    let theme = node.text("theme");
    let place = node.place();
    node.close();

    let window = match root.table("window") {
        Some(window) => read_window(window, zone),
        None => {
            root.report_empty(
                "window",
                "the table [window] is missing; write for instance [window] and previous = \"day\"",
            );
            None
        }
    };
    let has_schedule = root.has("schedule");
    let (schedule, calendars) = root.table("schedule").and_then(schedule::read).unzip();
    let readiness = root
        .table("readiness")
        .and_then(|node| read_readiness(node, has_schedule));
    let (send_when, confirm_quiet) = root
        .table("send")
        .map(send_when::read_send_when)
        .unwrap_or_default();
    let files = root.table("files").map(files::read).unwrap_or_default();
    let keep = root.table("keep").and_then(keep::read);
    let changes = root
        .tables("change")
        .into_iter()
        .map(changes::read_change)
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
            root.report_at(
                &audience.place,
                format!("two audiences are named \"{}\"", audience.name),
            );
        }
    }

    let (message_template, subject, message) = match root.table("message") {
        Some(node) => {
            let found = (
                node.text("template"),
                message_template::read_template(&node, "subject"),
                message_template::read_template(&node, "text"),
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
        teams,
        title,
        tags,
        owner,
        zone: zone?,
        window: window?,
        schedule,
        calendars: calendars.unwrap_or_default(),
        dashboards,
        changes,
        parameters,
        formats,
        files,
        keep,
        theme,
        number_format,
        audiences,
        audience_queries,
        deliver,
        approval,
        confirm_quiet,
        on_failed_block,
        time_limit_seconds,
        overlap,
        interactive,
        readiness,
        send_when,
        message_template,
        subject,
        message,
        place,
    })
}

/// Tags of one report, and characters of one.
const MOST_TAGS: usize = 20;
const LONGEST_TAG: usize = 40;

fn read_tags(node: &Node<'_>) -> Vec<String> {
    let mut tags: Vec<String> = Vec::new();
    for text in node.texts("tags") {
        let tag = text.value.trim().to_owned();
        if tag.is_empty() || tag.chars().count() > LONGEST_TAG {
            node.report("tags", format!("a tag has 1 to {LONGEST_TAG} characters"));
        } else if tags.contains(&tag) {
            node.report("tags", format!("\"{tag}\" is named twice"));
        } else {
            tags.push(tag);
        }
    }
    if tags.len() > MOST_TAGS {
        node.report("tags", format!("a report has at most {MOST_TAGS} tags"));
    }
    tags
}
