//! What is handed over: controllers as text.

use crate::gate::compute;
use crate::problem::{Body, Problem};
use crate::state::AppState;
use antistasis_core::simulation::Trial;
use antistasis_exchange::structured_text::{ControllersAsText, trial_as_text};
use axum::Json;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(structured_text))
}

/// The PID controllers of a trial as function blocks in Structured Text (IEC 61131-3), with how they are wired.
#[utoipa::path(post, path = "/api/v1/hand-over/structured-text", tag = "hand over", request_body = Trial,
    responses((status = 200, body = ControllersAsText), (status = 422, body = Problem)))]
async fn structured_text(Body(trial): Body<Trial>) -> Result<Json<ControllersAsText>, Problem> {
    Ok(Json(compute(move || trial_as_text(&trial)).await??))
}
