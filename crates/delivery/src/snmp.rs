//! Notifications by SNMP (RFC 3416, 4.2.6 and 4.2.7), by version 2c (RFC 1901) or 3 (RFC 3412, RFC 3414):
//! informs, which their receiver confirms, and traps, which nobody does.

use std::{net::SocketAddr, time::Duration};

use asn1_rs::{Any, Class, Header, Length, Oid, SerializeError, Tag, ToDer};
use chrono::{DateTime, Utc};
use sha2::{Digest, Sha256};
use snmp2::{
    Error, MessageType, Pdu,
    v3::{Auth, AuthErrorKind, Security},
};
use tokio::{
    net::UdpSocket,
    time::{Instant, timeout_at},
};

use crate::{
    DeliveryError,
    unanswered::{REPORTABLE, SnmpProof, unanswered},
};

/// `sysUpTime.0` and `snmpTrapOID.0` (RFC 3418), with which every notification begins.
const UP_TIME: [u64; 9] = [1, 3, 6, 1, 2, 1, 1, 3, 0];
const WHICH: [u64; 11] = [1, 3, 6, 1, 6, 3, 1, 1, 4, 1, 0];
/// How often an inform is sent in all: datagrams get lost.
const TRIES: u32 = 4;
/// Whoever receives it takes so much.
const LARGEST: i64 = 65_507;
/// The longest text (SnmpAdminString, RFC 3411), in octets.
const LONGEST: usize = 255;
/// When the clock of the engine began that signs traps: its time goes on over restarts and is the same for
/// all processes, so they count as one that never started again.
const ENGINE_BEGAN: i64 = 1_767_225_600;

/// As whom notifications are sent.
#[derive(Clone)]
pub enum SnmpSender {
    /// Version 2c.
    Community(String),
    /// Version 3, and with what the user proves who it is, if it does.
    User {
        security: Box<Security>,
        proof: Option<SnmpProof>,
    },
}

/// Whoever takes notifications.
#[derive(Clone)]
pub struct SnmpReceiver {
    /// As it is told.
    pub address: String,
    /// What it leads to, all of which may be reached.
    pub addresses: Vec<SocketAddr>,
    pub sender: SnmpSender,
    /// Whether it confirms.
    pub confirmed: bool,
    /// The number below which all of a notification is.
    pub enterprise: Vec<u64>,
    /// The engine that signs traps of version 3.
    pub engine: Vec<u8>,
    /// How long its confirmation is waited for in all.
    pub patience: Duration,
}

/// What is told.
#[derive(Debug, Clone)]
pub struct SnmpNotification {
    /// Its number below `enterprise.0`.
    pub number: u64,
    /// Since when the sender is up.
    pub up: Duration,
    /// Values of the objects `enterprise.1.N.0`.
    pub values: Vec<(u64, SnmpValue)>,
}

/// A value of an object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SnmpValue {
    Text(String),
    Whole(i64),
}

/// The identifier of an engine (RFC 3411, 5): the same for the same words.
#[must_use]
pub fn engine_id(words: &str) -> Vec<u8> {
    // The enterprise for examples, and that octets of its own follow.
    let mut id = vec![0x80, 0x00, 0x7e, 0xd9, 0x05];
    id.extend(&Sha256::digest(words.as_bytes())[..12]);
    id
}

fn element(
    class: Class,
    constructed: bool,
    tag: u32,
    content: &[u8],
) -> Result<Vec<u8>, SerializeError> {
    let header = Header::new(
        class,
        constructed,
        Tag(tag),
        Length::Definite(content.len()),
    );
    Any::new(header, content).to_der_vec()
}

fn sequence(parts: &[Vec<u8>]) -> Result<Vec<u8>, SerializeError> {
    element(Class::Universal, true, Tag::Sequence.0, &parts.concat())
}

fn octets(bytes: &[u8]) -> Result<Vec<u8>, SerializeError> {
    element(Class::Universal, false, Tag::OctetString.0, bytes)
}

fn number(number: &[u64]) -> Result<Vec<u8>, SerializeError> {
    Oid::from(number)
        .map_err(|_| SerializeError::InvalidLength)?
        .to_der_vec()
}

/// Hundredths of a second (`TimeTicks`), which begin again after 497 days.
fn ticks(time: Duration) -> Result<Vec<u8>, SerializeError> {
    let hundredths = (time.as_millis() / 10) % (1 << 32);
    let integer = (hundredths as i64).to_der_vec()?;
    // Its content, under another tag; a short one has its length in one octet.
    element(Class::Application, false, 3, &integer[2..])
}

