//! A stand-in for object storage that is spoken to as S3: one bucket, addressed by path, whose every
//! request must carry a signature (version 4) of its one key, and whose bodies must be what was signed.

use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
};

use anyhow::Result;
use base64::{Engine, engine::general_purpose::STANDARD};
use hmac::{Hmac, KeyInit, Mac};
use rocket::{
    Data, Request, Response, Route, State,
    data::ToByteUnit,
    delete, get,
    http::{ContentType, Header, Status, uri::Segments},
    put,
    request::{FromRequest, FromSegments, Outcome},
    response::{self, Responder},
    routes,
};
use sha2::{Digest, Sha256};

use crate::stand_in::StandIn;

pub const BUCKET: &str = "orrin-documents";
pub const REGION: &str = "sound-1";
pub const ACCESS_KEY: &str = "maple-lark";
pub const SECRET_KEY: &str = "herring-and-oat-cakes";

#[derive(Default)]
struct Buckets {
    objects: Mutex<BTreeMap<String, Vec<u8>>>,
    fails: AtomicBool,
}

impl Buckets {
    fn objects(&self) -> MutexGuard<'_, BTreeMap<String, Vec<u8>>> {
        self.objects.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The storage, as long as this lives.
pub struct ObjectStorage {
    stand_in: StandIn,
    buckets: Arc<Buckets>,
}

impl ObjectStorage {
    /// # Errors
    /// If no port is free.
    pub async fn start() -> Result<Self> {
        let buckets = Arc::new(Buckets::default());
        let address = StandIn::free()?;
        let built = StandIn::built(address)
            .manage(buckets.clone())
            .mount("/", all_routes());
        Ok(Self {
            stand_in: StandIn::start(address, built).await?,
            buckets,
        })
    }

    /// Where it is reached.
    #[must_use]
    pub fn endpoint(&self) -> String {
        format!("http://{}", self.stand_in.address)
    }

    /// What is kept, by name.
    #[must_use]
    pub fn objects(&self) -> BTreeMap<String, Vec<u8>> {
        self.buckets.objects().clone()
    }

    /// Puts something in the place of what is kept, or takes it away, behind everybody's back.
    pub fn meddle(&self, name: &str, body: Option<Vec<u8>>) {
        let mut objects = self.buckets.objects();
        match body {
            Some(body) => objects.insert(name.to_owned(), body),
            None => objects.remove(name),
        };
    }

    /// Answers every request with 503 from now on, or answers as usual again.
    pub fn fail(&self, fails: bool) {
        self.buckets.fails.store(fails, Ordering::SeqCst);
    }
}

fn all_routes() -> Vec<Route> {
    routes![read, write, remove]
}

/// What goes wrong, as such storage says it.
#[derive(Debug)]
struct Refused(Status, &'static str);

impl<'r> Responder<'r, 'static> for Refused {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let text = format!("<Error><Code>{}</Code></Error>", self.1);
        Response::build_from((ContentType::XML, text).respond_to(request)?)
            .status(self.0)
            .ok()
    }
}

/// The name of an object behind the bucket.
struct Name(String);

impl<'r> FromSegments<'r> for Name {
    type Error = Refused;

    fn from_segments(
        segments: Segments<'r, rocket::http::uri::fmt::Path>,
    ) -> Result<Self, Self::Error> {
        let mut all = segments;
        match all.next() {
            Some(BUCKET) => Ok(Self(all.collect::<Vec<_>>().join("/"))),
            _ => Err(Refused(Status::NotFound, "NoSuchBucket")),
        }
    }
}

/// A request with a signature that fits, and the digest of the body that it was made with.
struct Signed(String);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Signed {
    type Error = Refused;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Refused> {
        let refused = |code| Outcome::Error((Status::Forbidden, Refused(Status::Forbidden, code)));
        let buckets = request.rocket().state::<Arc<Buckets>>();
        if buckets.is_some_and(|buckets| buckets.fails.load(Ordering::SeqCst)) {
            let busy = Status::ServiceUnavailable;
            return Outcome::Error((busy, Refused(busy, "ServiceUnavailable")));
        }
        match signature_fits(request) {
            Some(digest) => Outcome::Success(Self(digest)),
            None => refused("SignatureDoesNotMatch"),
        }
    }
}

