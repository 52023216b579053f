//! How answers are printed: tables for people, JSON for programs.

use std::io::{BufRead, Write};

use chrono::{DateTime, Local, Utc};
use console::{Style, style};
use serde::Serialize;
use tabled::{
    builder::Builder,
    settings::{Padding, Style as TableStyle, object::Columns, peaker::Priority, width::Width},
};

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Output {
    Table,
    Json,
}

/// Prints a value as JSON, or lets `table` print it for people.
pub fn print<T: Serialize>(output: Output, value: &T, table: impl FnOnce(&T)) {
    match output {
        Output::Json => println!(
            "{}",
            serde_json::to_string_pretty(value).unwrap_or_default()
        ),
        Output::Table => table(value),
    }
}

/// Prints rows under headings, or a sentence where there are none.
pub fn table(headings: &[&str], rows: Vec<Vec<String>>, none: &str) {
    if rows.is_empty() {
        println!("{none}");
        return;
    }
    let mut builder = Builder::default();
    builder.push_record(
        headings
            .iter()
            .map(|heading| style(*heading).dim().to_string()),
    );
    for row in rows {
        builder.push_record(row);
    }
    let mut table = builder.build();
    table
        .with(TableStyle::empty())
        .modify(Columns::new(..), Padding::new(0, 3, 0, 0));
    if let Some((_, width)) = console::Term::stdout().size_checked() {
        table.with(
            Width::wrap(usize::from(width))
                .priority(Priority::max(false))
                .keep_words(true),
        );
    }
    println!(
        "{}",
        table
            .to_string()
            .lines()
            .map(str::trim_end)
            .collect::<Vec<_>>()
            .join("\n")
    );
}

/// A state with a mark and, on a terminal, a colour.
pub fn state(state: &str) -> String {
    let (mark, colour) = match state {
        "delivered" | "made" | "done" | "accepted" | "add" => ("●", Style::new().green()),
        "cancelled" | "skipped" | "quiet" | "paused" | "left-out" => ("‖", Style::new().dim()),
        "held" | "awaiting-approval" | "partly-delivered" | "alter" | "postponed" | "unknown" => {
            ("▲", Style::new().yellow())
        }
        "failed" | "refused" | "bounced" | "remove" => ("◆", Style::new().red()),
        _ => ("○", Style::new().cyan()),
    };
    colour.apply_to(format!("{mark} {state}")).to_string()
}

/// An instant in the reader's own zone.
pub fn instant(at: Option<DateTime<Utc>>) -> String {
    at.map_or_else(
        || "–".to_owned(),
        |at| {
            at.with_timezone(&Local)
                .format("%a %-d %b %Y %H:%M")
                .to_string()
        },
    )
}

pub fn size(bytes: i64) -> String {
    match bytes {
        0..1024 => format!("{bytes} B"),
        1024..1_048_576 => format!("{:.1} KiB", bytes as f64 / 1024.0),
        _ => format!("{:.1} MiB", bytes as f64 / 1_048_576.0),
    }
}

/// Asks on the terminal; no is the answer unless yes is said.
pub fn confirmed(question: &str) -> bool {
    print!("{question} [y/N] ");
    let _ = std::io::stdout().flush();
    let mut answer = String::new();
    let _ = std::io::stdin().lock().read_line(&mut answer);
    matches!(answer.trim(), "y" | "yes")
}
