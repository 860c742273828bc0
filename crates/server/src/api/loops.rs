//! Loops.

use crate::problem::{Body, Path, Problem};
use crate::state::AppState;
use antistasis_core::simulation::Signal;
use antistasis_store::{LoopDetail, LoopSummary};
use axum::Json;
use axum::extract::State;
use serde::Deserialize;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(list_loops)).routes(routes!(show_loop)).routes(routes!(set_signals))
}

/// All loops, by area.
#[utoipa::path(get, path = "/api/v1/loops", tag = "loops", responses((status = 200, body = Vec<LoopSummary>)))]
async fn list_loops(State(state): State<AppState>) -> Result<Json<Vec<LoopSummary>>, Problem> {
    Ok(Json(state.store.loops().await?))
}

/// One loop.
#[utoipa::path(get, path = "/api/v1/loops/{tag}", tag = "loops", params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = LoopDetail), (status = 404, body = Problem)))]
async fn show_loop(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Json<LoopDetail>, Problem> {
    Ok(Json(state.store.find_loop(&tag).await?))
}

/// The signals of a loop.
#[derive(Debug, Deserialize, ToSchema)]
struct Signals {
    /// Process variable.
    pv: Signal,
    /// Controller output.
    op: Signal,
}

/// Sets the tags, spans and units of a loop's signals.
#[utoipa::path(put, path = "/api/v1/loops/{tag}/signals", tag = "loops",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = Signals,
    responses((status = 200, body = LoopDetail), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn set_signals(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(signals): Body<Signals>,
) -> Result<Json<LoopDetail>, Problem> {
    signals.pv.span.validate("pv.span")?;
    signals.op.span.validate("op.span")?;
    state.store.set_signals(&tag, &signals.pv, &signals.op).await?;
    Ok(Json(state.store.find_loop(&tag).await?))
}
