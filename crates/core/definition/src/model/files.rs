//! How the files of a report are called and packed: its table `[files]`.

use serde::{Deserialize, Serialize};

use crate::model::{template, template::Template};

/// What holds for all files of a report.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Files {
    /// The pattern of their names, without the ending; nothing for report, window and values.
    pub name: Option<Template>,
    /// How they are written and put together.
    pub packing: Packing,
}

/// How files are written and put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Packing {
    /// Whether files travel packed in one.
    pub zip: Zip,
    /// How CSV is written.
    pub csv: CsvForm,
}

/// Whether files travel packed in one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Zip {
    /// Each by itself.
    Never,
    /// Every file.
    Always,
    /// A file of more bytes than this, and the tables of a CSV if they are many.
    Over(u64),
}

impl Default for Zip {
    fn default() -> Self {
        Self::Over(10_000_000)
    }
}

/// How CSV files are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct CsvForm {
    /// Begin with a byte-order mark, by which some spreadsheets know UTF-8.
    pub byte_order_mark: bool,
    /// Leave texts that a spreadsheet would run as a formula as they are.
    pub formulas_as_they_are: bool,
}

/// What the pattern of a file name may name.
#[derive(Debug, Clone, Serialize)]
pub struct NameValues<'a> {
    /// The report's name.
    pub report: &'a str,
    /// The report's title.
    pub title: &'a str,
    /// Such as `2026-11-22` or `2026-W47`.
    pub window: &'a str,
    /// The first day of the window, `2026-11-23`.
    pub from: &'a str,
    /// Its last day.
    pub to: &'a str,
    /// The run.
    pub run: &'a str,
    /// The parameter values that are not their defaults, joined with hyphens.
    pub values: &'a str,
}

impl NameValues<'_> {
    pub(crate) fn sample() -> Self {
        Self {
            report: "x",
            title: "x",
            window: "x",
            from: "x",
            to: "x",
            run: "x",
            values: "x",
        }
    }
}

impl Files {
    /// The name that all files of a document begin with: safe on every file system.
    #[must_use]
    pub fn stem(&self, values: &NameValues<'_>) -> String {
        let usual = || {
            format!(
                "{}_{}{}{}",
                values.report,
                values.window,
                if values.values.is_empty() { "" } else { "_" },
                values.values
            )
        };
        // A pattern is checked when it is read.
        let named = self
            .name
            .as_ref()
            .and_then(|pattern| template::merge(pattern, values).ok())
            .unwrap_or_else(usual);
        safe_name(&named)
    }
}

/// Letters without accents, digits, hyphens, underscores and dots in the middle; at most 100.
fn safe_name(text: &str) -> String {
    const RESERVED: [&str; 4] = ["con", "prn", "aux", "nul"];
    let mut safe = String::new();
    for c in text.chars() {
        match c {
            c if c.is_ascii_alphanumeric() || matches!(c, '_' | '-') => safe.push(c),
            '.' if !safe.is_empty() && !safe.ends_with('.') => safe.push('.'),
            _ if safe.ends_with('-') || safe.is_empty() => {}
            _ => safe.push('-'),
        }
        if safe.len() == 100 {
            break;
        }
    }
    let safe = safe.trim_end_matches(['-', '.', '_']);
    let first = safe.split('.').next().unwrap_or_default().to_lowercase();
    let device = RESERVED.contains(&first.as_str())
        || (first.len() == 4 && ["com", "lpt"].iter().any(|port| first.starts_with(port)));
    match safe {
        "" => "report".to_owned(),
        safe if device => format!("report-{safe}"),
        safe => safe.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::template::Template;

    #[test]
    fn names_are_safe_on_every_file_system() {
        let values = NameValues {
            values: "havnes",
            report: "daily",
            window: "2026-11-22",
            ..NameValues::sample()
        };
        assert_eq!(Files::default().stem(&values), "daily_2026-11-22_havnes");
        let named = |pattern: &str| {
            Files {
                name: Some(Template::new(pattern.to_owned())),
                ..Files::default()
            }
            .stem(&values)
        };
        assert_eq!(named("{{ window }} {{ report }}"), "2026-11-22-daily");
        assert_eq!(named("../../etc/passwd"), "etc-passwd");
        assert_eq!(named("Übersicht: „A/B“?"), "bersicht-A-B");
        assert_eq!(named("CON.{{ report }}"), "report-CON.daily");
        assert_eq!(named("lpt1"), "report-lpt1");
        assert_eq!(named("…"), "report");
        assert_eq!(named(&"long ".repeat(60)).len(), 99);
    }
}
