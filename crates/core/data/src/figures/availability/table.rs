//! Availability of the things in a table's rows.

use std::{collections::HashMap, str::FromStr};

use chrono::{DateTime, Utc, Weekday};
use maple_lark_time::{Window, window::CalendarUnit};
use rust_decimal::{Decimal, prelude::ToPrimitive};

use super::{
    Availability, Clock, Condition, Conditions, CountsAs, Give, Measured, Needs, Objective, States,
    readable,
    spans::{Stretch, common, joined, length, without},
};
use crate::{
    figures::{
        columns::{column, columns, key, keys},
        context::Context,
        error::FigureError,
        over_time,
        rows::{Figures, Role},
    },
    status::{Status, Thresholds},
    stop,
    table::{Column, ColumnKind, Table, Value},
};

const NAME: &str = "availability";
/// So many reasons are named in a note.
const MOST_NAMED: usize = 5;

fn other(reason: impl Into<String>) -> FigureError {
    FigureError::Other {
        operation: NAME,
        reason: reason.into(),
    }
}

/// One thing whose conditions are known.
struct Thing {
    names: Vec<Value>,
    group: Value,
    objective: Option<Decimal>,
    conditions: Conditions,
}

/// Time that is left out for some things, with the reason.
struct Leave {
    stretch: Stretch,
    /// What must be equal for it to concern a thing: a place in `by`, or the group, and a key.
    concerns: Vec<(Option<usize>, String)>,
    reason: String,
}

impl Leave {
    fn concerns(&self, thing: &Thing) -> bool {
        self.concerns.iter().all(|(place, wanted)| {
            let own = place.map_or(&thing.group, |place| &thing.names[place]);
            key(own) == *wanted
        })
    }
}

pub fn availability(
    asked: &Availability,
    table: &Table,
    around: &Context<'_>,
) -> Result<Figures, FigureError> {
    let window = around.window;
    let periods = match asked.give {
        Give::History { every, periods } => periods_of(window, every, periods),
        _ => vec![window.clone()],
    };
    let from = periods.first().map_or(window.from, |first| first.from);
    let range = (from.timestamp_millis(), window.to.timestamp_millis());
    let things = things(asked, table, around, range)?;
    let leaves = leaves(asked, around)?;
    let mut figures = match asked.give {
        Give::Things => given_things(asked, &things, &leaves, window),
        Give::Outages => given_outages(asked, &things, &leaves, window),
        Give::History { .. } => given_history(asked, &things, &leaves, &periods),
    };
    figures.table.truncated = table.truncated;
    figures.notes = vec![note(asked, &things, &leaves, &periods)];
    Ok(figures)
}

/// The last so many periods that begin before the window's end, oldest first. The last may be cut
/// by it.
fn periods_of(window: &Window, every: CalendarUnit, periods: usize) -> Vec<Window> {
    let start = |at: DateTime<Utc>| {
        let before = at - chrono::TimeDelta::milliseconds(1);
        every.start(before, window.zone, Weekday::Mon)
    };
    let mut out = Vec::new();
    let mut to = window.to;
    for _ in 0..periods {
        let from = start(to);
        out.push(Window {
            from,
            to,
            ..window.clone()
        });
        to = from;
    }
    out.reverse();
    out
}

fn instant(value: &Value, window: &Window) -> Option<i64> {
    over_time::instant(value, Some(window)).map(|at| at.timestamp_millis())
}

fn times(table: &Table, name: &str) -> Result<usize, FigureError> {
    over_time::time_column(NAME, table, name)
}

