//! Texts with named places (`{{ from }}`), filled for the place they stand in.
//!
//! A value is never pasted as it is. A text that is one placeholder becomes the value. Inside
//! quotation marks, what would end them is escaped; outside of them only values without any
//! sign that could mean something else are let in.

use std::fmt;

/// A text whose placeholders have been found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlaceholderText {
    parts: Vec<Part>,
    written: String,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Name { name: String, within: Option<char> },
}

/// Why a text with placeholders cannot be read.
#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum BadPlaceholder {
    /// A placeholder has no end.
    #[error("a placeholder that opens with {{{{ is never closed with }}}}")]
    Unclosed,
    /// What stands in a placeholder is no name.
    #[error(
        "\"{0}\" is not the name of a value: write for instance {{{{ from }}}} or {{{{ port }}}}"
    )]
    NoName(String),
}

/// A value for a placeholder.
#[derive(Debug, Clone, PartialEq)]
pub enum Filler {
    /// One text.
    Text(String),
    /// A number.
    Number(f64),
    /// Several texts.
    List(Vec<String>),
}

/// Why a placeholder cannot be filled.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum FillError {
    /// There is no value of that name.
    #[error("{{{{ {0} }}}} has no value")]
    NoValue(String),
    /// The value has characters that do not fit there.
    #[error(
        "the value \"{value}\" of {{{{ {name} }}}} cannot stand outside quotation marks: there only letters, digits and the signs _ . : - + are let in. Put the placeholder into quotation marks"
    )]
    NotBare {
        /// The placeholder.
        name: String,
        /// Its value.
        value: String,
    },
    /// Several values for a place that takes one.
    #[error("{{{{ {0} }}}} has several values, and one can stand there: ask for one at a time")]
    Several(String),
    /// The value has control characters.
    #[error(
        "the value of {{{{ {0} }}}} has a line break or another control character, which cannot stand here"
    )]
    Control(String),
}

