//! The tables, one step for each change of their shape.

use sea_orm_migration::prelude::*;

pub struct Migrator;

#[async_trait::async_trait]
impl MigratorTrait for Migrator {
    fn migrations() -> Vec<Box<dyn MigrationTrait>> {
        vec![
            Box::new(Beginning),
            Box::new(Waiting),
            Box::new(Sampling),
            Box::new(Digests),
            Box::new(Delivering),
            Box::new(Parts),
        ]
    }
}

struct Beginning;

impl MigrationName for Beginning {
    fn name(&self) -> &str {
        "m001_beginning"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Beginning {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager
            .get_connection()
            .execute_unprepared(include_str!("beginning.sql"))
            .await
            .map(drop)
    }
}

struct Waiting;

impl MigrationName for Waiting {
    fn name(&self) -> &str {
        "m002_waiting"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Waiting {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager
            .get_connection()
            .execute_unprepared(include_str!("waiting.sql"))
            .await
            .map(drop)
    }
}

struct Sampling;

impl MigrationName for Sampling {
    fn name(&self) -> &str {
        "m003_sampling"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Sampling {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager
            .get_connection()
            .execute_unprepared(include_str!("sampling.sql"))
            .await
            .map(drop)
    }
}

struct Digests;

impl MigrationName for Digests {
    fn name(&self) -> &str {
        "m004_digests"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Digests {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager
            .get_connection()
            .execute_unprepared("create index on documents (sha256)")
            .await
            .map(drop)
    }
}

struct Delivering;

impl MigrationName for Delivering {
    fn name(&self) -> &str {
        "m005_delivering"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Delivering {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager
            .get_connection()
            .execute_unprepared(include_str!("delivering.sql"))
            .await
            .map(drop)
    }
}

struct Parts;

impl MigrationName for Parts {
    fn name(&self) -> &str {
        "m006_parts"
    }
}

#[async_trait::async_trait]
impl MigrationTrait for Parts {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        // Rows are here only inside the transaction that puts them together, so they need not
        // outlive a crash.
        let parts = "create unlogged table body_parts (id uuid not null, position int not null, part bytea not null, primary key (id, position)); \
                     alter table body_parts alter column part set storage external";
        // The next run to work on is the first in this index, however many wait.
        let open = "drop index runs_open; \
                    create index runs_open on runs (created_at) where state in ('due', 'waiting', 'collecting', 'rendering', 'releasing')";
        let connection = manager.get_connection();
        connection.execute_unprepared(parts).await?;
        connection.execute_unprepared(open).await.map(drop)
    }
}
