//! Loops and areas as one open file, and back: documents in JSON, samples in Parquet, and a text that says what is what.

use crate::problem::Problem;
use antistasis_core::document::Stored;
use antistasis_core::series::{Channel, Record, TimeAxis};
use antistasis_exchange::archive::{Entries, columns, pack, samples, unpack};
use antistasis_store::{
    ArchivedDossier, ArchivedLoop, ArchivedModel, ArchivedProof, ArchivedRecord, ArchivedSaved, ArchivedTrial,
    SavedSpec,
};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::path::Path;

/// What the archive says of itself.
#[derive(Debug, Serialize, Deserialize)]
struct Manifest {
    format: String,
    version: u32,
    /// Version of the application that wrote it.
    written_by: String,
    loops: Vec<String>,
}

const FORMAT: &str = "antistasis archive";
const VERSION: u32 = 1;

/// A loop with the samples of its records, in their order.
pub type Whole = (ArchivedLoop, Vec<Record>);

/// The bytes of an archive of loops.
pub(crate) fn write(loops: &[Whole]) -> Result<Vec<u8>, Problem> {
    let mut entries = Entries::new();
    let tags: Vec<String> = loops.iter().map(|(archived, _)| archived.tag.clone()).collect();
    let manifest = Manifest {
        format: FORMAT.into(),
        version: VERSION,
        written_by: env!("CARGO_PKG_VERSION").into(),
        loops: tags.clone(),
    };
    entries.insert("manifest.json".into(), json(&manifest)?);
    entries.insert("README.txt".into(), readme(loops).into_bytes());
    for (archived, records) in loops {
        let folder = format!("loops/{}", archived.tag);
        entries.insert(format!("{folder}/loop.json"), json(archived)?);
        for (k, (info, record)) in archived.records.iter().zip(records).enumerate() {
            entries.insert(format!("{folder}/records/{:04}.json", k + 1), json(info)?);
            entries.insert(format!("{folder}/records/{:04}.parquet", k + 1), samples(record)?);
        }
        for model in &archived.models {
            entries.insert(format!("{folder}/models/{:04}.json", model.number), json(model)?);
        }
        for trial in &archived.trials {
            entries.insert(format!("{folder}/trials/{:04}.json", trial.number), json(trial)?);
        }
        for proof in &archived.proofs {
            entries.insert(format!("{folder}/proofs/{:04}.json", proof.number), json(proof)?);
        }
        if let Some(dossier) = &archived.dossier {
            entries.insert(format!("{folder}/dossier.json"), json(dossier)?);
        }
        for (k, saved) in archived.saved.iter().enumerate() {
            entries.insert(format!("{folder}/saved/{:04}.json", k + 1), json(saved)?);
        }
    }
    Ok(pack(&entries)?)
}

fn json(document: &impl Serialize) -> Result<Vec<u8>, Problem> {
    serde_json::to_vec_pretty(document).map_err(|error| {
        tracing::error!(%error, "a document cannot be written");
        Problem::internal()
    })
}

fn readme(loops: &[Whole]) -> String {
    let mut text = String::from(
        "Control loops out of Antistasis.\n\n\
         manifest.json             what this archive is: its form and version, and its loops\n\
         loops/TAG/loop.json       area, tag, name, notes, signals with their spans, the simulated plant behind the loop\n\
         loops/TAG/records/N.json  a record: name, where it came from, its channels (tag, role, unit), start, preparation\n\
         loops/TAG/records/N.parquet\n\
         \u{20}                         its samples as doubles, a column a channel in that order; a first column \u{201c}time [s]\u{201d}\n\
         \u{20}                         where they are uneven, else a sample every sample_interval seconds; missing ones are null\n\
         loops/TAG/models/N.json   a model with what it was fitted under, its windows and its validation\n\
         loops/TAG/trials/N.json   a trial (plant, candidate, scenario) and its assessment; the same trial gives the same trace\n\
         loops/TAG/proofs/N.json   a proof (plant, candidates, disturbances with limits) and its table\n\
         loops/TAG/dossier.json    what was chosen and written for the dossier; all else in it is made from the rest\n\
         loops/TAG/saved/N.json    plants, scenarios, candidates and proving sets that were saved for the works in this loop\n\n\
         Times are in seconds, outputs in %, all else in the unit that stands with it. Numbers are written so that they read\n\
         back as the same bits. content_hash is the SHA-256 of a record's times, tags and values.\n\n\
         Loops:\n",
    );
    for (archived, _) in loops {
        text += &format!(
            "  {} {} ({}): {} records, {} models, {} trials\n",
            archived.tag,
            archived.name,
            archived.area,
            archived.records.len(),
            archived.models.len(),
            archived.trials.len()
        );
    }
    text
}

