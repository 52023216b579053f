//! The few lines on a document's front that say whether things are well.

use maple_lark_data::status::{Status, StatusCounts};

use crate::{
    chart::Plot,
    document::{Body, Section, Summary},
};

/// What is past its limits is told in so many lines, for a front that is read in seconds.
const MOST_LINES: usize = 8;

/// `Disk use: 1 critical and 2 warning of 41 rows`; nothing where all is well.
fn counted(title: &str, judged: &StatusCounts, thing: &str) -> Option<String> {
    let counts = [(judged.critical, "critical"), (judged.warning, "warning")];
    let parts: Vec<String> = counts
        .into_iter()
        .filter(|(count, _)| *count > 0)
        .map(|(count, word)| format!("{count} {word}"))
        .collect();
    let things = if judged.all == 1 {
        thing.to_owned()
    } else {
        format!("{thing}s")
    };
    let (all, recovered) = (judged.all, judged.recovered);
    let at_the_end = if thing == "line" { " at the end" } else { "" };
    match (parts.is_empty(), recovered) {
        (true, 0) => None,
        (true, _) => Some(format!(
            "{title}: {recovered} of {all} {things} past a limit for a time, well at the end"
        )),
        (false, 0) => Some(format!(
            "{title}: {} of {all} {things}{at_the_end}",
            parts.join(" and ")
        )),
        (false, _) => Some(format!(
            "{title}: {} of {all} {things}{at_the_end}, {recovered} more for a time",
            parts.join(" and ")
        )),
    }
}

/// Says whether things are well: the headline, and the lines that bear it out.
#[expect(
    clippy::too_many_lines,
    reason = "the sentences of the front in the order in which they are read"
)]
#[must_use]
pub fn summarise(
    sections: &[Section],
    failed: &[(String, String)],
    incomplete: Option<&str>,
) -> Summary {
    let mut lines = Vec::new();
    let mut worst = Status::Ok;
    let (mut judged, mut without_data, mut recovered) = (0, 0, 0);
    let mut told: Vec<(Status, String)> = Vec::new();
    if let Some(reason) = incomplete {
        lines.push(format!("The data may be incomplete: {reason}"));
        worst = Status::Unknown;
    }
    for (title, _) in failed {
        lines.push(format!(
            "“{title}” could not be made; see its place for the reason"
        ));
        worst = Status::Critical;
    }
    for block in sections.iter().flat_map(|section| &section.blocks) {
        match &block.body {
            Body::Figures { figures } => {
                for figure in figures {
                    let Some(status) = figure.status else {
                        continue;
                    };
                    judged += 1;
                    worst = worst.max(status);
                    if status > Status::Ok {
                        told.push((
                            status,
                            format!(
                                "{}: {} ({})",
                                figure.title,
                                figure.value,
                                status.word().to_lowercase()
                            ),
                        ));
                    }
                }
            }
            Body::Table { table } => {
                judged += table.judged.all;
                worst = worst.max(table.judged.worst());
                told.extend(
                    counted(&block.title, &table.judged, "row")
                        .map(|line| (table.judged.worst(), line)),
                );
            }
            Body::Chart { chart } => {
                judged += chart.judged.all;
                recovered += chart.judged.recovered;
                worst = worst.max(chart.judged.worst());
                let thing = if matches!(chart.plot, Plot::Lines { .. }) {
                    "line"
                } else {
                    "bar"
                };
                told.extend(
                    counted(&block.title, &chart.judged, thing)
                        .map(|line| (chart.judged.worst(), line)),
                );
            }
            // A table without rows is often what one hopes for; a figure without data is not.
            Body::Empty { rows: false, .. } => without_data += 1,
            _ => {}
        }
    }
    // The worst first; in their order where they are alike.
    told.sort_by_key(|(status, _)| std::cmp::Reverse(*status));
    let more = told.len().saturating_sub(MOST_LINES);
    lines.extend(
        told.into_iter()
            .take(if more > 1 { MOST_LINES } else { usize::MAX })
            .map(|(_, line)| line),
    );
    if more > 1 {
        lines.push(format!("and {more} more, marked in their places"));
    }
    if without_data > 0 {
        lines.push(format!(
            "{without_data} {} without data",
            if without_data == 1 {
                "block is"
            } else {
                "blocks are"
            }
        ));
    }
    let headline = match worst {
        _ if !failed.is_empty() => "Not everything could be reported",
        Status::Critical => "Needs action",
        Status::Warning => "Needs attention",
        Status::Unknown => "Something is not known",
        Status::Ok if recovered > 0 => "All within limits at the end",
        Status::Ok if judged > 0 => "All within limits",
        Status::Ok => "For your information",
    };
    if worst == Status::Ok && judged > 0 && recovered == 0 {
        lines.push("Nothing is past its warning or critical limit.".to_owned());
    }
    Summary {
        status: worst,
        headline: headline.to_owned(),
        lines,
    }
}
