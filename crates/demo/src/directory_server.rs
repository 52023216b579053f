//! A real directory server from Debian's packages (slapd) on a port of loopback, for tests: an
//! organisation with people and groups, which it can be told to change.

use std::{
    collections::HashSet,
    fs,
    net::TcpStream,
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail, ensure};
use ldap3::{Ldap, LdapConnAsync, Mod};
use tempfile::TempDir;

/// The entry below which everything is.
pub const ORGANISATION: &str = "dc=orrin-sound,dc=example";
/// The account that searches.
pub const READER: &str = "cn=reader,dc=orrin-sound,dc=example";
/// Its password.
pub const READER_PASSWORD: &str = "lantern-by-the-quay";
const MANAGER: &str = "cn=manager,dc=orrin-sound,dc=example";
const MANAGER_PASSWORD: &str = "manages-for-tests";

/// Nobody reads without a name, and passwords are read by nobody.
const CONFIGURATION: &str = r#"
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
pidfile HOME/slapd.pid
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
TLSCertificateFile HOME/certificate.pem
TLSCertificateKeyFile HOME/key.pem
database mdb
suffix "dc=orrin-sound,dc=example"
rootdn "cn=manager,dc=orrin-sound,dc=example"
rootpw manages-for-tests
directory HOME/data
maxsize 16777216
limits users size.soft=500 size.hard=soft size.prtotal=unlimited
overlay memberof
memberof-refint true
access to attrs=userPassword by anonymous auth by * none
access to * by dn.exact="cn=reader,dc=orrin-sound,dc=example" read by anonymous auth by * none
"#;

/// A running server; it ends when this is dropped.
pub struct DirectoryServer {
    home: TempDir,
    child: Child,
    /// The port where encryption is asked for, if at all.
    pub port: u16,
    /// The port that is encrypted from the start.
    pub tls_port: u16,
}

