//! Predictive controllers: their model, and their law written out.

use crate::gate::compute;
use crate::problem::{Body, Problem};
use crate::state::AppState;
use antistasis_core::Error;
use antistasis_core::controller::PredictiveSettings;
use antistasis_core::controller::predictive::{PlannedOver, RegionMap};
use antistasis_core::simulation::Trial;
use antistasis_core::tuning::{with_equations, with_estimated, with_learning, with_linear_model};
use axum::Json;
use serde::Deserialize;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(regions_of_law))
        .routes(routes!(model_of_controller))
        .routes(routes!(moves_of_controller))
        .routes(routes!(learning_of_controller))
        .routes(routes!(responses_of_model))
}

/// Over which parameters the regions of a law are drawn.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct RegionsRequest {
    /// The trial.
    trial: Trial,
    /// The parameter to the right and the one upwards, by their places among those that can be chosen: set points first, then MVs as they
    /// stand, then disturbances. All others are at rest.
    #[serde(default = "first_two")]
    #[schema(minimum = 0)]
    over: [usize; 2],
}

fn first_two() -> [usize; 2] {
    [0, 1]
}

/// The regions of the law of a predictive controller, written out over two of its parameters. Refused (422) where limits can give way, where
/// something is known beforehand, and where there are too many regions.
#[utoipa::path(post, path = "/api/v1/predictive/regions", tag = "control", request_body = RegionsRequest,
    responses((status = 200, body = RegionMap), (status = 422, body = Problem)))]
async fn regions_of_law(Body(request): Body<RegionsRequest>) -> Result<Json<RegionMap>, Problem> {
    Ok(Json(compute(move || request.trial.written_out()?.map(request.over)).await??))
}

/// Which model a predictive controller is to have.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ModelRequest {
    /// The trial, with a predictive controller.
    trial: Trial,
    /// Whether it plans with the equations of the plant, or with a linear model about where the plant rests.
    equations: bool,
    /// An output of the process that nothing measures, to be one more CV: it is estimated, and can be given limits.
    #[serde(default)]
    estimated: Option<String>,
}

/// The settings of a predictive controller with another model: the equations of its plant, or a linear model; with one more CV that nothing
/// measures, where that is asked for. Refused (422) where the process of the plant is linear, an MV is no OP of it, or it has no such output.
#[utoipa::path(post, path = "/api/v1/predictive/model", tag = "control", request_body = ModelRequest,
    responses((status = 200, body = PredictiveSettings), (status = 422, body = Problem)))]
async fn model_of_controller(Body(request): Body<ModelRequest>) -> Result<Json<PredictiveSettings>, Problem> {
    let ModelRequest { trial, equations, estimated } = request;
    let with = move || {
        let settings = settings_of(&trial, "trial.")?;
        let (plant, scan) = (&trial.plant, trial.scenario.scan);
        match (&estimated, equations) {
            (Some(output), equations) => with_estimated(plant, scan, settings, equations, output),
            (None, true) => with_equations(plant, settings),
            (None, false) => with_linear_model(plant, scan, settings),
        }
    };
    Ok(Json(compute(with).await??))
}

/// The settings of the predictive controller of a trial, which stands at this place of a request.
fn settings_of<'a>(trial: &'a Trial, place: &str) -> Result<&'a PredictiveSettings, Error> {
    let none = || {
        let field = format!("{place}candidate.controller.kind");
        Error::said(field, "Only a predictive controller plans ahead with a model.")
    };
    trial.candidate.predictive().ok_or_else(none)
}

/// Where the moves of a predictive controller are to lie.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct MovesRequest {
    /// The trial, with a predictive controller.
    trial: Trial,
    /// About when the last move is made, s: they double in length until then. Null for moves of about one length over the whole horizon,
    /// which meet what is known to come wherever it comes.
    #[schema(minimum = 0)]
    until: Option<f64>,
}

/// The settings of a predictive controller with other moves. Refused (422) where they would reach beyond the horizon.
#[utoipa::path(post, path = "/api/v1/predictive/moves", tag = "control", request_body = MovesRequest,
    responses((status = 200, body = PredictiveSettings), (status = 422, body = Problem)))]
async fn moves_of_controller(Body(request): Body<MovesRequest>) -> Result<Json<PredictiveSettings>, Problem> {
    let MovesRequest { trial, until } = request;
    let (settings, scan) = (settings_of(&trial, "trial.")?, trial.scenario.scan);
    Ok(Json(match until {
        Some(until) => settings.with_moves_until(until, scan)?,
        None => settings.with_even_moves(scan)?,
    }))
}

/// The settings of a predictive controller that learns how strongly its MVs act, with moves to learn by that suit its model. Refused (422) with a
/// model that is not linear.
#[utoipa::path(post, path = "/api/v1/predictive/learning", tag = "control", request_body = Trial,
    responses((status = 200, body = PredictiveSettings), (status = 422, body = Problem)))]
async fn learning_of_controller(Body(trial): Body<Trial>) -> Result<Json<PredictiveSettings>, Problem> {
    let with = move || with_learning(&trial.plant, trial.scenario.scan, settings_of(&trial, "")?);
    Ok(Json(compute(with).await??))
}

/// What the model of a predictive controller does after a move of each MV by 1 %, and how far the controller looks and plans over that.
#[utoipa::path(post, path = "/api/v1/predictive/responses", tag = "control", request_body = Trial,
    responses((status = 200, body = PlannedOver), (status = 422, body = Problem)))]
async fn responses_of_model(Body(trial): Body<Trial>) -> Result<Json<PlannedOver>, Problem> {
    Ok(Json(compute(move || trial.planned_over()).await??))
}
