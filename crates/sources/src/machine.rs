//! Figures of the machine that the service runs on: processors, memory, load, network, systemd's units and
//! how much its journal has. An administrator says what of it definitions may ask.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
    process::ExitStatus,
    time::{Duration, Instant},
};

use chrono::{DateTime, Utc};
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{Check, CheckKind, Source};
use maple_lark_programs::{Group, prepared, words};
use maple_lark_time::Window;
use procfs::{CpuTime, Current, CurrentSI, KernelStats, LoadAverage, Meminfo, Uptime, net};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, BufReader};

use crate::{Answer, Reader, SourceError, threads::computed, within_size};

/// How long is looked at what is told by the second.
const LOOK: Duration = Duration::from_secs(1);
/// A line of the journal that is longer than this is none.
const MOST_LINE: u64 = 1_000_000;
/// The levels of the journal's priorities (RFC 5424, 6.2.1), as syslog calls them.
const LEVELS: [&str; 8] = [
    "emerg", "alert", "crit", "err", "warning", "notice", "info", "debug",
];

/// What definitions may ask of this machine, by the words of the configuration.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MachinePart {
    /// Processors, memory, load and network.
    Figures,
    /// The states of systemd's units.
    Units,
    /// How many lines the journal has, not what stands in them.
    Journal,
}

impl MachinePart {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Figures, Self::Units, Self::Journal];

    /// The word for it in the configuration.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Figures => "machine",
            Self::Units => "units",
            Self::Journal => "journal",
        }
    }

    fn of(kind: CheckKind) -> Self {
        match kind {
            CheckKind::Units => Self::Units,
            CheckKind::Journal => Self::Journal,
            _ => Self::Figures,
        }
    }
}

/// What this machine tells of itself.
///
/// # Errors
/// If an administrator has not allowed it, or the machine does not tell it.
pub async fn read(
    reader: &Reader,
    source: &Source,
    check: &Check,
    window: &Window,
) -> Result<Answer, SourceError> {
    let part = MachinePart::of(check.kind);
    if !reader.permissions.machine.contains(&part) {
        return Err(failed(
            source,
            format!(
                "this may not be asked; an administrator can allow it by adding \"{}\" to sources-may-measure in the configuration",
                part.name()
            ),
        ));
    }
    let table = match check.kind {
        CheckKind::Processor => {
            let before = told(source, KernelStats::current)?;
            tokio::time::sleep(LOOK).await;
            processors(&before, &told(source, KernelStats::current)?)
        }
        CheckKind::Memory => memory(&told(source, Meminfo::current)?),
        CheckKind::Load => load(
            &told(source, LoadAverage::current)?,
            &told(source, KernelStats::current)?,
            told(source, Uptime::current)?.uptime,
        ),
        CheckKind::Network => network(source, &check.targets).await?,
        CheckKind::Units => units(source, &check.targets).await?,
        CheckKind::Journal => {
            let folder = reader.permissions.journal_folder.as_deref();
            journal(source, folder, &check.targets, window).await?
        }
        // The others have targets elsewhere.
        CheckKind::Tcp
        | CheckKind::Http
        | CheckKind::Certificate
        | CheckKind::Dns
        | CheckKind::Disk => Table::default(),
    };
    let of = if check.targets.is_empty() {
        "this machine".to_owned()
    } else {
        check.targets.join(", ")
    };
    Ok(Answer::of(table, format!("{} of {of}", check.kind.name())))
}

fn failed(source: &Source, words: String) -> SourceError {
    SourceError::Query {
        source_name: source.name.clone(),
        words,
    }
}

/// What the kernel shows; reading it never waits.
fn told<T>(source: &Source, read: impl Fn() -> procfs::ProcResult<T>) -> Result<T, SourceError> {
    read().map_err(|error| failed(source, format!("this machine does not tell it: {error}")))
}

fn table(columns: &[(&str, ColumnKind)], rows: Vec<Vec<Value>>) -> Table {
    let columns = columns.iter().map(|(name, kind)| Column {
        name: (*name).to_owned(),
        kind: *kind,
    });
    Table {
        columns: columns.collect(),
        rows,
        truncated: false,
    }
}

