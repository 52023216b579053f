//! Every kind of chart with every kind of data, in every width: what is drawn is on the canvas,
//! in numbers, and says what it shows.

use maple_lark_definition::Width;
use maple_lark_document::chart::Chart;

use super::*;
use crate::chart::{self, Size};

/// Each kind of block with the keys it needs; the columns are those of [`table`].
const KINDS: [(&str, &str); 22] = [
    (
        "lines",
        "show = \"line\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"name\"",
    ),
    (
        "two values",
        "show = \"line\"\ntime = \"at\"\nvalue = [\"used\", \"other\"]",
    ),
    (
        "area",
        "show = \"area\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"name\"",
    ),
    (
        "steps",
        "show = \"steps\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"name\"",
    ),
    (
        "stacked area",
        "show = \"stacked-area\"\ntime = \"at\"\nvalue = \"other\"\nseries = \"name\"",
    ),
    (
        "bars",
        "show = \"bar\"\nlabel = \"label\"\nvalue = \"used\"",
    ),
    (
        "groups of bars",
        "show = \"bar\"\nlabel = \"label\"\nvalue = [\"used\", \"other\"]",
    ),
    (
        "stacked bars",
        "show = \"bar\"\nlabel = \"label\"\nvalue = \"other\"\nseries = \"name\"\nstacked = true",
    ),
    (
        "columns",
        "show = \"column\"\nlabel = \"label\"\nvalue = [\"used\", \"other\"]",
    ),
    (
        "stacked columns",
        "show = \"column\"\nlabel = \"label\"\nvalue = \"other\"\nseries = \"name\"\nstacked = true",
    ),
    (
        "ranking",
        "show = \"ranking\"\nlabel = \"label\"\nvalue = \"used\"\nlimit = 10",
    ),
    (
        "breakdown",
        "show = \"breakdown\"\nlabel = \"label\"\nvalue = \"used\"",
    ),
    (
        "hour by weekday",
        "show = \"heat-map\"\ntime = \"at\"\nvalue = \"used\"",
    ),
    (
        "two columns",
        "show = \"heat-map\"\nrow = \"name\"\ncolumn = \"label\"\nvalue = \"used\"",
    ),
    (
        "small multiples",
        "show = \"small-multiples\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"label\"",
    ),
    (
        "around the clock",
        "show = \"polar\"\ntime = \"at\"\nvalue = \"used\"",
    ),
    (
        "by direction",
        "show = \"polar\"\ndirection = \"used\"\nvalue = \"other\"\nseries = \"name\"",
    ),
    (
        "timeline",
        "show = \"timeline\"\ntime = \"at\"\nrow = \"name\"\nstate = \"state\"",
    ),
    (
        "scatter",
        "show = \"scatter\"\nacross = \"used\"\nup = \"other\"\nseries = \"name\"",
    ),
    ("histogram", "show = \"histogram\"\nvalue = \"used\""),
    ("boxes", "show = \"box\"\nvalue = \"used\"\nrow = \"name\""),
    (
        "shares",
        "show = \"share\"\nlabel = \"label\"\nvalue = \"other\"",
    ),
];

type Row = (i64, &'static str, &'static str, Option<f64>, Option<f64>);

fn table(rows: &[Row]) -> Outcome {
    let column = |name: &str, kind| Column {
        name: name.into(),
        kind,
    };
    let from: DateTime<Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
    let number = |value: Option<f64>| value.map_or(Value::Missing, Value::Number);
    let cells = |(minute, name, label, used, other): &Row| {
        let state = used.map_or(
            "unknown",
            |used| if used > 90.0 { "critical" } else { "ok" },
        );
        vec![
            Value::Instant(from + TimeDelta::minutes(*minute)),
            Value::Text((*name).into()),
            Value::Text((*label).into()),
            number(*used),
            number(*other),
            Value::Text(state.into()),
        ]
    };
    let columns = [
        column("at", ColumnKind::Instant),
        column("name", ColumnKind::Text),
        column("label", ColumnKind::Text),
        column("used", ColumnKind::Number),
        column("other", ColumnKind::Number),
        column("state", ColumnKind::Text),
    ];
    Outcome::Rows(
        Table {
            columns: columns.to_vec(),
            rows: rows.iter().map(cells).collect(),
            truncated: false,
        }
        .into(),
    )
}

