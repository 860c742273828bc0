//! What comes out of a trial: columns with tag and unit.

use crate::Result;
use crate::controller::OutputLimits;
use crate::series::{Channel, Record, Role, TimeAxis};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a column of a trace holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ColumnRole {
    /// Set point.
    SetPoint,
    /// Process variable as measured.
    ProcessVariable,
    /// Controller output after its limits; it holds until the next scan.
    Output,
    /// Load at the process input.
    Load,
}

/// One signal of a trace, a value a scan.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Column {
    /// Tag of the signal.
    pub tag: String,
    /// Unit of the values.
    pub unit: String,
    /// What it is.
    pub role: ColumnRole,
    /// One value a scan.
    pub values: Vec<f64>,
}

/// The course of a trial.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Trace {
    /// Seconds between rows.
    pub scan: f64,
    /// The limits between which the output was held.
    pub output_limits: OutputLimits,
    /// The signals.
    pub columns: Vec<Column>,
}

impl Trace {
    /// Number of rows.
    #[must_use]
    pub fn len(&self) -> usize {
        self.columns.first().map_or(0, |column| column.values.len())
    }

    /// Whether there is no row.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The time of row `k` in s.
    #[must_use]
    pub fn time(&self, k: usize) -> f64 {
        k as f64 * self.scan
    }

    /// The values of a role; empty when there is no such column.
    #[must_use]
    pub fn values(&self, role: ColumnRole) -> &[f64] {
        self.columns.iter().find(|column| column.role == role).map_or(&[], |column| &column.values)
    }

    /// What a historian would have of it: PV and OP, and the SP where it moves.
    pub fn as_record(&self) -> Result<Record> {
        let moves = |values: &[f64]| values.iter().any(|value| *value != values[0]);
        let channels = self.columns.iter().filter_map(|column| {
            let role = match column.role {
                ColumnRole::ProcessVariable => Role::Pv,
                ColumnRole::Output => Role::Op,
                ColumnRole::SetPoint if moves(&column.values) => Role::Sp,
                _ => return None,
            };
            Some(Channel { tag: column.tag.clone(), role, unit: column.unit.clone(), values: column.values.clone() })
        });
        Record::new(TimeAxis::uniform(self.scan, self.len())?, channels.collect())
    }

    /// The trace with every `n`-th row, the first included, so that at most `rows` remain: for drawing.
    #[must_use]
    pub fn thinned(&self, rows: usize) -> Self {
        let every = self.len().div_ceil(rows.max(1)).max(1);
        let columns = self
            .columns
            .iter()
            .map(|column| Column { values: column.values.iter().step_by(every).copied().collect(), ..column.clone() })
            .collect();
        Self { scan: self.scan * every as f64, output_limits: self.output_limits, columns }
    }
}
