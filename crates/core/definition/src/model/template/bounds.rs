//! What a template may hold, looked at before it is parsed: the parser descends into what is
//! nested, so that what is nested without end would take its stack.

use maple_lark_time::english::shortened;

/// What a template has too much of.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum OutOfBounds {
    #[error("it is longer than {MOST_BYTES} bytes")]
    Text,
    #[error("it has more than {MOST_TAGS} tags")]
    Tags,
    #[error("the tag on line {0} is longer than {MOST_IN_A_TAG} characters")]
    LongTag(usize),
    #[error("on line {line}, \"{word}\" is no statement here; there are {}", STATEMENTS.join(", "))]
    Statement { line: usize, word: String },
    #[error("on line {0}, a tag multiplies; figures are texts, which cannot be multiplied")]
    Multiplies(usize),
}

const MOST_BYTES: usize = 50_000;
const MOST_TAGS: usize = 200;
const MOST_IN_A_TAG: usize = 300;

/// Statements that make nothing larger than the values are.
const STATEMENTS: [&str; 6] = ["if", "elif", "else", "endif", "for", "endfor"];

/// Refuses a template that is out of bounds.
pub(super) fn check(text: &str) -> Result<(), OutOfBounds> {
    if text.len() > MOST_BYTES {
        return Err(OutOfBounds::Text);
    }
    let (mut rest, mut tags, mut line) = (text, 0, 1);
    while let Some(at) = rest.find('{') {
        line += lines(&rest[..at]);
        rest = &rest[at..];
        let kind = rest.as_bytes().get(1).copied().unwrap_or_default();
        if !matches!(kind, b'{' | b'%' | b'#') {
            rest = &rest[1..];
            continue;
        }
        tags += 1;
        if tags > MOST_TAGS {
            return Err(OutOfBounds::Tags);
        }
        let body = &rest[2..];
        let length = match kind {
            b'#' => body.find("#}"),
            b'%' => end_of(body, "%}"),
            _ => end_of(body, "}}"),
        };
        let length = length.unwrap_or(body.len());
        let inside = &body[..length];
        if kind != b'#' {
            check_tag(inside, kind, line)?;
        }
        line += lines(inside);
        rest = body.get(length + 2..).unwrap_or_default();
    }
    Ok(())
}

fn check_tag(inside: &str, kind: u8, line: usize) -> Result<(), OutOfBounds> {
    if inside.chars().count() > MOST_IN_A_TAG {
        return Err(OutOfBounds::LongTag(line));
    }
    if kind == b'%' {
        let written = inside.trim_start_matches(['-', '+']).trim();
        let word: String = written
            .chars()
            .take_while(|c| c.is_alphanumeric())
            .collect();
        if !STATEMENTS.contains(&word.as_str()) {
            let word = shortened(&word);
            return Err(OutOfBounds::Statement { line, word });
        }
    }
    if inside.contains('*') {
        return Err(OutOfBounds::Multiplies(line));
    }
    Ok(())
}

/// Where a tag ends: at its sign, but not at one within quotation marks.
fn end_of(body: &str, sign: &str) -> Option<usize> {
    let mut quote = None;
    let mut escaped = false;
    for (at, c) in body.char_indices() {
        match quote {
            Some(_) if escaped => escaped = false,
            Some(_) if c == '\\' => escaped = true,
            Some(open) if c == open => quote = None,
            Some(_) => {}
            None if c == '"' || c == '\'' => quote = Some(c),
            None if body[at..].starts_with(sign) => return Some(at),
            None => {}
        }
    }
    None
}

fn lines(text: &str) -> usize {
    text.matches('\n').count()
}