fn whole(number: u64) -> Value {
    Value::Integer(i64::try_from(number).unwrap_or(i64::MAX))
}

fn share(part: f64, of: f64) -> Value {
    if of > 0.0 {
        Value::Number((1000.0 * part / of).round() / 10.0)
    } else {
        Value::Missing
    }
}

/// A row for all processors and one for each, with what they did between two looks.
fn processors(before: &KernelStats, after: &KernelStats) -> Table {
    let each = before
        .cpu_time
        .iter()
        .zip(&after.cpu_time)
        .zip(0..)
        .map(|((before, after), number)| processor(&format!("{number}"), before, after));
    let rows = std::iter::once(processor("all", &before.total, &after.total)).chain(each);
    table(
        &[
            ("processor", ColumnKind::Text),
            ("busy_percent", ColumnKind::Number),
            ("user_percent", ColumnKind::Number),
            ("system_percent", ColumnKind::Number),
            ("iowait_percent", ColumnKind::Number),
            ("steal_percent", ColumnKind::Number),
        ],
        rows.collect(),
    )
}

fn processor(name: &str, before: &CpuTime, after: &CpuTime) -> Vec<Value> {
    // Some of these fall now and then, as the kernel says itself.
    let grown = |of: fn(&CpuTime) -> u64| of(after).saturating_sub(of(before)) as f64;
    let user = grown(|time| time.user + time.nice);
    let system = grown(|time| time.system + time.irq.unwrap_or(0) + time.softirq.unwrap_or(0));
    let wait = grown(|time| time.iowait.unwrap_or(0));
    let stolen = grown(|time| time.steal.unwrap_or(0));
    let all = user + system + wait + stolen + grown(|time| time.idle);
    let parts = [user + system + stolen, user, system, wait, stolen];
    std::iter::once(Value::Text(name.to_owned()))
        .chain(parts.map(|part| share(part, all)))
        .collect()
}

fn memory(found: &Meminfo) -> Table {
    // Kernels before 3.14 do not estimate it.
    let available = found
        .mem_available
        .unwrap_or(found.mem_free + found.buffers + found.cached);
    let (used, swapped) = (
        found.mem_total.saturating_sub(available),
        found.swap_total.saturating_sub(found.swap_free),
    );
    table(
        &[
            ("total_bytes", ColumnKind::Integer),
            ("available_bytes", ColumnKind::Integer),
            ("used_percent", ColumnKind::Number),
            ("swap_total_bytes", ColumnKind::Integer),
            ("swap_used_bytes", ColumnKind::Integer),
            ("swap_used_percent", ColumnKind::Number),
        ],
        vec![vec![
            whole(found.mem_total),
            whole(available),
            share(used as f64, found.mem_total as f64),
            whole(found.swap_total),
            whole(swapped),
            share(swapped as f64, found.swap_total as f64),
        ]],
    )
}

fn load(found: &LoadAverage, stats: &KernelStats, up_seconds: f64) -> Table {
    // As the kernel writes it: two digits.
    let number = |load: f32| Value::Number((f64::from(load) * 100.0).round() / 100.0);
    let started = i64::try_from(stats.btime).ok();
    let started = started.and_then(|seconds| DateTime::from_timestamp(seconds, 0));
    let count = |number: Option<u32>| {
        number.map_or(Value::Missing, |number| Value::Integer(i64::from(number)))
    };
    table(
        &[
            ("load_1", ColumnKind::Number),
            ("load_5", ColumnKind::Number),
            ("load_15", ColumnKind::Number),
            ("processors", ColumnKind::Integer),
            ("running", ColumnKind::Integer),
            ("blocked", ColumnKind::Integer),
            ("started", ColumnKind::Instant),
            ("up_seconds", ColumnKind::Number),
        ],
        vec![vec![
            number(found.one),
            number(found.five),
            number(found.fifteen),
            whole(stats.cpu_time.len() as u64),
            count(stats.procs_running),
            count(stats.procs_blocked),
            started.map_or(Value::Missing, Value::Instant),
            Value::Number(up_seconds.round()),
        ]],
    )
}

