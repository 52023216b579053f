//! A real mail server from Debian's packages (exim4-daemon-light), run by an account without
//! rights on a port of loopback, for tests and measurements: with its own spool, and a folder
//! for everything that it delivers.

use std::{
    fs,
    net::TcpStream,
    os::unix::fs::{PermissionsExt, chown},
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use tempfile::TempDir;

/// What the server does: `nobody` is refused; `later` and `full` are refused for now, the first
/// of them until there is a file "open"; `gone` is taken and returned to the sender; all others
/// get their mail.
const CONFIGURATION: &str = r#"
primary_hostname = mail.orrin-sound.example
spool_directory = HOME/spool
log_file_path = HOME/spool/%slog
pid_file_path = HOME/exim.pid
exim_user = ACCOUNT
exim_group = ACCOUNT
local_interfaces = 127.0.0.1
daemon_smtp_ports = PORT
deliver_drop_privilege = true
tls_advertise_hosts =
smtp_accept_max = 100
smtp_accept_queue_per_connection = 0
check_spool_space = 0
check_log_space = 0
queue_run_max = 20
bounce_return_body = false
domainlist local_domains = orrin-sound.example
acl_smtp_rcpt = rcpt
acl_smtp_data = data
begin acl
rcpt:
  deny local_parts = nobody
       message = 5.1.1 no such user here
  defer local_parts = later
        condition = ${if !exists{HOME/open}}
        message = 4.7.1 greylisted, come back later
  defer local_parts = full
        message = 4.2.2 the disk is full
  accept domains = +local_domains
  deny message = relay not permitted
data:
  accept
begin routers
returned:
  driver = redirect
  local_parts = gone
  allow_fail
  data = :fail: 5.1.1 this account was closed
bounces:
  driver = accept
  local_parts = bounces
  transport = bounces
all:
  driver = accept
  domains = +local_domains
  transport = kept
begin transports
kept:
  driver = appendfile
  directory = HOME/kept
  maildir_format
  create_directory
  envelope_to_add
  user = ACCOUNT
bounces:
  driver = appendfile
  directory = HOME/bounces
  maildir_format
  create_directory
  user = ACCOUNT
begin retry
* * F,1h,1m
"#;

/// A running server; it ends when this is dropped.
pub struct RealMailServer {
    home: TempDir,
    child: Child,
    pub port: u16,
}

fn answer(command: &mut Command) -> Result<String> {
    Ok(String::from_utf8_lossy(&command.output()?.stdout)
        .trim()
        .to_owned())
}

impl RealMailServer {
    /// Starts it and waits until it takes connections.
    ///
    /// # Errors
    /// If the package is not installed, or the server does not start.
    #[expect(
        clippy::too_many_lines,
        reason = "starts a server: make, configure, start, wait"
    )]
    pub fn start() -> Result<Self> {
        let home = TempDir::new()?;
        let port = crate::free_port()?;
        let root = fs::read_to_string("/proc/self/status")?
            .lines()
            .any(|line| line.starts_with("Uid:\t0"));
        let name = if root {
            "Debian-exim".to_owned()
        } else {
            answer(Command::new("id").arg("-un"))?
        };
        let configuration = home.path().join("exim.conf");
        let shown = home.path().display().to_string();
        fs::write(
            &configuration,
            CONFIGURATION
                .replace("HOME", &shown)
                .replace("ACCOUNT", &name)
                .replace("PORT", &port.to_string()),
        )?;
        fs::set_permissions(home.path(), fs::Permissions::from_mode(0o755))?;
        let folders = [
            "",
            "spool",
            "kept",
            "kept/new",
            "kept/cur",
            "kept/tmp",
            "bounces",
            "bounces/new",
            "bounces/cur",
            "bounces/tmp",
        ];
        for folder in folders {
            fs::create_dir_all(home.path().join(folder))?;
        }
        let mut command = Command::new("/usr/sbin/exim4");
        if root {
            let (user, group): (u32, u32) = (
                answer(Command::new("id").args(["-u", &name]))?.parse()?,
                answer(Command::new("id").args(["-g", &name]))?.parse()?,
            );
            for folder in folders {
                chown(home.path().join(folder), Some(user), Some(group))?;
            }
            command = Command::new("setpriv");
            command.args([
                &format!("--reuid={user}"),
                &format!("--regid={group}"),
                "--clear-groups",
                "/usr/sbin/exim4",
            ]);
        }
        command
            .arg("-C")
            .arg(&configuration)
            .args(["-bdf", "-q5s"])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        let child = command.spawn().context(
            "the mail server cannot be started; is the package exim4-daemon-light installed?",
        )?;
        let mut server = Self { home, child, port };
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", port)).is_err() {
            if began.elapsed() > Duration::from_secs(60) || server.child.try_wait()?.is_some() {
                bail!(
                    "the mail server does not start: {}",
                    fs::read_to_string(server.path("spool/paniclog")).unwrap_or_default()
                );
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(server)
    }

    /// A place in its folder: `bounces`, a Maildir of what comes back; `open`, a file that ends
    /// the refusals of `later`.
    pub fn path(&self, name: &str) -> PathBuf {
        self.home.path().join(name)
    }

    /// The messages that were delivered, each with the address of its envelope.
    pub fn messages(&self) -> Vec<(String, Vec<u8>)> {
        let found = fs::read_dir(self.path("kept/new"))
            .into_iter()
            .flatten()
            .flatten()
            .filter_map(|entry| fs::read(entry.path()).ok());
        found
            .map(|bytes| {
                let text = String::from_utf8_lossy(&bytes).into_owned();
                let to = text
                    .lines()
                    .find_map(|line| line.strip_prefix("Envelope-to: "))
                    .unwrap_or_default()
                    .to_owned();
                (to, bytes)
            })
            .collect()
    }
}

impl Drop for RealMailServer {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .arg(self.child.id().to_string())
            .status();
        let _ = self.child.wait();
    }
}
