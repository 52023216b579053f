//! A message to one recipient, as MIME.

use std::sync::Arc;

use chrono::{DateTime, Utc};
use lettre::{
    Address,
    message::{
        Attachment as Part, Body, Mailbox, MultiPart, SinglePart,
        dkim::{DkimConfig, DkimSigningAlgorithm, DkimSigningKey},
        header::{ContentTransferEncoding, ContentType, HeaderName, HeaderValue},
    },
};

use crate::DeliveryError;

/// Everything in one mail. The same message always has the same Message-ID and Date, however
/// often it has to be sent.
#[derive(Debug, Clone)]
pub struct Message {
    /// Without angle brackets.
    pub message_id: String,
    pub date: DateTime<Utc>,
    pub from: maple_lark_definition::Mailbox,
    /// Whose mailbox it goes into, which the head need not say.
    pub recipient: maple_lark_definition::Mailbox,
    /// Who the head names; a blind copy's recipient is in neither list.
    pub to: Vec<maple_lark_definition::Mailbox>,
    pub cc: Vec<maple_lark_definition::Mailbox>,
    pub reply_to: Option<maple_lark_definition::Mailbox>,
    pub subject: String,
    pub text: String,
    pub html: Option<String>,
    /// Content id and PNG of each picture that the HTML shows.
    pub images: Vec<(String, Arc<Vec<u8>>)>,
    pub attachments: Vec<Attachment>,
    /// What mail programs gather messages of one report by: an id without angle brackets.
    pub thread: Option<String>,
    pub list: Option<ListHeaders>,
    pub urgent: bool,
}

/// How recipients can tell the list and leave it (RFC 2919, RFC 8058).
#[derive(Debug, Clone)]
pub struct ListHeaders {
    pub id: String,
    pub leave_url: String,
}

#[derive(Debug, Clone)]
pub struct Attachment {
    pub file_name: String,
    pub media_type: String,
    pub bytes: Arc<Vec<u8>>,
}

/// The text is no key that messages can be signed with.
#[derive(Debug, thiserror::Error)]
#[error("it is no RSA key in PEM (PKCS #1): {0}")]
pub struct BadDkimKey(#[source] lettre::message::dkim::DkimSigningKeyError);

/// What messages are signed with (RFC 6376).
pub struct DkimKey {
    config: DkimConfig,
}

impl DkimKey {
    /// # Errors
    /// If the text is no RSA key in PEM.
    pub fn new(domain: &str, selector: &str, pem: &str) -> Result<Self, BadDkimKey> {
        let key = DkimSigningKey::new(pem, DkimSigningAlgorithm::Rsa).map_err(BadDkimKey)?;
        Ok(Self {
            config: DkimConfig::default_config(selector.to_owned(), domain.to_owned(), key),
        })
    }
}

impl Message {
    /// The MIME message as it travels: a mixed part of the body (plain text, or HTML with its
    /// pictures) and the attachments. Control characters in the subject become spaces, so no
    /// header can be added.
    ///
    /// # Errors
    /// If an address or a media type has no form that can be sent.
    pub fn bytes(&self, dkim: Option<&DkimKey>) -> Result<Vec<u8>, DeliveryError> {
        let mut message = self.message()?;
        if let Some(key) = dkim {
            message.sign(&key.config);
        }
        Ok(message.formatted())
    }

    #[expect(
        clippy::too_many_lines,
        reason = "the headers and parts of a message in the order in which they stand"
    )]
    fn message(&self) -> Result<lettre::Message, DeliveryError> {
        let wrong = |words: String| DeliveryError::Message { words };
        let subject: String = self
            .subject
            .split(|c: char| c.is_control())
            .filter(|part| !part.is_empty())
            .collect::<Vec<_>>()
            .join(" ");
        let plain = SinglePart::plain(self.text.clone());
        let mut body = match &self.html {
            None => MultiPart::mixed().singlepart(plain),
            Some(html) => {
                let mut html = MultiPart::related().singlepart(SinglePart::html(html.clone()));
                for (content_id, png) in &self.images {
                    let kind = ContentType::parse("image/png")
                        .map_err(|error| wrong(error.to_string()))?;
                    html = html
                        .singlepart(Part::new_inline(content_id.clone()).body(png.to_vec(), kind));
                }
                MultiPart::mixed()
                    .multipart(MultiPart::alternative().singlepart(plain).multipart(html))
            }
        };
        for attachment in &self.attachments {
            let kind = ContentType::parse(&attachment.media_type)
                .map_err(|error| wrong(error.to_string()))?;
            // Base64 even for texts: mail servers may change the ends of lines of anything else,
            // and a file must arrive with the SHA-256 that it left with.
            let bytes =
                Body::new_with_encoding(attachment.bytes.to_vec(), ContentTransferEncoding::Base64)
                    .map_err(|_| wrong("its files cannot be encoded".to_owned()))?;
            body = body.singlepart(Part::new(attachment.file_name.clone()).body(bytes, kind));
        }
        let mut message = lettre::Message::builder()
            .message_id(Some(format!("<{}>", self.message_id)))
            .date(self.date.into())
            .from(mailbox(&self.from)?)
            .envelope(
                lettre::address::Envelope::new(None, vec![mailbox(&self.recipient)?.email])
                    .map_err(|error| wrong(error.to_string()))?,
            )
            .subject(subject)
            // RFC 3834: answering machines stay quiet.
            .raw_header(header("Auto-Submitted", "auto-generated"));
        for to in &self.to {
            message = message.to(mailbox(to)?);
        }
        for cc in &self.cc {
            message = message.cc(mailbox(cc)?);
        }
        if self.to.is_empty() && self.cc.is_empty() {
            message = message.raw_header(header("To", "undisclosed-recipients:;"));
        }
        if let Some(reply_to) = &self.reply_to {
            message = message.reply_to(mailbox(reply_to)?);
        }
        if let Some(thread) = &self.thread {
            message = message
                .raw_header(header("References", &format!("<{thread}>")))
                .raw_header(header("In-Reply-To", &format!("<{thread}>")));
        }
        if let Some(list) = &self.list {
            message = message
                .raw_header(header("List-Id", &format!("<{}>", list.id)))
                .raw_header(header("List-Unsubscribe", &format!("<{}>", list.leave_url)))
                .raw_header(header(
                    "List-Unsubscribe-Post",
                    "List-Unsubscribe=One-Click",
                ));
        }
        if self.urgent {
            message = message
                .raw_header(header("Importance", "high"))
                .raw_header(header("X-Priority", "1"));
        }
        message
            .multipart(body)
            .map_err(|error| wrong(error.to_string()))
    }
}

