//! Fits in the background: how far each is, with the best curve so far, and cancelled where it is no longer wanted. A physical fit from many
//! beginnings is long work: the workers of the database share it.

use crate::fitting::{Fit, IdentifyRequest};
use crate::gate::compute_job;
use crate::jobs::{Job, Stage};
use crate::problem::{Body, Path, Problem};
use crate::queue::{Asked, FitJob, Standing};
use crate::state::AppState;
use antistasis_core::identification::{FitSoFar, FoundFrom, Structure};
use antistasis_store::{JobStage, JobStanding, ModelRow};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use serde::Serialize;
use serde_json::{Value, json};
use std::any::Any;
use std::sync::Arc;
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(start_fit))
        .routes(routes!(fits_under_way))
        .routes(routes!(fit_state, cancel_fit))
}

/// A physical fit from more beginnings than this is shared by the workers.
const FEW_BEGINNINGS: usize = 12;
/// Share of a shared fit that its beginnings are, about.
const BEGINNINGS_SHARE: f64 = 0.8;

/// What a fit has made.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct FitOutcome {
    /// The best so far, while it is under way; null where the structure tells nothing on the way.
    so_far: Option<FitSoFar>,
    /// The model, once it is done.
    model: Option<ModelRow>,
}

/// A fit in the background.
#[derive(Debug, Serialize, ToSchema)]
struct FitState {
    /// Identifier, good for an hour.
    id: Uuid,
    /// How it stands.
    stage: Stage,
    /// Which share is done, 0 to 1, about.
    share: f64,
    /// The model, once it is done; the best so far before.
    #[schema(value_type = Option<FitOutcome>)]
    outcome: Option<Value>,
    /// What is wrong.
    problem: Option<Problem>,
}

impl FitState {
    fn of(id: Uuid, job: &Job<FitOutcome>) -> Self {
        let (stage, outcome, problem) = job.standing();
        let outcome = outcome.and_then(|outcome| serde_json::to_value(&*outcome).ok());
        Self { id, stage, share: job.share(), outcome, problem }
    }

    /// One that workers share, with the best of what was found so far.
    fn shared(id: Uuid, found: &JobStanding, best: Option<FoundFrom>) -> Self {
        let Standing { id, stage, share, problem, .. } = Standing::of(id, found);
        let share = if found.stage == JobStage::Done { 1.0 } else { BEGINNINGS_SHARE * share };
        let so_far = best.and_then(|best| best.so_far).map(|so_far| FitSoFar { share, ..so_far });
        let outcome = found.outcome.clone().or_else(|| Some(json!({ "so_far": so_far?, "model": null })));
        Self { id, stage, share, outcome, problem }
    }
}

/// How a fit that workers share stands.
async fn shared(state: &AppState, id: Uuid) -> Result<FitState, Problem> {
    let found = state.queue.standing(FitJob::KIND, id).await?;
    let best = match found.stage {
        JobStage::Running => state.store.least_of_job(id, "squares").await?,
        JobStage::Done | JobStage::Failed => None,
    };
    Ok(FitState::shared(id, &found, best))
}

fn hear(job: &Job<FitOutcome>, told: &dyn Any) {
    if let Some(so_far) = told.downcast_ref::<FitSoFar>() {
        job.advance(so_far.share);
        job.show(FitOutcome { so_far: Some(so_far.clone()), model: None });
    }
}

/// Begins a fit in the background: the same as a fit that is waited for, with the best curve so far and an end when it is cancelled.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/fits", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = IdentifyRequest,
    responses((status = 202, body = FitState), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn start_fit(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(mut request): Body<IdentifyRequest>,
) -> Result<(StatusCode, Json<FitState>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let fit = Fit::new(&state, &found, &mut request).await?;
    let beginnings = request.options.physical.as_ref().map_or(1, |physical| physical.beginnings);
    if request.options.structure == Structure::Physical && beginnings > FEW_BEGINNINGS {
        let id = state.queue.begin(&FitJob(fit.asked(request))).await?;
        return Ok((StatusCode::ACCEPTED, Json(shared(&state, id).await?)));
    }
    let (id, job) = state.fits.begin()?;
    let running = Arc::clone(&job);
    tokio::spawn(async move {
        let working = Arc::clone(&running);
        let cancelled = || Problem::cancelled("The fit was cancelled.");
        let done = compute_job(move || working.heard(hear, || fit.identified(&request)));
        let outcome = match done.await {
            Ok(Ok(Ok((fit, fitted)))) if !running.is_cancelled() => fit.keep(&state, fitted).await,
            Ok(Ok(Err(problem))) | Err(problem) => Err(problem),
            Ok(Ok(Ok(_)) | Err(_)) => Err(cancelled()),
        };
        running.finish(outcome.map(|model| FitOutcome { so_far: None, model: Some(model) }));
    });
    Ok((StatusCode::ACCEPTED, Json(FitState::of(id, &job))))
}

/// The fits of a loop that workers share and that are under way, the newest first: whoever comes back finds them again. A short fit is not
/// among them; its model is there when it has ended.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/fits/under-way", tag = "models",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<FitState>), (status = 404, body = Problem)))]
async fn fits_under_way(
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Json<Vec<FitState>>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let mut all = Vec::new();
    for id in state.store.jobs_of_loop(FitJob::KIND, found.id).await? {
        all.push(shared(&state, id).await?);
    }
    Ok(Json(all))
}

/// How far a fit is, and what it found.
#[utoipa::path(get, path = "/api/v1/fits/{id}", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the fit")),
    responses((status = 200, body = FitState), (status = 404, body = Problem)))]
async fn fit_state(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<FitState>, Problem> {
    match state.fits.find(id) {
        Ok(job) => Ok(Json(FitState::of(id, &job))),
        Err(_) => Ok(Json(shared(&state, id).await?)),
    }
}

/// Ends a fit.
#[utoipa::path(delete, path = "/api/v1/fits/{id}", tag = "models",
    params(("id" = Uuid, Path, description = "Identifier of the fit")),
    responses((status = 200, body = FitState), (status = 404, body = Problem)))]
async fn cancel_fit(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<FitState>, Problem> {
    if let Ok(job) = state.fits.find(id) {
        job.cancel();
        return Ok(Json(FitState::of(id, &job)));
    }
    state.queue.cancel(FitJob::KIND, id).await?;
    Ok(Json(shared(&state, id).await?))
}
