//! The dossier of a loop: what is handed over, with the evidence, as a document that can be read without the program.
//!
//! [`dossier`] makes the document from the documents of a loop; [`html`] and [`pdf`] print it. The same documents give the same bytes.

mod chart;
mod document;
mod drawing;
mod evidence;
mod handed;
mod html;
mod pdf;
mod settings;
mod sources;
mod spec;
mod stale;

pub use document::{Block, Cell, DOSSIER_VERSION, Dossier, Fact, Part, Section};
pub use drawing::{Anchor, Drawing, Mark};
pub use handed::{proposed_instructions, warnings};
pub use html::html;
pub use pdf::{PdfError, pdf};
pub use sources::{ModelSource, ProofSource, RecordSource, Sources, TrialSource};
pub use spec::DossierSpec;

use antistasis_core::Result;

/// The licence of the letters that are in every PDF.
pub const LICENCE_OF_LETTERS: &str = include_str!("../fonts/LICENSE.txt");

/// The dossier of a loop. Errors where the specification cannot be, or a document upstream does not run any more.
pub fn dossier(sources: &Sources, spec: &DossierSpec) -> Result<Dossier> {
    spec.validate()?;
    let stale = stale::stale(sources);
    let trace = sources.trial.trial.run()?;
    let typed = sources.trial.trial.typed_in(spec.notation, spec.digits)?;
    let section = |part: Part| -> Result<Section> {
        let none = Vec::new();
        let (blocks, stale) = match part {
            Part::Summary => (handed::summary(sources, spec, &trace), &stale.trial),
            Part::Settings => (handed::settings(sources, spec, &typed), &stale.trial),
            Part::Instructions => (handed::instructions(spec), &none),
            Part::Warnings => (handed::warned(sources, &typed), &none),
            Part::Record => (evidence::record(sources)?, &none),
            Part::Model => (evidence::model(sources)?, &stale.model),
            Part::Candidates => (evidence::candidates(sources), &stale.proof),
            Part::Proof => (evidence::proof(sources), &stale.proof),
            Part::Origins => (evidence::origins(sources, &spec.author), &none),
        };
        Ok(Section { part, title: part.title().to_owned(), stale: stale.clone(), blocks })
    };
    let mut subtitle = vec![sources.area.clone()];
    if !spec.author.trim().is_empty() {
        subtitle.push(format!("handed over by {}", spec.author.trim()));
    }
    if let Some(date) = sources.written_at.get(..10) {
        subtitle.push(date.to_owned());
    }
    subtitle.retain(|part| !part.is_empty());
    Ok(Dossier {
        version: DOSSIER_VERSION,
        title: format!("{} {}", sources.tag, sources.name).trim().to_owned(),
        subtitle: subtitle.join(", "),
        sections: spec.parts.iter().map(|part| section(*part)).collect::<Result<_>>()?,
    })
}