/// The condition that a cell says. Numbers are held against the column's thresholds; without any
/// 0 is down, and everything else up.
fn condition(value: &Value, column: &str, limits: &Thresholds) -> Result<Condition, FigureError> {
    let of = |status| match status {
        Status::Ok => Condition::Up,
        Status::Unknown => Condition::Unknown,
        Status::Warning => Condition::Warning,
        Status::Critical => Condition::Down,
    };
    Ok(match value {
        Value::Missing => Condition::Unknown,
        Value::Boolean(up) => of(if *up { Status::Ok } else { Status::Critical }),
        Value::Text(word) => of(Status::from_word(word).ok_or_else(|| {
            other(format!(
                "the column \"{column}\" says \"{word}\", which is no state; there are up, warning, down and unknown, and ok, degraded, critical and failed"
            ))
        })?),
        value => match value.as_number() {
            Some(number) if limits.is_set() => of(limits.status(Some(number))),
            Some(0.0) => Condition::Down,
            Some(_) => Condition::Up,
            None => Condition::Unknown,
        },
    })
}

fn objective(value: &Value, of: &[Value]) -> Result<Option<Decimal>, FigureError> {
    let percent = match value {
        Value::Missing => return Ok(None),
        Value::Integer(n) => Decimal::from(*n),
        Value::Decimal(n) => *n,
        value => {
            let number = value.as_number().map(|number| number.to_string());
            let number = number.and_then(|text| Decimal::from_str(&text).ok());
            number.ok_or_else(|| other("the column of objectives does not hold numbers"))?
        }
    };
    if percent > Decimal::ZERO && percent <= Decimal::ONE_HUNDRED {
        return Ok(Some(percent));
    }
    Err(other(format!(
        "the objective of {} is {percent} %; it must be above 0 and at most 100",
        name_of(of)
    )))
}

fn name_of(names: &[Value]) -> String {
    let words: Vec<String> = names
        .iter()
        .map(|name| name.exact(maple_lark_time::Zone::UTC))
        .collect();
    words.join(" / ")
}

/// The things, as they are first named, with their conditions in the range.
fn things(
    asked: &Availability,
    table: &Table,
    around: &Context<'_>,
    range: Stretch,
) -> Result<Vec<Thing>, FigureError> {
    let roster = match &asked.things {
        Some(name) => Some(others_rows(around, name)?),
        None => None,
    };
    // Without any row the columns may not be known.
    let mut places: HashMap<Vec<String>, usize> = HashMap::new();
    let mut things: Vec<Thing> = Vec::new();
    let mut rows: Vec<Vec<usize>> = Vec::new();
    let lists: [Option<&Table>; 2] = [roster.as_ref(), (!table.rows.is_empty()).then_some(table)];
    for (own, list) in [false, true].into_iter().zip(lists) {
        let Some(list) = list else { continue };
        let by = columns(NAME, list, &asked.by)?;
        // What the list of things says need not stand in each row again.
        let said = |name: &Option<String>| match name {
            Some(name) if own && roster.is_some() => Ok(list.column(name)),
            Some(name) => column(NAME, list, name).map(Some),
            None => Ok(None),
        };
        let group = said(&asked.group)?;
        let promised = said(&match &asked.objective {
            Objective::Column(name) => Some(name.clone()),
            Objective::Same(_) => None,
        })?;
        for (index, row) in list.rows.iter().enumerate() {
            let place = *places.entry(keys(row, &by)).or_insert_with(|| {
                things.push(Thing {
                    names: by.iter().map(|index| row[*index].clone()).collect(),
                    group: group.map_or(Value::Missing, |group| row[group].clone()),
                    objective: None,
                    conditions: Conditions::default(),
                });
                rows.push(Vec::new());
                things.len() - 1
            });
            let thing = &mut things[place];
            if let Objective::Same(percent) = asked.objective {
                thing.objective = Some(percent);
            } else if let Some(promised) = promised
                && let Some(percent) = objective(&row[promised], &thing.names)?
            {
                if thing.objective.is_some_and(|known| known != percent) {
                    let name = name_of(&thing.names);
                    return Err(other(format!("{name} has two different objectives")));
                }
                thing.objective = Some(percent);
            }
            if own {
                rows[place].push(index);
            }
        }
    }
    for (thing, rows) in things.iter_mut().zip(rows) {
        thing.conditions = conditions(asked, table, &rows, around, range)?;
    }
    Ok(things)
}

