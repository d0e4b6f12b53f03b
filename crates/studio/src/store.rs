//! What is kept in SQLite: shots, their revisions, runs, films and jobs.
//!
//! Every change of a shot is a revision with a parent; undo moves the head to
//! the parent, redo along the line to the tip. A new change starts a new line,
//! the old one stays in the history.

use crate::error::{Error, Result};
use shot::Shot;
use sqlx::migrate::{Migration, MigrationType, Migrator};
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use sqlx::{Row, SqlSafeStr, SqlitePool};
use std::path::Path;
use std::time::{SystemTime, UNIX_EPOCH};

#[derive(Clone)]
pub struct Store {
    pool: SqlitePool,
}

/// A shot's row.
#[derive(Clone, Debug)]
pub struct ShotRow {
    pub id: i64,
    pub project: String,
    pub name: String,
    pub head: i64,
    pub tip: i64,
    pub changed: i64,
}

/// A revision's row, without the document.
#[derive(Clone, Debug)]
pub struct RevisionRow {
    pub number: i64,
    pub parent: Option<i64>,
    pub label: String,
    pub version: Option<String>,
    pub made: i64,
}

#[derive(Clone, Debug)]
pub struct RunRow {
    pub id: i64,
    pub shot: i64,
    pub number: Option<i64>,
    pub name: String,
    pub made: i64,
}

#[derive(Clone, Debug)]
pub struct FilmRow {
    pub id: i64,
    pub shot: i64,
    pub name: String,
    pub revision: i64,
    pub settings: String,
    pub made: i64,
    pub state: String,
    pub message: String,
}

pub fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs() as i64)
}

fn pack(shot: &Shot) -> Vec<u8> {
    let json = serde_json::to_vec(shot).expect("a shot serialises");
    zstd::bulk::compress(&json, 3).expect("compression into memory does not fail")
}

fn unpack(bytes: &[u8]) -> Result<Shot> {
    let json = zstd::stream::decode_all(bytes)?;
    shot::read(&json).map_err(|error| Error::Internal(format!("a stored shot: {error}")))
}

/// Every migration ever written, in order.
fn migrations() -> Migrator {
    let first = include_str!("../migrations/0001_first.sql");
    let kind = MigrationType::Simple;
    Migrator::with_migrations(vec![Migration::new(1, "first".into(), kind, first.into_sql_str(), false)])
}

impl Store {
    pub async fn open(path: &Path) -> Result<Self> {
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .foreign_keys(true)
            .journal_mode(SqliteJournalMode::Wal)
            // What was answered as saved survives a crash of the machine too.
            .synchronous(SqliteSynchronous::Full);
        let pool = SqlitePoolOptions::new().max_connections(4).connect_with(options).await?;
        migrations().run(&pool).await.map_err(|error| Error::Internal(format!("the store: {error}")))?;
        Ok(Self { pool })
    }

    pub async fn project(&self, name: &str) -> Result<i64> {
        sqlx::query("INSERT OR IGNORE INTO projects (name) VALUES (?)")
            .bind(name)
            .execute(&self.pool)
            .await?;
        let row =
            sqlx::query("SELECT id FROM projects WHERE name = ?").bind(name).fetch_one(&self.pool).await?;
        Ok(row.get(0))
    }

    pub async fn shots(&self) -> Result<Vec<ShotRow>> {
        let rows = sqlx::query(
            "SELECT s.id, p.name AS project, s.name, head, tip, changed FROM shots s JOIN projects p ON p.id = s.project
             ORDER BY s.id",
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(shot_row).collect())
    }

    pub async fn shot(&self, id: i64) -> Result<ShotRow> {
        let row = sqlx::query(
            "SELECT s.id, p.name AS project, s.name, head, tip, changed FROM shots s JOIN projects p ON p.id = s.project
             WHERE s.id = ?",
        )
        .bind(id)
        .fetch_optional(&self.pool)
        .await?;
        row.as_ref().map(shot_row).ok_or_else(|| Error::NotFound(format!("shot {id}")))
    }

    pub async fn add_shot(&self, project: i64, shot: &Shot, label: &str) -> Result<i64> {
        let mut tx = self.pool.begin().await?;
        let id = sqlx::query("INSERT INTO shots (project, name, head, tip, changed) VALUES (?, ?, 1, 1, ?)")
            .bind(project)
            .bind(&shot.name)
            .bind(now())
            .execute(&mut *tx)
            .await?
            .last_insert_rowid();
        sqlx::query("INSERT INTO revisions (shot, number, parent, label, made, document) VALUES (?, 1, NULL, ?, ?, ?)")
            .bind(id)
            .bind(label)
            .bind(now())
            .bind(pack(shot))
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(id)
    }

