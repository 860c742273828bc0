//! Areas and loops.

use crate::{Error, Expected, Listed, Part, Result, Store, found, taken};
use antistasis_core::document::{Stored, Written};
use antistasis_core::simulation::{Plant, Signal};
use chrono::{DateTime, Utc};
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

/// A loop to be made in an area.
#[derive(Debug)]
pub struct NewLoop<'a> {
    /// Its area.
    pub area_id: Uuid,
    /// What it is called and controls.
    pub card: &'a LoopCard,
    /// A simulated plant behind it.
    pub plant: Option<&'a Plant>,
    /// Whether the span of the PV was guessed from data.
    pub span_is_guess: bool,
}

/// What a loop is called and what it controls: all that is edited in one place.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LoopCard {
    /// Tag of the loop, for example `TIC-204`.
    pub tag: String,
    /// What it is.
    #[serde(default)]
    pub name: String,
    /// What is hard about it, in a line.
    #[serde(default)]
    pub difficulty: String,
    /// Notes of any length.
    #[serde(default)]
    pub notes: String,
    /// Process variable.
    pub pv: Signal,
    /// Controller output.
    pub op: Signal,
}

/// An area.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct AreaInfo {
    /// Identifier.
    pub id: Uuid,
    /// Its name.
    pub name: String,
    /// Notes of any length.
    pub notes: String,
    /// Rises with each change.
    pub revision: i64,
    /// Number of its loops.
    pub loops: i64,
}

/// A loop as the home screen shows it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LoopSummary {
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
    /// Number of records.
    pub records: i64,
    /// Length of the newest record in s.
    pub duration: Option<f64>,
    /// A few values of the PV of the newest record, in its unit; null where missing.
    pub thumbnail: Option<Vec<Option<f64>>>,
    /// Number of models.
    pub models: i64,
    /// Whether one of the models is the chosen one; else the model told here is the newest.
    pub has_chosen_model: bool,
    /// Structure of that model, as in its document: `fopdt` and so on.
    pub model_structure: Option<serde_json::Value>,
    /// Its fit in %: on data that it has not seen, where it was held against any.
    pub fit_percent: Option<f64>,
    /// Whether the fit is that on new data.
    pub fit_is_on_new_data: bool,
    /// Number of trials.
    pub trials: i64,
    /// When anything in it was last made or changed by keeping.
    pub changed_at: DateTime<Utc>,
}

/// In which order loops are listed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum LoopOrder {
    /// By area, then as they stand in it.
    #[default]
    Area,
    /// By tag.
    Tag,
    /// The last changed first.
    Changed,
    /// The worst fit of a model first; loops without a model last.
    Fit,
}

impl LoopOrder {
    fn name(self) -> &'static str {
        match self {
            Self::Area => "area",
            Self::Tag => "tag",
            Self::Changed => "changed",
            Self::Fit => "fit",
        }
    }
}

/// Which loops are wanted.
#[derive(Debug, Clone)]
pub struct LoopsAsked {
    /// Words that must all stand in tag, name, area or difficulty; in any case.
    pub words: String,
    /// In which order.
    pub order: LoopOrder,
    /// The first so many of them, and one besides.
    pub part: Part,
}

impl Default for LoopsAsked {
    fn default() -> Self {
        Self { words: String::new(), order: LoopOrder::Area, part: Part { newest: 100, also: None } }
    }
}

/// A loop.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct LoopDetail {
    /// Identifier.
    pub id: Uuid,
    /// Area that it belongs to.
    pub area: String,
    /// Identifier of the area.
    pub area_id: Uuid,
    /// Tag of the loop.
    pub tag: String,
    /// What it is.
    pub name: String,
    /// What is hard about it.
    pub difficulty: String,
    /// Notes of any length.
    pub notes: String,
    /// Process variable.
    pub pv: Signal,
    /// Controller output.
    pub op: Signal,
    /// Whether the span of the PV was guessed from data and nobody has set it yet.
    pub span_is_guess: bool,
    /// Whether a simulated plant stands behind it, on which experiments can be run.
    pub has_plant: bool,
    /// Rises with each change.
    pub revision: i64,
}

impl LoopDetail {
    /// What can be edited of it.
    #[must_use]
    pub fn card(&self) -> LoopCard {
        LoopCard {
            tag: self.tag.clone(),
            name: self.name.clone(),
            difficulty: self.difficulty.clone(),
            notes: self.notes.clone(),
            pv: self.pv.clone(),
            op: self.op.clone(),
        }
    }
}

struct LoopRow {
    id: Uuid,
    area: String,
    area_id: Uuid,
    tag: String,
    name: String,
    difficulty: String,
    notes: String,
    pv: Json<Signal>,
    op: Json<Signal>,
    span_is_guess: bool,
    has_plant: bool,
    revision: i64,
}

