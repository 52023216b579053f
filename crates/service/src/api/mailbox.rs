//! The demo's mailbox: what its mail server was sent. There only when it is configured.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use mail_parser::{Message, MessageParser, MimeHeaders};
use maple_lark_api::{ProblemDetails, ReceivedHead, ReceivedMessage};
use rocket::{Route, State, get, http::Header, routes, serde::json::Json};

use super::{Answer, problem::Problem};
use crate::{Config, access::Administrator};

pub fn routes() -> Vec<Route> {
    routes![list, one, html, file]
}

const MOST: usize = 200;

fn folder(config: &Config) -> Result<&Path, Problem> {
    config
        .demo_mailbox
        .as_deref()
        .ok_or_else(|| Problem::not_found("demo mailbox; it is there only during the demo"))
}

/// The file of a message; ids are names that the mail server gave, never paths.
fn path(config: &Config, id: &str) -> Result<PathBuf, Problem> {
    let folder = folder(config)?;
    let valid = !id.is_empty()
        && id
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || c == '-' || c == '.')
        && !id.starts_with('.');
    let path = folder.join(format!("{id}.eml"));
    if valid && path.is_file() {
        Ok(path)
    } else {
        Err(Problem::not_found(format!("message \"{id}\"")))
    }
}

fn read(path: &Path) -> Result<Vec<u8>, Problem> {
    std::fs::read(path).map_err(|error| {
        Problem::new(
            500,
            "Unreadable",
            format!("the message cannot be read: {error}"),
        )
    })
}

fn parse(bytes: &[u8]) -> Result<Message<'_>, Problem> {
    MessageParser::default()
        .parse(bytes)
        .ok_or_else(|| Problem::new(500, "Unreadable", "the message is no mail message"))
}

fn files<'a>(message: &'a Message<'a>) -> impl Iterator<Item = &'a mail_parser::MessagePart<'a>> {
    message
        .attachments()
        .filter(|part| part.content_id().is_none())
}

fn address(address: Option<&mail_parser::Address<'_>>) -> String {
    let Some(one) = address.and_then(|address| address.first()) else {
        return String::new();
    };
    match (one.name(), one.address()) {
        (Some(name), Some(address)) => format!("{name} <{address}>"),
        (_, address) => address.unwrap_or_default().to_owned(),
    }
}

fn head(id: &str, bytes: &[u8], message: &Message<'_>) -> ReceivedHead {
    ReceivedHead {
        id: id.to_owned(),
        from: address(message.from()),
        to: address(message.to()),
        subject: message.subject().unwrap_or("(no subject)").to_owned(),
        received_at: id
            .get(..15)
            .and_then(|stamp| chrono::NaiveDateTime::parse_from_str(stamp, "%Y%m%dT%H%M%S").ok())
            .map(|at| at.and_utc()),
        size: bytes.len() as u64,
        attachments: files(message).count(),
    }
}

/// The messages that the demo's mail server has taken, newest first.
#[utoipa::path(get, operation_id = "list_messages", path = "/demo/mailbox", tag = "demo", responses((status = 200, body = Vec<ReceivedHead>), (status = 404, body = ProblemDetails)))]
#[get("/demo/mailbox")]
fn list(_user: Administrator, config: &State<Arc<Config>>) -> Answer<Vec<ReceivedHead>> {
    let mut ids: Vec<String> = std::fs::read_dir(folder(config)?)
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| {
            entry
                .file_name()
                .to_str()?
                .strip_suffix(".eml")
                .map(str::to_owned)
        })
        .filter(|id| !id.starts_with('.'))
        .collect();
    ids.sort_by(|a, b| b.cmp(a));
    let heads = ids.iter().take(MOST).filter_map(|id| {
        let bytes = read(&path(config, id).ok()?).ok()?;
        let message = parse(&bytes).ok()?;
        Some(head(id, &bytes, &message))
    });
    Ok(Json(heads.collect()))
}

/// One message.
#[utoipa::path(get, operation_id = "get_message", path = "/demo/mailbox/{id}", tag = "demo", params(("id" = String, Path)), responses((status = 200, body = ReceivedMessage), (status = 404, body = ProblemDetails)))]
#[get("/demo/mailbox/<id>")]
fn one(_user: Administrator, id: &str, config: &State<Arc<Config>>) -> Answer<ReceivedMessage> {
    let bytes = read(&path(config, id)?)?;
    let message = parse(&bytes)?;
    Ok(Json(ReceivedMessage {
        head: head(id, &bytes, &message),
        message_id: message.message_id().unwrap_or_default().to_owned(),
        text: message.body_text(0).unwrap_or_default().into_owned(),
        files: files(&message)
            .map(|part| part.attachment_name().unwrap_or("file").to_owned())
            .collect(),
    }))
}

#[derive(rocket::Responder)]
#[response(content_type = "html")]
struct LetterPage {
    body: String,
    policy: Header<'static>,
}

/// The HTML of a message, its picture put in place, as a mail program would show it.
#[utoipa::path(get, operation_id = "get_message_html", path = "/demo/mailbox/{id}/html", tag = "demo", params(("id" = String, Path)), responses((status = 200, content_type = "text/html"), (status = 404, body = ProblemDetails)))]
#[get("/demo/mailbox/<id>/html")]
fn html(
    _user: Administrator,
    id: &str,
    config: &State<Arc<Config>>,
) -> Result<LetterPage, Problem> {
    use base64::Engine;
    let bytes = read(&path(config, id)?)?;
    let message = parse(&bytes)?;
    let mut body = message.body_html(0).unwrap_or_default().into_owned();
    for part in message.attachments() {
        if let Some(content_id) = part.content_id() {
            let data = base64::engine::general_purpose::STANDARD.encode(part.contents());
            body = body.replace(
                &format!("cid:{content_id}"),
                &format!("data:image/png;base64,{data}"),
            );
        }
    }
    let policy = Header::new(
        "Content-Security-Policy",
        "default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox allow-popups; frame-ancestors 'self'",
    );
    Ok(LetterPage { body, policy })
}

/// One attached file of a message.
#[utoipa::path(get, operation_id = "get_message_file", path = "/demo/mailbox/{id}/files/{index}", tag = "demo", params(("id" = String, Path), ("index" = usize, Path)), responses((status = 200, description = "the file"), (status = 404, body = ProblemDetails)))]
#[get("/demo/mailbox/<id>/files/<index>")]
fn file(
    _user: Administrator,
    id: &str,
    index: usize,
    config: &State<Arc<Config>>,
) -> Result<AttachedFile, Problem> {
    let bytes = read(&path(config, id)?)?;
    let message = parse(&bytes)?;
    let part = files(&message)
        .nth(index)
        .ok_or_else(|| Problem::not_found("such file in this message"))?;
    let name: String = part
        .attachment_name()
        .unwrap_or("file")
        .chars()
        .filter(|c| c.is_ascii_alphanumeric() || "._-".contains(*c))
        .collect();
    Ok(AttachedFile {
        body: part.contents().to_vec(),
        disposition: Header::new(
            "Content-Disposition",
            format!("attachment; filename=\"{name}\""),
        ),
    })
}

#[derive(rocket::Responder)]
#[response(content_type = "binary")]
struct AttachedFile {
    body: Vec<u8>,
    disposition: Header<'static>,
}