/// A text that is short enough, ended by … where it was cut.
fn cut(text: &str) -> String {
    if text.len() <= LONGEST {
        return text.to_owned();
    }
    let mut end = LONGEST - '…'.len_utf8();
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    format!("{}…", &text[..end])
}

impl SnmpNotification {
    /// The unit of the protocol, as an inform or a trap.
    fn pdu(&self, receiver: &SnmpReceiver, request: i32) -> Result<Vec<u8>, SerializeError> {
        let below = |rest: &[u64]| number(&[&receiver.enterprise[..], rest].concat());
        let mut bindings = vec![
            sequence(&[number(&UP_TIME)?, ticks(self.up)?])?,
            sequence(&[number(&WHICH)?, below(&[0, self.number])?])?,
        ];
        for (object, value) in &self.values {
            let value = match value {
                SnmpValue::Text(text) => octets(cut(text).as_bytes())?,
                SnmpValue::Whole(value) => value.to_der_vec()?,
            };
            bindings.push(sequence(&[below(&[1, *object, 0])?, value])?);
        }
        let content = [
            i64::from(request).to_der_vec()?,
            0_i64.to_der_vec()?,
            0_i64.to_der_vec()?,
            sequence(&bindings)?,
        ];
        let tag = if receiver.confirmed { 6 } else { 7 };
        element(Class::ContextSpecific, true, tag, &content.concat())
    }
}

/// A message of version 3 that is neither signed nor encrypted, and whose engine is not known yet.
fn unsigned(pdu: &[u8], request: i32, flags: u8) -> Result<Vec<u8>, SerializeError> {
    let global = sequence(&[
        i64::from(request).to_der_vec()?,
        LARGEST.to_der_vec()?,
        octets(&[flags])?,
        3_i64.to_der_vec()?,
    ])?;
    let nobody = sequence(&[
        octets(&[])?,
        0_i64.to_der_vec()?,
        0_i64.to_der_vec()?,
        octets(&[])?,
        octets(&[])?,
        octets(&[])?,
    ])?;
    let scoped = sequence(&[octets(&[])?, octets(&[])?, pdu.to_vec()])?;
    sequence(&[3_i64.to_der_vec()?, global, octets(&nobody)?, scoped])
}

/// The same as a user sends it.
fn signed(pdu: &[u8], request: i32, security: &Security) -> Result<Vec<u8>, Error> {
    let unsigned = unsigned(pdu, request, 0).map_err(|_| Error::ValueOutOfRange)?;
    // Read as a message of nobody's, it is written as one of the user's.
    let mut nobody = Security::new(b"", b"")
        .with_auth(Auth::NoAuthNoPriv)
        .with_engine_id(security.engine_id())?;
    Pdu::from_bytes_with_security(&unsigned, Some(&mut nobody))?
        .to_bytes_with_security(Some(security))
}

/// Asks a receiver for the engine that it is.
fn discovery(request: i32) -> Result<Vec<u8>, SerializeError> {
    let nothing = [
        i64::from(request).to_der_vec()?,
        0_i64.to_der_vec()?,
        0_i64.to_der_vec()?,
        sequence(&[])?,
    ];
    let get = element(Class::ContextSpecific, true, 0, &nothing.concat())?;
    unsigned(&get, request, REPORTABLE)
}

/// Tells a receiver something, and answers with its words.
///
/// # Errors
/// If it cannot be reached or refuses; of an inform also if it does not confirm.
pub async fn send_notification(
    receiver: &SnmpReceiver,
    notification: &SnmpNotification,
) -> Result<String, DeliveryError> {
    let server = || format!("the SNMP receiver {}", receiver.address);
    let written = |error: SerializeError| DeliveryError::Message {
        words: error.to_string(),
    };
    let failed = |error: Error| DeliveryError::Message {
        words: error.to_string(),
    };
    let lost = |error: std::io::Error| DeliveryError::Unreachable {
        server: server(),
        words: error.to_string(),
    };
    let target = receiver
        .addresses
        .first()
        .ok_or_else(|| lost(std::io::Error::other("the name has no address")))?;
    let own = if target.is_ipv4() {
        "0.0.0.0:0"
    } else {
        "[::]:0"
    };
    let socket = UdpSocket::bind(own).await.map_err(lost)?;
    socket.connect(target).await.map_err(lost)?;
    // A receiver that was told before knows another request by it.
    let request = (Utc::now().timestamp_millis() & 0x3fff_ffff) as i32;
    let pdu = notification.pdu(receiver, request).map_err(written)?;
    if !receiver.confirmed {
        let message = match &receiver.sender {
            SnmpSender::Community(community) => plain(community, &pdu).map_err(written)?,
            SnmpSender::User { security, proof } => {
                let security = as_engine(security, &receiver.engine, Utc::now()).map_err(failed)?;
                let message = signed(&pdu, request, &security).map_err(failed)?;
                unanswered(message, &receiver.engine, proof.as_ref())
                    .ok_or_else(|| failed(Error::ValueOutOfRange))?
            }
        };
        socket.send(&message).await.map_err(lost)?;
        return Ok("sent; nobody confirms a trap".to_owned());
    }
    let inform = Inform {
        socket,
        request,
        pdu,
        server: server(),
        patience: receiver.patience,
    };
    let confirmed = match &receiver.sender {
        SnmpSender::Community(community) => inform.by_community(community).await,
        SnmpSender::User { security, .. } => inform.by_user((**security).clone()).await,
    };
    confirmed.map(|()| "confirmed".to_owned())
}

