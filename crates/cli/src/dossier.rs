//! The dossier of a loop out of its archive.

use crate::Failure;
use crate::files::read_document;
use antistasis_dossier::{DossierSpec, dossier, html, pdf};
use antistasis_server::archive;
use antistasis_server::dossier::{proposed, record_needed, sources, written};
use clap::{Args, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Form {
    /// An HTML page that needs nothing beside itself.
    Html,
    /// PDF.
    Pdf,
    /// The document as JSON.
    Json,
}

#[derive(Debug, Args)]
pub(crate) struct DossierOptions {
    /// Archive of a loop or an area, as the application writes it.
    archive: PathBuf,
    /// Tag of the loop, where the archive holds several.
    #[arg(long = "loop", value_name = "TAG")]
    tag: Option<String>,
    /// What is to be in it; where left out, what was written in the application, else what is proposed. `antistasis schema dossier`
    /// prints its schema.
    #[arg(long, value_name = "FILE")]
    spec: Option<PathBuf>,
    /// Print what is to be in it, to be changed, instead.
    #[arg(long, conflicts_with_all = ["form", "out"])]
    propose: bool,
    /// The form.
    #[arg(long, value_enum, default_value = "html")]
    form: Form,
    /// File that it is written to.
    #[arg(long, value_name = "FILE", required_unless_present = "propose")]
    out: Option<PathBuf>,
}

pub(crate) fn run(options: &DossierOptions) -> Result<(), Failure> {
    let path = &options.archive;
    let mut loops = archive::read(path).map_err(|problem| Failure::of(path, problem.detail()))?;
    let tags: Vec<String> = loops.iter().map(|(archived, _)| archived.tag.clone()).collect();
    let place = match &options.tag {
        Some(tag) => tags
            .iter()
            .position(|own| own == tag)
            .ok_or_else(|| Failure::new(format!("--loop: there is no {tag}; the archive holds {}", tags.join(", "))))?,
        None if loops.len() == 1 => 0,
        None => return Err(Failure::new(format!("--loop: the archive holds {}; name one", tags.join(", ")))),
    };
    let (archived, mut records) = loops.swap_remove(place);
    let failed = |problem: antistasis_server::Problem| Failure::of(path, problem.detail());
    let spec = match &options.spec {
        Some(file) => Some(read_document::<DossierSpec>(file)?),
        None => match &archived.dossier {
            Some(own) => written(&own.spec).map(Some),
            None => proposed(&archived),
        }
        .map_err(failed)?,
    };
    let spec =
        spec.ok_or_else(|| Failure::of(path, format!("{} has no trial that could be handed over", archived.tag)))?;
    if options.propose {
        return crate::files::print(&spec);
    }
    let of_spec = options.spec.as_ref().unwrap_or(path);
    spec.validate().map_err(|error| Failure::of(of_spec, error))?;
    let record = record_needed(&archived, &spec).map_err(failed)?.map(|place| records.swap_remove(place));
    let sources = sources(&archived, &spec, record).map_err(failed)?;
    let document = dossier(&sources, &spec).map_err(|error| Failure::of(path, error))?;
    let bytes = match options.form {
        Form::Html => html(&document).into_bytes(),
        Form::Pdf => pdf(&document).map_err(Failure::new)?,
        Form::Json => serde_json::to_vec_pretty(&document).map_err(Failure::new)?,
    };
    match &options.out {
        Some(file) => std::fs::write(file, bytes).map_err(|error| Failure::of(file, error)),
        None => Ok(()),
    }
}
