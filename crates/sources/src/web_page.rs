//! Live pages, as a browser shows them.

use std::{sync::Arc, time::Duration};

use maple_lark_capture::{Act, Captured, Failed, Gate, Kept, Order, Typed};
use maple_lark_data::{Column, ColumnKind, Table, Value};
use maple_lark_definition::{
    FileForm, FileRows, Keep, PageAsk, PageStep, PageView, Setting, SignIn, Source, Web,
};
use url::{Position, Url};

use crate::{
    Answer, Greeting, NoClient, Question, Reader, SourceError, filled::not_filled, rows::rows_of,
    threads::computed, web::without_sign_in,
};

/// Captures a page, or reads rows of it.
pub async fn read(
    reader: &Reader,
    source: &Source,
    web: &Web,
    page: &PageAsk,
    question: Question<'_>,
) -> Result<Answer, SourceError> {
    let order = asked(reader, source, web, page, question).await?;
    let sent = without_sign_in(&order.address).to_string();
    let captured = captured(reader, source, &order).await?;
    let note = captured.note.clone();
    let bytes = match &captured.kept {
        Kept::Look { .. } => {
            let table = parts(&captured, &page.keep);
            return Ok(Answer {
                note,
                capture: Some(Box::new(captured)),
                ..Answer::of(table, sent)
            });
        }
        Kept::Table(rows) => csv_of(rows),
        Kept::Download(file) => file.clone(),
    };
    let (of, window) = (source.clone(), question.times.window.clone());
    let read = computed(source, move || {
        let as_file = FileRows {
            file: "the page".to_owned(),
            form: FileForm::Csv,
            delimiter: ',',
            encoding: "utf-8".to_owned(),
            has_header: true,
            fields: Vec::new(),
            time: None,
            skip_bad: false,
            sheet: None,
            rows: None,
            pattern: None,
        };
        rows_of(&of, &as_file, &window, &bytes, sent)
    });
    let mut answer = read.await?;
    answer.note = answer.note.or(note);
    Ok(answer)
}

/// What somebody who composes sees of a page: how it looks, and the parts that may be wanted.
pub async fn outline(
    reader: &Reader,
    source: &Source,
    web: &Web,
    page: &PageAsk,
    question: Question<'_>,
) -> Result<Captured, SourceError> {
    let mut order = asked(reader, source, web, page, question).await?;
    let whole = Keep::Look {
        parts: Vec::new(),
        printed: false,
    };
    order.must_have = match std::mem::replace(&mut order.keep, whole) {
        Keep::Look { parts, .. } => parts.into_iter().map(|part| part.selector).collect(),
        Keep::Table(selector) => vec![selector],
        Keep::Download => Vec::new(),
    };
    order.view.scale = 1;
    order.outline = true;
    captured(reader, source, &order).await
}

/// Opens the source's address, signed in, and says what is there.
pub async fn greet(reader: &Reader, source: &Source, web: &Web) -> Result<Greeting, SourceError> {
    let address = reader.url(source, web, "").await?;
    let order = Order {
        view: PageView {
            scale: 1,
            ..PageView::default()
        },
        ..order(reader, source, web, address).await?
    };
    let captured = captured(reader, source, &order).await?;
    Ok(Greeting {
        found: if captured.title.is_empty() {
            format!("The page answers, in {}", captured.browser)
        } else {
            format!("The page \"{}\", in {}", captured.title, captured.browser)
        },
        warning: captured.note,
    })
}

async fn captured(
    reader: &Reader,
    source: &Source,
    order: &Order,
) -> Result<Captured, SourceError> {
    let captured = reader.browser.capture(order).await;
    let mut captured = captured.map_err(|failed: Box<Failed>| SourceError::Page {
        source_name: source.name.clone(),
        failed,
    })?;
    captured.address = reader.without_secrets(source, captured.address).await;
    Ok(captured)
}

/// An order for a page of a source, with nothing but its address and its sign-in.
async fn order(
    reader: &Reader,
    source: &Source,
    web: &Web,
    address: Url,
) -> Result<Order, SourceError> {
    let host = address.host_str().map(str::to_owned);
    let host = host.as_deref();
    // Whatever changes about the sign-in begins a session of its own.
    let session = format!("{} {web:?}", source.name);
    let mut order = Order {
        limit: Duration::from_secs(source.timeout_seconds),
        most_rows: source.row_limit,
        most_bytes: source.max_bytes,
        ..Order::of(session, address, gate(reader))
    };
    for (name, value) in &web.headers {
        let value = reader.resolve_for(source, "headers", value, host).await?;
        order.headers.push((name.clone(), value));
    }
    match &web.sign_in {
        None => {}
        Some(SignIn::Form(steps)) => {
            for step in steps {
                let act = typed(reader, source, web, step, host).await?;
                order.sign_in.push(act);
            }
        }
        Some(SignIn::Cookie { name, value }) => {
            let value = reader.resolve_for(source, "value", value, host).await?;
            order.cookies.push((name.clone(), value));
        }
        Some(other) => {
            let header = reader.signing_header(source, other, host).await?;
            order.headers.extend(header);
        }
    }
    Ok(order)
}

/// Where a path behind the source's address leads, from the root of its host.
async fn behind(
    reader: &Reader,
    source: &Source,
    web: &Web,
    path: &str,
) -> Result<String, SourceError> {
    let address = reader.url(source, web, path).await?;
    Ok(address[Position::BeforePath..].to_owned())
}

