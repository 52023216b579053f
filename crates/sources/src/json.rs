//! Answers in JSON, which may take many times their length in memory.

use maple_lark_definition::Source;
use serde_json::Value as Json;

use crate::SourceError;

/// What one value takes beside its text: the value itself, and its place in a list or a table of
/// names.
const BYTES_OF_A_VALUE: usize = 64;
/// So many times its size an answer may take in memory while it is read.
const MOST_TIMES: u64 = 4;

/// Reads an answer, after a look at what it would take.
///
/// # Errors
/// If that is more than the source's `max-size` allows, or it is no JSON.
pub(crate) fn parse(source: &Source, address: &str, bytes: &[u8]) -> Result<Json, SourceError> {
    let most = source.max_bytes.saturating_mul(MOST_TIMES);
    if weight(bytes) as u64 > most {
        return Err(SourceError::TooHeavy {
            source_name: source.name.clone(),
            megabytes: most.div_ceil(1_000_000),
        });
    }
    serde_json::from_slice(bytes).map_err(|error| SourceError::Answer {
        source_name: source.name.clone(),
        address: address.to_owned(),
        words: format!("it is not JSON: {error}"),
    })
}

/// How many bytes of memory the values of a JSON text take, roughly.
fn weight(bytes: &[u8]) -> usize {
    let (mut values, mut quoted, mut escaped) = (1_usize, false, false);
    for byte in bytes {
        match byte {
            _ if escaped => escaped = false,
            b'\\' if quoted => escaped = true,
            b'"' => quoted = !quoted,
            b',' | b'[' | b'{' if !quoted => values += 1,
            _ => {}
        }
    }
    bytes.len() + values * BYTES_OF_A_VALUE
}

#[cfg(test)]
mod tests {
    use maple_lark_definition::Definition;

    use super::*;

    #[test]
    fn a_short_text_of_many_values_is_heavy_and_a_long_text_of_one_is_not() {
        assert_eq!(
            weight(b"{\"a\": [1, 2, \"[,\\\"[\"]}"),
            22 + 5 * BYTES_OF_A_VALUE
        );
        let many = "[],".repeat(1000);
        let one = format!("\"{}\"", ",".repeat(3000));
        assert!(weight(many.as_bytes()) > 40 * weight(one.as_bytes()));
    }

    #[test]
    fn what_is_too_heavy_is_refused_before_it_is_read() {
        let text = "[source]\nname = \"s\"\nkind = \"http-json\"\nurl = \"https://x.orrin-sound.example\"\nmax-size = \"1 MB\"\n";
        let Ok(Definition::Source(source)) = Definition::parse("s.toml", text) else {
            panic!("it is a source");
        };
        assert!(parse(&source, "x", b"[1, 2]").is_ok());
        // No JSON at all: it is not read.
        let many = "[],".repeat(100_000);
        let error = parse(&source, "x", many.as_bytes()).unwrap_err();
        assert_eq!(
            error.to_string(),
            "source \"s\": the answer would take more than 4 MB of memory, because it has so many values; ask for less, or raise the source's max-size"
        );
    }
}
