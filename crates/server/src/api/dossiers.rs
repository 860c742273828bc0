//! The dossier of a loop: what is written for it, and the document in each form.

use crate::dossier::{ProposedTrial, begun, candidates, record_needed, sources, written};
use crate::download::named_file;
use crate::gate::compute;
use crate::problem::{Body, Path, Problem, Query};
use crate::revision::{IfMatch, Revised};
use crate::state::AppState;
use antistasis_core::series::Record;
use antistasis_dossier::{Dossier, DossierSpec, Part, Sources, dossier, html, pdf};
use antistasis_store::Error;
use axum::extract::State;
use axum::http::{HeaderName, HeaderValue, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub(super) fn router() -> OpenApiRouter<AppState> {
    OpenApiRouter::new().routes(routes!(read_dossier, write_dossier)).routes(routes!(export_dossier))
}

/// What is written for a dossier, or proposed.
#[derive(Debug, Serialize, ToSchema)]
struct DossierState {
    /// The specification; null where the loop has no trial that could be handed over.
    spec: Option<DossierSpec>,
    /// Rises with each change; 0 where it is only proposed.
    revision: i64,
    /// Its parts, with what they are called.
    parts: Vec<PartOffer>,
}

/// A part that a dossier can have.
#[derive(Debug, Serialize, ToSchema)]
struct PartOffer {
    /// The part.
    part: Part,
    /// What it is called.
    title: &'static str,
}

/// The specification that stands, or is proposed, and its revision; what it is proposed from is read only then.
async fn spec_of(state: &AppState, tag: &str) -> Result<(Option<DossierSpec>, i64), Problem> {
    let id = state.store.find_loop(tag).await?.id;
    if let Some(own) = state.store.dossier(id).await? {
        return Ok((Some(written(&own.spec)?), own.revision));
    }
    let (trials, proofs) = tokio::try_join!(state.store.tried_candidates(id), state.store.proven_candidates(id))?;
    let found = compute(move || candidates(&trials, &proofs)).await?;
    let Some(ProposedTrial { trial, .. }) = found.proposed else { return Ok((None, 0)) };
    let archived = state.store.archived_around(tag, trial, found.newest_proof).await?;
    let spec = compute(move || begun(&archived, trial, found.newest_proof)).await??;
    Ok((Some(spec), 0))
}

async fn state_of(state: &AppState, tag: &str) -> Result<Revised<DossierState>, Problem> {
    let (spec, revision) = spec_of(state, tag).await?;
    let parts = Part::ALL.into_iter().map(|part| PartOffer { part, title: part.title() }).collect();
    Ok(Revised(revision, DossierState { spec, revision, parts }))
}

/// What is written for the dossier of a loop; where nobody has yet, what is proposed.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/dossier", tag = "hand over",
    params(("tag" = String, Path, description = "Tag of the loop")),
    responses((status = 200, body = DossierState), (status = 404, body = Problem)))]
async fn read_dossier(
    State(state): State<AppState>,
    Path(tag): Path<String>,
) -> Result<Revised<DossierState>, Problem> {
    state_of(&state, &tag).await
}

/// Writes what a dossier is to be. `If-Match` names the revision that the change begins from, 0 for the first.
#[utoipa::path(put, path = "/api/v1/loops/{tag}/dossier", tag = "hand over",
    params(("tag" = String, Path, description = "Tag of the loop"), ("If-Match" = String, Header, description = "Revision that is changed")),
    request_body = DossierSpec,
    responses((status = 200, body = DossierState), (status = 404, body = Problem), (status = 412, body = Problem),
        (status = 422, body = Problem), (status = 428, body = Problem)))]
async fn write_dossier(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    IfMatch(expected): IfMatch,
    Body(spec): Body<DossierSpec>,
) -> Result<Revised<DossierState>, Problem> {
    spec.validate()?;
    let archived = state.store.archived_around(&tag, spec.trial, spec.proof).await?;
    let id = archived.id;
    let document = serde_json::to_value(&spec).map_err(|_| Problem::internal())?;
    // What it is about must be there.
    compute(move || sources(&archived, &spec, None).map(drop)).await??;
    let done = state.store.set_dossier(id, expected, &document).await;
    let Revised(revision, current) = state_of(&state, &tag).await?;
    if let Err(Error::Changed) = done {
        return Err(Problem::changed(&format!("the dossier of {tag}"), expected, revision, &current));
    }
    done?;
    Ok(Revised(revision, current))
}

/// The form of a dossier.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(super) enum DossierForm {
    /// An HTML page that needs nothing beside itself.
    Html,
    /// PDF.
    Pdf,
    /// The document as JSON.
    Json,
    /// The HTML page, to be looked at at once.
    Page,
}

#[derive(Debug, Deserialize, IntoParams)]
struct ExportQuery {
    /// The form.
    #[param(inline)]
    form: DossierForm,
}

/// What a dossier of this specification is made from.
pub(super) async fn sources_of(state: &AppState, tag: &str, spec: DossierSpec) -> Result<Sources, Problem> {
    let archived = state.store.archived_around(tag, spec.trial, spec.proof).await?;
    let record = match record_needed(&archived, &spec)? {
        Some(place) => Some(Record::clone(&*state.record(archived.records[place].id).await?)),
        None => None,
    };
    compute(move || sources(&archived, &spec, record)).await?
}

/// The dossier of a loop as a file. The same documents give the same bytes.
#[utoipa::path(get, path = "/api/v1/loops/{tag}/dossier/export", tag = "hand over",
    params(("tag" = String, Path, description = "Tag of the loop"), ExportQuery),
    responses((status = 200, description = "The document", body = Dossier), (status = 404, body = Problem),
        (status = 422, body = Problem)))]
async fn export_dossier(
    State(state): State<AppState>,
    Path(tag): Path<String>,
    Query(ExportQuery { form }): Query<ExportQuery>,
) -> Result<Response, Problem> {
    let spec = spec_of(&state, &tag).await?.0;
    let spec = spec.ok_or_else(|| Problem::invalid(format!("{tag} has no trial that could be handed over.")))?;
    let sources = sources_of(&state, &tag, spec.clone()).await?;
    let name = format!("{tag} dossier");
    compute(move || {
        let document = dossier(&sources, &spec)?;
        Ok(match form {
            DossierForm::Html => named_file(&name, "html", "text/html; charset=utf-8", html(&document).into_bytes()),
            DossierForm::Json => {
                let bytes = serde_json::to_vec_pretty(&document).map_err(|_| Problem::internal())?;
                named_file(&name, "json", "application/json", bytes)
            }
            DossierForm::Pdf => {
                let bytes = pdf(&document).map_err(|error| {
                    tracing::error!(%error, "no PDF");
                    Problem::internal()
                })?;
                named_file(&name, "pdf", "application/pdf", bytes)
            }
            DossierForm::Page => shown(html(&document)),
        })
    })
    .await?
}

/// A page with its styles in it and no script, that this site may show inside its own.
fn shown(page: String) -> Response {
    let policy = HeaderValue::from_static("default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'self'");
    let headers = [
        (header::CONTENT_TYPE, HeaderValue::from_static("text/html; charset=utf-8")),
        (HeaderName::from_static("content-security-policy"), policy),
    ];
    (headers, page).into_response()
}
