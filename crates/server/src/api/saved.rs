//! Plants and scenarios saved with a loop, to be used again.

use crate::problem::{Body, Path, Problem};
use crate::state::AppState;
use antistasis_core::simulation::{Plant, Scenario};
use antistasis_store::{Saved, SavedKind};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use serde::Serialize;
use serde::de::DeserializeOwned;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(list_plants))
        .routes(routes!(save_plant, forget_plant))
        .routes(routes!(list_scenarios))
        .routes(routes!(save_scenario, forget_scenario))
}

/// A plant saved with a loop.
#[derive(Debug, Serialize, ToSchema)]
struct SavedPlant {
    /// The name.
    name: String,
    /// The plant.
    plant: Plant,
    /// When it was saved.
    saved_at: DateTime<Utc>,
}

/// A scenario saved with a loop.
#[derive(Debug, Serialize, ToSchema)]
struct SavedScenario {
    /// The name.
    name: String,
    /// The scenario.
    scenario: Scenario,
    /// When it was saved.
    saved_at: DateTime<Utc>,
}

async fn list<T: DeserializeOwned>(state: &AppState, tag: &str, kind: SavedKind) -> Result<Vec<Saved<T>>, Problem> {
    let found = state.store.find_loop(tag).await?;
    Ok(state.store.saved(found.id, kind).await?)
}

async fn save<T: Serialize>(
    state: &AppState,
    (tag, name): (String, String),
    kind: SavedKind,
    spec: &T,
) -> Result<StatusCode, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let name = name.trim();
    if name.is_empty() || name.chars().count() > 80 {
        return Err(Problem::invalid(format!("name is “{name}”; allowed: 1 to 80 characters")));
    }
    state.store.save(found.id, kind, name, spec).await?;
    Ok(StatusCode::NO_CONTENT)
}

async fn forget(state: &AppState, (tag, name): (String, String), kind: SavedKind) -> Result<StatusCode, Problem> {
    let found = state.store.find_loop(&tag).await?;
    state.store.forget(found.id, kind, &name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// The plants saved with a loop, by name.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/plants", tag = "plants",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<SavedPlant>), (status = 404, body = Problem)))]
async fn list_plants(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Json<Vec<SavedPlant>>, Problem> {
    let all = list(&state, &tag, SavedKind::Plant).await?.into_iter();
    Ok(Json(all.map(|Saved { name, spec, saved_at }| SavedPlant { name, plant: spec, saved_at }).collect()))
}

/// Saves a plant with a loop, in place of one of that name.
#[utoipa::path(put, path = "/api/v1/loops/{tag}/plants/{name}", tag = "plants",
    params(("tag" = String, Path, description = "Tag of the loop"), ("name" = String, Path, description = "1 to 80 characters")),
    request_body = Plant,
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn save_plant(
    State(state): State<AppState>,
    Path(path): Path<(String, String)>,
    Body(plant): Body<Plant>,
) -> Result<StatusCode, Problem> {
    plant.start()?;
    save(&state, path, SavedKind::Plant, &plant).await
}

/// Forgets a saved plant; trials on it stay.
#[utoipa::path(delete, path = "/api/v1/loops/{tag}/plants/{name}", tag = "plants",
    params(("tag" = String, Path, description = "Tag of the loop"), ("name" = String, Path, description = "Its name")),
    responses((status = 204), (status = 404, body = Problem)))]
async fn forget_plant(
    State(state): State<AppState>,
    Path(path): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    forget(&state, path, SavedKind::Plant).await
}

/// The scenarios saved with a loop, by name.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/scenarios", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<SavedScenario>), (status = 404, body = Problem)))]
async fn list_scenarios(
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Json<Vec<SavedScenario>>, Problem> {
    let all = list(&state, &tag, SavedKind::Scenario).await?.into_iter();
    Ok(Json(all.map(|Saved { name, spec, saved_at }| SavedScenario { name, scenario: spec, saved_at }).collect()))
}

/// Saves a scenario with a loop, in place of one of that name.
#[utoipa::path(put, path = "/api/v1/loops/{tag}/scenarios/{name}", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop"), ("name" = String, Path, description = "1 to 80 characters")),
    request_body = Scenario,
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn save_scenario(
    State(state): State<AppState>,
    Path(path): Path<(String, String)>,
    Body(scenario): Body<Scenario>,
) -> Result<StatusCode, Problem> {
    save(&state, path, SavedKind::Scenario, &scenario).await
}

/// Forgets a saved scenario; trials under it stay.
#[utoipa::path(delete, path = "/api/v1/loops/{tag}/scenarios/{name}", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop"), ("name" = String, Path, description = "Its name")),
    responses((status = 204), (status = 404, body = Problem)))]
async fn forget_scenario(
    State(state): State<AppState>,
    Path(path): Path<(String, String)>,
) -> Result<StatusCode, Problem> {
    forget(&state, path, SavedKind::Scenario).await
}
