//! SHA-256 of texts and streams.

use std::{io, io::Write, panic::resume_unwind, sync::mpsc, thread};

use crate::packed::PackedTable;
use ring::digest::{Context, SHA256, digest};
use serde::Serialize;

/// SHA-256 in small hexadecimal letters.
#[must_use]
pub fn sha256(bytes: &[u8]) -> String {
    hex::encode(digest(&SHA256, bytes))
}

/// SHA-256 of a table's canonical JSON, which is not made in one piece for it.
#[must_use]
pub fn sha256_of(table: &PackedTable) -> String {
    let mut digest = Digesting::new(io::sink());
    // As in `seal`: this cannot fail.
    let _ = written(table, table.size(), &mut digest);
    digest.finish().0
}

/// Rows of at least so many bytes are written by one thread and passed on by another.
const LONG: usize = 1 << 20;
/// So many bytes are passed from one to the other at a time, at most so many times ahead.
const PASSED: usize = 1 << 18;
const AHEAD: usize = 4;

/// Writes JSON that has so many bytes of rows. What `to` does with them, such as packing, is done beside the writing
/// if they are many.
///
/// # Errors
/// If something has no JSON form, or `to` takes no more.
pub fn written(what: &impl Serialize, rows: usize, to: &mut (impl Write + Send)) -> io::Result<()> {
    if rows < LONG {
        return Ok(serde_json::to_writer(io::BufWriter::new(to), what)?);
    }
    let (sender, receiver) = mpsc::sync_channel::<Vec<u8>>(AHEAD);
    thread::scope(|scope| {
        let passing = move || receiver.iter().try_for_each(|part| to.write_all(&part));
        let passing = scope.spawn(passing);
        let mut writer = io::BufWriter::with_capacity(PASSED, Passing(sender));
        let written = serde_json::to_writer(&mut writer, what);
        let written = written
            .map_err(io::Error::from)
            .and_then(|()| writer.flush());
        // The other ends when nothing can come any more.
        drop(writer);
        let passed = passing.join().unwrap_or_else(|panic| resume_unwind(panic));
        // If `to` has failed, its error says why; that of the closed channel does not.
        passed.and(written)
    })
}

/// Passes what is written to another thread.
struct Passing(mpsc::SyncSender<Vec<u8>>);

impl Write for Passing {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let passed = self.0.send(bytes.to_vec());
        passed.map_err(|_| io::Error::from(io::ErrorKind::BrokenPipe))?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Passes bytes on and works out their SHA-256 meanwhile.
pub struct Digesting<W> {
    digest: Context,
    beside: W,
}

impl<W: Write> Digesting<W> {
    /// Passes what is written on to `beside`, and digests it on the way.
    pub fn new(beside: W) -> Self {
        Self {
            digest: Context::new(&SHA256),
            beside,
        }
    }

    /// The SHA-256 of all that was written, and the writer it went on to.
    pub fn finish(self) -> (String, W) {
        (hex::encode(self.digest.finish()), self.beside)
    }
}

impl<W: Write> Write for Digesting<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.beside.write(bytes)?;
        self.digest.update(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.beside.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        Column, ColumnKind, Value,
        stop::{Stop, Stopped, under},
    };

    /// Takes so many bytes, and then no more.
    struct Full(usize);

    impl Write for Full {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            let left = self.0.checked_sub(bytes.len());
            self.0 = left.ok_or_else(|| io::Error::other("the disk is full"))?;
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    fn rows(count: usize) -> PackedTable {
        let mut table = PackedTable::new(vec![Column {
            name: "text".to_owned(),
            kind: ColumnKind::Text,
        }]);
        for n in 0..count {
            table.push(&[Value::Text(format!("row {n} of many, \"quoted\""))]);
        }
        table
    }

    #[test]
    fn long_rows_are_digested_as_they_are_written_in_one_piece() {
        assert_eq!(
            sha256(b"abc"),
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"
        );
        for count in [3, 60_000] {
            let table = rows(count);
            assert_eq!(table.size() >= LONG, count > 3, "{}", table.size());
            let whole = serde_json::to_vec(&table).unwrap();
            assert_eq!(sha256_of(&table), sha256(&whole));
        }
    }

    #[test]
    fn what_is_written_beside_ends_with_either_side() {
        let table = rows(60_000);
        let refused = written(&table, table.size(), &mut Full(PASSED)).unwrap_err();
        assert_eq!(refused.to_string(), "the disk is full");
        let stop = Stop::default();
        stop.stop();
        let stopped = under(&stop, || written(&table, table.size(), &mut io::sink()));
        assert_eq!(stopped.map(drop), Err(Stopped));
    }
}
