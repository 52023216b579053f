//! Plain text with aligned tables, for terminals and for mail without HTML.

use maple_lark_data::{status::Status, stop};
use maple_lark_document::{
    document::{Align, Block, Body, Document, Figure, ShownTable},
    markdown::{Part, Run},
};
use textwrap::{Options, WordSplitter, wrap};
use unicode_width::UnicodeWidthStr;

use crate::palette;

/// Columns of a line of prose, as mail has had them since there was mail (RFC 3676, 4.1).
const WIDTH: usize = 72;

/// Prose in lines; those after the first begin with `indent`. Words and addresses stay whole,
/// tables are not prose.
pub fn wrapped(text: &str, indent: &str) -> String {
    let options = Options::new(WIDTH)
        .subsequent_indent(indent)
        .break_words(false)
        .word_splitter(WordSplitter::NoHyphenation);
    let lines = text.split('\n').flat_map(|line| wrap(line, &options));
    lines.map(|line| format!("{line}\n")).collect()
}

/// The whole document. A chart is told in words: what its description says.
pub fn text(document: &Document) -> String {
    let front = &document.front;
    let mut out = head(document) + &verdict(document);
    let made = format!(
        "Made {}{} from {}",
        front.made_at,
        match &front.scheduled_for {
            Some(at) => format!(" (scheduled for {at})"),
            None => String::new(),
        },
        front.sources.join(", ")
    );
    out += &format!("\n{}", wrapped(&made, ""));
    for (name, value) in &front.filters {
        out += &wrapped(&format!("{name}: {value}"), "  ");
    }
    out += &sections(document);
    if document.theme.provenance {
        out += "\n\nHow this was made\n=================\n";
        for entry in &document.provenance {
            let digest = match entry.sha256.as_str() {
                "" => String::new(),
                digest => format!("\n  SHA-256 {digest}"),
            };
            let detail = entry
                .detail
                .as_ref()
                .map(|detail| format!("\n  {detail}"))
                .unwrap_or_default();
            out += &format!(
                "{} from {}, asked at {}, took {}, rows: {}{detail}{digest}\n",
                entry.query, entry.source, entry.asked_at, entry.took, entry.rows
            );
        }
        out += &format!("Window {}, run {}.\n", front.window_machine, front.run_id);
        if let Some(version) = &front.zone_rules {
            out += &format!("Time zones by the rules of {version}.\n");
        }
        if let Some(head) = &front.archive_head {
            out += &format!("Archive up to {head}.\n");
        }
    }
    out
}

/// All sections with their blocks.
pub fn sections(document: &Document) -> String {
    let mut out = String::new();
    for section in &document.sections {
        out += &format!(
            "\n\n{}\n{}\n",
            section.title,
            "=".repeat(section.title.width())
        );
        out += &parts(&section.text);
        for block in &section.blocks {
            stop::check();
            out += &self::block(block);
        }
    }
    out
}

/// What this is and of when.
pub fn head(document: &Document) -> String {
    let front = &document.front;
    let mut out = format!(
        "{}\n{}\n{}\n",
        document.title, front.window_label, front.window_exact
    );
    if let Some(compared_with) = &front.compared_with {
        out += &format!("compared with {compared_with}\n");
    }
    out
}

/// How things are.
pub fn verdict(document: &Document) -> String {
    let mut out = format!(
        "\n{} {}\n",
        palette::mark(document.summary.status),
        document.summary.headline
    );
    for line in &document.summary.lines {
        out += &wrapped(&format!("- {}", line.text), "  ");
    }
    out
}

fn block(block: &Block) -> String {
    let mut out = String::from("\n");
    if !block.title.is_empty() {
        out += &format!("{}\n{}\n", block.title, "-".repeat(block.title.width()));
    }
    match &block.body {
        Body::Figures { figures } => out += &self::figures(figures),
        Body::Chart { chart } => out += &wrapped(&chart.description, ""),
        Body::Table { table } => out += &self::table(table),
        Body::Text { parts } => out += &self::parts(parts),
        Body::Image { description, .. } => out += &wrapped(&format!("[{description}]"), ""),
        Body::Page { parts, address, .. } => {
            for part in parts {
                let title = if part.title == block.title || part.title.is_empty() {
                    String::new()
                } else {
                    format!("{}: ", part.title)
                };
                out += &wrapped(&format!("[{title}{}]", excerpt(&part.description)), "");
            }
            out += &format!("{address}\n");
        }
        Body::PageBreak => return String::new(),
        Body::Empty { sentence, .. } => out += &wrapped(sentence, ""),
        Body::Failed { reason } => {
            let mark = palette::mark(Status::Critical);
            out += &wrapped(
                &format!("{mark} This block could not be made: {reason}"),
                "  ",
            );
        }
    }
    if let Some(note) = &block.note {
        out += &wrapped(note, "");
    }
    out
}

