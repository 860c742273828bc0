//! What was deleted, and what hangs on what is about to be.

use super::lists::{InPart, PartOfList};
use crate::problem::{Path, Problem, Query};
use crate::state::AppState;
use antistasis_store::{BinItem, DeletionKind, Hanging, Listed};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(what_hangs))
        .routes(routes!(list_bin))
        .routes(routes!(delete_for_good))
        .routes(routes!(restore))
}

/// What goes into the bin with something, and what stays and refers to it.
#[utoipa::path(get, path = "/api/v1/hanging/{kind}/{id}", tag = "bin",
    params(("kind" = DeletionKind, Path, description = "What it is"), ("id" = Uuid, Path, description = "Its identifier")),
    responses((status = 200, body = Hanging), (status = 404, body = Problem)))]
async fn what_hangs(
    State(state): State<AppState>,
    Path((kind, id)): Path<(DeletionKind, Uuid)>,
) -> Result<Json<Hanging>, Problem> {
    Ok(Json(state.store.hanging(kind, id).await?))
}

/// What was deleted in the last thirty days, the newest first. The header `X-Total-Count` tells how many deletions there are in all.
#[utoipa::path(get, path = "/api/v1/bin", tag = "bin", params(PartOfList),
    responses((status = 200, body = Vec<BinItem>, headers(("X-Total-Count" = i64, description = "Deletions in all"))),
        (status = 422, body = Problem)))]
async fn list_bin(State(state): State<AppState>, Query(part): Query<PartOfList>) -> Result<InPart<BinItem>, Problem> {
    let (rows, all) = state.store.bin(part.checked()?).await?;
    Ok(InPart::from(Listed { rows, all, unreadable: 0 }))
}

/// Takes a deletion out of the bin for good: it cannot be brought back.
#[utoipa::path(delete, path = "/api/v1/bin/{id}", tag = "bin",
    params(("id" = Uuid, Path, description = "Identifier of the deletion")),
    responses((status = 204), (status = 404, body = Problem)))]
async fn delete_for_good(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<StatusCode, Problem> {
    state.store.delete_for_good(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Brings back what went in one deletion. Refused (409) where its name is taken, or what it stands on is in the bin itself.
#[utoipa::path(post, path = "/api/v1/bin/{id}/restore", tag = "bin",
    params(("id" = Uuid, Path, description = "Identifier of the deletion")),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
async fn restore(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<StatusCode, Problem> {
    state.store.restore(id).await?;
    Ok(StatusCode::NO_CONTENT)
}
