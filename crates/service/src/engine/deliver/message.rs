//! Makes the message of a delivery from what is stored: the same every time. What all messages
//! of one audience have in common is made once.

use std::sync::{Arc, Mutex};

use chrono::{DateTime, TimeDelta, Utc};
use maple_lark_api::RecipientRole;
use maple_lark_data::{digest::sha256, status::Status};
use maple_lark_definition::{
    Deliver, Format, Link, MailContent, Mailbox, MessageTemplate, MessageValues, Report, Template,
    render,
};
use maple_lark_delivery::{Attachment, ListHeaders, MailServer, Message};
use maple_lark_document::{compose::run_values::message_values, document::Document};
use maple_lark_render::{Context, MailBody, mail_body};
use maple_lark_store::{
    deliveries::Delivery, documents::Document as StoredDocument, recipients::SharedLink, runs::Run,
};
use tokio::sync::OnceCell;
use uuid::Uuid;

use super::{
    Deliverer,
    opened::{Opened, audience, opened},
};
use crate::engine::{
    definitions::Definitions,
    limits::Purpose,
    run::OnlyTo,
    shared::{Shared, WorkError},
};

/// So many audiences' messages are remembered.
const REMEMBERED: usize = 8;
/// Stand for what is another for each recipient. They have no sign that HTML would escape, so
/// that they are found again in both forms of a body.
const LINK: &str = "maple-lark-link-5c1f0f6e";
const UNSUBSCRIBE: &str = "maple-lark-unsubscribe-5c1f0f6e";

/// What messages have in common.
struct Common {
    subject: String,
    text: String,
    html: Option<String>,
    images: Vec<(String, Arc<Vec<u8>>)>,
    attachments: Vec<Attachment>,
    to: Vec<Mailbox>,
    cc: Vec<Mailbox>,
    reply_to: Option<Mailbox>,
    thread: String,
    urgent: bool,
    /// For how long a signed link is valid, if the message has one.
    link_valid: Option<TimeDelta>,
    unsubscribe: bool,
    report: String,
}

#[derive(Clone, PartialEq, Eq)]
struct Key {
    snapshot: Uuid,
    variant: String,
    audience: String,
    copy: i32,
    max_size: Option<u64>,
}

type Cell = Arc<OnceCell<Common>>;

/// The messages that were made lately.
#[derive(Default)]
pub struct Prepared(Mutex<Vec<(Key, Cell)>>);

impl Prepared {
    fn cell(&self, key: Key) -> Cell {
        let mut all = self
            .0
            .lock()
            .unwrap_or_else(|poisoned| poisoned.into_inner());
        if let Some(at) = all.iter().position(|(known, _)| *known == key) {
            let found = all.remove(at);
            all.push(found.clone());
            return found.1;
        }
        let cell = Cell::default();
        all.push((key, cell.clone()));
        if all.len() > REMEMBERED {
            all.remove(0);
        }
        cell
    }
}