fn others_rows(around: &Context<'_>, name: &str) -> Result<Table, FigureError> {
    let figures = (around.other)(name).map_err(|error| FigureError::OtherQuery {
        operation: NAME,
        error,
    })?;
    Ok(figures.table)
}

/// The conditions that some rows of the table say, which are of one thing.
fn conditions(
    asked: &Availability,
    table: &Table,
    rows: &[usize],
    around: &Context<'_>,
    range: Stretch,
) -> Result<Conditions, FigureError> {
    let window = around.window;
    if rows.is_empty() {
        return Ok(Clock::new(range, None, asked.otherwise).end());
    }
    let said = |row: usize, state: usize, limits: &Thresholds| {
        condition(&table.rows[row][state], &table.columns[state].name, limits)
    };
    match &asked.states {
        States::Intervals { from, to, state } => {
            let (from, to) = (times(table, from)?, times(table, to)?);
            let state = match state {
                Some(state) => Some((column(NAME, table, state)?, (around.thresholds)(state))),
                None => None,
            };
            let mut intervals = Vec::with_capacity(rows.len());
            for row in rows {
                stop::check();
                let condition = match &state {
                    Some((state, limits)) => said(*row, *state, limits)?,
                    None => Condition::Down,
                };
                let cells = &table.rows[*row];
                let begins = instant(&cells[from], window).unwrap_or(range.0);
                let ends = instant(&cells[to], window).unwrap_or(range.1);
                intervals.push((begins, ends, condition));
            }
            Ok(Conditions::of_intervals(range, &intervals, asked.otherwise))
        }
        States::Samples { time, state, .. } | States::Events { time, state } => {
            let (time, limits) = (times(table, time)?, (around.thresholds)(state));
            let state = column(NAME, table, state)?;
            let mut samples = Vec::with_capacity(rows.len());
            for row in rows {
                stop::check();
                if let Some(at) = instant(&table.rows[*row][time], window) {
                    samples.push((at, said(*row, state, &limits)?));
                }
            }
            samples.sort_unstable();
            let (gap, mut otherwise) = match asked.states {
                States::Samples { longest_gap, .. } => (longest_gap, asked.otherwise),
                _ => (None, asked.otherwise),
            };
            if let (States::Events { .. }, Some((_, first))) = (&asked.states, samples.first()) {
                otherwise = match first {
                    Condition::Up => Condition::Down,
                    Condition::Unknown => asked.otherwise,
                    _ => Condition::Up,
                };
            }
            let mut clock = Clock::new(range, gap, otherwise);
            samples
                .into_iter()
                .for_each(|(at, condition)| clock.add(at, condition));
            Ok(clock.end())
        }
    }
}

fn leaves(asked: &Availability, around: &Context<'_>) -> Result<Vec<Leave>, FigureError> {
    let mut leaves = Vec::new();
    for name in &asked.leave_out {
        let table = others_rows(around, name)?;
        if table.rows.is_empty() {
            continue;
        }
        let (from, to) = (times(&table, "from")?, times(&table, "to")?);
        let reason = ["reason", "title", "summary"]
            .iter()
            .find_map(|name| table.column(name));
        let names = asked.by.iter().enumerate();
        let concerned: Vec<(Option<usize>, usize)> = names
            .filter_map(|(place, name)| Some((Some(place), table.column(name)?)))
            .chain(
                asked
                    .group
                    .as_ref()
                    .and_then(|name| Some((None, table.column(name)?))),
            )
            .collect();
        for row in &table.rows {
            stop::check();
            let (Some(begins), Some(ends)) = (
                instant(&row[from], around.window),
                instant(&row[to], around.window),
            ) else {
                return Err(other(format!(
                    "a row of \"{name}\" has no beginning or no end; what is left out must have both"
                )));
            };
            // A cell that is missing concerns everything.
            let concerns = concerned
                .iter()
                .filter(|(_, column)| row[*column] != Value::Missing)
                .map(|(place, column)| (*place, key(&row[*column])))
                .collect();
            leaves.push(Leave {
                stretch: (begins, ends),
                concerns,
                reason: reason.map_or_else(
                    || name.clone(),
                    |reason| name_of(std::slice::from_ref(&row[reason])),
                ),
            });
        }
    }
    Ok(leaves)
}

