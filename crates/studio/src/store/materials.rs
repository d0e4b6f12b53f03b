//! Materials of one's own.

use super::Store;
use crate::error::{Error, Result};
use sqlx::Row;

/// Most materials of a kind.
const MOST: i64 = 500;

impl Store {
    /// Names and settings of the materials of a kind, by name.
    pub async fn materials(&self, kind: &str) -> Result<Vec<(String, String)>> {
        let rows = sqlx::query("SELECT name, settings FROM materials WHERE kind = ? ORDER BY name")
            .bind(kind)
            .fetch_all(&self.readers)
            .await?;
        Ok(rows.iter().map(|row| (row.get(0), row.get(1))).collect())
    }

    /// Keeps settings as a material, in place of one of its name.
    pub async fn keep_material(&self, kind: &'static str, name: String, settings: String) -> Result<()> {
        self.write(move |db| {
            Box::pin(async move {
                let others = sqlx::query("SELECT COUNT(*) FROM materials WHERE kind = ? AND name != ?");
                let count: i64 = others.bind(kind).bind(&name).fetch_one(&mut *db).await?.get(0);
                if count >= MOST {
                    return Err(Error::Bad(format!("{count} materials are kept already; delete one first")));
                }
                sqlx::query("INSERT OR REPLACE INTO materials (kind, name, settings) VALUES (?, ?, ?)")
                    .bind(kind)
                    .bind(name)
                    .bind(settings)
                    .execute(db)
                    .await?;
                Ok(())
            })
        })
        .await
    }

    /// Deletes a material; none of that name is an error.
    pub async fn delete_material(&self, kind: String, name: String) -> Result<()> {
        self.write(move |db| {
            Box::pin(async move {
                let done = sqlx::query("DELETE FROM materials WHERE kind = ? AND name = ?")
                    .bind(kind)
                    .bind(&name)
                    .execute(db)
                    .await?;
                match done.rows_affected() {
                    0 => Err(Error::NotFound(format!("a material \"{name}\" of one's own"))),
                    _ => Ok(()),
                }
            })
        })
        .await
    }
}
