//! What a chart shows as a table, for those who do not see it and those who want a figure.

use chrono::{DateTime, Datelike, Utc};
use maple_lark_data::number_format::decimals;
use maple_lark_definition::LineStyle;
use maple_lark_document::{
    chart::{Chart, ForecastPlot, Plot, TimeAxis},
    document::Document,
};
use maple_lark_time::{Window, span::Span, window::Step};
use serde_json::{Map, Value};

use crate::answering::unstacked;

/// A table has at most so many rows; of more instants each row stands for a step of the calendar.
const MOST_ROWS: usize = 48;
/// The steps are the finest of which no more than these are in the window: an hour of a day, a day of a month.
const MOST_STEPS: usize = 31;
/// Lines beside each other; of more there is a row for each line.
const MOST_LINES: usize = 8;
/// Nothing was measured.
const NONE: &str = "–";

/// A table of texts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Values {
    pub headings: Vec<String>,
    pub rows: Vec<Vec<String>>,
    /// What is not in it.
    pub note: Option<String>,
}

/// As the template takes it. Its texts are moved: there are hundreds.
impl From<Values> for Value {
    fn from(values: Values) -> Self {
        let rows: Self = values.rows.into_iter().map(Self::from).collect();
        Self::Object(Map::from_iter([
            ("headings".to_owned(), values.headings.into()),
            ("rows".to_owned(), rows),
            ("note".to_owned(), values.note.into()),
        ]))
    }
}

type Stretch = [(DateTime<Utc>, f64)];
/// A line by its name: stretches without a gap.
type Line<'a> = (&'a str, Vec<&'a Stretch>);

/// The values of a chart, as its reader writes numbers and times.
#[expect(
    clippy::too_many_lines,
    reason = "one kind of chart after the other, each a few lines"
)]
pub(crate) fn values(chart: &Chart, document: &Document) -> Values {
    let writer = Writer {
        document,
        unit: &chart.axis.unit,
        year: years(chart, document),
    };
    let named = |name: &str, label: &str| vec![name.to_owned(), label.to_owned()];
    let pairs = |heading: &str, rows: Vec<Vec<String>>| table(&[heading, "Value"], rows);
    match &chart.plot {
        Plot::Lines {
            axis,
            series,
            style: LineStyle::Stacked,
            ..
        } => {
            let parts = unstacked(series);
            let lines = series.iter().zip(&parts);
            let lines = lines.map(|(one, part)| (one.name.as_str(), vec![part.as_slice()]));
            writer.lines(axis, lines.collect())
        }
        Plot::Lines { axis, series, .. } => {
            let lines = series
                .iter()
                .map(|one| (one.name.as_str(), stretches(&one.stretches)));
            writer.lines(axis, lines.collect())
        }
        Plot::Multiples { times, charts } => {
            let lines = charts
                .iter()
                .map(|one| (one.name.as_str(), stretches(&one.stretches)));
            writer.lines(times, lines.collect())
        }
        Plot::Forecast(plot) => writer.forecast(plot),
        Plot::Bars {
            categories, series, ..
        } => {
            let mut headings = vec!["Name".to_owned()];
            headings.extend(series.iter().map(|one| match series.len() {
                1 => "Value".to_owned(),
                _ => one.name.clone(),
            }));
            let rows = categories.iter().enumerate().map(|(place, name)| {
                let cells = series.iter().map(|one| match one.values.get(place) {
                    Some(Some(_)) => one.labels.get(place).cloned().unwrap_or_default(),
                    _ => NONE.to_owned(),
                });
                std::iter::once(name.clone()).chain(cells).collect()
            });
            cut(headings, rows.collect())
        }
        Plot::Heat {
            columns,
            rows,
            cells,
            ..
        } => {
            let headings = std::iter::once("Name".to_owned()).chain(columns.iter().cloned());
            let rows = rows.iter().zip(cells).map(|(name, cells)| {
                let cells = cells.iter().map(|cell| match cell {
                    Some(cell) => cell.label.clone(),
                    None => NONE.to_owned(),
                });
                std::iter::once(name.clone()).chain(cells).collect()
            });
            cut(headings.collect(), rows.collect())
        }
        Plot::Steps { steps } => {
            let rows = steps.iter().map(|step| named(&step.title, &step.label));
            pairs("Step", rows.collect())
        }
        Plot::Availability { rows, .. } => {
            let rows = rows.iter().map(|row| {
                let outages = row.outages.len().to_string();
                vec![row.name.clone(), row.label.clone(), outages]
            });
            table(&["Name", "Available", "Outages"], rows.collect())
        }
        Plot::Boxes { boxes } => {
            let rows = boxes.iter().map(|one| named(&one.name, &one.label));
            pairs("Name", rows.collect())
        }
        Plot::Share { parts, .. } => {
            let rows = parts.iter().map(|part| named(&part.name, &part.label));
            pairs("Part", rows.collect())
        }
        other => writer.other(other),
    }
}

