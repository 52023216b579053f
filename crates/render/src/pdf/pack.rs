//! Packs the objects of a PDF into compressed streams (PDF 1.5, ISO 32000-1, 7.5.7 and 7.5.8),
//! which PDF/A-3 allows: a tag for each cell of a long table is most of the file, and packs to a
//! quarter.
//!
//! The objects go from one file to the other as they are written, without being read: a library
//! that reads them all takes a hundred megabytes for it.

use std::io::{self, Write};

use flate2::{Compression, write::ZlibEncoder};

use crate::threads::side_by_side;

/// Objects in one stream: more pack better, fewer are read faster.
const IN_ONE_STREAM: usize = 400;

/// How hard the objects are packed, of 9: at the usual 6 they take two thirds longer and are a thirtieth smaller.
const PACKED_AT: Compression = Compression::new(3);

/// Where an object is in the packed file.
#[derive(Clone, Copy)]
enum Place {
    Free,
    At(u32),
    In { stream: u32, index: u16 },
}

/// The same PDF with packed objects, or nothing if it is not written as expected: with one table
/// of all objects at its end.
pub fn packed(bytes: &[u8]) -> Option<Vec<u8>> {
    let table = Table::read(bytes)?;
    let mut out = Vec::with_capacity(bytes.len() / 3);
    out.extend_from_slice(bytes.get(..*table.offsets.iter().flatten().min()?)?);
    let mut places = vec![Place::Free; table.offsets.len()];
    let mut loose = Vec::new();
    for (id, object) in table.objects(bytes)? {
        let body = inner(object, id)?;
        if body.ends_with(b"endstream") {
            places[id] = Place::At(u32::try_from(out.len()).ok()?);
            out.extend_from_slice(object);
        } else {
            loose.push((id, body));
        }
    }
    let (streams, first) = (
        loose.chunks(IN_ONE_STREAM),
        u32::try_from(places.len()).ok()?,
    );
    let streams: Vec<&[(usize, &[u8])]> = streams.collect();
    let written = side_by_side(0..streams.len(), |number| {
        together(streams[number], first + number as u32)
    });
    for (number, (objects, bytes)) in streams.iter().zip(written).enumerate() {
        let stream = first + number as u32;
        for (index, (id, _)) in objects.iter().enumerate() {
            places[*id] = Place::In {
                stream,
                index: index as u16,
            };
        }
        places.push(Place::At(u32::try_from(out.len()).ok()?));
        out.extend_from_slice(&bytes?);
    }
    let (start, id) = (u32::try_from(out.len()).ok()?, places.len() as u32);
    places.push(Place::At(start));
    let entries: Vec<u8> = places.iter().flat_map(Place::entry).collect();
    let about = format!(
        "/Type /XRef /W [1 4 2] /Size {} {}",
        places.len(),
        table.trailer
    );
    out.extend_from_slice(&stream(id, &about, &entries).ok()?);
    write!(out, "startxref\n{start}\n%%EOF").ok()?;
    Some(out)
}

/// Objects in one stream that has this number.
fn together(objects: &[(usize, &[u8])], number: u32) -> Option<Vec<u8>> {
    let (mut list, mut bodies) = (String::new(), Vec::new());
    for (id, body) in objects {
        list += &format!("{id} {} ", bodies.len());
        bodies.extend_from_slice(body);
        bodies.push(b'\n');
    }
    let first = list.len();
    bodies.splice(..0, list.into_bytes());
    let about = format!("/Type /ObjStm /N {} /First {first}", objects.len());
    stream(number, &about, &bodies).ok()
}

impl Place {
    /// Its line in the table: a kind, four bytes and two bytes.
    fn entry(&self) -> [u8; 7] {
        let (kind, first, second) = match self {
            Place::Free => (0, 0, u16::MAX),
            Place::At(offset) => (1, *offset, 0),
            Place::In { stream, index } => (2, *stream, *index),
        };
        let [a, b, c, d] = first.to_be_bytes();
        let [e, f] = second.to_be_bytes();
        [kind, a, b, c, d, e, f]
    }
}

/// Where the objects of a file are, by their numbers, and what its trailer says but the size.
struct Table {
    offsets: Vec<Option<usize>>,
    trailer: String,
}

impl Table {
    fn read(bytes: &[u8]) -> Option<Self> {
        let end = rfind(bytes, b"startxref")?;
        let start: usize = std::str::from_utf8(&bytes[end + 9..])
            .ok()?
            .split_whitespace()
            .next()?
            .parse()
            .ok()?;
        let text = bytes.get(start..end)?;
        let begin = rfind(text, b"trailer")?;
        let mut lines = std::str::from_utf8(&text[..begin])
            .ok()?
            .split_ascii_whitespace();
        if lines.next()? != "xref" || lines.next()? != "0" {
            return None;
        }
        let count: usize = lines.next()?.parse().ok()?;
        let mut offsets = Vec::with_capacity(count);
        for _ in 0..count {
            let (offset, generation, kind) =
                (lines.next()?.parse().ok()?, lines.next()?, lines.next()?);
            if kind == "n" && generation.parse() != Ok(0) {
                return None;
            }
            offsets.push((kind == "n").then_some(offset));
        }
        // Ids of the file may be any bytes.
        let trailer: String = text[begin + 7..]
            .iter()
            .map(|byte| char::from(*byte))
            .collect();
        let inside = trailer.trim().strip_prefix("<<")?.strip_suffix(">>")?;
        let (before, size) = inside.split_once("/Size")?;
        let after = size
            .trim_start()
            .trim_start_matches(|c: char| c.is_ascii_digit());
        (lines.next().is_none() && trailer.is_ascii()).then(|| Self {
            offsets,
            trailer: format!("{}{after}", before.trim_start()),
        })
    }

