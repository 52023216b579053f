//! CommonMark turned into plain paragraphs, lists and runs of text, which every document
//! format can show. Raw HTML is shown as text, never passed on.

use maple_lark_data::stop;
use pulldown_cmark::{Event, Parser, Tag, TagEnd};
use serde::{Deserialize, Serialize};

/// A block of a text.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Part {
    /// A heading.
    Heading {
        /// Its text.
        runs: Vec<Run>,
    },
    /// A paragraph.
    Paragraph {
        /// Its text.
        runs: Vec<Run>,
    },
    /// A list, with numbers if it is `ordered`.
    List {
        /// Whether its items are numbered.
        ordered: bool,
        /// The text of each item.
        items: Vec<Vec<Run>>,
    },
}

/// A stretch of text in one style.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Run {
    /// Its text.
    pub text: String,
    /// Set in bold.
    #[serde(default)]
    pub strong: bool,
    /// Set in italics.
    #[serde(default)]
    pub emphasis: bool,
    /// Set as code.
    #[serde(default)]
    pub code: bool,
    /// Only `http`, `https` and `mailto` links are kept.
    pub link: Option<String>,
}

/// With more of one sign than this a text is no prose, and finding out what belongs together
/// would take a time that grows with its square.
const MOST_OF_A_SIGN: usize = 2_000;

fn is_too_intricate(text: &str) -> bool {
    let mut counts = [0usize; 128];
    for byte in text.bytes().filter(u8::is_ascii_punctuation) {
        counts[usize::from(byte)] += 1;
    }
    b"[]<*_`!&\\>"
        .iter()
        .any(|sign| counts[usize::from(*sign)] > MOST_OF_A_SIGN)
}

/// The paragraphs of a text with every sign as it is.
fn as_written(text: &str) -> Vec<Part> {
    text.split("\n\n")
        .filter(|paragraph| !paragraph.trim().is_empty())
        .map(|paragraph| Part::Paragraph {
            runs: vec![Run {
                text: paragraph.trim().to_owned(),
                ..Run::default()
            }],
        })
        .collect()
}

/// Reads CommonMark. A text with thousands of the same sign is taken as it is written. Nested lists are flattened; images are shown by their description.
#[expect(
    clippy::too_many_lines,
    reason = "one arm an event of the Markdown reader"
)]
#[must_use]
pub fn read(text: &str) -> Vec<Part> {
    if is_too_intricate(text) {
        return as_written(text);
    }
    let mut parts = Vec::new();
    let mut runs: Vec<Run> = Vec::new();
    let mut list: Option<(bool, Vec<Vec<Run>>)> = None;
    let mut depth = 0;
    let mut style = Run::default();
    for event in Parser::new(text) {
        stop::check();
        match event {
            Event::Text(text) | Event::Html(text) | Event::InlineHtml(text) => runs.push(Run {
                text: text.into_string(),
                ..style.clone()
            }),
            Event::Code(text) => runs.push(Run {
                text: text.into_string(),
                code: true,
                ..style.clone()
            }),
            Event::SoftBreak => runs.push(Run {
                text: " ".to_owned(),
                ..style.clone()
            }),
            Event::HardBreak => runs.push(Run {
                text: "\n".to_owned(),
                ..style.clone()
            }),
            Event::Start(Tag::Strong) => style.strong = true,
            Event::End(TagEnd::Strong) => style.strong = false,
            Event::Start(Tag::Emphasis) => style.emphasis = true,
            Event::End(TagEnd::Emphasis) => style.emphasis = false,
            Event::Start(Tag::Link { dest_url, .. }) => {
                style.link = ["http://", "https://", "mailto:"]
                    .iter()
                    .any(|scheme| dest_url.starts_with(scheme))
                    .then(|| dest_url.into_string());
            }
            Event::End(TagEnd::Link) => style.link = None,
            Event::Start(Tag::List(first)) => {
                depth += 1;
                if let Some((_, items)) = &mut list {
                    if !runs.is_empty() {
                        items.push(std::mem::take(&mut runs));
                    }
                } else {
                    list = Some((first.is_some(), Vec::new()));
                }
            }
            Event::End(TagEnd::List(_)) => {
                depth -= 1;
                if depth == 0
                    && let Some((ordered, items)) = list.take()
                {
                    parts.push(Part::List { ordered, items });
                }
            }
            Event::End(TagEnd::Item) => {
                if let Some((_, items)) = &mut list
                    && !runs.is_empty()
                {
                    items.push(std::mem::take(&mut runs));
                }
            }
            Event::End(TagEnd::Heading(_)) => parts.push(Part::Heading {
                runs: std::mem::take(&mut runs),
            }),
            Event::End(TagEnd::Paragraph | TagEnd::CodeBlock | TagEnd::HtmlBlock)
                if list.is_none() =>
            {
                parts.push(Part::Paragraph {
                    runs: std::mem::take(&mut runs),
                })
            }
            _ => {}
        }
    }
    parts.retain(|part| !matches!(part, Part::Paragraph { runs } if runs.is_empty()));
    parts
}

