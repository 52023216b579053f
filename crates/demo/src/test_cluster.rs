//! The PostgreSQL cluster that all tests of a run share, and each test's databases in it.
//!
//! Starting a server takes far longer than most tests: the first program of a run of `cargo test`
//! starts it, the others join, and it ends with the run. A database begins as a copy of one that
//! was prepared once, and has a name of its own, so that tests do not see each other. Roles are
//! the cluster's: they are the same for all.

use std::{
    collections::HashMap,
    fs,
    os::unix::{fs::PermissionsExt, process::CommandExt},
    path::Path,
    process::{Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};

use anyhow::{Context, Result};
use sqlx::{AssertSqlSafe, Connection, Executor, PgConnection};
use tokio::sync::{Mutex, OnceCell};

use crate::Cluster;

/// One test's databases. Tests that stop the server start a [`Cluster`] of their own.
pub struct TestCluster {
    shared: Arc<Shared>,
    number: u32,
    made: std::sync::Mutex<Vec<String>>,
}

struct Shared {
    cluster: Cluster,
    roles: Mutex<Roles>,
    next: AtomicU32,
}

/// The passwords of the roles that were made already. Whoever changes the cluster's catalogues
/// holds this, since PostgreSQL refuses changes of one role by two sessions at a time. Programs
/// of a run come one after another.
type Roles = HashMap<String, String>;

static SHARED: OnceCell<Arc<Shared>> = OnceCell::const_new();

/// A database that is still in use cannot be copied: its last session is about to end.
const OBJECT_IN_USE: &str = "55006";

impl TestCluster {
    /// A place for a test's databases; the first one in a run starts the server.
    pub async fn new() -> Result<Self> {
        let shared = SHARED.get_or_try_init(start).await?.clone();
        let number = shared.next.fetch_add(1, Ordering::Relaxed);
        Ok(Self {
            shared,
            number,
            made: std::sync::Mutex::default(),
        })
    }

    /// The same in a durable server of its own, for a test that crashes it or fills its disk. A
    /// [`Cluster`] that is started in the same folder after that is reached in the same way.
    pub async fn alone(folder: &Path) -> Result<Self> {
        Ok(Self {
            shared: Arc::new(Shared {
                cluster: Cluster::start(folder, true).await?,
                roles: Mutex::default(),
                next: AtomicU32::new(1),
            }),
            number: 0,
            made: std::sync::Mutex::default(),
        })
    }

    /// The server's process.
    pub fn process(&self) -> u32 {
        self.shared.cluster.process()
    }

    /// The name of this test's database: those of other tests and programs have other numbers.
    pub fn name(&self, database: &str) -> String {
        format!("{database}_{}_{}", std::process::id(), self.number)
    }

    /// The server's host and port.
    pub fn address(&self) -> String {
        self.shared.cluster.address()
    }

    /// Makes a role that can sign in, if it is not there, and answers with its password.
    pub async fn role(&self, role: &str) -> Result<String> {
        self.shared
            .role(&mut *self.shared.roles.lock().await, role)
            .await
    }

    /// Does something to what all tests share, such as granting a role to another.
    pub async fn administer(&self, sql: &'static str) -> Result<()> {
        let _one_at_a_time = self.shared.roles.lock().await;
        let mut connection = self.shared.cluster.connect("postgres").await?;
        connection.execute(sql).await?;
        Ok(())
    }

    /// Makes this test's database of that name, empty, and answers with its owner's password.
    pub async fn database(&self, name: &str, owner: &str) -> Result<String> {
        let mut roles = self.shared.roles.lock().await;
        let password = self.shared.role(&mut roles, owner).await?;
        let made = self.name(name);
        self.shared
            .make(format!("create database {made} owner {owner}"))
            .await?;
        self.note(made);
        Ok(password)
    }

    /// The same, in place of one of that name, as a copy of a database that `prepare` has filled
    /// the first time that any test asked for it. `prepare` gets the URLs of it for the
    /// administrator and for the owner.
    pub async fn copy<F>(
        &self,
        template: &str,
        name: &str,
        owner: &str,
        prepare: impl FnOnce(String, String) -> F,
    ) -> Result<String>
    where
        F: Future<Output = Result<()>>,
    {
        let mut roles = self.shared.roles.lock().await;
        let password = self.shared.role(&mut roles, owner).await?;
        let owned = |name: &str| format!("create database {name} owner {owner}");
        if !self.shared.has(template).await? {
            // Under another name until it is whole.
            let begun = &format!("{template}_begun");
            self.shared.make(drop_of(begun)).await?;
            self.shared.make(owned(begun)).await?;
            let cluster = &self.shared.cluster;
            prepare(cluster.url(begun), cluster.url_for(owner, &password, begun)).await?;
            self.shared
                .make(format!("alter database {begun} rename to {template}"))
                .await?;
        }
        let name = self.name(name);
        self.shared.make(drop_of(&name)).await?;
        self.shared
            .make(format!("{} template {template}", owned(&name)))
            .await?;
        self.note(name);
        Ok(password)
    }

    fn note(&self, made: String) {
        let mut all = self.made.lock().unwrap_or_else(|error| error.into_inner());
        all.push(made);
    }

    /// The URL of one of this test's databases for a role.
    pub fn url_for(&self, role: &str, password: &str, database: &str) -> String {
        self.shared
            .cluster
            .url_for(role, password, &self.name(database))
    }

    /// A connection to one of this test's databases, as the cluster's administrator.
    pub async fn connect(&self, database: &str) -> Result<PgConnection> {
        self.shared.cluster.connect(&self.name(database)).await
    }
}

/// The databases of a test that is over would slow down the others, and be seen by those that
/// look at the whole server.
impl Drop for TestCluster {
    fn drop(&mut self) {
        let made = std::mem::take(
            self.made
                .get_mut()
                .unwrap_or_else(|error| error.into_inner()),
        );
        let url = self.shared.cluster.url("postgres");
        // The test's own runtime may be ending.
        let dropping = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread()
                .enable_all()
                .build()?;
            runtime.block_on(async {
                let mut connection = PgConnection::connect(&url).await?;
                for name in made {
                    connection.execute(AssertSqlSafe(drop_of(&name))).await?;
                }
                anyhow::Ok(())
            })
        });
        // One that stays is gone with the server.
        let _ = dropping.join();
    }
}

