//! What a provider says of somebody, and which of it counts here.

use openidconnect::AdditionalClaims;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use super::{ProviderError, ProviderSettings};
use crate::Person;

/// Groups of one person; more are not looked at.
const MOST_GROUPS: usize = 1_000;

/// Claims that have no names in the standard, such as groups.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Rest {
    #[serde(flatten)]
    all: Map<String, Value>,
}

impl AdditionalClaims for Rest {}

/// All claims of one person by their names.
#[derive(Debug, Default)]
pub(super) struct Claims(Map<String, Value>);

impl Claims {
    /// Adds what a token or the provider's own answer says; what is there already stays.
    pub(super) fn add(&mut self, claims: &impl Serialize) {
        if let Ok(Value::Object(more)) = serde_json::to_value(claims) {
            for (name, value) in more {
                if !value.is_null() {
                    self.0.entry(name).or_insert(value);
                }
            }
        }
    }

    pub(super) fn has(&self, name: &str) -> bool {
        self.at(name).is_some()
    }

    /// A claim by its whole name, which may have dots, else the way through objects.
    fn at(&self, name: &str) -> Option<&Value> {
        if let Some(value) = self.0.get(name) {
            return Some(value);
        }
        let mut steps = name.split('.');
        let first = self.0.get(steps.next()?)?;
        steps.try_fold(first, |value, step| value.get(step))
    }

    fn text(&self, name: &str) -> Option<String> {
        let text = self.at(name)?.as_str()?.trim();
        (!text.is_empty()).then(|| text.to_owned())
    }

    /// Who it is. An address that the provider has not verified is none.
    pub(super) fn person(
        &self,
        subject: &str,
        settings: &ProviderSettings,
    ) -> Result<Person, ProviderError> {
        let name = self.text(&settings.name);
        let verified = self.at("email_verified").is_none_or(|said| *said == true);
        let groups = match self.at(&settings.groups) {
            Some(Value::Array(all)) => all
                .iter()
                .filter_map(|one| Some(one.as_str()?.to_owned()))
                .take(MOST_GROUPS)
                .collect(),
            Some(Value::String(one)) => vec![one.clone()],
            _ => Vec::new(),
        };
        Ok(Person {
            entry: subject.to_owned(),
            name: name.ok_or_else(|| ProviderError::NoClaim(settings.name.clone()))?,
            mail: self.text(&settings.mail).filter(|_| verified),
            groups,
        })
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use serde_json::json;

    use super::*;

    fn settings(groups: &str) -> ProviderSettings {
        ProviderSettings {
            issuer: "https://id.host.example".to_owned(),
            client: "lark".to_owned(),
            secret: None,
            scopes: Vec::new(),
            name: "preferred_username".to_owned(),
            mail: "email".to_owned(),
            groups: groups.to_owned(),
            back: "https://lark.host.example/".to_owned(),
            looks_later: true,
            ca: None,
            timeout: Duration::from_secs(5),
        }
    }

    fn person(claims: &Value, groups: &str) -> Result<Person, ProviderError> {
        let mut all = Claims::default();
        all.add(claims);
        all.person("7f3a", &settings(groups))
    }

    #[test]
    fn groups_are_a_list_or_one_and_may_lie_deeper() {
        let groups = |claims: Value, name: &str| {
            let mut claims = claims;
            claims["preferred_username"] = json!("runa");
            person(&claims, name).unwrap().groups
        };
        assert_eq!(
            groups(json!({ "groups": ["a", 7, "b"] }), "groups"),
            ["a", "b"]
        );
        assert_eq!(groups(json!({ "groups": "crew" }), "groups"), ["crew"]);
        assert_eq!(
            groups(json!({ "access": { "roles": ["crew"] } }), "access.roles"),
            ["crew"]
        );
        assert_eq!(
            groups(
                json!({ "https://host.example/roles": ["crew"] }),
                "https://host.example/roles"
            ),
            ["crew"]
        );
        assert!(groups(json!({ "groups": { "crew": true } }), "groups").is_empty());
        assert!(groups(json!({}), "access.roles").is_empty());
    }

    #[test]
    fn somebody_has_a_name_and_an_address_only_if_it_is_verified() {
        let of = |verified: Value| {
            let claims = json!({ "preferred_username": " runa ", "email": "runa@orrin-sound.example", "email_verified": verified });
            let found = person(&claims, "groups").unwrap();
            assert_eq!(
                (found.entry.as_str(), found.name.as_str()),
                ("7f3a", "runa")
            );
            found.mail
        };
        assert!(of(json!(true)).is_some() && of(Value::Null).is_some());
        assert_eq!(of(json!(false)), None);
        for nameless in [
            json!({}),
            json!({ "preferred_username": "  " }),
            json!({ "preferred_username": 7 }),
        ] {
            let error = person(&nameless, "groups").unwrap_err().to_string();
            assert!(error.contains("\"preferred_username\""), "{error}");
        }
    }

    #[test]
    fn what_was_signed_counts_before_what_is_said_later() {
        let mut claims = Claims::default();
        claims.add(&json!({ "groups": ["crew"], "name": null }));
        claims.add(&json!({ "groups": ["operations"], "name": "Runa Holm" }));
        assert_eq!(claims.at("groups"), Some(&json!(["crew"])));
        assert!(claims.has("name") && !claims.has("nickname"));
    }
}
