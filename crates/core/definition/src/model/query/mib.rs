//! Names of the standard tree of objects (RFC 2578), as the IETF's modules have them, so that nobody has to
//! know their numbers.

use std::{fmt, str::FromStr};

use maple_lark_time::nearest::suggestion;

/// Something in the tree, by its number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Object {
    /// As its author wrote it: `ifDescr`, `sysName.0`, `1.3.6.1.2.1.1.5.0`.
    pub written: String,
    /// The numbers that lead to it.
    pub number: Vec<u64>,
}

/// Why a text names no object.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum BadObject {
    /// A name that is not in the standard tree.
    #[error(
        "\"{name}\" is no object that is known by its name; write its number, such as \"1.3.6.1.2.1.1.5.0\".{hint}"
    )]
    Name {
        /// The name.
        name: String,
        /// The nearest known one, in a sentence.
        hint: String,
    },
    /// What stands behind a name, or for one, is no number.
    #[error(
        "\"{0}\" is no object: write a name such as \"ifDescr\", with an index such as \"sysName.0\", or a number such as \"1.3.6.1.2.1.1.5.0\""
    )]
    Number(String),
}

impl FromStr for Object {
    type Err = BadObject;

    fn from_str(text: &str) -> Result<Self, BadObject> {
        let bad = || BadObject::Number(text.to_owned());
        let plain = text.strip_prefix('.').unwrap_or(text);
        let (first, rest) = plain
            .split_once('.')
            .map_or((plain, None), |(first, rest)| (first, Some(rest)));
        let mut number = Vec::new();
        let rest = if first.starts_with(|c: char| c.is_ascii_alphabetic()) {
            number = known(first)
                .ok_or_else(|| BadObject::Name {
                    name: first.to_owned(),
                    hint: suggestion(first, names()),
                })?
                .to_vec();
            rest
        } else {
            Some(plain)
        };
        for part in rest.into_iter().flat_map(|rest| rest.split('.')) {
            let digits = !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
            let part = digits.then(|| part.parse::<u32>().ok()).flatten();
            number.push(u64::from(part.ok_or_else(bad)?));
        }
        // The encoding (X.690, 8.19) has no room for others.
        let encodable = number.len() >= 2
            && number.len() <= 128
            && number[0] <= 2
            && (number[0] == 2 || number[1] < 40);
        if !encodable {
            return Err(bad());
        }
        Ok(Self {
            written: text.to_owned(),
            number,
        })
    }
}

impl fmt::Display for Object {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.written)
    }
}

impl Object {
    /// What its column is called: its name, with an index that is another one than `.0` behind it.
    #[must_use]
    pub fn column(&self) -> String {
        let (name, index) = named(&self.number);
        match (name, &index[..]) {
            (Some(name), [] | [0]) => name.to_owned(),
            (Some(name), index) => format!("{name}_{}", dotted(index).replace('.', "_")),
            (None, _) => format!("object_{}", dotted(&self.number).replace('.', "_")),
        }
    }
}

/// The name of what a number leads to or lies below, with the numbers that are left; all of them
/// where no name is known.
#[must_use]
pub fn named(number: &[u64]) -> (Option<&'static str>, Vec<u64>) {
    for table in TABLES {
        let Some(rest) = number.strip_prefix(table.number) else {
            continue;
        };
        let found = table.objects.iter().find_map(|object| {
            let index = rest.strip_prefix(object.number)?;
            Some((Some(object.name), index.to_vec()))
        });
        if let Some(found) = found {
            return found;
        }
    }
    (None, number.to_vec())
}

/// The word for a value of an object whose values are enumerated.
#[must_use]
pub fn word(name: &str, value: i64) -> Option<&'static str> {
    let words = WORDS.iter().find(|(known, _)| *known == name)?.1;
    let place = usize::try_from(value).ok()?.checked_sub(1)?;
    words.get(place).copied()
}

