//! Proofs: candidates under disturbances with limits, carried out in the background and kept with their tables.

use super::lists::{InPart, PartOfList};
use super::models::data_of_model;
use super::{annotation, name_of};
use crate::download::{attachment, named_file};
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::queue::{Asked, ProofJob, Standing};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_core::assessment::Rejection;
use antistasis_core::preparation::Prepared;
use antistasis_core::proof::{
    CriterionTold, Disturbance, FigureOffer, FoundDisturbances, Proof, ProvingSet, Uncertainty, figure_offers,
    find_disturbances, propose_set,
};
use antistasis_core::simulation::{Plant, Trial};
use antistasis_exchange::{Format, junit};
use antistasis_store::{BinItem, DeletionKind, Error, JobStanding, ModelRow, ProofRow, Store};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use uuid::Uuid;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new()
        .routes(routes!(propose_proving_set))
        .routes(routes!(found_disturbances))
        .routes(routes!(propose_uncertainty))
        .routes(routes!(set_in_words))
        .routes(routes!(disturbance_of_trial))
        .routes(routes!(trial_of_cell))
        .routes(routes!(list_proofs, start_proof))
        .routes(routes!(proofs_under_way))
        .routes(routes!(proof_state, cancel_proof))
        .routes(routes!(change_proof, delete_proof))
        .routes(routes!(export_proof))
        .routes(routes!(disturbance_rejection))
}

/// A proving set to begin with: what the plant of a trial meets, with limits from what plain settings reach on it.
#[utoipa::path(post, path = "/api/v1/proofs/propose", tag = "proof", request_body = Trial,
    responses((status = 200, body = ProvingSet), (status = 422, body = Problem)))]
async fn propose_proving_set(Body(trial): Body<Trial>) -> Result<Json<ProvingSet>, Problem> {
    Ok(Json(compute(move || propose_set(&trial)).await??))
}

/// A record in which disturbances are looked for.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct FindRequest {
    /// A trial on the plant that they are for.
    trial: Trial,
    /// The model behind which they are looked for.
    model_id: Uuid,
    /// The record; null for that of the model.
    #[serde(default)]
    record_id: Option<Uuid>,
}

/// Disturbances that were really there: the load that a record shows behind a model, as items of a proving set with limits.
#[utoipa::path(post, path = "/api/v1/proofs/found", tag = "proof", request_body = FindRequest,
    responses((status = 200, body = FoundDisturbances), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn found_disturbances(
    State(state): State<AppState>,
    Body(request): Body<FindRequest>,
) -> Result<Json<FoundDisturbances>, Problem> {
    let FindRequest { trial, model_id, record_id } = request;
    let model = state.store.model(model_id).await?;
    let (prepared, name) = prepared_for(&state, &model, record_id).await?;
    compute(move || {
        let data = data_of_model(&prepared.record, &model)?;
        Ok(Json(find_disturbances(&trial, &data, &model.model, &name)?))
    })
    .await?
}

/// A record as it is looked at through a model, and its name: that of the model as it was prepared for it, another as it is prepared now.
async fn prepared_for(
    state: &AppState,
    model: &ModelRow,
    record: Option<Uuid>,
) -> Result<(Arc<Prepared>, String), Problem> {
    let record = record.unwrap_or(model.record_id);
    let info = state.store.record_info(record).await?;
    let steps = if record == model.record_id { &model.preparation } else { &info.preparation };
    Ok((state.prepared(record, steps).await?, info.name))
}

/// A proving set that is to be told in words.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct WordsRequest {
    /// The plant that it is for.
    plant: Plant,
    /// The set, finished or not.
    set: ProvingSet,
}

/// A proving set in words.
#[derive(Debug, Serialize, ToSchema)]
struct SetInWords {
    /// The criteria of each disturbance, in their order.
    told: Vec<Vec<CriterionTold>>,
    /// What can be measured besides on this plant.
    figures: Vec<FigureOffer>,
}

/// What the criteria of a set are called on a plant and in which units they are, and what can be measured besides.
#[utoipa::path(post, path = "/api/v1/proofs/words", tag = "proof", request_body = WordsRequest,
    responses((status = 200, body = SetInWords), (status = 422, body = Problem)))]
