//! The made-up company: ports, vessels, hosts, services, kiosks, certificates.

use anyhow::Result;
use chrono::{DateTime, TimeDelta, Utc};
use sqlx::{PgConnection, QueryBuilder};

pub const PORTS: [(&str, &str); 6] = [
    ("skarvoy", "Skarvøy"),
    ("tornvik", "Tornvik"),
    ("lyngsund", "Lyngsund"),
    ("havnes", "Havnes"),
    ("ostrey", "Østrey"),
    ("brimsund", "Brimsund"),
];

pub const VESSELS: [(&str, &str); 9] = [
    ("Kittiwake", "skarvoy"),
    ("Gannet", "skarvoy"),
    ("Northern Tern", "tornvik"),
    ("Black Guillemot", "tornvik"),
    ("Eider", "lyngsund"),
    ("Storm Petrel", "havnes"),
    ("Fulmar", "ostrey"),
    ("Razorbill", "brimsund"),
    ("Little Auk", "brimsund"),
];

/// Name, title and objective in percent.
pub const SERVICES: [(&str, &str, f64); 7] = [
    ("booking", "Booking", 99.9),
    ("payments", "Payments", 99.95),
    ("gate-scanners", "Gate scanners", 99.5),
    ("ticket-kiosks", "Ticket kiosks", 99.0),
    ("crew-roster", "Crew roster", 99.5),
    ("vessel-links", "Vessel links", 99.0),
    ("passenger-wifi", "Passenger Wi-Fi", 98.0),
];

pub const KIOSKS_A_PORT: usize = 4;
pub const JOBS: [(&str, i64); 5] = [
    ("nightly-ledger", 42),
    ("backup-booking", 95),
    ("backup-payments", 60),
    ("timetable-import", 8),
    ("crew-export", 12),
];

/// Name, role, port: 41 of them.
pub fn hosts() -> Vec<(String, &'static str, &'static str)> {
    let mut hosts = Vec::new();
    for (code, _) in PORTS {
        for (role, count) in [("gate", 2), ("kiosk-hub", 1), ("edge", 1)] {
            hosts.extend((1..=count).map(|n| (format!("{code}-{role}-{n:02}"), role, code)));
        }
    }
    for (role, count) in [
        ("app", 6),
        ("db", 4),
        ("queue", 2),
        ("cache", 2),
        ("proxy", 2),
        ("archive", 1),
    ] {
        hosts.extend((1..=count).map(|n| (format!("{role}-{n:02}"), role, "skarvoy")));
    }
    hosts
}

pub fn kiosks() -> Vec<(String, &'static str)> {
    PORTS
        .iter()
        .flat_map(|(code, _)| {
            (1..=KIOSKS_A_PORT).map(move |n| (format!("{code}-kiosk-{n}"), *code))
        })
        .collect()
}

pub async fn load(connection: &mut PgConnection, anchor: DateTime<Utc>) -> Result<()> {
    let mut query = QueryBuilder::new("insert into ports (code, name) ");
    query.push_values(PORTS, |mut row, (code, name)| {
        row.push_bind(code).push_bind(name);
    });
    query.build().execute(&mut *connection).await?;
    let mut query = QueryBuilder::new("insert into vessels (name, home_port) ");
    query.push_values(VESSELS, |mut row, (name, port)| {
        row.push_bind(name).push_bind(port);
    });
    query.build().execute(&mut *connection).await?;
    let mut query = QueryBuilder::new("insert into hosts (name, role, port) ");
    query.push_values(hosts(), |mut row, (name, role, port)| {
        row.push_bind(name).push_bind(role).push_bind(port);
    });
    query.build().execute(&mut *connection).await?;
    let mut query = QueryBuilder::new("insert into services (name, title, objective) ");
    query.push_values(SERVICES, |mut row, (name, title, objective)| {
        row.push_bind(name).push_bind(title).push_bind(objective);
    });
    query.build().execute(&mut *connection).await?;
    let mut query = QueryBuilder::new("insert into kiosks (name, port) ");
    query.push_values(kiosks(), |mut row, (name, port)| {
        row.push_bind(name).push_bind(port);
    });
    query.build().execute(&mut *connection).await?;
    let certificates = [
        ("book", 9),
        ("pay", 61),
        ("gates", 25),
        ("crew", 143),
        ("wifi", 4),
        ("status", 210),
        ("kiosk-api", 88),
    ];
    let mut query = QueryBuilder::new("insert into certificates (host_name, issuer, expires_at) ");
    query.push_values(certificates, |mut row, (host, days)| {
        row.push_bind(format!("{host}.orrin-sound.example"))
            .push_bind("Orrin Sound Internal CA")
            .push_bind(anchor + TimeDelta::days(days) + TimeDelta::hours(12));
    });
    query.build().execute(&mut *connection).await?;
    let mut query =
        QueryBuilder::new("insert into maintenance (service, starts_at, ends_at, title) ");
    query.push_values(
        (1..=5).map(|week| anchor - TimeDelta::days(7 * week - 2)),
        |mut row, night| {
            row.push_bind("crew-roster")
                .push_bind(night + TimeDelta::hours(1))
                .push_bind(night + TimeDelta::hours(4))
                .push_bind("Crew roster database upgrade");
        },
    );
    query.build().execute(&mut *connection).await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn the_company_is_made_up_and_everything_in_it_has_one_name() {
        let hosts = hosts();
        assert_eq!(hosts.len(), 41);
        let names: BTreeSet<&str> = hosts.iter().map(|(name, ..)| name.as_str()).collect();
        assert_eq!(names.len(), hosts.len());
        let kiosks = kiosks();
        let ports: BTreeSet<&str> = kiosks.iter().map(|(_, port)| *port).collect();
        for (kiosk, port) in &kiosks {
            assert!(kiosk.starts_with(port), "{kiosk} is at {port}");
        }
        let of_hosts: BTreeSet<&str> = hosts.iter().map(|(.., port)| *port).collect();
        assert!(ports.is_subset(&of_hosts), "{ports:?} {of_hosts:?}");
    }
}