/// Numbers with dots between them.
#[must_use]
pub fn dotted(number: &[u64]) -> String {
    let parts: Vec<String> = number.iter().map(ToString::to_string).collect();
    parts.join(".")
}

fn known(name: &str) -> Option<Vec<u64>> {
    for table in TABLES {
        if table.name == name {
            return Some(table.number.to_vec());
        }
        if let Some(object) = table.objects.iter().find(|object| object.name == name) {
            return Some([table.number, object.number].concat());
        }
    }
    None
}

fn names() -> impl Iterator<Item = &'static str> {
    TABLES.iter().flat_map(|table| {
        let objects = table.objects.iter().map(|object| object.name);
        objects.chain([table.name])
    })
}

/// A table of the standard tree, or a group of single objects.
#[derive(Debug, Clone, Copy)]
pub struct MibTable {
    /// Its name.
    pub name: &'static str,
    /// What it tells, and where it is defined.
    pub description: &'static str,
    /// Where its objects begin.
    pub number: &'static [u64],
    /// Whether it has a row for each index; else each object is there once, with the index `.0`.
    pub has_rows: bool,
    /// What it has.
    pub objects: &'static [MibObject],
}

/// An object of a table.
#[derive(Debug, Clone, Copy)]
pub struct MibObject {
    /// Its name.
    pub name: &'static str,
    /// Where it is within its table.
    pub number: &'static [u64],
}

const fn o(name: &'static str, number: &'static [u64]) -> MibObject {
    MibObject { name, number }
}