async fn set_in_words(Body(request): Body<WordsRequest>) -> Result<Json<SetInWords>, Problem> {
    let WordsRequest { plant, set } = request;
    let found = compute(move || -> antistasis_core::Result<SetInWords> {
        let description = plant.describe()?;
        let of_one = |one: &Disturbance| one.criteria.iter().map(|own| own.told(&plant, &description)).collect();
        Ok(SetInWords { told: set.disturbances.iter().map(of_one).collect(), figures: figure_offers(&plant)? })
    });
    Ok(Json(found.await??))
}

/// A trial whose scenario becomes a disturbance.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct DisturbanceRequest {
    /// The trial.
    trial: Trial,
    /// What the disturbance is called.
    name: String,
    /// Why it is here.
    #[serde(default)]
    reason: String,
}

/// The scenario of a trial as a disturbance of a set, with the usual figures and no limits.
#[utoipa::path(post, path = "/api/v1/proofs/disturbance", tag = "proof", request_body = DisturbanceRequest,
    responses((status = 200, body = Disturbance), (status = 422, body = Problem)))]
async fn disturbance_of_trial(Body(request): Body<DisturbanceRequest>) -> Result<Json<Disturbance>, Problem> {
    let DisturbanceRequest { trial, name, reason } = request;
    Ok(Json(Disturbance::of_trial(&trial, name, reason)))
}

/// A plant whose uncertainty is to be told.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct UncertaintyRequest {
    /// The plant.
    plant: Plant,
    /// The model that it stands on, whose covariance is taken; null for ranges a fifth either side of its numbers.
    #[serde(default)]
    model_id: Option<Uuid>,
    /// How many plants are drawn.
    #[schema(minimum = 2, maximum = 5000)]
    plants: usize,
}

/// How uncertain a plant is: by the covariance of its model, or by ranges to begin with.
#[utoipa::path(post, path = "/api/v1/proofs/uncertainty", tag = "proof", request_body = UncertaintyRequest,
    responses((status = 200, body = Uncertainty), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn propose_uncertainty(
    State(state): State<AppState>,
    Body(request): Body<UncertaintyRequest>,
) -> Result<Json<Uncertainty>, Problem> {
    let UncertaintyRequest { plant, model_id, plants } = request;
    let model = match model_id {
        Some(id) => Some(state.store.model(id).await?.model),
        None => None,
    };
    let found = compute(move || match model {
        Some(model) => Uncertainty::of_model(&model, &plant, plants),
        None => Uncertainty::usual_ranges(&plant, plants),
    });
    Ok(Json(found.await??))
}

/// A cell of the table of a proof.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct CellRequest {
    /// The proof.
    proof: Proof,
    /// Place of the disturbance, counted from 0.
    disturbance: usize,
    /// Place of the candidate, counted from 0.
    candidate: usize,
    /// Which of the plants that were drawn, counted from 0; null for the plant as it is.
    #[serde(default)]
    plant: Option<usize>,
}

/// The trial behind a cell of the table of a proof.
#[utoipa::path(post, path = "/api/v1/proofs/trial", tag = "proof", request_body = CellRequest,
    responses((status = 200, body = Trial), (status = 422, body = Problem)))]
async fn trial_of_cell(Body(request): Body<CellRequest>) -> Result<Json<Trial>, Problem> {
    let CellRequest { proof, disturbance, candidate, plant } = request;
    Ok(Json(compute(move || proof.trial_of_cell(disturbance, candidate, plant)).await??))
}

