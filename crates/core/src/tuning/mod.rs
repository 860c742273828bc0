//! Settings from models.

mod first_trial;
mod optimise;
mod robustness;
mod rules;
#[cfg(test)]
mod rules_tests;
mod simc;
mod ultimate;

pub use first_trial::{first_trial, first_trial_on, process_of};
pub use optimise::{
    ControllerStructure, Demand, Demands, Figures, Objective, Optimum, Relaxation, Task, TradeOff, TradeOffPoint,
    Variation, optimise, trade_off,
};
pub use robustness::{Envelope, MismatchMap, MismatchQuestion, envelope, mismatch_map};
pub use rules::{Aim, Rule, RuleChoice, RuleTuning, Terms, tune_by_rule};
pub use simc::{SimcChoice, Tuning, simc, simc_choice_of};
pub use ultimate::{RelayReading, UltimatePoint, read_relay, ultimate_point};