impl From<LoopRow> for LoopDetail {
    fn from(row: LoopRow) -> Self {
        Self {
            id: row.id,
            area: row.area,
            area_id: row.area_id,
            tag: row.tag,
            name: row.name,
            difficulty: row.difficulty,
            notes: row.notes,
            pv: row.pv.0,
            op: row.op.0,
            span_is_guess: row.span_is_guess,
            has_plant: row.has_plant,
            revision: row.revision,
        }
    }
}

impl Store {
    /// All areas in order, empty ones too.
    pub async fn areas(&self) -> Result<Vec<AreaInfo>> {
        Ok(sqlx::query_as!(
            AreaInfo,
            r#"select id, name, notes, revision,
                (select count(*) from control_loop where area_id = area.id and deletion_id is null) as "loops!"
            from area where deletion_id is null order by position, name"#
        )
        .fetch_all(&self.pool)
        .await?)
    }

    /// One area.
    pub async fn area(&self, id: Uuid) -> Result<AreaInfo> {
        found(self.areas().await?.into_iter().find(|area| area.id == id), "area", id)
    }

    /// Makes an area, after those that are there; its name must be new.
    pub async fn add_area(&self, name: &str, notes: &str) -> Result<Uuid> {
        let id = Uuid::now_v7();
        sqlx::query!(
            "insert into area (id, position, name, notes)
            values ($1, (select coalesce(max(position), -1) + 1 from area), $2, $3)",
            id,
            name,
            notes
        )
        .execute(&self.pool)
        .await
        .map_err(|error| taken(error, "area", name))?;
        Ok(id)
    }

    /// Renames and annotates an area.
    pub async fn set_area(&self, id: Uuid, expected: Expected, name: &str, notes: &str) -> Result<()> {
        let done = sqlx::query!(
            "update area set name = $3, notes = $4, revision = revision + 1
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            name,
            notes
        )
        .execute(&self.pool)
        .await
        .map_err(|error| taken(error, "area", name))?;
        if done.rows_affected() == 0 {
            self.area(id).await?;
            return Err(Error::Changed);
        }
        Ok(())
    }

    /// The first loops in an order, with those that are asked for wherever they stand, and how many there are in all.
    pub async fn loops(&self, asked: &LoopsAsked) -> Result<Listed<LoopSummary>> {
        let words: Vec<String> = asked.words.to_lowercase().split_whitespace().map(str::to_owned).collect();
        let rows = sqlx::query!(
            r#"select id as "id!", area as "area!", tag as "tag!", name as "name!", difficulty as "difficulty!",
                pv as "pv!: Json<Signal>", records as "records!", duration, thumbnail as "thumbnail: Json<Vec<Option<f64>>>",
                models as "models!", chosen, structure, fit_percent, fit_is_on_new_data as "fit_is_on_new_data!",
                trials as "trials!", changed_at as "changed_at!", "all" as "all!"
            from (select *, count(*) over () as "all", row_number() over (order by
                    case when $2 = 'area' then area_position end, case when $2 = 'area' then area end,
                    case when $2 = 'area' then position end, case when $2 = 'changed' then changed_at end desc,
                    case when $2 = 'fit' then fit_percent end, tag) as place
                from loop_summary where not exists (select from unnest($1::text[]) word
                    where position(word in lower(concat_ws(' ', tag, name, area, difficulty))) = 0)) placed
            where place <= $3 or id = $4
            order by place"#,
            &words,
            asked.order.name(),
            asked.part.newest,
            asked.part.also
        )
        .fetch_all(&self.pool)
        .await?;
        let all = rows.first().map_or(0, |row| row.all);
        let rows = rows
            .into_iter()
            .map(|row| LoopSummary {
                id: row.id,
                area: row.area,
                tag: row.tag,
                name: row.name,
                difficulty: row.difficulty,
                pv: row.pv.0,
                records: row.records,
                duration: row.duration,
                thumbnail: row.thumbnail.map(|thumbnail| thumbnail.0),
                models: row.models,
                has_chosen_model: row.chosen.unwrap_or(false),
                model_structure: row.structure,
                fit_percent: row.fit_percent,
                fit_is_on_new_data: row.fit_is_on_new_data,
                trials: row.trials,
                changed_at: row.changed_at,
            })
            .collect();
        Ok(Listed { rows, all, unreadable: 0 })
    }

    /// Tags of all loops of an area, in their order.
    pub async fn tags_of_area(&self, area: Uuid) -> Result<Vec<String>> {
        Ok(sqlx::query_scalar!(
            "select tag from control_loop where area_id = $1 and deletion_id is null order by position, tag",
            area
        )
        .fetch_all(&self.pool)
        .await?)
    }

    /// The loop with this tag.
    pub async fn find_loop(&self, tag: &str) -> Result<LoopDetail> {
        let row = self.loop_row(Some(tag), None).await?;
        found(row, "loop", tag)
    }

