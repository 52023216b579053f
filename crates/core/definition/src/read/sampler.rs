//! Reads samplers from their tables.

use maple_lark_time::{span::Span, window::Step};

use crate::{
    model::sampler::{DAY, Downsample, Sampler},
    read::{
        name::{read_name, read_team},
        node::Node,
        query,
    },
};

#[expect(
    clippy::too_many_lines,
    reason = "reads one key after the other, in the order of the documentation"
)]
pub(crate) fn read(root: &Node<'_>) -> Option<Sampler> {
    let node = root.table("sampler")?;
    let name = read_name(&node);
    let teams = read_team(&node);
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
    let downsample = node.table("downsample").map(|downsample| {
        let after_seconds = seconds(
            &downsample,
            "after",
            3600,
            3660 * DAY,
            "at least \"PT1H\"",
            7 * DAY,
        );
        let to = downsample.parsed::<Step>("to").unwrap_or(Step::Hours(1));
        let mean = downsample.choice("with", &["last", "mean"]) == Some("mean");
        downsample.close();
        Downsample {
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
        teams,
        title,
        every_seconds,
        keep_seconds,
        downsample,
        query,
        place,
    })
}
