//! Reads the OpenMetrics text format (and the older text format it grew out of).

use std::collections::BTreeMap;

/// A metric family: what is measured, in what unit, of what type.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Family {
    pub name: String,
    /// `counter`, `gauge`, `histogram` …; `unknown` if nothing is said.
    pub kind: String,
    pub unit: String,
    pub help: String,
    pub samples: Vec<Sample>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    /// With its suffix: `requests_total`, `latency_seconds_bucket`.
    pub name: String,
    pub labels: BTreeMap<String, String>,
    /// `NaN` where the exposer knows no value.
    pub value: f64,
    /// Milliseconds since 1970-01-01T00:00:00Z, if the exposer says when it measured.
    pub at_milliseconds: Option<i64>,
}

#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("line {line}: {reason}")]
pub struct BadLine {
    pub line: usize,
    pub reason: String,
}

const SUFFIXES: [&str; 8] = [
    "_total", "_created", "_bucket", "_count", "_sum", "_gcount", "_gsum", "_info",
];

/// All families of a text, in its order.
///
/// # Errors
/// The first line that cannot be read.
pub fn parse(text: &str) -> Result<Vec<Family>, BadLine> {
    let mut families: Vec<Family> = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let fail = |reason: &str| BadLine {
            line: index + 1,
            reason: reason.to_owned(),
        };
        let line = line.trim();
        if line == "# EOF" {
            break;
        }
        if let Some(comment) = line.strip_prefix('#') {
            let mut words = comment.trim_start().splitn(3, ' ');
            if let (Some(word @ ("TYPE" | "UNIT" | "HELP")), Some(name)) =
                (words.next(), words.next())
            {
                let rest = words.next().unwrap_or_default();
                let family = family_named(&mut families, name);
                match word {
                    "TYPE" => family.kind = rest.trim().to_owned(),
                    "UNIT" => family.unit = rest.trim().to_owned(),
                    _ => family.help = unescaped(rest),
                }
            }
        } else if !line.is_empty() {
            let sample = read_sample(line).map_err(fail)?;
            let base = base_name(&sample.name, &families).to_owned();
            family_named(&mut families, &base).samples.push(sample);
        }
    }
    Ok(families)
}

fn family_named<'a>(families: &'a mut Vec<Family>, name: &str) -> &'a mut Family {
    let place = families
        .iter()
        .position(|family| family.name == name)
        .unwrap_or_else(|| {
            families.push(Family {
                name: name.to_owned(),
                kind: "unknown".to_owned(),
                ..Family::default()
            });
            families.len() - 1
        });
    &mut families[place]
}

/// The family that a sample belongs to: its own name, or the name without a suffix if such a
/// family has been declared.
fn base_name<'a>(sample: &'a str, families: &[Family]) -> &'a str {
    let declared = |name: &str| families.iter().any(|family| family.name == name);
    if declared(sample) {
        return sample;
    }
    SUFFIXES
        .iter()
        .filter_map(|suffix| sample.strip_suffix(suffix))
        .find(|base| declared(base))
        .unwrap_or(sample)
}

fn read_sample(line: &str) -> Result<Sample, &'static str> {
    let name_end = line
        .find(|c: char| c == '{' || c.is_whitespace())
        .ok_or("a sample needs a value behind its name")?;
    let (name, mut rest) = line.split_at(name_end);
    let mut labels = BTreeMap::new();
    if let Some(inner) = rest.strip_prefix('{') {
        rest = read_labels(inner, &mut labels)?;
    }
    // What follows a number sign is an exemplar.
    let rest = rest.split_once('#').map_or(rest, |(before, _)| before);
    let mut words = rest.split_whitespace();
    let value = read_number(
        words
            .next()
            .ok_or("a sample needs a value behind its labels")?,
    )
    .ok_or("the value is not a number")?;
    let at = words
        .next()
        .map(|word| word.parse::<f64>().map_err(|_| "the time is not a number"))
        .transpose()?;
    // Seconds in OpenMetrics; the older format has milliseconds, which are far larger.
    let at_milliseconds = at.map(|at| {
        if at.abs() < 1e11 {
            (at * 1000.0).round() as i64
        } else {
            at as i64
        }
    });
    Ok(Sample {
        name: name.to_owned(),
        labels,
        value,
        at_milliseconds,
    })
}

