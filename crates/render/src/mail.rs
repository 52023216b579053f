//! The body of a mail: HTML that holds in programs which ignore style sheets and SVG, and a
//! plain text that can be read by itself.

use maple_lark_definition::MailContent;
use maple_lark_document::{
    document::{Body, Cell, Document, Figure, Heading, ShownTable},
    markdown,
};
use serde::Serialize;
use serde_json::json;

use crate::{
    RenderError,
    chart::{self, Size},
    html, place, png, template_values, text,
};

/// What stands in the mail itself; attachments go beside it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailBody {
    /// Nothing if the author wants the message alone.
    pub html: Option<String>,
    pub text: String,
    /// The charts, shown by their content ids.
    pub images: Vec<InlineImage>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InlineImage {
    pub content_id: String,
    pub png: Vec<u8>,
}

/// What goes with the document's own content.
#[derive(Debug, Clone, Default)]
pub struct Context<'a> {
    /// The author's message, which leads.
    pub message: Option<&'a str>,
    /// What this mail is, if it is not the first of its run.
    pub note: Option<&'a str>,
    /// The names of the files that go with the mail.
    pub attachments: &'a [String],
    /// Why files are missing, if they are.
    pub left_out: Option<&'a str>,
    /// Where the link leads, and what it is called.
    pub link: Option<(&'a str, &'a str)>,
    /// Where recipients can take themselves off.
    pub leave: Option<&'a str>,
}

/// Rows of one table in a mail; the rest is in the documents.
const MOST_ROWS: usize = 50;

/// A block as the mail's template takes it.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
enum Shown<'a> {
    Section {
        title: &'a str,
    },
    Figures {
        title: &'a str,
        figures: &'a [Figure],
    },
    Chart {
        title: &'a str,
        content_id: String,
        description: &'a str,
        /// Of a live page: where it is, and that for people.
        page: Option<(&'a str, &'a str)>,
    },
    Table {
        title: &'a str,
        headings: Vec<Heading>,
        rows: Vec<Vec<Cell>>,
        more: Option<String>,
    },
    Sentence {
        title: &'a str,
        sentence: &'a str,
        failed: bool,
    },
    Text {
        title: &'a str,
        lines: Vec<String>,
    },
}

/// A document as the body of a mail: its first key figures and its first chart, all of its
/// blocks, or the author's message alone.
///
/// # Errors
/// If a chart cannot be drawn.
#[expect(
    clippy::too_many_lines,
    reason = "puts the parts of a mail together in the order of reading"
)]
pub fn mail_body(
    document: &Document,
    content: MailContent,
    around: &Context<'_>,
) -> Result<MailBody, RenderError> {
    let message = around
        .message
        .map(str::trim)
        .filter(|text| !text.is_empty());
    let attached = in_words(around.attachments);
    let mut images = Vec::new();
    let mut shown = Vec::new();
    let (mut groups, mut charts) = (0, 0);
    for section in &document.sections {
        if content == MailContent::Full {
            shown.push(Shown::Section {
                title: &section.title,
            });
        }
        for block in &section.blocks {
            let title = block.title.as_str();
            let full = content == MailContent::Full;
            match &block.body {
                Body::Figures { figures } if full || groups < 2 => {
                    groups += 1;
                    shown.push(Shown::Figures { title, figures });
                }
                Body::Chart { chart } if full || charts < 1 => {
                    charts += 1;
                    let content_id = format!("chart{charts}.{}@maple-lark", document.front.run_id);
                    shown.push(Shown::Chart {
                        title,
                        content_id: content_id.clone(),
                        description: &chart.description,
                        page: None,
                    });
                    if content != MailContent::Text {
                        images.push(InlineImage {
                            content_id,
                            png: png::png(&chart::svg(chart, Size::MAIL), 2.0)?,
                        });
                    }
                }
                Body::Page { parts, address, .. } if full || charts < 1 => {
                    for part in parts.iter().take(if full { usize::MAX } else { 1 }) {
                        charts += 1;
                        let content_id =
                            format!("page{charts}.{}@maple-lark", document.front.run_id);
                        shown.push(Shown::Chart {
                            title: if parts.len() > 1 { &part.title } else { title },
                            content_id: content_id.clone(),
                            description: &part.description,
                            page: Some((address, place(address))),
                        });
                        if content != MailContent::Text {
                            images.push(InlineImage {
                                content_id,
                                png: part.png.to_vec(),
                            });
                        }
                    }
                }
                Body::Table { table } if full => {
                    let more = (table.rows.len() > MOST_ROWS)
                        .then(|| format!("The first {MOST_ROWS} of {} rows.", table.rows.len()));
                    let cut = more
                        .or_else(|| table.cut.clone())
                        .map(|cut| table.with_file(&cut, around.attachments));
                    let ShownTable {
                        headings, mut rows, ..
                    } = table.in_words().into_owned();
                    rows.truncate(MOST_ROWS);
                    shown.push(Shown::Table {
                        title,
                        headings,
                        rows,
                        more: cut,
                    });
                }
                Body::Text { parts } if full => shown.push(Shown::Text {
                    title,
                    lines: markdown::plain(parts).lines().map(str::to_owned).collect(),
                }),
                Body::Empty { sentence, .. } if full => shown.push(Shown::Sentence {
                    title,
                    sentence,
                    failed: false,
                }),
                Body::Failed { reason } if full => shown.push(Shown::Sentence {
                    title,
                    sentence: reason,
                    failed: true,
                }),
                _ => {}
            }
        }
    }
    // Figures come before the chart, wherever they stand in the report.
    if content == MailContent::Summary {
        shown.sort_by_key(|block| !matches!(block, Shown::Figures { .. }));
    }
    let text = plain(
        document,
        content,
        message,
        around,
        &shown,
        attached.as_deref(),
    );
    let html = (content != MailContent::Text).then(|| {
        let values = json!({
            "document": template_values(document),
            "statuses": html::statuses(),
            "message": message.map(|text| text.split("\n\n").collect::<Vec<_>>()),
            "note": around.note,
            "blocks": shown,
            "attachments": attached,
            "left_out": around.left_out,
            "link": around.link.map(|(address, words)| json!({ "address": address, "words": words })),
            "leave": around.leave,
        });
        html::render_template("mail", &values)
    });
    Ok(MailBody {
        html: html.transpose()?,
        text,
        images,
    })
}

