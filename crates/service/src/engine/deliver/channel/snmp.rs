//! A notification for whoever watches by SNMP. Its objects are those of `MAPLE-LARK-MIB`, which comes with the
//! package.

use std::time::Duration;

use maple_lark_data::status::Status;
use maple_lark_definition::{Channel, SnmpSettings};
use maple_lark_delivery::{
    DeliveryError, SnmpNotification, SnmpProof, SnmpReceiver, SnmpSender, SnmpValue, engine_id,
    send_notification,
};
use maple_lark_sources::SnmpCredentials;
use maple_lark_store::{deliveries::Delivery, notices::Notice};

use super::{ChannelDriver, ChannelError, Place, refused};
use crate::engine::{
    deliver::{Deliverer, failure::Failure, opened::opened},
    shared::Shared,
};

/// The notifications, by their numbers in the MIB.
const REPORT: u64 = 1;
const NOTICE: u64 = 2;
const TEST: u64 = 3;
/// The objects, by theirs.
const NAME: u64 = 1;
const TITLE: u64 = 2;
const RUN: u64 = 3;
const AUDIENCE: u64 = 4;
const STATUS: u64 = 5;
const SUMMARY: u64 = 6;
const WINDOW: u64 = 7;
const ADDRESS: u64 = 8;
const SUBJECT: u64 = 9;
const KIND: u64 = 10;

/// A channel of this kind with its settings.
pub struct Snmp<'a> {
    pub channel: &'a Channel,
    pub settings: &'a SnmpSettings,
}

fn text(object: u64, text: impl Into<String>) -> (u64, SnmpValue) {
    (object, SnmpValue::Text(text.into()))
}

impl Snmp<'_> {
    async fn receiver(&self, shared: &Shared) -> Result<SnmpReceiver, ChannelError> {
        let (reader, settings) = (&shared.reader, self.settings);
        let place = Place::of(reader, &settings.address).await?;
        let credentials = reader
            .snmp_credentials(&settings.sign_in, &place.host)
            .await?;
        Ok(SnmpReceiver {
            address: place.address,
            addresses: place.addresses,
            sender: match credentials {
                SnmpCredentials::Community(community) => SnmpSender::Community(community),
                SnmpCredentials::User { security, proof } => SnmpSender::User {
                    security,
                    proof: proof.map(|(hash, password)| SnmpProof { hash, password }),
                },
            },
            confirmed: settings.confirmed,
            enterprise: settings.enterprise.clone(),
            engine: engine_id(&shared.config.public_url),
            patience: Duration::from_secs(self.channel.timeout_seconds),
        })
    }

    async fn tell(
        &self,
        shared: &Shared,
        number: u64,
        values: Vec<(u64, SnmpValue)>,
    ) -> Result<String, DeliveryError> {
        let receiver = self.receiver(shared).await;
        let receiver = receiver.map_err(|error| refused(self.channel, error))?;
        let notification = SnmpNotification {
            number,
            up: shared.began.elapsed(),
            values,
        };
        send_notification(&receiver, &notification).await
    }
}

#[rocket::async_trait]
impl ChannelDriver for Snmp<'_> {
    async fn send(&self, deliverer: &Deliverer, delivery: &Delivery) -> Result<String, Failure> {
        let shared = &*deliverer.shared;
        let run = opened(shared, delivery).await?;
        let (document, run) = (&run.document, &run.run);
        let status = match document.summary.status {
            Status::Ok => 0,
            Status::Unknown => 1,
            Status::Warning => 2,
            Status::Critical => 3,
        };
        let values = vec![
            text(NAME, run.report.as_str()),
            text(TITLE, document.title.as_str()),
            text(RUN, run.id.to_string()),
            text(AUDIENCE, delivery.audience.as_str()),
            (STATUS, SnmpValue::Whole(status)),
            text(SUMMARY, document.summary.headline.as_str()),
            text(WINDOW, document.front.window_label.as_str()),
            text(
                ADDRESS,
                format!("{}/runs/{}", shared.config.public_url, run.id),
            ),
        ];
        Ok(self.tell(shared, REPORT, values).await?)
    }

    async fn notify(
        &self,
        shared: &Shared,
        notice: &Notice,
        words: &str,
    ) -> Result<(), DeliveryError> {
        let values = vec![
            text(SUBJECT, notice.subject.as_str()),
            text(KIND, words),
            text(SUMMARY, notice.text.replace('\n', " ")),
        ];
        self.tell(shared, NOTICE, values).await.map(drop)
    }

    async fn test(&self, shared: &Shared) -> Result<String, ChannelError> {
        // What cannot be used is told as it is, and not as a refusal of the receiver's.
        let receiver = self.receiver(shared).await?;
        let notification = SnmpNotification {
            number: TEST,
            up: shared.began.elapsed(),
            values: vec![text(SUMMARY, "A test from Maple Lark")],
        };
        let said = send_notification(&receiver, &notification).await?;
        Ok(match (&receiver.sender, self.settings.confirmed) {
            // Whoever receives it must know whose key it is signed with.
            (SnmpSender::User { .. }, false) => {
                let digits = receiver.engine.iter().map(|octet| format!("{octet:02x}"));
                format!("{said}; its engine is 0x{}", digits.collect::<String>())
            }
            _ => said,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_mib_has_each_number_that_is_sent() {
        let mib = include_str!("../../../../../../packaging/mib/MAPLE-LARK-MIB.txt");
        let number_of = |name: &str, kind: &str| {
            let told = mib.split(&format!("\n{name} {kind}")).nth(1);
            let told = told.unwrap_or_else(|| panic!("{name} is not in the MIB"));
            let place = told
                .split("::= {")
                .nth(1)
                .and_then(|rest| rest.split('}').next());
            place.unwrap().trim().to_owned()
        };
        for (name, number) in [
            ("mapleLarkReport", NAME),
            ("mapleLarkTitle", TITLE),
            ("mapleLarkRun", RUN),
            ("mapleLarkAudience", AUDIENCE),
            ("mapleLarkStatus", STATUS),
            ("mapleLarkSummary", SUMMARY),
            ("mapleLarkWindow", WINDOW),
            ("mapleLarkAddress", ADDRESS),
            ("mapleLarkSubject", SUBJECT),
            ("mapleLarkKind", KIND),
        ] {
            let told = number_of(name, "OBJECT-TYPE");
            assert_eq!(told, format!("mapleLarkObjects {number}"), "{name}");
        }
        for (name, number) in [
            ("mapleLarkReportMade", REPORT),
            ("mapleLarkNotice", NOTICE),
            ("mapleLarkTest", TEST),
        ] {
            let told = number_of(name, "NOTIFICATION-TYPE");
            assert_eq!(told, format!("mapleLarkNotifications {number}"), "{name}");
        }
        let root = number_of("mapleLark", "MODULE-IDENTITY");
        let usual = SnmpSettings::USUAL_ENTERPRISE.map(|number| number.to_string());
        assert_eq!(root, format!("enterprises {}", usual[6..].join(" ")));
        assert!(mib.contains("ok(0), unknown(1), warning(2), critical(3)"));
    }
}
