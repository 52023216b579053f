//! What definitions may use of the machine that the service runs on: what its administrator
//! allows in the configuration, and nothing else.

use std::{
    collections::BTreeMap,
    path::{Path, PathBuf},
};

use maple_lark_definition::Setting;

use crate::{error::SettingProblem, machine::MachinePart};

/// What definitions may use.
#[derive(Debug, Clone, Default)]
pub struct Permissions {
    /// Folders whose files sources may read.
    pub folders: Vec<PathBuf>,
    /// File systems whose room local checks may measure.
    pub disks: Vec<PathBuf>,
    /// What of this machine local checks may tell.
    pub machine: Vec<MachinePart>,
    /// A folder with the journal that they count, if it is not the machine's own.
    pub journal_folder: Option<PathBuf>,
    /// References as they are written, `env:NAME` and `file:/path`; one that ends with `*`
    /// stands for all that begin like it.
    pub references: Vec<String>,
    /// The hosts that a stored secret may be sent to. One that is not named here may be sent
    /// wherever a definition says.
    pub secret_hosts: BTreeMap<String, Vec<String>>,
}

impl Permissions {
    /// Everything: for what is no service.
    pub(crate) fn all() -> Self {
        Self {
            folders: vec![PathBuf::from("/")],
            machine: MachinePart::ALL.to_vec(),
            references: vec!["env:*".to_owned(), "file:*".to_owned()],
            ..Self::default()
        }
    }

    /// Whether a file or a folder, with its links followed, is within those that may be read.
    pub(crate) fn may_read(&self, path: &Path) -> bool {
        self.folders.iter().any(|folder| {
            let folder = folder.canonicalize();
            folder.is_ok_and(|folder| path.starts_with(folder))
        })
    }

    /// Whether the room of a file system may be measured.
    pub(crate) fn may_measure(&self, path: &Path) -> bool {
        self.disks.iter().any(|disk| disk == path) || self.may_read(path)
    }

    /// The hosts whose pages a secret may be typed into: that of its source, and those that the
    /// configuration names for it.
    pub(crate) fn hosts_of(&self, setting: &Setting, host: Option<&str>) -> Vec<String> {
        let named = match setting {
            Setting::Secret(name) => self.secret_hosts.get(name),
            _ => None,
        };
        let own = host.map(str::to_owned);
        own.into_iter()
            .chain(named.into_iter().flatten().cloned())
            .collect()
    }

    /// # Errors
    /// If the reference is none that definitions may use, or its secret may not be sent to `host`.
    pub(crate) fn check(
        &self,
        setting: &Setting,
        host: Option<&str>,
    ) -> Result<(), SettingProblem> {
        match setting {
            Setting::Plain(_) | Setting::Command(_) => Ok(()),
            Setting::Environment(_) | Setting::File(_) => {
                let written = setting.written();
                // A path that goes up leads out of what it begins with.
                let plain = !Path::new(&written)
                    .components()
                    .any(|part| part.as_os_str() == "..");
                let allowed = |pattern: &String| match pattern.strip_suffix('*') {
                    Some(beginning) => plain && written.starts_with(beginning),
                    None => written == *pattern,
                };
                if self.references.iter().any(allowed) {
                    Ok(())
                } else {
                    Err(SettingProblem::NotAllowed(written))
                }
            }
            Setting::Secret(name) => match (self.secret_hosts.get(name), host) {
                (None, _) => Ok(()),
                (Some(hosts), Some(host)) if hosts.iter().any(|allowed| allowed == host) => Ok(()),
                (Some(_), host) => Err(SettingProblem::OtherHost {
                    secret: name.clone(),
                    host: host.unwrap_or("where it is used").to_owned(),
                }),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn references_are_used_only_where_they_are_allowed() {
        let permissions = Permissions {
            references: ["env:OPS_*", "file:/run/secrets/*", "env:ONE"]
                .map(str::to_owned)
                .to_vec(),
            secret_hosts: BTreeMap::from([("reader".to_owned(), vec!["db.example".to_owned()])]),
            ..Permissions::default()
        };
        let check =
            |written: &str, host| permissions.check(&written.parse().unwrap(), host).is_ok();
        for fine in [
            "plain",
            "env:OPS_PASSWORD",
            "env:ONE",
            "file:/run/secrets/a",
            "secret:other",
        ] {
            assert!(check(fine, None), "{fine}");
        }
        for bad in [
            "env:OTHER",
            "env:ONE_MORE",
            "file:/etc/shadow",
            "file:/run/secrets/../../etc/shadow",
            "secret:reader",
        ] {
            assert!(!check(bad, None), "{bad}");
        }
        let hosts =
            |written: &str| permissions.hosts_of(&written.parse().unwrap(), Some("a.example"));
        assert_eq!(hosts("secret:reader"), ["a.example", "db.example"]);
        assert_eq!(hosts("env:ONE"), ["a.example"]);
        assert!(check("secret:reader", Some("db.example")));
        assert!(!check("secret:reader", Some("elsewhere.example")));
        assert!(
            Permissions::all()
                .check(&"env:ANY".parse().unwrap(), None)
                .is_ok()
        );
    }

    #[test]
    fn folders_are_compared_with_their_links_followed() {
        let home = tempfile::TempDir::new().unwrap();
        let home = home.path().canonicalize().unwrap();
        for name in ["open", "closed"] {
            std::fs::create_dir(home.join(name)).unwrap();
        }
        std::os::unix::fs::symlink(home.join("open"), home.join("link")).unwrap();
        let permissions = Permissions {
            folders: vec![home.join("link")],
            disks: vec![PathBuf::from("/")],
            ..Permissions::default()
        };
        assert!(permissions.may_read(&home.join("open/a.csv")));
        assert!(!permissions.may_read(&home.join("closed/a.csv")));
        assert!(!permissions.may_read(&home.join("open-too")));
        assert!(permissions.may_measure(Path::new("/")));
        assert!(!permissions.may_measure(Path::new("/var")));
        assert!(!Permissions::default().may_read(Path::new("/")));
    }
}
