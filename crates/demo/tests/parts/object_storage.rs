//! The storage takes nothing that is not signed with its key, and keeps nothing but what was signed.

use std::collections::BTreeMap;

use base64::{Engine, engine::general_purpose::STANDARD};
use hmac::{Hmac, KeyInit, Mac};
use maple_lark_demo::{
    ObjectStorage,
    object_storage::{ACCESS_KEY, BUCKET, REGION, SECRET_KEY},
};
use reqwest::{Client, Method};
use sha2::{Digest, Sha256};

const NOW: &str = "20260329T000000Z";

fn hmac(key: &[u8], text: &str) -> Vec<u8> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).unwrap();
    mac.update(text.as_bytes());
    mac.finalize().into_bytes().to_vec()
}

/// A request, as somebody with a key signs it.
struct Asked<'a> {
    method: Method,
    path: String,
    /// What the signature says of the body.
    signed: &'a [u8],
    /// What is sent.
    sent: &'a [u8],
    secret: &'a str,
    sum: Option<String>,
}

impl<'a> Asked<'a> {
    fn new(method: Method, name: &str, body: &'a [u8]) -> Self {
        Self {
            method,
            path: format!("/{BUCKET}/{name}"),
            signed: body,
            sent: body,
            secret: SECRET_KEY,
            sum: None,
        }
    }

    /// Status and text of the answer.
    async fn of(self, storage: &ObjectStorage) -> (u16, String) {
        let digest = hex::encode(Sha256::digest(self.signed));
        let endpoint = storage.endpoint();
        let host = endpoint.strip_prefix("http://").unwrap();
        let names = "host;x-amz-content-sha256;x-amz-date";
        let asked = format!(
            "{}\n{}\n\nhost:{host}\nx-amz-content-sha256:{digest}\nx-amz-date:{NOW}\n\n{names}\n{digest}",
            self.method, self.path
        );
        let scope = format!("{}/{REGION}/s3/aws4_request", &NOW[..8]);
        let asked = hex::encode(Sha256::digest(asked));
        let text = format!("AWS4-HMAC-SHA256\n{NOW}\n{scope}\n{asked}");
        let key = format!("AWS4{}", self.secret).into_bytes();
        let key = scope.split('/').fold(key, |key, part| hmac(&key, part));
        let signature = hex::encode(hmac(&key, &text));
        let mut request = Client::new()
            .request(self.method, format!("{endpoint}{}", self.path))
            .header("x-amz-date", NOW)
            .header("x-amz-content-sha256", digest)
            .header("authorization", format!("AWS4-HMAC-SHA256 Credential={ACCESS_KEY}/{scope}, SignedHeaders={names}, Signature={signature}"))
            .body(self.sent.to_vec());
        if let Some(sum) = self.sum {
            request = request.header("x-amz-checksum-sha256", sum);
        }
        let answer = request.send().await.unwrap();
        (answer.status().as_u16(), answer.text().await.unwrap())
    }
}

#[tokio::test]
async fn what_is_written_is_read_again_and_goes() {
    let storage = ObjectStorage::start().await.unwrap();
    let name = "2026/daily.pdf";
    let (status, _) = Asked::new(Method::PUT, name, b"%PDF").of(&storage).await;
    assert_eq!(status, 200);
    let kept = BTreeMap::from([(name.to_owned(), b"%PDF".to_vec())]);
    assert_eq!(storage.objects(), kept);
    let read = Asked::new(Method::GET, name, b"").of(&storage).await;
    assert_eq!(read, (200, "%PDF".to_owned()));
    storage.meddle(name, Some(b"forged".to_vec()));
    let read = Asked::new(Method::GET, name, b"").of(&storage).await;
    assert_eq!(read, (200, "forged".to_owned()));
    let (status, _) = Asked::new(Method::DELETE, name, b"").of(&storage).await;
    assert_eq!((status, storage.objects().len()), (204, 0));
    let (status, said) = Asked::new(Method::GET, name, b"").of(&storage).await;
    assert_eq!(status, 404);
    assert!(said.contains("NoSuchKey"), "{said}");
}

#[tokio::test]
async fn who_has_another_key_or_bucket_or_sends_something_else_is_refused() {
    let storage = ObjectStorage::start().await.unwrap();
    let put = || Asked::new(Method::PUT, "a.csv", b"a,b\n");
    let other_sum = STANDARD.encode(Sha256::digest(b"something else"));
    let own_sum = STANDARD.encode(Sha256::digest(b"a,b\n"));
    for (asked, expected) in [
        (
            Asked {
                secret: "guessed",
                ..put()
            },
            (403, "SignatureDoesNotMatch"),
        ),
        (
            Asked {
                sent: b"c,d\n",
                ..put()
            },
            (400, "XAmzContentSHA256Mismatch"),
        ),
        (
            Asked {
                sum: Some(other_sum),
                ..put()
            },
            (400, "XAmzContentSHA256Mismatch"),
        ),
        (
            Asked {
                path: "/another/a.csv".to_owned(),
                ..put()
            },
            (404, "NoSuchBucket"),
        ),
    ] {
        let (status, said) = asked.of(&storage).await;
        assert_eq!(status, expected.0, "{said}");
        assert!(said.contains(expected.1), "{said}");
        assert!(storage.objects().is_empty());
    }
    let unsigned = Client::new().get(format!("{}/{BUCKET}/a.csv", storage.endpoint()));
    assert_eq!(unsigned.send().await.unwrap().status(), 403);
    storage.fail(true);
    let (status, said) = put().of(&storage).await;
    assert_eq!(status, 503);
    assert!(said.contains("ServiceUnavailable"), "{said}");
    storage.fail(false);
    let summed = Asked {
        sum: Some(own_sum),
        ..put()
    };
    assert_eq!(summed.of(&storage).await.0, 200);
}
