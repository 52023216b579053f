//! Promises, forecasts and changes, from a definition to the reader.

use maple_lark_fixtures::{self as fixtures, Fixture};
use serde_json::json;
use sqlx::Executor;

use crate::place::{Place, applied, mails, operations, ran, ready, text};

const KEPT: &str = r#"
[dashboard]
name = "promises"
title = "Promises"

[[query]]
name = "maintenance"
source = "operations"
sql = "select :from::timestamptz + interval '2 hours' as from, :from::timestamptz + interval '4 hours' as to, 'New switches' as reason"

[[query]]
name = "kept"
source = "operations"
sql = """
select service, :from::timestamptz + hours * interval '1 hour' as at, state
from (values ('Booking', 0, 'up'), ('Payments', 0, 'up'), ('Payments', 3, 'down'), ('Payments', 5, 'up')) as s (service, hours, state)
"""
[[query.then]]
do = "availability"
by = ["service"]
time = "at"
state = "state"
objective = 99.9
leave-out = ["maintenance"]

[[query]]
name = "disk"
source = "operations"
sql = "select :from::timestamptz + n * interval '30 minutes' as at, (40 + n)::float8 as used from generate_series(0, 47) n"
[[query.then]]
do = "forecast"
method = "line"
time = "at"
value = "used"
ahead = "PT12H"
[[query.column]]
name = "used"
unit = "percent"
critical = 95

[[section]]
title = "All"
[[section.block]]
show = "availability"
title = "Services"
query = "kept"
label = "service"
[[section.block]]
show = "table"
title = "In numbers"
query = "kept"
[[section.block]]
show = "forecast"
title = "Disk"
query = "disk"
time = "at"
"#;

fn report(name: &str, more: &str) -> Fixture {
    fixtures::report(name, name)
        .key("title", format!("Report {name}"))
        .key("time-zone", "Atlantic/Faroe")
        .list("formats", &["pdf", "html", "csv", "txt"])
        .lines(more)
        .instead_of("[window]", "[window]\ninterval = \"2026-03-02/2026-03-03\"")
        .to("everyone", &["a@orrin-sound.example"])
}

/// What a run sent, by the endings of its files' names.
fn sent(place: &Place, run: &str) -> Vec<(String, Vec<u8>)> {
    let folder = place.folder.path().join(run);
    place.json(&["download", run, "--into", folder.to_str().unwrap()]);
    let entries = std::fs::read_dir(folder).unwrap();
    entries
        .map(|entry| {
            let entry = entry.unwrap();
            let name = entry.file_name().to_string_lossy().into_owned();
            (name, std::fs::read(entry.path()).unwrap())
        })
        .collect()
}

fn one(files: &[(String, Vec<u8>)], ending: &str) -> String {
    let found = files.iter().find(|(name, _)| name.ends_with(ending));
    text(&found.unwrap_or_else(|| panic!("no {ending}")).1)
}

#[tokio::test(flavor = "multi_thread")]
async fn promises_and_forecasts_reach_the_reader_in_every_format() {
    let (place, _service) = ready().await;
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("promises.toml", KEPT),
            ("report.toml", &report("promises", "")),
        ],
    );
    let run = ran(&place, "promises");
    assert_eq!(run["state"], "delivered", "{run:#}");
    let files = sent(&place, run["id"].as_str().unwrap());
    // Down from 03:00 to 05:00, of which the hour to 04:00 is left out: 21 of 22 hours.
    let table = one(&files, ".csv");
    assert!(
        table.starts_with("service,availability [%],objective [%],result,"),
        "{table}"
    );
    assert!(
        table.contains("Payments,95.45,99.9,missed,-4.45,3600"),
        "{table}"
    );
    assert!(table.contains("Booking,100.00,99.9,met"), "{table}");
    let words = one(&files, ".txt");
    for said in [
        "Payments: 95.45 %, objective 99.90 %",
        "Left out: 2 h (New switches).",
        // At 87 % at 23:30, and by 2 points an hour: 95 % four hours later.
        "Disk: 95\u{a0}% likely on 3 Mar 2026",
        "By straight line. Held against the last fifth of the past it was",
    ] {
        assert!(words.contains(said), "{said}\n{words}");
    }
    assert!(one(&files, ".html").contains("missed, 95.45 of 99.90 %"));
    let pdf = place.folder.path().join("promises.pdf");
    let bytes = &files
        .iter()
        .find(|(name, _)| name.ends_with(".pdf"))
        .unwrap()
        .1;
    std::fs::write(&pdf, bytes).unwrap();
    let read = std::process::Command::new("pdftotext")
        .args(["-layout", pdf.to_str().unwrap(), "-"])
        .output()
        .unwrap();
    let read = text(&read.stdout);
    assert!(
        read.contains("Payments: 95.45 %, objective 99.90 %"),
        "{read}"
    );
    assert!(
        read.contains("missed") && read.contains("forecast"),
        "{read}"
    );
    let mail = text(&mails(&place, 1)["a@orrin-sound.example"][0]);
    assert!(mail.contains("Payments: 95.45"), "{mail}");
}