/// Whether a chart reaches over the end of a year.
fn years(chart: &Chart, document: &Document) -> bool {
    let axis = match &chart.plot {
        Plot::Lines { axis, .. } | Plot::Timeline { axis, .. } => axis,
        Plot::Multiples { times, .. } => times,
        Plot::Forecast(plot) => &plot.axis,
        _ => return false,
    };
    let year = |at| document.zone.local(at).year();
    year(axis.from) != year(axis.to)
}

fn stretches(all: &[Vec<(DateTime<Utc>, f64)>]) -> Vec<&Stretch> {
    all.iter().map(Vec::as_slice).collect()
}

fn table(headings: &[&str], rows: Vec<Vec<String>>) -> Values {
    let headings = headings.iter().map(|heading| (*heading).to_owned());
    cut(headings.collect(), rows)
}

/// A table with no more rows than anybody reads.
fn cut(headings: Vec<String>, mut rows: Vec<Vec<String>>) -> Values {
    let all = rows.len();
    rows.truncate(MOST_ROWS);
    Values {
        headings,
        rows,
        note: (all > MOST_ROWS).then(|| format!("The first {MOST_ROWS} of {all} rows.")),
    }
}

struct Writer<'a> {
    document: &'a Document,
    /// What the axis of values is counted in.
    unit: &'a str,
    /// Whether times need their year.
    year: bool,
}

