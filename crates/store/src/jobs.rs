//! Long work that is cut into pieces: what was asked for, which pieces there are, what came out of each and of all.
//!
//! Every change begins from what stands there, so that a piece done twice, or a worker that ended in the middle, changes nothing.

use crate::{Result, Store, found};
use antistasis_core::simulation::ENGINE_VERSION;
use serde::Serialize;
use serde::de::DeserializeOwned;
use sqlx::types::Json;
use std::ops::Range;
use std::time::Duration;
use uuid::Uuid;

/// The engine that works now.
const ENGINE: i32 = ENGINE_VERSION as i32;
/// Jobs that have ended are kept so long, and so many of a kind.
const KEPT: Duration = Duration::from_secs(3600);
const MOST_KEPT: i64 = 20;

/// How a job stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JobStage {
    /// Its pieces are done, or put together.
    Running,
    /// Its outcome is there.
    Done,
    /// Something is wrong, or it was cancelled.
    Failed,
}

/// A job as it stands.
#[derive(Debug, Clone, PartialEq)]
pub struct JobStanding {
    /// How it stands.
    pub stage: JobStage,
    /// What came out, once it is done.
    pub outcome: Option<serde_json::Value>,
    /// What is wrong, where it failed.
    pub problem: Option<serde_json::Value>,
    /// Which share of the work is done, 0 to 1.
    pub share: f64,
    /// Pieces that are done.
    pub done: i64,
    /// Pieces in all; 0 as long as it is not cut.
    pub pieces: i64,
    /// Workers that did pieces of it.
    pub workers: i64,
}

