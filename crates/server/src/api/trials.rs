//! Tuning, simulation, and the trail of trials.

use crate::problem::{Body, Path, Problem, Query};
use crate::state::{AppState, compute};
use antistasis_core::assessment::{Assessment, assess};
use antistasis_core::process::ProcessSpec;
use antistasis_core::simulation::{Trace, Trial};
use antistasis_core::tuning::{SimcChoice, Tuning, first_trial, simc, simc_choice_of};
use antistasis_core::units::Span;
use antistasis_store::{NewTrial, TrialRow};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

/// Rows of a trace that are sent for drawing when nothing else is asked.
const DRAWN_ROWS: usize = 4000;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(tune))
        .routes(routes!(propose))
        .routes(routes!(simulate))
        .routes(routes!(list_trials))
        .routes(routes!(keep_trial))
        .routes(routes!(trial_trace))
        .routes(routes!(pin_trial))
}

/// A process to be tuned for.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct TuneRequest {
    /// The process.
    process: ProcessSpec,
    /// Span of the PV: gains are in % of it.
    pv_span: Span,
    /// What SIMC leaves to the engineer.
    choice: SimcChoice,
}

/// SIMC PI settings for a process.
#[utoipa::path(post, path = "/api/v1/tune", tag = "control", request_body = TuneRequest,
    responses((status = 200, body = Tuning), (status = 422, body = Problem)))]
async fn tune(Body(request): Body<TuneRequest>) -> Result<Json<Tuning>, Problem> {
    Ok(Json(simc(&request.process, &request.pv_span, &request.choice)?))
}

/// The model to begin with.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ProposeRequest {
    /// The model; null for the chosen one.
    model_id: Option<Uuid>,
    /// What SIMC leaves to the engineer.
    choice: SimcChoice,
}

/// A trial to begin with.
#[derive(Debug, Serialize, ToSchema)]
struct Proposal {
    /// The model that it stands on.
    model_id: Uuid,
    /// The trial: the model as the process, SIMC settings, a set point step and a load.
    trial: Trial,
    /// Where the settings come from.
    tuning: Tuning,
}

/// A trial to begin with: the model as the process, SIMC settings, and the standard scenario.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/propose", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = ProposeRequest,
    responses((status = 200, body = Proposal), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn propose(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<ProposeRequest>,
) -> Result<Json<Proposal>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let model = match request.model_id {
        Some(id) => state.store.model(id).await?,
        None => state
            .store
            .models(found.id)
            .await?
            .into_iter()
            .find(|model| model.chosen)
            .ok_or_else(|| Problem::not_found(format!("{tag} has no model yet: fit one first")))?,
    };
    let (trial, tuning) = first_trial(&model.model, &found.pv, &found.op, &request.choice)?;
    Ok(Json(Proposal { model_id: model.id, trial, tuning }))
}

/// What came out of a trial.
#[derive(Debug, Serialize, ToSchema)]
struct TrialResult {
    /// The course, thinned for drawing.
    trace: Trace,
    /// Metrics of the whole course, margins, verdicts.
    assessment: Assessment,
    /// The closed-loop time constant in s for which SIMC gives these settings; null when they are others.
    simc_time_constant: Option<f64>,
    /// SHA-256 of the trial: the same digest, the same trace.
    digest: String,
}

#[derive(Debug, Deserialize, IntoParams)]
struct Drawing {
    /// Most rows of the trace to send; 10 to 100000.
    rows: Option<usize>,
}

impl Drawing {
    fn rows(&self) -> Result<usize, Problem> {
        let rows = self.rows.unwrap_or(DRAWN_ROWS);
        if (10..=100_000).contains(&rows) {
            Ok(rows)
        } else {
            Err(Problem::invalid(format!("rows is {rows}; allowed: 10 to 100000")))
        }
    }
}

