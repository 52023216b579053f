//! A database for the service, made with the connection of an administrator of the server: once, before
//! the first start.

use sea_orm::sqlx::{self, AssertSqlSafe, Connection, PgConnection};

/// Why there is no new database. Nothing is left of what was begun.
#[derive(Debug, thiserror::Error)]
pub enum NewDatabaseError {
    #[error("the database cannot be reached: {0}")]
    Unreachable(#[source] sqlx::Error),
    #[error("this account may not make roles and databases; give that of an administrator")]
    NotAllowed,
    #[error(
        "there is a {what} \"{name}\" already; choose another name, or give the address of that database instead"
    )]
    Exists { what: &'static str, name: String },
    #[error("the {what} could not be made: {error}")]
    Failed {
        what: &'static str,
        #[source]
        error: sqlx::Error,
    },
}

/// Makes a role and a database of the same name that it owns and that nobody else may connect to.
///
/// # Errors
/// If the server cannot be reached, the account may not, one of both is there already, or the server
/// refuses. Then neither is there.
pub async fn new_database(
    administrator: &str,
    name: &str,
    password: &str,
) -> Result<(), NewDatabaseError> {
    let connected = PgConnection::connect(administrator).await;
    let mut server = connected.map_err(NewDatabaseError::Unreachable)?;
    let made = make(&mut server, name, password).await;
    // What was made is made; how the connection ends does not matter.
    let _ = server.close().await;
    made
}

/// Looks whether a database is reached.
///
/// # Errors
/// If it is not, or refuses who comes.
pub async fn reach(url: &str) -> Result<(), NewDatabaseError> {
    let connected = PgConnection::connect(url).await;
    let connection = connected.map_err(NewDatabaseError::Unreachable)?;
    let _ = connection.close().await;
    Ok(())
}

async fn make(
    server: &mut PgConnection,
    name: &str,
    password: &str,
) -> Result<(), NewDatabaseError> {
    let failed = |what| move |error| NewDatabaseError::Failed { what, error };
    let may: bool = sqlx::query_scalar(
        "select rolsuper or (rolcreaterole and rolcreatedb) from pg_roles where rolname = current_user",
    )
    .fetch_one(&mut *server)
    .await
    .map_err(NewDatabaseError::Unreachable)?;
    if !may {
        return Err(NewDatabaseError::NotAllowed);
    }
    for (what, asked) in [
        ("role", "select count(*) from pg_roles where rolname = $1"),
        (
            "database",
            "select count(*) from pg_database where datname = $1",
        ),
    ] {
        let found: i64 = sqlx::query_scalar(asked)
            .bind(name)
            .fetch_one(&mut *server)
            .await
            .map_err(NewDatabaseError::Unreachable)?;
        if found > 0 {
            let name = name.to_owned();
            return Err(NewDatabaseError::Exists { what, name });
        }
    }
    // Neither names nor passwords can be bound in these; the server quotes them.
    let [role, database]: [String; 2] = {
        let asked = "select array[format('create role %I login password %L', $1::text, $2::text), \
             format('create database %I owner %I encoding ''UTF8'' template template0', $1::text, $1::text)]";
        let quoted: Vec<String> = sqlx::query_scalar(asked)
            .bind(name)
            .bind(password)
            .fetch_one(&mut *server)
            .await
            .map_err(failed("role"))?;
        quoted.try_into().unwrap_or_default()
    };
    run(server, role).await.map_err(failed("role"))?;
    // Who is no superuser makes databases for roles that they are in.
    let for_them = "grant %I to current_user";
    let made = match of_name(server, for_them, name).await {
        Ok(()) => run(server, database).await,
        Err(error) => Err(error),
    };
    if let Err(error) = made {
        let _ = of_name(server, "drop role %I", name).await;
        return Err(failed("database")(error));
    }
    let closed = "revoke connect, temporary on database %I from public";
    if let Err(error) = of_name(server, closed, name).await {
        for gone in ["drop database %I", "drop role %I"] {
            let _ = of_name(server, gone, name).await;
        }
        return Err(failed("database")(error));
    }
    Ok(())
}

/// Runs a statement with a name in it.
async fn of_name(server: &mut PgConnection, text: &str, name: &str) -> Result<(), sqlx::Error> {
    let quoted: String = sqlx::query_scalar("select format($1::text, $2::text)")
        .bind(text)
        .bind(name)
        .fetch_one(&mut *server)
        .await?;
    run(server, quoted).await
}

async fn run(server: &mut PgConnection, text: String) -> Result<(), sqlx::Error> {
    sqlx::raw_sql(AssertSqlSafe(text)).execute(server).await?;
    Ok(())
}
