//! What was deleted: kept for thirty days, brought back in one act with all that went with it.

use crate::{Error, Part, Result, Store, found};
use antistasis_core::simulation::letter;
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use sqlx::types::Json;
use sqlx::{Postgres, Transaction};
use utoipa::ToSchema;
use uuid::Uuid;

/// What can be deleted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DeletionKind {
    /// An area with its loops.
    Area,
    /// A loop with all that is in it.
    Loop,
    /// A record with the models fitted to it.
    Record,
    /// A model.
    Model,
    /// A trial.
    Trial,
    /// A proof.
    Proof,
    /// A saved plant, scenario, candidate or proving set.
    Saved,
}

impl DeletionKind {
    fn name(self) -> &'static str {
        match self {
            Self::Area => "area",
            Self::Loop => "loop",
            Self::Record => "record",
            Self::Model => "model",
            Self::Trial => "trial",
            Self::Proof => "proof",
            Self::Saved => "saved",
        }
    }

    fn of(name: &str) -> Self {
        [Self::Area, Self::Loop, Self::Record, Self::Model, Self::Trial, Self::Proof]
            .into_iter()
            .find(|kind| kind.name() == name)
            .unwrap_or(Self::Saved)
    }
}

/// What hangs on something.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Hanging {
    /// What it is, in words.
    pub title: String,
    /// What goes with it into the bin, a line each.
    pub along: Vec<String>,
    /// What stays, but refers to it, a line each.
    pub stays: Vec<String>,
}

/// One deletion.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct BinItem {
    /// Identifier of the deletion.
    pub id: Uuid,
    /// What was deleted.
    pub kind: DeletionKind,
    /// What it is, in words.
    pub title: String,
    /// What went with it.
    pub along: Vec<String>,
    /// Tag of the loop that it was in, where it was in one that is still there.
    pub loop_tag: Option<String>,
    /// When.
    pub deleted_at: DateTime<Utc>,
    /// When it goes for good.
    pub gone_at: DateTime<Utc>,
}

/// How long things stay.
const DAYS_KEPT: i64 = 30;

/// `3 records`, `1 record`; None for none.
fn counted(count: i64, word: &str) -> Option<String> {
    (count > 0).then(|| format!("{count} {word}{}", if count == 1 { "" } else { "s" }))
}

impl Store {
    /// What would go into the bin with something, and what would stay and refer to it.
    pub async fn hanging(&self, kind: DeletionKind, id: Uuid) -> Result<Hanging> {
        let (title, along, stays) = match kind {
            DeletionKind::Area => {
                let area = self.area(id).await?;
                let loops = self.tags_of_area(id).await?;
                (format!("area {}", area.name), loops.iter().map(|tag| format!("loop {tag}")).collect(), vec![])
            }
            DeletionKind::Loop => {
                let detail = self.loop_by_id(id).await?;
                let row = sqlx::query!(
                    r#"select (select count(*) from record where loop_id = $1 and deletion_id is null) as "records!",
                        (select count(*) from model where loop_id = $1 and deletion_id is null) as "models!",
                        (select count(*) from trial where loop_id = $1 and deletion_id is null) as "trials!",
                        (select count(*) from proof where loop_id = $1 and deletion_id is null) as "proofs!""#,
                    id
                )
                .fetch_one(&self.pool)
                .await?;
                let along = [
                    counted(row.records, "record"),
                    counted(row.models, "model"),
                    counted(row.trials, "trial"),
                    counted(row.proofs, "proof"),
                ];
                (format!("loop {}", detail.tag), along.into_iter().flatten().collect(), vec![])
            }
            DeletionKind::Record => {
                let info = self.record_info(id).await?;
                let models = self.models(self.loop_of_record(id).await?).await?;
                let own: Vec<_> = models.iter().filter(|model| model.is_of(id)).collect();
                let along = own.iter().map(|model| {
                    let chosen = if model.chosen { ", the chosen one" } else { "" };
                    format!("model {}{chosen}", letter(model.number))
                });
                let ids: Vec<Uuid> = own.iter().map(|model| model.id).collect();
                (format!("record “{}”", info.name), along.collect(), self.trials_on(&ids).await?)
            }
            DeletionKind::Model => {
                // Not by its document, which this version need not be able to read.
                let number = sqlx::query_scalar!("select number from model where id = $1 and deletion_id is null", id)
                    .fetch_optional(&self.pool)
                    .await?;
                let number = found(number, "model", id)?;
                let stays = self.trials_on(&[id]).await?;
                (format!("model {}", letter(number)), vec![], stays)
            }
            DeletionKind::Trial => {
                let row = sqlx::query!("select number, label from trial where id = $1 and deletion_id is null", id)
                    .fetch_optional(&self.pool)
                    .await?;
                let row = found(row, "trial", id)?;
                (format!("trial {}, {}", letter(row.number), row.label), vec![], vec![])
            }
            DeletionKind::Proof => {
                let row = sqlx::query!("select number, label from proof where id = $1 and deletion_id is null", id)
                    .fetch_optional(&self.pool)
                    .await?;
                let row = found(row, "proof", id)?;
                (format!("proof {}, {}", row.number, row.label), vec![], vec![])
            }
            DeletionKind::Saved => {
                let item = self.saved_item(id).await?;
                (format!("{} “{}”", item.spec.kind().name(), item.name), vec![], vec![])
            }
        };
        Ok(Hanging { title, along, stays })
    }

