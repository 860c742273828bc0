//! The API under `/api/v1`.

mod analyses;
mod experiments;
mod imports;
mod loops;
mod models;
mod plants;
mod preparation;
mod records;
mod robustness;
mod saved;
mod sweeps;
mod trials;
mod tunings;

use crate::problem::Problem;
use crate::state::AppState;
use axum::Json;
use axum::extract::State;
use serde::Serialize;
use utoipa::openapi::OpenApi as Document;
use utoipa::{OpenApi, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(info(
    title = "Antistasis",
    description = "Identification, simulation and tuning of control loops. Time is in seconds, controller output in %. \
                   Errors are problem documents (RFC 9457).",
    license(name = "MIT OR Apache-2.0", identifier = "MIT OR Apache-2.0"),
))]
struct Info;

/// All routes with their descriptions.
pub(crate) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::with_openapi(Info::openapi())
        .routes(routes!(health))
        .merge(loops::router())
        .merge(records::router())
        .merge(imports::router())
        .merge(preparation::router())
        .merge(experiments::router())
        .merge(models::router())
        .merge(analyses::router())
        .merge(plants::router())
        .merge(trials::router())
        .merge(sweeps::router())
        .merge(robustness::router())
        .merge(tunings::router())
        .merge(saved::router())
}

/// The OpenAPI document of the API.
#[must_use]
pub fn openapi() -> Document {
    router().split_for_parts().1
}

/// How the server is.
#[derive(Debug, Serialize, ToSchema)]
struct Health {
    /// `ok`, or the request fails.
    status: &'static str,
    /// Version of the application.
    version: &'static str,
}

/// Whether the server and its database answer.
#[utoipa::path(get, path = "/api/v1/health", tag = "server",
    responses((status = 200, body = Health), (status = 500, body = Problem)))]
async fn health(State(state): State<AppState>) -> Result<Json<Health>, Problem> {
    state.store.check().await?;
    Ok(Json(Health { status: "ok", version: env!("CARGO_PKG_VERSION") }))
}
