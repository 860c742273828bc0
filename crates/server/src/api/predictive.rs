//! Predictive controllers: their model, and their law written out.

use crate::gate::compute;
use crate::problem::{Body, Problem};
use crate::state::AppState;
use antistasis_core::Error;
use antistasis_core::controller::PredictiveSettings;
use antistasis_core::controller::predictive::RegionMap;
use antistasis_core::simulation::Trial;
use antistasis_core::tuning::{with_equations, with_linear_model};
use axum::Json;
use serde::Deserialize;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(regions_of_law)).routes(routes!(model_of_controller))
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
}

/// The settings of a predictive controller with another model: the equations of its plant, or a linear model. Refused (422) where the process
/// of the plant is linear, or an MV is no OP of it.
#[utoipa::path(post, path = "/api/v1/predictive/model", tag = "control", request_body = ModelRequest,
    responses((status = 200, body = PredictiveSettings), (status = 422, body = Problem)))]
async fn model_of_controller(Body(request): Body<ModelRequest>) -> Result<Json<PredictiveSettings>, Problem> {
    let ModelRequest { trial, equations } = request;
    let with = move || {
        let settings = trial.candidate.predictive().ok_or_else(|| {
            Error::said("trial.candidate.controller.kind", "Only a predictive controller has a model to choose.")
        })?;
        match equations {
            true => with_equations(&trial.plant, settings),
            false => with_linear_model(&trial.plant, trial.scenario.scan, settings),
        }
    };
    Ok(Json(compute(with).await??))
}
