//! The work orders of the fleet, which its maintenance keeps in a file of its own (SQLite).

use std::path::Path;

use anyhow::Result;
use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use rusqlite::Connection;

use super::{company::VESSELS, noise::even};

/// How many days of orders there are.
const DAYS: i64 = 70;
/// What breaks on a ferry, with how many hours it takes.
const WORKS: [(&str, f64); 8] = [
    ("Bow door limit switch", 3.0),
    ("Gangway hydraulics", 6.5),
    ("Radar display", 2.0),
    ("Lifeboat davit inspection", 8.0),
    ("Ticket scanner at the ramp", 1.0),
    ("Bilge pump", 5.0),
    ("Emergency lighting", 2.5),
    ("Main engine fuel filter", 4.0),
];

/// Writes the orders up to `now`, in place of those that are there. The same day has the same.
pub fn write(file: &Path, now: DateTime<Utc>) -> Result<()> {
    let new = file.with_extension("new");
    let _ = std::fs::remove_file(&new);
    let mut database = Connection::open(&new)?;
    database.execute_batch(
        "create table work_orders (id integer primary key, vessel text not null, work text not null, \
           priority text not null, opened datetime not null, closed datetime, hours real not null);",
    )?;
    let all = database.transaction()?;
    let today = now.duration_trunc(TimeDelta::days(1))?;
    for day in 0..DAYS {
        let begin = today - TimeDelta::days(DAYS - 1 - day);
        for (at, (vessel, _)) in VESSELS.iter().enumerate() {
            let chance = |what: &str| even(&format!("{vessel} {what}"), begin.timestamp());
            if chance("breaks") > 0.22 {
                continue;
            }
            let (work, hours) = WORKS[(chance("work") * WORKS.len() as f64) as usize % WORKS.len()];
            let priority = if chance("priority") < 0.2 {
                "high"
            } else {
                "normal"
            };
            let opened = begin + TimeDelta::minutes(6 * 60 + at as i64 * 31);
            let takes = TimeDelta::hours(4 + (chance("takes").powi(2) * 420.0) as i64);
            let closed = Some(opened + takes).filter(|closed| *closed < now);
            if opened < now {
                all.execute(
                    "insert into work_orders (vessel, work, priority, opened, closed, hours) values (?, ?, ?, ?, ?, ?)",
                    (vessel, work, priority, written(opened), closed.map(written), hours),
                )?;
            }
        }
    }
    all.commit()?;
    database.close().map_err(|(_, error)| error)?;
    // Whoever reads the file sees the old orders or the new ones.
    Ok(std::fs::rename(new, file)?)
}

fn written(at: DateTime<Utc>) -> String {
    at.format("%Y-%m-%d %H:%M:%S").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_day_has_the_same_orders_some_of_them_open() {
        let folder = tempfile::TempDir::new().unwrap();
        let file = folder.path().join("work-orders.db");
        let now = "2026-11-24T12:00:00Z".parse().unwrap();
        let count = || {
            write(&file, now).unwrap();
            let database = Connection::open(&file).unwrap();
            let counts = "select count(*), sum(closed is null), max(opened) from work_orders";
            database
                .query_row(counts, [], |row| {
                    Ok((
                        row.get::<_, i64>(0)?,
                        row.get::<_, i64>(1)?,
                        row.get::<_, String>(2)?,
                    ))
                })
                .unwrap()
        };
        let (all, open, last) = count();
        assert_eq!(count(), (all, open, last.clone()));
        assert!((80..220).contains(&all), "{all}");
        assert!((5..60).contains(&open), "{open}");
        assert!(last.as_str() < "2026-11-24 12:00:00", "{last}");
    }
}