const INVENTORY: &str = r#"
[dashboard]
name = "inventory"
title = "Inventory"
[[query]]
name = "hosts"
source = "operations"
sql = "select name, system from inventory order by name"
[[query]]
name = "changes"
of = "hosts"
[[query.then]]
do = "changes"
key = ["name"]
[[section]]
title = "All"
[[section.block]]
show = "table"
title = "Changes"
query = "changes"
"#;

#[tokio::test(flavor = "multi_thread")]
async fn a_run_is_compared_with_the_one_before_and_quiet_where_nothing_changed() {
    let (place, _service) = ready().await;
    let mut data = place.with_data().await;
    data.execute("create table inventory (name text primary key, system text not null); grant select on inventory to orrin_reader; insert into inventory values ('a', '12'), ('b', '12')")
        .await
        .unwrap();
    let quiet = "[send]\nwhen = \"rows\"\nqueries = [\"changes\"]\n";
    applied(
        &place,
        &[
            ("source.toml", &operations()),
            ("inventory.toml", INVENTORY),
            ("report.toml", &report("inventory", quiet)),
        ],
    );
    // A trial says why there are no rows.
    let trial = place.lark(&["query", "--query", "inventory/changes"]);
    let said = text(&trial.stdout) + &text(&trial.stderr);
    assert!(
        said.contains("There is nothing to compare with yet."),
        "{said}"
    );
    // One that is compared with the window before asks it, too.
    let asked = place.folder.path().join("compare.toml");
    std::fs::write(
        &asked,
        "[query]\nsource = \"operations\"\nsql = \"select extract(day from :from::timestamptz)::int as day\"\nthen = [{ do = \"compare\", since = \"window\" }]\n",
    )
    .unwrap();
    let day = |from: &str, to: &str| {
        let path = asked.to_str().unwrap();
        place.json(&["query", "--file", path, "--from", from, "--to", to])
    };
    let compared = day("2026-03-11T00:00:00Z", "2026-03-12T00:00:00Z");
    assert_eq!(
        compared["rows"][0],
        json!(["11", "10", "1", "10", "higher"])
    );
    let first = ran(&place, "inventory");
    assert_eq!(first["state"], "quiet", "{first:#}");
    data.execute("delete from inventory where name = 'a'; update inventory set system = '13'; insert into inventory values ('c', '13')")
        .await
        .unwrap();
    let second = ran(&place, "inventory");
    assert_eq!(second["state"], "delivered", "{second:#}");
    let id = second["id"].as_str().unwrap();
    let files = sent(&place, id);
    let table = one(&files, ".csv").replace('\r', "");
    assert_eq!(
        table,
        "change,name,system,difference\nnew,c,13,\ngone,a,12,\naltered,b,13,\"system: was 12, is 13\"\n"
    );
    let words = one(&files, ".txt");
    assert!(
        words.contains("Compared with the run before, of Monday 2 March 2026"),
        "{words}"
    );
    // The rows of then are in the snapshot, so the same document can be made again.
    let again = place.folder.path().join("again");
    let again = again.to_str().unwrap();
    place.json(&["render", id, "--format", "csv", "--into", again]);
    let written = std::fs::read_dir(again).unwrap().next().unwrap().unwrap();
    let written = text(&std::fs::read(written.path()).unwrap());
    assert_eq!(written.replace('\r', ""), table);
    let pdf = files
        .iter()
        .find(|(name, _)| name.ends_with(".pdf"))
        .unwrap();
    let path = place.folder.path().join("inventory.pdf");
    std::fs::write(&path, &pdf.1).unwrap();
    let verified = place.json(&["verify", path.to_str().unwrap()]);
    assert_eq!(verified[0][1]["reproducible"], json!(true), "{verified:#}");
    let third = ran(&place, "inventory");
    assert_eq!(third["state"], "quiet", "{third:#}");
    // From now on a trial, too, has a run to compare with.
    data.execute("update inventory set system = '14' where name = 'c'")
        .await
        .unwrap();
    let trial = place.json(&["query", "--query", "inventory/changes"]);
    assert_eq!(
        trial["rows"],
        json!([["altered", "c", "14", "system: was 13, is 14"]])
    );
    data.execute("update inventory set system = '13' where name = 'c'")
        .await
        .unwrap();
    // A run that is named is compared with, however many came after it.
    let named = |run: &str| {
        let named = INVENTORY.replace("key =", &format!("run = \"{run}\"\nkey ="));
        applied(&place, &[("inventory.toml", &named)]);
        ran(&place, "inventory")
    };
    let fourth = named(first["id"].as_str().unwrap());
    assert_eq!(fourth["state"], "delivered", "{fourth:#}");
    let files = sent(&place, fourth["id"].as_str().unwrap());
    assert_eq!(one(&files, ".csv").replace('\r', ""), table);
    let stranger = "01a21fb9-8341-7649-b7f3-5749fb00368c";
    let fifth = named(stranger);
    assert_eq!(fifth["state"], "quiet", "{fifth:#}");
    let files = sent(&place, fifth["id"].as_str().unwrap());
    // Prose is in lines.
    let lines = one(&files, ".txt");
    let said = lines.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        said.contains(&format!("the run {stranger} of this report has no answer")),
        "{said}"
    );
}
