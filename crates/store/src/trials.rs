//! The trail of trials. Traces are not kept: a trial gives the same one again.

use crate::unreadable::{Listed, each_that_can_be_read};
use crate::{Error, Expected, Part, Result, Store, found};
use antistasis_core::assessment::Assessment;
use antistasis_core::document::{Stored, Written};
use antistasis_core::simulation::{ENGINE_VERSION, Trial};
use chrono::{DateTime, Utc};
use serde::Serialize;
use sqlx::types::Json;
use utoipa::ToSchema;
use uuid::Uuid;

/// The engine that assesses what is kept now.
const ENGINE: i32 = ENGINE_VERSION as i32;

/// A trial to be kept.
#[derive(Debug)]
pub struct NewTrial<'a> {
    /// The model that its process came from.
    pub model_id: Option<Uuid>,
    /// What it is called: what it changed from the trial before, or where it came from.
    pub label: &'a str,
    /// The trial.
    pub trial: &'a Trial,
    /// Its assessment.
    pub assessment: &'a Assessment,
    /// A trial that was only passed through on the way to this one: it makes room, unless it was starred, pinned or
    /// annotated meanwhile.
    pub replaces: Option<Uuid>,
}

/// What is edited of a trial of the trail.
#[derive(Debug)]
pub struct TrialEdit<'a> {
    /// What it is called.
    pub label: &'a str,
    /// What the user wrote about it.
    pub remark: &'a str,
    /// Whether it is starred.
    pub starred: bool,
}

/// A trial as kept.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct TrialRow {
    /// Identifier.
    pub id: Uuid,
    /// Number in the trail, from 1.
    pub number: i32,
    /// The model that its process came from.
    pub model_id: Option<Uuid>,
    /// What it is called.
    pub label: String,
    /// What the user wrote about it.
    pub remark: String,
    /// Whether the user wants to find it again.
    pub starred: bool,
    /// Rises with each change of label, remark or star.
    pub revision: i64,
    /// Whether others are compared with it.
    pub pinned: bool,
    /// The trial.
    pub trial: Trial,
    /// Its assessment.
    pub assessment: Assessment,
    /// The version of the engine that computed it.
    pub engine: i32,
    /// Whether that was another one than the present: its figures may differ.
    pub of_older_engine: bool,
    /// When it was made.
    pub created_at: DateTime<Utc>,
}

impl Store {
    /// Keeps a trial at the end of the trail; a trial that is there already is not kept twice. Returns its identifier.
    pub async fn add_trial(&self, loop_id: Uuid, new: NewTrial<'_>) -> Result<Uuid> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query_scalar!("select id from control_loop where id = $1 for update", loop_id)
            .fetch_one(&mut *transaction)
            .await?;
        let digest = new.trial.digest();
        let same = sqlx::query_scalar!(
            "select id from trial where loop_id = $1 and digest = $2 and deletion_id is null",
            loop_id,
            digest
        )
        .fetch_optional(&mut *transaction)
        .await?;
        if let Some(passed) = new.replaces.filter(|passed| Some(*passed) != same) {
            sqlx::query!(
                "delete from trial where id = $1 and loop_id = $2 and not starred and not pinned and remark = ''
                    and deletion_id is null",
                passed,
                loop_id
            )
            .execute(&mut *transaction)
            .await?;
        }
        if let Some(id) = same {
            transaction.commit().await?;
            return Ok(id);
        }
        let id = Uuid::now_v7();
        sqlx::query!(
            "insert into trial (id, loop_id, number, model_id, label, digest, spec, assessment, engine)
            values ($1, $2, (select coalesce(max(number), 0) + 1 from trial where loop_id = $2), $3, $4, $5, $6, $7, $8)",
            id,
            loop_id,
            new.model_id,
            new.label,
            digest,
            Json(Written(new.trial)) as _,
            Json(Written(new.assessment)) as _,
            ENGINE
        )
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
        Ok(id)
    }