/// The message of a delivery for the server that carries it.
#[expect(
    clippy::too_many_lines,
    reason = "fills in what is another for each recipient, header by header"
)]
pub async fn message(
    deliverer: &Deliverer,
    server: &MailServer,
    delivery: &Delivery,
) -> Result<Message, WorkError> {
    let shared = &*deliverer.shared;
    let key = Key {
        snapshot: delivery.snapshot_id,
        variant: delivery.variant.clone(),
        audience: delivery.audience.clone(),
        copy: delivery.copy,
        max_size: server.max_size,
    };
    let cell = deliverer.messages.cell(key);
    let common = cell
        .get_or_try_init(|| common(shared, server, delivery))
        .await?;
    let recipient: Mailbox = delivery
        .recipient
        .parse()
        .map_err(|error: maple_lark_definition::BadMailbox| WorkError::Run(error.to_string()))?;
    let (mut text, mut html) = (common.text.clone(), common.html.clone());
    let mut put = |placeholder: &str, address: &str| {
        text = text.replace(placeholder, address);
        html = html.take().map(|html| html.replace(placeholder, address));
    };
    if let Some(valid) = common.link_valid {
        put(LINK, &signed_link(shared, delivery, valid).await?);
    }
    let list = common.unsubscribe.then(|| {
        let address = unsubscribe_address(shared, &common.report, &recipient.address);
        put(UNSUBSCRIBE, &address);
        ListHeaders {
            id: format!("{}.maple-lark.{}", common.report, host(&server.from)),
            leave_url: address,
        }
    });
    let named = common
        .to
        .iter()
        .chain(&common.cc)
        .any(|mailbox| mailbox.address.eq_ignore_ascii_case(&recipient.address));
    let together = named || delivery.role == RecipientRole::Bcc && !common.to.is_empty();
    let (to, cc) = if together && delivery.copy == 0 {
        (common.to.clone(), common.cc.clone())
    } else {
        (vec![recipient.clone()], Vec::new())
    };
    Ok(Message {
        message_id: delivery.message_id.clone(),
        date: delivery.created_at,
        from: server.from.clone(),
        recipient,
        to,
        cc,
        reply_to: common.reply_to.clone().or_else(|| server.reply_to.clone()),
        subject: common.subject.clone(),
        text,
        html,
        images: common.images.clone(),
        attachments: common.attachments.clone(),
        thread: Some(format!("{}@{}", common.thread, host(&server.from))),
        list,
        urgent: common.urgent,
    })
}

fn host(mailbox: &Mailbox) -> &str {
    mailbox.address.rsplit('@').next().unwrap_or("localhost")
}

#[expect(
    clippy::too_many_lines,
    reason = "what all messages of an audience share, field by field"
)]
async fn common(
    shared: &Shared,
    server: &MailServer,
    delivery: &Delivery,
) -> Result<Common, WorkError> {
    let Opened {
        run,
        definitions,
        snapshot,
        document,
    } = opened(shared, delivery).await?;
    let documents = shared
        .store
        .documents_of_snapshot(delivery.snapshot_id, &delivery.variant)
        .await?;
    let report = definitions
        .set
        .reports
        .get(&run.report)
        .ok_or_else(|| WorkError::Run("its report is not in its run".to_owned()))?;
    let values = message_values(&snapshot, &document, Some(&delivery.audience));
    drop(snapshot);
    let (subject, text) = words_of(&definitions, report, &values)?;
    let carried = Carried::new(&report.deliver, server, documents);
    let link_valid = match carried.link {
        Link::Signed { valid_seconds } => Some(TimeDelta::seconds(valid_seconds as i64)),
        _ => None,
    };
    if link_valid.is_some() && shared.config.vault.sign("link", "").is_none() {
        return Err(WorkError::Run(
            "links cannot be signed, because the configuration names no secret-key".to_owned(),
        ));
    }
    let unsubscribe = report.deliver.unsubscribe
        && delivery.copy == 0
        && shared.config.vault.sign("unsubscribe", "").is_some();
    let urgent = document.summary.status == Status::Critical;
    let body = Body {
        document,
        content: report.deliver.body,
        text,
        note: note(&run, delivery),
        names: carried.names(),
        left_out: carried.left_out.clone(),
        link: carried.link,
        console: format!("{}/runs/{}", shared.config.public_url, delivery.run_id),
        unsubscribe,
    };
    let body = body.written(shared).await?;
    let lists = audience(&run, &delivery.audience).filter(|audience| audience.together);
    let (to, cc) = lists
        .map(|audience| (mailboxes(&audience.to), mailboxes(&audience.cc)))
        .unwrap_or_default();
    Ok(Common {
        subject,
        text: body.text,
        html: body.html,
        images: body
            .images
            .into_iter()
            .map(|image| (image.content_id, Arc::new(image.png)))
            .collect(),
        attachments: carried.attachments(),
        to,
        cc,
        reply_to: report.owner.clone(),
        thread: format!(
            "{}.{}",
            report.name,
            &sha256(delivery.audience.as_bytes())[..12]
        ),
        urgent,
        link_valid,
        unsubscribe,
        report: report.name.clone(),
    })
}