/// The tables whose names are known.
pub const TABLES: &[MibTable] = &[
    MibTable {
        name: "system",
        description: "what it is, where, and since when it is up (RFC 3418)",
        number: &[1, 3, 6, 1, 2, 1, 1],
        has_rows: false,
        objects: &[
            o("sysDescr", &[1]),
            o("sysObjectID", &[2]),
            o("sysUpTime", &[3]),
            o("sysContact", &[4]),
            o("sysName", &[5]),
            o("sysLocation", &[6]),
            o("sysServices", &[7]),
        ],
    },
    MibTable {
        name: "ifTable",
        description: "network interfaces: states, octets, errors (RFC 2863)",
        number: &[1, 3, 6, 1, 2, 1, 2, 2, 1],
        has_rows: true,
        objects: &[
            o("ifIndex", &[1]),
            o("ifDescr", &[2]),
            o("ifType", &[3]),
            o("ifMtu", &[4]),
            o("ifSpeed", &[5]),
            o("ifPhysAddress", &[6]),
            o("ifAdminStatus", &[7]),
            o("ifOperStatus", &[8]),
            o("ifLastChange", &[9]),
            o("ifInOctets", &[10]),
            o("ifInUcastPkts", &[11]),
            o("ifInDiscards", &[13]),
            o("ifInErrors", &[14]),
            o("ifInUnknownProtos", &[15]),
            o("ifOutOctets", &[16]),
            o("ifOutUcastPkts", &[17]),
            o("ifOutDiscards", &[19]),
            o("ifOutErrors", &[20]),
        ],
    },
    MibTable {
        name: "ifXTable",
        description: "network interfaces: names and counters of 64 bits (RFC 2863)",
        number: &[1, 3, 6, 1, 2, 1, 31, 1, 1, 1],
        has_rows: true,
        objects: &[
            o("ifName", &[1]),
            o("ifInMulticastPkts", &[2]),
            o("ifInBroadcastPkts", &[3]),
            o("ifOutMulticastPkts", &[4]),
            o("ifOutBroadcastPkts", &[5]),
            o("ifHCInOctets", &[6]),
            o("ifHCInUcastPkts", &[7]),
            o("ifHCInMulticastPkts", &[8]),
            o("ifHCInBroadcastPkts", &[9]),
            o("ifHCOutOctets", &[10]),
            o("ifHCOutUcastPkts", &[11]),
            o("ifHCOutMulticastPkts", &[12]),
            o("ifHCOutBroadcastPkts", &[13]),
            o("ifHighSpeed", &[15]),
            o("ifConnectorPresent", &[17]),
            o("ifAlias", &[18]),
        ],
    },
    MibTable {
        name: "tcp",
        description: "connections and segments of TCP (RFC 4022)",
        number: &[1, 3, 6, 1, 2, 1, 6],
        has_rows: false,
        objects: &[
            o("tcpActiveOpens", &[5]),
            o("tcpPassiveOpens", &[6]),
            o("tcpAttemptFails", &[7]),
            o("tcpEstabResets", &[8]),
            o("tcpCurrEstab", &[9]),
            o("tcpInSegs", &[10]),
            o("tcpOutSegs", &[11]),
            o("tcpRetransSegs", &[12]),
        ],
    },
    MibTable {
        name: "udp",
        description: "datagrams of UDP (RFC 4113)",
        number: &[1, 3, 6, 1, 2, 1, 7],
        has_rows: false,
        objects: &[
            o("udpInDatagrams", &[1]),
            o("udpNoPorts", &[2]),
            o("udpInErrors", &[3]),
            o("udpOutDatagrams", &[4]),
        ],
    },
    MibTable {
        name: "bgpPeerTable",
        description: "peers of BGP and the states of their sessions (RFC 4273)",
        number: &[1, 3, 6, 1, 2, 1, 15, 3, 1],
        has_rows: true,
        objects: &[
            o("bgpPeerState", &[2]),
            o("bgpPeerAdminStatus", &[3]),
            o("bgpPeerRemoteAddr", &[7]),
            o("bgpPeerRemoteAs", &[9]),
            o("bgpPeerInUpdates", &[10]),
            o("bgpPeerOutUpdates", &[11]),
            o("bgpPeerFsmEstablishedTime", &[16]),
        ],
    },
    MibTable {
        name: "hrSystem",
        description: "users and processes of a machine (RFC 2790)",
        number: &[1, 3, 6, 1, 2, 1, 25, 1],
        has_rows: false,
        objects: &[
            o("hrSystemUptime", &[1]),
            o("hrSystemNumUsers", &[5]),
            o("hrSystemProcesses", &[6]),
            o("hrSystemMaxProcesses", &[7]),
        ],
    },
    MibTable {
        name: "hrStorage",
        description: "the size of a machine's memory, in kilobytes (RFC 2790)",
        number: &[1, 3, 6, 1, 2, 1, 25, 2],
        has_rows: false,
        objects: &[o("hrMemorySize", &[2])],
    },
    MibTable {
        name: "hrStorageTable",
        description: "memory and file systems of a machine: size and use, in units of hrStorageAllocationUnits bytes (RFC 2790)",
        number: &[1, 3, 6, 1, 2, 1, 25, 2, 3, 1],
        has_rows: true,
        objects: &[
            o("hrStorageIndex", &[1]),
            o("hrStorageType", &[2]),
            o("hrStorageDescr", &[3]),
            o("hrStorageAllocationUnits", &[4]),
            o("hrStorageSize", &[5]),
            o("hrStorageUsed", &[6]),
            o("hrStorageAllocationFailures", &[7]),
        ],
    },
    MibTable {
        name: "hrDeviceTable",
        description: "devices of a machine and their states (RFC 2790)",
        number: &[1, 3, 6, 1, 2, 1, 25, 3, 2, 1],
        has_rows: true,
        objects: &[
            o("hrDeviceIndex", &[1]),
            o("hrDeviceType", &[2]),
            o("hrDeviceDescr", &[3]),
            o("hrDeviceStatus", &[5]),
            o("hrDeviceErrors", &[6]),
        ],
    },
    MibTable {
        name: "hrProcessorTable",
        description: "processors of a machine: their load over a minute, in percent (RFC 2790)",
        number: &[1, 3, 6, 1, 2, 1, 25, 3, 3, 1],
        has_rows: true,
        objects: &[o("hrProcessorFrwID", &[1]), o("hrProcessorLoad", &[2])],
    },
    MibTable {
        name: "hrSWRunTable",
        description: "programs that run on a machine (RFC 2790)",
        number: &[1, 3, 6, 1, 2, 1, 25, 4, 2, 1],
        has_rows: true,
        objects: &[
            o("hrSWRunIndex", &[1]),
            o("hrSWRunName", &[2]),
            o("hrSWRunPath", &[4]),
            o("hrSWRunType", &[6]),
            o("hrSWRunStatus", &[7]),
        ],
    },
    MibTable {
        name: "hrSWRunPerfTable",
        description: "what those programs use: hundredths of a second of a processor, kilobytes (RFC 2790)",
        number: &[1, 3, 6, 1, 2, 1, 25, 5, 1, 1],
        has_rows: true,
        objects: &[o("hrSWRunPerfCPU", &[1]), o("hrSWRunPerfMem", &[2])],
    },
    MibTable {
        name: "ups",
        description: "a supply's battery and where its output comes from (RFC 1628)",
        number: &[1, 3, 6, 1, 2, 1, 33, 1],
        has_rows: false,
        objects: &[
            o("upsBatteryStatus", &[2, 1]),
            o("upsSecondsOnBattery", &[2, 2]),
            o("upsEstimatedMinutesRemaining", &[2, 3]),
            o("upsEstimatedChargeRemaining", &[2, 4]),
            o("upsBatteryVoltage", &[2, 5]),
            o("upsBatteryTemperature", &[2, 7]),
            o("upsOutputSource", &[4, 1]),
            o("upsAlarmsPresent", &[6, 1]),
        ],
    },
    MibTable {
        name: "upsInputTable",
        description: "what goes into a supply, line by line (RFC 1628)",
        number: &[1, 3, 6, 1, 2, 1, 33, 1, 3, 3, 1],
        has_rows: true,
        objects: &[
            o("upsInputFrequency", &[2]),
            o("upsInputVoltage", &[3]),
            o("upsInputCurrent", &[4]),
        ],
    },
    MibTable {
        name: "upsOutputTable",
        description: "what comes out of a supply, line by line (RFC 1628)",
        number: &[1, 3, 6, 1, 2, 1, 33, 1, 4, 4, 1],
        has_rows: true,
        objects: &[
            o("upsOutputVoltage", &[2]),
            o("upsOutputCurrent", &[3]),
            o("upsOutputPower", &[4]),
            o("upsOutputPercentLoad", &[5]),
        ],
    },
    MibTable {
        name: "prtMarkerSuppliesTable",
        description: "what a printer has left of ink, toner and the like (RFC 3805)",
        number: &[1, 3, 6, 1, 2, 1, 43, 11, 1, 1],
        has_rows: true,
        objects: &[
            o("prtMarkerSuppliesDescription", &[6]),
            o("prtMarkerSuppliesMaxCapacity", &[8]),
            o("prtMarkerSuppliesLevel", &[9]),
        ],
    },
    MibTable {
        name: "entPhysicalTable",
        description: "parts of a device: names, models, serial numbers (RFC 6933)",
        number: &[1, 3, 6, 1, 2, 1, 47, 1, 1, 1, 1],
        has_rows: true,
        objects: &[
            o("entPhysicalDescr", &[2]),
            o("entPhysicalContainedIn", &[4]),
            o("entPhysicalClass", &[5]),
            o("entPhysicalName", &[7]),
            o("entPhysicalHardwareRev", &[8]),
            o("entPhysicalFirmwareRev", &[9]),
            o("entPhysicalSoftwareRev", &[10]),
            o("entPhysicalSerialNum", &[11]),
            o("entPhysicalMfgName", &[12]),
            o("entPhysicalModelName", &[13]),
        ],
    },
    MibTable {
        name: "entPhySensorTable",
        description: "sensors of a device: values with scale and precision (RFC 3433)",
        number: &[1, 3, 6, 1, 2, 1, 99, 1, 1, 1],
        has_rows: true,
        objects: &[
            o("entPhySensorType", &[1]),
            o("entPhySensorScale", &[2]),
            o("entPhySensorPrecision", &[3]),
            o("entPhySensorValue", &[4]),
            o("entPhySensorOperStatus", &[5]),
            o("entPhySensorUnitsDisplay", &[6]),
        ],
    },
];