/// A row for each interface, or for those that are named: octets by the second, and what was counted since the
/// machine started.
async fn network(source: &Source, names: &[String]) -> Result<Table, SourceError> {
    let began = Instant::now();
    let before = told(source, net::dev_status)?;
    tokio::time::sleep(LOOK).await;
    let after = told(source, net::dev_status)?;
    let seconds = began.elapsed().as_secs_f64();
    if let Some(missing) = names.iter().find(|name| !after.contains_key(*name)) {
        let known = after.keys().map(String::as_str);
        return Err(failed(
            source,
            format!(
                "there is no interface \"{missing}\".{}",
                maple_lark_time::nearest::suggestion(missing, known)
            ),
        ));
    }
    let after: BTreeMap<_, _> = after.into_iter().collect();
    let wanted = after
        .iter()
        .filter(|(name, _)| names.is_empty() || names.contains(name));
    let rows = wanted.map(|(name, now)| {
        let then = before.get(name).unwrap_or(now);
        let rate = |after: u64, before: u64| {
            Value::Number((after.saturating_sub(before) as f64 / seconds).round())
        };
        vec![
            Value::Text(name.clone()),
            rate(now.recv_bytes, then.recv_bytes),
            rate(now.sent_bytes, then.sent_bytes),
            whole(now.recv_bytes),
            whole(now.sent_bytes),
            whole(now.recv_errs),
            whole(now.sent_errs),
            whole(now.recv_drop),
            whole(now.sent_drop),
        ]
    });
    let rows = rows.collect();
    Ok(table(
        &[
            ("interface", ColumnKind::Text),
            ("received_bytes_per_second", ColumnKind::Number),
            ("sent_bytes_per_second", ColumnKind::Number),
            ("received_bytes", ColumnKind::Integer),
            ("sent_bytes", ColumnKind::Integer),
            ("received_errors", ColumnKind::Integer),
            ("sent_errors", ColumnKind::Integer),
            ("received_dropped", ColumnKind::Integer),
            ("sent_dropped", ColumnKind::Integer),
        ],
        rows,
    ))
}

/// What a program of the system's prints, handed on as it comes; it ends when nobody waits any more.
struct Printing {
    child: tokio::process::Child,
    group: Group,
    program: &'static str,
}

impl Printing {
    fn start(
        source: &Source,
        program: &'static str,
        arguments: Vec<String>,
    ) -> Result<Self, SourceError> {
        let line: Vec<String> = std::iter::once(program.to_owned())
            .chain(arguments)
            .collect();
        let spawned = prepared(&line)
            .ok_or(std::io::ErrorKind::NotFound.into())
            .and_then(|mut command| command.spawn());
        let child = spawned.map_err(|error| failed(source, not_run(program, &error)))?;
        Ok(Self {
            group: Group::of(&child),
            child,
            program,
        })
    }

    /// That it ended well.
    async fn end(mut self, source: &Source, complained: &str) -> Result<(), SourceError> {
        let status = self.child.wait().await;
        let status: ExitStatus =
            status.map_err(|error| failed(source, not_run(self.program, &error)))?;
        drop(self.group);
        if status.success() {
            return Ok(());
        }
        let words = match complained {
            "" => status.to_string(),
            words => words.to_owned(),
        };
        Err(failed(source, format!("{} failed: {words}", self.program)))
    }
}

fn not_run(program: &str, error: &std::io::Error) -> String {
    format!("{program} cannot be run on this machine: {error}")
}

/// A unit as systemd tells it.
#[derive(serde::Deserialize)]
struct Unit {
    unit: String,
    load: String,
    active: String,
    sub: String,
    #[serde(default)]
    description: String,
}