fn mac(key: &[u8], text: &str) -> Vec<u8> {
    let mut mac = Hmac::<Sha256>::new_from_slice(key).expect("a key may have any length");
    mac.update(text.as_bytes());
    mac.finalize().into_bytes().to_vec()
}

/// Works the signature out anew (AWS Signature Version 4) and answers with the body's digest if it fits.
fn signature_fits(request: &Request<'_>) -> Option<String> {
    let one = |name: &str| request.headers().get_one(name);
    let given = one("authorization")?.strip_prefix("AWS4-HMAC-SHA256 ")?;
    let parts: BTreeMap<&str, &str> = given
        .split(',')
        .filter_map(|part| part.trim().split_once('='))
        .collect();
    let scope = parts.get("Credential")?.strip_prefix(ACCESS_KEY)?;
    let scope = scope.strip_prefix('/')?;
    let names = parts.get("SignedHeaders")?;
    let digest = one("x-amz-content-sha256")?;
    let headers: Option<String> = names
        .split(';')
        .map(|name| Some(format!("{name}:{}\n", one(name)?.trim())))
        .collect();
    let query = request.uri().query().map_or("", |query| query.as_str());
    let asked = format!(
        "{}\n{}\n{query}\n{}\n{names}\n{digest}",
        request.method(),
        request.uri().path(),
        headers?
    );
    let date = one("x-amz-date")?;
    let text = format!(
        "AWS4-HMAC-SHA256\n{date}\n{scope}\n{}",
        hex::encode(Sha256::digest(asked.as_bytes()))
    );
    let key = format!("AWS4{SECRET_KEY}").into_bytes();
    let key = scope.split('/').fold(key, |key, part| mac(&key, part));
    let fits = hex::encode(mac(&key, &text)) == *parts.get("Signature")?;
    fits.then(|| digest.to_owned())
}

/// An object, with what clients need to know of it.
struct Found(Vec<u8>);

impl<'r> Responder<'r, 'static> for Found {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let tag = format!("\"{}\"", hex::encode(Sha256::digest(&self.0)));
        Response::build_from(self.0.respond_to(request)?)
            .header(Header::new("ETag", tag))
            .header(Header::new(
                "Last-Modified",
                "Sun, 29 Mar 2026 00:00:00 GMT",
            ))
            .ok()
    }
}

#[get("/<name..>")]
fn read(
    name: Result<Name, Refused>,
    signed: Result<Signed, Refused>,
    buckets: &State<Arc<Buckets>>,
) -> Result<Found, Refused> {
    signed?;
    let found = buckets.objects().get(&name?.0).cloned();
    found
        .map(Found)
        .ok_or(Refused(Status::NotFound, "NoSuchKey"))
}

#[put("/<name..>", data = "<data>")]
async fn write(
    name: Result<Name, Refused>,
    signed: Result<Signed, Refused>,
    sum: Sum,
    data: Data<'_>,
    buckets: &State<Arc<Buckets>>,
) -> Result<Stored, Refused> {
    let (Signed(digest), name) = (signed?, name?);
    let bad = Refused(Status::BadRequest, "XAmzContentSHA256Mismatch");
    let body = data.open(256.mebibytes()).into_bytes().await;
    let body = body.map_err(|_| Refused(Status::BadRequest, "IncompleteBody"))?;
    let found = Sha256::digest(&body.value);
    if hex::encode(found) != digest || sum.0.is_some_and(|sum| sum != STANDARD.encode(found)) {
        return Err(bad);
    }
    buckets.objects().insert(name.0, body.into_inner());
    Ok(Stored(digest))
}

/// The digest that the client wants to be compared with what came.
struct Sum(Option<String>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Sum {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let sum = request.headers().get_one("x-amz-checksum-sha256");
        Outcome::Success(Self(sum.map(str::to_owned)))
    }
}

struct Stored(String);

impl<'r> Responder<'r, 'static> for Stored {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        Response::build()
            .header(Header::new("ETag", format!("\"{}\"", self.0)))
            .ok()
    }
}

#[delete("/<name..>")]
fn remove(
    name: Result<Name, Refused>,
    signed: Result<Signed, Refused>,
    buckets: &State<Arc<Buckets>>,
) -> Result<Status, Refused> {
    signed?;
    buckets.objects().remove(&name?.0);
    Ok(Status::NoContent)
}