    /// The loop with this identifier.
    pub async fn loop_by_id(&self, id: Uuid) -> Result<LoopDetail> {
        let row = self.loop_row(None, Some(id)).await?;
        found(row, "loop", id)
    }

    async fn loop_row(&self, tag: Option<&str>, id: Option<Uuid>) -> Result<Option<LoopDetail>> {
        let row = sqlx::query_as!(
            LoopRow,
            r#"select l.id, area.name as area, l.area_id, l.tag, l.name, l.difficulty, l.notes, l.pv as "pv: Json<Signal>",
                l.op as "op: Json<Signal>", l.span_is_guess, l.plant is not null as "has_plant!", l.revision
            from control_loop l join area on area.id = l.area_id
            where l.deletion_id is null and l.tag = coalesce($1, l.tag) and l.id = coalesce($2, l.id)"#,
            tag,
            id
        )
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(LoopDetail::from))
    }

    /// Makes a loop at the end of its area; its tag must be new.
    pub async fn add_loop(&self, new: NewLoop<'_>) -> Result<Uuid> {
        let id = Uuid::now_v7();
        let card = new.card;
        sqlx::query!(
            "insert into control_loop (id, area_id, position, tag, name, difficulty, notes, pv, op, plant, span_is_guess)
            values ($1, $2, (select coalesce(max(position), -1) + 1 from control_loop where area_id = $2), $3, $4, $5, $6,
                $7, $8, $9, $10)",
            id,
            new.area_id,
            card.tag,
            card.name,
            card.difficulty,
            card.notes,
            Json(&card.pv) as _,
            Json(&card.op) as _,
            new.plant.map(|plant| Json(Written(plant))) as _,
            new.span_is_guess
        )
        .execute(&self.pool)
        .await
        .map_err(|error| taken(error, "loop", &card.tag))?;
        Ok(id)
    }

    /// Changes what a loop is called and controls, and moves it to an area.
    pub async fn set_loop(&self, id: Uuid, expected: Expected, card: &LoopCard, area_id: Uuid) -> Result<()> {
        let done = sqlx::query!(
            "update control_loop set tag = $3, name = $4, difficulty = $5, notes = $6,
                span_is_guess = span_is_guess and pv = $7, pv = $7, op = $8, area_id = $9, revision = revision + 1
            where id = $1 and deletion_id is null and revision = coalesce($2, revision)",
            id,
            expected.revision(),
            card.tag,
            card.name,
            card.difficulty,
            card.notes,
            Json(&card.pv) as _,
            Json(&card.op) as _,
            area_id
        )
        .execute(&self.pool)
        .await
        .map_err(|error| taken(error, "loop", &card.tag))?;
        if done.rows_affected() == 0 {
            self.loop_by_id(id).await?;
            return Err(Error::Changed);
        }
        Ok(())
    }

    /// Sets the PV of a loop whose span nobody has set yet; it stays a guess.
    pub async fn suggest_span(&self, id: Uuid, pv: &Signal) -> Result<()> {
        sqlx::query!(
            "update control_loop set pv = $2, revision = revision + 1 where id = $1 and span_is_guess",
            id,
            Json(pv) as _
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The simulated plant behind a loop, where there is one.
    pub async fn plant(&self, tag: &str) -> Result<Option<Plant>> {
        let row = sqlx::query!(
            r#"select plant as "plant: Json<Stored<Plant>>" from control_loop where tag = $1 and deletion_id is null"#,
            tag
        )
        .fetch_optional(&self.pool)
        .await?;
        Ok(found(row, "loop", tag)?.plant.map(|plant| plant.0.0))
    }

    /// Puts a simulated plant behind a loop, or takes it away.
    pub async fn set_plant(&self, tag: &str, plant: Option<&Plant>) -> Result<()> {
        let done = sqlx::query!(
            "update control_loop set plant = $2, revision = revision + 1 where tag = $1 and deletion_id is null",
            tag,
            plant.map(|plant| Json(Written(plant))) as _
        )
        .execute(&self.pool)
        .await?;
        found((done.rows_affected() > 0).then_some(()), "loop", tag)
    }

    /// Makes areas and loops, in the given order; areas and tags must be new.
    pub async fn seed_areas(&self, areas: &[AreaSeed]) -> Result<()> {
        for area in areas {
            let known = self.areas().await?.into_iter().find(|known| known.name == area.name);
            let area_id = match known {
                Some(known) => known.id,
                None => self.add_area(&area.name, "").await?,
            };
            for seed in area.loops.iter().cloned() {
                match self.find_loop(&seed.tag).await {
                    Err(Error::NotFound { .. }) => {}
                    other => {
                        other?;
                        continue;
                    }
                }
                let LoopSeed { tag, name, difficulty, pv, op } = seed;
                let card = LoopCard { tag, name, difficulty, notes: String::new(), pv, op };
                self.add_loop(NewLoop { area_id, card: &card, plant: None, span_is_guess: false }).await?;
            }
        }
        Ok(())
    }
}