/// A row for each unit that is loaded, or for those whose names match a pattern.
async fn units(source: &Source, patterns: &[String]) -> Result<Table, SourceError> {
    let fixed = [
        "list-units",
        "--all",
        "--full",
        "--no-pager",
        "--output=json",
        "--",
    ];
    let arguments = fixed.map(str::to_owned).into_iter();
    let mut printing = Printing::start(
        source,
        "systemctl",
        arguments.chain(patterns.iter().cloned()).collect(),
    )?;
    let (printed, complained) = (printing.child.stdout.take(), printing.child.stderr.take());
    let mut bytes = Vec::new();
    let reading = async {
        match printed {
            // One byte more tells an answer that ends here from one that goes on.
            Some(printed) => {
                let mut printed = printed.take(source.max_bytes.saturating_add(1));
                printed.read_to_end(&mut bytes).await
            }
            None => Ok(0),
        }
    };
    let (read, complained) = tokio::join!(reading, words(complained));
    read.map_err(|error| failed(source, not_run("systemctl", &error)))?;
    within_size(source, bytes.len())?;
    printing.end(source, &complained).await?;
    let of = source.clone();
    computed(source, move || units_of(&of, &bytes)).await
}

fn units_of(source: &Source, bytes: &[u8]) -> Result<Table, SourceError> {
    let units: Vec<Unit> = serde_json::from_slice(bytes).map_err(|error| {
        failed(
            source,
            format!("what systemctl prints cannot be read: {error}"),
        )
    })?;
    let truncated = units.len() > source.row_limit;
    let rows = units.into_iter().take(source.row_limit).map(|unit| {
        let ok = unit.active != "failed" && unit.load != "error" && unit.load != "bad-setting";
        [
            unit.unit,
            unit.description,
            unit.load,
            unit.active,
            unit.sub,
        ]
        .map(Value::Text)
        .into_iter()
        .chain([Value::Boolean(ok)])
        .collect()
    });
    let rows = rows.collect();
    let columns = [
        ("unit", ColumnKind::Text),
        ("description", ColumnKind::Text),
        ("load", ColumnKind::Text),
        ("active", ColumnKind::Text),
        ("sub", ColumnKind::Text),
        ("ok", ColumnKind::Boolean),
    ];
    Ok(Table {
        truncated,
        ..table(&columns, rows)
    })
}

/// A line of the journal, without what it says.
#[derive(serde::Deserialize)]
struct Line {
    #[serde(rename = "PRIORITY")]
    priority: Option<serde_json::Value>,
    #[serde(rename = "_SYSTEMD_UNIT")]
    unit: Option<serde_json::Value>,
    #[serde(rename = "__REALTIME_TIMESTAMP")]
    at: String,
}

/// Lines of one unit and priority: how many, and the last of them.
type Counts = BTreeMap<(String, u8), (i64, DateTime<Utc>)>;

/// A row for each unit and priority that the journal has lines of in the window, of all units or of those that
/// are named. What stands in the lines is not read.
async fn journal(
    source: &Source,
    folder: Option<&Path>,
    names: &[String],
    window: &Window,
) -> Result<Table, SourceError> {
    let (of, looked) = (source.clone(), folder.map(Path::to_owned));
    computed(source, move || {
        may_read_journal(looked.as_deref()).map_err(|why| failed(&of, why.to_string()))
    })
    .await?;
    let mut arguments = vec![
        "--no-pager".to_owned(),
        "--output=json".to_owned(),
        "--output-fields=PRIORITY,_SYSTEMD_UNIT".to_owned(),
        format!("--since=@{}", window.from.timestamp()),
        // It takes what is within the last second, and is narrowed below.
        format!("--until=@{}", window.to.timestamp() + 1),
    ];
    if let Some(folder) = folder {
        arguments.push(format!("--directory={}", folder.display()));
    }
    arguments.extend(names.iter().map(|name| format!("--unit={name}")));
    let mut printing = Printing::start(source, "journalctl", arguments)?;
    let (printed, complained) = (printing.child.stdout.take(), printing.child.stderr.take());
    let reading = async {
        let mut counts = Counts::new();
        let Some(printed) = printed else {
            return Ok(counts);
        };
        let mut printed = BufReader::new(printed);
        let mut line = Vec::new();
        loop {
            line.clear();
            // What a longer line goes on with is no line, and not counted.
            let mut part = (&mut printed).take(MOST_LINE);
            let length = part.read_until(b'\n', &mut line).await;
            if length.map_err(|error| failed(source, not_run("journalctl", &error)))? == 0 {
                return Ok(counts);
            }
            count(&mut counts, &line, window);
        }
    };
    let (counts, complained) = tokio::join!(reading, words(complained));
    let counts = counts?;
    printing.end(source, &complained).await?;
    Ok(counted(source, counts))
}