    pub async fn delete_shot(&self, id: i64) -> Result<()> {
        sqlx::query("DELETE FROM shots WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn document(&self, shot: i64, revision: i64) -> Result<Shot> {
        let row = sqlx::query("SELECT document FROM revisions WHERE shot = ? AND number = ?")
            .bind(shot)
            .bind(revision)
            .fetch_optional(&self.pool)
            .await?;
        let row = row.ok_or_else(|| Error::NotFound(format!("revision {revision} of shot {shot}")))?;
        unpack(&row.get::<Vec<u8>, _>(0))
    }

    /// Appends a revision to `base`, which has to be the head still.
    pub async fn add_revision(&self, shot: i64, base: i64, label: &str, document: &Shot) -> Result<i64> {
        let mut tx = self.pool.begin_with("BEGIN IMMEDIATE").await?;
        let head: i64 = sqlx::query("SELECT head FROM shots WHERE id = ?")
            .bind(shot)
            .fetch_optional(&mut *tx)
            .await?
            .ok_or_else(|| Error::NotFound(format!("shot {shot}")))?
            .get(0);
        if head != base {
            return Err(Error::Conflict { base, head });
        }
        let next: i64 = sqlx::query("SELECT MAX(number) + 1 FROM revisions WHERE shot = ?")
            .bind(shot)
            .fetch_one(&mut *tx)
            .await?
            .get(0);
        sqlx::query(
            "INSERT INTO revisions (shot, number, parent, label, made, document) VALUES (?, ?, ?, ?, ?, ?)",
        )
        .bind(shot)
        .bind(next)
        .bind(head)
        .bind(label)
        .bind(now())
        .bind(pack(document))
        .execute(&mut *tx)
        .await?;
        sqlx::query("UPDATE shots SET head = ?, tip = ?, name = ?, changed = ? WHERE id = ?")
            .bind(next)
            .bind(next)
            .bind(&document.name)
            .bind(now())
            .bind(shot)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(next)
    }

    pub async fn revision(&self, shot: i64, number: i64) -> Result<RevisionRow> {
        let row = sqlx::query(
            "SELECT number, parent, label, version, made FROM revisions WHERE shot = ? AND number = ?",
        )
        .bind(shot)
        .bind(number)
        .fetch_one(&self.pool)
        .await?;
        Ok(revision_row(&row))
    }

    pub async fn revisions(&self, shot: i64) -> Result<Vec<RevisionRow>> {
        let rows = sqlx::query(
            "SELECT number, parent, label, version, made FROM revisions WHERE shot = ? ORDER BY number DESC LIMIT 500",
        )
        .bind(shot)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(revision_row).collect())
    }

