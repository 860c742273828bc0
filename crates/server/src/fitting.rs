//! Fits: the records that one is asked of, its stretches, and the model that is kept.

use crate::problem::Problem;
use crate::state::AppState;
use antistasis_core::identification::{
    DataSet, FitOptions, Identified, Parts, ValidationWindow, Windows, identify_together,
};
use antistasis_core::preparation::{Prepared, Step};
use antistasis_core::series::{Record, Role};
use antistasis_store::{FurtherWindow, LoopDetail, ModelRow, NewModel, RecordInfo, Store};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use utoipa::ToSchema;
use uuid::Uuid;

/// A model to be fitted.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct IdentifyRequest {
    /// The record; it must have a PV and an OP. Its preparation is applied.
    record_id: Uuid,
    /// The windows; by default halves.
    #[serde(default)]
    pub windows: Windows,
    /// Further stretches, of this record or of others: the model is fitted to all of them together. The process is the same
    /// in all; its level and what was under way are each stretch's own.
    #[serde(default)]
    further: Vec<StretchRequest>,
    /// Structure and method. A physical model names the channels of its signals itself: `disturbances` and `outputs` follow from
    /// them.
    pub options: FitOptions,
}

/// A further stretch that a model is to be fitted to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct StretchRequest {
    /// The record; its preparation is applied.
    record_id: Uuid,
    /// Start in s from the start of the record; null for the start.
    #[serde(default)]
    from: Option<f64>,
    /// End in s; null for the end.
    #[serde(default)]
    to: Option<f64>,
}

/// Most stretches that a model is fitted to.
const MOST_STRETCHES: usize = 50;

/// A record as it stood when a fit was asked for: what is laid over it later changes nothing.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct PinnedRecord {
    /// Identifier.
    pub id: Uuid,
    /// What it was called.
    name: String,
    content_hash: String,
    /// The steps that lay over it.
    pub preparation: Vec<Step>,
}

impl From<RecordInfo> for PinnedRecord {
    fn from(info: RecordInfo) -> Self {
        let RecordInfo { id, name, content_hash, preparation, .. } = info;
        Self { id, name, content_hash, preparation }
    }
}

/// A record of a fit, prepared.
pub(crate) struct OwnRecord {
    pub prepared: Arc<Prepared>,
    pub pinned: PinnedRecord,
}

/// The records of a fit.
pub(crate) struct Stretches {
    /// Unit of the PV of the loop.
    pub pv_unit: String,
    /// The record of the first stretch.
    pub first: OwnRecord,
    /// Those of the others.
    pub further: Vec<OwnRecord>,
}

/// What a fit is made on.
pub(crate) struct CutStretches {
    /// The window of the first record with what a model is held against.
    pub parts: Parts,
    /// The further stretches.
    pub further: Vec<DataSet>,
    /// Where these lie in their records.
    pub windows: Vec<FurtherWindow>,
    /// All of the first record.
    data: DataSet,
}

/// The records that a fit is asked of; a physical model brings the channels of its signals itself, which are put among those
/// of the fit.
pub(crate) async fn stretches_of(
    state: &AppState,
    found: &LoopDetail,
    request: &mut IdentifyRequest,
) -> Result<Stretches, Problem> {
    if request.further.len() >= MOST_STRETCHES {
        let text = format!(
            "A model is fitted to at most {MOST_STRETCHES} stretches; these are {}.",
            request.further.len() + 1
        );
        return Err(Problem::invalid_field("further", text));
    }
    let own = async |id: Uuid| -> Result<OwnRecord, Problem> {
        let pinned = PinnedRecord::from(state.store.record_info(id).await?);
        Ok(OwnRecord { prepared: state.prepared(id, &pinned.preparation).await?, pinned })
    };
    let first = own(request.record_id).await?;
    let mut further = Vec::with_capacity(request.further.len());
    for stretch in &request.further {
        further.push(own(stretch.record_id).await?);
    }
    if let Some(physical) = &request.options.physical {
        let tag = |role| first.prepared.record.channel(role).map_or("", |channel| channel.tag.as_str());
        let (inputs, outputs) = physical.further_tags(tag(Role::Op), tag(Role::Pv));
        (request.options.disturbances, request.options.outputs) = (inputs, outputs);
    }
    Ok(Stretches { pv_unit: found.pv.span.unit.clone(), first, further })
}