/// A row for each unit and priority.
fn counted(source: &Source, counts: Counts) -> Table {
    let truncated = counts.len() > source.row_limit;
    let rows = counts.into_iter().take(source.row_limit);
    let rows = rows.map(|((unit, priority), (lines, last))| {
        vec![
            if unit.is_empty() {
                Value::Missing
            } else {
                Value::Text(unit)
            },
            Value::Integer(i64::from(priority)),
            Value::Text(LEVELS[usize::from(priority.min(7))].to_owned()),
            Value::Integer(lines),
            Value::Instant(last),
        ]
    });
    let rows = rows.collect();
    let columns = [
        ("unit", ColumnKind::Text),
        ("priority", ColumnKind::Integer),
        ("level", ColumnKind::Text),
        ("lines", ColumnKind::Integer),
        ("last", ColumnKind::Instant),
    ];
    Table {
        truncated,
        ..table(&columns, rows)
    }
}

/// Why the journal cannot be counted.
#[derive(Debug, thiserror::Error)]
enum NoJournal {
    #[error("{} cannot be read: {error}; put the account of the service into the group systemd-journal", file.display())]
    Unreadable {
        file: PathBuf,
        #[source]
        error: std::io::Error,
    },
    #[error(
        "there is no journal in {0}, or this account may not see it; it must be in the group systemd-journal"
    )]
    None(String),
}

/// That there is a journal, and that this account sees all of it: the journal's program does not say so when it is
/// asked for JSON.
fn may_read_journal(folder: Option<&Path>) -> Result<(), NoJournal> {
    let roots: Vec<&Path> = match folder {
        Some(folder) => vec![folder],
        None => ["/var/log/journal", "/run/log/journal"]
            .map(Path::new)
            .to_vec(),
    };
    let inside = |folder: &Path| {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        entries.map(|entry| entry.path()).collect::<Vec<_>>()
    };
    let mut found = false;
    for root in &roots {
        let files = inside(root);
        let below: Vec<PathBuf> = files.iter().flat_map(|path| inside(path)).collect();
        for file in files.iter().chain(&below) {
            if file.extension().is_none_or(|end| end != "journal") {
                continue;
            }
            found = true;
            if let Err(error) = std::fs::File::open(file) {
                let file = file.clone();
                return Err(NoJournal::Unreadable { file, error });
            }
        }
    }
    if found {
        Ok(())
    } else {
        let places: Vec<String> = roots
            .iter()
            .map(|root| root.display().to_string())
            .collect();
        Err(NoJournal::None(places.join(" or ")))
    }
}

/// Counts a line. What is no line of the journal is none; a line without a priority has that of information.
fn count(counts: &mut Counts, line: &[u8], window: &Window) {
    let Ok(line) = serde_json::from_slice::<Line>(line) else {
        return;
    };
    let micros = line.at.parse::<i64>().ok();
    let Some(at) = micros.and_then(DateTime::from_timestamp_micros) else {
        return;
    };
    if at < window.from || at >= window.to {
        return;
    }
    let text = |value: Option<serde_json::Value>| match value {
        Some(serde_json::Value::String(text)) => text,
        _ => String::new(),
    };
    let priority = text(line.priority).parse::<u8>().ok();
    let priority = priority.filter(|priority| *priority < 8).unwrap_or(6);
    let entry = counts.entry((text(line.unit), priority)).or_insert((0, at));
    entry.0 += 1;
    entry.1 = entry.1.max(at);
}

#[cfg(test)]
mod tests {
    use maple_lark_definition::Definition;

    use super::*;

    fn source(lines: &str) -> Source {
        let text = format!("[source]\nname = \"here\"\nkind = \"local-checks\"\n{lines}");
        match Definition::parse("s.toml", &text) {
            Ok(Definition::Source(source)) => *source,
            other => panic!("{other:?}"),
        }
    }

