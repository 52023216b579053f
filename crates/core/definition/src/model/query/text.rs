//! SQL with named parameters (`:from`, `:port`), turned into SQL with numbered ones.
//!
//! A value is never pasted into the text: every name becomes a placeholder, and the value
//! is bound to it by the database driver.

use std::ops::Range;

use crate::{limits, model::query::builder::NoPercentiles};

/// SQL whose named parameters have been found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QueryText {
    /// The text with `$1`, `$2` … where names stood.
    pub numbered: String,
    /// The name behind each number, each name once, in order of appearance.
    pub names: Vec<String>,
    /// Where in the text each number stands, with the place of its name.
    places: Vec<(Range<usize>, usize)>,
}

/// Why a text is no statement.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum BadQueryText {
    /// Nothing stands in it.
    #[error("the query is empty")]
    Empty,
    /// A quotation or comment has no end.
    #[error("a quotation that opens with {quote} is never closed")]
    Unclosed {
        /// What it begins with.
        quote: String,
    },
    /// It is longer than any query.
    #[error("the query has {0} bytes; the limit is {most}", most = limits::QUERY_BYTES)]
    Long(usize),
    /// Comments stand in comments, over and over.
    #[error("comments are nested more than {most} deep", most = limits::COMMENT_DEPTH)]
    Comments,
    /// What was picked is not there to ask for.
    #[error(transparent)]
    Picked(#[from] NoPercentiles),
    /// Two statements stand in it.
    #[error("the query has more than one statement; write one, without a semicolon inside")]
    SeveralStatements,
}

impl QueryText {
    /// Finds the named parameters of one SQL statement in PostgreSQL's syntax.
    ///
    /// Names inside texts ('…', E'…'), quoted identifiers ("…", `…`), dollar quotes and comments
    /// are left alone, as are casts (`::date`) and array slices (`[1:2]`). A semicolon may
    /// end the statement; one inside is refused.
    ///
    /// ```
    /// # use maple_lark_definition::QueryText;
    /// let text = QueryText::parse("select ':no', at::date from t where at >= :from and at < :to and p = :from").unwrap();
    /// assert_eq!(text.numbered, "select ':no', at::date from t where at >= $1 and at < $2 and p = $1");
    /// assert_eq!(text.names, ["from", "to"]);
    /// ```
    pub fn parse(sql: &str) -> Result<Self, BadQueryText> {
        if sql.len() > limits::QUERY_BYTES {
            return Err(BadQueryText::Long(sql.len()));
        }
        let mut out = QueryText {
            numbered: String::with_capacity(sql.len()),
            names: Vec::new(),
            places: Vec::new(),
        };
        let mut rest = sql.trim_end();
        rest = rest.strip_suffix(';').unwrap_or(rest);
        let mut before = ' ';
        let mut significant = false;
        while let Some(c) = rest.chars().next() {
            let taken = match c {
                '\'' => quoted(rest, '\'', matches!(before, 'e' | 'E'))?,
                '"' | '`' => quoted(rest, c, false)?,
                '-' if rest.starts_with("--") => rest.find('\n').unwrap_or(rest.len()),
                '/' if rest.starts_with("/*") => block_comment(rest)?,
                '$' if !is_word(before) => dollar_quoted(rest)?.unwrap_or(1),
                ';' => return Err(BadQueryText::SeveralStatements),
                ':' if rest.starts_with("::") => 2,
                ':' if !is_word(before) && before != ']' => {
                    let name = &rest[1..];
                    let end = name.find(|c: char| !is_word(c)).unwrap_or(name.len());
                    if end > 0 && !name.starts_with(|c: char| c.is_ascii_digit()) {
                        let name = &name[..end];
                        let number = out
                            .names
                            .iter()
                            .position(|known| known == name)
                            .unwrap_or_else(|| {
                                out.names.push(name.to_owned());
                                out.names.len() - 1
                            });
                        let begin = out.numbered.len();
                        out.numbered.push_str(&format!("${}", number + 1));
                        out.places.push((begin..out.numbered.len(), number));
                        rest = &rest[1 + end..];
                        before = 'x';
                        significant = true;
                        continue;
                    }
                    1
                }
                c => c.len_utf8(),
            };
            let comment = rest.starts_with("--") || rest.starts_with("/*");
            significant |= !c.is_whitespace() && !comment;
            before = rest[..taken].chars().next_back().unwrap_or(' ');
            out.numbered.push_str(&rest[..taken]);
            rest = &rest[taken..];
        }
        if significant {
            Ok(out)
        } else {
            Err(BadQueryText::Empty)
        }
    }
}