impl PlaceholderText {
    /// ```
    /// # use maple_lark_definition::{Filler, PlaceholderText};
    /// let text = PlaceholderText::parse(r#"up{port="{{ port }}"}[{{ step }}s]"#).unwrap();
    /// let value = |name: &str| Some(Filler::Text(if name == "port" { "a\"b".into() } else { "60".into() }));
    /// assert_eq!(text.fill(&value).unwrap(), r#"up{port="a\"b"}[60s]"#);
    /// ```
    pub fn parse(text: &str) -> Result<Self, BadPlaceholder> {
        let (mut parts, mut rest, mut within) = (Vec::new(), text, None);
        while let Some(start) = rest.find("{{") {
            let (before, after) = (&rest[..start], &rest[start + 2..]);
            let end = after.find("}}").ok_or(BadPlaceholder::Unclosed)?;
            let name = after[..end].trim();
            if name.is_empty() || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') {
                return Err(BadPlaceholder::NoName(name.to_owned()));
            }
            within = quotation(before, within);
            if !before.is_empty() {
                parts.push(Part::Text(before.to_owned()));
            }
            parts.push(Part::Name {
                name: name.to_owned(),
                within,
            });
            rest = &after[end + 2..];
        }
        if !rest.is_empty() {
            parts.push(Part::Text(rest.to_owned()));
        }
        Ok(Self {
            parts,
            written: text.to_owned(),
        })
    }

    /// The names in it, as often as they stand there.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter_map(|part| match part {
            Part::Name { name, .. } => Some(name.as_str()),
            Part::Text(_) => None,
        })
    }

    /// The name, if the text is one placeholder and nothing else.
    #[must_use]
    pub fn only(&self) -> Option<&str> {
        match &self.parts[..] {
            [Part::Name { name, .. }] => Some(name),
            _ => None,
        }
    }

    /// The text with values in their places.
    ///
    /// # Errors
    /// If a name has no value, or a value cannot stand where its placeholder does.
    pub fn fill(&self, value: &dyn Fn(&str) -> Option<Filler>) -> Result<String, FillError> {
        let whole = self.only().is_some();
        let mut out = String::new();
        for part in &self.parts {
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Name { name, within } => {
                    let text =
                        readable(&value(name).ok_or_else(|| FillError::NoValue(name.clone()))?);
                    if text.chars().any(char::is_control) {
                        return Err(FillError::Control(name.clone()));
                    }
                    let bare = |c: char| c.is_alphanumeric() || "_.:-+".contains(c);
                    let text = match within {
                        _ if whole => text,
                        Some(quote) => text
                            .chars()
                            .flat_map(|c| {
                                (c == *quote || c == '\\')
                                    .then_some('\\')
                                    .into_iter()
                                    .chain([c])
                            })
                            .collect(),
                        None if text.chars().all(bare) => text,
                        None => {
                            return Err(FillError::NotBare {
                                name: name.clone(),
                                value: text,
                            });
                        }
                    };
                    out += &text;
                }
            }
        }
        Ok(out)
    }

    /// The same with each value as `escape` writes it, wherever its placeholder stands.
    ///
    /// # Errors
    /// If a name has no value, or several.
    pub fn fill_escaped(
        &self,
        value: &dyn Fn(&str) -> Option<Filler>,
        escape: &dyn Fn(&str) -> String,
    ) -> Result<String, FillError> {
        let mut out = String::new();
        for part in &self.parts {
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Name { name, .. } => {
                    match value(name).ok_or_else(|| FillError::NoValue(name.clone()))? {
                        Filler::List(items) if items.len() > 1 => {
                            return Err(FillError::Several(name.clone()));
                        }
                        one => out += &escape(&readable(&one)),
                    }
                }
            }
        }
        Ok(out)
    }

    /// The same for the path of a URL: everything in a value that is not a letter, a digit or
    /// one of `-._~` is percent-encoded (RFC 3986), so that a value stays within its segment; behind
    /// a question mark colons stay as they are, so that times can be read.
    pub fn fill_path(&self, value: &dyn Fn(&str) -> Option<Filler>) -> Result<String, FillError> {
        let mut out = String::new();
        for part in &self.parts {
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Name { name, .. } => {
                    let text =
                        readable(&value(name).ok_or_else(|| FillError::NoValue(name.clone()))?);
                    let asked = out.contains('?');
                    // A segment of dots alone would lead out of its folder.
                    let dots = text.chars().all(|c| c == '.');
                    for byte in text.bytes() {
                        let plain = byte.is_ascii_alphanumeric()
                            || (b"-._~".contains(&byte) && !dots)
                            || (byte == b':' && asked);
                        if plain {
                            out.push(byte as char)
                        } else {
                            out += &format!("%{byte:02X}")
                        }
                    }
                }
            }
        }
        Ok(out)
    }
}

impl fmt::Display for PlaceholderText {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.written)
    }
}

/// Which quotation is open after `text`.
fn quotation(text: &str, mut within: Option<char>) -> Option<char> {
    let mut escaped = false;
    for c in text.chars() {
        match within {
            _ if escaped => escaped = false,
            Some(_) if c == '\\' => escaped = true,
            Some(quote) if c == quote => within = None,
            None if matches!(c, '"' | '\'' | '`') => within = Some(c),
            _ => {}
        }
    }
    within
}

fn readable(value: &Filler) -> String {
    match value {
        Filler::Text(text) => text.clone(),
        Filler::Number(number) => number.to_string(),
        Filler::List(items) => items.join(","),
    }
}

/// Why a text is no JSON with placeholders.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadJson {
    #[error("is not JSON: {0}")]
    Json(String),
    #[error(transparent)]
    Placeholder(#[from] BadPlaceholder),
}

/// JSON in which every text may have placeholders.
#[derive(Debug, Clone, PartialEq)]
pub struct JsonTemplate(serde_json::Value);