impl Stretches {
    /// The window of the first record with what a model is held against, and the further stretches with their windows.
    pub fn cut(&self, request: &IdentifyRequest) -> Result<CutStretches, Problem> {
        let unit = &self.pv_unit;
        let data = data_set(&self.first.prepared.record, unit, &request.options)?;
        let (mut stretches, mut windows) = (Vec::new(), Vec::new());
        let (op, pv) = (&data.inputs[0].tag, &data.outputs[0].tag);
        for (k, (stretch, OwnRecord { prepared, pinned })) in request.further.iter().zip(&self.further).enumerate() {
            let own = Windows { from: stretch.from, to: stretch.to, validation: ValidationWindow::None };
            let part = data_set(&prepared.record, unit, &request.options)
                .and_then(|data| Ok(own.cut(&data.named(op, pv), prepared.start)?.estimation))
                .map_err(|problem| {
                    Problem::invalid_field(&format!("further[{k}]"), format!("{}: {}", pinned.name, problem.detail()))
                })?;
            stretches.push(part.data);
            let (from, to) = part.window;
            windows.push(FurtherWindow {
                record_id: pinned.id,
                record_hash: pinned.content_hash.clone(),
                preparation: pinned.preparation.clone(),
                from,
                to,
            });
        }
        let parts = request.windows.cut(&data, self.first.prepared.start)?;
        Ok(CutStretches { parts, further: stretches, windows, data })
    }
}

/// A fit with its data.
pub(crate) struct Fit {
    loop_id: Uuid,
    stretches: Stretches,
    options: FitOptions,
}

/// What a fit has found.
pub(crate) struct Fitted {
    identified: Identified,
    windows: Vec<FurtherWindow>,
}

impl Fit {
    pub(crate) async fn new(
        state: &AppState,
        found: &LoopDetail,
        request: &mut IdentifyRequest,
    ) -> Result<Self, Problem> {
        let stretches = stretches_of(state, found, request).await?;
        Ok(Self { loop_id: found.id, stretches, options: request.options.clone() })
    }

    /// Carries it out.
    pub(crate) fn identified(self, request: &IdentifyRequest) -> Result<(Self, Fitted), Problem> {
        let CutStretches { further, windows, data, .. } = self.stretches.cut(request)?;
        let start = self.stretches.first.prepared.start;
        let identified = identify_together(&data, start, &request.windows, &further, &self.options)?;
        Ok((self, Fitted { identified, windows }))
    }

    /// Puts what was found among the models of the loop.
    pub(crate) async fn keep(self, state: &AppState, fitted: Fitted) -> Result<ModelRow, Problem> {
        let Fitted { identified, windows } = fitted;
        let (ids, record) = ((Uuid::now_v7(), self.loop_id), &self.stretches.first.pinned);
        keep_model(&state.store, ids, record, &windows, &self.options, &identified).await
    }

    /// What it takes to carry it out elsewhere.
    pub(crate) fn asked(self, request: IdentifyRequest) -> AskedFit {
        let Stretches { pv_unit, first, further } = self.stretches;
        let further = further.into_iter().map(|own| own.pinned).collect();
        AskedFit { loop_id: self.loop_id, pv_unit, request, first: first.pinned, further }
    }
}

/// A fit as it is asked for, without its data.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct AskedFit {
    /// The loop.
    pub loop_id: Uuid,
    /// Unit of its PV.
    pub pv_unit: String,
    /// What was asked for, the channels in their places.
    pub request: IdentifyRequest,
    /// The records, in the order of the stretches.
    pub first: PinnedRecord,
    /// Those of the further stretches.
    pub further: Vec<PinnedRecord>,
}

/// Puts a model among those of a loop, unless it is there.
pub(crate) async fn keep_model(
    store: &Store,
    (id, loop_id): (Uuid, Uuid),
    record: &PinnedRecord,
    further: &[FurtherWindow],
    options: &FitOptions,
    identified: &Identified,
) -> Result<ModelRow, Problem> {
    let new = NewModel {
        record_id: record.id,
        record_hash: &record.content_hash,
        preparation: &record.preparation,
        window: identified.window,
        further,
        options,
        model: &identified.model,
        validation: identified.validation.as_ref().map(|(window, validation)| (*window, validation)),
        reduced_from: None,
    };
    store.add_model_once(id, loop_id, new).await?;
    Ok(store.model(id).await?)
}

/// The signals of a fit, out of a record.
pub(crate) fn data_set(record: &Record, pv_unit: &str, options: &FitOptions) -> Result<DataSet, Problem> {
    Ok(DataSet::of_record(record, pv_unit, &options.disturbances, &options.outputs)?)
}
