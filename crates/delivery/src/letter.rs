//! A letter to one recipient, as MIME.

use chrono::{DateTime, Utc};
use lettre::{
    Address, Message,
    message::{Attachment as Part, Mailbox, MultiPart, SinglePart, header::ContentType},
};
use maple_lark_core::definition;

use crate::DeliveryError;

/// Everything in one mail. The same letter always has the same Message-ID and Date, however
/// often it has to be sent.
#[derive(Debug, Clone)]
pub struct Letter {
    /// Without angle brackets.
    pub message_id: String,
    pub date: DateTime<Utc>,
    pub from: definition::Mailbox,
    pub to: definition::Mailbox,
    pub reply_to: Option<definition::Mailbox>,
    pub subject: String,
    pub text: String,
    pub html: String,
    /// Content id and PNG of the picture that the HTML shows.
    pub image: Option<(String, Vec<u8>)>,
    pub attachments: Vec<Attachment>,
}

#[derive(Debug, Clone)]
pub struct Attachment {
    pub file_name: String,
    pub media_type: String,
    pub bytes: Vec<u8>,
}

impl Letter {
    /// The MIME message: a mixed part of the body (plain text, or HTML with its picture) and
    /// the attachments. Line breaks in the subject become spaces, so no header can be added.
    pub fn message(&self) -> Result<Message, DeliveryError> {
        let wrong = |words: String| DeliveryError::Message { words };
        let subject: String = self.subject.split(|c: char| c.is_control()).filter(|part| !part.is_empty()).collect::<Vec<_>>().join(" ");
        let html = SinglePart::html(self.html.clone());
        let html = match &self.image {
            Some((content_id, png)) => {
                let kind = ContentType::parse("image/png").map_err(|error| wrong(error.to_string()))?;
                MultiPart::related().singlepart(html).singlepart(Part::new_inline(content_id.clone()).body(png.clone(), kind))
            }
            None => MultiPart::related().singlepart(html),
        };
        let mut body = MultiPart::mixed().multipart(MultiPart::alternative().singlepart(SinglePart::plain(self.text.clone())).multipart(html));
        for attachment in &self.attachments {
            let kind = ContentType::parse(&attachment.media_type).map_err(|error| wrong(error.to_string()))?;
            body = body.singlepart(Part::new(attachment.file_name.clone()).body(attachment.bytes.clone(), kind));
        }
        let mut message = Message::builder()
            .message_id(Some(format!("<{}>", self.message_id)))
            .date(self.date.into())
            .from(mailbox(&self.from)?)
            .to(mailbox(&self.to)?)
            .subject(subject)
            .raw_header(auto_submitted());
        if let Some(reply_to) = &self.reply_to {
            message = message.reply_to(mailbox(reply_to)?);
        }
        message.multipart(body).map_err(|error| wrong(error.to_string()))
    }
}

/// RFC 3834: answering machines stay quiet.
fn auto_submitted() -> lettre::message::header::HeaderValue {
    use lettre::message::header::{HeaderName, HeaderValue};
    HeaderValue::new(HeaderName::new_from_ascii_str("Auto-Submitted"), "auto-generated".to_owned())
}

fn mailbox(one: &definition::Mailbox) -> Result<Mailbox, DeliveryError> {
    let address: Address = one.address.parse().map_err(|error| DeliveryError::Message { words: format!("{}: {error}", one.address) })?;
    Ok(Mailbox::new(one.name.clone(), address))
}

#[cfg(test)]
mod tests {
    use mail_parser::{MessageParser, MimeHeaders};

    use super::*;

    fn letter() -> Letter {
        Letter {
            message_id: "1@orrin-sound.example".into(),
            date: "2026-10-26T07:30:00Z".parse().unwrap(),
            from: "Maple Lark <reports@orrin-sound.example>".parse().unwrap(),
            to: "Jógvan, Á. <jogvan@orrin-sound.example>".parse().unwrap(),
            reply_to: None,
            subject: "Ferjur í gær\r\nBcc: thief@example.org".into(),
            text: "Góðan morgun".into(),
            html: "<p>Góðan morgun <img src=\"cid:c@x\"></p>".into(),
            image: Some(("c@x".into(), vec![1, 2, 3])),
            attachments: vec![Attachment { file_name: "dagur.csv".into(), media_type: "text/csv; charset=utf-8".into(), bytes: b"a,b\r\n".to_vec() }],
        }
    }

    #[test]
    fn another_parser_reads_back_what_was_written() {
        let bytes = letter().message().unwrap().formatted();
        let parsed = MessageParser::default().parse(&bytes).unwrap();
        assert_eq!(parsed.subject(), Some("Ferjur í gær Bcc: thief@example.org"));
        assert!(parsed.bcc().is_none());
        assert_eq!(parsed.message_id(), Some("1@orrin-sound.example"));
        let to = parsed.to().unwrap().first().unwrap();
        assert_eq!((to.name(), to.address()), (Some("Jógvan, Á."), Some("jogvan@orrin-sound.example")));
        assert_eq!(parsed.body_text(0).as_deref(), Some("Góðan morgun"));
        assert!(parsed.body_html(0).unwrap().contains("cid:c@x"));
        let files: Vec<_> = parsed.attachments().filter_map(|part| Some((part.attachment_name()?.to_owned(), part.contents().to_vec()))).collect();
        assert!(files.contains(&("dagur.csv".to_owned(), b"a,b\r\n".to_vec())), "{files:?}");
        assert!(parsed.attachments().any(|part| part.content_id() == Some("c@x")));
        assert_eq!(parsed.header_raw("Auto-Submitted").map(str::trim), Some("auto-generated"));
    }

    #[test]
    fn the_same_letter_keeps_its_id_and_date() {
        let head = |bytes: Vec<u8>| {
            let text = String::from_utf8(bytes).unwrap();
            text.lines().filter(|line| line.starts_with("Message-ID") || line.starts_with("Date")).map(str::to_owned).collect::<Vec<_>>()
        };
        let first = head(letter().message().unwrap().formatted());
        assert_eq!(first.len(), 2);
        assert_eq!(first, head(letter().message().unwrap().formatted()));
    }
}
