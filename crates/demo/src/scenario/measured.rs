//! What was measured: load with a daily and weekly rhythm, and a few incidents worth finding.
//!
//! Incidents stand at fixed times before the anchor, the day on which the demo was loaded:
//! payments fail yesterday afternoon, kiosks at Havnes since two mornings ago, the archive
//! volume fills up, the Eider loses her link one night, the ledger job fails.

use std::fmt::Write;

use anyhow::Result;
use chrono::{DateTime, Datelike, TimeDelta, Timelike, Utc};
use sqlx::PgConnection;

use super::{
    STEP,
    company::{self, JOBS, SERVICES, VESSELS},
    noise::{bell, drift, even},
};

type Time = DateTime<Utc>;

/// Writes everything measured in `[from, to)`, both on whole steps, and answers how many
/// rows that were.
pub async fn load(
    connection: &mut PgConnection,
    anchor: Time,
    from: Time,
    to: Time,
) -> Result<u64> {
    let (mut hosts, mut checks, mut links, mut sales, mut jobs) = (
        String::new(),
        String::new(),
        String::new(),
        String::new(),
        String::new(),
    );
    let mut rows = 0;
    let all_hosts = company::hosts();
    let all_kiosks = company::kiosks();
    let mut at = from;
    while at < to {
        let stamp = at.to_rfc3339();
        let moment = at.timestamp() / STEP.num_seconds();
        for (name, role, _) in &all_hosts {
            host(&mut hosts, &stamp, name, role, at, moment, anchor);
        }
        for (service, _, _) in SERVICES {
            check(&mut checks, &stamp, service, at, moment, anchor);
        }
        for (vessel, _) in VESSELS {
            link(&mut links, &stamp, vessel, at, moment, anchor);
        }
        rows += all_hosts.len() + SERVICES.len() + VESSELS.len();
        if at.minute() == 0 {
            for (kiosk, port) in &all_kiosks {
                sale(&mut sales, &stamp, kiosk, port, at, moment, anchor);
            }
            rows += all_kiosks.len();
            for (index, (job, minutes)) in JOBS.iter().enumerate() {
                if at.hour() as usize == 1 + index % 3 {
                    rows += 1;
                    batch(&mut jobs, job, *minutes, at, moment, anchor);
                }
            }
        }
        at += STEP;
    }
    for (table, text) in [
        ("host_samples", hosts),
        ("health_checks", checks),
        ("vessel_links", links),
        ("kiosk_sales", sales),
        ("batch_runs", jobs),
    ] {
        copy(connection, table, text).await?;
    }
    Ok(rows as u64)
}

async fn copy(connection: &mut PgConnection, table: &'static str, text: String) -> Result<()> {
    let mut copy = connection
        .copy_in_raw(&format!("copy {table} from stdin with (format csv)"))
        .await?;
    copy.send(text.into_bytes()).await?;
    copy.finish().await?;
    Ok(())
}

/// From 0 at night to 1 at the height of a working day; weekends are quieter on land.
fn rhythm(at: Time) -> f64 {
    let hour = f64::from(at.hour()) + f64::from(at.minute()) / 60.0;
    let morning = (-((hour - 8.0) / 2.4).powi(2)).exp();
    let evening = (-((hour - 16.5) / 3.0).powi(2)).exp();
    let weekend = if at.weekday().num_days_from_monday() >= 5 {
        0.72
    } else {
        1.0
    };
    (0.08 + 0.80 * morning + 0.92 * evening).min(1.0) * weekend
}

fn between(at: Time, start: Time, minutes: i64) -> bool {
    at >= start && at < start + TimeDelta::minutes(minutes)
}

/// Yesterday afternoon, when payments failed.
fn payments_outage(anchor: Time) -> Time {
    anchor - TimeDelta::days(1) + TimeDelta::minutes(14 * 60 + 10)
}

#[expect(
    clippy::too_many_arguments,
    reason = "one row of the table, column by column"
)]
fn host(
    out: &mut String,
    stamp: &str,
    name: &str,
    role: &str,
    at: Time,
    moment: i64,
    anchor: Time,
) {
    let (idle, busy) = match role {
        "app" => (14.0, 48.0),
        "db" => (18.0, 42.0),
        "proxy" => (9.0, 30.0),
        "gate" | "kiosk-hub" => (5.0, 22.0),
        _ => (7.0, 18.0),
    };
    let mut cpu =
        idle + busy * rhythm(at) + 5.0 * drift(name, moment, 24) + 2.5 * bell(name, moment);
    if role == "app" && between(at, payments_outage(anchor), 40) {
        cpu += 32.0;
    }
    if name == "db-02" && at.hour() == 2 {
        cpu += 35.0;
    }
    let memory = 38.0 + 34.0 * even(name, 1) + 4.0 * drift(name, moment, 288) + 3.0 * rhythm(at);
    let days = (at - (anchor - TimeDelta::days(35))).num_minutes() as f64 / 1440.0;
    let disk = match name {
        // The volume that fills up: a little over one percent a day.
        "archive-01" => 52.0 + 1.16 * days,
        "db-03" => 71.0 + 0.28 * days,
        _ => 22.0 + 44.0 * even(name, 2) + 0.05 * days + drift(name, moment, 2000),
    };
    let disk = disk.clamp(1.0, 99.7);
    let size: f64 = if name == "archive-01" {
        16e12
    } else if role == "db" {
        4e12
    } else {
        480e9
    };
    let free = (size * (1.0 - disk / 100.0)) as i64;
    let _ = writeln!(
        out,
        "{stamp},{name},{:.2},{:.2},{disk:.3},{free}",
        cpu.clamp(0.5, 100.0),
        memory.clamp(2.0, 99.0)
    );
}