    async fn trials_on(&self, models: &[Uuid]) -> Result<Vec<String>> {
        let count = sqlx::query_scalar!(
            r#"select count(*) as "count!" from trial where model_id = any($1) and deletion_id is null"#,
            models
        )
        .fetch_one(&self.pool)
        .await?;
        let verb = if count == 1 { "keeps" } else { "keep" };
        Ok(counted(count, "trial").map(|trials| format!("{trials}, which {verb} the process")).into_iter().collect())
    }

    /// Puts something into the bin, with what hangs on it.
    pub async fn delete(&self, kind: DeletionKind, id: Uuid) -> Result<BinItem> {
        let Hanging { title, along, .. } = self.hanging(kind, id).await?;
        let loop_id = match kind {
            DeletionKind::Record => Some(self.loop_of_record(id).await?),
            DeletionKind::Model => Some(self.loop_of_model(id).await?),
            DeletionKind::Trial => {
                sqlx::query_scalar!("select loop_id from trial where id = $1", id).fetch_optional(&self.pool).await?
            }
            DeletionKind::Proof => {
                sqlx::query_scalar!("select loop_id from proof where id = $1", id).fetch_optional(&self.pool).await?
            }
            _ => None,
        };
        let deletion = Uuid::now_v7();
        let mut transaction = self.pool.begin().await?;
        sqlx::query!(
            "insert into deletion (id, kind, title, along, loop_id) values ($1, $2, $3, $4, $5)",
            deletion,
            kind.name(),
            title,
            Json(&along) as _,
            loop_id
        )
        .execute(&mut *transaction)
        .await?;
        mark(&mut transaction, kind, id, deletion).await?;
        transaction.commit().await?;
        let (items, _) = self.bin(Part { newest: 0, also: Some(deletion) }).await?;
        found(items.into_iter().next(), kind.name(), id)
    }

    /// The newest of what is in the bin, and one that is asked for however old it is; how many there are in all. What is older
    /// than thirty days goes first.
    pub async fn bin(&self, part: Part) -> Result<(Vec<BinItem>, i64)> {
        self.empty_bin(Utc::now() - chrono::Duration::days(DAYS_KEPT)).await?;
        let all = sqlx::query_scalar!(r#"select count(*) as "all!" from deletion"#).fetch_one(&self.pool).await?;
        let rows = sqlx::query!(
            r#"select deletion.id, kind, title, along as "along: Json<Vec<String>>", control_loop.tag as "loop_tag?", deleted_at
            from deletion left join control_loop on control_loop.id = deletion.loop_id and control_loop.deletion_id is null
            where deletion.id in (select id from deletion order by deleted_at desc, id desc limit $1) or deletion.id = $2
            order by deleted_at desc, deletion.id desc"#,
            part.newest,
            part.also
        )
        .fetch_all(&self.pool)
        .await?;
        let items = rows
            .into_iter()
            .map(|row| BinItem {
                id: row.id,
                kind: DeletionKind::of(&row.kind),
                title: row.title,
                along: row.along.0,
                loop_tag: row.loop_tag,
                deleted_at: row.deleted_at,
                gone_at: row.deleted_at + chrono::Duration::days(DAYS_KEPT),
            })
            .collect();
        Ok((items, all))
    }

    /// Takes what was deleted before a time out of the bin for good; how many deletions that were.
    pub async fn empty_bin(&self, before: DateTime<Utc>) -> Result<u64> {
        Ok(sqlx::query!("delete from deletion where deleted_at < $1", before)
            .execute(&self.pool)
            .await?
            .rows_affected())
    }

    /// Takes one deletion out of the bin for good.
    pub async fn delete_for_good(&self, deletion: Uuid) -> Result<()> {
        let done = sqlx::query!("delete from deletion where id = $1", deletion).execute(&self.pool).await?;
        found((done.rows_affected() > 0).then_some(()), "deletion", deletion)
    }

    /// Brings back what went in one deletion.
    ///
    /// Errors where it cannot stand again as things are: its name is taken, or what it stands on is in the bin itself.
    pub async fn restore(&self, deletion: Uuid) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let title = sqlx::query_scalar!("select title from deletion where id = $1 for update", deletion)
            .fetch_optional(&mut *transaction)
            .await?;
        let title = found(title, "deletion", deletion)?;
        if let Some(missing) = ground(&mut transaction, deletion).await? {
            return Err(Error::Refused(format!(
                "{title} stands on {missing}, which is in the bin: bring that back first"
            )));
        }
        // What was chosen or pinned since stays so.
        sqlx::query!(
            "update model set chosen = false where deletion_id = $1 and chosen and exists (select 1 from model other
                where other.loop_id = model.loop_id and other.chosen and other.deletion_id is null)",
            deletion
        )
        .execute(&mut *transaction)
        .await?;
        sqlx::query!(
            "update trial set pinned = false where deletion_id = $1 and pinned and exists (select 1 from trial other
                where other.loop_id = trial.loop_id and other.pinned and other.deletion_id is null)",
            deletion
        )
        .execute(&mut *transaction)
        .await?;
        let back = |error: sqlx::Error| {
            if error.as_database_error().is_some_and(sqlx::error::DatabaseError::is_unique_violation) {
                Error::Refused(format!(
                    "{title} cannot come back: another one is called that, or the same trial stands in the trail; rename \
                     or delete that one first"
                ))
            } else {
                error.into()
            }
        };
        for query in [
            sqlx::query!("update area set deletion_id = null where deletion_id = $1", deletion),
            sqlx::query!("update control_loop set deletion_id = null where deletion_id = $1", deletion),
            sqlx::query!("update record set deletion_id = null where deletion_id = $1", deletion),
            sqlx::query!("update model set deletion_id = null where deletion_id = $1", deletion),
            sqlx::query!("update trial set deletion_id = null where deletion_id = $1", deletion),
            sqlx::query!("update proof set deletion_id = null where deletion_id = $1", deletion),
            sqlx::query!("update saved set deletion_id = null where deletion_id = $1", deletion),
        ] {
            query.execute(&mut *transaction).await.map_err(back)?;
        }
        sqlx::query!("delete from deletion where id = $1", deletion).execute(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(())
    }
}

