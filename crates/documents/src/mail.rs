//! The body of a mail: HTML that holds in programs which ignore style sheets and SVG, and a
//! plain text that can be read by itself.

use maple_lark_core::document::{Body, Document, Figure};
use serde_json::json;

use crate::{
    RenderError,
    chart::{self, Size},
    html, png, template_values, text,
};

/// What stands in the mail itself; attachments go beside it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailBody {
    pub html: String,
    pub text: String,
    /// The first chart, shown by its content id.
    pub image: Option<InlineImage>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InlineImage {
    pub content_id: String,
    pub png: Vec<u8>,
}

/// The key figures and the first chart of a document, led by the author's message.
///
/// `attachments` are the names of the files that go with the mail, and `link` leads to the
/// run in the console.
pub fn mail_body(document: &Document, message: Option<&str>, attachments: &[String], link: Option<&str>) -> Result<MailBody, RenderError> {
    let blocks = || document.sections.iter().flat_map(|section| &section.blocks);
    let first = blocks().find_map(|block| match &block.body {
        Body::Chart { chart } => Some((block.title.as_str(), chart)),
        _ => None,
    });
    let image = match first {
        Some((_, chart)) => {
            let content_id = format!("chart.{}@maple-lark", document.front.run_id);
            Some(InlineImage { content_id, png: png::png(&chart::svg(chart, Size::Full), 2.0)? })
        }
        None => None,
    };
    let groups: Vec<(&str, &Vec<Figure>)> = blocks()
        .filter_map(|block| match &block.body {
            Body::Figures { figures } => Some((block.title.as_str(), figures)),
            _ => None,
        })
        .take(2)
        .collect();
    let attached = in_words(attachments);
    let message = message.map(str::trim).filter(|text| !text.is_empty());
    let values = json!({
        "document": template_values(document),
        "statuses": html::statuses(),
        "message": message.map(|text| text.split("\n\n").collect::<Vec<_>>()),
        "figures": groups.iter().map(|(title, figures)| json!({ "title": title, "rows": figures.chunks(3).collect::<Vec<_>>() })).collect::<Vec<_>>(),
        "chart": first.zip(image.as_ref()).map(|((title, chart), image)| json!({ "title": title, "content_id": image.content_id, "description": chart.description })),
        "attachments": attached,
        "link": link,
    });
    Ok(MailBody { html: html::render_template("mail", &values)?, text: plain(document, message, &groups, attached.as_deref(), link), image })
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
    let parts: Vec<String> = kinds.iter().map(|(kind, count)| format!("{count} {kind}")).collect();
    let list = parts.split_last().map(|(last, rest)| if rest.is_empty() { last.clone() } else { format!("{} and {last}", rest.join(", ")) });
    list.map(|list| format!("{list} files"))
}

fn plain(document: &Document, message: Option<&str>, groups: &[(&str, &Vec<Figure>)], attached: Option<&str>, link: Option<&str>) -> String {
    let front = &document.front;
    let mut out = text::head(document);
    if let Some(message) = message {
        out += &format!("\n{message}\n");
    }
    out += &text::verdict(document);
    for (title, figures) in groups {
        out += &format!("\n{title}\n");
        out += &text::figures(figures);
    }
    if let Some(attached) = attached {
        out += &format!("\nAttached: {attached}\n");
    }
    if let Some(link) = link {
        out += &format!("\nThis run in the console: {link}\n");
    }
    out += &format!("\n-- \nMade {} from {}. Run {}.\n", front.made_at, front.sources.join(", "), front.run_id);
    out
}
