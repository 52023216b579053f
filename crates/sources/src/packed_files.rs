//! Files that are packed (gzip by RFC 1952, zip), and workbooks of spreadsheets.

use std::io::{BufReader, Cursor, Read, Seek, SeekFrom};

use calamine::{Data, Reader as _, open_workbook_auto_from_rs};
use flate2::read::MultiGzDecoder;
use zip::ZipArchive;

/// An archive may have so many files.
const MOST_MEMBERS: usize = 10_000;

/// How the beginning of a file says that it is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Packing {
    No,
    Gzip,
    Zip,
}

impl Packing {
    fn of(beginning: &[u8]) -> Self {
        match beginning {
            [0x1f, 0x8b, ..] => Self::Gzip,
            [b'P', b'K', 3, 4] | [b'P', b'K', 5, 6] => Self::Zip,
            _ => Self::No,
        }
    }
}

/// Hands what is in a file to `take`, each member of an archive by itself and in the order of their names,
/// until `take` has enough. What it gets is as long as it reads: it is unpacked on the way.
///
/// # Errors
/// What `take` says, and why an archive cannot be read.
pub fn each_member<E>(
    name: &str,
    mut file: impl Read + Seek,
    failed: impl Fn(String) -> E,
    mut take: impl FnMut(&str, &mut dyn Read) -> Result<bool, E>,
) -> Result<(), E> {
    let unreadable = |error: std::io::Error| failed(format!("{name} cannot be read: {error}"));
    let mut beginning = [0; 4];
    let mut read = 0;
    while read < beginning.len() {
        match file.read(&mut beginning[read..]).map_err(unreadable)? {
            0 => break,
            more => read += more,
        }
    }
    file.seek(SeekFrom::Start(0)).map_err(unreadable)?;
    match Packing::of(&beginning[..read]) {
        Packing::No => take(name, &mut file).map(drop),
        Packing::Gzip => take(name, &mut MultiGzDecoder::new(BufReader::new(file))).map(drop),
        Packing::Zip => {
            let unpacked = |error: zip::result::ZipError| {
                failed(format!("{name} is an archive that cannot be read: {error}"))
            };
            let mut archive = ZipArchive::new(BufReader::new(file)).map_err(unpacked)?;
            if archive.len() > MOST_MEMBERS {
                return Err(failed(format!(
                    "{name} is an archive of more than {MOST_MEMBERS} files"
                )));
            }
            let names = archive.file_names().map(|name| name.map(String::from));
            let mut members = names.collect::<Result<Vec<_>, _>>().map_err(unpacked)?;
            members.retain(|member| !member.ends_with('/'));
            members.sort();
            for member in members {
                let mut inside = archive.by_name(&member).map_err(unpacked)?;
                if !take(&format!("{name}/{member}"), &mut inside)? {
                    break;
                }
            }
            Ok(())
        }
    }
}

/// Why a workbook cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum BadWorkbook {
    #[error("it is no workbook that can be read: {0}")]
    Format(#[from] calamine::Error),
    #[error("it would have more than {} MB unpacked", .0.div_ceil(1_000_000))]
    TooLarge(u64),
    #[error("it has no sheet")]
    NoSheet,
    #[error("it has no sheet \"{wanted}\".{near} There are: {}", .there.join(", "))]
    OtherSheets {
        wanted: String,
        near: String,
        there: Vec<String>,
    },
}

/// The rows of a sheet, from the first that has something in it; the first sheet if none is named. A
/// cell is a text, a number, a truth or missing; dates and times are texts as in ISO 8601.
///
/// # Errors
/// If there is no such sheet, or what is unpacked would be larger than `most` bytes.
pub fn sheet(
    bytes: Vec<u8>,
    wanted: Option<&str>,
    most: u64,
) -> Result<Vec<Vec<serde_json::Value>>, BadWorkbook> {
    if Packing::of(bytes.get(..4).unwrap_or_default()) == Packing::Zip
        && let Ok(mut archive) = ZipArchive::new(Cursor::new(&bytes))
    {
        let mut size = 0u64;
        for member in 0..archive.len() {
            size = size.saturating_add(archive.by_index_raw(member).map_or(0, |one| one.size()));
        }
        if size > most {
            return Err(BadWorkbook::TooLarge(most));
        }
    }
    let mut workbook = open_workbook_auto_from_rs(Cursor::new(bytes))?;
    let there = workbook.sheet_names();
    let name = match wanted {
        None => there.first().cloned().ok_or(BadWorkbook::NoSheet)?,
        Some(wanted) if there.iter().any(|name| name == wanted) => wanted.to_owned(),
        Some(wanted) => {
            let near =
                maple_lark_time::nearest::suggestion(wanted, there.iter().map(String::as_str));
            return Err(BadWorkbook::OtherSheets {
                wanted: wanted.to_owned(),
                near,
                there,
            });
        }
    };
    let range = workbook.worksheet_range(&name)?;
    let rows = range.rows().map(|row| row.iter().map(cell).collect());
    Ok(rows
        .skip_while(|row: &Vec<serde_json::Value>| row.iter().all(serde_json::Value::is_null))
        .collect())
}

fn cell(data: &Data) -> serde_json::Value {
    match data {
        Data::Empty | Data::Error(_) => serde_json::Value::Null,
        Data::String(text) | Data::DateTimeIso(text) | Data::DurationIso(text) => {
            text.clone().into()
        }
        Data::Int(whole) => (*whole).into(),
        Data::Float(number) if number.fract() == 0.0 && number.abs() < 9e15 => {
            (*number as i64).into()
        }
        Data::Float(number) => (*number).into(),
        Data::Bool(truth) => (*truth).into(),
        Data::DateTime(at) => match at.as_datetime() {
            Some(at) if at.time() == chrono::NaiveTime::MIN => {
                at.date().format("%Y-%m-%d").to_string().into()
            }
            Some(at) => at.format("%Y-%m-%dT%H:%M:%S%.f").to_string().into(),
            None => at.as_f64().into(),
        },
    }
}
