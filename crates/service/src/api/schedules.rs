//! Explains a schedule and a window without saving anything.

use std::collections::BTreeMap;

use chrono::{DateTime, Datelike, Utc};
use maple_lark_api::{
    Answers, Explained, ExplainedInstant, ExplainedLeftOut, ProblemDetails, Question,
    QuestionAnswer, Questions,
};
use maple_lark_definition::{Definition, DefinitionSet, schedule_and_window};
use maple_lark_store::Store;
use maple_lark_time::{
    WindowRule, Zone,
    nearest::suggestion,
    schedule::{Plan, Schedule},
    window::Step,
    zone::UnknownZone,
};
use rocket::{Route, State, post, routes, serde::json::Json};

use super::{Answer, body::Body, problem::Problem};
use crate::{access::Asker, engine::EngineHandle};

pub fn routes() -> Vec<Route> {
    routes![explain, explain_all]
}

const MOST_INSTANTS: usize = 1000;
/// So many parts of windows are listed in one answer.
const MOST_PARTS: usize = 20_000;

/// Say a schedule back in words, with its next instants and their windows.
#[utoipa::path(post, operation_id = "explain_schedule", path = "/schedules/explain", tag = "schedules", request_body = Question, responses((status = 200, body = Explained), (status = 422, body = ProblemDetails)))]
#[post("/schedules/explain", data = "<question>")]
async fn explain(
    _user: Asker,
    question: Body<Question>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Explained> {
    let question = question.into_inner();
    // What a schedule gives may take long to find, so it is looked for off the async threads.
    let read = engine.compute(move || Explaining::read(question)).await??;
    let explaining = read.with_calendars(store).await?;
    Ok(Json(engine.compute(move || explaining.explained()).await?))
}

/// The same for many questions; one that is not understood stops no other.
#[utoipa::path(post, operation_id = "explain_schedules", path = "/schedules/explain/all", tag = "schedules", request_body = Questions, responses((status = 200, body = Answers), (status = 422, body = ProblemDetails)))]
#[post("/schedules/explain/all", data = "<questions>")]
async fn explain_all(
    _user: Asker,
    questions: Body<Questions>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Answers> {
    let questions = questions.into_inner().questions;
    if questions.len() > Questions::MOST {
        let said = format!(
            "{} questions; at most {} may be asked at once",
            questions.len(),
            Questions::MOST
        );
        return Err(Problem::new(422, "Too many questions", said));
    }
    let read = in_parts(engine, questions, Explaining::read).await?;
    let mut ready = Vec::new();
    for one in read {
        ready.push(match one {
            Ok(one) => one.with_calendars(store).await,
            Err(problem) => Err(problem),
        });
    }
    let answers = in_parts(engine, ready, |one| match one {
        Ok(one) => Ok(QuestionAnswer {
            explained: Some(one.explained()),
            error: None,
        }),
        Err(problem) if problem.status() == 422 => Ok(QuestionAnswer {
            explained: None,
            error: Some(problem.detail()),
        }),
        Err(problem) => Err(problem),
    });
    let answers: Result<Vec<_>, Problem> = answers.await?.into_iter().collect();
    Ok(Json(Answers { answers: answers? }))
}

/// Does the same with each of many, in their order, off the async threads and on as many
/// threads as there are processors.
async fn in_parts<T: Send + 'static, U: Send + 'static>(
    engine: &EngineHandle,
    all: Vec<T>,
    work: fn(T) -> U,
) -> Result<Vec<U>, Problem> {
    let processors = std::thread::available_parallelism().map_or(1, usize::from);
    let size = all.len().div_ceil(processors).max(1);
    let mut all = all.into_iter();
    let mut parts = Vec::new();
    loop {
        let part: Vec<T> = all.by_ref().take(size).collect();
        if part.is_empty() {
            break;
        }
        parts.push(engine.compute(move || part.into_iter().map(work).collect::<Vec<U>>()));
    }
    let done = futures::future::try_join_all(parts).await?;
    Ok(done.into_iter().flatten().collect())
}

/// The schedule and the window of a question as a report would have them.
fn definition_of(question: &Question) -> Result<String, Problem> {
    let mut parts = serde_json::Map::new();
    parts.insert("time-zone".to_owned(), question.time_zone.clone().into());
    for (key, value) in [
        ("schedule", &question.schedule),
        ("window", &question.window),
    ] {
        parts.extend(value.clone().map(|value| (key.to_owned(), value)));
    }
    toml_edit::ser::to_string(&parts).map_err(|error| {
        Problem::new(
            422,
            "Not understood",
            format!("the schedule or the window cannot be read: {error}"),
        )
    })
}

/// A question that has been understood.
struct Explaining {
    /// The calendars that the schedule names, once they are looked up.
    set: DefinitionSet,
    given: BTreeMap<String, String>,
    zone: Zone,
    schedule: Option<Schedule>,
    window: Option<WindowRule>,
    reader: Option<Zone>,
    after: DateTime<Utc>,
    count: usize,
}

impl Explaining {
    fn read(question: Question) -> Result<Self, Problem> {
        let after = question.after.unwrap_or_else(Utc::now);
        if !(1..=9999).contains(&after.year()) {
            let said = format!(
                "after is in the year {}; years go from 1 to 9999",
                after.year()
            );
            return Err(Problem::new(422, "Not understood", said));
        }
        let reader = question.reader_time_zone.as_deref().map(str::parse);
        let reader: Option<Zone> = reader
            .transpose()
            .map_err(|error: UnknownZone| Problem::new(422, "Unknown zone", error.to_string()))?;
        let text = definition_of(&question)?;
        let (zone, schedule, window) =
            schedule_and_window("question", &text).map_err(not_understood)?;
        Ok(Self {
            set: DefinitionSet::default(),
            given: question.calendars,
            zone,
            schedule,
            window,
            reader,
            after,
            count: question.count.unwrap_or(5).min(MOST_INSTANTS),
        })
    }

    /// The same with its calendars: those given with the question, else those that are stored.
    async fn with_calendars(mut self, store: &Store) -> Result<Self, Problem> {
        let named = self
            .schedule
            .iter()
            .flat_map(|schedule| &schedule.calendars)
            .map(String::as_str);
        self.set = calendars(named, &self.given, store).await?;
        Ok(self)
    }

    fn explained(&self) -> Explained {
        let (after, count) = (self.after, self.count);
        let plan = self
            .schedule
            .as_ref()
            .map(|schedule| self.set.plan_of(schedule, self.zone));
        let instants: Vec<DateTime<Utc>> = match &plan {
            Some(plan) => {
                let most = plan.schedule.most_runs.unwrap_or(u32::MAX) as usize;
                let all = plan.instants(after, DateTime::<Utc>::MAX_UTC);
                all.take(count.min(most)).collect()
            }
            None => vec![after],
        };
        let last = instants.last().copied().unwrap_or(after);
        let left_out = plan
            .iter()
            .flat_map(|plan| self.left_out(plan, after, last))
            .collect();
        let mut parts_left = MOST_PARTS;
        Explained {
            schedule: self
                .schedule
                .as_ref()
                .map(|schedule| format!("{}, {}", schedule.sentence(), self.zone)),
            window: self.window.as_ref().map(|rule| rule.sentence(self.zone)),
            instants: instants
                .iter()
                .map(|at| self.instant(*at, &mut parts_left))
                .collect(),
            left_out,
        }
    }

    fn left_out(
        &self,
        plan: &Plan<'_>,
        after: DateTime<Utc>,
        last: DateTime<Utc>,
    ) -> Vec<ExplainedLeftOut> {
        let left_out = plan.left_out(after, last).take(MOST_INSTANTS);
        left_out
            .map(|one| ExplainedLeftOut {
                local: self.zone.rfc3339(one.at),
                day: one.day,
                moved_to: one.moved_to.map(|at| self.zone.rfc3339(at)),
            })
            .collect()
    }

    fn instant(&self, at: DateTime<Utc>, parts_left: &mut usize) -> ExplainedInstant {
        let zone = self.zone;
        let window = self.window.as_ref().map(|rule| rule.window(at, zone));
        let compared = self
            .window
            .as_ref()
            .zip(window.as_ref())
            .and_then(|(rule, window)| rule.comparison(window));
        let narrowed = window.as_ref().filter(|window| window.within.is_some());
        let mut parts: Vec<String> = Vec::new();
        if let Some(window) = narrowed {
            let listed = window.parts().into_iter().take(*parts_left);
            parts.extend(
                listed.map(|(from, to)| format!("{}/{}", zone.rfc3339(from), zone.rfc3339(to))),
            );
            *parts_left -= parts.len();
        }
        ExplainedInstant {
            at,
            local: zone.rfc3339(at),
            reader: self.reader.map(|reader| reader.rfc3339(at)),
            window: window.as_ref().map(|window| window.exact()),
            window_label: window.as_ref().map(|window| window.label()),
            window_seconds: window.as_ref().map(|window| window.counted().num_seconds()),
            compared_with: compared.as_ref().map(|window| window.exact()),
            compared_with_label: compared.as_ref().map(|window| window.label()),
            step: window
                .as_ref()
                .map(|window| Step::fitting(window, 320).to_string()),
            parts,
        }
    }
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