/// A message of version 2c.
fn plain(community: &str, pdu: &[u8]) -> Result<Vec<u8>, SerializeError> {
    sequence(&[
        1_i64.to_der_vec()?,
        octets(community.as_bytes())?,
        pdu.to_vec(),
    ])
}

/// A user of an engine of one's own: whoever sends a trap is the one whose clock counts (RFC 3414, 1.5.1).
fn as_engine(security: &Security, engine: &[u8], now: DateTime<Utc>) -> Result<Security, Error> {
    let time = (now.timestamp() - ENGINE_BEGAN).rem_euclid(i64::from(i32::MAX));
    let security = security.clone().with_engine_id(engine)?;
    Ok(security.with_engine_boots_and_time(1, time))
}

/// An inform that is under way.
struct Inform {
    socket: UdpSocket,
    request: i32,
    pdu: Vec<u8>,
    server: String,
    patience: Duration,
}

impl Inform {
    async fn by_community(&self, community: &str) -> Result<(), DeliveryError> {
        let message = plain(community, &self.pdu).map_err(|error| self.failed(&error))?;
        for _ in 0..TRIES {
            let until = self.send(&message).await?;
            while let Some(answer) = self.answer(until).await? {
                let Ok(pdu) = Pdu::from_bytes(&answer) else {
                    continue;
                };
                if let Some(done) = self.confirms(&pdu) {
                    return done;
                }
            }
        }
        Err(self.silent())
    }

    /// Learns which engine receives and what its clock says, then tells it.
    async fn by_user(&self, mut security: Security) -> Result<(), DeliveryError> {
        let ask = discovery(self.request).map_err(|error| self.failed(&error))?;
        for _ in 0..TRIES {
            let message = if security.engine_id().is_empty() {
                ask.clone()
            } else {
                signed(&self.pdu, self.request, &security).map_err(|error| self.failed(&error))?
            };
            let until = self.send(&message).await?;
            while let Some(answer) = self.answer(until).await? {
                match Pdu::from_bytes_with_security(&answer, Some(&mut security)) {
                    Ok(pdu) => {
                        if let Some(done) = self.confirms(&pdu) {
                            return done;
                        }
                    }
                    // It said who it is, or what its clock shows: now it can be told.
                    Err(Error::AuthUpdated) => break,
                    // Clocks that are apart are told when it is asked again, and an answer to something else
                    // says nothing of this.
                    Err(Error::AuthFailure(
                        AuthErrorKind::EngineBootsMismatch
                        | AuthErrorKind::EngineTimeMismatch
                        | AuthErrorKind::MessageIdMismatch,
                    )) => break,
                    Err(Error::AuthFailure(kind)) => {
                        return Err(self.refused(&format!(
                            "{kind}; does it know the user, with the same passwords?"
                        )));
                    }
                    Err(_) => {}
                }
            }
        }
        Err(self.silent())
    }

    /// Sends, and says until when an answer to it is waited for.
    async fn send(&self, message: &[u8]) -> Result<Instant, DeliveryError> {
        self.socket
            .send(message)
            .await
            .map_err(|error| self.lost(&error))?;
        Ok(Instant::now() + self.patience / TRIES)
    }

    /// The next datagram; none if there is none in time.
    async fn answer(&self, until: Instant) -> Result<Option<Vec<u8>>, DeliveryError> {
        let mut bytes = vec![0; LARGEST as usize];
        match timeout_at(until, self.socket.recv(&mut bytes)).await {
            Err(_) => Ok(None),
            Ok(Ok(read)) => {
                bytes.truncate(read);
                Ok(Some(bytes))
            }
            Ok(Err(error)) => Err(self.lost(&error)),
        }
    }

