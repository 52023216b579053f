//! Orders that come again, because their sender did not hear the answer, are carried out once.

use std::time::Duration;

use maple_lark_data::digest::sha256;
use maple_lark_store::{Store, orders::Ordered, people::User};
use rocket::{
    Request,
    http::Status,
    outcome::Outcome,
    request::{self, FromRequest},
};
use serde::{Serialize, de::DeserializeOwned};

use super::problem::{Problem, Refusal};
use crate::engine::EngineHandle;

/// Longer keys are none.
const LONGEST: usize = 200;
/// So often, and so many times, it is looked whether the first of equal orders has its answer.
const LOOK: Duration = Duration::from_millis(100);
const LOOKS: usize = 300;

/// What the sender of an order knows it by, if anything: the header `Idempotency-Key`.
pub struct OrderKey(Option<String>);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for OrderKey {
    type Error = ();

    async fn from_request(request: &'r Request<'_>) -> request::Outcome<Self, ()> {
        let key = request.headers().get_one("Idempotency-Key");
        let is_good = |key: &str| {
            (1..=LONGEST).contains(&key.len()) && key.chars().all(|c| c.is_ascii_graphic())
        };
        if key.is_none_or(is_good) {
            return Outcome::Success(Self(key.map(str::to_owned)));
        }
        let words = format!(
            "the header Idempotency-Key must have 1 to {LONGEST} visible ASCII characters; use a UUID, for instance"
        );
        let problem = Problem::new(400, "Not understood", words);
        request.local_cache(|| Some(Refusal::NotUnderstood(problem)));
        Outcome::Error((Status::BadRequest, ()))
    }
}

/// Carries an order out, or answers as it was answered before.
///
/// # Errors
/// Those of the order, which can be given again then; if another order has its key; and if it
/// is not known what became of the first.
pub async fn once<T: Serialize + DeserializeOwned>(
    (store, engine): (&Store, &EngineHandle),
    user: &User,
    OrderKey(key): OrderKey,
    what: impl Serialize,
    work: impl Future<Output = Result<T, Problem>>,
) -> Result<T, Problem> {
    let Some(key) = key else { return work.await };
    let unreadable =
        |error: serde_json::Error| Problem::new(500, "Internal error", error.to_string());
    let digest = sha256(&serde_json::to_vec(&what).map_err(unreadable)?);
    for _ in 0..LOOKS {
        match store
            .begin_order(user.id, &key, &digest, engine.now())
            .await?
        {
            Ordered::New => {
                let done = work.await;
                match &done {
                    Ok(answer) => {
                        let answer = serde_json::to_value(answer).map_err(unreadable)?;
                        store.answer_order(user.id, &key, answer).await?;
                    }
                    Err(_) => store.forget_order(user.id, &key).await?,
                }
                return done;
            }
            Ordered::Answered(answer) => {
                return serde_json::from_value(answer).map_err(unreadable);
            }
            Ordered::Other => {
                return Err(Problem::new(
                    422,
                    "Key already used",
                    "this Idempotency-Key was used for a different request within the last 24 hours; use a new key for each request",
                ));
            }
            Ordered::UnderWay => tokio::time::sleep(LOOK).await,
        }
    }
    Err(Problem::new(
        409,
        "Outcome unknown",
        "the same request was received before, and its outcome is unknown; check the runs before you send it again with another key",
    ))
}