impl Writer<'_> {
    /// An instant in the document's zone, on one line; the second of two that clocks show alike has its offset.
    fn time(&self, at: DateTime<Utc>) -> String {
        let zone = self.document.zone;
        let local = zone.local(at);
        let shown = self.document.number_format.time(local, self.year);
        let shown = shown.replace(' ', "\u{a0}");
        if zone.instant(local) == at {
            return shown;
        }
        let minutes = zone.offset_seconds(at) / 60;
        let sign = if minutes < 0 { '−' } else { '+' };
        let (hours, minutes) = (minutes.abs() / 60, minutes.abs() % 60);
        format!("{shown}\u{a0}(UTC{sign}{hours:02}:{minutes:02})")
    }

    fn with_unit(&self, name: &str) -> String {
        match self.unit {
            "" => name.to_owned(),
            unit => format!("{name} ({unit})"),
        }
    }

    /// Values over time: a row for each instant or stretch of time, or for each line if there are many.
    fn lines(&self, axis: &TimeAxis, lines: Vec<Line<'_>>) -> Values {
        let all: Vec<f64> = lines
            .iter()
            .flat_map(|(_, stretches)| stretches.iter().flat_map(|one| one.iter()))
            .map(|(_, value)| *value)
            .collect();
        let places = decimals(&all, false);
        let number = |value: f64| self.document.number_format.number(value, places);
        if lines.len() > MOST_LINES {
            let rows = lines.iter().map(|(name, stretches)| {
                let points = || stretches.iter().flat_map(|one| one.iter());
                let low = points().map(|(_, value)| *value).reduce(f64::min);
                let high = points().map(|(_, value)| *value).reduce(f64::max);
                let last = points().next_back().map(|(_, value)| *value);
                let cells = [low, high, last].map(|value| value.map_or(NONE.to_owned(), number));
                std::iter::once((*name).to_owned()).chain(cells).collect()
            });
            let headings = ["Name", "Lowest", "Highest", "Last"];
            return table(&headings, rows.collect());
        }
        let named = lines.iter().map(|(name, _)| match *name {
            "" => self.with_unit("Value"),
            name => self.with_unit(name),
        });
        let headings = std::iter::once("Time".to_owned()).chain(named).collect();
        let (begins, note) = self.rows_of_time(axis, &lines);
        // In the order of time, so that each row finds its own at once.
        let lines = lines.iter().map(|(_, stretches)| {
            let mut points: Vec<(DateTime<Utc>, f64)> = stretches.concat();
            points.sort_by_key(|(at, _)| *at);
            points
        });
        let lines: Vec<Vec<(DateTime<Utc>, f64)>> = lines.collect();
        let rows = begins.windows(2).map(|row| {
            let (from, to) = (row[0], row[1]);
            let cells = lines.iter().map(|points| {
                let before = points.partition_point(|(at, _)| *at < to);
                let last = points[..before].last().filter(|(at, _)| *at >= from);
                last.map_or(NONE.to_owned(), |(_, value)| number(*value))
            });
            std::iter::once(self.time(from)).chain(cells).collect()
        });
        Values {
            headings,
            rows: rows.collect(),
            note,
        }
    }

    /// Where the rows of a table over time begin, and the end of the last: at each instant if there are few,
    /// else at the steps of the zone's calendar, of which it is said how long they are.
    fn rows_of_time(
        &self,
        axis: &TimeAxis,
        lines: &[Line<'_>],
    ) -> (Vec<DateTime<Utc>>, Option<String>) {
        let mut instants: Vec<DateTime<Utc>> = lines
            .iter()
            .flat_map(|(_, stretches)| stretches.iter().flat_map(|one| one.iter()))
            .map(|(at, _)| *at)
            .collect();
        instants.sort();
        instants.dedup();
        let after = DateTime::<Utc>::MAX_UTC;
        if instants.len() <= MOST_ROWS {
            let begins = instants.into_iter().chain([after]).collect();
            return (begins, None);
        }
        let window = Window {
            from: axis.from,
            to: axis.to,
            zone: self.document.zone,
            within: None,
        };
        let step = Step::fitting(&window, MOST_STEPS);
        let length = step.to_string().parse::<Span>();
        let length = length.map_or_else(|_| step.to_string(), |span| span.readable());
        let note = format!(
            "Each row stands for {length} and has the last value of each line in that time; the chart has {} instants.",
            instants.len()
        );
        let begins = step.starts(&window).into_iter().chain([after]);
        (begins.collect(), Some(note))
    }

    fn forecast(&self, plot: &ForecastPlot) -> Values {
        let edge = |all: &[(DateTime<Utc>, f64, f64)], high: bool| -> Vec<(DateTime<Utc>, f64)> {
            let edge = all.iter();
            edge.map(|(at, low, top)| (*at, if high { *top } else { *low }))
                .collect()
        };
        let (low, high) = (edge(&plot.wide, false), edge(&plot.wide, true));
        let mut shown = self.lines(
            &plot.axis,
            vec![
                ("Observed", stretches(&plot.observed)),
                ("Forecast", vec![&plot.forecast]),
                ("95 % above", vec![&low]),
                ("95 % below", vec![&high]),
            ],
        );
        let crossings = plot.crossings.iter().map(|one| one.label.clone());
        let note = shown.note.into_iter().chain(crossings);
        shown.note = Some(note.collect::<Vec<_>>().join(" ")).filter(|note| !note.is_empty());
        shown
    }

    /// What has no words of its own for each of its marks.
    #[expect(
        clippy::too_many_lines,
        reason = "one kind of chart after the other, each a few lines"
    )]
    fn other(&self, plot: &Plot) -> Values {
        let format = self.document.number_format;
        match plot {
            Plot::Polar { sectors, series } => {
                let all: Vec<f64> = series
                    .iter()
                    .flat_map(|one| one.values.iter().flatten().copied())
                    .collect();
                let places = decimals(&all, false);
                let headings = std::iter::once("Sector".to_owned())
                    .chain(series.iter().map(|one| self.with_unit(&one.name)));
                let rows = sectors.iter().enumerate().map(|(place, name)| {
                    let name = match name.as_str() {
                        "" => (place + 1).to_string(),
                        name => name.to_owned(),
                    };
                    let cells = series.iter().map(|one| {
                        let value = one.values.get(place).copied().flatten();
                        value.map_or(NONE.to_owned(), |value| format.number(value, places))
                    });
                    std::iter::once(name).chain(cells).collect()
                });
                cut(headings.collect(), rows.collect())
            }
            Plot::Timeline { rows, .. } => {
                let rows = rows.iter().flat_map(|row| {
                    row.stretches.iter().map(|one| {
                        vec![
                            row.name.clone(),
                            self.time(one.from),
                            self.time(one.to),
                            one.status.word().to_owned(),
                        ]
                    })
                });
                table(&["Name", "From", "To", "State"], rows.collect())
            }
            Plot::Points {
                across_title,
                up_title,
                series,
                ..
            } => {
                let rows = series.iter().flat_map(|one| {
                    one.points.iter().map(|(across, up)| {
                        let (across, up) = (format.readable(*across), format.readable(*up));
                        vec![one.name.clone(), across, up]
                    })
                });
                table(&["Group", across_title, up_title], rows.collect())
            }
            Plot::Histogram { bins, .. } => {
                let edges: Vec<f64> = bins.iter().flat_map(|bin| [bin.from, bin.to]).collect();
                let places = decimals(&edges, false);
                let rows = bins.iter().map(|bin| {
                    vec![
                        format.number(bin.from, places),
                        format.number(bin.to, places),
                        format.number(bin.count as f64, 0),
                    ]
                });
                table(&["From", "To", "Values"], rows.collect())
            }
            // The others are written where they are told apart.
            _ => table(&[], Vec::new()),
        }
    }
}
