use mail_parser::{MessageParser, MimeHeaders};
use sha2::{Digest, Sha256};
use sqlx::Row;

use crate::place::{Place, small_report, text};

#[tokio::test(flavor = "multi_thread")]
async fn a_report_travels_from_its_definition_to_the_mailbox() {
    let place = Place::new().await;
    let mut operations = place.with_data().await;
    let records = place.records().await;
    drop(records);
    place
        .cluster
        .administer("grant pg_monitor to lark_statistics")
        .await
        .unwrap();
    let _service = place.serve();
    place.sign_in();
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");

    // The difference is shown before anything is changed.
    let plan = place.json(&["apply", demo, "--check"]);
    assert_eq!(plan["changes"].as_array().unwrap().len(), 53);
    let week = plan["changes"]
        .as_array()
        .unwrap()
        .iter()
        .find(|change| change["name"] == "week-in-review" && change["kind"] == "report")
        .unwrap();
    assert!(
        week["schedule"]
            .as_str()
            .unwrap()
            .starts_with("Every Monday at 08:00, moved from the days of the calendar"),
        "{week}"
    );
    assert_eq!(week["next"].as_array().unwrap().len(), 3);
    assert_eq!(place.json(&["reports"]).as_array().unwrap().len(), 0);
    let applied = place.apply_demo();
    assert!(applied.status.success(), "{}", text(&applied.stderr));
    assert_eq!(
        place.json(&["apply", demo, "--check"])["changes"]
            .as_array()
            .unwrap()
            .len(),
        0
    );
    assert_eq!(place.json(&["sources"]).as_array().unwrap().len(), 9);
    assert_eq!(place.json(&["dashboards"]).as_array().unwrap().len(), 13);
    let reports = place.json(&["reports"]);
    let mut all = reports.as_array().unwrap().iter();
    let report = all.find(|report| report["name"] == "ferry-operations-daily");
    assert_eq!(report.unwrap()["schedule"], "Every day at 07:30");
    assert_eq!(place.json(&["test", "operations"])["works"], true);
    assert!(place.json(&["test", "operations"])["warning"].is_null());

    let run = place.json(&["run", "ferry-operations-daily"]);
    assert_eq!(run["state"], "delivered", "{run:#}");
    assert!(
        run["steps"]
            .as_array()
            .unwrap()
            .iter()
            .all(|step| step["state"] == "done"),
        "{run:#}"
    );

    // Three recipients in two audiences: three mails, read by an independent parser.
    let messages = place.mail.messages();
    assert_eq!(messages.len(), 3);
    let label = run["window"]["label"].as_str().unwrap();
    let date = chrono::NaiveDate::parse_from_str(label, "%A %d %B %Y").unwrap();
    let iso_label = date.format("%A %F").to_string();
    let mut ids = std::collections::BTreeSet::new();
    for bytes in &messages {
        let message = MessageParser::default().parse(bytes).unwrap();
        // Runa reads dates as ISO 8601 has them, in subjects too.
        let is_runa = String::from_utf8_lossy(bytes).contains("runa.holm@");
        let dated = if is_runa { &iso_label } else { label };
        assert_eq!(
            message.subject().unwrap(),
            format!("Ferry operations, daily: {dated} – Needs action")
        );
        ids.insert(message.message_id().unwrap().to_owned());
        let plain = message.body_text(0).unwrap();
        assert!(
            plain.contains("Good morning.") && plain.contains("Services available"),
            "{plain}"
        );
        let html = message.body_html(0).unwrap();
        assert!(html.contains("Kiosk sales failed") && html.contains("<img src=\"cid:"));
        let image = message
            .attachments()
            .find(|part| part.content_id().is_some())
            .unwrap();
        assert!(
            html.contains(&format!("cid:{}", image.content_id().unwrap()))
                && image.contents().starts_with(b"\x89PNG")
        );
        let names: Vec<&str> = message
            .attachments()
            .filter_map(|part| part.attachment_name())
            .collect();
        assert_eq!(
            names.iter().filter(|name| name.ends_with(".csv")).count(),
            5,
            "{names:?}"
        );
        assert!(
            names.iter().any(|name| name.ends_with(".pdf"))
                && names.iter().any(|name| name.ends_with(".html"))
        );
    }
    assert_eq!(ids.len(), 3);

    // The port of Havnes sees its own kiosks and no others.
    let havnes = messages
        .iter()
        .map(|bytes| MessageParser::default().parse(bytes).unwrap())
        .find(|message| {
            message.to().unwrap().first().unwrap().address() == Some("havnes@orrin-sound.example")
        })
        .unwrap();
    let pdf = attachment(&havnes, ".pdf");
    assert!(pdf_text(&pdf).contains("havnes-kiosk-1"));
    for part in havnes.attachments() {
        let name = part.attachment_name().unwrap_or("the picture");
        let content = if name.ends_with(".pdf") {
            pdf_text(part.contents())
        } else {
            text(part.contents())
        };
        assert!(
            !content.contains("skarvoy-kiosk") && !content.contains("tornvik-kiosk"),
            "{name} shows other ports"
        );
    }

    // What was mailed is what is stored and what is downloaded.
    let whole = messages
        .iter()
        .map(|bytes| MessageParser::default().parse(bytes).unwrap())
        .find(|message| {
            message.to().unwrap().first().unwrap().address()
                == Some("runa.holm@orrin-sound.example")
        })
        .unwrap();
    let pdf = attachment(&whole, ".pdf");
    let stored: Vec<&str> = run["documents"]
        .as_array()
        .unwrap()
        .iter()
        .map(|document| document["sha256"].as_str().unwrap())
        .collect();
    assert!(stored.contains(&hex::encode(Sha256::digest(&pdf)).as_str()));
    let into = place.folder.path().join("downloads");
    let downloaded = place.json(&[
        "download",
        run["id"].as_str().unwrap(),
        "--format",
        "pdf",
        "--into",
        into.to_str().unwrap(),
    ]);
    // One for each audience, and one for her who writes numbers in another way.
    assert_eq!(downloaded.as_array().unwrap().len(), 3);
    assert!(
        downloaded
            .as_array()
            .unwrap()
            .iter()
            .any(|file| std::fs::read(file[0].as_str().unwrap()).unwrap() == pdf)
    );

    // The PDF's text says what, of when, and from what.
    let words = pdf_text(&pdf);
    for wanted in [
        "Ferry operations, daily",
        &iso_label,
        "Atlantic/Faroe",
        "Ferry operations database",
        "Fullest disks",
        "Warning 3",
        "How this was made",
        "Page 1 of",
    ] {
        assert!(
            words.contains(wanted),
            "the PDF does not say \"{wanted}\":\n{words}"
        );
    }
    let html = text(&attachment(&whole, ".html"));
    for wanted in ["<!DOCTYPE html>", "Fullest disks", &iso_label, "<svg "] {
        assert!(html.contains(wanted), "the HTML does not have \"{wanted}\"");
    }

    // The CSV has the rows that the source gives for the same window.
    let file = attachment(&whole, "kiosks-with-the-highest-failure-rate.csv");
    let mut reader = csv::Reader::from_reader(&file[..]);
    assert_eq!(
        reader.headers().unwrap().iter().collect::<Vec<_>>(),
        [
            "kiosk",
            "port",
            "sold",
            "failed",
            "rate [%]",
            "revenue [DKK]"
        ]
    );
    let read: Vec<(String, i64, String)> = reader
        .records()
        .map(|record| record.unwrap())
        .map(|record| {
            (
                record[0].to_owned(),
                record[2].parse().unwrap(),
                record[5].to_owned(),
            )
        })
        .collect();
    let (from, to): (chrono::DateTime<chrono::Utc>, chrono::DateTime<chrono::Utc>) = (
        run["window"]["from"].as_str().unwrap().parse().unwrap(),
        run["window"]["to"].as_str().unwrap().parse().unwrap(),
    );
    let expected = sqlx::query("select kiosk, sum(sold) as sold, sum(revenue)::text as revenue from kiosk_sales where hour >= $1 and hour < $2 group by 1")
        .bind(from)
        .bind(to)
        .fetch_all(&mut operations)
        .await
        .unwrap();
    assert_eq!(read.len(), expected.len());
    for row in expected {
        let wanted: (String, i64, String) = (row.get("kiosk"), row.get("sold"), row.get("revenue"));
        assert!(read.contains(&wanted), "{wanted:?} is not in the CSV");
    }

    // The report on the very server: real data.
    let real = place.json(&["run", "database-server-health", "--no-delivery"]);
    assert_eq!(real["state"], "completed", "{real:#}");

    // A week beside the week before, and a report that is quiet when nothing is wrong.
    let week = place.json(&["run", "week-in-review", "--no-delivery"]);
    assert_eq!(week["state"], "completed", "{week:#}");
    let sent = place.mail.messages().len();
    // In the year before the data there was no failed job.
    let quiet = place.json(&["run", "failed-jobs", "--at", "2020-01-01T00:00:00Z"]);
    assert_eq!(
        (quiet["state"].as_str(), quiet["problem"].as_str()),
        (Some("quiet"), Some("no rows in \"failed_jobs\""))
    );
    assert_eq!(place.mail.messages().len(), sent);

    // An export gives back the files that were applied.
    let exported = place.folder.path().join("exported");
    assert!(
        place
            .lark(&["export", exported.to_str().unwrap()])
            .status
            .success()
    );
    for file in [
        "sources/operations.toml",
        "reports/ferry-operations-daily.toml",
        "calendars/holidays.ics",
    ] {
        assert_eq!(
            std::fs::read(exported.join(file)).unwrap(),
            std::fs::read(std::path::Path::new(demo).join(file)).unwrap()
        );
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_past_window_can_be_made_again_and_a_pause_holds() {
    let place = Place::new().await;
    let _service = place.serve();
    place.sign_in();
    place.apply_small(&small_report().daily_at("07:30", ""));
    let run = place.json(&[
        "run",
        "small",
        "--at",
        "2026-10-26T07:30:00Z",
        "--no-delivery",
    ]);
    assert_eq!(run["window"]["label"], "Sunday 25 October 2026, 25 h");
    assert_eq!(
        run["window"]["exact"],
        "2026-10-25T00:00:00+01:00/2026-10-26T00:00:00+00:00[Atlantic/Faroe]"
    );
    assert_eq!(place.mail.messages().len(), 0);
    assert_eq!(
        place.json(&["pause", "small"])["next"],
        serde_json::Value::Null
    );
    assert_eq!(place.json(&["resume", "small"])["paused"], false);
}

fn attachment(message: &mail_parser::Message<'_>, ending: &str) -> Vec<u8> {
    message
        .attachments()
        .find(|part| {
            part.attachment_name()
                .is_some_and(|name| name.ends_with(ending))
        })
        .unwrap()
        .contents()
        .to_vec()
}

/// By pdftotext, which knows nothing of how the PDF was made.
pub fn pdf_text(bytes: &[u8]) -> String {
    let file = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(file.path(), bytes).unwrap();
    let output = std::process::Command::new("pdftotext")
        .arg("-layout")
        .arg(file.path())
        .arg("-")
        .output()
        .expect("pdftotext of Debian's package poppler-utils");
    assert!(output.status.success());
    text(&output.stdout)
}