const NAMES: [&str; 3] = ["booking", "payments", "gate-scanners"];
const LABELS: [&str; 8] = [
    "Skarvøy", "Havnes", "Lyngsund", "Brimsund", "Tornvik", "Østrey", "Orrin", "Sound",
];

/// Eight rows for each of three names, an hour apart, with values of `used` and `other` by their place.
fn rows(used: impl Fn(usize) -> Option<f64>, other: impl Fn(usize) -> Option<f64>) -> Vec<Row> {
    (0..24)
        .map(|n| {
            (
                n as i64 / 3 * 60,
                NAMES[n % 3],
                LABELS[n / 3],
                used(n),
                other(n),
            )
        })
        .collect()
}

fn cases() -> Vec<(&'static str, Vec<Row>)> {
    const LONG: &str =
        "The archive of scanned boarding cards of all ports since the beginning of the century";
    let ordinary = |n: usize| Some(20.0 + (n * 7 % 23) as f64 * 3.5);
    vec![
        ("ordinary", rows(ordinary, |n| Some((n % 5) as f64 + 1.0))),
        (
            "one row",
            vec![(30, "booking", "Havnes", Some(42.0), Some(7.0))],
        ),
        ("all equal", rows(|_| Some(7.0), |_| Some(7.0))),
        ("all zero", rows(|_| Some(0.0), |_| Some(0.0))),
        (
            "below zero",
            rows(|n| Some(-5.0 - n as f64), |n| Some(-1.0 - n as f64)),
        ),
        (
            "on both sides of zero",
            rows(|n| Some(n as f64 - 12.0), |n| Some(n as f64 + 1.0)),
        ),
        (
            "huge",
            rows(
                |n| Some(1e18 * (n + 1) as f64),
                |n| Some(1e18 * (n + 1) as f64),
            ),
        ),
        (
            "tiny",
            rows(
                |n| Some(1e-9 * (n + 1) as f64),
                |n| Some(1e-9 * (n + 1) as f64),
            ),
        ),
        (
            "partly missing",
            rows(
                |n| (n % 4 != 1).then_some(n as f64),
                |n| (n % 3 != 2).then_some(n as f64),
            ),
        ),
        ("all missing", rows(|_| None, |_| None)),
        (
            "long names",
            rows(ordinary, |_| Some(3.0))
                .into_iter()
                .map(|(at, _, _, used, other)| (at, LONG, LONG, used, other))
                .collect(),
        ),
    ]
}

fn composed(block: &str, outcome: Outcome) -> Body {
    let dashboard = format!(
        "[dashboard]\nname = \"ferries\"\ntitle = \"Ferries\"\n[[query]]\nname = \"q\"\nsource = \"ops\"\nsql = \"select 1\"\n\
         [[query.column]]\nname = \"used\"\ntitle = \"Disk <used>\"\nunit = \"percent\"\nwarning = 80\ncritical = 90\n\
         [[section]]\ntitle = \"S\"\n[[section.block]]\ntitle = \"B & <b>\"\nquery = \"q\"\n{block}\n"
    );
    let from: DateTime<Utc> = "2026-10-24T23:00:00Z".parse().unwrap();
    let record = QueryRecord {
        capture: None,
        earlier: BTreeMap::new(),
        dashboard: "ferries".into(),
        name: "q".into(),
        source: "ops".into(),
        source_title: "Operations".into(),
        text: "select 1".into(),
        started: from,
        ended: from,
        note: None,
        outcome,
    };
    let snapshot = Snapshot {
        blobs: maple_lark_document::capture::Blobs::new(),
        layout: Snapshot::LAYOUT,
        run_id: "run".into(),
        report: "daily".into(),
        scheduled_for: from,
        made_at: from,
        window: Window {
            from,
            to: from + TimeDelta::hours(25),
            zone: "Atlantic/Faroe".parse().unwrap(),
            within: None,
        },
        zone_rules: None,
        incomplete: None,
        archive_head: None,
        values: BTreeMap::new(),
        definitions: vec![
            FrozenDefinition {
                file: "r".into(),
                text: daily().to_string(),
            },
            FrozenDefinition {
                file: "d".into(),
                text: dashboard,
            },
        ],
        queries: vec![record],
    };
    compose(&snapshot)
        .unwrap()
        .sections
        .remove(0)
        .blocks
        .remove(0)
        .body
}

