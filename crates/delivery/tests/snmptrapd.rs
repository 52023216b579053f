//! A real receiver of SNMP notifications.

use std::time::{Duration, Instant};

use maple_lark_definition::SnmpHash;
use maple_lark_delivery::{
    DeliveryError, SnmpNotification, SnmpProof, SnmpReceiver, SnmpSender, SnmpValue, engine_id,
    send_notification,
};
use maple_lark_demo::{NotificationReceiver, notification_receiver as known};
use snmp2::v3::{Auth, AuthProtocol, Cipher, Security};

const PLACE: &str = "https://reports.orrin-sound.example";

fn user(password: &str) -> SnmpSender {
    let security = Security::new(known::USER.as_bytes(), password.as_bytes())
        .with_auth_protocol(AuthProtocol::Sha256)
        .with_auth(Auth::AuthPriv {
            cipher: Cipher::Aes128,
            privacy_password: known::PRIVACY_PASSWORD.as_bytes().to_vec(),
        });
    SnmpSender::User {
        security: Box::new(security),
        proof: Some(SnmpProof {
            hash: SnmpHash::Sha256,
            password: password.to_owned(),
        }),
    }
}

fn started() -> NotificationReceiver {
    let digits = engine_id(PLACE)
        .iter()
        .map(|octet| format!("{octet:02x}"))
        .collect::<String>();
    NotificationReceiver::start(&format!("0x{digits}")).unwrap()
}

async fn told(
    at: &NotificationReceiver,
    sender: SnmpSender,
    confirmed: bool,
    text: &str,
) -> Result<String, DeliveryError> {
    let receiver = SnmpReceiver {
        address: at.address(),
        addresses: vec![at.address().parse().unwrap()],
        sender,
        confirmed,
        enterprise: vec![1, 3, 6, 1, 4, 1, 32473, 1],
        engine: engine_id(PLACE),
        patience: Duration::from_secs(8),
    };
    let notification = SnmpNotification {
        number: 1,
        up: Duration::from_secs(5),
        values: vec![
            (6, SnmpValue::Text(text.to_owned())),
            (5, SnmpValue::Whole(2)),
        ],
    };
    send_notification(&receiver, &notification).await
}

/// What it has written down, once that has these words.
fn heard(at: &NotificationReceiver, words: &str) -> String {
    let began = Instant::now();
    loop {
        let heard = at.heard();
        if heard.contains(words) {
            return heard;
        }
        assert!(
            began.elapsed() < Duration::from_secs(60),
            "{words} is not in {heard}"
        );
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[tokio::test]
async fn informs_are_confirmed_to_whom_it_knows() {
    let receiver = started();
    let community = |word: &str| SnmpSender::Community(word.to_owned());
    for (sender, text) in [
        (community(known::COMMUNITY), "by a community"),
        (user(known::PASSWORD), "by a user"),
    ] {
        assert_eq!(
            told(&receiver, sender, true, text).await.unwrap(),
            "confirmed"
        );
        let line = heard(&receiver, text);
        assert!(
            line.contains(".1.3.6.1.4.1.32473.1.1.5.0 = INTEGER: 2"),
            "{line}"
        );
    }
    let error = told(&receiver, user("another password"), true, "forged")
        .await
        .unwrap_err();
    assert!(!error.is_temporary(), "{error}");
    assert!(
        error.to_string().contains("does it know the user"),
        "{error}"
    );
    assert!(!receiver.heard().contains("forged"));
}

#[tokio::test]
async fn traps_of_a_user_are_signed_by_the_engine_of_the_place() {
    let receiver = started();
    for (sender, text) in [
        (
            SnmpSender::Community(known::COMMUNITY.to_owned()),
            "by a community",
        ),
        (user(known::PASSWORD), "by a user"),
        // Its clock goes on between two.
        (user(known::PASSWORD), "once more"),
    ] {
        let said = told(&receiver, sender, false, text).await.unwrap();
        assert!(said.contains("nobody confirms"), "{said}");
        heard(&receiver, text);
    }
}
