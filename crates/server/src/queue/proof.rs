//! A proof in pieces.

use super::{Asked, Divided, Ending, Making};
use crate::gate::compute;
use crate::problem::Problem;
use antistasis_core::proof::{Proof, ProvenTrial, Proving};
use antistasis_store::{NewProof, Store};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::sync::Arc;
use uuid::Uuid;

/// A proof to be carried out and kept.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct ProofJob {
    /// The loop that it is of.
    pub loop_id: Uuid,
    /// What it is called.
    pub label: String,
    /// The model that the uncertainty of its plant comes from.
    pub model_id: Option<Uuid>,
    /// The proof.
    pub proof: Proof,
}

impl Asked for ProofJob {
    const KIND: &'static str = "proof";

    async fn fetch(self, _: &Store) -> antistasis_store::Result<Making> {
        let Self { loop_id, label, model_id, proof } = self;
        Ok(Box::new(move || Ok(Arc::new(Ready { loop_id, label, model_id, proving: Proving::new(proof)? }))))
    }
}

struct Ready {
    loop_id: Uuid,
    label: String,
    model_id: Option<Uuid>,
    proving: Proving,
}

impl Divided for Ready {
    fn trials(&self) -> usize {
        self.proving.trials()
    }

    fn scans(&self, trial: usize) -> Option<(f64, usize)> {
        Some(self.proving.scans(trial))
    }

    fn run(&self, trial: usize) -> Value {
        serde_json::to_value(self.proving.run(trial)).unwrap_or_default()
    }

    fn finish<'a>(self: Arc<Self>, store: &'a Store, _: Uuid, all: Vec<Value>, _: f64) -> Ending<'a> {
        Box::pin(async move {
            let own = Arc::clone(&self);
            let result = compute(move || -> Result<_, Problem> {
                let trials = all.into_iter().map(serde_json::from_value).collect::<Result<Vec<ProvenTrial>, _>>();
                let trials = trials.map_err(|error| Problem::invalid(error.to_string()))?;
                Ok(own.proving.table(&trials)?)
            });
            let result = result.await??;
            let new =
                NewProof { model_id: self.model_id, label: &self.label, proof: self.proving.proof(), result: &result };
            Ok(json!(store.add_proof(self.loop_id, new).await?))
        })
    }
}