/// A few files by their names, many by their kinds: `1 PDF, 1 HTML and 5 CSV files`.
fn in_words(files: &[String]) -> Option<String> {
    if files.len() <= 2 {
        return (!files.is_empty()).then(|| files.join(" and "));
    }
    let mut kinds: Vec<(String, usize)> = Vec::new();
    for file in files {
        let kind = file.rsplit('.').next().unwrap_or_default().to_uppercase();
        match kinds.iter_mut().find(|(known, _)| *known == kind) {
            Some((_, count)) => *count += 1,
            None => kinds.push((kind, 1)),
        }
    }
    let parts: Vec<String> = kinds
        .iter()
        .map(|(kind, count)| format!("{count} {kind}"))
        .collect();
    let list = parts.split_last().map(|(last, rest)| {
        if rest.is_empty() {
            last.clone()
        } else {
            format!("{} and {last}", rest.join(", "))
        }
    });
    list.map(|list| format!("{list} files"))
}

fn plain(
    document: &Document,
    content: MailContent,
    message: Option<&str>,
    around: &Context<'_>,
    shown: &[Shown<'_>],
    attached: Option<&str>,
) -> String {
    let front = &document.front;
    let mut out = String::new();
    if let Some(note) = around.note {
        out += &format!("{}\n", text::wrapped(note, ""));
    }
    out += &text::head(document);
    if let Some(message) = message {
        out += &format!("\n{message}\n");
    }
    if content != MailContent::Text {
        out += &text::verdict(document);
    }
    if content == MailContent::Full {
        out += &text::sections(document);
    } else if content == MailContent::Summary {
        for block in shown {
            if let Shown::Figures { title, figures } = block {
                out += &format!("\n{title}\n");
                out += &text::figures(figures);
            }
        }
    }
    if let Some(attached) = attached {
        out += &format!("\n{}", text::wrapped(&format!("Attached: {attached}"), ""));
    }
    if let Some(left_out) = around.left_out {
        out += &format!("\n{}", text::wrapped(left_out, ""));
    }
    if let Some((address, words)) = around.link {
        out += &format!("\n{words}: {address}\n");
    }
    out += &format!(
        "\n-- \nMade {} from {}. Run {}.\n",
        front.made_at,
        front.sources.join(", "),
        front.run_id
    );
    if let Some(leave) = around.leave {
        out += &format!("To get this report no more: {leave}\n");
    }
    out
}