fn counted(window: &Window) -> Vec<Stretch> {
    let parts = window.parts().into_iter();
    joined(
        parts
            .map(|(from, to)| (from.timestamp_millis(), to.timestamp_millis()))
            .collect(),
    )
}

fn measure(asked: &Availability, thing: &Thing, leaves: &[Leave], counted: &[Stretch]) -> Measured {
    let left_out = leaves.iter().filter(|leave| leave.concerns(thing));
    let left_out = joined(left_out.map(|leave| leave.stretch).collect());
    Measured::of(
        &thing.conditions,
        counted,
        &left_out,
        asked.warning,
        asked.unknown,
    )
}

/// A thing, a group or everything, with what was measured of it.
struct Line {
    names: Vec<Value>,
    group: Value,
    role: Role,
    objective: Option<Decimal>,
    measured: Measured,
}

impl Line {
    /// How far it is from its objective, in percentage points; what has none comes last.
    fn margin(&self) -> Option<Decimal> {
        Some(self.measured.percent()? - self.objective?)
    }

    fn worst_first(a: &Self, b: &Self) -> std::cmp::Ordering {
        let place = |line: &Self| {
            let margin = line.margin();
            (margin.is_none(), margin.unwrap_or_default())
        };
        place(a)
            .cmp(&place(b))
            .then_with(|| a.measured.percent().cmp(&b.measured.percent()))
    }
}

/// What several are together, and what was promised of them.
fn together(asked: &Availability, parts: &[&Line]) -> (Option<Decimal>, Measured) {
    let measured: Vec<&Measured> = parts.iter().map(|line| &line.measured).collect();
    let mut promised = parts.iter().map(|line| line.objective);
    let first = promised.next().flatten();
    let agreed = first.filter(|_| promised.all(|other| other == first));
    (
        asked.group_objective.or(agreed),
        Measured::of_group(&measured, asked.needs),
    )
}

/// The groups, worst first, each with its things, which come worst first.
fn parted(asked: &Availability, things: Vec<Line>) -> Vec<(Line, Vec<Line>)> {
    let mut places: HashMap<String, usize> = HashMap::new();
    let mut parted: Vec<Vec<Line>> = Vec::new();
    for line in things {
        let place = *places.entry(key(&line.group)).or_insert_with(|| {
            parted.push(Vec::new());
            parted.len() - 1
        });
        parted[place].push(line);
    }
    let whole = |parts: Vec<Line>| {
        let (objective, measured) = together(asked, &parts.iter().collect::<Vec<_>>());
        let whole = Line {
            names: vec![Value::Missing; asked.by.len()],
            group: parts[0].group.clone(),
            role: Role::Subtotal,
            objective,
            measured,
        };
        (whole, parts)
    };
    let mut groups: Vec<(Line, Vec<Line>)> = parted.into_iter().map(whole).collect();
    groups.sort_by(|(a, _), (b, _)| Line::worst_first(a, b));
    groups
}

/// Everything, then each group with its things, the worst first in each.
fn lines(
    asked: &Availability,
    things: &[Thing],
    leaves: &[Leave],
    counted: &[Stretch],
) -> Vec<Line> {
    let mut plain: Vec<Line> = things
        .iter()
        .map(|thing| Line {
            names: thing.names.clone(),
            group: thing.group.clone(),
            role: Role::Plain,
            objective: thing.objective,
            measured: measure(asked, thing, leaves, counted),
        })
        .collect();
    plain.sort_by(Line::worst_first);
    let groups = if asked.group.is_some() {
        parted(asked, std::mem::take(&mut plain))
    } else {
        Vec::new()
    };
    let mut out = Vec::new();
    if let Some(total) = &asked.total {
        let parts: Vec<&Line> = if groups.is_empty() {
            plain.iter().collect()
        } else {
            groups.iter().map(|(whole, _)| whole).collect()
        };
        let (objective, measured) = together(asked, &parts);
        let mut names = vec![Value::Missing; asked.by.len()];
        let mut group = Value::Missing;
        if asked.group.is_some() {
            group = Value::Text(total.clone());
        } else if let Some(first) = names.first_mut() {
            *first = Value::Text(total.clone());
        }
        out.push(Line {
            names,
            group,
            role: Role::Total,
            objective,
            measured,
        });
    }
    for (whole, parts) in groups {
        out.push(whole);
        out.extend(parts);
    }
    out.extend(plain);
    out
}

