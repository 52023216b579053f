//! What is due and what ran, day by day.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

use chrono::{DateTime, NaiveDate, TimeDelta, Utc};
use icalendar::{Component, EventLike};
use maple_lark_api::{
    Agenda, AgendaDay, AgendaEntry, AgendaFeed, AgendaState, CalendarView, NamedDay, PlanState,
    ProblemDetails, RunState, TokenScope, Words,
};
use maple_lark_definition::{CalendarFile, DefinitionSet, Report};
use maple_lark_store::{Store, run_days::RunDay, schedule::ScheduleState};
use maple_lark_time::{Zone, named_days::NamedDays, zone::UnknownZone};
use rocket::{
    Route, State, get, http::ContentType, post, response::status::Created, routes,
    serde::json::Json,
};

use super::{Answer, problem::Problem};
use crate::{
    Config,
    access::{self, Viewer},
    engine::EngineHandle,
};

pub fn routes() -> Vec<Route> {
    routes![agenda, calendars, subscribe, feed]
}

const MOST_DAYS: i64 = 400;

/// More instants of one report in the time asked for are not counted.
const MOST_INSTANTS: usize = 50_000;

/// All calendars with the next days that they name.
#[utoipa::path(get, operation_id = "list_calendars", path = "/calendars", tag = "schedules", responses((status = 200, body = Vec<CalendarView>)))]
#[get("/calendars")]
async fn calendars(
    user: Viewer,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Vec<CalendarView>> {
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    let today = engine.now().date_naive();
    let view = |calendar: &CalendarFile| {
        let days = calendar.days(Zone::UTC);
        let uses = |report: &&Report| {
            report
                .schedule
                .as_ref()
                .is_some_and(|schedule| schedule.calendars.contains(&calendar.name))
        };
        CalendarView {
            name: calendar.name.clone(),
            title: calendar.title().to_owned(),
            file: calendar.place.file.clone(),
            events: calendar.events,
            next_days: days
                .between(today, today + TimeDelta::days(3660))
                .take(5)
                .map(|(date, name)| NamedDay {
                    date,
                    name: name.to_owned(),
                })
                .collect(),
            used_by: set
                .reports
                .values()
                .filter(uses)
                .map(|report| report.name.clone())
                .collect(),
        }
    };
    Ok(Json(set.calendars.values().map(view).collect()))
}

/// What is due and what ran, day by day.
#[utoipa::path(get, operation_id = "agenda", path = "/agenda", tag = "schedules", params(("from" = String, Query, description = "the first day, such as 2026-11-01"), ("to" = String, Query, description = "the day after the last; at most 400 days later"), ("time_zone" = Option<String>, Query, description = "the time zone whose days they are; UTC if nothing is said"), ("report" = Option<String>, Query, description = "only this report")), responses((status = 200, body = Agenda), (status = 422, body = ProblemDetails)))]
#[get("/agenda?<from>&<to>&<time_zone>&<report>")]
#[expect(
    clippy::too_many_lines,
    reason = "gathers what ran, what is due and what is left out, then puts it into days"
)]
#[expect(
    clippy::too_many_arguments,
    reason = "what the address may hold, and the three states of the service"
)]
async fn agenda(
    user: Viewer,
    from: &str,
    to: &str,
    time_zone: Option<&str>,
    report: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Answer<Agenda> {
    let refused = |detail: String| Problem::new(422, "Not understood", detail);
    let date = |text: &str| {
        text.parse::<NaiveDate>()
            .map_err(|_| refused(format!("\"{text}\" is not a date such as \"2026-11-01\"")))
    };
    let (from, to) = (date(from)?, date(to)?);
    let length = (to - from).num_days();
    if !(1..=MOST_DAYS).contains(&length) {
        return Err(refused(format!(
            "from {from} to {to} are {length} days; ask for 1 to {MOST_DAYS}"
        )));
    }
    let zone: Zone = time_zone
        .unwrap_or("UTC")
        .parse()
        .map_err(|error: UnknownZone| refused(error.to_string()))?;
    let definitions = engine.definitions(store, &user.1).await?;
    let set = &definitions.set;
    if let Some(name) = report.filter(|name| !set.reports.contains_key(*name)) {
        return Err(Problem::not_found(format!("report \"{name}\"")));
    }
    let (start, end) = (zone.start_of(from), zone.start_of(to));
    let dates: Vec<NaiveDate> = from.iter_days().take_while(|date| *date < to).collect();
    let starts: Vec<DateTime<Utc>> = dates
        .iter()
        .chain([&to])
        .map(|date| zone.start_of(*date))
        .collect();
    let now = engine.now();
    let mut days: BTreeMap<NaiveDate, Vec<AgendaEntry>> =
        dates.iter().map(|date| (*date, Vec::new())).collect();
    let day_of = |ran: &RunDay| dates.get((ran.day - 1) as usize).copied();
    let (all, only) = (definitions.clone(), report.map(str::to_owned));
    // What is to come is worked out while the database counts what was.
    let to_come = async {
        let states = store.schedule_states_by_report().await?;
        let work = move || planned(&all.set, only.as_deref(), &states, start, end, now, zone);
        Ok::<_, Problem>(engine.compute(work).await?)
    };
    let (ran, planned) = tokio::join!(store.run_days(report, &starts, &user.1), to_come);
    let (ran, planned) = (ran?, planned?);
    for (date, entry) in ran
        .into_iter()
        .filter_map(|ran| Some((day_of(&ran)?, entry_of(ran))))
        .chain(planned)
    {
        if let Some(entries) = days.get_mut(&date) {
            entries.push(entry);
        }
    }
    for entries in days.values_mut() {
        let key = |entry: &AgendaEntry| (!needs_a_look(entry), entry.first, entry.title.clone());
        entries.sort_by_cached_key(key);
    }
    let named: Vec<NamedDays> = set
        .calendars
        .values()
        .map(|calendar| calendar.days(zone))
        .collect();
    let names = |date| {
        named
            .iter()
            .filter_map(|days| days.name(date))
            .map(str::to_owned)
            .collect()
    };
    let days = days.into_iter().map(|(date, entries)| AgendaDay {
        date,
        named: names(date),
        entries,
    });
    Ok(Json(Agenda {
        time_zone: zone.to_string(),
        days: days.collect(),
    }))
}

/// How far ahead a calendar program sees, and how far back.
const FEED_AHEAD: TimeDelta = TimeDelta::days(60);
const FEED_BACK: TimeDelta = TimeDelta::days(14);

/// Make an address at which any calendar program can subscribe to the agenda. It reads nothing
/// else, and ends when its token is revoked.
#[utoipa::path(post, operation_id = "subscribe_agenda", path = "/agenda/feed", tag = "schedules", responses((status = 201, body = AgendaFeed)))]
#[post("/agenda/feed")]
async fn subscribe(
    user: Viewer,
    store: &State<Store>,
    config: &State<Arc<Config>>,
) -> Result<Created<Json<AgendaFeed>>, Problem> {
    let label = "agenda in a calendar program";
    let issue = access::Issue {
        label,
        scope: TokenScope::Agenda,
        lasts: None,
    };
    let (id, token, _) = access::issue_token(store, &user.0, issue).await?;
    let root = config.public_url.trim_end_matches('/');
    let address = format!("{root}/api/v1/agenda.ics?key={token}");
    let made = Created::new(format!("/api/v1/tokens/{id}"));
    Ok(made.body(Json(AgendaFeed { id, address })))
}

/// The agenda as a calendar (RFC 5545), for whoever has its address.
#[utoipa::path(get, operation_id = "agenda_feed", path = "/agenda.ics", tag = "schedules", params(("key" = String, Query)), responses((status = 200, description = "the calendar", content_type = "text/calendar", body = String), (status = 401, body = ProblemDetails)))]
#[get("/agenda.ics?<key>")]
async fn feed(
    key: Option<&str>,
    store: &State<Store>,
    engine: &State<EngineHandle>,
) -> Result<(ContentType, String), Problem> {
    let hash = access::token_hash(key.unwrap_or_default());
    let known = store.user_of_token(&hash, Utc::now()).await?;
    // Who is held to values sees no agenda, whoever they were before.
    let known =
        known.filter(|(user, _, scope)| *scope == TokenScope::Agenda && user.held_to().is_none());
    let (user, teams, _) = known.ok_or_else(|| {
        let words =
            "this address is not known, or was revoked; subscribe again on the page of the agenda";
        Problem::new(401, "Not signed in", words)
    })?;
    let sight = access::sight_of(&user, teams);
    let now = engine.now();
    // Whole days, so that what happens several times a day stays the same event.
    let start = Zone::UTC.start_of((now - FEED_BACK).date_naive());
    let end = start + FEED_BACK + FEED_AHEAD;
    let definitions = engine.definitions(store, &sight).await?;
    let states = store.schedule_states_by_report().await?;
    let dates: Vec<DateTime<Utc>> = (0..=(end - start).num_days())
        .map(|day| start + TimeDelta::days(day))
        .collect();
    let ran = store.run_days(None, &dates, &sight).await?;
    let work = move || {
        let planned = planned(&definitions.set, None, &states, start, end, now, Zone::UTC);
        let ran = ran.into_iter().map(entry_of);
        let coming = planned.into_iter().map(|(_, entry)| entry);
        let events = ran.chain(coming).filter_map(|entry| {
            let zone = definitions.set.reports.get(&entry.report)?.zone;
            event(&entry, zone, now)
        });
        let mut calendar = icalendar::Calendar::new();
        calendar.name("Reports");
        calendar.append_property(("REFRESH-INTERVAL", "PT1H"));
        calendar.extend(events);
        calendar.done().to_string()
    };
    let text = engine.compute(work).await?;
    Ok((ContentType::Calendar, text))
}

/// An entry as an event of half an hour. Nothing for what is paused or left out: it does not take
/// place.
fn event(entry: &AgendaEntry, zone: Zone, now: DateTime<Utc>) -> Option<icalendar::Event> {
    let state = match &entry.state {
        AgendaState::Plan(PlanState::Planned) => "planned".to_owned(),
        AgendaState::Plan(_) => return None,
        AgendaState::Run(state) => state.word().to_owned(),
    };
    let times = match entry.count {
        1 => format!("at {}", zone.readable(entry.first)),
        count => format!(
            "{count} times, from {} to {}",
            zone.readable(entry.first),
            zone.readable(entry.last)
        ),
    };
    let mut event = icalendar::Event::new();
    event
        .uid(&format!(
            "{}-{}@maple-lark",
            entry.report,
            entry.first.timestamp()
        ))
        .timestamp(now)
        .summary(&entry.title)
        .description(&format!("{times} ({zone}): {state}"))
        .starts(entry.first)
        .ends(entry.last + TimeDelta::minutes(30));
    Some(event.done())
}

/// Whether somebody has to see to it: that stands first on its day.
fn needs_a_look(entry: &AgendaEntry) -> bool {
    matches!(entry.state, AgendaState::Run(state) if state == RunState::AwaitingApproval || (!state.is_open() && !state.is_good()))
}

fn entry_of(ran: RunDay) -> AgendaEntry {
    AgendaEntry {
        report: ran.report,
        title: ran.title,
        state: AgendaState::Run(*ran.state),
        count: ran.count,
        first: ran.first,
        last: ran.last,
        run: Some(ran.latest),
        status: ran.status,
        note: None,
    }
}

/// The instants to come, and those that calendars leave out, past ones too.
#[expect(
    clippy::too_many_lines,
    reason = "instants to come and those left out, which share one horizon"
)]
#[expect(
    clippy::too_many_arguments,
    reason = "what the address may hold, worked out"
)]
fn planned(
    set: &DefinitionSet,
    only: Option<&str>,
    states: &HashMap<String, ScheduleState>,
    start: DateTime<Utc>,
    end: DateTime<Utc>,
    now: DateTime<Utc>,
    zone: Zone,
) -> Vec<(NaiveDate, AgendaEntry)> {
    let moment = TimeDelta::nanoseconds(1);
    let mut found: BTreeMap<(NaiveDate, String, PlanState, Option<String>), AgendaEntry> =
        BTreeMap::new();
    for report in set
        .reports
        .values()
        .filter(|report| only.is_none_or(|only| only == report.name))
    {
        let Some(plan) = set.plan(report) else {
            continue;
        };
        let known = states.get(&report.name);
        let state = if known.is_some_and(|state| state.paused) {
            PlanState::Paused
        } else {
            PlanState::Planned
        };
        // A schedule that is over after a number of runs has only so many left, from now on.
        let made = known.map_or(0, |state| state.runs_made as u32);
        let left = plan
            .schedule
            .most_runs
            .map_or(MOST_INSTANTS, |most| most.saturating_sub(made) as usize);
        let ahead = plan
            .instants(now - moment, end - moment)
            .take(left)
            .skip_while(|at| *at < start);
        let to_come = ahead.take(MOST_INSTANTS).map(|at| (at, state, None));
        let left_out = plan
            .left_out(start - moment, end - moment)
            .take(MOST_INSTANTS)
            .map(|one| {
                let note = match one.moved_to {
                    Some(to) => format!("{}: moved to {}", one.day, zone.readable(to)),
                    None => format!("{}: skipped", one.day),
                };
                (one.at, PlanState::LeftOut, Some(note))
            });
        for (at, state, note) in to_come.chain(left_out) {
            let key = (
                zone.local(at).date(),
                report.name.clone(),
                state,
                note.clone(),
            );
            let entry = found.entry(key).or_insert_with(|| AgendaEntry {
                report: report.name.clone(),
                title: report.title.clone(),
                state: AgendaState::Plan(state),
                count: 0,
                first: at,
                last: at,
                run: None,
                status: None,
                note,
            });
            entry.count += 1;
            entry.last = entry.last.max(at);
        }
    }
    found
        .into_iter()
        .map(|((date, ..), entry)| (date, entry))
        .collect()
}
