//! What this machine tells of itself.

use std::{
    path::PathBuf,
    process::{Command, Stdio},
};

use maple_lark_sources::{MachinePart, Permissions};

use super::*;

fn here() -> Source {
    source("kind = \"local-checks\"")
}

fn reader(machine: &[MachinePart], journal_folder: Option<PathBuf>) -> Reader {
    let kept = std::sync::Arc::new(|_| -> futures::future::BoxFuture<'static, _> {
        Box::pin(async { Err("is not kept here".into()) })
    });
    Reader::new(Boundary::default(), kept).with_permissions(Permissions {
        machine: machine.to_vec(),
        journal_folder,
        ..Permissions::default()
    })
}

fn number(value: &Value) -> f64 {
    match value {
        Value::Number(number) => *number,
        Value::Integer(number) => *number as f64,
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn processors_memory_load_and_network_are_told() {
    let table = ask(&here(), "check = \"processor\"").await.unwrap().table;
    let count = std::fs::read_to_string("/proc/stat").unwrap();
    let count = count
        .lines()
        .filter(|line| line.starts_with("cpu") && !line.starts_with("cpu "))
        .count();
    assert_eq!(table.rows.len(), count + 1);
    assert_eq!(table.rows[0][0], Value::Text("all".into()));
    let busy = number(&table.rows[0][1]);
    assert!((0.0..=100.0).contains(&busy), "{busy}");

    let memory = ask(&here(), "check = \"memory\"").await.unwrap();
    let told = number(&column(&memory.table, "total_bytes")[0]);
    let kernel = std::fs::read_to_string("/proc/meminfo").unwrap();
    let kernel: f64 = kernel.split_whitespace().nth(1).unwrap().parse().unwrap();
    assert_eq!(told, kernel * 1024.0);
    assert!((0.0..=100.0).contains(&number(&column(&memory.table, "used_percent")[0])));
    assert_eq!(memory.sent, "memory of this machine");

    let load = ask(&here(), "check = \"load\"").await.unwrap().table;
    assert_eq!(column(&load, "processors"), [Value::Integer(count as i64)]);
    let up = number(&column(&load, "up_seconds")[0]);
    let Value::Instant(started) = column(&load, "started")[0] else {
        panic!("{load:?}");
    };
    let since = (chrono::Utc::now() - started).num_seconds() as f64;
    assert!((since - up).abs() < 120.0, "{since} and {up}");

    let network = ask(&here(), "check = \"network\"\ntargets = [\"lo\"]")
        .await
        .unwrap()
        .table;
    assert_eq!(network.rows.len(), 1);
    assert!(number(&column(&network, "received_bytes")[0]) >= 0.0);
    let said = ask(&here(), "check = \"network\"\ntargets = [\"l0\"]")
        .await
        .unwrap_err();
    assert!(said.contains("there is no interface \"l0\"."), "{said}");
    let said = ask(&here(), "check = \"memory\"\ntargets = [\"lo\"]")
        .await
        .unwrap_err();
    assert!(
        said.contains("does not go with check = \"memory\""),
        "{said}"
    );
}

#[tokio::test]
async fn only_what_an_administrator_allows_is_told() {
    let none = Values::new();
    for (check, word, others) in [
        (
            "memory",
            "machine",
            [MachinePart::Units, MachinePart::Journal],
        ),
        (
            "units",
            "units",
            [MachinePart::Figures, MachinePart::Journal],
        ),
        (
            "journal",
            "journal",
            [MachinePart::Figures, MachinePart::Units],
        ),
    ] {
        let asked = format!("check = \"{check}\"");
        let said = ask_with(&reader(&others, None), &here(), &asked, &none)
            .await
            .unwrap_err();
        assert!(
            said.ends_with(&format!(
                "adding \"{word}\" to sources-may-measure in the configuration"
            )),
            "{said}"
        );
    }
}

/// A journal of a few lines, as systemd's own program writes it.
fn journal(lines: &[(&str, &str, Option<u8>)]) -> TempDir {
    let folder = TempDir::new().unwrap();
    let mut child = Command::new("/lib/systemd/systemd-journal-remote")
        .arg("--output")
        .arg(folder.path().join("remote.journal"))
        .args(["--split-mode=none", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("systemd-journal-remote of Debian's package of that name");
    let mut text = String::new();
    for (number, (at, unit, priority)) in lines.iter().enumerate() {
        let at: chrono::DateTime<chrono::Utc> = at.parse().unwrap();
        let priority = priority.map_or_else(String::new, |one| format!("PRIORITY={one}\n"));
        text += &format!(
            "__REALTIME_TIMESTAMP={}\n__MONOTONIC_TIMESTAMP={}\n_BOOT_ID=0123456789abcdef0123456789abcdef\n_SYSTEMD_UNIT={unit}\n{priority}MESSAGE=the harbour gate {number} says hunter2\n\n",
            at.timestamp_micros(),
            number + 1
        );
    }
    use std::io::Write;
    child
        .stdin
        .take()
        .unwrap()
        .write_all(text.as_bytes())
        .unwrap();
    assert!(child.wait().unwrap().success());
    folder
}

#[tokio::test]
async fn lines_of_the_journal_are_counted_by_unit_and_priority() {
    let folder = journal(&[
        ("2026-10-24T22:59:59Z", "gates.service", Some(3)),
        ("2026-10-24T23:00:00Z", "gates.service", Some(3)),
        ("2026-10-25T12:00:00Z", "gates.service", Some(3)),
        ("2026-10-25T12:00:01Z", "gates.service", Some(4)),
        ("2026-10-25T13:00:00Z", "cron.service", None),
        ("2026-10-26T00:00:00Z", "cron.service", Some(6)),
    ]);
    let reader = reader(&[MachinePart::Journal], Some(folder.path().to_owned()));
    let none = Values::new();
    let answer = ask_with(&reader, &here(), "check = \"journal\"", &none)
        .await
        .unwrap();
    let rows: Vec<(Value, Value, Value)> = answer
        .table
        .rows
        .iter()
        .map(|row| (row[0].clone(), row[2].clone(), row[3].clone()))
        .collect();
    let row = |unit: &str, level: &str, lines: i64| {
        (
            Value::Text(unit.into()),
            Value::Text(level.into()),
            Value::Integer(lines),
        )
    };
    assert_eq!(
        rows,
        [
            row("cron.service", "info", 1),
            row("gates.service", "err", 2),
            row("gates.service", "warning", 1)
        ]
    );
    assert_eq!(
        column(&answer.table, "last")[1],
        Value::Instant("2026-10-25T12:00:00Z".parse().unwrap())
    );
    assert!(
        !format!("{answer:?}").contains("hunter2"),
        "no line is told"
    );
    let only = "check = \"journal\"\ntargets = [\"cron.service\"]";
    let answer = ask_with(&reader, &here(), only, &none).await.unwrap();
    assert_eq!(answer.table.rows.len(), 1);
    // Nothing is missing unseen.
    let empty = TempDir::new().unwrap();
    let none_there = self::reader(&[MachinePart::Journal], Some(empty.path().to_owned()));
    let said = ask_with(&none_there, &here(), "check = \"journal\"", &none)
        .await
        .unwrap_err();
    assert!(
        said.contains(&format!(
            "there is no journal in {}",
            empty.path().display()
        )),
        "{said}"
    );
}
