//! Settings from models.

mod simc;

pub use simc::{SimcChoice, Tuning, simc, simc_choice_of};
