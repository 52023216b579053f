//! The service's own measures as OTLP has them.

use chrono::{DateTime, Utc};
use opentelemetry_proto::tonic::metrics::v1::{
    Gauge, Metric, NumberDataPoint, metric::Data, number_data_point::Value,
};

use super::text;
use crate::measures::Family;

/// A gauge for each family that has samples.
pub fn of(families: &[Family], now: DateTime<Utc>) -> Vec<Metric> {
    let at = now
        .timestamp_nanos_opt()
        .and_then(|nanos| u64::try_from(nanos).ok())
        .unwrap_or_default();
    let known = families.iter().filter(|family| !family.samples.is_empty());
    let metric = |family: &Family| {
        let points = family.samples.iter().map(|sample| NumberDataPoint {
            attributes: sample
                .label
                .iter()
                .map(|(name, value)| text(name, value))
                .collect(),
            time_unix_nano: at,
            value: Some(Value::AsDouble(sample.value)),
            ..NumberDataPoint::default()
        });
        Metric {
            name: family.name.to_owned(),
            description: family.help.to_owned(),
            // As the Unified Code for Units of Measure writes them.
            unit: match family.unit {
                "seconds" => "s",
                "bytes" => "By",
                other => other,
            }
            .to_owned(),
            data: Some(Data::Gauge(Gauge {
                data_points: points.collect(),
            })),
            ..Metric::default()
        }
    };
    known.map(metric).collect()
}
