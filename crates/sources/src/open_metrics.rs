//! Metrics that an HTTP endpoint exposes as OpenMetrics text.

use std::collections::BTreeSet;

use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{Metrics, Source, Web};
use maple_lark_time::nearest::suggestion;
use reqwest::Method;

use crate::{
    Answer, Greeting, Reader, SourceError,
    open_metrics_text::{self, Family, Sample},
    threads::computed,
    web::{Call, shown},
};

const ACCEPT: &str =
    "application/openmetrics-text; version=1.0.0, text/plain; version=0.0.4; q=0.5";

pub async fn families(
    reader: &Reader,
    source: &Source,
    web: &Web,
) -> Result<(Vec<Family>, String), SourceError> {
    let url = reader.url(source, web, "").await?;
    let address = shown(&url);
    let call = Call {
        method: Method::GET,
        url,
        headers: vec![("accept".to_owned(), ACCEPT.to_owned())],
        body: None,
    };
    let response = reader.call(source, web, &call).await?;
    let bytes = reader.bytes(source, &address, response).await?;
    let (source_name, of) = (source.name.clone(), address.clone());
    let failed = move |words: String| SourceError::Answer {
        source_name: source_name.clone(),
        address: of.clone(),
        words,
    };
    let families = computed(source, move || {
        let text = String::from_utf8(bytes).map_err(|_| failed("it is not UTF-8".to_owned()))?;
        open_metrics_text::parse(&text)
            .map_err(|error| failed(format!("it is not OpenMetrics: {error}")))
    });
    Ok((families.await?, address))
}

/// One row a sample: the metric, if several were asked for, a column for each label that
/// occurs, and the value. A family's name means all its samples; a counter's means its
/// total.
#[expect(
    clippy::too_many_lines,
    reason = "reads a page and picks series and labels from it"
)]
pub async fn read(
    reader: &Reader,
    source: &Source,
    web: &Web,
    metrics: &Metrics,
) -> Result<Answer, SourceError> {
    let (families, address) = families(reader, source, web).await?;
    let mut found: Vec<&Sample> = Vec::new();
    for name in &metrics.names {
        let wanted = |family: &Family, sample: &Sample| match family.name == *name {
            true if family.kind == "counter" => {
                sample.name == *name || sample.name == format!("{name}_total")
            }
            true if family.kind == "histogram" => sample.name == format!("{name}_bucket"),
            true => true,
            false => sample.name == *name,
        };
        let before = found.len();
        found.extend(families.iter().flat_map(|family| {
            family
                .samples
                .iter()
                .filter(move |sample| wanted(family, sample))
        }));
        let declared = families.iter().any(|family| family.name == *name);
        if found.len() == before && !declared {
            let near = suggestion(name, families.iter().map(|family| family.name.as_str()));
            return Err(SourceError::Query {
                source_name: source.name.clone(),
                words: format!("{address} has no metric \"{name}\".{near}"),
            });
        }
    }
    found.retain(|sample| {
        metrics.labels.iter().all(|(label, values)| {
            values.contains(sample.labels.get(label).unwrap_or(&String::new()))
        })
    });
    let labels: BTreeSet<&str> = found
        .iter()
        .flat_map(|sample| sample.labels.keys().map(String::as_str))
        .collect();
    let several = metrics.names.len() > 1;
    let text = |name: &str| Column {
        name: name.to_owned(),
        kind: ColumnKind::Text,
    };
    let mut columns: Vec<Column> = several.then(|| text("metric")).into_iter().collect();
    // A label must not hide the value or the metric.
    let free = |label: &str| {
        if ["metric", "value", "at"].contains(&label) {
            format!("label_{label}")
        } else {
            label.to_owned()
        }
    };
    columns.extend(labels.iter().map(|label| text(&free(label))));
    columns.push(Column {
        name: "value".to_owned(),
        kind: ColumnKind::Number,
    });
    let row = |sample: &&Sample| {
        let metric = several.then(|| Value::Text(sample.name.clone()));
        let cells = labels.iter().map(|label| {
            sample
                .labels
                .get(*label)
                .map_or(Value::Missing, |value| Value::Text(value.clone()))
        });
        let value = if sample.value.is_nan() {
            Value::Missing
        } else {
            Value::Number(sample.value)
        };
        metric.into_iter().chain(cells).chain([value]).collect()
    };
    let truncated = found.len() > source.row_limit;
    let rows = found.iter().take(source.row_limit).map(row).collect();
    Ok(Answer::of(
        Table {
            columns,
            rows,
            truncated,
        },
        format!("GET {address}"),
    ))
}

pub async fn greet(reader: &Reader, source: &Source, web: &Web) -> Result<Greeting, SourceError> {
    let (families, address) = families(reader, source, web).await?;
    let samples: usize = families.iter().map(|family| family.samples.len()).sum();
    Ok(Greeting {
        found: format!(
            "{} metrics with {samples} samples at {address}",
            families.len()
        ),
        warning: None,
    })
}