/// A header of ours; its value is made here and has no line break.
fn header(name: &'static str, value: &str) -> HeaderValue {
    HeaderValue::new(HeaderName::new_from_ascii_str(name), value.to_owned())
}

pub(crate) fn mailbox(one: &maple_lark_definition::Mailbox) -> Result<Mailbox, DeliveryError> {
    let address: Address = one
        .address
        .parse()
        .map_err(|error| DeliveryError::Message {
            words: format!("{}: {error}", one.address),
        })?;
    Ok(Mailbox::new(one.name.clone(), address))
}

#[cfg(test)]
mod tests {
    use mail_parser::{MessageParser, MimeHeaders};

    use super::*;

    fn message() -> Message {
        let to: maple_lark_definition::Mailbox =
            "Jógvan, Á. <jogvan@orrin-sound.example>".parse().unwrap();
        Message {
            message_id: "1@orrin-sound.example".into(),
            date: "2026-10-26T07:30:00Z".parse().unwrap(),
            from: "Maple Lark <reports@orrin-sound.example>".parse().unwrap(),
            recipient: to.clone(),
            to: vec![to],
            cc: Vec::new(),
            reply_to: None,
            subject: "Ferjur í gær\r\nBcc: thief@example.org".into(),
            text: "Góðan morgun".into(),
            html: Some("<p>Góðan morgun <img src=\"cid:c@x\"></p>".into()),
            images: vec![("c@x".into(), Arc::new(vec![1, 2, 3]))],
            attachments: vec![Attachment {
                file_name: "dagur.csv".into(),
                media_type: "text/csv; charset=utf-8".into(),
                bytes: Arc::new(b"a,b\r\n".to_vec()),
            }],
            thread: Some("ferries.daily@orrin-sound.example".into()),
            list: None,
            urgent: false,
        }
    }

    fn bytes(message: &Message) -> Vec<u8> {
        message.bytes(None).unwrap()
    }

