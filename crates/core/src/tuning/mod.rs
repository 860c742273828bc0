//! Settings from models.

mod beginning;
mod controlled;
mod envelope;
mod first_trial;
mod loops;
mod mismatch;
mod optimise;
mod over_load;
mod predictive;
mod rules;
#[cfg(test)]
mod rules_tests;
mod simc;
mod ultimate;

pub use beginning::{Beginning, ControllerKind, begin_with};
pub use controlled::Controlled;
pub use envelope::{Envelope, envelope};
pub use first_trial::{
    FirstTrial, begin_as_paired, begin_on_model, begin_on_plant, first_trial, first_trial_on, process_of,
};
pub use loops::{
    Another, Decoupler, FurtherSignal, InOrder, LoopsAnswer, LoopsMethod, LoopsQuestion, TunedLoop, another_controller,
    begin_loops, tune_in_order, with_further,
};
pub use mismatch::{MismatchMap, MismatchQuestion, mismatch_map};
pub use optimise::{
    ControllerStructure, Demand, Demands, Figures, Objective, Optimum, Relaxation, Task, TradeOff, TradeOffPoint,
    Variation, optimise, trade_off,
};
pub use over_load::{LoadPoint, LoadQuestion, OverLoad, over_load};
pub use predictive::{
    begin_predictive, predictive_scan, with_equations, with_estimated, with_learning, with_linear_model,
};
pub use rules::{Aim, Rule, RuleChoice, RuleTuning, Terms, tune_by_rule};
pub use simc::{SimcChoice, Tuning, simc, simc_choice_of};
pub use ultimate::{RelayReading, UltimatePoint, read_relay, ultimate_point};
