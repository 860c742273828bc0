//! Settings from models.

mod first_trial;
mod simc;

pub use first_trial::{first_trial, first_trial_on};
pub use simc::{SimcChoice, Tuning, simc, simc_choice_of};
