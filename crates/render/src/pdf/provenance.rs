//! Where every figure came from, as the table at the end of the pages.

use maple_lark_document::document::{Align, Cell, Heading, Provenance, ShownTable};
use serde_json::{Value, json};

use super::{breaks, cells::Fitted, glyphs::Faces};

/// Letters of this size, in points.
const LETTERS: f64 = 7.5;
/// What the columns take of the room where each query has its own dashboard or source: query,
/// source, when, how long, rows, digest.
const PARTS: [f64; 6] = [2.1, 1.6, 1.4, 0.8, 0.7, 3.5];

/// What is left of the room for a query, in points, where the other columns take what they need.
const LEAST_OF_A_QUERY: f64 = 60.0;

/// The table, and what is said above it.
pub struct Shown {
    table: ShownTable,
    /// What is the same of all queries and therefore said once.
    same: Option<String>,
    /// What there is to say under a row.
    details: Vec<Option<String>>,
}

impl Shown {
    pub fn new(all: &[Provenance]) -> Self {
        let first = all.first().filter(|first| {
            all.iter().all(|one| {
                one.source == first.source
                    && dashboard(one) == dashboard(first)
                    && query_in_it(one).is_some()
            })
        });
        let day = first
            .map(|first| day_and_time(first).0)
            .filter(|day| all.iter().all(|one| day_and_time(one).0 == *day));
        let rows = all.iter().map(|one| {
            let of = match first {
                Some(_) => vec![query_in_it(one).unwrap_or_default()],
                None => vec![&*one.query, &*one.source],
            };
            let at = match day {
                Some(_) => day_and_time(one).1,
                None => &*one.asked_at,
            };
            let digest = match one.sha256.as_str() {
                "" => "–",
                digest => digest,
            };
            let texts = of.into_iter().chain([at, &*one.took, &*one.rows, digest]);
            texts.map(cell).collect()
        });
        let of: &[&str] = match first {
            Some(_) => &["Query"],
            None => &["Query", "Source"],
        };
        let right = [false, true, true, false];
        let titles = of.iter().map(|title| (*title, false)).chain(
            ["Asked at", "Took", "Rows", "SHA-256"]
                .into_iter()
                .zip(right),
        );
        Self {
            table: ShownTable {
                headings: titles.map(heading).collect(),
                rows: rows.collect(),
                sums_up: Vec::new(),
                cut: None,
                file: String::new(),
                judged: Default::default(),
            },
            same: first.map(|first| {
                let on = day.map_or(String::new(), |day| format!(" on {day}"));
                let (of, source) = (dashboard(first).trim(), &first.source);
                format!("All are queries of {of}, asked of {source}{on}.")
            }),
            details: all.iter().map(|one| one.detail.clone()).collect(),
        }
    }

    /// The table as it is set on the pages; nothing if it needs the typesetter.
    pub fn fit(&self, faces: &Faces, room: f64) -> Option<Fitted<'_>> {
        if self.table.rows.is_empty() || self.details.iter().any(Option::is_some) {
            return None;
        }
        if self.same.is_none() {
            let whole: f64 = PARTS.iter().sum();
            let widths = PARTS.map(|part| part / whole * room).to_vec();
            return faces.fit_to(&self.table, widths, LETTERS);
        }
        let mut parts = faces.fit_in(&self.table, room, &[LETTERS])?;
        let whole = parts.pop()?;
        parts.is_empty().then_some(whole)
    }

    /// What the template reads of it; `room` is how wide it is, in points.
    pub fn values(&self, faces: &Faces, fitted: Option<&Fitted>, room: f64) -> Value {
        let whole: f64 = PARTS.iter().sum();
        // Where much is said once, the query alone gives way.
        let rooms: Vec<f64> = match self.same {
            Some(_) => vec![LEAST_OF_A_QUERY],
            None => PARTS.map(|part| part / whole * room - 8.0).to_vec(),
        };
        let row = |cells: &Vec<Cell>| -> Vec<Value> {
            let texts = cells.iter().map(|cell| Value::from(&*cell.text));
            let mut texts: Vec<Value> = texts.collect();
            for (text, room) in texts.iter_mut().zip(&rooms) {
                breaks::mend(faces, Some(text), *room, LETTERS);
            }
            texts
        };
        let detail = |detail: &Option<String>| {
            let mut detail = json!(detail);
            breaks::mend(faces, Some(&mut detail), room - 8.0, LETTERS);
            detail
        };
        let rows = fitted.is_none().then(|| self.table.rows.iter().map(row));
        json!({
            "same": self.same,
            "headings": self.table.headings,
            "shares": PARTS,
            "rows": rows.map(Iterator::collect::<Vec<_>>),
            "details": self.details.iter().map(detail).collect::<Vec<_>>(),
            "part": fitted.map(|fitted| fitted.plan(faces)),
            "empty": self.table.rows.is_empty(),
        })
    }
}

