//! What tests of several modules draw from: all zones, and instants near where clocks change.

use chrono::{DateTime, TimeDelta, Utc};
use proptest::prelude::*;

use crate::zone::Zone;

/// Any of the zones, equally often.
pub fn any_zone() -> impl Strategy<Value = Zone> {
    proptest::sample::select(Zone::names()).prop_map(|name| name.parse().unwrap())
}

/// A zone and an instant between 1970 and 2099; in two of three cases within two days of a
/// change of the zone's clock, if it has any.
pub fn near_a_change() -> impl Strategy<Value = (Zone, DateTime<Utc>)> {
    let seconds = 0i64..4_102_444_800;
    (any_zone(), seconds, 0u8..3, -172_800i64..172_800).prop_map(|(zone, at, how, beside)| {
        let at = DateTime::from_timestamp(at, 0).unwrap();
        let change = zone.last_change(DateTime::UNIX_EPOCH, at);
        match change.filter(|_| how > 0) {
            // Right at the change, and around it.
            Some(change) if how == 1 => (zone, change + TimeDelta::seconds(beside / 3600 * 900)),
            Some(change) => (zone, change + TimeDelta::seconds(beside)),
            None => (zone, at),
        }
    })
}
