//! What a request brings: a body in JSON, and values in the address.

use std::{fmt::Display, ops::Deref, time::Duration};

use chrono::{DateTime, Utc};
use rocket::{
    Request,
    data::{self, ByteUnit, Data, FromData, ToByteUnit},
    http::Status,
    outcome::Outcome,
};
use serde::de::DeserializeOwned;
use tokio::io::AsyncReadExt;

use super::problem::{Problem, Refusal};

/// A body in JSON, said to be JSON. What is not understood is named, and no field is passed over.
pub struct Body<T>(T);

impl<T> Body<T> {
    pub fn into_inner(self) -> T {
        self.0
    }
}

impl<T> Deref for Body<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

/// How long nothing of a body may arrive, and how long all of it may take: meanwhile it holds
/// its connection and its memory.
const SILENCE: Duration = Duration::from_secs(10);
const LONGEST: Duration = Duration::from_secs(120);

fn too_slow() -> Problem {
    Problem::new(
        408,
        "Too slow",
        "the body did not arrive in time; send it again",
    )
}

/// A body as text, as it arrives.
async fn received(body: Data<'_>, limit: ByteUnit) -> Result<String, Problem> {
    let not_read = |error: &dyn Display| {
        Problem::new(
            400,
            "Not understood",
            format!("the body cannot be read: {error}"),
        )
    };
    let mut stream = body.open(limit + 1);
    let mut bytes = Vec::new();
    loop {
        match tokio::time::timeout(SILENCE, stream.read_buf(&mut bytes)).await {
            Ok(Ok(0)) => break,
            Ok(Ok(_)) if bytes.len() as u64 > limit => {
                return Err(Problem::new(
                    413,
                    "Too large",
                    format!("the body is larger than {limit}"),
                ));
            }
            Ok(Ok(_)) => {}
            Ok(Err(error)) => return Err(not_read(&error)),
            Err(_) => return Err(too_slow()),
        }
    }
    String::from_utf8(bytes).map_err(|error| not_read(&error))
}

#[rocket::async_trait]
impl<'r, T: DeserializeOwned> FromData<'r> for Body<T> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, body: Data<'r>) -> data::Outcome<'r, Self> {
        let refused = |problem: Problem| {
            let status = Status::new(problem.status());
            // The catcher answers with what is left here.
            request.local_cache(|| Some(Refusal::NotUnderstood(problem)));
            Outcome::Error((status, ()))
        };
        if !request.content_type().is_some_and(|kind| kind.is_json()) {
            return refused(Problem::new(
                415,
                "Not JSON",
                "send the body as JSON, with the header Content-Type: application/json",
            ));
        }
        let limit = request.limits().get("json").unwrap_or(8.mebibytes());
        let text = match tokio::time::timeout(LONGEST, received(body, limit)).await {
            Ok(Ok(text)) => text,
            Ok(Err(problem)) => return refused(problem),
            Err(_) => return refused(too_slow()),
        };
        match serde_json::from_str(&text) {
            Ok(value) => Outcome::Success(Self(value)),
            Err(error) => {
                let said: String = error.to_string().chars().take(400).collect();
                let said = format!("the body does not fit this call: {said}");
                refused(Problem::new(422, "Not understood", said))
            }
        }
    }
}

/// A value in the address, if there is one.
pub fn given(text: Option<&str>) -> Option<&str> {
    text.map(str::trim).filter(|text| !text.is_empty())
}

/// An instant in the address, in the form of RFC 3339.
///
/// # Errors
/// If it is none.
pub fn instant(key: &str, text: Option<&str>) -> Result<Option<DateTime<Utc>>, Problem> {
    let parsed = given(text).map(|text| {
        text.parse().map_err(|_| {
            let words = format!("{key}: \"{text}\" is not an instant such as 2026-11-01T00:00:00Z");
            Problem::new(422, "Not understood", words)
        })
    });
    parsed.transpose()
}

/// A whole number in the address.
///
/// # Errors
/// If something else stands there, with its name.
pub fn whole(name: &str, text: Option<&str>) -> Result<Option<u64>, Problem> {
    text.map(|text| {
        text.parse().map_err(|_| {
            let shown: String = text.chars().take(100).collect();
            let said = format!("{name} is a whole number, not \"{shown}\"");
            Problem::new(400, "Not understood", said)
        })
    })
    .transpose()
}

#[cfg(test)]
mod tests {
    use super::whole;

    #[test]
    fn a_number_in_the_address_is_one_or_is_refused_by_its_name() {
        assert_eq!(whole("page", None).unwrap(), None);
        assert_eq!(whole("page", Some("7")).unwrap(), Some(7));
        for wrong in ["", "x", "-1", "1.5", "99999999999999999999", " 1"] {
            let problem = whole("page", Some(wrong)).unwrap_err();
            assert_eq!(problem.status(), 400, "{wrong}");
            assert!(problem.detail().starts_with("page is a whole number"));
        }
    }
}