/// What a message is about, if nobody says it: the report, its window and how things are.
const USUAL_SUBJECT: &str = "{{ report.title }}: {{ window.label }} – {{ summary }}";

/// Subject and text as they are written: a report's own, else those of its message template, else
/// the usual subject without a text.
pub fn templates_of(
    (subject, text): (Option<&Template>, Option<&Template>),
    shared: Option<&MessageTemplate>,
) -> (Template, Option<Template>) {
    let usual = || Template::new(USUAL_SUBJECT.to_owned());
    let subject = subject.or_else(|| shared?.subject.as_ref());
    let text = text.or_else(|| shared?.message.as_ref());
    (subject.cloned().unwrap_or_else(usual), text.cloned())
}

/// Subject and text of a report's messages.
fn words_of(
    definitions: &Definitions,
    report: &Report,
    values: &MessageValues,
) -> Result<(String, Option<String>), WorkError> {
    let name = report.message_template.as_ref();
    let shared = name.and_then(|name| definitions.set.message_templates.get(&name.value));
    let own = (report.subject.as_ref(), report.message.as_ref());
    let (subject, text) = templates_of(own, shared);
    let merged = |template: &Template| {
        render(template, values).map_err(|error| WorkError::Run(error.to_string()))
    };
    Ok((merged(&subject)?, text.as_ref().map(merged).transpose()?))
}

/// The files of a message, as far as its server takes them, and the link beside them.
struct Carried {
    documents: Vec<StoredDocument>,
    link: Link,
    /// Said in place of files that are too large; none are attached then.
    left_out: Option<String>,
}

impl Carried {
    fn new(deliver: &Deliver, server: &MailServer, mut documents: Vec<StoredDocument>) -> Self {
        let attach = deliver.attach.as_ref();
        let wanted = |format: Format| attach.is_none_or(|formats| formats.contains(&format));
        documents.retain(|document| wanted(*document.format));
        // Base64 makes four bytes of three, and breaks lines.
        let encoded: u64 = documents
            .iter()
            .map(|document| document.body.len() as u64 * 78 / 57 + 500)
            .sum();
        let max_size = deliver
            .max_size
            .min(server.max_size.unwrap_or(u64::MAX))
            .saturating_sub(100_000);
        let left_out = (encoded > max_size).then(|| {
            format!(
                "The files are too large for a mail ({}). They are behind the link.",
                megabytes(encoded)
            )
        });
        let link = match deliver.link {
            // Files that do not fit must be somewhere.
            Link::None if left_out.is_some() => Link::Console,
            link => link,
        };
        if left_out.is_some() {
            documents.clear();
        }
        Self {
            documents,
            link,
            left_out,
        }
    }

    fn names(&self) -> Vec<String> {
        let documents = self.documents.iter();
        documents
            .map(|document| document.file_name.clone())
            .collect()
    }

    fn attachments(self) -> Vec<Attachment> {
        let attachment = |document: StoredDocument| Attachment {
            file_name: document.file_name,
            media_type: document.media_type,
            bytes: Arc::new(document.body),
        };
        self.documents.into_iter().map(attachment).collect()
    }
}

/// What the body of a message is written from.
struct Body {
    document: Arc<Document>,
    content: MailContent,
    text: Option<String>,
    note: Option<String>,
    names: Vec<String>,
    left_out: Option<String>,
    link: Link,
    console: String,
    unsubscribe: bool,
}

impl Body {
    /// Drawing charts is work for a processor, so it is kept off the async threads.
    async fn written(self, shared: &Shared) -> Result<MailBody, WorkError> {
        let written = shared.computing(Purpose::Work).run(move || {
            let around = Context {
                message: self.text.as_deref(),
                note: self.note.as_deref(),
                attachments: &self.names,
                left_out: self.left_out.as_deref(),
                link: match self.link {
                    Link::None => None,
                    Link::Console => Some((self.console.as_str(), "This run in the console")),
                    Link::Signed { .. } => Some((LINK, "The documents of this run")),
                },
                leave: self.unsubscribe.then_some(UNSUBSCRIBE),
            };
            mail_body(&self.document, self.content, &around)
        });
        written
            .await?
            .map_err(|error| WorkError::Run(error.to_string()))
    }
}