fn cell(text: &str) -> Cell {
    Cell {
        text: text.to_owned(),
        ..Cell::default()
    }
}

fn heading((title, right): (&str, bool)) -> Heading {
    Heading {
        title: title.to_owned(),
        unit: String::new(),
        align: if right { Align::Right } else { Align::Left },
        weight: 1.0,
        trend: false,
    }
}

/// What stands between a dashboard and its query.
const BETWEEN: &str = " / ";

fn dashboard(one: &Provenance) -> &str {
    one.query.split(BETWEEN).next().unwrap_or(&one.query)
}

/// The query without its dashboard, if it names one.
fn query_in_it(one: &Provenance) -> Option<&str> {
    let (_, query) = one.query.split_once(BETWEEN)?;
    (!query.is_empty()).then_some(query)
}

fn day_and_time(one: &Provenance) -> (&str, &str) {
    one.asked_at.rsplit_once(' ').unwrap_or(("", &one.asked_at))
}

#[cfg(test)]
mod tests {
    use maple_lark_document::document::Provenance;

    use super::*;

    fn asked(query: &str, source: &str, at: &str) -> Provenance {
        Provenance {
            query: query.to_owned(),
            source: source.to_owned(),
            asked_at: at.to_owned(),
            took: "0.2 s".to_owned(),
            rows: "12".to_owned(),
            detail: None,
            asked: Default::default(),
            seconds: 0.2,
            count: Some(12),
            sha256: "ab".repeat(32).into(),
        }
    }

    fn texts(shown: &Shown) -> Vec<Vec<&str>> {
        let rows = shown.table.rows.iter();
        rows.map(|row| row.iter().map(|cell| &*cell.text).collect())
            .collect()
    }

    #[test]
    fn what_is_the_same_of_all_queries_is_said_once() {
        let digest = "ab".repeat(32);
        let all = [
            asked("Estate / load", "Operations", "29 Nov 2026 01:00:02"),
            asked("Estate / disks", "Operations", "29 Nov 2026 01:00:03"),
        ];
        let shown = Shown::new(&all);
        assert_eq!(
            shown.same.as_deref(),
            Some("All are queries of Estate, asked of Operations on 29 Nov 2026.")
        );
        assert_eq!(
            texts(&shown),
            [
                ["load", "01:00:02", "0.2 s", "12", &*digest],
                ["disks", "01:00:03", "0.2 s", "12", &*digest],
            ]
        );
        // Over midnight each has its day.
        let mut nightly = all.clone();
        nightly[1].asked_at = "30 Nov 2026 00:00:01".to_owned();
        let shown = Shown::new(&nightly);
        assert_eq!(
            shown.same.as_deref(),
            Some("All are queries of Estate, asked of Operations.")
        );
        assert_eq!(texts(&shown)[1][1], "30 Nov 2026 00:00:01");
    }

    #[test]
    fn queries_of_several_sources_or_dashboards_have_each_its_own() {
        let two = |query: &str, source: &str| {
            let all = [
                asked("Estate / load", "Operations", "29 Nov 2026 01:00:02"),
                asked(query, source, "29 Nov 2026 01:00:02"),
            ];
            Shown::new(&all)
        };
        for shown in [
            two("Estate / disks", "Harbours"),
            two("Ferries / disks", "Operations"),
            two("alone", "Operations"),
        ] {
            assert_eq!(shown.same, None);
            assert_eq!(texts(&shown)[0][..2], ["Estate / load", "Operations"]);
            assert_eq!(texts(&shown)[0].len(), 6);
        }
        assert_eq!(Shown::new(&[]).same, None);
        assert!(Shown::new(&[]).table.rows.is_empty());
    }

    #[test]
    fn it_is_set_on_the_pages_unless_it_needs_the_typesetter() {
        let faces = &super::super::FIXED.faces;
        let mut all = [
            asked("Estate / load", "Operations", "29 Nov 2026 01:00:02"),
            asked("Estate / disks", "Harbours", "29 Nov 2026 01:00:02"),
        ];
        let shown = Shown::new(&all);
        let fitted = shown.fit(faces, 515.0).unwrap();
        assert!((fitted.width() - 515.0).abs() < 0.01);
        assert_eq!(
            shown.values(faces, Some(&fitted), 515.0)["rows"],
            Value::Null
        );
        all[1].detail = Some("Captured at 01:00".to_owned());
        let shown = Shown::new(&all);
        assert!(shown.fit(faces, 515.0).is_none());
        assert_eq!(
            shown.values(faces, None, 515.0)["rows"][1][0],
            "Estate / disks"
        );
        // Letters from right to left change with their neighbours.
        let hebrew = [asked("Estate / עומס", "Operations", "29 Nov 2026 01:00:02")];
        assert!(Shown::new(&hebrew).fit(faces, 515.0).is_none());
    }
}
