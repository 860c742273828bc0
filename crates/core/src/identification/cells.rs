//! All ways of a model at once: from every input to every output, on one time axis.

use super::data::DataSet;
use super::model::{Model, Parameter, SignalName};
use super::response::StepResponse;
use super::structure::Structure;
use crate::Result;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Step responses between all inputs and outputs of a model.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Cells {
    /// The inputs, the OP first.
    pub inputs: Vec<SignalName>,
    /// The outputs, the PV first.
    pub outputs: Vec<SignalName>,
    /// A row an output, a cell an input; null where nothing goes from there to there.
    pub rows: Vec<Vec<Option<Cell>>>,
}

/// The way from one input to one output.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Cell {
    /// Its structure, where it has one of its own.
    pub structure: Option<Structure>,
    /// Its parameters; none where the model has no parameters cell by cell.
    pub parameters: Vec<Parameter>,
    /// The response of the output to a unit step of the input with its 95 % band; all cells over the same time.
    pub step: StepResponse,
}

impl Model {
    /// All ways of the model; for the bands of a state space, with the data of its fit.
    pub fn cells(&self, data: Option<&DataSet>) -> Result<Cells> {
        let goes = |input: usize, output: usize| self.cell(input, output).is_none_or(|(_, place)| place.is_some());
        let pairs = |output: usize| (0..self.inputs.len()).filter(move |input| goes(*input, output));
        let mut horizon: f64 = 0.0;
        for output in 0..self.outputs.len() {
            for input in pairs(output) {
                horizon = horizon.max(self.transfer(input, output)?.settling());
            }
        }
        let one = |input: usize, output: usize| -> Result<Option<Cell>> {
            if !goes(input, output) {
                return Ok(None);
            }
            let (model, place) = match self.cell(input, output) {
                Some((row, place)) => (row, place.unwrap_or_default()),
                None => (self, input),
            };
            let tag = &self.inputs[input].tag;
            let own = |parameter: &&Parameter| parameter.input.as_ref().is_none_or(|of| of == tag);
            Ok(Some(Cell {
                structure: model.structure.is_process().then(|| model.path_of(place)),
                parameters: model.parameters.iter().filter(own).cloned().collect(),
                step: self.step_response(data, input, output, Some(horizon))?,
            }))
        };
        let rows = (0..self.outputs.len())
            .map(|output| (0..self.inputs.len()).map(|input| one(input, output)).collect())
            .collect::<Result<_>>()?;
        Ok(Cells { inputs: self.inputs.clone(), outputs: self.outputs.clone(), rows })
    }
}
