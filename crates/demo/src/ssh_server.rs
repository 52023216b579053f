//! A real SSH server from Debian's packages (openssh-server) on a port of loopback, for tests: whoever runs
//! them signs in with a key, and finds files by SFTP.

use std::{
    fs,
    net::TcpStream,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail, ensure};
use tempfile::TempDir;

/// What one of the keys is locked with.
pub const PASSPHRASE: &str = "quay-and-lantern";

/// A running server; it ends when this is dropped.
pub struct SshServer {
    home: TempDir,
    child: Child,
    pub port: u16,
    /// The fingerprint of its key.
    pub host_key: String,
    /// Whose account it is: that of the tests.
    pub user: String,
}

impl SshServer {
    /// Starts it and waits until it answers.
    ///
    /// # Errors
    /// If the package is not installed, or the server does not start.
    pub fn start() -> Result<Self> {
        let home = TempDir::new()?;
        let at = |name: &str| home.path().join(name);
        make_key(&at("host"), "ed25519", "")?;
        make_key(&at("open"), "ed25519", "")?;
        make_key(&at("locked"), "rsa", PASSPHRASE)?;
        make_key(&at("stranger"), "ed25519", "")?;
        let known = ["open.pub", "locked.pub"].map(|name| fs::read_to_string(at(name)));
        let known: Vec<String> = known.into_iter().collect::<std::io::Result<_>>()?;
        fs::write(at("known"), known.concat())?;
        fs::create_dir(at("files"))?;
        if user_id()? == "0" {
            // Where the package is installed but its service was never started, this is missing.
            fs::create_dir_all("/run/sshd")?;
        }
        let port = crate::free_port()?;
        let configuration = format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey {home}/host\nPidFile none\nAuthorizedKeysFile {home}/known\n\
             StrictModes no\nUsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n\
             PermitRootLogin prohibit-password\nSubsystem sftp internal-sftp\n",
            home = home.path().display()
        );
        fs::write(at("sshd_config"), configuration)?;
        let child = Command::new("/usr/sbin/sshd")
            .arg("-D")
            .arg("-E")
            .arg(at("log"))
            .arg("-f")
            .arg(at("sshd_config"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("the server cannot be started; is the package openssh-server installed?")?;
        let mut server = Self {
            host_key: fingerprint(&at("host.pub"))?,
            user: text_of(Command::new("id").arg("-un"))?,
            home,
            child,
            port,
        };
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            if began.elapsed() > Duration::from_secs(60) || server.child.try_wait()?.is_some() {
                let log = fs::read_to_string(server.home.path().join("log")).unwrap_or_default();
                bail!("the server does not start: {log}");
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(server)
    }

    /// Host and port.
    #[must_use]
    pub fn address(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    /// A folder for files.
    #[must_use]
    pub fn files(&self) -> PathBuf {
        self.home.path().join("files")
    }

    /// The private key of the user.
    #[must_use]
    pub fn key(&self) -> PathBuf {
        self.home.path().join("open")
    }

    /// Another one of the user's, of another kind and locked with [`PASSPHRASE`].
    #[must_use]
    pub fn locked_key(&self) -> PathBuf {
        self.home.path().join("locked")
    }

    /// One that it does not know.
    #[must_use]
    pub fn strange_key(&self) -> PathBuf {
        self.home.path().join("stranger")
    }
}

impl Drop for SshServer {
    fn drop(&mut self) {
        // One that has ended already is ended.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A pair of keys: this path, and the same with `.pub`.
///
/// # Errors
/// If there is no program that makes them, or they cannot be written.
pub fn make_key(path: &Path, kind: &str, passphrase: &str) -> Result<()> {
    let made = Command::new("ssh-keygen")
        .args(["-q", "-t", kind, "-N", passphrase, "-C", "", "-f"])
        .arg(path)
        .status()
        .context("no key can be made; is the package openssh-client installed?")?;
    ensure!(made.success(), "no key was made");
    Ok(())
}

/// As `ssh-keygen -l` tells it.
///
/// # Errors
/// If the file is no key.
pub fn fingerprint(key: &Path) -> Result<String> {
    let told = text_of(Command::new("ssh-keygen").arg("-lf").arg(key))?;
    let word = told.split(' ').nth(1).context("it tells no fingerprint")?;
    Ok(word.to_owned())
}

fn user_id() -> Result<String> {
    text_of(Command::new("id").arg("-u"))
}

fn text_of(command: &mut Command) -> Result<String> {
    let output = command.output()?;
    ensure!(output.status.success(), "{command:?} failed");
    Ok(String::from_utf8(output.stdout)?.trim().to_owned())
}
