//! Files of columns (Apache Parquet), read row by row.

use bytes::Bytes;
use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use parquet::{
    basic::{LogicalType, TimeUnit},
    errors::ParquetError,
    file::{reader::FileReader, serialized_reader::SerializedFileReader},
    record::Field,
    schema::types::Type,
};
use serde_json::Value as Json;

/// Why a file of columns cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum BadColumns {
    #[error("it is no Parquet that can be read: {0}")]
    Format(#[from] ParquetError),
    #[error("it would have more than {} MB unpacked", .0.div_ceil(1_000_000))]
    TooLarge(u64),
}

/// How the instants of a column are told.
#[derive(Debug, Clone, Copy)]
struct Instants {
    /// Whether they are instants; else they are what a clock on a wall showed.
    is_utc: bool,
    /// Whether its numbers are nanoseconds, which the rows have as they are.
    nanoseconds: bool,
}

/// A file of columns.
pub struct Columns {
    file: SerializedFileReader<Bytes>,
    names: Vec<String>,
    instants: Vec<Option<Instants>>,
}

impl Columns {
    /// # Errors
    /// If it is none, or what is unpacked would be larger than `most` bytes.
    pub fn open(bytes: Vec<u8>, most: u64) -> Result<Self, BadColumns> {
        let file = SerializedFileReader::new(Bytes::from(bytes))?;
        let groups = file.metadata().row_groups().iter();
        let size = groups.fold(0_u64, |size, group| {
            size.saturating_add(group.total_byte_size().try_into().unwrap_or(u64::MAX))
        });
        if size > most {
            return Err(BadColumns::TooLarge(most));
        }
        let root = file.metadata().file_metadata().schema_descr().root_schema();
        let columns = root.get_fields();
        let names = columns.iter().map(|column| column.name().to_owned());
        let instants = columns.iter().map(|column| instants(column));
        Ok(Self {
            names: names.collect(),
            instants: instants.collect(),
            file,
        })
    }

    /// What the columns are called.
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// The rows: numbers, texts and truths; dates and times as texts of ISO 8601, those of a clock on a wall
    /// without an offset; lists and groups as JSON; what is no text in Base64.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn rows(
        &self,
    ) -> Result<impl Iterator<Item = Result<Vec<Json>, BadColumns>> + '_, BadColumns> {
        let rows = self.file.get_row_iter(None)?;
        Ok(rows.map(|row| {
            let cells = row?.into_columns().into_iter().zip(&self.instants);
            Ok(cells
                .map(|((_, field), instants)| cell(&field, *instants))
                .collect())
        }))
    }
}

fn instants(column: &Type) -> Option<Instants> {
    match column.get_basic_info().logical_type_ref()? {
        LogicalType::Timestamp(kind) => Some(Instants {
            is_utc: kind.is_adjusted_to_u_t_c,
            nanoseconds: kind.unit == TimeUnit::NANOS,
        }),
        _ => None,
    }
}

fn cell(field: &Field, instants: Option<Instants>) -> Json {
    let told = |at: Option<DateTime<Utc>>| match at {
        None => Json::Null,
        Some(at) if instants.is_some_and(|column| !column.is_utc) => at
            .naive_utc()
            .format("%Y-%m-%dT%H:%M:%S%.f")
            .to_string()
            .into(),
        Some(at) => at.format("%Y-%m-%dT%H:%M:%S%.fZ").to_string().into(),
    };
    match field {
        Field::TimestampMillis(at) => told(DateTime::from_timestamp_millis(*at)),
        Field::TimestampMicros(at) => told(DateTime::from_timestamp_micros(*at)),
        Field::Long(at) if instants.is_some_and(|column| column.nanoseconds) => {
            told(Some(DateTime::from_timestamp_nanos(*at)))
        }
        Field::Date(days) => {
            let date = NaiveDate::default().checked_add_signed(TimeDelta::days(i64::from(*days)));
            date.map_or(Json::Null, |date| date.to_string().into())
        }
        Field::Group(_) | Field::ListInternal(_) | Field::MapInternal(_) => {
            field.to_json_value().to_string().into()
        }
        other => other.to_json_value(),
    }
}