/// Marks a thing, and what goes with it, as deleted; what is in the bin already keeps its own deletion.
async fn mark(transaction: &mut Transaction<'_, Postgres>, kind: DeletionKind, id: Uuid, deletion: Uuid) -> Result<()> {
    match kind {
        DeletionKind::Area => {
            let queries = [
                sqlx::query!("update area set deletion_id = $2 where id = $1 and deletion_id is null", id, deletion),
                sqlx::query!(
                    "update control_loop set deletion_id = $2 where area_id = $1 and deletion_id is null",
                    id,
                    deletion
                ),
            ];
            for query in queries {
                query.execute(&mut **transaction).await?;
            }
        }
        DeletionKind::Loop => {
            sqlx::query!(
                "update control_loop set deletion_id = $2 where id = $1 and deletion_id is null",
                id,
                deletion
            )
            .execute(&mut **transaction)
            .await?;
        }
        DeletionKind::Record => {
            let queries = [
                sqlx::query!("update record set deletion_id = $2 where id = $1 and deletion_id is null", id, deletion),
                sqlx::query!(
                    "update model set deletion_id = $2 where deletion_id is null
                        and (record_id = $1 or further @> jsonb_build_array(jsonb_build_object('record_id', $1::uuid)))",
                    id,
                    deletion
                ),
            ];
            for query in queries {
                query.execute(&mut **transaction).await?;
            }
        }
        DeletionKind::Model => {
            sqlx::query!("update model set deletion_id = $2 where id = $1 and deletion_id is null", id, deletion)
                .execute(&mut **transaction)
                .await?;
        }
        DeletionKind::Trial => {
            sqlx::query!("update trial set deletion_id = $2 where id = $1 and deletion_id is null", id, deletion)
                .execute(&mut **transaction)
                .await?;
        }
        DeletionKind::Proof => {
            sqlx::query!("update proof set deletion_id = $2 where id = $1 and deletion_id is null", id, deletion)
                .execute(&mut **transaction)
                .await?;
        }
        DeletionKind::Saved => {
            sqlx::query!("update saved set deletion_id = $2 where id = $1 and deletion_id is null", id, deletion)
                .execute(&mut **transaction)
                .await?;
        }
    }
    Ok(())
}

/// What the rows of a deletion stand on that is in the bin by another one.
async fn ground(transaction: &mut Transaction<'_, Postgres>, deletion: Uuid) -> Result<Option<String>> {
    let missing = sqlx::query_scalar!(
        r#"select deletion.title as "title!" from deletion where deletion.id <> $1 and deletion.id in (
            select control_loop.deletion_id from control_loop
                join record on record.loop_id = control_loop.id where record.deletion_id = $1
            union select control_loop.deletion_id from control_loop
                join model on model.loop_id = control_loop.id where model.deletion_id = $1
            union select control_loop.deletion_id from control_loop
                join trial on trial.loop_id = control_loop.id where trial.deletion_id = $1
            union select control_loop.deletion_id from control_loop
                join proof on proof.loop_id = control_loop.id where proof.deletion_id = $1
            union select record.deletion_id from record
                join model on model.record_id = record.id
                    or further @> jsonb_build_array(jsonb_build_object('record_id', record.id))
                where model.deletion_id = $1
            union select area.deletion_id from area
                join control_loop on control_loop.area_id = area.id where control_loop.deletion_id = $1
        ) limit 1"#,
        deletion
    )
    .fetch_optional(&mut **transaction)
    .await?;
    Ok(missing)
}