impl Store {
    /// A new job, unless `most` of its kind are under way.
    pub async fn begin_job<R: Serialize + Sync>(&self, kind: &str, request: &R, most: i64) -> Result<Option<Uuid>> {
        let mut transaction = self.pool.begin().await?;
        // Two that begin at once are counted one after the other.
        sqlx::query!("select pg_advisory_xact_lock(hashtext('job ' || $1))", kind).execute(&mut *transaction).await?;
        sqlx::query!(
            "delete from job where kind = $1 and stage in ('done', 'failed') and (
                ended_at < now() - make_interval(secs => $2)
                or id not in (select id from job where kind = $1 and stage in ('done', 'failed') order by id desc limit $3))",
            kind,
            KEPT.as_secs_f64(),
            MOST_KEPT
        )
        .execute(&mut *transaction)
        .await?;
        let id = Uuid::now_v7();
        let made = sqlx::query!(
            "insert into job (id, kind, request, engine) select $1, $2, $3, $5
            where (select count(*) from job where kind = $2 and stage in ('running', 'closing')) < $4",
            id,
            kind,
            Json(request) as _,
            most,
            ENGINE
        )
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
        Ok((made.rows_affected() > 0).then_some(id))
    }

    /// The jobs that have not ended. What another engine did of them is done again.
    pub async fn jobs_under_way(&self) -> Result<Vec<Uuid>> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query!(
            "with older as (update job set engine = $1 where engine <> $1 and stage in ('running', 'closing') returning id)
            delete from job_piece where job_id in (select id from older)",
            ENGINE
        )
        .execute(&mut *transaction)
        .await?;
        let under_way = sqlx::query_scalar!("select id from job where stage in ('running', 'closing') order by id")
            .fetch_all(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(under_way)
    }

    /// The jobs of a kind that belong to a loop and have not ended, the newest first.
    pub async fn jobs_of_loop(&self, kind: &str, loop_id: Uuid) -> Result<Vec<Uuid>> {
        Ok(sqlx::query_scalar!(
            "select id from job where kind = $1 and stage in ('running', 'closing') and request ->> 'loop_id' = $2
            order by id desc",
            kind,
            loop_id.to_string()
        )
        .fetch_all(&self.pool)
        .await?)
    }

    /// What a job is and asks for; None where it has ended, or is not there any more.
    pub async fn job_request(&self, id: Uuid) -> Result<Option<(String, serde_json::Value)>> {
        let row = sqlx::query!(
            r#"select kind, request as "request: Json<serde_json::Value>" from job
            where id = $1 and stage in ('running', 'closing')"#,
            id
        )
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|row| (row.kind, row.request.0)))
    }

    /// Whether a job is still wanted.
    pub async fn job_is_wanted(&self, id: Uuid) -> Result<bool> {
        Ok(sqlx::query_scalar!(
            r#"select exists (select from job where id = $1 and stage in ('running', 'closing')) as "wanted!""#,
            id
        )
        .fetch_one(&self.pool)
        .await?)
    }

    /// Cuts a job into pieces, unless it is cut already; returns the numbers of those that are not done.
    pub async fn cut_job(&self, id: Uuid, pieces: &[Range<usize>]) -> Result<Vec<i32>> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query!("select id from job where id = $1 for update", id).fetch_optional(&mut *transaction).await?;
        let number = |value: usize| i32::try_from(value).unwrap_or(i32::MAX);
        let (first, count): (Vec<i32>, Vec<i32>) =
            pieces.iter().map(|piece| (number(piece.start), number(piece.len()))).unzip();
        sqlx::query!(
            "insert into job_piece (job_id, number, first, count)
            select $1, piece.number - 1, piece.first, piece.count
            from unnest($2::int[], $3::int[]) with ordinality as piece (first, count, number)
            where exists (select from job where id = $1) and not exists (select from job_piece where job_id = $1)",
            id,
            &first,
            &count
        )
        .execute(&mut *transaction)
        .await?;
        let left = sqlx::query_scalar!(
            "select number from job_piece where job_id = $1 and result is null order by number",
            id
        )
        .fetch_all(&mut *transaction)
        .await?;
        transaction.commit().await?;
        Ok(left)
    }

    /// A piece that is still to be done.
    pub async fn piece_to_do(&self, id: Uuid, number: i32) -> Result<Option<Range<usize>>> {
        let row = sqlx::query!(
            "select first, count from job_piece join job on job.id = job_id
            where job_id = $1 and number = $2 and result is null and stage = 'running'",
            id,
            number
        )
        .fetch_optional(&self.pool)
        .await?;
        let whole = |value: i32| usize::try_from(value).unwrap_or(0);
        Ok(row.map(|row| whole(row.first)..whole(row.first) + whole(row.count)))
    }

    /// Keeps what came out of a piece, unless it is known already.
    pub async fn keep_piece<R: Serialize + Sync>(&self, id: Uuid, number: i32, result: &R, worker: &str) -> Result<()> {
        sqlx::query!(
            "update job_piece set result = $3, worker = $4 where job_id = $1 and number = $2 and result is null",
            id,
            number,
            Json(result) as _,
            worker
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Says a word to all who listen on a channel.
    pub async fn notify(&self, channel: &str) -> Result<()> {
        sqlx::query("select pg_notify($1, '')").bind(channel).execute(&self.pool).await?;
        Ok(())
    }

    /// Whether every piece of a job is done.
    pub async fn all_pieces_done(&self, id: Uuid) -> Result<bool> {
        Ok(sqlx::query_scalar!(
            r#"select coalesce(bool_and(result is not null), false) as "all!" from job_piece where job_id = $1"#,
            id
        )
        .fetch_one(&self.pool)
        .await?)
    }

    /// Begins to put a job together, where it is wanted: what came out of its pieces, in their order. From here on it cannot be cancelled.
    pub async fn close_job<R: DeserializeOwned + Send + Unpin + 'static>(&self, id: Uuid) -> Result<Option<Vec<R>>> {
        let closing =
            sqlx::query!("update job set stage = 'closing' where id = $1 and stage in ('running', 'closing')", id)
                .execute(&self.pool)
                .await?;
        if closing.rows_affected() == 0 {
            return Ok(None);
        }
        let results = sqlx::query_scalar!(
            r#"select result as "result!: Json<Vec<R>>" from job_piece where job_id = $1 and result is not null order by number"#,
            id
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(Some(results.into_iter().flat_map(|piece| piece.0).collect()))
    }

    /// How long a job has been under way, s.
    pub async fn job_seconds(&self, id: Uuid) -> Result<f64> {
        let row = sqlx::query_scalar!(
            r#"select extract(epoch from now() - begun_at)::double precision as "seconds!" from job where id = $1"#,
            id
        );
        Ok(row.fetch_optional(&self.pool).await?.unwrap_or(0.0))
    }

    /// Ends a job with what came out, or with what is wrong. One that has ended stays as it is.
    pub async fn end_job<O: Serialize + Sync, P: Serialize + Sync>(
        &self,
        id: Uuid,
        ended: std::result::Result<&O, &P>,
    ) -> Result<()> {
        let (outcome, problem) = (ended.ok().map(Json), ended.err().map(Json));
        sqlx::query!(
            "update job set stage = case when $2::json is null then 'failed' else 'done' end, outcome = $2, problem = $3,
                ended_at = now() where id = $1 and stage in ('running', 'closing')",
            id,
            outcome as _,
            problem as _
        )
        .execute(&self.pool)
        .await?;
        // What the pieces were is told by the outcome; that there were, and whose, stays.
        sqlx::query!("update job_piece set result = 'null' where job_id = $1 and result is not null", id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Cancels a job that is not being put together yet.
    pub async fn cancel_job<P: Serialize + Sync>(&self, id: Uuid, problem: &P) -> Result<()> {
        sqlx::query!(
            "update job set stage = 'failed', problem = $2, ended_at = now() where id = $1 and stage = 'running'",
            id,
            Json(problem) as _
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Of what came out of the trials of a job so far, that with the least number under a name; None where none has one.
    pub async fn least_of_job<R: DeserializeOwned + Send + Unpin + 'static>(
        &self,
        id: Uuid,
        name: &str,
    ) -> Result<Option<R>> {
        let least = sqlx::query_scalar!(
            r#"select value as "value!: Json<R>" from job_piece,
                json_array_elements(case when json_typeof(result) = 'array' then result else '[]' end) as value
            where job_id = $1 and value ->> $2 is not null order by (value ->> $2)::double precision limit 1"#,
            id,
            name
        )
        .fetch_optional(&self.pool)
        .await?;
        Ok(least.map(|least| least.0))
    }

    /// How a job of a kind stands.
    pub async fn job(&self, kind: &'static str, id: Uuid) -> Result<JobStanding> {
        let row = sqlx::query!(
            r#"select stage, outcome as "outcome: Json<serde_json::Value>", problem as "problem: Json<serde_json::Value>",
                (select count(*) from job_piece where job_id = job.id) as "pieces!",
                (select count(*) from job_piece where job_id = job.id and result is not null) as "done!",
                (select count(distinct worker) from job_piece where job_id = job.id) as "workers!",
                coalesce((select sum(count) filter (where result is not null)::double precision / sum(count)
                    from job_piece where job_id = job.id), 0) as "share!"
            from job where id = $1 and kind = $2"#,
            id,
            kind
        )
        .fetch_optional(&self.pool)
        .await?;
        let row = found(row, kind, id)?;
        Ok(JobStanding {
            stage: match row.stage.as_str() {
                "done" => JobStage::Done,
                "failed" => JobStage::Failed,
                _ => JobStage::Running,
            },
            outcome: row.outcome.map(|outcome| outcome.0),
            problem: row.problem.map(|problem| problem.0),
            share: row.share,
            done: row.done,
            pieces: row.pieces,
            workers: row.workers,
        })
    }

    /// The connections, for the queue.
    #[must_use]
    pub fn pool(&self) -> sqlx::PgPool {
        self.pool.clone()
    }
}