/// The newest proofs of a loop. The header `X-Total-Count` tells how many there are in all.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/proofs", tag = "proof",
    params(("tag" = String, Path, description = "Tag of the loop"), PartOfList),
    responses((status = 200, body = Vec<ProofRow>, headers(("X-Total-Count" = i64, description = "Rows in all"),
            ("X-Unreadable-Count" = i64, description = "Rows of this part that this version cannot read"))),
        (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn list_proofs(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Query(part): Query<PartOfList>,
) -> Result<InPart<ProofRow>, Problem> {
    let part = part.checked()?;
    let found = state.store.find_loop(&tag).await?;
    Ok(InPart::from(state.store.newest_proofs(found.id, part).await?))
}

/// A proof to be carried out.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ProofRequest {
    /// The proof.
    proof: Proof,
    /// What it is called, up to 120 characters; where left out, after what it holds.
    #[serde(default)]
    label: Option<String>,
    /// The model that the uncertainty of its plant comes from.
    #[serde(default)]
    model_id: Option<Uuid>,
}

/// What a proof has made.
#[derive(Debug, Serialize, ToSchema)]
struct ProofOutcome {
    /// The proof as it is kept, with its table.
    row: ProofRow,
}

/// A proof under way.
#[derive(Debug, Serialize, ToSchema)]
struct ProofState {
    #[serde(flatten)]
    standing: Standing,
    /// What came out, once it is done.
    outcome: Option<ProofOutcome>,
}

impl ProofState {
    async fn of(store: &Store, id: Uuid, found: &JobStanding) -> Result<Self, Problem> {
        let row = found.outcome.as_ref().and_then(|row| serde_json::from_value::<Uuid>(row.clone()).ok());
        let outcome = match row {
            Some(row) => Some(ProofOutcome { row: store.proof(row).await? }),
            None => None,
        };
        Ok(Self { standing: Standing::of(id, found), outcome })
    }
}

/// What a proof is called where nothing is said: `3 candidates, 12 disturbances, 200 plants`.
fn usual_label(proof: &Proof) -> String {
    let counted = |count: usize, word: &str| format!("{count} {word}{}", if count == 1 { "" } else { "s" });
    let plants = match proof.uncertainty.plants() {
        0 => "the plant as it is".to_owned(),
        plants => counted(plants, "plant"),
    };
    let (candidates, disturbances) = (proof.candidates.len(), proof.set.disturbances.len());
    format!("{}, {}, {plants}", counted(candidates, "candidate"), counted(disturbances, "disturbance"))
}

/// Begins a proof: the workers of this database share it. It goes on when the server is started again. Once it is done it is kept with
/// its table; one that is there already is not kept twice.
#[utoipa::path(post, path = "/api/v1/loops/{tag}/proofs", tag = "proof",
    params(("tag" = String, Path, description = "Tag of the loop")), request_body = ProofRequest,
    responses((status = 202, body = ProofState), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn start_proof(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Body(request): Body<ProofRequest>,
) -> Result<(StatusCode, Json<ProofState>), Problem> {
    let found = state.store.find_loop(&tag).await?;
    let ProofRequest { proof, label, model_id } = request;
    let label = match label {
        Some(label) => name_of("label", &label, 120)?,
        None => usual_label(&proof),
    };
    if let Some(id) = model_id {
        state.store.model(id).await?;
    }
    let proof = compute(move || proof.validate().map(|()| proof)).await??;
    let id = state.queue.begin(&ProofJob { loop_id: found.id, label, model_id, proof }).await?;
    let standing = state.queue.standing(ProofJob::KIND, id).await?;
    Ok((StatusCode::ACCEPTED, Json(ProofState::of(&state.store, id, &standing).await?)))
}

/// The proofs of a loop that are under way, the newest first: whoever comes back finds them again.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/proofs/under-way", tag = "proof",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = Vec<ProofState>), (status = 404, body = Problem)))]
async fn proofs_under_way(
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Json<Vec<ProofState>>, Problem> {
    let found = state.store.find_loop(&tag).await?;
    let mut all = Vec::new();
    for id in state.store.jobs_of_loop(ProofJob::KIND, found.id).await? {
        let standing = state.queue.standing(ProofJob::KIND, id).await?;
        all.push(ProofState::of(&state.store, id, &standing).await?);
    }
    Ok(Json(all))
}

/// How far a proof is, and what came out.
#[utoipa::path(get, path = "/api/v1/proofs/jobs/{id}", tag = "proof",
    params(("id" = Uuid, Path, description = "Identifier of the proof under way")),
    responses((status = 200, body = ProofState), (status = 404, body = Problem)))]
async fn proof_state(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<ProofState>, Problem> {
    let standing = state.queue.standing(ProofJob::KIND, id).await?;
    Ok(Json(ProofState::of(&state.store, id, &standing).await?))
}

/// Ends a proof that is under way; nothing of it is kept.
#[utoipa::path(delete, path = "/api/v1/proofs/jobs/{id}", tag = "proof",
    params(("id" = Uuid, Path, description = "Identifier of the proof under way")),
    responses((status = 200, body = ProofState), (status = 404, body = Problem)))]
