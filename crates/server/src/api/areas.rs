//! Areas.

use super::{annotation, name_of};
use crate::problem::{Body, Path, Problem};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_store::{AreaInfo, BinItem, DeletionKind, Error};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(list_areas, make_area)).routes(routes!(change_area, delete_area))
}

/// What an area is called.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct AreaCard {
    /// Its name, 1 to 80 characters, of its own.
    name: String,
    /// Notes of any length.
    #[serde(default)]
    notes: String,
}

/// All areas in order.
#[utoipa::path(get, path = "/api/v1/areas", tag = "works", responses((status = 200, body = Vec<AreaInfo>)))]
async fn list_areas(State(state): State<AppState>) -> Result<Json<Vec<AreaInfo>>, Problem> {
    Ok(Json(state.store.areas().await?))
}

/// Makes an area.
#[utoipa::path(post, path = "/api/v1/areas", tag = "works", request_body = AreaCard,
    responses((status = 201, body = AreaInfo), (status = 409, body = Problem), (status = 422, body = Problem)))]
async fn make_area(
    State(state): State<AppState>,
    Body(card): Body<AreaCard>,
) -> Result<(StatusCode, Revised<AreaInfo>), Problem> {
    let name = name_of("name", &card.name, 80)?;
    let id = state.store.add_area(&name, annotation("notes", &card.notes)?).await?;
    let area = state.store.area(id).await?;
    Ok((StatusCode::CREATED, Revised(area.revision, area)))
}

/// Renames and annotates an area.
#[utoipa::path(put, path = "/api/v1/areas/{id}", tag = "works",
    params(("id" = Uuid, Path, description = "Identifier of the area"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = AreaCard,
    responses((status = 200, body = AreaInfo), (status = 404, body = Problem), (status = 409, body = Problem),
        (status = 412, body = Problem), (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn change_area(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    IfMatch(expected): IfMatch,
    Body(card): Body<AreaCard>,
) -> Result<Revised<AreaInfo>, Problem> {
    let name = name_of("name", &card.name, 80)?;
    let done = state.store.set_area(id, expected, &name, annotation("notes", &card.notes)?).await;
    let area = state.store.area(id).await?;
    if let Err(Error::Changed) = done {
        return Err(Problem::changed(&format!("the area {}", area.name), expected, area.revision, &area));
    }
    done?;
    Ok(Revised(area.revision, area))
}

/// Puts an area into the bin, with its loops.
#[utoipa::path(delete, path = "/api/v1/areas/{id}", tag = "works",
    params(("id" = Uuid, Path, description = "Identifier of the area")),
    responses((status = 200, body = BinItem), (status = 404, body = Problem)))]
async fn delete_area(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<BinItem>, Problem> {
    Ok(Json(state.store.delete(DeletionKind::Area, id).await?))
}