/// So many characters of what a page says are enough to tell which it is.
const MOST_OF_A_PAGE: usize = 300;

fn excerpt(text: &str) -> String {
    match text.char_indices().nth(MOST_OF_A_PAGE) {
        Some((end, _)) => format!("{} …", &text[..end]),
        None => text.to_owned(),
    }
}

/// Key figures, their values below one another.
pub fn figures(figures: &[Figure]) -> String {
    let widest = figures
        .iter()
        .map(|figure| figure.title.width())
        .max()
        .unwrap_or(0);
    figures
        .iter()
        .map(|figure| {
            let pad = " ".repeat(widest - figure.title.width());
            let status = figure
                .status
                .map(|status| format!("   {} {}", palette::mark(status), status.word()))
                .unwrap_or_default();
            let change = figure
                .change
                .as_ref()
                .map(|change| format!("   {change}"))
                .unwrap_or_default();
            format!(
                "  {}{pad}   {}{status}{change}\n",
                figure.title, figure.value
            )
        })
        .collect()
}

#[expect(clippy::too_many_lines, reason = "measures columns, then writes lines")]
fn table(table: &ShownTable) -> String {
    let table = &*table.in_words();
    let headings: Vec<String> = table
        .headings
        .iter()
        .map(|heading| {
            if heading.unit.is_empty() {
                heading.title.clone()
            } else {
                format!("{} ({})", heading.title, heading.unit)
            }
        })
        .collect();
    let rows: Vec<Vec<String>> = table
        .rows
        .iter()
        .map(|row| {
            let cell = |cell: &maple_lark_document::document::Cell| match cell.mark {
                Some(mark) => format!("{} {}", palette::mark(mark), cell.text),
                None => cell.text.clone(),
            };
            row.iter()
                .map(cell)
                .map(|text| text.replace(['\n', '\r'], " "))
                .collect()
        })
        .collect();
    let widths: Vec<usize> = (0..headings.len())
        .map(|column| {
            rows.iter()
                .map(|row| row[column].width())
                .chain([headings[column].width()])
                .max()
                .unwrap_or(0)
        })
        .collect();
    let line = |cells: &[String]| {
        let padded =
            cells
                .iter()
                .zip(&widths)
                .zip(&table.headings)
                .map(|((text, width), heading)| {
                    let pad = " ".repeat(width - text.width());
                    if heading.align == Align::Right {
                        format!("{pad}{text}")
                    } else {
                        format!("{text}{pad}")
                    }
                });
        format!("{}\n", padded.collect::<Vec<_>>().join("  ").trim_end())
    };
    let rule = format!(
        "{}\n",
        widths
            .iter()
            .map(|width| "-".repeat(*width))
            .collect::<Vec<_>>()
            .join("  ")
    );
    let body: String = rows.iter().map(|row| line(row)).collect();
    let cut = table
        .cut
        .as_ref()
        .map(|cut| format!("{cut}\n"))
        .unwrap_or_default();
    format!("{}{rule}{body}{cut}", line(&headings))
}

fn parts(parts: &[Part]) -> String {
    let runs = |runs: &[Run]| -> String {
        runs.iter()
            .map(|run| {
                run.link.as_ref().map_or_else(
                    || run.text.clone(),
                    |link| {
                        if *link == run.text {
                            link.clone()
                        } else {
                            format!("{} <{link}>", run.text)
                        }
                    },
                )
            })
            .collect()
    };
    parts
        .iter()
        .map(|part| match part {
            Part::Heading { runs: text } | Part::Paragraph { runs: text } => {
                wrapped(&runs(text), "")
            }
            Part::List { ordered, items } => items
                .iter()
                .enumerate()
                .map(|(n, item)| {
                    if *ordered {
                        wrapped(&format!("{}. {}", n + 1, runs(item)), "   ")
                    } else {
                        wrapped(&format!("- {}", runs(item)), "  ")
                    }
                })
                .collect(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prose_has_72_columns_and_words_and_addresses_stay_whole() {
        let address = format!("https://lark.test/{}", "x".repeat(90));
        let text = format!(
            "- {} {address} and so on",
            "archive-01 is nearly full ".repeat(6)
        );
        let lines = wrapped(&text, "  ");
        assert!(
            lines
                .lines()
                .all(|line| line.width() <= WIDTH || line.contains(&address))
        );
        assert!(lines.lines().skip(1).all(|line| line.starts_with("  ")));
        let words = |text: &str| {
            text.split_whitespace()
                .map(str::to_owned)
                .collect::<Vec<_>>()
        };
        assert_eq!(words(&lines), words(&text));
        // What its author has broken stays broken, and wide letters take two columns.
        assert_eq!(wrapped("one\n\ntwo", ""), "one\n\ntwo\n");
        assert!(
            wrapped(&"港 ".repeat(60), "")
                .lines()
                .all(|line| line.width() <= WIDTH)
        );
    }
}
