//! The API under `/api/v1`.

mod analyses;
mod archives;
mod areas;
mod bin;
mod dossiers;
mod events;
mod experiments;
mod fits;
mod hand_over;
mod imports;
mod lists;
mod loops;
mod models;
mod physical;
mod plants;
mod predictive;
mod preparation;
mod proofs;
mod records;
mod robustness;
mod saved;
mod sweeps;
mod trials;
mod tunings;

pub(crate) use fits::FitOutcome;

use crate::contract;
use crate::problem::Problem;
use crate::state::AppState;
use axum::Json;
use axum::extract::State;
use serde::Serialize;
use utoipa::{OpenApi, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

#[derive(OpenApi)]
#[openapi(
    info(
        title = "Antistasis",
        description = "Identification, simulation and tuning of control loops. Time is in seconds, controller output in %. \
                   Errors are problem documents (RFC 9457).",
        license(name = "MIT OR Apache-2.0", identifier = "MIT OR Apache-2.0"),
    ),
    components(schemas(
        antistasis_store::SavedKind,
        antistasis_store::DeletionKind,
        proofs::ProofForm,
        dossiers::DossierForm
    ))
)]
struct Info;

/// All routes with their descriptions.
pub(crate) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::with_openapi(Info::openapi())
        .routes(routes!(health))
        .merge(areas::router())
        .merge(loops::router())
        .merge(bin::router())
        .merge(events::router())
        .merge(archives::router())
        .merge(records::router())
        .merge(imports::router())
        .merge(preparation::router())
        .merge(experiments::router())
        .merge(models::router())
        .merge(fits::router())
        .merge(analyses::router())
        .merge(physical::router())
        .merge(plants::router())
        .merge(predictive::router())
        .merge(trials::router())
        .merge(sweeps::router())
        .merge(robustness::router())
        .merge(tunings::router())
        .merge(proofs::router())
        .merge(dossiers::router())
        .merge(hand_over::router())
        .merge(saved::router())
}

/// The OpenAPI document of the API.
#[must_use]
pub fn openapi() -> serde_json::Value {
    contract::completed(serde_json::to_value(router().split_for_parts().1).unwrap_or_default())
}

/// Longest wait for the database until the answer is that it does not answer.
const HEALTH_TIME: std::time::Duration = std::time::Duration::from_secs(1);

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
    responses((status = 200, body = Health), (status = 503, body = Problem)))]
async fn health(State(state): State<AppState>) -> Result<Json<Health>, Problem> {
    let silent = |_| Problem::busy("The database does not answer; it is being started again.");
    tokio::time::timeout(HEALTH_TIME, state.store.check()).await.map_err(silent)??;
    Ok(Json(Health { status: "ok", version: env!("CARGO_PKG_VERSION") }))
}

/// A name as it is typed: trimmed, of one line, with at most so many characters.
fn name_of(field: &str, text: &str, most: usize) -> Result<String, Problem> {
    let name = text.trim();
    let words = field.replace(['.', '_'], " ");
    let characters = name.chars().count();
    if characters == 0 {
        return Err(Problem::invalid_field(field, format!("The {words} is empty: give 1 to {most} characters.")));
    }
    if characters > most {
        let detail = format!("The {words} has {characters} characters: at most {most} are allowed.");
        return Err(Problem::invalid_field(field, detail));
    }
    if name.chars().any(char::is_control) {
        return Err(Problem::invalid_field(field, format!("The {words} holds characters that cannot be printed.")));
    }
    Ok(name.to_owned())
}

/// Longest text that somebody writes about something.
const LONGEST_ANNOTATION: usize = 10_000;

/// Text of any number of lines about something.
fn annotation<'a>(field: &str, text: &'a str) -> Result<&'a str, Problem> {
    let text = text.trim();
    let characters = text.chars().count();
    if characters > LONGEST_ANNOTATION {
        let detail = format!("The text has {characters} characters: at most {LONGEST_ANNOTATION} are allowed.");
        return Err(Problem::invalid_field(field, detail));
    }
    if text.chars().any(|c| c.is_control() && c != '\n' && c != '\t' && c != '\r') {
        return Err(Problem::invalid_field(field, "The text holds characters that cannot be printed."));
    }
    Ok(text)
}
