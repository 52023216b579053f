//! Zip: what is too large, or too many, as one file. The same files give the same bytes.

use std::io::{self, Cursor, Write};

use maple_lark_definition::Zip;
use zip::{CompressionMethod, DateTime, ZipWriter, write::SimpleFileOptions};

use crate::RenderError;

/// Takes the bytes of one file, and packs them once they have become too many, so that a
/// long table is never in memory unpacked.
pub struct Growing {
    name: String,
    limit: Option<u64>,
    made_at: i64,
    state: State,
}

/// How hard files are packed, of 9: at the usual 6 a long table takes nearly three times as long and is a twentieth
/// smaller.
const PACKED_AT: i64 = 3;

/// Bytes that a file may come to before it is given room at once. Room that is not used costs
/// nothing, but what grows by and by is copied each time it has doubled.
const LONG: u64 = 1 << 20;
const ROOM: usize = 64 << 20;

enum State {
    Plain(Vec<u8>),
    Packed(Box<ZipWriter<Cursor<Vec<u8>>>>),
}

impl Growing {
    pub fn new(name: String, zip: Zip, made_at: i64) -> Result<Self, RenderError> {
        let limit = match zip {
            Zip::Never => None,
            Zip::Always => Some(0),
            Zip::Over(limit) => Some(limit),
        };
        let mut growing = Self {
            name,
            limit,
            made_at,
            state: State::Plain(Vec::new()),
        };
        if zip == Zip::Always {
            growing.pack()?;
        }
        Ok(growing)
    }

    fn pack(&mut self) -> io::Result<()> {
        if let State::Plain(bytes) = &mut self.state {
            let bytes = std::mem::take(bytes);
            let mut zip = ZipWriter::new(Cursor::new(Vec::with_capacity(ROOM)));
            zip.start_file(&self.name, options(self.made_at))?;
            zip.write_all(&bytes)?;
            self.state = State::Packed(Box::new(zip));
        }
        Ok(())
    }

    /// The file's name and bytes.
    pub fn finish(self) -> Result<(String, Vec<u8>), RenderError> {
        Ok(match self.state {
            State::Plain(bytes) => (self.name, bytes),
            State::Packed(zip) => (
                format!("{}.zip", self.name),
                zip.finish().map_err(io::Error::from)?.into_inner(),
            ),
        })
    }
}

impl Write for Growing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if let State::Plain(all) = &mut self.state {
            let grown = (all.len() + bytes.len()) as u64;
            if self.limit.is_none_or(|limit| grown <= limit) {
                if all.capacity() - all.len() < bytes.len() && grown > LONG {
                    all.reserve_exact(
                        self.limit
                            .map_or(ROOM, |limit| limit as usize)
                            .max(2 * grown as usize)
                            - all.len(),
                    );
                }
                all.extend_from_slice(bytes);
                return Ok(bytes.len());
            }
            self.pack()?;
        }
        match &mut self.state {
            State::Packed(zip) => zip.write(bytes),
            State::Plain(_) => Err(io::ErrorKind::Other.into()),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// All of these files, each with its name, as one zip.
pub fn together(files: &[(String, Vec<u8>)], made_at: i64) -> Result<Vec<u8>, RenderError> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    for (name, bytes) in files {
        zip.start_file(name, options(made_at))
            .map_err(io::Error::from)?;
        zip.write_all(bytes)?;
    }
    Ok(zip.finish().map_err(io::Error::from)?.into_inner())
}

/// The time of every entry is that of the document, in UTC.
pub fn options(made_at: i64) -> SimpleFileOptions {
    let time = chrono::DateTime::from_timestamp(made_at, 0)
        .and_then(|at| DateTime::try_from(at.naive_utc()).ok())
        .unwrap_or_default();
    SimpleFileOptions::default()
        .compression_method(CompressionMethod::Deflated)
        .compression_level(Some(PACKED_AT))
        .last_modified_time(time)
        .unix_permissions(0o644)
}