/// Every kind with every data, where it makes a chart; where it does not, it says why.
fn every_chart() -> Vec<(String, Chart)> {
    let mut charts = Vec::new();
    for (kind, block) in KINDS {
        for (case, rows) in cases() {
            let name = format!("{kind}, {case}");
            match composed(block, table(&rows)) {
                Body::Chart { chart } => charts.push((name, chart)),
                Body::Failed { reason } => assert!(reason.len() > 10, "{name}: {reason}"),
                Body::Empty { sentence, .. } => {
                    assert!(sentence.ends_with('.'), "{name}: {sentence}")
                }
                other => panic!("{name}: {other:?}"),
            }
        }
    }
    charts
}

fn numbers(svg: &str, attribute: &str) -> Vec<f64> {
    let name = format!(" {attribute}=\"");
    let values = svg
        .split(&name)
        .skip(1)
        .filter_map(|rest| rest.split('"').next());
    values
        .flat_map(|value| value.split_whitespace())
        .map(|number| {
            number
                .parse::<f64>()
                .unwrap_or_else(|_| panic!("{attribute}: {number}"))
        })
        .collect()
}

#[test]
fn every_kind_shows_ordinary_data() {
    for (kind, block) in KINDS {
        let (_, rows) = cases().remove(0);
        assert!(
            matches!(composed(block, table(&rows)), Body::Chart { .. }),
            "{kind}"
        );
    }
}

#[test]
fn what_is_drawn_is_on_the_canvas_whatever_the_data() {
    let widths: [Width; 4] =
        ["third", "half", "two-thirds", "full"].map(|word| word.parse().unwrap());
    let mut off = Vec::new();
    for (name, drawn) in every_chart() {
        for width in widths {
            let size = Size::of(width);
            let (room, height) = (size.width(), chart::height(&drawn, size));
            let svg = chart::svg(&drawn, size);
            assert!(
                !svg.contains("NaN") && !svg.contains("inf"),
                "{name}: {svg}"
            );
            assert!(height > 20.0 && height < 2000.0, "{name}: {height}");
            let points = numbers(&svg, "points");
            for pair in points.chunks(2) {
                let [x, y] = pair else {
                    panic!("{name}: a point without a y")
                };
                if !(-1.5..=room + 1.5).contains(x) || !(-1.5..=height + 1.5).contains(y) {
                    off.push(format!(
                        "{name}, {width:?}: ({x}, {y}) on {room} × {height}"
                    ));
                }
            }
            for y in svg
                .split("<text ")
                .skip(1)
                .flat_map(|text| numbers(&format!(" {text}"), "y"))
            {
                if !(0.0..=height + 1.0).contains(&y) {
                    off.push(format!("{name}, {width:?}: a text at {y} of {height}"));
                }
            }
        }
    }
    assert!(
        off.is_empty(),
        "{} places, such as\n{}",
        off.len(),
        off.join("\n").chars().take(3000).collect::<String>()
    );
}