/// The loops of an archive.
///
/// Errors name the entry that cannot be read, or whose samples are not what its document says.
pub fn read(path: &Path) -> Result<Vec<Whole>, Problem> {
    let mut entries = unpack(path)?;
    let manifest: Manifest = document(&entries, "manifest.json")?;
    if manifest.format != FORMAT || manifest.version > VERSION {
        return Err(Problem::invalid(format!(
            "The archive is “{}”, version {}: this program reads “{FORMAT}” up to version {VERSION}.",
            manifest.format, manifest.version
        )));
    }
    let mut loops = Vec::with_capacity(manifest.loops.len());
    for tag in &manifest.loops {
        let folder = format!("loops/{tag}");
        let mut archived: ArchivedLoop = document(&entries, &format!("{folder}/loop.json"))?;
        archived.models = documents::<ArchivedModel>(&entries, &format!("{folder}/models/"))?;
        archived.trials = documents::<ArchivedTrial>(&entries, &format!("{folder}/trials/"))?;
        archived.proofs = documents::<ArchivedProof>(&entries, &format!("{folder}/proofs/"))?;
        let written = format!("{folder}/dossier.json");
        archived.dossier =
            if entries.contains_key(&written) { Some(document::<ArchivedDossier>(&entries, &written)?) } else { None };
        archived.saved = documents::<ArchivedSaved>(&entries, &format!("{folder}/saved/"))?;
        archived.records = documents::<ArchivedRecord>(&entries, &format!("{folder}/records/"))?;
        let mut records = Vec::with_capacity(archived.records.len());
        for (k, info) in archived.records.iter().enumerate() {
            let path = format!("{folder}/records/{:04}.parquet", k + 1);
            let bytes = entries.remove(&path).ok_or_else(|| missing(&path))?;
            records.push(record(info, columns(bytes)?, &path)?);
        }
        check(&archived)?;
        loops.push((archived, records));
    }
    Ok(loops)
}

fn missing(path: &str) -> Problem {
    Problem::invalid(format!("The archive has no {path}: it is not whole."))
}

fn document<T: DeserializeOwned>(entries: &Entries, path: &str) -> Result<T, Problem> {
    let bytes = entries.get(path).ok_or_else(|| missing(path))?;
    serde_json::from_slice(bytes).map_err(|error| Problem::invalid(format!("{path} cannot be read: {error}.")))
}

fn documents<T: DeserializeOwned>(entries: &Entries, folder: &str) -> Result<Vec<T>, Problem> {
    let own = entries.keys().filter(|path| path.starts_with(folder) && path.ends_with(".json"));
    own.map(|path| document(entries, path)).collect()
}

/// A record out of its columns; what it holds must be what its document says.
fn record(info: &ArchivedRecord, mut columns: Vec<Vec<f64>>, path: &str) -> Result<Record, Problem> {
    let length = usize::try_from(info.length).unwrap_or(0);
    let refused = |what: &str| Problem::invalid(format!("{path} is not the record “{}”: {what}.", info.name));
    let uneven = usize::from(info.sample_interval.is_none());
    if columns.len() != info.channels.len() + uneven || columns.iter().any(|column| column.len() != length) {
        return Err(refused("it has other columns or another length"));
    }
    let axis = match info.sample_interval {
        Some(interval) => TimeAxis::uniform(interval, length)?,
        None => TimeAxis::Irregular(columns.remove(0)),
    };
    let channels = info.channels.iter().zip(columns).map(|(channel, values)| Channel {
        tag: channel.tag.clone(),
        role: channel.role,
        unit: channel.unit.clone(),
        values,
    });
    let record = Record::new(axis, channels.collect())?;
    if record.content_hash() != info.content_hash && record.corrected_hash() != info.content_hash {
        return Err(refused("its samples are not those that were written"));
    }
    Ok(record)
}

/// Documents that this program can read, before anything is stored.
fn check(archived: &ArchivedLoop) -> Result<(), Problem> {
    fn readable<T: DeserializeOwned>(value: &serde_json::Value, what: &str) -> Result<(), Problem> {
        T::deserialize(value).map(drop).map_err(|error| Problem::invalid(format!("{what} cannot be read: {error}.")))
    }
    archived.pv.span.validate("pv.span")?;
    archived.op.span.validate("op.span")?;
    for model in &archived.models {
        let what = format!("model {} of {}", model.number, archived.tag);
        readable::<Stored<antistasis_core::identification::Model>>(&model.result, &what)?;
        readable::<Stored<antistasis_core::identification::FitOptions>>(&model.options, &what)?;
        readable::<Vec<Stored<antistasis_core::preparation::Step>>>(&model.preparation, &what)?;
        readable::<Option<Stored<antistasis_core::identification::Validation>>>(
            model.validation.as_ref().unwrap_or(&serde_json::Value::Null),
            &what,
        )?;
    }
    for trial in &archived.trials {
        let what = format!("trial {} of {}", trial.number, archived.tag);
        readable::<Stored<antistasis_core::simulation::Trial>>(&trial.spec, &what)?;
        readable::<Stored<antistasis_core::assessment::Assessment>>(&trial.assessment, &what)?;
    }
    if let Some(dossier) = &archived.dossier {
        readable::<Stored<antistasis_dossier::DossierSpec>>(
            &dossier.spec,
            &format!("the dossier of {}", archived.tag),
        )?;
    }
    for proof in &archived.proofs {
        let what = format!("proof {} of {}", proof.number, archived.tag);
        readable::<Stored<antistasis_core::proof::Proof>>(&proof.spec, &what)?;
        readable::<Stored<antistasis_core::proof::ProofResult>>(&proof.result, &what)?;
    }
    for saved in &archived.saved {
        let what = format!("“{}”, saved in {},", saved.name, archived.tag);
        SavedSpec::read(&saved.kind, saved.spec.clone())
            .map_err(|error| Problem::invalid(format!("{what} cannot be read: {error}.")))?;
    }
    Ok(())
}
