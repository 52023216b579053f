//! The few lines on a document's front that say whether things are well.

use maple_lark_data::status::{Status, StatusCounts};

use crate::{
    chart::Plot,
    compose::past::{Past, Told},
    document::{Block, Body, Figure, Place, Section, Summary, SummaryLine},
};

/// So many lines say what is past its limits.
const MOST_LINES: usize = 8;

/// `Disk use: 3 of 41 lines past a limit for a time, well at the end`; nothing where none was.
fn for_a_time(title: &str, judged: &StatusCounts, thing: &str) -> Option<String> {
    let (all, recovered) = (judged.all, judged.recovered);
    let plural = if all == 1 { "" } else { "s" };
    (recovered > 0).then(|| {
        format!(
            "{title}: {recovered} of {all} {thing}{plural} past a limit for a time, well at the end"
        )
    })
}

/// Says whether things are well: the headline, and the lines that bear it out.
#[expect(
    clippy::too_many_lines,
    reason = "the sentences of the front in the order in which they are read"
)]
#[must_use]
pub(crate) fn summarise(
    sections: &[Section],
    failed: &[(String, String)],
    incomplete: Option<&str>,
    past: Past,
) -> Summary {
    let mut lines: Vec<SummaryLine> = Vec::new();
    let mut worst = Status::Ok;
    let (mut judged, mut without_data, mut recovered) = (0, 0, 0);
    let mut told: Vec<Told> = Vec::new();
    let mut recoveries: Vec<SummaryLine> = Vec::new();
    if let Some(reason) = incomplete {
        lines.push(format!("The data may be incomplete: {reason}").into());
        worst = Status::Unknown;
    }
    for (place, block) in placed(sections) {
        let line = |text| SummaryLine {
            text,
            place: Some(place),
        };
        match &block.body {
            Body::Failed { .. } => {
                lines.push(line(format!(
                    "“{}” could not be made; see its place for the reason",
                    block.title
                )));
                worst = Status::Critical;
            }
            Body::Figures { figures } => {
                for figure in figures {
                    let Some(status) = figure.status else {
                        continue;
                    };
                    judged += 1;
                    worst = worst.max(status);
                    if status > Status::Ok {
                        let Figure {
                            title,
                            value,
                            passed,
                            ..
                        } = figure;
                        let short = match passed {
                            Some(passed) => format!("{title}: {value}, {passed}"),
                            None => format!("{title}: {value} ({})", status.word().to_lowercase()),
                        };
                        told.push(Told {
                            status,
                            line: line(short.clone()),
                            short,
                        });
                    }
                }
            }
            Body::Table { table } => {
                judged += table.judged.all;
                worst = worst.max(table.judged.worst());
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
                recoveries.extend(for_a_time(&block.title, &chart.judged, thing).map(line));
            }
            // A table without rows is often what one hopes for; a figure without data is not.
            Body::Empty { rows: false, .. } => without_data += 1,
            _ => {}
        }
    }
    // Key figures stand for the whole, so they come before the things of the same status.
    let (named, more) = past.worst(MOST_LINES);
    // A limit that is likely to be reached is no value past it, and needs attention all the same.
    worst = named.iter().fold(worst, |worst, one| worst.max(one.status));
    told.extend(named);
    told.sort_by_key(|one| std::cmp::Reverse(one.status));
    let first = told.first().map(|one| one.short.clone());
    let hidden = told.len().saturating_sub(MOST_LINES);
    // One more line is as short as a line that says that there is one more.
    let (shown, more) = match hidden + more {
        1 if more == 0 => (usize::MAX, 0),
        more => (MOST_LINES, more),
    };
    lines.extend(told.into_iter().take(shown).map(|one| one.line));
    lines.extend(recoveries);
    if more > 0 {
        lines.push(format!("and {more} more, marked in their places").into());
    }
    if without_data > 0 {
        let blocks = if without_data == 1 {
            "block is"
        } else {
            "blocks are"
        };
        lines.push(format!("{without_data} {blocks} without data").into());
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
        lines.push(
            "Nothing is past its warning or critical limit."
                .to_owned()
                .into(),
        );
    }
    Summary {
        status: worst,
        headline: headline.to_owned(),
        lines,
        worst: first,
    }
}

/// Every block with its place.
fn placed(sections: &[Section]) -> impl Iterator<Item = (Place, &Block)> {
    sections.iter().enumerate().flat_map(|(section, one)| {
        let blocks = one.blocks.iter().enumerate();
        blocks.map(move |(block, one)| (Place { section, block }, one))
    })
}