async fn run(trial: Trial, rows: usize) -> Result<TrialResult, Problem> {
    compute(move || {
        let trace = trial.run()?;
        let assessment = assess(&trial, &trace)?;
        let settings = trial.candidate.controller.pid();
        let simc_time_constant =
            settings.and_then(|settings| simc_choice_of(&trial.plant.process, &trial.plant.pv.span, settings));
        Ok(TrialResult { trace: trace.thinned(rows), assessment, simc_time_constant, digest: trial.digest() })
    })
    .await?
}

/// Runs a trial without keeping it.
#[utoipa::path(post, path = "/api/v1/simulate", tag = "control", params(Drawing), request_body = Trial,
    responses((status = 200, body = TrialResult), (status = 422, body = Problem)))]
async fn simulate(Query(drawing): Query<Drawing>, Body(trial): Body<Trial>) -> Result<Json<TrialResult>, Problem> {
    Ok(Json(run(trial, drawing.rows()?).await?))
}

/// The trail of a loop, the newest first.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/trials", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<TrialRow>), (status = 404, body = Problem)))]
async fn list_trials(State(state): State<AppState>, Path(tag): Path<String>) -> Result<Json<Vec<TrialRow>>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    Ok(Json(state.store.trials(found.id).await?))
}

/// A trial for the trail.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct KeepRequest {
    /// The trial.
    trial: Trial,
    /// The model that its process came from.
    model_id: Option<Uuid>,
    /// The trial that it was changed from: the difference becomes its name.
    changed_from: Option<Uuid>,
    /// A name of its own, up to 120 characters; it goes before the difference.
    label: Option<String>,
}

/// Runs a trial and keeps it at the end of the trail. One that is there already is not kept twice.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/trials", tag = "control",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = KeepRequest,
    responses((status = 201, body = TrialRow), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn keep_trial(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<KeepRequest>,
) -> Result<(StatusCode, Json<TrialRow>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let label = match (request.label.map(|label| label.trim().to_owned()), request.changed_from) {
        (Some(label), _) if label.chars().count() > 120 => {
            return Err(Problem::invalid("label is longer than 120 characters"));
        }
        (Some(label), _) if !label.is_empty() => label,
        (_, Some(before)) => {
            let before = state.store.trial(before).await?;
            let changes = request.trial.difference(&before.trial);
            if changes.is_empty() { "as before".to_owned() } else { changes.join(", ") }
        }
        _ => "first".to_owned(),
    };
    let result = run(request.trial.clone(), DRAWN_ROWS).await?;
    let new =
        NewTrial { model_id: request.model_id, label: &label, trial: &request.trial, assessment: &result.assessment };
    let id = state.store.add_trial(found.id, new).await?;
    Ok((StatusCode::CREATED, Json(state.store.trial(id).await?)))
}

/// Runs a trial of the trail again: the same trial gives the same trace.
#[utoipa::path(get, path = "/api/v1/trials/{id}/trace", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial"), Drawing),
    responses((status = 200, body = TrialResult), (status = 404, body = Problem)))]
async fn trial_trace(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(drawing): Query<Drawing>,
) -> Result<Json<TrialResult>, Problem> {
    let row = state.store.trial(id).await?;
    Ok(Json(run(row.trial, drawing.rows()?).await?))
}

/// Whether a trial is pinned.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct Pin {
    /// Whether others are to be compared with it.
    pinned: bool,
}

/// Pins a trial in place of the one pinned before, or unpins it.
#[utoipa::path(put, path = "/api/v1/trials/{id}/pin", tag = "control",
    params(("id" = Uuid, Path, description = "Identifier of the trial")), request_body = Pin,
    responses((status = 200, body = TrialRow), (status = 404, body = Problem)))]
async fn pin_trial(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Body(pin): Body<Pin>,
) -> Result<Json<TrialRow>, Problem> {
    state.store.pin_trial(id, pin.pinned).await?;
    Ok(Json(state.store.trial(id).await?))
}
