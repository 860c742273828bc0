//! Records, their channels and samples.

use crate::unreadable::{Listed, each_that_can_be_read};
use crate::{Error, Expected, Part, Result, Store, found};
use antistasis_core::document::{Stored, Written};
use antistasis_core::preparation::Step;
use antistasis_core::series::{Channel, Record, Role, TimeAxis, extremes};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use sqlx::types::Json;
use sqlx::{Postgres, Transaction};
use utoipa::ToSchema;
use uuid::Uuid;

/// Samples in a chunk: half a megabyte.
const CHUNK: usize = 65_536;
/// The position under which the times of an irregular record are kept.
const TIMES: i32 = -1;
/// Stretches of the small trend.
const THUMBNAIL_BUCKETS: usize = 24;

/// A record to be kept.
#[derive(Debug)]
pub struct NewRecord<'a> {
    /// What it is called.
    pub name: &'a str,
    /// Where it came from: a file name, an experiment.
    pub origin: &'a str,
    /// Time of the first sample, ISO 8601, where known.
    pub started: Option<&'a str>,
    /// What was noticed when it was read.
    pub notes: &'a [String],
    /// The data.
    pub record: &'a Record,
}

/// A record without its samples.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct RecordInfo {
    /// Identifier.
    pub id: Uuid,
    /// What it is called.
    pub name: String,
    /// Where it came from.
    pub origin: String,
    /// Time of the first sample, ISO 8601, where known.
    pub started: Option<String>,
    /// Seconds between samples; null where they are not even.
    pub sample_interval: Option<f64>,
    /// Seconds from first to last sample.
    pub duration: f64,
    /// Number of samples of each channel.
    pub length: i32,
    /// SHA-256 of the content.
    pub content_hash: String,
    /// What was noticed when it was read.
    pub notes: Vec<String>,
    /// What the user wrote about it.
    pub remark: String,
    /// Rises with each change of name, remark, channels or preparation.
    pub revision: i64,
    /// The steps laid over it, in their order.
    pub preparation: Vec<Step>,
    /// When it was stored.
    pub created_at: DateTime<Utc>,
    /// The channels, in order.
    pub channels: Vec<ChannelInfo>,
}

/// A channel without its samples.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChannelInfo {
    /// Tag of the signal.
    pub tag: String,
    /// What it is to the loop.
    pub role: Role,
    /// Unit of the values.
    pub unit: String,
}

impl Store {
    /// Keeps a record; returns its identifier.
    pub async fn add_record(&self, loop_id: Uuid, new: NewRecord<'_>) -> Result<Uuid> {
        let id = Uuid::now_v7();
        let mut transaction = self.pool.begin().await?;
        insert_record(&mut transaction, id, loop_id, new).await?;
        transaction.commit().await?;
        Ok(id)
    }

    /// The records of a loop, the newest first.
    pub async fn records(&self, loop_id: Uuid) -> Result<Vec<RecordInfo>> {
        Ok(self.newest_records(loop_id, Part { newest: i64::MAX, also: None }).await?.rows)
    }

