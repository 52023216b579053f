//! How answers are printed: tables for people, JSON for programs.

use std::io::{BufRead, Write};

use chrono::{DateTime, Local, Utc};
use console::{Style, style};
use maple_lark_api::{ChangeAction, DeliveryState, PlanState, RunState, StepState};
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

/// How a state is marked, so that it can be told from others without reading.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mark {
    Good,
    Idle,
    Attention,
    Bad,
    UnderWay,
}

/// What has a mark and a word.
pub trait Marked: std::fmt::Display {
    fn mark(&self) -> Mark;
}

impl Marked for RunState {
    fn mark(&self) -> Mark {
        match self {
            Self::Delivered | Self::Completed => Mark::Good,
            Self::Cancelled | Self::Skipped | Self::Quiet => Mark::Idle,
            Self::Held | Self::AwaitingApproval | Self::PartlyDelivered => Mark::Attention,
            Self::Failed => Mark::Bad,
            Self::Due
            | Self::Waiting
            | Self::Collecting
            | Self::Rendering
            | Self::Releasing
            | Self::Delivering => Mark::UnderWay,
        }
    }
}

impl Marked for PlanState {
    fn mark(&self) -> Mark {
        match self {
            Self::Planned => Mark::UnderWay,
            Self::Paused | Self::LeftOut => Mark::Idle,
        }
    }
}

impl Marked for StepState {
    fn mark(&self) -> Mark {
        match self {
            Self::Running => Mark::UnderWay,
            Self::Done => Mark::Good,
            Self::Failed => Mark::Bad,
            Self::Quiet => Mark::Idle,
        }
    }
}

impl Marked for DeliveryState {
    fn mark(&self) -> Mark {
        match self {
            Self::Waiting => Mark::UnderWay,
            Self::Accepted => Mark::Good,
            Self::Refused | Self::Bounced => Mark::Bad,
            Self::Cancelled => Mark::Idle,
        }
    }
}

impl Marked for ChangeAction {
    fn mark(&self) -> Mark {
        match self {
            Self::Add => Mark::Good,
            Self::Alter => Mark::Attention,
            Self::Remove => Mark::Bad,
        }
    }
}

fn marked(mark: Mark, word: &str) -> String {
    let (sign, colour) = match mark {
        Mark::Good => ("●", Style::new().green()),
        Mark::Idle => ("‖", Style::new().dim()),
        Mark::Attention => ("▲", Style::new().yellow()),
        Mark::Bad => ("◆", Style::new().red()),
        Mark::UnderWay => ("○", Style::new().cyan()),
    };
    colour.apply_to(format!("{sign} {word}")).to_string()
}

/// A state with a mark and, on a terminal, a colour.
pub fn state(state: &impl Marked) -> String {
    marked(state.mark(), &state.to_string())
}

/// How a run's content was judged, where somebody should see to it; nothing else is said of it.
pub fn content(status: Option<&str>) -> String {
    match status {
        Some("critical") => format!(", {}", marked(Mark::Bad, "critical")),
        Some("warning") => format!(", {}", marked(Mark::Attention, "warning")),
        _ => String::new(),
    }
}

/// Whether something works, marked like a state.
pub fn outcome(works: bool) -> String {
    if works {
        marked(Mark::Good, "ok")
    } else {
        marked(Mark::Bad, "failed")
    }
}

/// Something that has not happened yet, marked like a state.
pub fn pending(word: &str) -> String {
    marked(Mark::UnderWay, word)
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

/// Prints a unified diff, what came and what went in colours of their own.
pub fn difference(diff: &str) {
    for line in diff.lines() {
        let line = match line.chars().next() {
            Some('+') => style(line).green(),
            Some('-') => style(line).red(),
            _ => style(line).dim(),
        };
        println!("    {line}");
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

#[cfg(test)]
mod tests {
    use maple_lark_api::Words;

    use super::*;

    #[test]
    fn what_somebody_must_act_on_stands_out() {
        let bad: Vec<&str> = RunState::ALL
            .iter()
            .filter(|state| matches!(state.mark(), Mark::Bad | Mark::Attention))
            .map(|state| state.word())
            .collect();
        assert_eq!(
            bad,
            ["awaiting-approval", "partly-delivered", "held", "failed"]
        );
    }

    #[test]
    fn a_run_that_goes_well_is_never_marked_bad() {
        for state in RunState::ALL.iter().filter(|state| state.is_good()) {
            assert!(matches!(state.mark(), Mark::Good | Mark::Idle), "{state}");
        }
    }
}
