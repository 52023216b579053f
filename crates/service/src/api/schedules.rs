//! Explains a schedule and a window without saving anything.

use maple_lark_api::Explained;
use maple_lark_api::ExplainedInstant;
use maple_lark_api::ExplainedLeftOut;
use maple_lark_api::ProblemDetails;
use maple_lark_api::Question;
use std::collections::BTreeMap;

use chrono::{DateTime, Utc};

use maple_lark_definition::{Definition, DefinitionSet, schedule_and_window};

use maple_lark_store::Store;

use maple_lark_time::{Zone, nearest::suggestion, window::Step};

use rocket::{Route, State, post, routes, serde::json::Json};

use super::{Answer, problem::Problem};

use crate::access::Viewer;

pub fn routes() -> Vec<Route> {
    routes![explain]
}

const MOST_INSTANTS: usize = 1000;

/// Say a schedule back in words, with its next instants and their windows.
#[utoipa::path(post, operation_id = "explain_schedule", path = "/schedules/explain", tag = "schedules", request_body = Question, responses((status = 200, body = Explained), (status = 422, body = ProblemDetails)))]
#[post("/schedules/explain", data = "<question>")]
async fn explain(
    _user: Viewer,
    question: Json<Question>,
    store: &State<Store>,
) -> Answer<Explained> {
    let unknown = |error: maple_lark_time::zone::UnknownZone| {
        Problem::new(422, "Unknown zone", error.to_string())
    };
    let reader: Option<Zone> = question
        .reader_time_zone
        .as_deref()
        .map(str::parse)
        .transpose()
        .map_err(unknown)?;
    let mut parts = serde_json::Map::new();
    parts.insert("time-zone".to_owned(), question.time_zone.clone().into());
    parts.extend(
        question
            .schedule
            .clone()
            .map(|value| ("schedule".to_owned(), value)),
    );
    parts.extend(
        question
            .window
            .clone()
            .map(|value| ("window".to_owned(), value)),
    );
    let text = toml_edit::ser::to_string(&parts).map_err(|error| {
        Problem::new(
            422,
            "Not understood",
            format!("the schedule or the window cannot be read: {error}"),
        )
    })?;
    let (zone, schedule, window) =
        schedule_and_window("question", &text).map_err(not_understood)?;
    let named = schedule
        .iter()
        .flat_map(|schedule| &schedule.calendars)
        .map(String::as_str);
    let set = calendars(named, &question.calendars, store).await?;
    let plan = schedule
        .as_ref()
        .map(|schedule| set.plan_of(schedule, zone));

    let after = question.after.unwrap_or_else(Utc::now);
    let count = question.count.unwrap_or(5).min(MOST_INSTANTS);
    let instants: Vec<DateTime<Utc>> = match &plan {
        Some(plan) => plan
            .instants(after, DateTime::<Utc>::MAX_UTC)
            .take(
                plan.schedule
                    .most_runs
                    .map_or(count, |most| count.min(most as usize)),
            )
            .collect(),
        None => vec![after],
    };
    let left_out = plan.iter().flat_map(|plan| {
        plan.left_out(after, instants.last().copied().unwrap_or(after))
            .take(MOST_INSTANTS)
    });
    let left_out = left_out
        .map(|one| ExplainedLeftOut {
            local: zone.rfc3339(one.at),
            day: one.day,
            moved_to: one.moved_to.map(|at| zone.rfc3339(at)),
        })
        .collect();
    let explained = instants.iter().map(|at| {
        let of_run = window.as_ref().map(|rule| rule.window(*at, zone));
        let compared = window
            .as_ref()
            .zip(of_run.as_ref())
            .and_then(|(rule, window)| rule.comparison(window));
        let interval = |(from, to): (DateTime<Utc>, DateTime<Utc>)| {
            format!("{}/{}", zone.rfc3339(from), zone.rfc3339(to))
        };
        ExplainedInstant {
            at: *at,
            local: zone.rfc3339(*at),
            reader: reader.map(|reader| reader.rfc3339(*at)),
            window: of_run.as_ref().map(|window| window.exact()),
            window_label: of_run.as_ref().map(|window| window.label()),
            window_seconds: of_run.as_ref().map(|window| window.counted().num_seconds()),
            compared_with: compared.as_ref().map(|window| window.exact()),
            compared_with_label: compared.as_ref().map(|window| window.label()),
            step: of_run
                .as_ref()
                .map(|window| Step::fitting(window, 320).to_string()),
            parts: of_run
                .iter()
                .filter(|window| window.within.is_some())
                .flat_map(|window| window.parts())
                .map(interval)
                .collect(),
        }
    });
    Ok(Json(Explained {
        schedule: schedule
            .as_ref()
            .map(|schedule| format!("{}, {zone}", schedule.sentence())),
        window: window.as_ref().map(|rule| rule.sentence()),
        instants: explained.collect(),
        left_out,
    }))
}

/// All that is wrong with a question, by its keys; there is no file to name lines of.
fn not_understood(problems: Vec<maple_lark_definition::Problem>) -> Problem {
    let said: Vec<String> = problems
        .iter()
        .map(|one| format!("{}: {}", one.key, one.message))
        .collect();
    Problem::new(422, "Not understood", said.join("; "))
}

/// The named calendars: those given with the question, else those that are stored.
async fn calendars(
    names: impl Iterator<Item = &str>,
    given: &BTreeMap<String, String>,
    store: &Store,
) -> Result<DefinitionSet, Problem> {
    let mut set = DefinitionSet::default();
    for name in names {
        let file = format!("{name}.ics");
        let text = match given.get(name) {
            Some(text) => text.clone(),
            None => match store.definition("calendar", name).await? {
                Some(stored) => stored.text,
                None => {
                    let stored = store.definitions().await?;
                    let near = suggestion(
                        name,
                        stored
                            .iter()
                            .filter(|one| one.kind == "calendar")
                            .map(|one| one.name.as_str()),
                    );
                    return Err(Problem::new(
                        422,
                        "Unknown calendar",
                        format!(
                            "there is no calendar \"{name}\"; apply a file {file} first, or give it with the question.{near}"
                        ),
                    ));
                }
            },
        };
        set.put(Definition::parse(&file, &text).map_err(Problem::definitions)?);
    }
    Ok(set)
}