impl Shared {
    async fn role(&self, roles: &mut Roles, role: &str) -> Result<String> {
        if let Some(password) = roles.get(role) {
            return Ok(password.clone());
        }
        let password = self.cluster.role(role).await?;
        roles.insert(role.to_owned(), password.clone());
        Ok(password)
    }

    async fn has(&self, database: &str) -> Result<bool> {
        let mut connection = self.cluster.connect("postgres").await?;
        let found: Option<(i32,)> = sqlx::query_as("select 1 from pg_database where datname = $1")
            .bind(database)
            .fetch_optional(&mut connection)
            .await?;
        Ok(found.is_some())
    }

    /// Makes, renames or drops a database. Names are the tests' own.
    async fn make(&self, sql: String) -> Result<()> {
        let mut connection = self.cluster.connect("postgres").await?;
        for _ in 0..200 {
            let done = connection.execute(AssertSqlSafe(sql.as_str())).await;
            let error = match done {
                Ok(_) => return Ok(connection.close().await?),
                Err(error) => error,
            };
            let busy = error
                .as_database_error()
                .is_some_and(|refusal| refusal.code().is_some_and(|code| code == OBJECT_IN_USE));
            if !busy {
                return Err(error).context(sql);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        anyhow::bail!("the database to copy stays in use: {sql}")
    }
}

/// Statements of the tests' own names.
fn drop_of(database: &str) -> String {
    format!("drop database if exists {database} with (force)")
}

async fn start() -> Result<Arc<Shared>> {
    let run = run();
    let folder = std::env::temp_dir().join(format!("maple-lark-tests-{run}"));
    fs::create_dir_all(&folder)?;
    // PostgreSQL's own account has to get through.
    fs::set_permissions(&folder, fs::Permissions::from_mode(0o755))?;
    let (one_at_a_time, whole) = (fs::File::create(folder.join("lock"))?, folder.join("whole"));
    one_at_a_time.lock()?;
    let running = Cluster::join(&folder).ok().filter(|_| whole.exists());
    let cluster = match running {
        Some(cluster) => cluster,
        None => {
            let cluster = Cluster::start(&folder, false).await?;
            watch(run, &cluster, &folder)?;
            fs::write(&whole, "")?;
            cluster
        }
    };
    Ok(Arc::new(Shared {
        cluster,
        roles: Mutex::default(),
        next: AtomicU32::new(1),
    }))
}

/// The process that a run of tests begins and ends with: `cargo`, or this program if somebody
/// else has started it.
fn run() -> u32 {
    let parent = std::os::unix::process::parent_id();
    let name = fs::read_to_string(format!("/proc/{parent}/comm")).unwrap_or_default();
    match name.trim() {
        "cargo" => parent,
        _ => std::process::id(),
    }
}

/// Stops the server and tidies up when the run is over, however it ends: tests have no hook at
/// their program's end.
fn watch(run: u32, cluster: &Cluster, folder: &Path) -> Result<()> {
    Command::new("sh")
        .arg("-c")
        .arg(
            "tail --pid=\"$1\" -f /dev/null; kill -INT \"$2\"; \
             while [ -e \"$3/postgresql/postmaster.pid\" ]; do sleep 0.1; done; rm -rf \"$3\"",
        )
        .args(["watch", &run.to_string(), &cluster.process().to_string()])
        .arg(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()
        .context("cannot run sh")?;
    Ok(())
}