impl JsonTemplate {
    /// # Errors
    /// If the text is no JSON or a placeholder in it is none.
    pub fn parse(text: &str) -> Result<Self, BadJson> {
        let value: serde_json::Value =
            serde_json::from_str(text).map_err(|error| BadJson::Json(error.to_string()))?;
        let mut problem = None;
        each_text(&value, &mut |text| {
            if let Err(error) = PlaceholderText::parse(text) {
                problem = Some(BadJson::Placeholder(error));
            }
        });
        problem.map_or(Ok(Self(value)), Err)
    }

    /// The names in it, each once.
    #[must_use]
    pub fn names(&self) -> Vec<String> {
        let mut names = Vec::new();
        each_text(&self.0, &mut |text| {
            names.extend(
                PlaceholderText::parse(text)
                    .into_iter()
                    .flat_map(|t| t.names().map(str::to_owned).collect::<Vec<_>>()),
            )
        });
        names
    }

    /// A text that is one placeholder becomes its value with its type: a number, a list.
    pub fn fill(
        &self,
        value: &dyn Fn(&str) -> Option<Filler>,
    ) -> Result<serde_json::Value, FillError> {
        fill_json(&self.0, &|text| text.fill(value), value)
    }

    /// The same, with values also in the midst of texts as they are: JSON itself keeps them within their text.
    ///
    /// # Errors
    /// If a name has no value, or several in the midst of a text.
    pub fn fill_texts(
        &self,
        value: &dyn Fn(&str) -> Option<Filler>,
    ) -> Result<serde_json::Value, FillError> {
        fill_json(
            &self.0,
            &|text| text.fill_escaped(value, &str::to_owned),
            value,
        )
    }
}

/// Fills a text that is more than one placeholder.
type FillText<'a> = dyn Fn(&PlaceholderText) -> Result<String, FillError> + 'a;

fn each_text(value: &serde_json::Value, visit: &mut dyn FnMut(&str)) {
    match value {
        serde_json::Value::String(text) => visit(text),
        serde_json::Value::Array(items) => items.iter().for_each(|item| each_text(item, visit)),
        serde_json::Value::Object(map) => map.values().for_each(|item| each_text(item, visit)),
        _ => {}
    }
}

