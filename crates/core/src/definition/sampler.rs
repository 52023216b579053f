//! What a sampler definition holds: a query, how often it is asked, how long answers are kept.

use super::{
    Query, query, read_name,
    reader::{Node, Place},
};
use crate::{span::Span, window::Step};

/// In a sampler's lengths of time a day is 24 hours.
const DAY: i64 = 86_400;

#[derive(Debug, Clone, PartialEq)]
pub struct Sampler {
    pub name: String,
    pub title: String,
    /// Asked at whole multiples of this since 1970-01-01T00:00:00Z.
    pub every_seconds: i64,
    /// What is older than this is removed.
    pub keep_seconds: i64,
    pub thin: Option<Thin>,
    pub query: Query,
    pub place: Place,
}

/// What becomes of samples that have grown old.
#[derive(Debug, Clone, PartialEq)]
pub struct Thin {
    pub after_seconds: i64,
    /// One answer stays in each step.
    pub to: Step,
    /// Numbers become their mean; else the step's last answer stays, as counters need.
    pub mean: bool,
}

pub(super) fn read(root: &Node<'_>) -> Option<Sampler> {
    let node = root.table("sampler")?;
    let name = read_name(&node);
    let title = node
        .text("title")
        .map_or_else(|| name.clone(), |title| title.value);
    node.required("every");
    let seconds =
        |node: &Node<'_>, key: &'static str, least: i64, most: i64, words: &str, otherwise: i64| {
            match node.parsed::<Span>(key).map(|span| {
                (span.months == 0).then_some(span.seconds as i64 + i64::from(span.days) * DAY)
            }) {
                None => otherwise,
                Some(Some(length)) if (least..=most).contains(&length) => length,
                Some(_) => {
                    node.report(key, format!("must be {words}"));
                    otherwise
                }
            }
        };
    let every_seconds = seconds(&node, "every", 10, DAY, "between \"PT10S\" and \"P1D\"", 60);
    let keep_seconds = seconds(
        &node,
        "keep",
        3600,
        3660 * DAY,
        "between \"PT1H\" and ten years, in days or hours such as \"P90D\"",
        90 * DAY,
    );
    let thin = node.table("thin").map(|thin| {
        let after_seconds = seconds(
            &thin,
            "after",
            3600,
            3660 * DAY,
            "at least \"PT1H\"",
            7 * DAY,
        );
        let to = thin.parsed::<Step>("to").unwrap_or(Step::Hours(1));
        let mean = thin.choice("with", &["last", "mean"]) == Some("mean");
        thin.close();
        Thin {
            after_seconds,
            to,
            mean,
        }
    });
    let place = node.place();
    node.close();
    let Some(asked) = root.table("query") else {
        root.report(
            "query",
            "a sampler needs a [query] with a source and what it is asked",
        );
        return None;
    };
    let query = query::read(asked, Some(&name))?;
    if query.source().is_none() {
        root.report("query", "a sampler can only ask a source");
    }
    Some(Sampler {
        name,
        title,
        every_seconds,
        keep_seconds,
        thin,
        query,
        place,
    })
}
