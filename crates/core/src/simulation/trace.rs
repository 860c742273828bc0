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
    /// Load where the OP acts.
    Load,
    /// What the sensor would show were it perfect.
    TrueValue,
    /// Position of the actuator.
    Position,
    /// An input that the scenario moves.
    Disturbance,
    /// An input as its sensor shows it.
    MeasuredDisturbance,
    /// The input that the OP drives, in its own unit.
    DrivenInput,
    /// Another output of the process.
    ProcessOutput,
    /// The size of a term of a balance, in units per second.
    BalanceTerm,
    /// What a balance stores per second: what comes in or is made, less what leaves or is lost.
    BalanceStored,
    /// A limit of a CV that is moved.
    Limit,
    /// A term of the controller in %, or something that it has learned.
    ControllerTerm,
}

impl ColumnRole {
    /// The role that such a column has in a record.
    #[must_use]
    pub fn in_a_record(self) -> Role {
        match self {
            Self::ProcessVariable => Role::Pv,
            Self::Output => Role::Op,
            Self::SetPoint => Role::Sp,
            Self::Disturbance | Self::MeasuredDisturbance => Role::Dv,
            _ => Role::Other,
        }
    }
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
    /// The further controller, or further signal, that it belongs to; null for the loop of the PV and the OP.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// One value a scan.
    pub values: Vec<f64>,
}

/// Something that happened in a trial: a tank that ran dry, say.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Happening {
    /// When, in s.
    pub at: f64,
    /// What, in words.
    pub text: String,
}

/// What a term of a balance brought or took over a whole trial.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TermTotal {
    /// Name of the term.
    pub name: String,
    /// Its integral, above 0 for what came in or was made.
    pub amount: f64,
}

/// A balance over a whole trial: what was held at the start and at the end, and what each term brought or took.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BalanceSheet {
    /// What is conserved.
    pub name: String,
    /// Its unit.
    pub unit: String,
    /// What was held at the start.
    pub at_start: f64,
    /// What was held at the end.
    pub at_end: f64,
    /// What each term brought or took.
    pub terms: Vec<TermTotal>,
    /// What is missing: gain in contents less the sum of the terms.
    pub missing: f64,
    /// The same as a share of the throughput, half of the sum of all terms without their signs.
    pub closure: f64,
}

/// The course of a trial.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Trace {
    /// Seconds between rows.
    pub scan: f64,
    /// The limits between which the output was held.
    pub output_limits: OutputLimits,
    /// The signals.
    pub columns: Vec<Column>,
    /// What happened besides, in order.
    #[serde(default)]
    pub happenings: Vec<Happening>,
    /// Why the trial was stopped before its end, and when; the columns end there.
    #[serde(default)]
    pub stopped: Option<Happening>,
    /// The balances of the process, where they were asked for.
    #[serde(default)]
    pub balances: Vec<BalanceSheet>,
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

    /// The values of a role in the loop of the PV and the OP; empty when there is no such column.
    #[must_use]
    pub fn values(&self, role: ColumnRole) -> &[f64] {
        self.columns.iter().find(|one| one.role == role && one.of.is_none()).map_or(&[], |column| &column.values)
    }

    /// What a controller puts out, where that can be told from no signal: it is overridden, or its range is split. It is `name`, or the
    /// one that the trace is seen from.
    #[must_use]
    pub fn put_out(&self, name: &str) -> Option<&[f64]> {
        let own = format!("{name} puts out");
        let mut terms = self.columns.iter().filter(|column| column.role == ColumnRole::ControllerTerm);
        terms.find(|column| column.tag == own).map(|column| column.values.as_slice())
    }

    /// What is controlled: the true value where it is known beside the measured one, else that.
    #[must_use]
    pub fn controlled(&self) -> &[f64] {
        let known = self.values(ColumnRole::TrueValue);
        if known.is_empty() { self.values(ColumnRole::ProcessVariable) } else { known }
    }

    /// All columns as a record, to be written to a file.
    pub fn as_table(&self) -> Result<Record> {
        let channels = self.columns.iter().map(|column| Channel {
            tag: column.tag.clone(),
            role: column.role.in_a_record(),
            unit: column.unit.clone(),
            values: column.values.clone(),
        });
        Record::new(TimeAxis::uniform(self.scan, self.len())?, channels.collect())
    }

    /// What a historian would have of it: PV and OP, the SP where it moves, and inputs that the scenario moves, under their names in words.
    pub fn as_record(&self) -> Result<Record> {
        let moves = |values: &[f64]| values.iter().any(|value| *value != values[0]);
        let channels = self.columns.iter().filter_map(|column| {
            let role = column.role.in_a_record();
            if role == Role::Other || (role == Role::Sp && !moves(&column.values)) {
                return None;
            }
            let tag = match column.role {
                ColumnRole::Disturbance => column.tag.replace('_', " "),
                _ => column.tag.clone(),
            };
            Some(Channel { tag, role, unit: column.unit.clone(), values: column.values.clone() })
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
        Self {
            scan: self.scan * every as f64,
            output_limits: self.output_limits,
            columns,
            happenings: self.happenings.clone(),
            stopped: self.stopped.clone(),
            balances: self.balances.clone(),
        }
    }
}
