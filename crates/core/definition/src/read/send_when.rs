//! Reads the conditions of sending from their tables.

use maple_lark_data::status::Status;

use crate::{
    model::send_when::{Condition, SendWhen},
    problem::Placed,
    read::node::Node,
};

/// When a report is sent, and whether its owner hears once a week that it is still quiet.
pub(crate) fn read_send_when(node: Node<'_>) -> (SendWhen, bool) {
    let when = node.required_choice(
        "when",
        &["always", "rows", "warning", "critical", "figures", "change"],
    );
    let (queries, written) = (node.texts("queries"), node.texts("figures"));
    let mut conditions = Vec::new();
    for text in written {
        match text.value.parse::<Condition>() {
            Ok(value) => conditions.push(Placed {
                value,
                place: text.place,
            }),
            Err(error) => node.report_at(&text.place, error.to_string()),
        }
    }
    let all = node.choice("match", &["any", "all"]) == Some("all");
    if when == Some("rows") && queries.is_empty() {
        node.report_self("say which queries: queries = [\"failed-jobs\"]");
    } else if when != Some("rows") && node.has("queries") {
        node.report("queries", "queries goes with when = \"rows\" only");
    }
    if when == Some("figures") && !node.has("figures") {
        node.report_self("say what of which figures: figures = [\"payments_failed >= 20\"]");
    }
    for key in ["figures", "match"] {
        if when != Some("figures") && node.has(key) {
            node.report(key, format!("{key} goes with when = \"figures\" only"));
        }
    }
    let confirm_quiet = node.truth("confirm-quiet").unwrap_or(false);
    if confirm_quiet && when == Some("always") {
        node.report(
            "confirm-quiet",
            "a report that is always sent is never quiet",
        );
    }
    node.close();
    let when = match when {
        Some("rows") => SendWhen::Rows(queries),
        Some("warning") => SendWhen::Status(Status::Warning),
        Some("critical") => SendWhen::Status(Status::Critical),
        Some("figures") => SendWhen::Figures { conditions, all },
        Some("change") => SendWhen::Change,
        _ => SendWhen::Always,
    };
    (when, confirm_quiet)
}
