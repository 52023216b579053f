//! What a JSONPath may be, looked at before anything parses it: parsers of it call themselves
//! for each bracket, and some take twice as long for each filter within a filter.

use serde_json_path::{JsonPath, ParseError};

use crate::limits;

/// Why a text is no JSONPath.
#[derive(Debug, thiserror::Error)]
pub(crate) enum BadPath {
    #[error("it has {0} characters; the limit is {most}", most = limits::PATH_CHARACTERS)]
    Long(usize),
    #[error("its brackets are nested {0} deep; the limit is {most}", most = limits::PATH_DEPTH)]
    Deep(usize),
    #[error("it uses \"..\" {0} times; the limit is {most}", most = limits::PATH_DESCENTS)]
    Descents(usize),
    #[error(transparent)]
    Parse(#[from] ParseError),
}

/// Looks at a JSONPath, and at its size first.
///
/// # Errors
/// Which limit it is past, or where it is none.
pub(crate) fn check(text: &str) -> Result<(), BadPath> {
    bounded(text)?;
    JsonPath::parse(text)?;
    Ok(())
}

fn bounded(text: &str) -> Result<(), BadPath> {
    let characters = text.chars().count();
    if characters > limits::PATH_CHARACTERS {
        return Err(BadPath::Long(characters));
    }
    let (mut depth, mut deepest, mut descents) = (0_usize, 0, 0);
    let (mut quote, mut before) = (None, ' ');
    let mut escaped = false;
    for c in text.chars() {
        match quote {
            Some(_) if escaped => escaped = false,
            Some(_) if c == '\\' => escaped = true,
            Some(open) if c == open => quote = None,
            Some(_) => {}
            None => match c {
                '\'' | '"' => quote = Some(c),
                '[' | '(' => depth += 1,
                ']' | ')' => depth = depth.saturating_sub(1),
                '.' if before == '.' => descents += 1,
                _ => {}
            },
        }
        deepest = deepest.max(depth);
        before = c;
    }
    if deepest > limits::PATH_DEPTH {
        return Err(BadPath::Deep(deepest));
    }
    if descents > limits::PATH_DESCENTS {
        return Err(BadPath::Descents(descents));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_has_limits_and_what_stands_in_quotes_does_not_count() {
        for fine in [
            "$.hosts[*].name",
            "$..disks[?@.used > 90 && (@.name != '((((((((((((')]",
            r#"$["[[[[[[[[[[[", 'it\'s ..........']"#,
        ] {
            assert!(check(fine).is_ok(), "{fine}");
        }
        let nested = |n: usize| format!("${}@{}", "[?".repeat(n), "]".repeat(n));
        for (bad, words) in [
            (
                format!("$[?{}1{}]", "(".repeat(1000), ")".repeat(1000)),
                "characters",
            ),
            (
                format!("$[?{}1{}]", "(".repeat(300), ")".repeat(300)),
                "brackets",
            ),
            (nested(16), "brackets are nested 16 deep; the limit is 8"),
            ("$..*..*..*".to_owned(), "\"..\" 3 times; the limit is 2"),
        ] {
            let error = check(&bad).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
    }
}
