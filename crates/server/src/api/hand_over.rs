//! What is handed over: settings as they are typed in, what stands behind them, and controllers as text.

use super::dossiers::sources_of;
use crate::dossier::{ProposedTrial, Proven, candidates};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem};
use crate::state::AppState;
use antistasis_core::Verdict;
use antistasis_core::controller::Notation;
use antistasis_core::simulation::{Trial, TypedIn};
use antistasis_dossier::{DossierSpec, warnings};
use antistasis_exchange::structured_text::{ControllersAsText, trial_as_text};
use axum::Json;
use axum::extract::State;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(structured_text))
        .routes(routes!(could_be_handed_over))
        .routes(routes!(hand_over_trial))
}

/// What of a loop could be handed over.
#[derive(Debug, Serialize, ToSchema)]
struct HandOver {
    /// The trial that is proposed: of the best candidate of the newest proof, else the pinned one, else the newest; null where there is
    /// no trial.
    proposed: Option<ProposedTrial>,
    /// The newest proof that each trial was held in; trials that were in none are left out.
    proven: Vec<Proven>,
}

/// What of a loop could be handed over, and in which proofs it was held.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/hand-over", tag = "hand over",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = HandOver), (status = 404, body = Problem)))]
async fn could_be_handed_over(
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Json<HandOver>, Problem> {
    let id = state.store.find_loop(&tag).await?.id;
    let (trials, proofs) = tokio::try_join!(state.store.tried_candidates(id), state.store.proven_candidates(id))?;
    let found = compute(move || candidates(&trials, &proofs)).await?;
    Ok(Json(HandOver { proposed: found.proposed, proven: found.proven }))
}

/// How settings are typed in.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct TypingRequest {
    /// How the controller on the plant takes its settings.
    notation: Notation,
    /// Significant digits that they are typed with, 2 to 6.
    #[schema(minimum = 2, maximum = 6)]
    digits: u8,
    /// Number of the proof that stands behind it; null for none.
    proof: Option<i32>,
}

/// A trial as it is handed over.
#[derive(Debug, Serialize, ToSchema)]
struct HandedOver {
    /// Its settings as they are typed in.
    typed: TypedIn,
    /// What speaks against relying on it.
    warnings: Vec<Verdict>,
}

/// The settings of a trial as they are typed in, and what speaks against relying on them.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/hand-over/{trial}", tag = "hand over",
    params(("tag" = String, Path, description = "Tag of the loop"), ("trial" = i32, Path, description = "Number of the trial")),
    request_body = TypingRequest,
    responses((status = 200, body = HandedOver), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn hand_over_trial(
    State(state): State<AppState>,
    Path((tag, trial)): Path<(String, i32)>,
    Body(request): Body<TypingRequest>,
) -> Result<Json<HandedOver>, Problem> {
    let sources = sources_of(&state, &tag, DossierSpec::of_trial(trial, request.proof)).await?;
    let handed = compute(move || {
        let typed = sources.trial.trial.typed_in(request.notation, request.digits)?;
        Ok::<_, Problem>(HandedOver { warnings: warnings(&sources, &typed), typed })
    });
    Ok(Json(handed.await??))
}

/// The controllers of a trial as function blocks in Structured Text (IEC 61131-3): PID, Smith predictors, small predictive laws; of several
/// that are wired to each other the last block calls the others.
#[utoipa::path(post, path = "/api/v1/hand-over/structured-text", tag = "hand over", request_body = Trial,
    responses((status = 200, body = ControllersAsText), (status = 422, body = Problem)))]
async fn structured_text(Body(trial): Body<Trial>) -> Result<Json<ControllersAsText>, Problem> {
    Ok(Json(compute(move || trial_as_text(&trial)).await??))
}