#[test]
fn a_description_says_what_is_shown_without_markup() {
    for (name, drawn) in every_chart() {
        assert!(
            drawn.description.contains("B & <b>"),
            "{name}: {}",
            drawn.description
        );
        let svg = chart::svg(&drawn, Size::FULL);
        let title = svg
            .split("<title>")
            .nth(1)
            .and_then(|rest| rest.split("</title>").next())
            .unwrap_or_else(|| panic!("{name} has no title"));
        assert!(
            title.contains("B &amp; &lt;b&gt;") && !title.contains("<b>"),
            "{name}: {title}"
        );
        assert!(
            svg.matches("<svg").count() == 1 && svg.ends_with("</svg>"),
            "{name}"
        );
        // Another program can read it.
        resvg::usvg::Tree::from_str(&svg, &resvg::usvg::Options::default())
            .unwrap_or_else(|error| panic!("{name}: {error}"));
    }
}

#[test]
fn the_same_chart_is_the_same_svg_and_nothing_depends_on_what_was_drawn_before() {
    let charts = every_chart();
    let first: Vec<String> = charts
        .iter()
        .map(|(_, drawn)| chart::svg(drawn, Size::HALF))
        .collect();
    let again: Vec<String> = charts
        .iter()
        .rev()
        .map(|(_, drawn)| chart::svg(drawn, Size::HALF))
        .collect();
    assert!(first.iter().eq(again.iter().rev()));
}

#[test]
fn a_gap_is_a_gap_and_never_a_line_through_nothing() {
    let with_gap = |n: usize| (!(9..15).contains(&n)).then_some(10.0 + n as f64);
    let rows: Vec<Row> = rows(with_gap, |_| None)
        .into_iter()
        .filter(|row| row.1 == "booking")
        .collect();
    let Body::Chart { chart: drawn } = composed(KINDS[0].1, table(&rows)) else {
        panic!()
    };
    let Plot::Lines { series, .. } = &drawn.plot else {
        panic!()
    };
    assert_eq!(
        series[0].stretches.iter().map(Vec::len).collect::<Vec<_>>(),
        [3, 3]
    );
    let svg = chart::svg(&drawn, Size::FULL);
    let colour = palette::series(series[0].colour);
    let lines: Vec<Vec<f64>> = svg
        .split("<polyline ")
        .skip(1)
        .filter(|line| line.contains(&format!("stroke=\"{colour}\"")))
        .map(|line| numbers(&format!(" {line}"), "points"))
        .collect();
    assert_eq!(lines.len(), 2, "{svg}");
    assert!(
        lines[0][lines[0].len() - 2] < lines[1][0],
        "nothing is drawn between the two"
    );
}

#[test]
fn a_figure_in_html_takes_the_colours_of_a_dark_page_and_keeps_its_own_elsewhere() {
    let document = document(disks(&[("a", 95.5), ("b", 40.0)]));
    let html = html(&document).unwrap();
    let dark = html
        .split("@media screen and (prefers-color-scheme: dark)")
        .nth(1)
        .unwrap()
        .split('\n')
        .next()
        .unwrap();
    let figures: Vec<&str> = html
        .split("<figure")
        .skip(1)
        .map(|figure| figure.split("</figure>").next().unwrap())
        .collect();
    assert!(!figures.is_empty());
    for figure in figures {
        assert!(!figure.contains("=\"#"), "a colour has no name: {figure}");
        for name in figure.split("=\"var(--").skip(1).map(|rest| &rest[..6]) {
            assert!(
                dark.contains(&format!("--{name}: #")),
                "{name} has no dark form in {dark}"
            );
            assert!(figure.contains(&format!("var(--{name},#{name})")), "{name}");
        }
    }
    // Where there are no variables the colours stand as they are.
    let body = mail_body(&document, MailContent::Full, &Context::default()).unwrap();
    assert!(!body.html.unwrap().contains("var("));
}

/// The values that stand behind a chart, in a document like any other.
fn values_of(chart: &Chart) -> chart::values::Values {
    chart::values::values(chart, &document(disks(&[("a", 1.0)])))
}