fn read_number(word: &str) -> Option<f64> {
    match word {
        "+Inf" | "Inf" => Some(f64::INFINITY),
        "-Inf" => Some(f64::NEG_INFINITY),
        "NaN" => Some(f64::NAN),
        number => number.parse().ok(),
    }
}

/// Reads labels up to the closing brace; answers what follows it.
fn read_labels<'a>(
    mut text: &'a str,
    labels: &mut BTreeMap<String, String>,
) -> Result<&'a str, &'static str> {
    loop {
        text = text.trim_start().trim_start_matches(',').trim_start();
        if let Some(rest) = text.strip_prefix('}') {
            return Ok(rest);
        }
        let (name, rest) = text
            .split_once('=')
            .ok_or("a label has no value, or the braces are not closed")?;
        let rest = rest
            .trim_start()
            .strip_prefix('"')
            .ok_or("a label's value must stand in quotation marks")?;
        let mut escaped = false;
        let end = rest.char_indices().find(|(_, c)| {
            let ends = *c == '"' && !escaped;
            escaped = *c == '\\' && !escaped;
            ends
        });
        let (end, _) = end.ok_or("a label's value is never closed")?;
        labels.insert(name.trim().to_owned(), unescaped(&rest[..end]));
        text = &rest[end + 1..];
    }
}

fn unescaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut signs = text.chars();
    while let Some(c) = signs.next() {
        match c {
            '\\' => match signs.next() {
                Some('n') => out.push('\n'),
                Some(other) => out.push(other),
                None => out.push('\\'),
            },
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Put together after the examples of the OpenMetrics specification 1.0.
    const TEXT: &str = "# TYPE requests counter\n# UNIT latency_seconds seconds\n# HELP requests All requests\\nso far.\nrequests_total{path=\"/a\\\"b\\\\c\",code=\"200\"} 17 1520879607.789 # {trace=\"x\"} 0.5\nrequests_created{path=\"/\"} 1520872607.123\n# TYPE latency_seconds histogram\nlatency_seconds_bucket{le=\"0.1\"} 3\nlatency_seconds_bucket{le=\"+Inf\"} 4\nlatency_seconds_count 4\nlatency_seconds_sum 1.5e-1\nplain NaN\n# EOF\nnot read {";

    #[test]
    fn families_have_their_samples_types_units_and_help() {
        let families = parse(TEXT).unwrap();
        assert_eq!(
            families
                .iter()
                .map(|f| (f.name.as_str(), f.kind.as_str(), f.samples.len()))
                .collect::<Vec<_>>(),
            [
                ("requests", "counter", 2),
                ("latency_seconds", "histogram", 4),
                ("plain", "unknown", 1)
            ]
        );
        assert_eq!(
            (families[0].help.as_str(), families[1].unit.as_str()),
            ("All requests\nso far.", "seconds")
        );
        let first = &families[0].samples[0];
        assert_eq!(
            (
                first.value,
                first.at_milliseconds,
                first.labels["path"].as_str()
            ),
            (17.0, Some(1_520_879_607_789), "/a\"b\\c")
        );
        assert!(families[2].samples[0].value.is_nan());
    }

    #[test]
    fn a_bad_line_is_named() {
        for (text, wanted) in [
            (
                "a 1\nb{x=1} 2",
                "line 2: a label's value must stand in quotation marks",
            ),
            (
                "b{x=\"1\" 2",
                "line 1: a label has no value, or the braces are not closed",
            ),
            ("b{x=\"1} 2", "line 1: a label's value is never closed"),
            ("<html>", "line 1: a sample needs a value behind its name"),
            ("a one", "line 1: the value is not a number"),
        ] {
            assert_eq!(parse(text).unwrap_err().to_string(), wanted, "{text}");
        }
    }
}
