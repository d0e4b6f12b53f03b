//! What is kept in SQLite: shots, their revisions, runs, films and jobs.
//!
//! Every change of a shot is a revision with a parent; undo moves the head to
//! the parent, redo along the line to the tip. A new change starts a new line,
//! the old one stays in the history.

mod materials;

use crate::documents::Documents;
use crate::error::{Error, Result};
use futures_util::future::BoxFuture;
use shot::Shot;
use sqlx::migrate::{Migration, MigrationType, Migrator};
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous};
use sqlx::{Connection, Executor, Row, SqlSafeStr, SqliteConnection, SqlitePool};
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tokio::sync::Mutex;

#[derive(Clone)]
pub struct Store {
    readers: SqlitePool,
    /// The one connection that writes; none after a failure, so that the next
    /// write begins with a new one.
    writer: Arc<Mutex<Option<SqliteConnection>>>,
    options: SqliteConnectOptions,
    documents: Arc<Documents>,
}

/// A stored document that is not read yet.
pub struct Packed {
    bytes: Vec<u8>,
    next_element: i64,
}

impl Packed {
    /// Reads it. Not to be called where others wait.
    pub fn shot(&self) -> Result<Shot> {
        unpack(&self.bytes, self.next_element)
    }
}

/// Which way the head goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// To the parent.
    Undo,
    /// To the child on the line to the tip.
    Redo,
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

fn unpack(bytes: &[u8], next_element: i64) -> Result<Shot> {
    let json = zstd::stream::decode_all(bytes)?;
    let shot = shot::read(&json).map_err(|error| Error::Internal(format!("a stored shot: {error}")))?;
    Ok(with_next(shot, next_element))
}

/// Elements of revisions that were left count too.
fn with_next(mut shot: Shot, next_element: i64) -> Shot {
    shot.next_id = shot.next_id().0.max(next_element.clamp(0, i64::from(u32::MAX)) as u32);
    shot
}

/// Every migration ever written, in order.
fn migrations() -> Migrator {
    let all = [
        ("first", include_str!("../migrations/0001_first.sql")),
        ("ids", include_str!("../migrations/0002_ids.sql")),
        ("materials", include_str!("../migrations/0003_materials.sql")),
    ];
    let migration = |(i, (name, sql)): (usize, (&'static str, &'static str))| {
        Migration::new(i as i64 + 1, name.into(), MigrationType::Simple, sql.into_sql_str(), false)
    };
    Migrator::with_migrations(all.into_iter().enumerate().map(migration).collect())
}

/// A number of a kind that was never given before.
async fn new_id(db: &mut SqliteConnection, kind: &str) -> Result<i64> {
    let row = sqlx::query("UPDATE next_ids SET id = id + 1 WHERE kind = ? RETURNING id - 1").bind(kind);
    Ok(row.fetch_one(db).await?.get(0))
}

async fn head_and_tip(db: &mut SqliteConnection, shot: i64) -> Result<(i64, i64)> {
    let row = sqlx::query("SELECT head, tip FROM shots WHERE id = ?").bind(shot).fetch_optional(db).await?;
    row.map(|row| (row.get(0), row.get(1))).ok_or_else(|| Error::NotFound(format!("shot {shot}")))
}

async fn document(db: &mut SqliteConnection, shot: i64, revision: i64) -> Result<Shot> {
    let row = sqlx::query(
        "SELECT document, next_element FROM revisions r JOIN shots s ON s.id = r.shot WHERE r.shot = ? AND number = ?",
    )
    .bind(shot)
    .bind(revision)
    .fetch_optional(db)
    .await?;
    let row = row.ok_or_else(|| Error::NotFound(format!("revision {revision} of shot {shot}")))?;
    unpack(&row.get::<Vec<u8>, _>(0), row.get(1))
}