fn seconds(milliseconds: i64) -> Value {
    if milliseconds % 1000 == 0 {
        Value::Integer(milliseconds / 1000)
    } else {
        Value::Decimal(Decimal::new(milliseconds, 3))
    }
}

fn decimal(value: Option<Decimal>) -> Value {
    value.map_or(Value::Missing, |value| Value::Decimal(value.normalize()))
}

fn headed(asked: &Availability, own: &[(&str, ColumnKind)]) -> Table {
    let named = asked.group.iter().chain(&asked.by);
    let named = named.map(|name| (name.as_str(), ColumnKind::Text));
    Table {
        columns: named
            .chain(own.iter().copied())
            .map(|(name, kind)| Column {
                name: name.to_owned(),
                kind,
            })
            .collect(),
        rows: Vec::new(),
        truncated: false,
    }
}

/// The cells that name a line. Names that are no texts become such, so that groups and everything
/// can stand beside them.
fn named(asked: &Availability, group: &Value, names: &[Value]) -> Vec<Value> {
    let text = |value: &Value| match value {
        Value::Missing => Value::Missing,
        value => Value::Text(value.exact(maple_lark_time::Zone::UTC)),
    };
    let group = asked.group.iter().map(|_| text(group));
    group.chain(names.iter().map(text)).collect()
}

fn result(line: &Line) -> Value {
    let word = match (
        line.measured.percent(),
        line.objective
            .and_then(|objective| line.measured.keeps(objective)),
    ) {
        (None, _) => "no data",
        (_, None) => "no objective",
        (_, Some(true)) => "met",
        (_, Some(false)) => "missed",
    };
    Value::Text(word.to_owned())
}

/// How many times as long as the window so far the whole period is in which it lies.
fn longer(window: &Window, unit: CalendarUnit) -> f64 {
    let last = window.to - chrono::TimeDelta::milliseconds(1);
    let from = unit.start(last, window.zone, Weekday::Mon);
    let whole = Window {
        from,
        to: unit.next_start(from, window.zone, Weekday::Mon),
        ..window.clone()
    };
    let so_far = Window {
        from,
        ..window.clone()
    };
    let all = length(&counted(&whole)) as f64;
    all / (length(&counted(&so_far)).max(1) as f64)
}

const THINGS: [(&str, ColumnKind); 14] = [
    ("availability", ColumnKind::Decimal),
    ("objective", ColumnKind::Decimal),
    ("result", ColumnKind::Text),
    ("margin", ColumnKind::Decimal),
    ("down", ColumnKind::Decimal),
    ("allowed", ColumnKind::Decimal),
    ("allowance_left", ColumnKind::Decimal),
    ("allowance_used", ColumnKind::Number),
    ("outages", ColumnKind::Integer),
    ("longest_outage", ColumnKind::Decimal),
    ("time_to_restore", ColumnKind::Number),
    ("time_between", ColumnKind::Number),
    ("not_known", ColumnKind::Decimal),
    ("left_out", ColumnKind::Decimal),
];