    /// The revision that redo leads to: the head's child on the line to the tip.
    pub async fn redo_target(&self, row: &ShotRow) -> Result<Option<RevisionRow>> {
        if row.head == row.tip {
            return Ok(None);
        }
        let found = sqlx::query(
            "WITH RECURSIVE line(number, parent) AS (
                 SELECT number, parent FROM revisions WHERE shot = ?1 AND number = ?2
                 UNION ALL
                 SELECT r.number, r.parent FROM revisions r JOIN line l ON r.shot = ?1 AND r.number = l.parent
             )
             SELECT r.number, r.parent, r.label, r.version, r.made
             FROM line l JOIN revisions r ON r.shot = ?1 AND r.number = l.number WHERE l.parent = ?3",
        )
        .bind(row.id)
        .bind(row.tip)
        .bind(row.head)
        .fetch_optional(&self.pool)
        .await?;
        Ok(found.as_ref().map(revision_row))
    }

    pub async fn set_head(&self, shot: i64, head: i64, name: &str) -> Result<()> {
        sqlx::query("UPDATE shots SET head = ?, name = ?, changed = ? WHERE id = ?")
            .bind(head)
            .bind(name)
            .bind(now())
            .bind(shot)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    pub async fn name_version(&self, shot: i64, revision: i64, name: &str) -> Result<()> {
        sqlx::query("UPDATE revisions SET version = ? WHERE shot = ? AND number = ?")
            .bind(name)
            .bind(shot)
            .bind(revision)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    pub async fn current_run(&self, shot: i64) -> Result<RunRow> {
        sqlx::query("INSERT OR IGNORE INTO runs (shot, number, name, made) VALUES (?, NULL, 'current', ?)")
            .bind(shot)
            .bind(now())
            .execute(&self.pool)
            .await?;
        let row =
            sqlx::query("SELECT id, shot, number, name, made FROM runs WHERE shot = ? AND number IS NULL")
                .bind(shot)
                .fetch_one(&self.pool)
                .await?;
        Ok(run_row(&row))
    }

    pub async fn run(&self, id: i64) -> Result<RunRow> {
        let row = sqlx::query("SELECT id, shot, number, name, made FROM runs WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(run_row).ok_or_else(|| Error::NotFound(format!("run {id}")))
    }

    pub async fn runs(&self, shot: i64) -> Result<Vec<RunRow>> {
        let rows =
            sqlx::query("SELECT id, shot, number, name, made FROM runs WHERE shot = ? ORDER BY number DESC")
                .bind(shot)
                .fetch_all(&self.pool)
                .await?;
        Ok(rows.iter().map(run_row).collect())
    }

    pub async fn add_kept_run(&self, shot: i64, name: Option<&str>) -> Result<RunRow> {
        let row = sqlx::query(
            "INSERT INTO runs (shot, number, name, made)
             SELECT ?1, n, COALESCE(?2, 'run ' || n), ?3
             FROM (SELECT COALESCE(MAX(number), 0) + 1 AS n FROM runs WHERE shot = ?1)
             RETURNING id, shot, number, name, made",
        )
        .bind(shot)
        .bind(name)
        .bind(now())
        .fetch_one(&self.pool)
        .await?;
        Ok(run_row(&row))
    }

    pub async fn rename_run(&self, id: i64, name: &str) -> Result<()> {
        sqlx::query("UPDATE runs SET name = ? WHERE id = ?").bind(name).bind(id).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn delete_run(&self, id: i64) -> Result<()> {
        sqlx::query("DELETE FROM runs WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn add_film(&self, shot: i64, name: &str, revision: i64, settings: &str) -> Result<i64> {
        let mut tx = self.pool.begin().await?;
        let id =
            sqlx::query("INSERT INTO films (shot, name, revision, settings, made) VALUES (?, ?, ?, ?, ?)")
                .bind(shot)
                .bind(name)
                .bind(revision)
                .bind(settings)
                .bind(now())
                .execute(&mut *tx)
                .await?
                .last_insert_rowid();
        sqlx::query("INSERT INTO jobs (shot, film, state, made) VALUES (?, ?, 'running', ?)")
            .bind(shot)
            .bind(id)
            .bind(now())
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(id)
    }

    pub async fn films(&self, shot: Option<i64>) -> Result<Vec<FilmRow>> {
        let rows = sqlx::query(
            "SELECT f.id, f.shot, f.name, revision, settings, f.made, j.state, j.message
             FROM films f JOIN jobs j ON j.film = f.id WHERE ?1 IS NULL OR f.shot = ?1 ORDER BY f.id DESC",
        )
        .bind(shot)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(film_row).collect())
    }

    pub async fn film(&self, id: i64) -> Result<FilmRow> {
        let row = sqlx::query(
            "SELECT f.id, f.shot, f.name, revision, settings, f.made, j.state, j.message
             FROM films f JOIN jobs j ON j.film = f.id WHERE f.id = ?",
        )
        .bind(id)
        .fetch_optional(&self.pool)
        .await?;
        row.as_ref().map(film_row).ok_or_else(|| Error::NotFound(format!("film {id}")))
    }

    pub async fn delete_film(&self, id: i64) -> Result<()> {
        sqlx::query("DELETE FROM films WHERE id = ?").bind(id).execute(&self.pool).await?;
        Ok(())
    }

    pub async fn set_film_state(&self, film: i64, state: &str, message: &str) -> Result<()> {
        sqlx::query("UPDATE jobs SET state = ?, message = ? WHERE film = ?")
            .bind(state)
            .bind(message)
            .bind(film)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Notes that a shot is being baked, so that it goes on after a restart.
    pub async fn begin_bake(&self, shot: i64) -> Result<()> {
        self.end_bake(shot).await?;
        sqlx::query("INSERT INTO jobs (shot, film, state, made) VALUES (?, NULL, 'running', ?)")
            .bind(shot)
            .bind(now())
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    pub async fn end_bake(&self, shot: i64) -> Result<()> {
        sqlx::query("DELETE FROM jobs WHERE shot = ? AND film IS NULL")
            .bind(shot)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Shots that were being baked when the application ended.
    pub async fn unfinished_bakes(&self) -> Result<Vec<i64>> {
        let rows = sqlx::query("SELECT shot FROM jobs WHERE film IS NULL AND state = 'running'")
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }
}

fn shot_row(row: &sqlx::sqlite::SqliteRow) -> ShotRow {
    ShotRow {
        id: row.get(0),
        project: row.get(1),
        name: row.get(2),
        head: row.get(3),
        tip: row.get(4),
        changed: row.get(5),
    }
}

fn revision_row(row: &sqlx::sqlite::SqliteRow) -> RevisionRow {
    RevisionRow {
        number: row.get(0),
        parent: row.get(1),
        label: row.get(2),
        version: row.get(3),
        made: row.get(4),
    }
}

fn run_row(row: &sqlx::sqlite::SqliteRow) -> RunRow {
    RunRow { id: row.get(0), shot: row.get(1), number: row.get(2), name: row.get(3), made: row.get(4) }
}

fn film_row(row: &sqlx::sqlite::SqliteRow) -> FilmRow {
    FilmRow {
        id: row.get(0),
        shot: row.get(1),
        name: row.get(2),
        revision: row.get(3),
        settings: row.get(4),
        made: row.get(5),
        state: row.get(6),
        message: row.get(7),
    }
}