fn mailboxes(recipients: &[maple_lark_definition::Recipient]) -> Vec<Mailbox> {
    recipients
        .iter()
        .map(|recipient| recipient.mailbox.clone())
        .collect()
}

fn megabytes(bytes: u64) -> String {
    format!("{:.1} MB", bytes as f64 / 1e6)
}

/// What a message is that is not the first of its run.
fn note(run: &Run, delivery: &Delivery) -> Option<String> {
    let by = delivery.requested_by.as_deref().unwrap_or("somebody");
    let own = delivery
        .note
        .as_ref()
        .map(|note| format!("\n{note}"))
        .unwrap_or_default();
    if delivery.copy > 0 {
        let zone: maple_lark_time::Zone =
            run.time_zone.parse().unwrap_or(maple_lark_time::Zone::UTC);
        let made = zone.readable(run.finished_at.or(run.started_at).unwrap_or(run.created_at));
        return Some(format!(
            "This is a copy, sent again by {by}. The documents are those of {made}, unchanged.{own}"
        ));
    }
    let only: OnlyTo = serde_json::from_value(run.only_to.clone()?).ok()?;
    let asked = run.requested_by.as_deref().unwrap_or("somebody");
    let own = only
        .note
        .map(|note| format!("\n{note}"))
        .unwrap_or_default();
    Some(format!(
        "Sent at the request of {asked}, outside the schedule of this report.{own}"
    ))
}

/// A link that opens the documents of one delivery, kept before it is told to anybody.
async fn signed_link(
    shared: &Shared,
    delivery: &Delivery,
    valid: TimeDelta,
) -> Result<String, WorkError> {
    let token = shared
        .config
        .vault
        .sign("link", &delivery.id.to_string())
        .unwrap_or_default();
    let link = SharedLink {
        id: delivery.id,
        run_id: delivery.run_id,
        snapshot_id: delivery.snapshot_id,
        variant: delivery.variant.clone(),
        recipient: delivery.recipient.clone(),
        expires_at: delivery.created_at + valid,
        revoked_at: None,
        opened: 0,
        last_opened_at: None,
    };
    shared.store.keep_link(link).await?;
    Ok(format!("{}/shared/{token}", shared.config.public_url))
}

fn unsubscribe_address(shared: &Shared, report: &str, address: &str) -> String {
    let token = shared
        .config
        .vault
        .sign("unsubscribe", &format!("{report} {address}"))
        .unwrap_or_default();
    format!("{}/unsubscribe/{token}", shared.config.public_url)
}

/// What a test of a mail server sends.
pub fn test_message(server: &MailServer, to: &Mailbox, now: DateTime<Utc>) -> Message {
    plain_message(
        server,
        to,
        &format!("test.{}", Uuid::now_v7()),
        now,
        "A test mail from Maple Lark".to_owned(),
        "This mail shows that the mail server takes what Maple Lark sends. Nothing else is behind it.\n".to_owned(),
    )
}

/// A message of words alone.
pub fn plain_message(
    server: &MailServer,
    to: &Mailbox,
    id: &str,
    now: DateTime<Utc>,
    subject: String,
    text: String,
) -> Message {
    Message {
        message_id: format!("{id}@{}", host(&server.from)),
        date: now,
        from: server.from.clone(),
        recipient: to.clone(),
        to: vec![to.clone()],
        cc: Vec::new(),
        reply_to: server.reply_to.clone(),
        subject,
        text,
        html: None,
        images: Vec::new(),
        attachments: Vec::new(),
        thread: None,
        list: None,
        urgent: false,
    }
}