    #[test]
    fn another_parser_reads_back_what_was_written() {
        let bytes = bytes(&message());
        let parsed = MessageParser::default().parse(&bytes).unwrap();
        assert_eq!(
            parsed.subject(),
            Some("Ferjur í gær Bcc: thief@example.org")
        );
        assert!(parsed.bcc().is_none());
        assert_eq!(parsed.message_id(), Some("1@orrin-sound.example"));
        let to = parsed.to().unwrap().first().unwrap();
        assert_eq!(
            (to.name(), to.address()),
            (Some("Jógvan, Á."), Some("jogvan@orrin-sound.example"))
        );
        assert_eq!(parsed.body_text(0).as_deref(), Some("Góðan morgun"));
        assert!(parsed.body_html(0).unwrap().contains("cid:c@x"));
        let files: Vec<_> = parsed
            .attachments()
            .filter_map(|part| Some((part.attachment_name()?.to_owned(), part.contents().to_vec())))
            .collect();
        assert!(
            files.contains(&("dagur.csv".to_owned(), b"a,b\r\n".to_vec())),
            "{files:?}"
        );
        assert!(
            parsed
                .attachments()
                .any(|part| part.content_id() == Some("c@x"))
        );
        assert_eq!(
            parsed.header_raw("Auto-Submitted").map(str::trim),
            Some("auto-generated")
        );
        assert_eq!(
            parsed.header_raw("References").map(str::trim),
            Some("<ferries.daily@orrin-sound.example>")
        );
    }

    #[test]
    fn the_same_message_is_the_same_but_for_its_boundaries() {
        let head = |message: &Message| {
            let text = String::from_utf8(bytes(message)).unwrap();
            text.lines()
                .filter(|line| line.starts_with("Message-ID") || line.starts_with("Date"))
                .map(str::to_owned)
                .collect::<Vec<_>>()
        };
        let first = head(&message());
        assert_eq!(first.len(), 2);
        assert_eq!(first, head(&message()));
    }

    #[test]
    fn the_head_names_who_it_should_and_nobody_else() {
        let several = Message {
            to: vec![
                "a@x.example".parse().unwrap(),
                "b@x.example".parse().unwrap(),
            ],
            cc: vec!["c@x.example".parse().unwrap()],
            recipient: "hidden@x.example".parse().unwrap(),
            ..message()
        };
        let text = String::from_utf8(bytes(&several)).unwrap();
        let parsed = MessageParser::default().parse(text.as_bytes()).unwrap();
        assert_eq!(parsed.to().unwrap().iter().count(), 2);
        assert_eq!(parsed.cc().unwrap().iter().count(), 1);
        assert!(!text.contains("hidden@"), "{text}");
        let nobody = Message {
            to: Vec::new(),
            cc: Vec::new(),
            ..several
        };
        let text = String::from_utf8(bytes(&nobody)).unwrap();
        assert!(
            text.contains("To: undisclosed-recipients:;") && !text.contains("hidden@"),
            "{text}"
        );
    }

    #[test]
    fn a_list_can_be_left_and_what_is_urgent_says_so() {
        let list = ListHeaders {
            id: "ferries.maple-lark".into(),
            leave_url: "https://lark.example/leave/abc".into(),
        };
        let text = String::from_utf8(bytes(&Message {
            list: Some(list),
            urgent: true,
            html: None,
            images: Vec::new(),
            ..message()
        }))
        .unwrap();
        for wanted in [
            "List-Id: <ferries.maple-lark>\r\n",
            "List-Unsubscribe: <https://lark.example/leave/abc>\r\n",
            "List-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n",
            "Importance: high\r\n",
        ] {
            assert!(text.contains(wanted), "{wanted} is not in {text}");
        }
    }

    #[test]
    fn names_that_are_meant_to_break_a_head_do_not() {
        for name in [
            "Holm, Runa",
            "\"quoted\"",
            "a <b@c.example>",
            "Ünä; x=y",
            "=?utf-8?q?x?=",
            "very long ".repeat(30).trim(),
        ] {
            let to = maple_lark_definition::Mailbox {
                name: Some(name.to_owned()),
                address: "runa@orrin-sound.example".to_owned(),
            };
            let bytes = bytes(&Message {
                to: vec![to],
                ..message()
            });
            let parsed = MessageParser::default().parse(&bytes).unwrap();
            let addresses: Vec<_> = parsed
                .to()
                .unwrap()
                .iter()
                .filter_map(|to| to.address())
                .collect();
            assert_eq!(addresses, ["runa@orrin-sound.example"], "{name}");
        }
    }
}
