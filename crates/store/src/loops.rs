//! Areas and loops.

use crate::{Result, Store, found};
use antistasis_core::simulation::{Plant, Signal};
use serde::{Deserialize, Serialize};
use sqlx::types::Json;
use utoipa::ToSchema;
use uuid::Uuid;

/// An area with its loops, to be made.
#[derive(Debug, Clone, Deserialize)]
pub struct AreaSeed {
    /// Name of the area.
    pub name: String,
    /// Its loops, in order.
    pub loops: Vec<LoopSeed>,
}

/// A loop to be made.
#[derive(Debug, Clone, Deserialize)]
pub struct LoopSeed {
    /// Tag of the loop, for example `TIC-204`.
    pub tag: String,
    /// What it is.
    pub name: String,
    /// What is hard about it.
    pub difficulty: String,
    /// Process variable.
    pub pv: Signal,
    /// Controller output.
    pub op: Signal,
}

/// A loop as the home screen shows it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LoopSummary {
    /// Area that it belongs to.
    pub area: String,
    /// Tag of the loop.
    pub tag: String,
    /// What it is.
    pub name: String,
    /// What is hard about it.
    pub difficulty: String,
    /// Process variable.
    pub pv: Signal,
    /// Number of records.
    pub records: i64,
    /// Length of the newest record in s.
    pub duration: Option<f64>,
    /// A few values of the PV of the newest record, in its unit; null where missing.
    pub thumbnail: Option<Vec<Option<f64>>>,
    /// Number of models.
    pub models: i64,
    /// Fit of the chosen model in %.
    pub fit_percent: Option<f64>,
    /// Number of trials.
    pub trials: i64,
}

/// A loop.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LoopDetail {
    /// Identifier.
    pub id: Uuid,
    /// Area that it belongs to.
    pub area: String,
    /// Tag of the loop.
    pub tag: String,
    /// What it is.
    pub name: String,
    /// What is hard about it.
    pub difficulty: String,
    /// Process variable.
    pub pv: Signal,
    /// Controller output.
    pub op: Signal,
    /// Whether a simulated plant stands behind it, on which experiments can be run.
    pub has_plant: bool,
}

impl Store {
    /// All loops, by area.
    pub async fn loops(&self) -> Result<Vec<LoopSummary>> {
        let rows = sqlx::query!(
            r#"select area.name as area, l.tag, l.name, l.difficulty, l.pv as "pv: Json<Signal>",
                (select count(*) from record where loop_id = l.id) as "records!",
                newest.duration as "duration?", newest.thumbnail as "thumbnail?: Json<Vec<Option<f64>>>",
                (select count(*) from model where loop_id = l.id) as "models!",
                (select (result -> 'estimation' ->> 'fit_simulated')::double precision from model where loop_id = l.id and chosen)
                    as fit_percent,
                (select count(*) from trial where loop_id = l.id) as "trials!"
            from control_loop l join area on area.id = l.area_id
            left join lateral (select duration, thumbnail from record where loop_id = l.id
                order by created_at desc, id desc limit 1) newest on true
            order by area.position, l.position"#
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| LoopSummary {
                area: row.area,
                tag: row.tag,
                name: row.name,
                difficulty: row.difficulty,
                pv: row.pv.0,
                records: row.records,
                duration: row.duration,
                thumbnail: row.thumbnail.map(|thumbnail| thumbnail.0),
                models: row.models,
                fit_percent: row.fit_percent,
                trials: row.trials,
            })
            .collect())
    }

    /// The loop with this tag.
    pub async fn find_loop(&self, tag: &str) -> Result<LoopDetail> {
        let row = sqlx::query!(
            r#"select l.id, area.name as area, l.tag, l.name, l.difficulty, l.pv as "pv: Json<Signal>",
                l.op as "op: Json<Signal>", l.plant is not null as "has_plant!"
            from control_loop l join area on area.id = l.area_id where l.tag = $1"#,
            tag
        )
        .fetch_optional(&self.pool)
        .await?;
        let row = found(row, "loop", tag)?;
        Ok(LoopDetail {
            id: row.id,
            area: row.area,
            tag: row.tag,
            name: row.name,
            difficulty: row.difficulty,
            pv: row.pv.0,
            op: row.op.0,
            has_plant: row.has_plant,
        })
    }

    /// The simulated plant behind a loop, where there is one.
    pub async fn plant(&self, tag: &str) -> Result<Option<Plant>> {
        let row = sqlx::query!(r#"select plant as "plant: Json<Plant>" from control_loop where tag = $1"#, tag)
            .fetch_optional(&self.pool)
            .await?;
        Ok(found(row, "loop", tag)?.plant.map(|plant| plant.0))
    }

    /// Puts a simulated plant behind a loop.
    pub async fn set_plant(&self, tag: &str, plant: &Plant) -> Result<()> {
        let done = sqlx::query!("update control_loop set plant = $2 where tag = $1", tag, Json(plant) as _)
            .execute(&self.pool)
            .await?;
        found((done.rows_affected() > 0).then_some(()), "loop", tag)
    }

    /// Sets the tags and spans of a loop's signals.
    pub async fn set_signals(&self, tag: &str, pv: &Signal, op: &Signal) -> Result<()> {
        let done =
            sqlx::query!("update control_loop set pv = $2, op = $3 where tag = $1", tag, Json(pv) as _, Json(op) as _)
                .execute(&self.pool)
                .await?;
        found((done.rows_affected() > 0).then_some(()), "loop", tag)
    }

    /// Makes areas and loops, in the given order; areas and tags must be new.
    pub async fn seed_areas(&self, areas: &[AreaSeed]) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        for (position, area) in (0..).zip(areas) {
            let area_id = Uuid::now_v7();
            sqlx::query!("insert into area (id, position, name) values ($1, $2, $3)", area_id, position, area.name)
                .execute(&mut *transaction)
                .await?;
            for (position, seed) in (0..).zip(&area.loops) {
                sqlx::query!(
                    "insert into control_loop (id, area_id, position, tag, name, difficulty, pv, op)
                    values ($1, $2, $3, $4, $5, $6, $7, $8)",
                    Uuid::now_v7(),
                    area_id,
                    position,
                    seed.tag,
                    seed.name,
                    seed.difficulty,
                    Json(&seed.pv) as _,
                    Json(&seed.op) as _
                )
                .execute(&mut *transaction)
                .await?;
            }
        }
        transaction.commit().await?;
        Ok(())
    }
}