fn check(out: &mut String, stamp: &str, service: &str, at: Time, moment: i64, anchor: Time) {
    let (base, load, failing) = match service {
        "booking" => (95.0, 110.0, 0.0002),
        "payments" => (180.0, 140.0, 0.0002),
        "gate-scanners" => (35.0, 25.0, 0.001),
        "ticket-kiosks" => (70.0, 60.0, 0.002),
        "crew-roster" => (110.0, 30.0, 0.0005),
        "vessel-links" => (620.0, 60.0, 0.004),
        _ => (240.0, 160.0, 0.006),
    };
    let mut latency = base
        + load * rhythm(at)
        + base * 0.05 * bell(service, moment)
        + base * 0.06 * drift(service, moment, 36);
    let mut ok = even(service, moment) >= failing;
    let outage = payments_outage(anchor);
    match service {
        "payments" if between(at, outage, 35) => {
            latency = 2400.0 + 500.0 * bell("outage", moment);
            ok = even("outage", moment) > 0.75;
        }
        "booking" if between(at, outage, 45) => latency += 420.0,
        // The week-long creep of the crew roster before its database upgrade.
        "crew-roster" if at > anchor - TimeDelta::days(9) && at < anchor - TimeDelta::days(5) => {
            latency += 12.0 * (at - (anchor - TimeDelta::days(9))).num_minutes() as f64 / 360.0;
        }
        _ => {}
    }
    let night = (1..=5)
        .map(|week| anchor - TimeDelta::days(7 * week - 2))
        .any(|night| between(at, night + TimeDelta::hours(1), 180));
    if service == "crew-roster" && night {
        ok = false;
    }
    let latency = if ok || even("answered", moment) > 0.6 {
        format!("{:.1}", latency.max(8.0))
    } else {
        String::new()
    };
    let _ = writeln!(out, "{stamp},{service},{ok},{latency}");
}

fn link(out: &mut String, stamp: &str, vessel: &str, at: Time, moment: i64, anchor: Time) {
    let lost_night =
        vessel == "Eider" && between(at, anchor - TimeDelta::days(3) + TimeDelta::hours(1), 200);
    let up = !lost_night && even(vessel, moment) > 0.003;
    let latency = if up {
        format!(
            "{:.0}",
            (610.0 + 40.0 * bell(vessel, moment) + 50.0 * drift(vessel, moment, 60)).max(480.0)
        )
    } else {
        String::new()
    };
    let bits = if up {
        (2.0e6 + 2.6e7 * rhythm(at) * (0.6 + 0.4 * even(vessel, 7)) + 1.5e6 * bell(vessel, moment))
            .max(1.0e5)
    } else {
        0.0
    };
    let _ = writeln!(out, "{stamp},{vessel},{up},{latency},{}", bits as i64);
}

#[expect(
    clippy::too_many_arguments,
    reason = "one row of the table, column by column"
)]
fn sale(
    out: &mut String,
    stamp: &str,
    kiosk: &str,
    port: &str,
    at: Time,
    moment: i64,
    anchor: Time,
) {
    let size = match port {
        "skarvoy" => 46.0,
        "tornvik" => 34.0,
        "havnes" => 28.0,
        _ => 17.0,
    };
    let tried = (size * rhythm(at) * (0.8 + 0.4 * even(kiosk, moment))).round();
    let rate = if port == "havnes" && at >= anchor - TimeDelta::days(2) + TimeDelta::hours(9) {
        0.17 + 0.08 * even(kiosk, moment + 1)
    } else {
        0.022 * even(kiosk, moment + 1)
    };
    let failed = (tried * rate).round();
    let sold = tried - failed;
    let revenue = sold * (88.0 + 30.0 * even(kiosk, moment + 2));
    let _ = writeln!(out, "{stamp},{kiosk},{sold},{failed},{revenue:.2}");
}

fn batch(out: &mut String, job: &str, minutes: i64, at: Time, moment: i64, anchor: Time) {
    let length = (minutes as f64 * (1.0 + 0.12 * bell(job, moment))).max(1.0);
    let failed =
        job == "nightly-ledger" && at.date_naive() == (anchor - TimeDelta::days(1)).date_naive();
    let length = if failed { 3.0 } else { length };
    let ended = at + TimeDelta::seconds((length * 60.0) as i64);
    let _ = writeln!(
        out,
        "{job},{},{},{}",
        at.to_rfc3339(),
        ended.to_rfc3339(),
        if failed { "failed" } else { "succeeded" }
    );
}
