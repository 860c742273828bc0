//! A physical fit in pieces: each beginning of its search is one.

use super::{Asked, Divided, Ending, Making};
use crate::fitting::{AskedFit, CutStretches, OwnRecord, PinnedRecord, Stretches, keep_model};
use crate::gate::compute_piece;
use crate::problem::Problem;
use antistasis_core::identification::{DividedFit, FitOptions, FoundFrom, Parts, identified};
use antistasis_core::preparation::prepare;
use antistasis_core::series::Record;
use antistasis_store::{FurtherWindow, Store};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::sync::Arc;
use uuid::Uuid;

/// A fit to be carried out, its model to be kept.
#[derive(Debug, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct FitJob(pub AskedFit);

impl Asked for FitJob {
    const KIND: &'static str = "fit";

    async fn fetch(self, store: &Store) -> antistasis_store::Result<Making> {
        let Self(asked) = self;
        let first = store.record(asked.first.id).await?;
        let mut further = Vec::with_capacity(asked.further.len());
        for pinned in &asked.further {
            further.push(store.record(pinned.id).await?);
        }
        Ok(Box::new(move || Ok(Arc::new(Ready::new(asked, first, further)?))))
    }
}

struct Ready {
    loop_id: Uuid,
    record: PinnedRecord,
    windows: Vec<FurtherWindow>,
    parts: Parts,
    options: FitOptions,
    fit: DividedFit,
}

impl Ready {
    fn new(asked: AskedFit, first: Record, further: Vec<Record>) -> Result<Self, Problem> {
        let AskedFit { loop_id, pv_unit, request, first: record, further: pinned } = asked;
        let own = |pinned: PinnedRecord, record: Record| -> Result<OwnRecord, Problem> {
            Ok(OwnRecord { prepared: Arc::new(prepare(&record, &pinned.preparation)?), pinned })
        };
        let further: Vec<OwnRecord> =
            pinned.into_iter().zip(further).map(|(pinned, record)| own(pinned, record)).collect::<Result<_, _>>()?;
        let stretches = Stretches { pv_unit, first: own(record.clone(), first)?, further };
        let CutStretches { parts, further, windows, .. } = stretches.cut(&request)?;
        let all = std::iter::once(parts.estimation.data.clone()).chain(further).collect();
        let fit = DividedFit::new(all, request.options.clone())?;
        Ok(Self { loop_id, record, windows, parts, options: request.options, fit })
    }
}

impl Divided for Ready {
    fn trials(&self) -> usize {
        self.fit.beginnings()
    }

    fn scans(&self, _: usize) -> Option<(f64, usize)> {
        None
    }

    fn run(&self, beginning: usize) -> Value {
        serde_json::to_value(self.fit.search(beginning)).unwrap_or_default()
    }

    fn finish<'a>(self: Arc<Self>, store: &'a Store, job: Uuid, all: Vec<Value>, _: f64) -> Ending<'a> {
        Box::pin(async move {
            let own = Arc::clone(&self);
            let made = compute_piece(move || -> Result<_, Problem> {
                let found = all.into_iter().map(serde_json::from_value).collect::<Result<Vec<FoundFrom>, _>>();
                let found = found.map_err(|error| Problem::invalid(error.to_string()))?;
                Ok(identified(&own.parts, own.fit.model(found)?)?)
            });
            let made = made.await??;
            // Put together twice it is one model: under the name of the job.
            let row = keep_model(store, (job, self.loop_id), &self.record, &self.windows, &self.options, &made).await?;
            Ok(json!({ "so_far": null, "model": row }))
        })
    }
}
