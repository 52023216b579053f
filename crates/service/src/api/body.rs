//! What a request brings: a body in JSON, and numbers in the address.

use std::ops::Deref;

use rocket::{
    Request,
    data::{self, Data, FromData, ToByteUnit},
    http::Status,
    outcome::Outcome,
};
use serde::de::DeserializeOwned;

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

#[rocket::async_trait]
impl<'r, T: DeserializeOwned> FromData<'r> for Body<T> {
    type Error = ();

    async fn from_data(request: &'r Request<'_>, body: Data<'r>) -> data::Outcome<'r, Self> {
        let refused = |problem: Problem| {
            let status = Status::new(problem.status());
            // The catcher answers with what is left here.
            request.local_cache(|| Some(Refusal::Body(problem)));
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
        let text = match body.open(limit).into_string().await {
            Ok(text) if text.is_complete() => text.into_inner(),
            Ok(_) => {
                return refused(Problem::new(
                    413,
                    "Too large",
                    format!("the body is larger than {limit}"),
                ));
            }
            Err(error) => {
                let said = format!("the body cannot be read: {error}");
                return refused(Problem::new(400, "Not understood", said));
            }
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
