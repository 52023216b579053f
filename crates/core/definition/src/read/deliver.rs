//! Reads `[deliver]` and `[approval]` from their tables.

use maple_lark_time::english::quoted_list;

use crate::{
    model::{
        deliver::{Approval, Deliver, Link, MailContent},
        format::Format,
    },
    read::{
        files::read_size,
        node::{Node, read_seconds},
    },
};

pub(crate) fn read_deliver(node: Node<'_>) -> Deliver {
    let usual = Deliver::default();
    let attach = node.has("attach").then(|| {
        let mut formats = Vec::new();
        for text in node.texts("attach") {
            match Format::from_name(&text.value) {
                Some(format) => formats.push(format),
                None => node.report(
                    "attach",
                    format!(
                        "\"{}\" is not one of {}",
                        text.value,
                        quoted_list(&Format::ALL.map(Format::name))
                    ),
                ),
            }
        }
        formats
    });
    let body = match node.choice("body", &["summary", "full", "text"]) {
        Some("full") => MailContent::Full,
        Some("text") => MailContent::Text,
        _ => MailContent::Summary,
    };
    let valid_seconds = read_seconds(&node, "link-valid", "PT1H", "P366D");
    let link = match node.choice("link", &["console", "signed", "none"]) {
        Some("signed") => Link::Signed {
            valid_seconds: valid_seconds.unwrap_or(14 * 86_400),
        },
        Some("none") => Link::None,
        _ => Link::Console,
    };
    if node.has("link-valid") && !matches!(link, Link::Signed { .. }) {
        node.report("link-valid", "link-valid goes with link = \"signed\" only");
    }
    let deliver = Deliver {
        mail_server: node.text("mail-server"),
        attach,
        body,
        link,
        max_size: read_size(&node, "max-size").unwrap_or(usual.max_size),
        retry_for_seconds: read_seconds(&node, "retry-for", "PT1M", "P30D"),
        unsubscribe: node.truth("unsubscribe").unwrap_or(false),
        late_after_seconds: read_seconds(&node, "late-after", "PT1M", "P7D")
            .unwrap_or(usual.late_after_seconds),
    };
    node.close();
    deliver
}

pub(crate) fn read_approval(node: Node<'_>) -> Approval {
    let deadline_seconds = read_seconds(&node, "deadline", "PT1M", "P14D").unwrap_or(86_400);
    let then_send = node.choice("at-deadline", &["cancel", "send"]) == Some("send");
    node.close();
    Approval {
        deadline_seconds,
        then_send,
    }
}