    fn time(user: u64, system: u64, idle: u64, wait: u64) -> CpuTime {
        let line = format!("cpu {user} 0 {system} {idle} {wait} 0 0 0 0 0");
        let text = format!(
            "{line}\ncpu0{}\nctxt 1\nbtime 1795953600\nprocesses 5\nprocs_running 2\nprocs_blocked 1\n",
            &line[3..]
        );
        stats(&text).total
    }

    fn stats(text: &str) -> KernelStats {
        use procfs::FromBufReadSI;
        KernelStats::from_buf_read(text.as_bytes(), procfs::current_system_info()).unwrap()
    }

    #[test]
    fn what_processors_did_is_told_in_percent() {
        let row = processor("all", &time(100, 50, 800, 50), &time(130, 60, 850, 60));
        let numbers: Vec<Value> = [40.0, 30.0, 10.0, 10.0, 0.0].map(Value::Number).to_vec();
        assert_eq!(row[1..], numbers);
        // Nothing has passed: nothing is known.
        let row = processor("0", &time(1, 1, 1, 1), &time(1, 1, 1, 1));
        assert_eq!(row[1], Value::Missing);
    }

    #[test]
    fn units_are_read_as_systemd_prints_them() {
        let printed = r#"[{"unit":"cron.service","load":"loaded","active":"active","sub":"running","description":"Regular background program"},
            {"unit":"backup.service","load":"loaded","active":"failed","sub":"failed","description":"Nightly backup"},
            {"unit":"old.service","load":"not-found","active":"inactive","sub":"dead"}]"#;
        let table = units_of(&source("row-limit = 2\n"), printed.as_bytes()).unwrap();
        assert!(table.truncated);
        let ok: Vec<&Value> = table.rows.iter().map(|row| &row[5]).collect();
        assert_eq!(ok, [&Value::Boolean(true), &Value::Boolean(false)]);
        assert_eq!(table.rows[1][1], Value::Text("Nightly backup".into()));
        let words = units_of(&source(""), b"no units").unwrap_err().to_string();
        assert!(
            words.contains("what systemctl prints cannot be read"),
            "{words}"
        );
    }

    #[test]
    fn lines_of_the_journal_are_counted_within_the_window() {
        let window = Window {
            from: "2026-11-29T00:00:00Z".parse().unwrap(),
            to: "2026-11-30T00:00:00Z".parse().unwrap(),
            zone: "UTC".parse().unwrap(),
            within: None,
        };
        let mut counts = Counts::new();
        let at = |hour: i64| (window.from.timestamp() + hour * 3600) * 1_000_000;
        let unit = "\"_SYSTEMD_UNIT\":\"cron.service\"";
        for line in [
            format!(
                "{{\"__REALTIME_TIMESTAMP\":\"{}\",\"PRIORITY\":\"3\",{unit}}}",
                at(1)
            ),
            format!(
                "{{\"__REALTIME_TIMESTAMP\":\"{}\",\"PRIORITY\":\"3\",{unit}}}",
                at(5)
            ),
            format!(
                "{{\"__REALTIME_TIMESTAMP\":\"{}\",\"PRIORITY\":\"9\",{unit}}}",
                at(2)
            ),
            format!("{{\"__REALTIME_TIMESTAMP\":\"{}\"}}", at(3)),
            // The window's end is not in it.
            format!("{{\"__REALTIME_TIMESTAMP\":\"{}\",{unit}}}", at(24)),
            "not a line".to_owned(),
        ] {
            count(&mut counts, line.as_bytes(), &window);
        }
        let counted: Vec<(&str, u8, i64)> = counts
            .iter()
            .map(|((unit, priority), (lines, _))| (unit.as_str(), *priority, *lines))
            .collect();
        assert_eq!(
            counted,
            [("", 6, 1), ("cron.service", 3, 2), ("cron.service", 6, 1)]
        );
        assert_eq!(
            counts[&("cron.service".to_owned(), 3)].1.timestamp_micros(),
            at(5)
        );
    }
}
