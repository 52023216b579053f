//! Delivery status notifications (RFC 3464): what a mail server says later of a message that
//! it, or one behind it, could not deliver after all.

use mail_parser::{Message, MessageParser, MimeHeaders, PartType};

/// What became of one recipient of one of our messages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bounce {
    /// The Message-ID of ours, without angle brackets, if the notification holds its head.
    pub message_id: Option<String>,
    pub recipient: String,
    /// RFC 3463, `5.1.1`.
    pub status: String,
    /// In the words of the server that refused.
    pub words: String,
}

impl Bounce {
    /// Whether the address itself is at fault and will stay so.
    pub fn is_hard(&self) -> bool {
        self.status.starts_with('5')
    }
}

/// The recipients that a message says were not reached; empty if it is no notification, or
/// tells of a delay or a success only.
pub fn read_bounce(bytes: &[u8]) -> Vec<Bounce> {
    let Some(message) = MessageParser::default().parse(bytes) else {
        return Vec::new();
    };
    let Some(report) = parts(&message, "message", "delivery-status").next() else {
        return Vec::new();
    };
    let message_id = original_id(&message);
    let mut found = Vec::new();
    // The first group tells of the message, each further one of a recipient.
    for group in report.replace("\r\n", "\n").split("\n\n").skip(1) {
        let fields = unfolded(group);
        let field = |name: &str| {
            fields
                .iter()
                .find(|(known, _)| known.eq_ignore_ascii_case(name))
                .map(|(_, value)| value.as_str())
        };
        // "rfc822; runa@orrin-sound.example": the kind of the address comes first.
        let bare = |value: &str| {
            value
                .split_once(';')
                .map_or(value, |(_, rest)| rest)
                .trim()
                .trim_matches(['<', '>'])
                .to_owned()
        };
        let failed =
            field("Action").is_some_and(|action| action.trim().eq_ignore_ascii_case("failed"));
        let Some(recipient) = field("Original-Recipient")
            .or_else(|| field("Final-Recipient"))
            .map(bare)
            .filter(|recipient| failed && !recipient.is_empty())
        else {
            continue;
        };
        let status = field("Status")
            .unwrap_or("5.0.0")
            .trim()
            .chars()
            .take(12)
            .collect();
        let words = field("Diagnostic-Code")
            .map(bare)
            .unwrap_or_else(|| "no reason was given".to_owned());
        found.push(Bounce {
            message_id: message_id.clone(),
            recipient,
            status,
            words,
        });
    }
    found
}

fn parts<'a>(
    message: &'a Message<'a>,
    kind: &'a str,
    subkind: &'a str,
) -> impl Iterator<Item = String> + 'a {
    let fits = move |part: &&mail_parser::MessagePart<'_>| {
        part.content_type()
            .is_some_and(|found| found.ctype() == kind && found.subtype() == Some(subkind))
    };
    message
        .parts
        .iter()
        .filter(fits)
        .map(|part| String::from_utf8_lossy(part.contents()).into_owned())
}

/// The Message-ID in the copy of our message, whole or its head alone.
fn original_id(message: &Message<'_>) -> Option<String> {
    let within = message.parts.iter().find_map(|part| match &part.body {
        PartType::Message(inner) => inner.message_id().map(str::to_owned),
        _ => None,
    });
    within.or_else(|| {
        let heads: Vec<String> = parts(message, "text", "rfc822-headers")
            .chain(parts(message, "message", "rfc822-headers"))
            .collect();
        let fields = heads
            .iter()
            .flat_map(|head| unfolded(&head.replace("\r\n", "\n")));
        fields
            .into_iter()
            .find(|(name, _)| name.eq_ignore_ascii_case("Message-ID"))
            .map(|(_, value)| value.trim().trim_matches(['<', '>']).to_owned())
    })
}

fn unfolded(text: &str) -> Vec<(String, String)> {
    let mut fields: Vec<(String, String)> = Vec::new();
    for line in text.lines() {
        match (line.starts_with([' ', '\t']), fields.last_mut()) {
            (true, Some((_, value))) => {
                value.push(' ');
                value.push_str(line.trim());
            }
            _ => fields.extend(
                line.split_once(':')
                    .map(|(name, value)| (name.trim().to_owned(), value.trim().to_owned())),
            ),
        }
    }
    fields
}

#[cfg(test)]
mod tests {
    use super::*;

    fn notification(groups: &str, copy: &str) -> Vec<u8> {
        format!(
            "From: Mail Delivery System <mailer-daemon@mail.example>\r\nTo: bounces@orrin-sound.example\r\nSubject: Undelivered\r\nMIME-Version: 1.0\r\n\
             Content-Type: multipart/report; report-type=delivery-status; boundary=\"b\"\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nSorry.\r\n\
             --b\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mail.example\r\n\r\n{groups}\r\n{copy}--b--\r\n"
        )
        .into_bytes()
    }

    const GONE: &str = "Final-Recipient: rfc822; gone@orrin-sound.example\r\nAction: failed\r\nStatus: 5.1.1\r\nDiagnostic-Code: smtp; 550 5.1.1\r\n no such\r\n user\r\n";
    const COPY: &str = "--b\r\nContent-Type: message/rfc822\r\n\r\nMessage-ID: <17@orrin-sound.example>\r\nSubject: Ferries\r\n\r\nBody\r\n";

    #[test]
    fn a_failed_recipient_is_found_with_the_servers_words_and_our_message() {
        let found = read_bounce(&notification(GONE, COPY));
        let wanted = Bounce {
            message_id: Some("17@orrin-sound.example".into()),
            recipient: "gone@orrin-sound.example".into(),
            status: "5.1.1".into(),
            words: "550 5.1.1 no such user".into(),
        };
        assert_eq!(found, [wanted]);
        assert!(found[0].is_hard());
    }

    #[test]
    fn the_head_alone_names_our_message_too() {
        let head = "--b\r\nContent-Type: text/rfc822-headers\r\n\r\nSubject: Ferries\r\nMessage-Id: <18@orrin-sound.example>\r\n\r\n";
        assert_eq!(
            read_bounce(&notification(GONE, head))[0]
                .message_id
                .as_deref(),
            Some("18@orrin-sound.example")
        );
    }

    #[test]
    fn several_recipients_are_told_apart_and_delays_are_no_bounces() {
        let full = "Final-Recipient: rfc822;full@x.example\r\nOriginal-Recipient: rfc822;first@x.example\r\nAction: failed\r\nStatus: 4.2.2\r\n";
        let late = "Final-Recipient: rfc822;late@x.example\r\nAction: delayed\r\nStatus: 4.4.1\r\n";
        let found = read_bounce(&notification(&format!("{GONE}\r\n{late}\r\n{full}"), COPY));
        assert_eq!(
            found
                .iter()
                .map(|bounce| bounce.recipient.as_str())
                .collect::<Vec<_>>(),
            ["gone@orrin-sound.example", "first@x.example"]
        );
        assert!(!found[1].is_hard());
    }

    #[test]
    fn other_mail_is_no_bounce() {
        assert!(
            read_bounce(b"From: a@b.example\r\nSubject: Re: Ferries\r\n\r\nThank you\r\n")
                .is_empty()
        );
        assert!(read_bounce(b"").is_empty());
        assert!(read_bounce(&[0xff; 64]).is_empty());
    }
}