#[test]
fn every_chart_has_its_values_as_a_table_behind_it() {
    for (name, chart) in every_chart() {
        let shown = values_of(&chart);
        assert!(shown.rows.len() <= 48, "{name}");
        let width = shown.headings.len();
        assert!(
            shown.rows.iter().all(|row| row.len() == width),
            "{name}: {shown:?}"
        );
        assert!(
            !name.ends_with("ordinary") || !shown.rows.is_empty(),
            "{name}"
        );
        assert!(
            shown
                .rows
                .iter()
                .flatten()
                .all(|cell| !cell.contains("NaN")),
            "{name}: {shown:?}"
        );
    }
}

#[test]
fn values_over_time_are_those_of_the_rows_and_of_many_the_last_of_each_stretch() {
    let chart = |block: &str, rows: &[Row]| match composed(block, table(rows)) {
        Body::Chart { chart } => chart,
        other => panic!("{other:?}"),
    };
    let line = "show = \"line\"\ntime = \"at\"\nvalue = \"used\"\nseries = \"name\"";
    let few = [
        (0, "booking", "a", Some(12.5), None),
        (0, "payments", "a", Some(80.0), None),
        (60, "booking", "a", None, None),
        (60, "payments", "a", Some(81.27), None),
        (120, "booking", "a", Some(14.0), None),
    ];
    let shown = values_of(&chart(line, &few));
    assert_eq!(shown.headings, ["Time", "booking (%)", "payments (%)"]);
    assert_eq!(
        shown.rows,
        [
            ["25\u{a0}Oct\u{a0}00:00", "12.5", "80.0"],
            // The zone's clock is put back at two.
            ["25\u{a0}Oct\u{a0}01:00", "–", "81.3"],
            ["25\u{a0}Oct\u{a0}01:00\u{a0}(UTC+00:00)", "14.0", "–"],
        ]
    );
    assert_eq!(shown.note, None);
    let many: Vec<Row> = (0..1440)
        .map(|minute| (minute, "booking", "a", Some(minute as f64 / 100.0), None))
        .collect();
    let shown = values_of(&chart(line, &many));
    let note = shown.note.unwrap();
    assert!(note.starts_with("Each row stands for 1 hour "), "{note}");
    let rows = |place: usize| (shown.rows[place][0].as_str(), shown.rows[place][1].as_str());
    // The clock is put back at two, and the window ends an hour after the last value.
    assert_eq!(shown.rows.len(), 25);
    assert_eq!(rows(1), ("25\u{a0}Oct\u{a0}01:00", "1.2"));
    assert_eq!(rows(2), ("25\u{a0}Oct\u{a0}01:00\u{a0}(UTC+00:00)", "1.8"));
    assert_eq!(rows(23), ("25\u{a0}Oct\u{a0}22:00", "14.4"));
    assert_eq!(rows(24), ("25\u{a0}Oct\u{a0}23:00", "–"));
    // What stands on each other is taken apart again.
    let area = "show = \"stacked-area\"\ntime = \"at\"\nvalue = \"other\"\nseries = \"name\"";
    let sums = [
        (0, "booking", "a", None, Some(3.0)),
        (0, "payments", "a", None, Some(4.0)),
        (60, "booking", "a", None, Some(5.0)),
        (60, "payments", "a", None, Some(6.0)),
    ];
    let shown = values_of(&chart(area, &sums));
    let mut first: Vec<&str> = shown.rows[0][1..].iter().map(String::as_str).collect();
    first.sort_unstable();
    assert_eq!(first, ["3", "4"]);
}

#[test]
fn a_page_has_the_values_folded_away_and_a_mail_does_not() {
    let document = document(disks(&[("archive-<01>", 95.5), ("db", 40.0)]));
    let page = html(&document).unwrap();
    let parsed = scraper::Html::parse_document(&page);
    let all = |selector: &str| {
        parsed
            .select(&scraper::Selector::parse(selector).unwrap())
            .count()
    };
    assert!(all("details.values") > 0 && all("details[open]") == 0);
    assert_eq!(
        all("details.values"),
        all("details.values table.of-chart tbody tr:first-child")
    );
    assert!(!page.contains("archive-<01>"));
    assert!(!html_of_blocks(&document).unwrap().contains("<details"));
}
