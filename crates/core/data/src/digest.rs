//! SHA-256 of texts and streams.

use std::{io, io::Write};

use crate::packed::PackedTable;
use sha2::{Digest, Sha256};

/// SHA-256 in small hexadecimal letters.
#[must_use]
pub fn sha256(bytes: &[u8]) -> String {
    hex::encode(Sha256::digest(bytes))
}

/// SHA-256 of a table's canonical JSON, which is not made in one piece for it.
#[must_use]
pub fn sha256_of(table: &PackedTable) -> String {
    let mut digest = Digesting::new(io::sink());
    // As in `seal`: this cannot fail.
    let _ = serde_json::to_writer(io::BufWriter::new(&mut digest), table);
    digest.finish().0
}

/// Passes bytes on and works out their SHA-256 meanwhile.
pub struct Digesting<W> {
    digest: Sha256,
    beside: W,
}

impl<W: Write> Digesting<W> {
    /// Passes what is written on to `beside`, and digests it on the way.
    pub fn new(beside: W) -> Self {
        Self {
            digest: Sha256::new(),
            beside,
        }
    }

    /// The SHA-256 of all that was written, and the writer it went on to.
    pub fn finish(self) -> (String, W) {
        (hex::encode(self.digest.finalize()), self.beside)
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