/// The text so that CommonMark shows it as it is: each sign that could mean something has a
/// backslash before it.
#[must_use]
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            // A line that begins with a number and one of these would be a list.
            '\r' | '\n' => out.push(' '),
            letter if letter.is_ascii_punctuation() => out.extend(['\\', letter]),
            letter => out.push(letter),
        }
    }
    out
}

/// The text alone, as a screen reader or a plain-text mail has it.
#[must_use]
pub fn plain(parts: &[Part]) -> String {
    let line = |runs: &[Run]| runs.iter().map(|run| run.text.as_str()).collect::<String>();
    let blocks: Vec<String> = parts
        .iter()
        .map(|part| match part {
            Part::Heading { runs } | Part::Paragraph { runs } => line(runs),
            Part::List { items, .. } => items
                .iter()
                .map(|item| format!("- {}", line(item)))
                .collect::<Vec<_>>()
                .join("\n"),
        })
        .collect();
    blocks.join("\n\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_escaped_reads_as_it_was() {
        for text in [
            "1. **bold** [a](https://b.example) `c` # d <b> & \\ e_f_g",
            "- one",
            "| a | b |",
            "99.95 %",
            "~~x~~ ![y](z)",
        ] {
            let parts = read(&format!("Now {}", escaped(text)));
            assert_eq!(plain(&parts), format!("Now {text}"));
            let [Part::Paragraph { runs }] = &parts[..] else {
                panic!("{parts:?}")
            };
            assert!(
                runs.iter()
                    .all(|run| !run.strong && !run.emphasis && !run.code && run.link.is_none()),
                "{runs:?}"
            );
        }
    }

    #[test]
    fn text_keeps_its_styles_and_loses_its_scripts() {
        let parts = read(
            "A **bold** [link](https://a.example) and [bad](javascript:alert(1)) <b>raw</b>\n\n- one\n- two",
        );
        assert_eq!(
            plain(&parts),
            "A bold link and bad <b>raw</b>\n\n- one\n- two"
        );
        let Part::Paragraph { runs } = &parts[0] else {
            panic!("{parts:?}")
        };
        assert!(runs.iter().any(|run| run.strong && run.text == "bold"));
        assert_eq!(
            runs.iter()
                .filter_map(|run| run.link.as_deref())
                .collect::<Vec<_>>(),
            ["https://a.example"]
        );
    }

    /// Each of these once took the reader many seconds.
    #[test]
    fn texts_of_signs_are_taken_as_they_are_written() {
        for text in [
            "[".repeat(50_000),
            "![".repeat(40_000),
            "*a ".repeat(60_000),
            "<".repeat(90_000),
        ] {
            let parts = read(&format!("{text}\n\nand more"));
            assert_eq!(parts.len(), 2, "{}", &text[..9]);
            let Part::Paragraph { runs } = &parts[0] else {
                panic!("{:?}", &text[..9]);
            };
            assert_eq!(runs[0].text, text.trim());
        }
    }
}
