//! Reports as a list shows them: filtered, sorted and a page at a time, however many there are.

use std::collections::{BTreeSet, HashMap};

use chrono::{DateTime, Utc};
use maple_lark_api::{ReportFilter, ReportName, ReportOrder, ReportPage, RunState, Words};
use maple_lark_definition::{DefinitionSet, Report};
use maple_lark_store::{Store, runs::Run, schedule::ScheduleState};
use rocket::{Route, State, get, routes, serde::json::Json};

use super::{
    Answer,
    body::whole,
    problem::Problem,
    reports::{latest_of, views_of},
    view::run_summary,
};
use crate::{access::Viewer, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![list, names]
}

/// Reports, a page at a time.
#[utoipa::path(get, operation_id = "list_reports", path = "/reports", tag = "reports", params(("words" = Option<String>, Query, description = "all of these stand in its title, name, owner, file, tags, dashboards, audiences or formats"), ("state" = Option<ReportFilter>, Query), ("tag" = Option<String>, Query), ("order" = Option<ReportOrder>, Query, description = "by title if nothing is said"), ("page" = Option<u64>, Query, description = "counted from 1"), ("size" = Option<u64>, Query, description = "50 if nothing is said, at most 200")), responses((status = 200, body = ReportPage)))]
#[get("/reports?<words>&<state>&<tag>&<order>&<page>&<size>")]
#[expect(
    clippy::too_many_arguments,
    reason = "the query's values and what the handler is given"
)]
async fn list(
    user: Viewer,
    words: Option<&str>,
    state: Option<&str>,
    tag: Option<&str>,
    order: Option<&str>,
    page: Option<&str>,
    size: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<ReportPage> {
    let page = whole("page", page)?.unwrap_or(1).clamp(1, 1 << 40);
    let size = whole("size", size)?.unwrap_or(50).clamp(1, 200);
    let given = |text: Option<&str>| {
        text.map(str::trim)
            .filter(|text| !text.is_empty())
            .map(str::to_owned)
    };
    let bad = |error: String| Problem::new(422, "Not understood", error);
    let asked = Asked {
        words: given(words).unwrap_or_default().to_lowercase(),
        tag: given(tag),
        state: given(state)
            .map(|word| ReportFilter::from_word(&word))
            .transpose()
            .map_err(|error| bad(error.to_string()))?,
        order: given(order)
            .map(|word| ReportOrder::from_word(&word))
            .transpose()
            .map_err(|error| bad(error.to_string()))?
            .unwrap_or(ReportOrder::Title),
    };
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let states = store.schedule_states_by_report().await?;
    let mut found: Vec<&Report> = set
        .reports
        .values()
        .filter(|one| asked.names(one))
        .collect();
    // The last runs of all are asked for only where the list goes by them.
    let latest = if asked.goes_by_last_runs() {
        latest_of(
            store,
            &user.1,
            found.iter().map(|one| one.name.clone()).collect(),
        )
        .await?
    } else {
        HashMap::new()
    };
    found.retain(|one| asked.holds(one, states.get(&one.name), latest.get(&one.name)));
    asked.sort(&mut found, &states, &latest);
    let total = found.len() as u64;
    let begin = (page - 1).saturating_mul(size).min(total) as usize;
    let shown = &found[begin..(begin + size as usize).min(found.len())];
    Ok(Json(ReportPage {
        items: views_of(store, set, &user.1, shown, &states).await?,
        total,
        page,
        size,
        all: set.reports.len() as u64,
        tags: tags_of(set),
    }))
}

/// The names of all reports, by title.
#[utoipa::path(get, operation_id = "report_names", path = "/report-names", tag = "reports", responses((status = 200, body = Vec<ReportName>)))]
#[get("/report-names")]
async fn names(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<ReportName>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let mut all: Vec<ReportName> = definitions
        .set
        .reports
        .values()
        .map(|report| ReportName {
            name: report.name.clone(),
            title: report.title.clone(),
            time_zone: report.zone.to_string(),
        })
        .collect();
    all.sort_by_cached_key(|one| natural(&one.title));
    Ok(Json(all))
}

fn tags_of(set: &DefinitionSet) -> Vec<String> {
    let tags: BTreeSet<&String> = set
        .reports
        .values()
        .flat_map(|report| &report.tags)
        .collect();
    let mut tags: Vec<String> = tags.into_iter().cloned().collect();
    tags.sort_by_cached_key(|tag| natural(tag));
    tags
}

/// What a list is asked for.
struct Asked {
    /// In small letters.
    words: String,
    tag: Option<String>,
    state: Option<ReportFilter>,
    order: ReportOrder,
}

impl Asked {
    fn goes_by_last_runs(&self) -> bool {
        self.order == ReportOrder::Last
            || matches!(
                self.state,
                Some(ReportFilter::Trouble | ReportFilter::Never)
            )
    }

    /// Whether its words and its tag are the report's.
    fn names(&self, report: &Report) -> bool {
        let tagged = self
            .tag
            .as_ref()
            .is_none_or(|tag| report.tags.contains(tag));
        if !tagged || self.words.is_empty() {
            return tagged;
        }
        let owner = report.owner.as_ref().map(ToString::to_string);
        let dashboards = report.dashboards.iter().map(|one| one.value.as_str());
        let audiences = report.audiences.iter().map(|one| one.name.as_str());
        let formats = report.formats.iter().map(|one| one.name());
        let said: Vec<&str> = [&*report.title, &*report.name, &*report.place.file]
            .into_iter()
            .chain(owner.as_deref())
            .chain(report.tags.iter().map(String::as_str))
            .chain(dashboards)
            .chain(audiences)
            .chain(formats)
            .collect();
        let said = said.join(" ").to_lowercase();
        self.words
            .split_whitespace()
            .all(|word| said.contains(word))
    }

    fn holds(&self, report: &Report, state: Option<&ScheduleState>, last: Option<&Run>) -> bool {
        let paused = state.is_some_and(|state| state.paused);
        match self.state {
            None => true,
            Some(ReportFilter::Scheduled) => report.schedule.is_some() && !paused,
            Some(ReportFilter::Paused) => paused,
            Some(ReportFilter::Request) => report.schedule.is_none(),
            Some(ReportFilter::Never) => last.is_none(),
            Some(ReportFilter::Trouble) => last.is_some_and(|run| {
                let run = run_summary(run.clone());
                let waits = [RunState::Held, RunState::AwaitingApproval].contains(&run.state);
                waits || (run.settled && !run.good)
            }),
        }
    }

    /// What has no such instant comes last.
    fn sort(
        &self,
        found: &mut [&Report],
        states: &HashMap<String, ScheduleState>,
        latest: &HashMap<String, Run>,
    ) {
        found.sort_by_cached_key(|report| natural(&report.title));
        let next = |report: &&Report| {
            let state = states.get(&report.name).filter(|state| !state.paused);
            let at = state.and_then(|state| state.next_instant);
            at.unwrap_or(DateTime::<Utc>::MAX_UTC)
        };
        let last = |report: &&Report| latest.get(&report.name).map(|run| run.created_at);
        match self.order {
            ReportOrder::Title => {}
            ReportOrder::Next => found.sort_by_key(next),
            ReportOrder::Last => found.sort_by_key(|report| std::cmp::Reverse(last(report))),
        }
    }
}

/// A text as people sort it: host-2 before host-10, whatever its capitals.
fn natural(text: &str) -> Vec<(u8, u64, String)> {
    let mut parts: Vec<(u8, u64, String)> = Vec::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let digits = first.is_ascii_digit();
        let end = rest
            .find(|c: char| c.is_ascii_digit() != digits)
            .unwrap_or(rest.len());
        let part = &rest[..end];
        // What is longer than any number is compared as it is written.
        match part.parse() {
            Ok(number) if digits => parts.push((0, number, part.to_owned())),
            _ => parts.push((1, 0, part.to_lowercase())),
        }
        rest = &rest[end..];
    }
    parts
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set() -> DefinitionSet {
        let mut set = DefinitionSet::default();
        for (name, more) in [
            ("host-10", "tags = [\"daily\", \"hosts\"]"),
            ("host-2", "owner = \"Desk <desk@orrin-sound.example>\""),
            ("Gates", "tags = [\"daily\"]"),
        ] {
            let text = maple_lark_fixtures::report(&name.to_lowercase(), "d")
                .key("title", name)
                .lines(more)
                .to("office", &["a@orrin-sound.example"]);
            set.put(maple_lark_definition::Definition::parse("r.toml", &text).unwrap());
        }
        set
    }

    fn found(words: &str, tag: Option<&str>) -> Vec<String> {
        let set = set();
        let asked = Asked {
            words: words.to_owned(),
            tag: tag.map(str::to_owned),
            state: None,
            order: ReportOrder::Title,
        };
        let mut found: Vec<&Report> = set
            .reports
            .values()
            .filter(|one| asked.names(one))
            .collect();
        asked.sort(&mut found, &HashMap::new(), &HashMap::new());
        found.iter().map(|one| one.title.clone()).collect()
    }

    #[test]
    fn words_and_tags_narrow_a_list_that_people_sort_like_this() {
        assert_eq!(found("", None), ["Gates", "host-2", "host-10"]);
        assert_eq!(found("host", None), ["host-2", "host-10"]);
        assert_eq!(found("desk office", None), ["host-2"]);
        assert_eq!(found("", Some("daily")), ["Gates", "host-10"]);
        assert_eq!(found("2", Some("daily")), Vec::<String>::new());
        assert_eq!(tags_of(&set()), ["daily", "hosts"]);
    }

    #[test]
    fn numbers_that_are_longer_than_any_are_texts() {
        let long = "9".repeat(40);
        assert!(natural("a 9") < natural(&format!("a {long}")));
    }
}
