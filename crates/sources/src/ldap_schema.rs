//! The classes of a directory's schema (RFC 4512, 4.1.1), with the attributes that their entries have.

use crate::catalogue::{Entry, Item, MOST, found};

/// Those whose name or description has `search` in it.
pub fn entries(classes: &[String], search: &str) -> Vec<Entry> {
    let mut entries: Vec<Entry> = classes
        .iter()
        .filter_map(|class| entry(class))
        .filter(|entry| found(search, &[&entry.name, &entry.description]))
        .collect();
    entries.sort_by_cached_key(|entry| entry.name.to_lowercase());
    entries.truncate(MOST);
    entries
}

/// A class, such as `( 2.5.6.6 NAME 'person' DESC '…' SUP top STRUCTURAL MUST ( sn $ cn ) MAY l )`.
fn entry(class: &str) -> Option<Entry> {
    let tokens = tokens(class);
    let name = after(&tokens, "NAME").into_iter().next()?;
    let attribute = |kind: &'static str| {
        let names = after(&tokens, if kind == "required" { "MUST" } else { "MAY" });
        names.into_iter().map(move |name| Item {
            name,
            kind: kind.to_owned(),
            description: String::new(),
            values: Vec::new(),
        })
    };
    Some(Entry {
        kind: "class".to_owned(),
        unit: String::new(),
        description: after(&tokens, "DESC")
            .into_iter()
            .next()
            .unwrap_or_default(),
        items: attribute("required").chain(attribute("optional")).collect(),
        name,
    })
}

/// What stands behind a word: one text, or those of a list in parentheses.
fn after(tokens: &[String], word: &str) -> Vec<String> {
    let place = tokens.iter().position(|token| token == word);
    let Some(rest) = place.and_then(|place| tokens.get(place + 1..)) else {
        return Vec::new();
    };
    let listed: Vec<&String> = match rest.first() {
        Some(open) if open == "(" => rest[1..].iter().take_while(|token| *token != ")").collect(),
        one => one.into_iter().collect(),
    };
    let names = listed.into_iter().filter(|token| *token != "$");
    names
        .map(|name| name.trim_matches('\'').to_owned())
        .collect()
}

/// Words, parentheses, and texts in quotes with their quotes.
fn tokens(text: &str) -> Vec<String> {
    let (mut out, mut word, mut quoted) = (Vec::new(), String::new(), false);
    for sign in text.chars() {
        match sign {
            '\'' => {
                word.push(sign);
                if quoted {
                    out.push(std::mem::take(&mut word));
                }
                quoted = !quoted;
            }
            _ if quoted => word.push(sign),
            '(' | ')' | '$' => {
                if !word.is_empty() {
                    out.push(std::mem::take(&mut word));
                }
                out.push(sign.to_string());
            }
            _ if sign.is_whitespace() => {
                if !word.is_empty() {
                    out.push(std::mem::take(&mut word));
                }
            }
            _ => word.push(sign),
        }
    }
    if !word.is_empty() {
        out.push(word);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_are_told_with_their_attributes() {
        let classes = [
            "( 2.5.6.6 NAME 'person' DESC 'RFC2256: a (real) person' SUP top STRUCTURAL MUST ( sn $ cn ) MAY ( userPassword $ telephoneNumber ) )",
            "( 0.9.2342.19200300.100.4.5 NAME ( 'account' 'acc' ) SUP top STRUCTURAL MUST uid )",
            "( 1.2.3 )",
        ]
        .map(str::to_owned);
        let all = entries(&classes, "");
        let names: Vec<&str> = all.iter().map(|entry| entry.name.as_str()).collect();
        assert_eq!(names, ["account", "person"]);
        assert_eq!(all[0].items[0].name, "uid");
        assert_eq!(all[1].description, "RFC2256: a (real) person");
        let items: Vec<(&str, &str)> = all[1]
            .items
            .iter()
            .map(|item| (item.name.as_str(), item.kind.as_str()))
            .collect();
        assert_eq!(
            items,
            [
                ("sn", "required"),
                ("cn", "required"),
                ("userPassword", "optional"),
                ("telephoneNumber", "optional")
            ]
        );
        assert_eq!(entries(&classes, "REAL").len(), 1);
    }
}
