//! What stands in a mail.

use super::*;

#[test]
fn the_mail_body_has_figures_a_picture_and_a_readable_text() {
    let body = mail_body(
        &document(disks(&[("a", 95.5)])),
        MailContent::Summary,
        &Context {
            message: Some("Good morning."),
            attachments: &["daily.pdf".into()],
            link: Some(("http://127.0.0.1/runs/1", "This run in the console")),
            ..Context::default()
        },
    )
    .unwrap();
    let [image] = &body.images[..] else {
        panic!("{:?}", body.images.len())
    };
    let html = body.html.unwrap();
    assert!(image.png.starts_with(b"\x89PNG"));
    assert!(html.contains(&format!("cid:{}", image.content_id)));
    // Programs that ignore style sheets lose nothing but what suits a phone.
    let (head, body_of_html) = html.split_once("</head>").unwrap();
    let (_, sheet) = head.split_once("<style>").unwrap();
    assert!(
        sheet
            .trim_start()
            .starts_with("@media (max-width: 30rem) {")
    );
    assert!(!body_of_html.contains("<style") && !html.contains("<svg"));
    let text = body.text.replace('\u{a0}', " ");
    assert!(text.starts_with("Daily <ferries> & more\nSunday 25 October 2026, 25 h\n"));
    for part in [
        "Good morning.",
        "◆ Needs action",
        "  Used   95.5 %   ◆ Critical",
        "Attached: daily.pdf",
        "http://127.0.0.1/runs/1",
    ] {
        assert!(text.contains(part), "{part} is missing in\n{text}");
    }
}

#[test]
fn many_attachments_are_counted_by_their_kind() {
    let names = ["a.pdf", "a.html", "b.csv", "c.csv"].map(String::from);
    let body = mail_body(
        &document(disks(&[("a", 95.5)])),
        MailContent::Summary,
        &Context {
            attachments: &names,
            ..Context::default()
        },
    )
    .unwrap();
    assert!(
        body.text
            .contains("Attached: 1 PDF, 1 HTML and 2 CSV files\n"),
        "{}",
        body.text
    );
    assert!(
        body.html
            .unwrap()
            .contains("Attached: 1 PDF, 1 HTML and 2 CSV files.")
    );
}

#[test]
fn a_mail_can_hold_the_whole_report_or_the_message_alone() {
    let around = Context {
        message: Some("Good <b>morning</b>."),
        note: Some("This is a copy."),
        left_out: Some("The files are too large for a mail."),
        leave: Some("https://lark.example/leave/x"),
        ..Context::default()
    };
    let full = mail_body(
        &document(disks(&[("a", 95.5), ("b", 12.0)])),
        MailContent::Full,
        &around,
    )
    .unwrap();
    let html = full.html.unwrap();
    for wanted in [
        "This is a copy.",
        "Good &lt;b&gt;morning&lt;&#x2f;b&gt;.",
        "<td align=",
        "too large",
        "Get this report no more",
    ] {
        assert!(html.contains(wanted), "{wanted} is missing in\n{html}");
    }
    assert!(
        full.text
            .contains("To get this report no more: https://lark.example/leave/x")
    );
    let failed = mail_body(
        &document(Outcome::Failed("no relation".into())),
        MailContent::Full,
        &around,
    )
    .unwrap();
    assert!(
        failed
            .html
            .unwrap()
            .contains("Could not be made: no relation")
    );
    let alone = mail_body(&document(disks(&[("a", 95.5)])), MailContent::Text, &around).unwrap();
    assert!(alone.html.is_none() && alone.images.is_empty());
    assert!(
        alone.text.contains("Good <b>morning</b>.") && !alone.text.contains("95.5"),
        "{}",
        alone.text
    );
}