impl QueryText {
    /// The text with a question mark for each value, and their names in that order, for databases
    /// that know no numbers.
    ///
    /// ```
    /// # use maple_lark_definition::QueryText;
    /// let text = QueryText::parse("select :a, :b, :a").unwrap();
    /// assert_eq!(text.in_order(), ("select ?, ?, ?".to_owned(), vec!["a", "b", "a"]));
    /// ```
    #[must_use]
    pub fn in_order(&self) -> (String, Vec<&str>) {
        let (mut text, mut end) = (String::with_capacity(self.numbered.len()), 0);
        for (place, _) in &self.places {
            text.push_str(&self.numbered[end..place.start]);
            text.push('?');
            end = place.end;
        }
        text.push_str(&self.numbered[end..]);
        let names = self.places.iter().map(|(_, name)| &*self.names[*name]);
        (text, names.collect())
    }
}

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

fn quoted(text: &str, quote: char, backslash: bool) -> Result<usize, BadQueryText> {
    let mut escaped = false;
    for (i, c) in text.char_indices().skip(1) {
        match c {
            // A doubled quote closes and opens again at once, which comes to the same.
            _ if escaped => escaped = false,
            '\\' if backslash => escaped = true,
            c if c == quote => return Ok(i + 1),
            _ => {}
        }
    }
    Err(BadQueryText::Unclosed {
        quote: quote.to_string(),
    })
}

fn block_comment(text: &str) -> Result<usize, BadQueryText> {
    let (mut depth, mut i) = (0_usize, 0);
    while i < text.len() {
        let rest = &text[i..];
        if rest.starts_with("/*") {
            depth += 1;
            // The database would read them for longer than any timeout of its own.
            if depth > limits::COMMENT_DEPTH {
                return Err(BadQueryText::Comments);
            }
            i += 2;
        } else if rest.starts_with("*/") {
            depth -= 1;
            i += 2;
            if depth == 0 {
                return Ok(i);
            }
        } else {
            i += rest.chars().next().map_or(1, char::len_utf8);
        }
    }
    Err(BadQueryText::Unclosed {
        quote: "/*".to_owned(),
    })
}

/// The length of a dollar-quoted text, or nothing if the dollar does not open one.
fn dollar_quoted(text: &str) -> Result<Option<usize>, BadQueryText> {
    let Some(end) = text[1..].find('$').map(|i| i + 2) else {
        return Ok(None);
    };
    let tag = &text[..end];
    let inner = &tag[1..tag.len() - 1];
    if !inner.chars().all(is_word) || inner.starts_with(|c: char| c.is_ascii_digit()) {
        return Ok(None);
    }
    match text[end..].find(tag) {
        Some(close) => Ok(Some(end + close + tag.len())),
        None => Err(BadQueryText::Unclosed {
            quote: tag.to_owned(),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(sql: &str) -> Vec<String> {
        QueryText::parse(sql).unwrap().names
    }

    #[test]
    fn only_real_parameters_are_found() {
        assert_eq!(names("select a[1:2], b[i:j] from t"), Vec::<String>::new());
        assert_eq!(
            names(
                "select 'it''s :a', \":b\", $$:c$$, $tag$ :d $tag$, e'\\':e' -- :f\n /* :g /* :h */ :i */ where x=:j"
            ),
            ["j"]
        );
        assert_eq!(
            names("select :from::timestamptz, at+:step"),
            ["from", "step"]
        );
        assert_eq!(names("select :größe"), ["größe"]);
    }

    #[test]
    fn what_is_not_one_statement_is_refused() {
        assert_eq!(
            QueryText::parse("select 1; drop table t"),
            Err(BadQueryText::SeveralStatements)
        );
        assert_eq!(
            QueryText::parse(" -- nothing\n ;"),
            Err(BadQueryText::Empty)
        );
        assert_eq!(
            QueryText::parse("select 'a"),
            Err(BadQueryText::Unclosed { quote: "'".into() })
        );
        assert_eq!(
            QueryText::parse("select $x$ a"),
            Err(BadQueryText::Unclosed {
                quote: "$x$".into()
            })
        );
        assert!(QueryText::parse("select ';' ;").is_ok());
        let comments = |n: usize| format!("{}{} select 1", "/*".repeat(n), "*/".repeat(n));
        assert!(QueryText::parse(&comments(limits::COMMENT_DEPTH)).is_ok());
        assert_eq!(
            QueryText::parse(&comments(20_000)),
            Err(BadQueryText::Comments)
        );
        let long = format!("select '{}'", "x".repeat(limits::QUERY_BYTES));
        assert_eq!(QueryText::parse(&long), Err(BadQueryText::Long(long.len())));
    }
}