    /// The objects as they stand in the file, by their numbers.
    fn objects<'b>(&self, bytes: &'b [u8]) -> Option<Vec<(usize, &'b [u8])>> {
        let mut found: Vec<(usize, usize)> = self
            .offsets
            .iter()
            .enumerate()
            .filter_map(|(id, offset)| Some(((*offset)?, id)))
            .collect();
        found.sort_unstable();
        let end = rfind(bytes, b"xref\n0 ")
            .filter(|end| found.last().is_some_and(|(last, _)| last < end))?;
        let ends = found.iter().skip(1).map(|(offset, _)| *offset).chain([end]);
        found
            .iter()
            .zip(ends)
            .map(|((offset, id), end)| Some((*id, bytes.get(*offset..end)?)))
            .collect()
    }
}

/// What is between `7 0 obj` and `endobj`.
fn inner(object: &[u8], id: usize) -> Option<&[u8]> {
    let begun = object.strip_prefix(format!("{id} 0 obj").as_bytes())?;
    Some(begun[..rfind(begun, b"endobj")?].trim_ascii())
}

/// A compressed stream as an object.
fn stream(id: u32, about: &str, bytes: &[u8]) -> io::Result<Vec<u8>> {
    let mut packed = ZlibEncoder::new(Vec::new(), PACKED_AT);
    packed.write_all(bytes)?;
    let packed = packed.finish()?;
    let mut out = Vec::with_capacity(packed.len() + 200);
    write!(
        out,
        "{id} 0 obj\n<< {about} /Filter /FlateDecode /Length {} >>\nstream\n",
        packed.len()
    )?;
    out.write_all(&packed)?;
    out.write_all(b"\nendstream\nendobj\n")?;
    Ok(out)
}

fn rfind(bytes: &[u8], wanted: &[u8]) -> Option<usize> {
    bytes
        .windows(wanted.len())
        .rposition(|window| window == wanted)
}

#[cfg(test)]
mod tests {
    use super::*;

    const SMALL: &str = "%PDF-1.7\n%ab\n1 0 obj\n<< /Type /Catalog /Pages 2 0 R >>\nendobj\n2 0 obj\n<< /Type /Pages /Kids [] /Count 0 >>\nendobj\n3 0 obj\n<< /Length 2 >>\nstream\nq \nendstream\nendobj\n";

    fn whole() -> Vec<u8> {
        let at = |id: usize| SMALL.find(&format!("{id} 0 obj")).unwrap();
        let table: String = (1..=3)
            .map(|id| format!("{:010} 00000 n\r\n", at(id)))
            .collect();
        format!("{SMALL}xref\n0 4\n0000000000 65535 f\r\n{table}trailer\n<<\n  /Size 4\n  /Root 1 0 R\n>>\nstartxref\n{}\n%%EOF", SMALL.len()).into_bytes()
    }

    #[test]
    fn another_reader_finds_the_same_objects() {
        let packed = packed(&whole()).unwrap();
        let (one, other) = (
            lopdf::Document::load_mem(&whole()).unwrap(),
            lopdf::Document::load_mem(&packed).unwrap(),
        );
        for id in 1..=3 {
            assert_eq!(
                format!("{:?}", one.get_object((id, 0)).unwrap()),
                format!("{:?}", other.get_object((id, 0)).unwrap())
            );
        }
        assert_eq!(
            one.trailer.get(b"Root").unwrap(),
            other.trailer.get(b"Root").unwrap()
        );
        assert!(
            rfind(&packed, b"/ObjStm").is_some()
                && rfind(&packed, b"3 0 obj").is_some()
                && rfind(&packed, b"2 0 obj").is_none()
        );
    }

    #[test]
    fn what_is_written_otherwise_is_left_alone() {
        for (from, to) in [
            ("xref\n0 4", "xref\n1 4"),
            ("trailer", "tracker"),
            ("startxref\n", "startxref\n9"),
            ("1 0 obj", "9 0 obj"),
            ("00000 n", "00001 n"),
        ] {
            let other = String::from_utf8(whole()).unwrap().replacen(from, to, 1);
            assert!(packed(other.as_bytes()).is_none(), "{from}");
        }
        assert!(packed(b"").is_none() && packed(b"startxref").is_none());
    }
}