    /// Part of the records of a loop, and besides those that models were fitted to; with how many there are in all.
    pub async fn newest_records(&self, loop_id: Uuid, part: Part) -> Result<Listed<RecordInfo>> {
        let all = sqlx::query_scalar!(
            r#"select count(*) as "count!" from record where loop_id = $1 and deletion_id is null"#,
            loop_id
        )
        .fetch_one(&self.pool)
        .await?;
        let ids = sqlx::query_scalar!(
            r#"select id as "id!" from record where loop_id = $1 and deletion_id is null and (id = $3 or exists (
                select from model where model.loop_id = $1 and model.deletion_id is null and model.record_id = record.id))
            union
            (select id from record where loop_id = $1 and deletion_id is null order by created_at desc, id desc limit $2)"#,
            loop_id,
            part.newest,
            part.also
        )
        .fetch_all(&self.pool)
        .await?;
        let mut rows = each_that_can_be_read(&ids, |ids| async move { self.record_infos(&ids).await }).await?;
        rows.sort_by_key(|row| std::cmp::Reverse((row.created_at, row.id)));
        Ok(Listed::of(&ids, rows, all))
    }

    /// One record, without its samples.
    pub async fn record_info(&self, id: Uuid) -> Result<RecordInfo> {
        found(self.record_infos(&[id]).await?.pop(), "record", id)
    }

    async fn record_infos(&self, ids: &[Uuid]) -> Result<Vec<RecordInfo>> {
        let rows = sqlx::query!(
            r#"select id, name, origin, started, sample_interval, duration, length, content_hash,
                notes as "notes: Json<Vec<String>>", remark, revision,
                preparation as "preparation: Json<Vec<Stored<Step>>>", created_at
            from record where id = any($1) and deletion_id is null order by created_at desc, id desc"#,
            ids
        )
        .fetch_all(&self.pool)
        .await?;
        let channels = sqlx::query!(
            "select record_id, tag, role, unit from channel where record_id = any($1) order by position",
            ids
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| RecordInfo {
                channels: channels
                    .iter()
                    .filter(|channel| channel.record_id == row.id)
                    .map(|channel| ChannelInfo {
                        tag: channel.tag.clone(),
                        role: role_of(&channel.role),
                        unit: channel.unit.clone(),
                    })
                    .collect(),
                id: row.id,
                name: row.name,
                origin: row.origin,
                started: row.started,
                sample_interval: row.sample_interval,
                duration: row.duration,
                length: row.length,
                content_hash: row.content_hash,
                notes: row.notes.0,
                remark: row.remark,
                revision: row.revision,
                preparation: row.preparation.0.into_iter().map(|step| step.0).collect(),
                created_at: row.created_at,
            })
            .collect())
    }

    /// Lays other steps over a record.
    pub async fn set_preparation(&self, id: Uuid, expected: Expected, steps: &[Step]) -> Result<()> {
        let done = sqlx::query!(
            "update record set preparation = $3, revision = revision + 1
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            Json(steps.iter().map(Written).collect::<Vec<_>>()) as _
        )
        .execute(&self.pool)
        .await?;
        self.was_current(done.rows_affected(), id).await
    }

    async fn was_current(&self, rows: u64, id: Uuid) -> Result<()> {
        if rows == 0 {
            self.record_info(id).await?;
            return Err(Error::Changed);
        }
        Ok(())
    }

    /// Renames and annotates a record, and puts right what its channels are; `content_hash` is that of the record with
    /// these channels.
    pub async fn set_record(
        &self,
        id: Uuid,
        expected: Expected,
        (name, remark): (&str, &str),
        channels: &[ChannelInfo],
        content_hash: &str,
    ) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let done = sqlx::query!(
            "update record set name = $3, remark = $4, content_hash = $5, revision = revision + 1
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            name,
            remark,
            content_hash
        )
        .execute(&mut *transaction)
        .await?;
        for (position, channel) in (0..).zip(channels) {
            sqlx::query!(
                "update channel set tag = $3, role = $4, unit = $5 where record_id = $1 and position = $2",
                id,
                position,
                channel.tag,
                role_name(channel.role),
                channel.unit
            )
            .execute(&mut *transaction)
            .await?;
        }
        if done.rows_affected() == 0 {
            transaction.rollback().await?;
            return self.was_current(0, id).await;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// Models that were fitted to a record speak of its channels by their new tags. Where nothing but tags changed, they
    /// are of the record as it stands: `same_data` is its content hash before and after.
    pub async fn rename_in_models(
        &self,
        id: Uuid,
        pairs: &[(String, String)],
        same_data: Option<(&str, &str)>,
    ) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let rows = sqlx::query!(
            "select id, record_hash, options, preparation, result, validation from model where record_id = $1 for update",
            id
        )
        .fetch_all(&mut *transaction)
        .await?;
        for mut row in rows {
            for document in [&mut row.options, &mut row.preparation, &mut row.result] {
                crate::tags::renamed(document, pairs);
            }
            if let Some(validation) = &mut row.validation {
                crate::tags::renamed(validation, pairs);
            }
            let hash = same_data
                .filter(|(before, _)| *before == row.record_hash)
                .map_or(row.record_hash, |(_, now)| now.to_owned());
            sqlx::query!(
                "update model set record_hash = $2, options = $3, preparation = $4, result = $5, validation = $6,
                    revision = revision + 1 where id = $1",
                row.id,
                hash,
                row.options,
                row.preparation,
                row.result,
                row.validation
            )
            .execute(&mut *transaction)
            .await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// The loop that a record belongs to.
    pub async fn loop_of_record(&self, id: Uuid) -> Result<Uuid> {
        let row = sqlx::query_scalar!("select loop_id from record where id = $1 and deletion_id is null", id)
            .fetch_optional(&self.pool)
            .await?;
        found(row, "record", id)
    }

    /// One record with all its samples.
    pub async fn record(&self, id: Uuid) -> Result<Record> {
        let info = self.record_info(id).await?;
        let length = usize::try_from(info.length).unwrap_or(0);
        let chunks =
            sqlx::query!("select position, samples from chunk where record_id = $1 order by position, sequence", id)
                .fetch_all(&self.pool)
                .await?;
        let series = |position: i32| -> Vec<f64> {
            let mut values = Vec::with_capacity(length);
            for chunk in chunks.iter().filter(|chunk| chunk.position == position) {
                let (doubles, _) = chunk.samples.as_chunks::<8>();
                values.extend(doubles.iter().map(|bytes| f64::from_le_bytes(*bytes)));
            }
            values
        };
        let axis = match info.sample_interval {
            Some(interval) => TimeAxis::uniform(interval, length)?,
            None => TimeAxis::Irregular(series(TIMES)),
        };
        let channels = (0..)
            .zip(info.channels)
            .map(|(position, channel)| Channel {
                tag: channel.tag,
                role: channel.role,
                unit: channel.unit,
                values: series(position),
            })
            .collect();
        Ok(Record::new(axis, channels)?)
    }
}

/// The extremes of the PV (or of the first channel) in order, few enough for a small trend.
fn thumbnail(record: &Record) -> Vec<Option<f64>> {
    let Some(channel) = record.channel(Role::Pv).or(record.channels.first()) else { return Vec::new() };
    let indices = extremes(&channel.values, 0..channel.values.len(), THUMBNAIL_BUCKETS);
    indices.into_iter().map(|k| Some(channel.values[k]).filter(|value| value.is_finite())).collect()
}

fn role_name(role: Role) -> &'static str {
    match role {
        Role::Pv => "pv",
        Role::Op => "op",
        Role::Sp => "sp",
        Role::Dv => "dv",
        Role::Other => "other",
    }
}

