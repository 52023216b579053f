//! Parameter values that somebody is held to: of each of these parameters they see what was asked with
//! values among these, and nothing that was asked without it.

use std::collections::{BTreeMap, BTreeSet};

use sea_orm::{ConnectionTrait, Value};
use uuid::Uuid;

use crate::{Result, Store, people::User};

/// The values that something was asked with, by parameter, as texts.
pub type Chosen = BTreeMap<String, Vec<String>>;

/// What somebody is held to. What cannot be read lets nothing through.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Bounds(Option<Chosen>);

impl Bounds {
    /// As the records have them.
    fn read(kept: &serde_json::Value) -> Self {
        Self(serde_json::from_value(kept.clone()).ok())
    }

    /// The values of each parameter.
    #[must_use]
    pub fn values(&self) -> Chosen {
        self.0.clone().unwrap_or_default()
    }

    /// Whether somebody sees what was asked with these values. `within_bounds` says the same in the
    /// database.
    #[must_use]
    pub fn allow(&self, chosen: &Chosen) -> bool {
        self.0.as_ref().is_some_and(|bounds| {
            bounds.iter().all(|(name, allowed)| {
                chosen.get(name).is_some_and(|values| {
                    !values.is_empty() && values.iter().all(|value| allowed.contains(value))
                })
            })
        })
    }

    /// For statements. Nothing is within what cannot be read: no value is in an empty list.
    pub(crate) fn value(&self) -> Value {
        let unreadable = || BTreeMap::from([(String::new(), Vec::new())]);
        serde_json::json!(self.0.clone().unwrap_or_else(unreadable)).into()
    }

    /// Those of some values of one parameter that are allowed.
    #[must_use]
    pub fn among(&self, name: &str, values: &[String]) -> Vec<String> {
        let Some(bounds) = &self.0 else {
            return Vec::new();
        };
        match bounds.get(name) {
            None => values.to_vec(),
            Some(allowed) => {
                let those = values.iter().filter(|value| allowed.contains(value));
                those.cloned().collect()
            }
        }
    }
}

impl User {
    /// What they are held to; nothing if they are not.
    #[must_use]
    pub fn held_to(&self) -> Option<Bounds> {
        self.bounds.as_ref().map(Bounds::read)
    }
}

impl Store {
    /// Of some mails, as their addresses in small letters and the snapshots that they would show: those
    /// that their recipients may not see, because they are users here who are held to other values.
    pub async fn held_to_others(
        &self,
        mails: &[(String, Uuid)],
    ) -> Result<BTreeSet<(String, Uuid)>> {
        let (addresses, snapshots): (Vec<String>, Vec<String>) = mails
            .iter()
            .map(|(address, snapshot)| (address.clone(), snapshot.to_string()))
            .unzip();
        // The lists are asked for as values, so that one plan is kept for lists of every length: to make one takes
        // many times as long as to go through a short list.
        let asked = Self::sql(
            "select mail.address, s.id from unnest((select $1::text[]), (select $2::text[])) as mail(address, snapshot) \
             join snapshots s on s.id = mail.snapshot::uuid join users u on lower(u.email) = mail.address \
             where u.bounds is not null and not within_bounds(s.chosen, u.bounds)",
            [addresses.into(), snapshots.into()],
        );
        let rows = self.db.query_all_raw(asked).await?;
        let found = rows
            .into_iter()
            .map(|row| Ok((row.try_get("", "address")?, row.try_get("", "id")?)));
        found.collect()
    }
}

/// Why a mail is not sent to somebody who is held to other values.
#[must_use]
pub fn held_words(address: &str) -> String {
    format!("{address} may see other values alone")
}