async fn cancel_proof(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<ProofState>, Problem> {
    let standing = state.queue.cancel(ProofJob::KIND, id).await?;
    Ok(Json(ProofState::of(&state.store, id, &standing).await?))
}

/// A proof as it is to be called.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
struct ProofChange {
    /// What it is called, 1 to 120 characters.
    label: String,
    /// What there is to say about it.
    #[serde(default)]
    remark: String,
}

/// Renames and annotates a proof.
#[utoipa::path(put, path = "/api/v1/proofs/{id}", tag = "proof",
    params(("id" = Uuid, Path, description = "Identifier of the proof"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = ProofChange,
    responses((status = 200, body = ProofRow), (status = 404, body = Problem), (status = 412, body = Problem),
        (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn change_proof(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    IfMatch(expected): IfMatch,
    Body(change): Body<ProofChange>,
) -> Result<Revised<ProofRow>, Problem> {
    let label = name_of("label", &change.label, 120)?;
    let done = state.store.set_proof(id, expected, (&label, annotation("remark", &change.remark)?)).await;
    let row = state.store.proof(id).await?;
    if let Err(Error::Changed) = done {
        return Err(Problem::changed(&format!("the proof “{}”", row.label), expected, row.revision, &row));
    }
    done?;
    Ok(Revised(row.revision, row))
}

/// Puts a proof into the bin.
#[utoipa::path(delete, path = "/api/v1/proofs/{id}", tag = "proof",
    params(("id" = Uuid, Path, description = "Identifier of the proof")),
    responses((status = 200, body = BinItem), (status = 404, body = Problem)))]
async fn delete_proof(State(state): State<AppState>, Path(id): Path<Uuid>) -> Result<Json<BinItem>, Problem> {
    Ok(Json(state.store.delete(DeletionKind::Proof, id).await?))
}

/// How a proof leaves.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum ProofForm {
    /// The proof itself, which `antistasis prove` carries out again.
    Proof,
    /// Its table, as JSON.
    Table,
    /// Its table as JUnit XML.
    Junit,
}

#[derive(Debug, Deserialize, IntoParams)]
struct ProofExport {
    /// `proof`, `table` or `junit`.
    form: ProofForm,
}

/// A proof or its table as a file.
#[utoipa::path(get, path = "/api/v1/proofs/{id}/export", tag = "proof",
    params(("id" = Uuid, Path, description = "Identifier of the proof"), ProofExport),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn export_proof(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(export): Query<ProofExport>,
) -> Result<Response, Problem> {
    let row = state.store.proof(id).await?;
    let name = format!("{} proof {}", row.proof.plant.pv.tag, row.number);
    let text = |document: Result<Vec<u8>, serde_json::Error>| document.map_err(|_| Problem::internal());
    Ok(match export.form {
        ProofForm::Proof => attachment(&name, Format::Json, text(serde_json::to_vec_pretty(&row.proof))?),
        ProofForm::Table => {
            attachment(&format!("{name} table"), Format::Json, text(serde_json::to_vec_pretty(&row.result))?)
        }
        ProofForm::Junit => {
            named_file(&name, "xml", "application/xml", junit(&row.proof.set.name, &row.result)?.into_bytes())
        }
    })
}

/// By which record and model disturbance rejection is told.
#[derive(Debug, Deserialize, IntoParams)]
struct RejectionQuery {
    /// The model of the process; left out for that of the proof.
    model: Option<Uuid>,
    /// The record; left out for that of the model.
    record: Option<Uuid>,
    /// Dead time in s; left out for that of the model.
    #[param(minimum = 0)]
    dead_time: Option<f64>,
}

/// Disturbance rejection over frequency: what came in in a record, what each candidate of a proof leaves of it, and how near the loop ran
/// to the best that any feedback could.
#[utoipa::path(get, path = "/api/v1/proofs/{id}/rejection", tag = "proof",
    params(("id" = Uuid, Path, description = "Identifier of the proof"), RejectionQuery),
    responses((status = 200, body = Rejection), (status = 404, body = Problem), (status = 422, body = Problem)))]
async fn disturbance_rejection(
    State(state): State<AppState>,
    Path(id): Path<Uuid>,
    Query(query): Query<RejectionQuery>,
) -> Result<Json<Rejection>, Problem> {
    let row = state.store.proof(id).await?;
    let id = query.model.or(row.model_id).ok_or_else(|| {
        Problem::invalid_field("model", "This proof stands on no model of a record: name the model of the process.")
    })?;
    let model = state.store.model(id).await?;
    let (prepared, _) = prepared_for(&state, &model, query.record).await?;
    compute(move || {
        let data = data_of_model(&prepared.record, &model)?;
        let candidates: Vec<(String, Trial)> = row
            .proof
            .candidates
            .iter()
            .enumerate()
            .map(|(k, own)| (own.name.clone(), row.proof.undisturbed(k)))
            .collect();
        Ok(Json(Rejection::of((&prepared, &data), &model.model, query.dead_time, &candidates)?))
    })
    .await?
}