fn given_things(
    asked: &Availability,
    things: &[Thing],
    leaves: &[Leave],
    window: &Window,
) -> Figures {
    let mut own = THINGS.to_vec();
    if asked.period.is_some() {
        own.push(("at_this_pace", ColumnKind::Number));
    }
    let mut table = headed(asked, &own);
    let longer = asked.period.map(|unit| longer(window, unit));
    let lines = lines(asked, things, leaves, &counted(window));
    table.rows = lines
        .iter()
        .map(|line| {
            stop::check();
            let mut row = named(asked, &line.group, &line.names);
            row.extend(said(line, longer));
            row
        })
        .collect();
    Figures {
        table,
        roles: lines.iter().map(|line| line.role).collect(),
        notes: Vec::new(),
    }
}

/// The cells of [`THINGS`]; with a period also how much of its allowance is used at its end, if
/// it goes on like this.
fn said(line: &Line, longer: Option<f64>) -> Vec<Value> {
    let measured = &line.measured;
    let percent = measured.percent();
    let all = Decimal::from(measured.up_time + measured.down_time);
    let promised = line.objective.filter(|_| percent.is_some());
    let of_window =
        promised.map(|objective| (Decimal::ONE_HUNDRED - objective) * all / Decimal::from(100_000));
    let allowed = match longer.and_then(Decimal::from_f64_retain) {
        Some(longer) => of_window.map(|allowed| allowed * longer),
        None => of_window,
    };
    let down = Decimal::new(measured.down_time, 3);
    let used = allowed.and_then(|allowed| {
        let allowed = allowed.to_f64()?;
        (allowed > 0.0).then(|| 100.0 * down.to_f64().unwrap_or_default() / allowed)
    });
    let count = measured.outages.len() as i64;
    let mean = |of: i64| match count {
        0 => Value::Missing,
        count => Value::Number(of as f64 / 1000.0 / count as f64),
    };
    let number = |value: Option<f64>| value.map_or(Value::Missing, Value::Number);
    let margin = percent.zip(line.objective).map(|(percent, objective)| {
        // As far from nothing as the two are told apart.
        readable(percent, Some(objective)) - objective
    });
    let longest = measured.outages.iter().map(|outage| outage.counted).max();
    let mut cells = vec![
        percent.map_or(Value::Missing, |percent| {
            Value::Decimal(readable(percent, line.objective))
        }),
        decimal(line.objective),
        result(line),
        decimal(margin),
        seconds(measured.down_time),
        decimal(allowed.map(|allowed| allowed.round_dp(3))),
        decimal(allowed.map(|allowed| (allowed - down).round_dp(3))),
        number(used),
        Value::Integer(count),
        longest.map_or(Value::Missing, seconds),
        mean(measured.down_time),
        mean(measured.up_time),
        seconds(measured.not_known),
        seconds(measured.left_out),
    ];
    if let Some(longer) = longer {
        cells.push(number(used.map(|used| used * longer)));
    }
    cells
}

/// Each outage of each thing, the first of them first.
fn given_outages(
    asked: &Availability,
    things: &[Thing],
    leaves: &[Leave],
    window: &Window,
) -> Figures {
    let own = [
        ("from", ColumnKind::Instant),
        ("to", ColumnKind::Instant),
        ("down", ColumnKind::Decimal),
        ("left_out", ColumnKind::Decimal),
    ];
    let mut table = headed(asked, &own);
    let counted = counted(window);
    for thing in things {
        for outage in measure(asked, thing, leaves, &counted).outages {
            stop::check();
            let at =
                |at| DateTime::from_timestamp_millis(at).map_or(Value::Missing, Value::Instant);
            let mut row = named(asked, &thing.group, &thing.names);
            row.extend([
                at(outage.from),
                at(outage.to),
                seconds(outage.counted),
                seconds(outage.to - outage.from - outage.counted),
            ]);
            table.rows.push(row);
        }
    }
    let from = table.columns.len() - own.len();
    table.rows.sort_by_key(|row| match row[from] {
        Value::Instant(at) => Some(at),
        _ => None,
    });
    table.into()
}

