//! Plants, scenarios, candidates, proving sets and target controllers saved for the works, to be used again in any loop.

use super::lists::InPart;
use super::{annotation, name_of};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_store::{BinItem, DeletionKind, Error, SavedItem, SavedKind, SavedSpec, Unreadable};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(list_saved, save))
        .routes(routes!(list_unreadable_saved))
        .routes(routes!(change_saved, delete_saved))
}

#[derive(Debug, Deserialize, IntoParams)]
struct OfKind {
    /// `plant`, `scenario`, `candidate`, `proving_set` or `target`; all where left out.
    kind: Option<SavedKind>,
}

/// What is saved for the works, by name.
#[utoipa::path(get, path = "/api/v1/saved", tag = "works", params(OfKind),
    responses((status = 200, body = Vec<SavedItem>, headers(
            ("X-Total-Count" = i64, description = "How many there are in all"),
            ("X-Unreadable-Count" = i64, description = "How many of them this version cannot read"))),
        (status = 422, body = Problem)))]
async fn list_saved(
    State(state): State<AppState>,
    Query(OfKind { kind }): Query<OfKind>,
) -> Result<InPart<SavedItem>, Problem> {
    Ok(InPart::from(state.store.saved(kind).await?))
}

/// What is saved for the works and cannot be read by this version, as it is stored. It stays, and hides nothing else.
#[utoipa::path(get, path = "/api/v1/saved/unreadable", tag = "works", params(OfKind),
    responses((status = 200, body = Vec<Unreadable>), (status = 422, body = Problem)))]
async fn list_unreadable_saved(
    State(state): State<AppState>,
    Query(OfKind { kind }): Query<OfKind>,
) -> Result<Json<Vec<Unreadable>>, Problem> {
    Ok(Json(state.store.unreadable_saved(kind).await?))
}

/// Something to be saved.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct SaveRequest {
    /// The name, 1 to 80 characters, of its own among its kind.
    name: String,
    /// What there is to say about it.
    #[serde(default)]
    remark: String,
    /// Tag of the loop that it is made in.
    #[serde(default)]
    made_in: Option<String>,
    /// What is saved.
    content: SavedSpec,
}

/// Refuses what no trial could be made of.
fn check(spec: &SavedSpec) -> antistasis_core::Result<()> {
    match spec {
        SavedSpec::Plant(plant) => plant.start().map(drop),
        SavedSpec::Scenario(scenario) => scenario.validate_alone(),
        SavedSpec::Candidate(candidate) => candidate.controller.validate(),
        SavedSpec::ProvingSet(set) => set.validate(),
        SavedSpec::Target(target) => target.validate(),
    }
}

/// Saves a plant, a scenario, a candidate, a proving set or a target controller under a new name.
#[utoipa::path(post, path = "/api/v1/saved", tag = "works", request_body = SaveRequest,
    responses((status = 201, body = SavedItem), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
async fn save(
    State(state): State<AppState>,
    Body(request): Body<SaveRequest>,
) -> Result<(StatusCode, Revised<SavedItem>), Problem> {
    let name = name_of("name", &request.name, 80)?;
    let content = request.content;
    let content = compute(move || check(&content).map(|()| content)).await??;
    let loop_id = match request.made_in {
        Some(tag) => Some(state.store.find_loop(&tag).await?.id),
        None => None,
    };
    let id = state.store.save(&name, annotation("remark", &request.remark)?, loop_id, &content).await?;
    let item = state.store.saved_item(id).await?;
    Ok((StatusCode::CREATED, Revised(item.revision, item)))
}

/// A saved thing as it is to be.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct SavedChange {
    /// The name, 1 to 80 characters, of its own among its kind.
    name: String,
    /// What there is to say about it.
    #[serde(default)]
    remark: String,
    /// What takes the place of what is saved; null leaves it.
    #[serde(default)]
    content: Option<SavedSpec>,
}

/// Renames, annotates or replaces what is saved.
#[utoipa::path(put, path = "/api/v1/saved/{id}", tag = "works",
    params(("id" = Uuid, Path, description = "Its identifier"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = SavedChange,
    responses((status = 200, body = SavedItem), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn change_saved(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    IfMatch(expected): IfMatch,
    Body(change): Body<SavedChange>,
) -> Result<Revised<SavedItem>, Problem> {
    let name = name_of("name", &change.name, 80)?;
    let content = change.content;
    let content = compute(move || content.as_ref().map_or(Ok(()), check).map(|()| content)).await??;
    let texts = (name.as_str(), annotation("remark", &change.remark)?);
    let done = state.store.set_saved(id, expected, texts, content.as_ref()).await;
    if let Err(Error::Changed) = done {
        let item = state.store.saved_item(id).await?;
        return Err(Problem::changed(&format!("“{}”", item.name), expected, item.revision, &item));
    }
    done?;
    let item = state.store.saved_item(id).await?;
    Ok(Revised(item.revision, item))
}

/// Puts what is saved into the bin; trials with it stay as they are.
#[utoipa::path(delete, path = "/api/v1/saved/{id}", tag = "works",
    params(("id" = Uuid, Path, description = "Its identifier")),
    responses((status = 200, body = BinItem), (status = 404, body = Problem)))]
async fn delete_saved(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<BinItem>, Problem> {
    Ok(Json(state.store.delete(DeletionKind::Saved, id).await?))
}