fn role_of(name: &str) -> Role {
    [Role::Pv, Role::Op, Role::Sp, Role::Dv].into_iter().find(|role| role_name(*role) == name).unwrap_or(Role::Other)
}

/// Puts a record with its samples into the tables.
pub(crate) async fn insert_record(
    transaction: &mut Transaction<'_, Postgres>,
    id: Uuid,
    loop_id: Uuid,
    new: NewRecord<'_>,
) -> Result<()> {
    let record = new.record;
    let sample_interval = match record.axis {
        TimeAxis::Uniform { interval, .. } => Some(interval),
        TimeAxis::Irregular(_) => None,
    };
    sqlx::query!(
            "insert into record (id, loop_id, name, origin, started, sample_interval, duration, length, content_hash, notes,
                thumbnail)
            values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)",
            id,
            loop_id,
            new.name,
            new.origin,
            new.started,
            sample_interval,
            record.axis.duration(),
            i32::try_from(record.axis.len()).unwrap_or(i32::MAX),
            record.content_hash(),
            Json(new.notes) as _,
            Json(thumbnail(record)) as _
        )
        .execute(&mut **transaction)
        .await?;
    let mut series: Vec<(i32, &[f64])> = Vec::new();
    if let TimeAxis::Irregular(times) = &record.axis {
        series.push((TIMES, times));
    }
    for (position, channel) in (0..).zip(&record.channels) {
        sqlx::query!(
            "insert into channel (record_id, position, tag, role, unit) values ($1, $2, $3, $4, $5)",
            id,
            position,
            channel.tag,
            role_name(channel.role),
            channel.unit
        )
        .execute(&mut **transaction)
        .await?;
        series.push((position, &channel.values));
    }
    for (position, values) in series {
        for (sequence, part) in (0..).zip(values.chunks(CHUNK)) {
            let bytes: Vec<u8> = part.iter().flat_map(|value| value.to_le_bytes()).collect();
            sqlx::query!(
                "insert into chunk (record_id, position, sequence, samples) values ($1, $2, $3, $4)",
                id,
                position,
                sequence,
                bytes
            )
            .execute(&mut **transaction)
            .await?;
        }
    }
    Ok(())
}
