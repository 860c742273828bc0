//! Experiments: planned, and carried out on a simulated plant.

use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::state::AppState;
use antistasis_core::experiment::{ExperimentPlan, ExperimentSpec};
use antistasis_core::identification::{PhysicalOptions, Telling, telling_of_plan};
use antistasis_core::series::Record;
use antistasis_core::simulation::Trace;
use antistasis_store::{NewRecord, RecordInfo};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Deserialize;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(first_experiment))
        .routes(routes!(plan_experiment))
        .routes(routes!(telling_of_experiment))
        .routes(routes!(run_experiment))
}

/// What is known besides the loop.
#[derive(Debug, Deserialize, IntoParams)]
struct KnownNoise {
    /// Standard deviation of the PV's noise in the unit of the loop, where a record tells it.
    noise: Option<f64>,
}

/// An experiment to begin with: round numbers out of the spans, the chosen model, and the noise.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/experiments/first", tag = "experiments",
    params(("tag" = String, Path, description = "Tag of the loop"), KnownNoise),
    responses((status = 200, body = ExperimentSpec), (status = 404, body = Problem)))]
async fn first_experiment(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Query(known): Query<KnownNoise>,
) -> Result<Json<ExperimentSpec>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let models = state.store.models(found.id).await?;
    let chosen = models.iter().find(|row| row.chosen);
    let model = chosen.map(|row| &row.model);
    Ok(Json(ExperimentSpec::first(&found.pv.span, &found.op.span, model, known.noise)))
}

/// Plans an experiment: the OP sequence, the PV to be expected, and what a fit would know afterwards.
#[utoipa::path(post, path = "/api/v1/experiments/plan", tag = "experiments", request_body = ExperimentSpec,
    responses((status = 200, body = ExperimentPlan), (status = 422, body = Problem)))]
async fn plan_experiment(Body(spec): Body<ExperimentSpec>) -> Result<Json<ExperimentPlan>, Problem> {
    Ok(Json(compute(move || spec.plan()).await??))
}

/// An experiment, and the physical model that is to be fitted to what it gives.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct PlanTellingRequest {
    /// The plan.
    experiment: ExperimentSpec,
    /// The process with what is sought of it.
    physical: PhysicalOptions,
}

/// What an experiment would tell of the numbers of a physical model: the OP moves as planned, all else stands still, from rest.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/experiments/telling", tag = "experiments",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = PlanTellingRequest,
    responses((status = 200, body = Telling), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn telling_of_experiment(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<PlanTellingRequest>,
) -> Result<Json<Telling>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    compute(move || {
        let PlanTellingRequest { experiment, physical } = request;
        let plan = experiment.plan().map_err(|error| error.within("experiment.", ""))?;
        Ok(Json(telling_of_plan(&plan.times, (&found.op.tag, &plan.op), experiment.noise, &physical)?))
    })
    .await?
}

/// An experiment to be carried out.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct RunRequest {
    /// The plan.
    experiment: ExperimentSpec,
    /// Name of the record, 1 to 120 characters.
    name: String,
}

/// Carries an experiment out on the simulated plant behind a loop; what it records becomes a record.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/experiments", tag = "experiments",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = RunRequest,
    responses((status = 201, body = RecordInfo), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn run_experiment(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<RunRequest>,
) -> Result<(StatusCode, Json<RecordInfo>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let name = super::name_of("name", &request.name, 120)?;
    let plant = state.store.plant(&tag).await?.ok_or_else(|| {
        Problem::not_found(format!("no simulated plant stands behind {tag}: export the plan and run it on the plant"))
    })?;
    let spec = request.experiment;
    let record = compute(move || -> Result<Record, Problem> {
        let plan = spec.plan()?;
        let trial = plan.trial(&plant, spec.sample_time, spec.seed)?;
        let trace: Trace = trial.run()?;
        Ok(trace.as_record()?)
    })
    .await??;
    let new = NewRecord {
        name: &name,
        origin: "experiment on the simulated plant",
        started: None,
        notes: &[],
        record: &record,
    };
    let id = state.store.add_record(found.id, new).await?;
    Ok((StatusCode::CREATED, Json(state.store.record_info(id).await?)))
}