/// Each thing in each period: groups and everything, too.
fn given_history(
    asked: &Availability,
    things: &[Thing],
    leaves: &[Leave],
    periods: &[Window],
) -> Figures {
    let own = [
        ("from", ColumnKind::Date),
        ("availability", ColumnKind::Decimal),
        ("objective", ColumnKind::Decimal),
        ("result", ColumnKind::Text),
    ];
    let mut table = headed(asked, &own);
    let mut roles = Vec::new();
    for period in periods {
        let day = period.zone.local(period.from).date();
        for line in lines(asked, things, leaves, &counted(period)) {
            stop::check();
            let mut row = named(asked, &line.group, &line.names);
            let percent = line.measured.percent();
            row.extend([
                Value::Date(day),
                percent.map_or(Value::Missing, |percent| {
                    Value::Decimal(readable(percent, line.objective))
                }),
                decimal(line.objective),
                result(&line),
            ]);
            table.rows.push(row);
            roles.push(line.role);
        }
    }
    Figures {
        table,
        roles,
        ..Figures::default()
    }
}

/// `3 h 30 min`, `90 s`: as long as it was, to the second.
fn in_words(milliseconds: i64) -> String {
    let seconds = (milliseconds + 500) / 1000;
    if seconds < 120 {
        return format!("{seconds} s");
    }
    let parts = [
        (seconds / 3600, "h"),
        (seconds / 60 % 60, "min"),
        (seconds % 60, "s"),
    ];
    let said = parts.iter().filter(|(count, _)| *count > 0);
    let words: Vec<String> = said
        .map(|(count, unit)| format!("{count} {unit}"))
        .collect();
    words.join(" ")
}

/// What was left out and why, and how doubtful time counts.
fn note(asked: &Availability, things: &[Thing], leaves: &[Leave], periods: &[Window]) -> String {
    let mut sentences = Vec::new();
    let of_window: Vec<Stretch> = periods.iter().flat_map(counted).collect();
    let of_window = joined(of_window);
    let left_out = joined(leaves.iter().map(|leave| leave.stretch).collect());
    let time = length(&common(&left_out, &of_window));
    if time > 0 {
        let mut reasons: Vec<&str> = leaves
            .iter()
            .filter(|leave| !common(&[leave.stretch], &of_window).is_empty())
            .map(|leave| leave.reason.as_str())
            .collect();
        reasons.sort_unstable();
        reasons.dedup();
        let more = reasons.len().saturating_sub(MOST_NAMED);
        reasons.truncate(MOST_NAMED);
        let more = match more {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        sentences.push(format!(
            "Left out: {} ({}{more}).",
            in_words(time),
            reasons.join(", ")
        ));
    } else if !asked.leave_out.is_empty() {
        sentences.push("Nothing was left out.".to_owned());
    }
    let whole: Vec<Stretch> = periods
        .iter()
        .map(|period| (period.from.timestamp_millis(), period.to.timestamp_millis()))
        .collect();
    let outside = length(&without(&joined(whole), &of_window));
    if let Some(within) = periods.first().and_then(|period| period.within.as_ref())
        && outside > 0
    {
        let hours = within.words();
        let outside = in_words(outside);
        sentences.push(format!("Only {hours} counts; {outside} lie outside."));
    }
    let counts = |how| match how {
        CountsAs::Up => "counts as up",
        CountsAs::Down => "counts as down",
        CountsAs::Nothing => "does not count",
    };
    let (warning, unknown) = (counts(asked.warning), counts(asked.unknown));
    sentences.push(if asked.warning == asked.unknown {
        format!("A warning, and what is not known, {warning}.")
    } else {
        format!("A warning {warning}; what is not known {unknown}.")
    });
    let needs = match asked.needs {
        Needs::All => "A group is up while all of its parts are.".to_owned(),
        Needs::Any => "A group is up while any of its parts is.".to_owned(),
        Needs::AtLeast(count) => format!("A group is up while at least {count} of its parts are."),
        Needs::Mean => "A group has the time of its parts, added up.".to_owned(),
    };
    if (asked.group.is_some() || asked.total.is_some()) && !things.is_empty() {
        sentences.push(needs);
    }
    sentences.join(" ")
}
