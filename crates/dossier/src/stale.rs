//! What does not hold any more, since something upstream was changed: from the record to the proof.

use crate::sources::Sources;
use antistasis_core::simulation::{ENGINE_VERSION, letter};

/// Why parts do not hold any more, in sentences; empty where they do.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Stale {
    /// The model.
    pub model: Vec<String>,
    /// The trial: all that the model has, and its own.
    pub trial: Vec<String>,
    /// The proof: all that the trial's model has, and its own.
    pub proof: Vec<String>,
}

pub(crate) fn stale(sources: &Sources) -> Stale {
    let model = of_model(sources);
    // What stands on the model has all that the model has.
    let mut on_it = model.clone();
    if let Some((model, chosen)) = sources.model.as_ref().zip(sources.chosen_model)
        && chosen != model.number
    {
        let (chosen, own) = (letter(chosen), letter(model.number));
        on_it.push(format!("Model {chosen} was chosen since; this stands on model {own}."));
    }
    let of_older = |what: String, engine: i32| {
        (engine != ENGINE_VERSION as i32)
            .then(|| format!("{what} was computed by engine {engine}; the present one is {ENGINE_VERSION}."))
    };
    let own = &sources.trial;
    let name = letter(own.number);
    let mut trial = on_it.clone();
    trial.extend(of_older(format!("Trial {name}"), own.engine));
    let mut proof = on_it;
    if let Some(source) = &sources.proof {
        let number = source.number;
        if source.place_of(own).is_none() {
            proof.push(format!("Proof {number} was made without candidate {name} as it is now."));
        } else if source.proof.plant != own.trial.plant {
            proof.push(format!("Proof {number} was made on another plant than trial {name}."));
        }
        proof.extend(of_older(format!("Proof {number}"), source.engine));
    }
    Stale { model, trial, proof }
}

fn of_model(sources: &Sources) -> Vec<String> {
    let Some(model) = &sources.model else { return Vec::new() };
    let name = letter(model.number);
    match &sources.record {
        None => vec![format!("The record of model {name} is gone.")],
        Some(record) if record.content_hash != model.record_hash => {
            vec![format!("“{}” was changed after model {name} was fitted to it.", record.name)]
        }
        Some(record) if record.preparation != model.preparation => {
            vec![format!("“{}” is prepared otherwise than when model {name} was fitted.", record.name)]
        }
        Some(_) => Vec::new(),
    }
}