fn fill_json(
    json: &serde_json::Value,
    fill: &FillText<'_>,
    value: &dyn Fn(&str) -> Option<Filler>,
) -> Result<serde_json::Value, FillError> {
    Ok(match json {
        serde_json::Value::String(text) => {
            // Parsed once already, when the definition was read.
            let Ok(template) = PlaceholderText::parse(text) else {
                return Ok(json.clone());
            };
            match template.only() {
                Some(name) => {
                    match value(name).ok_or_else(|| FillError::NoValue(name.to_owned()))? {
                        Filler::Text(text) => text.into(),
                        Filler::Number(number) if number.fract() == 0.0 && number.abs() < 9e15 => {
                            (number as i64).into()
                        }
                        Filler::Number(number) => number.into(),
                        Filler::List(items) => items.into(),
                    }
                }
                None => fill(&template)?.into(),
            }
        }
        serde_json::Value::Array(items) => items
            .iter()
            .map(|item| fill_json(item, fill, value))
            .collect::<Result<_, _>>()?,
        serde_json::Value::Object(map) => map
            .iter()
            .map(|(key, item)| Ok((key.clone(), fill_json(item, fill, value)?)))
            .collect::<Result<_, _>>()?,
        other => other.clone(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fill(text: &str, value: &str) -> Result<String, FillError> {
        PlaceholderText::parse(text)
            .unwrap()
            .fill(&|name| (name == "v").then(|| Filler::Text(value.to_owned())))
    }

    #[test]
    fn a_value_is_escaped_for_where_it_stands() {
        let template = PlaceholderText::parse("(uid={{ v }})").unwrap();
        let value = |items: &[&str]| {
            let items: Vec<String> = items.iter().map(|item| (*item).to_owned()).collect();
            move |name: &str| (name == "v").then(|| Filler::List(items.clone()))
        };
        let stars = |text: &str| text.replace('*', "\\2a");
        assert_eq!(
            template.fill_escaped(&value(&["a*"]), &stars).unwrap(),
            "(uid=a\\2a)"
        );
        assert_eq!(
            template
                .fill_escaped(&value(&["a", "b"]), &stars)
                .unwrap_err(),
            FillError::Several("v".to_owned())
        );
        let body = JsonTemplate::parse(r#"{"content": "**{{ v }}**: {{ v }}", "n": 1}"#).unwrap();
        let said = |name: &str| (name == "v").then(|| Filler::Text("a \"b\"\nc".to_owned()));
        assert_eq!(
            body.fill_texts(&said).unwrap().to_string(),
            r#"{"content":"**a \"b\"\nc**: a \"b\"\nc","n":1}"#
        );
    }

    #[test]
    fn a_value_cannot_leave_its_place() {
        assert_eq!(fill("{{ v }}", "a b\"c").unwrap(), "a b\"c");
        assert_eq!(
            fill("x{p=\"{{v}}\"}", "\"} or all{\"").unwrap(),
            "x{p=\"\\\"} or all{\\\"\"}"
        );
        assert_eq!(
            fill("f('it\\'s {{ v }}')", "'; drop").unwrap(),
            "f('it\\'s \\'; drop')"
        );
        assert_eq!(fill("[{{ v }}s]", "60").unwrap(), "[60s]");
        assert!(matches!(
            fill("[{{ v }}]", "1]) or x"),
            Err(FillError::NotBare { .. })
        ));
        assert!(matches!(
            fill("{{ v }}", "a\r\nHost: b"),
            Err(FillError::Control(_))
        ));
        assert_eq!(fill("a {{ w }}", ""), Err(FillError::NoValue("w".into())));
    }

    #[test]
    fn a_path_keeps_a_value_in_one_segment() {
        let path = PlaceholderText::parse("/hosts/{{ v }}/load").unwrap();
        let filled = |value: &str| {
            path.fill_path(&|_| Some(Filler::Text(value.to_owned())))
                .unwrap()
        };
        assert_eq!(filled("../admin?x=1"), "/hosts/..%2Fadmin%3Fx%3D1/load");
        assert_eq!(filled(".."), "/hosts/%2E%2E/load");
        assert_eq!(filled("havnes-app-1"), "/hosts/havnes-app-1/load");
    }

    #[test]
    fn json_keeps_the_type_of_a_value() {
        let body = JsonTemplate::parse(
            r#"{"size": 0, "from": "{{ n }}", "hosts": "{{ l }}", "q": "port:\"{{ t }}\""}"#,
        )
        .unwrap();
        assert_eq!(body.names(), ["n", "l", "t"].map(str::to_owned));
        let filled = body.fill(&|name| {
            Some(match name {
                "n" => Filler::Number(1.5e12),
                "l" => Filler::List(vec!["a".into(), "b\"".into()]),
                _ => Filler::Text("x\" OR *".into()),
            })
        });
        assert_eq!(
            filled.unwrap().to_string(),
            r#"{"from":1500000000000,"hosts":["a","b\""],"q":"port:\"x\\\" OR *\"","size":0}"#
        );
        assert!(
            JsonTemplate::parse("{")
                .unwrap_err()
                .to_string()
                .contains("is not JSON")
        );
        assert!(
            JsonTemplate::parse(r#"["{{ a b }}"]"#)
                .unwrap_err()
                .to_string()
                .contains("is not the name of a value")
        );
    }

    #[test]
    fn what_is_no_placeholder_is_refused() {
        assert_eq!(
            PlaceholderText::parse("a {{ b"),
            Err(BadPlaceholder::Unclosed)
        );
        assert!(PlaceholderText::parse("{{ b | c }}").is_err());
        assert!(PlaceholderText::parse("{} { } }}").is_ok());
    }
}
