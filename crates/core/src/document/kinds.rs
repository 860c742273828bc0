//! What lasts: every kind of document in one place.

use super::Document;
use crate::assessment::Assessment;
use crate::controller::TargetController;
use crate::experiment::ExperimentSpec;
use crate::identification::{FitOptions, Model, Validation};
use crate::preparation::Step;
use crate::proof::{Proof, ProofResult, ProvingSet};
use crate::simulation::{Candidate, Plant, Scenario, Trial};

macro_rules! kinds {
    ($($type:ty: $kind:literal $(, $has_version:literal)?;)*) => {
        $(impl Document for $type {
            const KIND: &'static str = $kind;
            $(const HAS_VERSION: bool = $has_version;)?
        })*
        /// Each kind of document with its present version.
        #[must_use]
        pub fn all_kinds() -> Vec<(&'static str, u32)> {
            vec![$(($kind, super::version_of::<$type>())),*]
        }
    };
}

kinds! {
    Trial: "trial", true;
    Proof: "proof", true;
    ProofResult: "result of a proof";
    ProvingSet: "proving set";
    Plant: "plant";
    Candidate: "candidate";
    Scenario: "scenario";
    Assessment: "assessment";
    Model: "model";
    FitOptions: "fit";
    Validation: "validation";
    Step: "preparation step";
    ExperimentSpec: "experiment";
    TargetController: "target controller";
}
