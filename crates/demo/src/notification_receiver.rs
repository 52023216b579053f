//! A real receiver of SNMP notifications from Debian's packages (snmptrapd) on a port of loopback, for tests:
//! it writes down what it is told by a community or by a user of version 3.

use std::{
    fs,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use tempfile::TempDir;

/// The community that may tell it something.
pub const COMMUNITY: &str = "lantern-and-quay";
/// The user of version 3 that may, encrypted.
pub const USER: &str = "reports";
/// With what the user proves who it is.
pub const PASSWORD: &str = "proves-who-tells";
/// With what is encrypted.
pub const PRIVACY_PASSWORD: &str = "keeps-that-private";

/// A running receiver; it ends when this is dropped.
pub struct NotificationReceiver {
    home: TempDir,
    child: Child,
    pub port: u16,
}

impl NotificationReceiver {
    /// Starts it and waits until it listens. It takes traps of the user's that this engine signed.
    ///
    /// # Errors
    /// If the package is not installed, or the receiver does not start.
    pub fn start(engine: &str) -> Result<Self> {
        let home = TempDir::new()?;
        let port = crate::free_port()?;
        let configuration = home.path().join("snmptrapd.conf");
        let who = format!("{USER} SHA-256 \"{PASSWORD}\" AES \"{PRIVACY_PASSWORD}\"");
        fs::write(
            &configuration,
            format!(
                "authCommunity log {COMMUNITY}\ncreateUser {who}\ncreateUser -e {engine} {who}\nauthUser log {USER} priv\n"
            ),
        )?;
        let child = Command::new("/usr/sbin/snmptrapd")
            // In the foreground, with this configuration alone, numbers as numbers, a line for each.
            .args(["-f", "-C", "-n", "-On", "-F", "%v\n", "-Lf"])
            .arg(home.path().join("log"))
            .arg("-c")
            .arg(&configuration)
            .arg("-p")
            .arg(home.path().join("pid"))
            .arg(format!("udp:127.0.0.1:{port}"))
            .env("SNMP_PERSISTENT_DIR", home.path())
            .env("MIBS", "")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("the receiver cannot be started; is the package snmptrapd installed?")?;
        let mut receiver = Self { home, child, port };
        let began = Instant::now();
        while !listens(port)? {
            if began.elapsed() > Duration::from_secs(60) || receiver.child.try_wait()?.is_some() {
                bail!("the receiver does not start: {}", receiver.heard());
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(receiver)
    }

    /// Host and port.
    #[must_use]
    pub fn address(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    /// All that it was told until now.
    #[must_use]
    pub fn heard(&self) -> String {
        fs::read_to_string(self.home.path().join("log")).unwrap_or_default()
    }
}

/// Whether somebody listens at a port by UDP. To try to take it would keep them from it.
///
/// # Errors
/// If the kernel does not tell.
pub(crate) fn listens(port: u16) -> Result<bool> {
    let sockets = fs::read_to_string("/proc/net/udp")?;
    Ok(sockets.contains(&format!(":{port:04X} ")))
}

impl Drop for NotificationReceiver {
    fn drop(&mut self) {
        // One that has ended already is ended.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