/// The revision that redo leads to: the head's child on the line to the tip.
async fn redo_target(
    db: &mut SqliteConnection,
    shot: i64,
    head: i64,
    tip: i64,
) -> Result<Option<RevisionRow>> {
    if head == tip {
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
    .bind(shot)
    .bind(tip)
    .bind(head)
    .fetch_optional(db)
    .await?;
    Ok(found.as_ref().map(revision_row))
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
        let options = options.busy_timeout(Duration::from_secs(5));
        let mut writer = SqliteConnection::connect_with(&options).await?;
        migrations()
            .run(&mut writer)
            .await
            .map_err(|error| Error::Internal(format!("the store: {error}")))?;
        // They are kept open: a new connection may need room on the disk.
        let readers = SqlitePoolOptions::new()
            .min_connections(4)
            .max_connections(4)
            .idle_timeout(None)
            .max_lifetime(None)
            .connect_with(options.clone().read_only(true))
            .await?;
        let documents = Arc::default();
        Ok(Self { readers, writer: Arc::new(Mutex::new(Some(writer))), options, documents })
    }

    /// Makes a change in one transaction: all of it is stored, or nothing. After
    /// a failure of the store the connection is given up, since a transaction
    /// that could not end (on a full disk) would hold up all later ones.
    async fn write<T: Send>(
        &self,
        work: impl for<'c> FnOnce(&'c mut SqliteConnection) -> BoxFuture<'c, Result<T>> + Send,
    ) -> Result<T> {
        let mut writer = self.writer.lock().await;
        // Taken out, so that whoever is dropped in the middle leaves none behind.
        let mut db = match writer.take() {
            Some(db) => db,
            None => SqliteConnection::connect_with(&self.options).await?,
        };
        db.execute("BEGIN IMMEDIATE").await?;
        let result = work(&mut db).await;
        match &result {
            Ok(_) => {
                db.execute("COMMIT").await?;
                *writer = Some(db);
            }
            Err(_) => {
                if db.execute("ROLLBACK").await.is_ok() {
                    *writer = Some(db);
                }
            }
        }
        result
    }

    pub async fn project(&self, name: &str) -> Result<i64> {
        let name = name.to_owned();
        self.write(|db| {
            Box::pin(async move {
                sqlx::query("INSERT OR IGNORE INTO projects (name) VALUES (?)")
                    .bind(&name)
                    .execute(&mut *db)
                    .await?;
                let row = sqlx::query("SELECT id FROM projects WHERE name = ?").bind(&name);
                Ok(row.fetch_one(db).await?.get(0))
            })
        })
        .await
    }

    /// All shots with their documents, in one look.
    pub async fn shots_with_documents(&self) -> Result<Vec<(ShotRow, Packed)>> {
        let rows = sqlx::query(
            "SELECT s.id, p.name AS project, s.name, head, tip, changed, document, next_element
             FROM shots s JOIN projects p ON p.id = s.project JOIN revisions r ON r.shot = s.id AND r.number = s.head
             ORDER BY s.id",
        )
        .fetch_all(&self.readers)
        .await?;
        Ok(rows
            .iter()
            .map(|row| (shot_row(row), Packed { bytes: row.get(6), next_element: row.get(7) }))
            .collect())
    }

    /// Whether there are no shots.
    pub async fn is_empty(&self) -> Result<bool> {
        Ok(sqlx::query("SELECT 1 FROM shots LIMIT 1").fetch_optional(&self.readers).await?.is_none())
    }

    pub async fn shot(&self, id: i64) -> Result<ShotRow> {
        let row = sqlx::query(
            "SELECT s.id, p.name AS project, s.name, head, tip, changed FROM shots s JOIN projects p ON p.id = s.project
             WHERE s.id = ?",
        )
        .bind(id)
        .fetch_optional(&self.readers)
        .await?;
        row.as_ref().map(shot_row).ok_or_else(|| Error::NotFound(format!("shot {id}")))
    }

    pub async fn add_shot(&self, project: i64, shot: &Shot, label: &str) -> Result<i64> {
        let (shot, label) = (shot.clone(), label.to_owned());
        self.write(move |db| {
            Box::pin(async move {
                let id = new_id(db, "shot").await?;
                sqlx::query(
                    "INSERT INTO shots (id, project, name, head, tip, changed, next_element) VALUES (?, ?, ?, 1, 1, ?, ?)",
                )
                .bind(id)
                .bind(project)
                .bind(&shot.name)
                .bind(now())
                .bind(i64::from(shot.next_id().0))
                .execute(&mut *db)
                .await?;
                sqlx::query(
                    "INSERT INTO revisions (shot, number, parent, label, made, document) VALUES (?, 1, NULL, ?, ?, ?)",
                )
                .bind(id)
                .bind(label)
                .bind(now())
                .bind(pack(&shot))
                .execute(&mut *db)
                .await?;
                // Its current run, so that reading never has to write.
                let run = new_id(db, "run").await?;
                sqlx::query("INSERT INTO runs (id, shot, number, name, made) VALUES (?, ?, NULL, 'current', ?)")
                    .bind(run)
                    .bind(id)
                    .bind(now())
                    .execute(db)
                    .await?;
                Ok(id)
            })
        })
        .await
    }

    pub async fn delete_shot(&self, id: i64) -> Result<()> {
        self.delete("DELETE FROM shots WHERE id = ?", id).await
    }

    async fn delete(&self, sql: &'static str, id: i64) -> Result<()> {
        self.write(move |db| {
            Box::pin(async move {
                sqlx::query(sql).bind(id).execute(db).await?;
                Ok(())
            })
        })
        .await
    }

    pub async fn document(&self, shot: i64, revision: i64) -> Result<Shot> {
        let mut db = self.readers.acquire().await?;
        let Some(kept) = self.documents.get(shot, revision) else {
            let document = document(&mut db, shot, revision).await?;
            self.documents.keep(shot, revision, &document);
            return Ok(document);
        };
        let row = sqlx::query(
            "SELECT next_element FROM revisions r JOIN shots s ON s.id = r.shot WHERE r.shot = ? AND number = ?",
        );
        let row = row.bind(shot).bind(revision).fetch_optional(&mut *db).await?;
        let row = row.ok_or_else(|| Error::NotFound(format!("revision {revision} of shot {shot}")))?;
        Ok(with_next(kept, row.get(0)))
    }

    /// The shot as it is, and its revision: a revision that was the head never changes.
    pub async fn head(&self, shot: i64) -> Result<(Shot, i64)> {
        let row = sqlx::query("SELECT head FROM shots WHERE id = ?").bind(shot);
        let row = row.fetch_optional(&self.readers).await?;
        let head = row.ok_or_else(|| Error::NotFound(format!("shot {shot}")))?.get(0);
        Ok((self.document(shot, head).await?, head))
    }

    /// Appends a revision to `base`, which has to be the head still.
    pub async fn add_revision(&self, shot: i64, base: i64, label: &str, document: &Shot) -> Result<i64> {
        let (label, name) = (label.to_owned(), document.name.clone());
        let (packed, next_element) = (pack(document), i64::from(document.next_id().0));
        let added = self.write(move |db| {
            Box::pin(async move {
                let (head, _) = head_and_tip(db, shot).await?;
                if head != base {
                    return Err(Error::Conflict { base, head });
                }
                let next: i64 = sqlx::query("SELECT MAX(number) + 1 FROM revisions WHERE shot = ?")
                    .bind(shot)
                    .fetch_one(&mut *db)
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
                .bind(packed)
                .execute(&mut *db)
                .await?;
                sqlx::query(
                    "UPDATE shots SET head = ?1, tip = ?1, name = ?2, changed = ?3, next_element = MAX(next_element, ?4) WHERE id = ?5",
                )
                .bind(next)
                .bind(name)
                .bind(now())
                .bind(next_element)
                .bind(shot)
                .execute(db)
                .await?;
                Ok(next)
            })
        })
        .await?;
        self.documents.keep(shot, added, document);
        Ok(added)
    }

    /// Moves the head by one step from `base`, which has to be the head still if
    /// it is given. Gives the documents before and after, and the new head.
    pub async fn step(&self, shot: i64, base: Option<i64>, step: Step) -> Result<(Shot, Shot, i64)> {
        self.write(move |db| {
            Box::pin(async move {
                let (head, tip) = head_and_tip(db, shot).await?;
                if let Some(base) = base.filter(|&base| base != head) {
                    return Err(Error::Conflict { base, head });
                }
                let to: Option<i64> = match step {
                    Step::Undo => sqlx::query("SELECT parent FROM revisions WHERE shot = ? AND number = ?")
                        .bind(shot)
                        .bind(head)
                        .fetch_one(&mut *db)
                        .await?
                        .get(0),
                    Step::Redo => redo_target(db, shot, head, tip).await?.map(|revision| revision.number),
                };
                let nothing = match step {
                    Step::Undo => "there is nothing to undo",
                    Step::Redo => "there is nothing to redo",
                };
                let to = to.ok_or_else(|| Error::Bad(nothing.to_owned()))?;
                let (before, after) = (document(db, shot, head).await?, document(db, shot, to).await?);
                sqlx::query("UPDATE shots SET head = ?, name = ?, changed = ? WHERE id = ?")
                    .bind(to)
                    .bind(&after.name)
                    .bind(now())
                    .bind(shot)
                    .execute(db)
                    .await?;
                Ok((before, after, to))
            })
        })
        .await
    }

    pub async fn revision(&self, shot: i64, number: i64) -> Result<RevisionRow> {
        let row = sqlx::query(
            "SELECT number, parent, label, version, made FROM revisions WHERE shot = ? AND number = ?",
        )
        .bind(shot)
        .bind(number)
        .fetch_one(&self.readers)
        .await?;
        Ok(revision_row(&row))
    }

    pub async fn revisions(&self, shot: i64) -> Result<Vec<RevisionRow>> {
        let rows = sqlx::query(
            "SELECT number, parent, label, version, made FROM revisions WHERE shot = ? ORDER BY number DESC LIMIT 500",
        )
        .bind(shot)
        .fetch_all(&self.readers)
        .await?;
        Ok(rows.iter().map(revision_row).collect())
    }

    /// The revision that redo leads to: the head's child on the line to the tip.
    pub async fn redo_target(&self, row: &ShotRow) -> Result<Option<RevisionRow>> {
        redo_target(&mut *self.readers.acquire().await?, row.id, row.head, row.tip).await
    }

    pub async fn name_version(&self, shot: i64, revision: i64, name: &str) -> Result<()> {
        let name = name.to_owned();
        self.write(move |db| {
            Box::pin(async move {
                sqlx::query("UPDATE revisions SET version = ? WHERE shot = ? AND number = ?")
                    .bind(name)
                    .bind(shot)
                    .bind(revision)
                    .execute(db)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// The run that playing fills.
    pub async fn current_run(&self, shot: i64) -> Result<RunRow> {
        const CURRENT: &str =
            "SELECT id, shot, number, name, made FROM runs WHERE shot = ? AND number IS NULL";
        let row = sqlx::query(CURRENT).bind(shot).fetch_optional(&self.readers).await?;
        if let Some(row) = row {
            return Ok(run_row(&row));
        }
        // A shot of an earlier build that was never played.
        self.write(move |db| {
            Box::pin(async move {
                head_and_tip(db, shot).await?;
                let id = new_id(db, "run").await?;
                sqlx::query(
                    "INSERT OR IGNORE INTO runs (id, shot, number, name, made) VALUES (?, ?, NULL, 'current', ?)",
                )
                .bind(id)
                .bind(shot)
                .bind(now())
                .execute(&mut *db)
                .await?;
                Ok(run_row(&sqlx::query(CURRENT).bind(shot).fetch_one(db).await?))
            })
        })
        .await
    }

    pub async fn run(&self, id: i64) -> Result<RunRow> {
        let row = sqlx::query("SELECT id, shot, number, name, made FROM runs WHERE id = ?")
            .bind(id)
            .fetch_optional(&self.readers)
            .await?;
        row.as_ref().map(run_row).ok_or_else(|| Error::NotFound(format!("run {id}")))
    }

    pub async fn runs(&self, shot: i64) -> Result<Vec<RunRow>> {
        let rows =
            sqlx::query("SELECT id, shot, number, name, made FROM runs WHERE shot = ? ORDER BY number DESC")
                .bind(shot)
                .fetch_all(&self.readers)
                .await?;
        Ok(rows.iter().map(run_row).collect())
    }

    /// A number for a run whose folder is being built.
    pub async fn new_run_id(&self) -> Result<i64> {
        self.write(|db| Box::pin(new_id(db, "run"))).await
    }

    /// Lists a kept run whose folder is there; named by its number without a name.
    pub async fn add_kept_run(&self, id: i64, shot: i64, name: Option<&str>) -> Result<RunRow> {
        let name = name.map(str::to_owned);
        self.write(move |db| {
            Box::pin(async move {
                let number = sqlx::query("UPDATE shots SET next_run = next_run + 1 WHERE id = ? RETURNING next_run - 1")
                    .bind(shot)
                    .fetch_optional(&mut *db)
                    .await?;
                let number = number.ok_or_else(|| Error::NotFound(format!("shot {shot}")))?;
                let row = sqlx::query(
                    "INSERT INTO runs (id, shot, number, name, made) VALUES (?1, ?2, ?3, COALESCE(?4, 'run ' || ?3), ?5)
                     RETURNING id, shot, number, name, made",
                )
                .bind(id)
                .bind(shot)
                .bind(number.get::<i64, _>(0))
                .bind(name)
                .bind(now())
                .fetch_one(db)
                .await?;
                Ok(run_row(&row))
            })
        })
        .await
    }

    pub async fn rename_run(&self, id: i64, name: &str) -> Result<()> {
        let name = name.to_owned();
        self.write(move |db| {
            Box::pin(async move {
                sqlx::query("UPDATE runs SET name = ? WHERE id = ?").bind(name).bind(id).execute(db).await?;
                Ok(())
            })
        })
        .await
    }

    pub async fn delete_run(&self, id: i64) -> Result<()> {
        self.delete("DELETE FROM runs WHERE id = ?", id).await
    }

    /// The numbers of all runs, or of all films.
    pub async fn ids(&self, of: &'static str) -> Result<Vec<i64>> {
        let sql = if of == "runs" { "SELECT id FROM runs" } else { "SELECT id FROM films" };
        Ok(sqlx::query(sql).fetch_all(&self.readers).await?.iter().map(|row| row.get(0)).collect())
    }

    pub async fn add_film(&self, shot: i64, name: &str, revision: i64, settings: &str) -> Result<i64> {
        let (name, settings) = (name.to_owned(), settings.to_owned());
        self.write(move |db| {
            Box::pin(async move {
                let id = new_id(db, "film").await?;
                sqlx::query(
                    "INSERT INTO films (id, shot, name, revision, settings, made) VALUES (?, ?, ?, ?, ?, ?)",
                )
                .bind(id)
                .bind(shot)
                .bind(name)
                .bind(revision)
                .bind(settings)
                .bind(now())
                .execute(&mut *db)
                .await?;
                sqlx::query("INSERT INTO jobs (shot, film, state, made) VALUES (?, ?, 'running', ?)")
                    .bind(shot)
                    .bind(id)
                    .bind(now())
                    .execute(db)
                    .await?;
                Ok(id)
            })
        })
        .await
    }

    pub async fn films(&self, shot: Option<i64>) -> Result<Vec<FilmRow>> {
        let rows = sqlx::query(
            "SELECT f.id, f.shot, f.name, revision, settings, f.made, j.state, j.message
             FROM films f JOIN jobs j ON j.film = f.id WHERE ?1 IS NULL OR f.shot = ?1 ORDER BY f.id DESC",
        )
        .bind(shot)
        .fetch_all(&self.readers)
        .await?;
        Ok(rows.iter().map(film_row).collect())
    }

    pub async fn film(&self, id: i64) -> Result<FilmRow> {
        let row = sqlx::query(
            "SELECT f.id, f.shot, f.name, revision, settings, f.made, j.state, j.message
             FROM films f JOIN jobs j ON j.film = f.id WHERE f.id = ?",
        )
        .bind(id)
        .fetch_optional(&self.readers)
        .await?;
        row.as_ref().map(film_row).ok_or_else(|| Error::NotFound(format!("film {id}")))
    }

    pub async fn delete_film(&self, id: i64) -> Result<()> {
        self.delete("DELETE FROM films WHERE id = ?", id).await
    }

    pub async fn set_film_state(&self, film: i64, state: &'static str, message: &str) -> Result<()> {
        let message = message.to_owned();
        self.write(move |db| {
            Box::pin(async move {
                sqlx::query("UPDATE jobs SET state = ?, message = ? WHERE film = ?")
                    .bind(state)
                    .bind(message)
                    .bind(film)
                    .execute(db)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// Notes that a shot is being baked, so that it goes on after a restart, and
    /// gives the job's number.
    pub async fn begin_bake(&self, shot: i64) -> Result<i64> {
        self.write(move |db| {
            Box::pin(async move {
                let job = sqlx::query(
                    "INSERT INTO jobs (shot, film, state, made) VALUES (?, NULL, 'running', ?) RETURNING id",
                );
                Ok(job.bind(shot).bind(now()).fetch_one(db).await?.get(0))
            })
        })
        .await
    }

    /// Notes that a bake ended, which [`Store::begin_bake`] gave its number.
    pub async fn end_bake(&self, job: i64) -> Result<()> {
        self.delete("DELETE FROM jobs WHERE id = ? AND film IS NULL", job).await
    }

    /// The jobs of bakes that were under way when the application ended, and their shots.
    pub async fn unfinished_bakes(&self) -> Result<Vec<(i64, i64)>> {
        let rows =
            sqlx::query("SELECT id, shot FROM jobs WHERE film IS NULL").fetch_all(&self.readers).await?;
        Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
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