    /// Gives a trial the assessment that the present engine makes of it.
    pub async fn assess_again(&self, id: Uuid, assessment: &Assessment) -> Result<()> {
        let done = sqlx::query!(
            "update trial set assessment = $2, engine = $3, revision = revision + 1 where id = $1 and deletion_id is null",
            id,
            Json(Written(assessment)) as _,
            ENGINE
        )
        .execute(&self.pool)
        .await?;
        found((done.rows_affected() > 0).then_some(()), "trial", id)
    }

    /// The trail of a loop, the newest first.
    pub async fn trials(&self, loop_id: Uuid) -> Result<Vec<TrialRow>> {
        Ok(self.newest_trials(loop_id, Part { newest: i64::MAX, also: None }).await?.rows)
    }

    /// Part of the trail, and besides what is pinned or starred; with how many there are in all.
    pub async fn newest_trials(&self, loop_id: Uuid, part: Part) -> Result<Listed<TrialRow>> {
        let all = sqlx::query_scalar!(
            r#"select count(*) as "count!" from trial where loop_id = $1 and deletion_id is null"#,
            loop_id
        )
        .fetch_one(&self.pool)
        .await?;
        let ids = sqlx::query_scalar!(
            r#"select id as "id!" from trial where loop_id = $1 and deletion_id is null and (pinned or starred or id = $3)
            union
            (select id from trial where loop_id = $1 and deletion_id is null order by number desc limit $2)"#,
            loop_id,
            part.newest,
            part.also
        )
        .fetch_all(&self.pool)
        .await?;
        let mut rows = each_that_can_be_read(&ids, |ids| async move { self.trial_rows(&ids).await }).await?;
        rows.sort_by_key(|row| std::cmp::Reverse(row.number));
        Ok(Listed::of(&ids, rows, all))
    }

    /// One trial.
    pub async fn trial(&self, id: Uuid) -> Result<TrialRow> {
        found(self.trial_rows(&[id]).await?.pop(), "trial", id)
    }

    async fn trial_rows(&self, ids: &[Uuid]) -> Result<Vec<TrialRow>> {
        let rows = sqlx::query!(
            r#"select id, number, model_id, label, remark, starred, revision, pinned, spec as "spec: Json<Stored<Trial>>",
                assessment as "assessment: Json<Stored<Assessment>>", engine, created_at
            from trial where id = any($1) and deletion_id is null order by number desc"#,
            ids
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| TrialRow {
                id: row.id,
                number: row.number,
                model_id: row.model_id,
                label: row.label,
                remark: row.remark,
                starred: row.starred,
                revision: row.revision,
                pinned: row.pinned,
                trial: row.spec.0.0,
                assessment: row.assessment.0.0,
                engine: row.engine,
                of_older_engine: row.engine != ENGINE,
                created_at: row.created_at,
            })
            .collect())
    }

    /// Pins a trial, so that others are compared with it, in place of the one pinned before; or unpins it.
    pub async fn pin_trial(&self, id: Uuid, pinned: bool) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let row = sqlx::query!("select loop_id from trial where id = $1 and deletion_id is null", id)
            .fetch_optional(&mut *transaction)
            .await?;
        let loop_id = found(row, "trial", id)?.loop_id;
        // One at a time in a loop: one trial is pinned.
        sqlx::query_scalar!("select id from control_loop where id = $1 for update", loop_id)
            .fetch_one(&mut *transaction)
            .await?;
        // Only a pin takes the place of another: who takes off what is pinned no longer takes nothing off.
        if pinned {
            sqlx::query!(
                "update trial set pinned = false where loop_id = $1 and pinned and deletion_id is null and id <> $2",
                loop_id,
                id
            )
            .execute(&mut *transaction)
            .await?;
        }
        sqlx::query!("update trial set pinned = $2 where id = $1", id, pinned).execute(&mut *transaction).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Renames, annotates and stars a trial.
    pub async fn set_trial(&self, id: Uuid, expected: Expected, edit: TrialEdit<'_>) -> Result<()> {
        let done = sqlx::query!(
            "update trial set label = $3, remark = $4, starred = $5, revision = revision + 1
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            edit.label,
            edit.remark,
            edit.starred
        )
        .execute(&self.pool)
        .await?;
        if done.rows_affected() == 0 {
            self.trial(id).await?;
            return Err(Error::Changed);
        }
        Ok(())
    }
}