/// A step of a sign-in with what its setting refers to, and its path behind the source's address.
async fn typed(
    reader: &Reader,
    source: &Source,
    web: &Web,
    step: &PageStep<Setting>,
    host: Option<&str>,
) -> Result<Act, SourceError> {
    let value = match step {
        PageStep::Open(path) => {
            return Ok(PageStep::Open(behind(reader, source, web, path).await?));
        }
        PageStep::Fill { with, .. } => reader.resolve_for(source, "with", with, host).await?,
        _ => String::new(),
    };
    step.try_map(|setting| {
        Ok(Typed {
            text: value,
            secret_for: (!matches!(setting, Setting::Plain(_)))
                .then(|| reader.permissions.hosts_of(setting, host)),
        })
    })
}

/// The order for what a query asks, with the window's times and the parameters' values in their
/// places.
async fn asked(
    reader: &Reader,
    source: &Source,
    web: &Web,
    page: &PageAsk,
    question: Question<'_>,
) -> Result<Order, SourceError> {
    let fill = |name: &str| question.filler(name);
    let refused = |error| not_filled(source, error);
    let path = page.path.fill_path(&fill).map_err(refused)?;
    let address = reader.url(source, web, &path).await?;
    let mut steps: Vec<Act> = Vec::new();
    for step in &page.steps {
        steps.push(match step {
            PageStep::Open(path) => PageStep::Open(behind(reader, source, web, path).await?),
            other => other
                .try_map(|text| text.fill(&fill).map(Typed::plain))
                .map_err(refused)?,
        });
    }
    Ok(Order {
        view: page.view.clone(),
        zone: question.times.window.zone.name().to_owned(),
        steps,
        finished: page.finished.clone(),
        hide: page.hide.clone(),
        keep: page.keep.clone(),
        ..order(reader, source, web, address).await?
    })
}

/// The way that what a page loads takes to the network.
fn gate(reader: &Reader) -> Gate {
    let reader = reader.clone();
    Arc::new(move |host, port| {
        let reader = reader.clone();
        Box::pin(async move {
            let addresses = reader.addresses(&host, port).await;
            addresses.map_err(|error| match error {
                NoClient::OutOfBounds(reason) => reason.into(),
                NoClient::Unknown(words) | NoClient::Certificates(words) => words.into(),
            })
        })
    })
}

/// The parts as rows, for those who look at what a query answers.
fn parts(captured: &Captured, keep: &Keep) -> Table {
    let column = |name: &str, kind| Column {
        name: name.to_owned(),
        kind,
    };
    let (Kept::Look { parts, .. }, Keep::Look { parts: asked, .. }) = (&captured.kept, keep) else {
        return Table::default();
    };
    let title = |part: &maple_lark_capture::Part| {
        let own = part.asked.and_then(|place| asked.get(place)?.title.clone());
        own.unwrap_or_else(|| part.title.clone())
    };
    Table {
        columns: vec![
            column("part", ColumnKind::Text),
            column("width", ColumnKind::Integer),
            column("height", ColumnKind::Integer),
            column("words", ColumnKind::Text),
        ],
        rows: parts
            .iter()
            .map(|part| {
                vec![
                    Value::Text(title(part)),
                    Value::Integer(i64::from(part.width)),
                    Value::Integer(i64::from(part.height)),
                    Value::Text(part.text.clone()),
                ]
            })
            .collect(),
        ..Table::default()
    }
}

/// The rows of a table as CSV, numbers as programs write them.
fn csv_of(rows: &[Vec<String>]) -> Vec<u8> {
    let width = rows.iter().map(Vec::len).max().unwrap_or(0);
    let mut csv = csv::Writer::from_writer(Vec::new());
    for row in rows {
        let cells = (0..width).map(|place| row.get(place).map_or("", String::as_str));
        // Memory takes every byte.
        let _ = csv.write_record(cells.map(plain_number));
    }
    csv.into_inner().unwrap_or_default()
}

/// A number without the signs that part its thousands; any other text as it is.
fn plain_number(text: &str) -> String {
    let parts = |c: char| matches!(c, ',' | '\u{a0}' | '\u{202f}' | ' ' | '\'' | '\u{2019}');
    let grouped = text.contains(parts)
        && text.split(parts).enumerate().all(|(place, group)| {
            let whole = group.split('.').next().unwrap_or_default();
            let digits = whole.trim_start_matches(['-', '+']);
            digits.chars().all(|c| c.is_ascii_digit())
                && if place == 0 {
                    (1..=3).contains(&digits.len())
                } else {
                    whole.len() == 3
                }
        });
    let plain: String = text.chars().filter(|c| !parts(*c)).collect();
    if grouped && plain.parse::<f64>().is_ok() {
        plain
    } else {
        text.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_as_pages_write_them() {
        for (written, read) in [
            ("1,234", "1234"),
            ("12\u{202f}345.5", "12345.5"),
            ("-1 000 000", "-1000000"),
            ("1'250", "1250"),
            ("12,34", "12,34"),
            ("12 July", "12 July"),
            ("3.5", "3.5"),
            ("a, b", "a, b"),
        ] {
            assert_eq!(plain_number(written), read);
        }
    }
}