impl DirectoryServer {
    /// Starts it with an organisation in which there are no people yet.
    ///
    /// # Errors
    /// If the package is not installed, or the server does not start.
    pub async fn start() -> Result<Self> {
        let home = TempDir::new()?;
        fs::create_dir(home.path().join("data"))?;
        let shown = home.path().display().to_string();
        let configuration = home.path().join("slapd.conf");
        fs::write(&configuration, CONFIGURATION.replace("HOME", &shown))?;
        let made = Command::new("openssl")
            .args("req -x509 -newkey rsa:2048 -nodes -days 5 -subj /CN=orrin-sound -addext subjectAltName=IP:127.0.0.1 -addext basicConstraints=CA:FALSE".split(' '))
            .arg("-keyout")
            .arg(home.path().join("key.pem"))
            .arg("-out")
            .arg(home.path().join("certificate.pem"))
            .output()
            .context("openssl makes the certificate of the directory")?;
        ensure!(made.status.success(), "openssl made no certificate");
        let (port, tls_port) = (crate::free_port()?, crate::free_port()?);
        let child = Command::new("/usr/sbin/slapd")
            .arg("-f")
            .arg(&configuration)
            .arg("-h")
            .arg(format!(
                "ldap://127.0.0.1:{port} ldaps://127.0.0.1:{tls_port}"
            ))
            // In the foreground, and silent.
            .args(["-d", "0"])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .context("the directory cannot be started; is the package slapd installed?")?;
        let mut server = Self {
            home,
            child,
            port,
            tls_port,
        };
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", tls_port)).is_err() {
            if began.elapsed() > Duration::from_secs(60) || server.child.try_wait()?.is_some() {
                bail!("the directory does not start");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        server.found().await?;
        Ok(server)
    }

    /// The certificate to trust, in PEM.
    pub fn certificate(&self) -> PathBuf {
        self.home.path().join("certificate.pem")
    }

    async fn manager(&self) -> Result<Ldap> {
        let (work, mut connection) =
            LdapConnAsync::new(&format!("ldap://127.0.0.1:{}", self.port)).await?;
        tokio::spawn(work.drive());
        connection
            .simple_bind(MANAGER, MANAGER_PASSWORD)
            .await?
            .success()?;
        Ok(connection)
    }

    /// Adds an entry; `kinds` are its object classes.
    async fn add(&self, entry: &str, kinds: &[&str], values: &[(&str, &str)]) -> Result<()> {
        let mut attributes: Vec<(&str, HashSet<&str>)> =
            vec![("objectClass", kinds.iter().copied().collect())];
        for (name, value) in values {
            attributes.push((name, HashSet::from([*value])));
        }
        let mut manager = self.manager().await?;
        manager.add(entry, attributes).await?.success()?;
        Ok(())
    }

    async fn found(&self) -> Result<()> {
        let organisation = [("o", "Orrin Sound Ferries"), ("dc", "orrin-sound")];
        self.add(ORGANISATION, &["dcObject", "organization"], &organisation)
            .await?;
        for unit in ["people", "groups"] {
            let entry = format!("ou={unit},{ORGANISATION}");
            self.add(&entry, &["organizationalUnit"], &[("ou", unit)])
                .await?;
        }
        let reader = [("cn", "reader"), ("userPassword", READER_PASSWORD)];
        let kinds = ["organizationalRole", "simpleSecurityObject"];
        self.add(READER, &kinds, &reader).await
    }

    /// The entry of somebody.
    pub fn person(&self, name: &str) -> String {
        format!("uid={name},ou=people,{ORGANISATION}")
    }

    /// The entry of a group.
    pub fn group(&self, name: &str) -> String {
        format!("cn={name},ou=groups,{ORGANISATION}")
    }

    /// Adds somebody with a mail address of their name.
    pub async fn add_person(&self, name: &str, password: &str) -> Result<()> {
        let mail = format!("{name}@orrin-sound.example");
        let values = [
            ("uid", name),
            ("cn", name),
            ("sn", name),
            ("mail", mail.as_str()),
            ("userPassword", password),
        ];
        self.add(&self.person(name), &["inetOrgPerson"], &values)
            .await
    }

    /// Adds somebody else with the name of somebody who is there.
    pub async fn add_namesake(&self, name: &str) -> Result<()> {
        let other = format!("{name} the other");
        let entry = format!("cn={other},ou=people,{ORGANISATION}");
        let values = [("uid", name), ("cn", other.as_str()), ("sn", name)];
        self.add(&entry, &["inetOrgPerson"], &values).await
    }

    /// Removes somebody, also from their groups.
    pub async fn remove_person(&self, name: &str) -> Result<()> {
        let entry = self.person(name);
        let mut manager = self.manager().await?;
        manager.delete(&entry).await?.success()?;
        Ok(())
    }

    /// Makes a group; one without a member is none.
    pub async fn add_group(&self, group: &str, member: &str) -> Result<()> {
        let values = [("cn", group), ("member", &self.person(member))];
        self.add(&self.group(group), &["groupOfNames"], &values)
            .await
    }

    /// Puts somebody into a group.
    pub async fn put_into(&self, group: &str, member: &str) -> Result<()> {
        let member = self.person(member);
        self.modify(group, Mod::Add("member", HashSet::from([member.as_str()])))
            .await
    }

    /// Takes somebody out of a group in which there are others.
    pub async fn take_out_of(&self, group: &str, member: &str) -> Result<()> {
        let member = self.person(member);
        let gone = Mod::Delete("member", HashSet::from([member.as_str()]));
        self.modify(group, gone).await
    }

    async fn modify(&self, group: &str, change: Mod<&str>) -> Result<()> {
        let mut manager = self.manager().await?;
        manager
            .modify(&self.group(group), vec![change])
            .await?
            .success()?;
        Ok(())
    }

    /// Ends it, as a machine that goes down does.
    pub fn stop(&mut self) {
        // Nothing of it is to be kept; one that has ended already is ended.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Drop for DirectoryServer {
    fn drop(&mut self) {
        self.stop();
    }
}
