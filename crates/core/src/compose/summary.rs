//! The few lines on a document's front that say whether things are well.

use crate::{
    document::{Body, Section, Summary},
    status::Status,
};

pub fn summarise(sections: &[Section], failed: &[(String, String)], incomplete: Option<&str>) -> Summary {
    let mut lines = Vec::new();
    let mut worst = Status::Ok;
    let mut judged = 0;
    if let Some(reason) = incomplete {
        lines.push(format!("The data may be incomplete: {reason}"));
        worst = Status::Unknown;
    }
    for (title, _) in failed {
        lines.push(format!("“{title}” could not be made; see its place for the reason"));
        worst = Status::Critical;
    }
    for block in sections.iter().flat_map(|section| &section.blocks) {
        match &block.body {
            Body::Figures { figures } => {
                for figure in figures {
                    let Some(status) = figure.status else { continue };
                    judged += 1;
                    worst = worst.max(status);
                    if status > Status::Ok {
                        lines.push(format!("{}: {} ({})", figure.title, figure.value, status.word().to_lowercase()));
                    }
                }
            }
            Body::Table { table } => {
                let marks: Vec<Status> = table.rows.iter().filter_map(|row| row.iter().filter_map(|cell| cell.mark).max()).collect();
                judged += marks.len();
                let count = |status| marks.iter().filter(|mark| **mark == status).count();
                let parts: Vec<String> = [Status::Critical, Status::Warning]
                    .into_iter()
                    .filter(|status| count(*status) > 0)
                    .map(|status| format!("{} {}", count(status), status.word().to_lowercase()))
                    .collect();
                if !parts.is_empty() {
                    worst = worst.max(marks.iter().copied().max().unwrap_or(Status::Ok));
                    let rows = if table.rows.len() == 1 { "row" } else { "rows" };
                    lines.push(format!("{}: {} of {} {rows}", block.title, parts.join(" and "), table.rows.len()));
                }
            }
            _ => {}
        }
    }
    let headline = match worst {
        _ if !failed.is_empty() => "Not everything could be reported",
        Status::Critical => "Needs action",
        Status::Warning => "Needs attention",
        Status::Unknown => "Something is not known",
        Status::Ok if judged > 0 => "All within limits",
        Status::Ok => "No limits are set",
    };
    if worst == Status::Ok && judged > 0 {
        lines.push("Nothing is past its warning or critical limit.".to_owned());
    }
    Summary { status: worst, headline: headline.to_owned(), lines }
}
