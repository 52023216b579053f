//! A real SNMP agent from Debian's packages (snmpd) on a port of loopback, for tests: one that tells of this
//! machine, to a community and to users of version 3.

use std::{
    fs,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use tempfile::TempDir;

use crate::notification_receiver::listens;

/// The community that may read.
pub const COMMUNITY: &str = "quay-and-lantern";
/// The user of version 3 that may read, encrypted.
pub const USER: &str = "reader";
/// Another, whose device has only what is old.
pub const OLD_USER: &str = "old";
/// With what they prove who they are.
pub const PASSWORD: &str = "proves-who-asks";
/// With what is encrypted.
pub const PRIVACY_PASSWORD: &str = "keeps-it-private";

const CONFIGURATION: &str = r#"
agentAddress udp:127.0.0.1:PORT
rocommunity quay-and-lantern 127.0.0.1
createUser reader SHA-256 "proves-who-asks" AES "keeps-it-private"
createUser old MD5 "proves-who-asks" DES "keeps-it-private"
rouser reader priv
rouser old priv
sysName kai-2.orrin-sound.example
sysLocation Havnes, quay 2
sysContact ops@orrin-sound.example
"#;

/// A running agent; it ends when this is dropped.
pub struct SnmpAgent {
    _home: TempDir,
    child: Child,
    pub port: u16,
}

impl SnmpAgent {
    /// Starts it and waits until it answers.
    ///
    /// # Errors
    /// If the package is not installed, or the agent does not start.
    pub fn start() -> Result<Self> {
        let home = TempDir::new()?;
        let port = crate::free_port()?;
        let configuration = home.path().join("snmpd.conf");
        fs::write(
            &configuration,
            CONFIGURATION.replace("PORT", &port.to_string()),
        )?;
        let child = Command::new("/usr/sbin/snmpd")
            // In the foreground, with this configuration alone, and silent.
            .args(["-f", "-C", "-LF", "3"])
            .arg(home.path().join("log"))
            .arg("-c")
            .arg(&configuration)
            .arg("-p")
            .arg(home.path().join("pid"))
            .env("SNMP_PERSISTENT_DIR", home.path())
            // What it knows of names is not of use here.
            .env("MIBS", "")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("the agent cannot be started; is the package snmpd installed?")?;
        let mut agent = Self {
            _home: home,
            child,
            port,
        };
        let began = Instant::now();
        while !listens(port)? {
            if began.elapsed() > Duration::from_secs(60) || agent.child.try_wait()?.is_some() {
                bail!("the agent does not start");
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(agent)
    }

    /// Host and port.
    #[must_use]
    pub fn address(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }
}

impl Drop for SnmpAgent {
    fn drop(&mut self) {
        // One that has ended already is ended.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