/// What enumerated values mean, from 1 on.
const WORDS: &[(&str, &[&str])] = &[
    ("ifAdminStatus", &["up", "down", "testing"]),
    (
        "ifOperStatus",
        &[
            "up",
            "down",
            "testing",
            "unknown",
            "dormant",
            "notPresent",
            "lowerLayerDown",
        ],
    ),
    (
        "hrDeviceStatus",
        &["unknown", "running", "warning", "testing", "down"],
    ),
    (
        "hrSWRunType",
        &["unknown", "operatingSystem", "deviceDriver", "application"],
    ),
    (
        "hrSWRunStatus",
        &["running", "runnable", "notRunnable", "invalid"],
    ),
    (
        "bgpPeerState",
        &[
            "idle",
            "connect",
            "active",
            "opensent",
            "openconfirm",
            "established",
        ],
    ),
    ("bgpPeerAdminStatus", &["stop", "start"]),
    (
        "upsBatteryStatus",
        &["unknown", "batteryNormal", "batteryLow", "batteryDepleted"],
    ),
    (
        "upsOutputSource",
        &[
            "other", "none", "normal", "bypass", "battery", "booster", "reducer",
        ],
    ),
    (
        "entPhySensorOperStatus",
        &["ok", "unavailable", "nonoperational"],
    ),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_lead_to_numbers_and_back() {
        let object = |text: &str| text.parse::<Object>().unwrap();
        assert_eq!(object("sysName.0").number, [1, 3, 6, 1, 2, 1, 1, 5, 0]);
        assert_eq!(object("sysName.0").column(), "sysName");
        assert_eq!(object(".1.3.6.1.2.1.1.5.0").column(), "sysName");
        assert_eq!(
            object("ifHCInOctets").number,
            [1, 3, 6, 1, 2, 1, 31, 1, 1, 1, 6]
        );
        assert_eq!(object("ifDescr.12").column(), "ifDescr_12");
        assert_eq!(object("1.3.6.1.4.1.9.2").column(), "object_1_3_6_1_4_1_9_2");
        assert_eq!(object("ifTable").number, [1, 3, 6, 1, 2, 1, 2, 2, 1]);
        // A table inside of a group's numbers is found by its own name.
        let (name, index) = named(&[1, 3, 6, 1, 2, 1, 33, 1, 4, 4, 1, 5, 3]);
        assert_eq!((name, index), (Some("upsOutputPercentLoad"), vec![3]));
        for table in TABLES {
            for one in table.objects {
                let number = object(one.name).number;
                assert_eq!(named(&number), (Some(one.name), vec![]), "{}", one.name);
            }
        }
    }

    #[test]
    fn what_is_no_object_is_said() {
        let words = |text: &str| text.parse::<Object>().unwrap_err().to_string();
        assert!(
            words("ifDesc").ends_with("Did you mean \"ifDescr\"?"),
            "{}",
            words("ifDesc")
        );
        for text in [
            "",
            ".",
            "1",
            "1.3.",
            "1..3",
            "1.3.-6",
            "sysName.x",
            "5.1",
            "1.40",
            "1.3.4294967296",
        ] {
            assert!(
                words(text).contains("is no object: write a name"),
                "{text}: {}",
                words(text)
            );
        }
    }

    #[test]
    fn enumerated_values_have_words() {
        assert_eq!(word("ifOperStatus", 7), Some("lowerLayerDown"));
        assert_eq!(word("ifOperStatus", 0), None);
        assert_eq!(word("ifOperStatus", 8), None);
        assert_eq!(word("ifSpeed", 1), None);
        for (name, _) in WORDS {
            assert!(known(name).is_some(), "{name}");
        }
    }
}