    /// Whether an answer is that to this inform, and what it says.
    fn confirms(&self, pdu: &Pdu<'_>) -> Option<Result<(), DeliveryError>> {
        match pdu.message_type {
            MessageType::Response if pdu.req_id == self.request => Some(match pdu.error_status {
                0 => Ok(()),
                status => Err(self.refused(&format!("error status {status}"))),
            }),
            MessageType::Report => Some(Err(
                self.refused("it does not know the user, or wants more protection")
            )),
            _ => None,
        }
    }

    fn silent(&self) -> DeliveryError {
        DeliveryError::Unreachable {
            server: self.server.clone(),
            words: format!(
                "no confirmation within {} s; a receiver that does not know who tells it does not answer, either",
                self.patience.as_secs()
            ),
        }
    }

    fn lost(&self, error: &std::io::Error) -> DeliveryError {
        DeliveryError::Unreachable {
            server: self.server.clone(),
            words: match error.kind() {
                std::io::ErrorKind::ConnectionRefused => "nobody listens there".to_owned(),
                _ => error.to_string(),
            },
        }
    }

    fn refused(&self, words: &str) -> DeliveryError {
        DeliveryError::Refused {
            server: self.server.clone(),
            words: words.to_owned(),
        }
    }

    fn failed(&self, error: &dyn std::fmt::Display) -> DeliveryError {
        DeliveryError::Message {
            words: error.to_string(),
        }
    }
}

#[cfg(test)]
mod tests {
    use snmp2::Value;

    use super::*;

    fn receiver(confirmed: bool) -> SnmpReceiver {
        SnmpReceiver {
            address: "nms:162".to_owned(),
            addresses: Vec::new(),
            sender: SnmpSender::Community("c".to_owned()),
            confirmed,
            enterprise: vec![1, 3, 6, 1, 4, 1, 32473, 1],
            engine: engine_id("https://reports.orrin-sound.example"),
            patience: Duration::from_secs(1),
        }
    }

    fn notification() -> SnmpNotification {
        SnmpNotification {
            number: 1,
            up: Duration::from_millis(12_345),
            values: vec![
                (1, SnmpValue::Text("estate-daily".to_owned())),
                (5, SnmpValue::Whole(2)),
                (6, SnmpValue::Text("Å".repeat(200))),
            ],
        }
    }

    #[test]
    fn a_notification_says_when_which_and_what() {
        for (confirmed, kind) in [
            (true, MessageType::InformRequest),
            (false, MessageType::Trap),
        ] {
            let pdu = notification().pdu(&receiver(confirmed), 77).unwrap();
            let message = plain("quay", &pdu).unwrap();
            let read = Pdu::from_bytes(&message).unwrap();
            assert_eq!(
                (read.community, read.message_type, read.req_id),
                (&b"quay"[..], kind, 77)
            );
            let said: Vec<(String, Value<'_>)> = read
                .varbinds
                .map(|(oid, value)| (oid.to_id_string(), value))
                .collect();
            let names: Vec<&str> = said.iter().map(|(name, _)| name.as_str()).collect();
            assert_eq!(
                names,
                [
                    "1.3.6.1.2.1.1.3.0",
                    "1.3.6.1.6.3.1.1.4.1.0",
                    "1.3.6.1.4.1.32473.1.1.1.0",
                    "1.3.6.1.4.1.32473.1.1.5.0",
                    "1.3.6.1.4.1.32473.1.1.6.0"
                ]
            );
            assert!(matches!(said[0].1, Value::Timeticks(1234)), "{said:?}");
            let Value::ObjectIdentifier(which) = &said[1].1 else {
                panic!("{said:?}")
            };
            assert_eq!(which.to_id_string(), "1.3.6.1.4.1.32473.1.0.1");
            assert!(matches!(said[3].1, Value::Integer(2)), "{said:?}");
            let Value::OctetString(text) = said[4].1 else {
                panic!("{said:?}")
            };
            let text = std::str::from_utf8(text).unwrap();
            assert!(text.len() <= LONGEST && text.ends_with("Å…"), "{text}");
        }
    }

    #[test]
    fn time_begins_again_after_so_many_hundredths() {
        let of = |millis| ticks(Duration::from_millis(millis)).unwrap();
        assert_eq!(of(0), [0x43, 1, 0]);
        assert_eq!(of(42_949_672_950), [0x43, 5, 0, 255, 255, 255, 255]);
        assert_eq!(of(42_949_672_960), [0x43, 1, 0]);
    }

    #[test]
    fn an_engine_is_known_by_its_place() {
        let one = engine_id("https://a.example");
        assert_eq!(one, engine_id("https://a.example"));
        assert_ne!(one, engine_id("https://b.example"));
        assert_eq!((one.len(), &one[..5]), (17, &[0x80, 0, 0x7e, 0xd9, 5][..]));
    }
}
