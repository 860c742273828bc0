//! The trail under any sequence of what people do with it, beside a list in memory that does the same by the rules of the guide.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::assessment::{Assessment, assess};
use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::{Candidate, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
use antistasis_core::units::Span;
use antistasis_store::{
    AreaSeed, DeletionKind, Error, Expected, Listed, LoopSeed, LoopsAsked, NewTrial, Part, Store, TrialEdit,
};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use uuid::Uuid;

fn signal(tag: &str, unit: &str) -> Signal {
    Signal { tag: tag.into(), span: Span::new(0.0, 100.0, unit) }
}

fn trial(gain: f64) -> Trial {
    Trial {
        version: TRIAL_VERSION,
        plant: Plant::plain(
            LinearSpec::Fopdt { gain: 0.5, time_constant: 30.0, dead_time: 2.0 },
            signal("LIC-1.PV", "m"),
            signal("LIC-1.OP", "%"),
            OperatingPoint::new(50.0, 45.0),
        ),
        candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(gain, 30.0))),
        scenario: Scenario { duration: 20.0, scan: 1.0, seed: 1, events: vec![], further: Default::default() },
    }
}

/// A row as the rules say that it must be.
#[derive(Debug, Clone, PartialEq)]
struct Row {
    id: Uuid,
    number: i32,
    gain: usize,
    label: String,
    remark: String,
    starred: bool,
    pinned: bool,
    revision: i64,
}

/// What is done.
#[derive(Debug)]
enum Act {
    /// Keeps a trial; what was passed through on the way makes room.
    Keep {
        gain: usize,
        passed: Option<usize>,
    },
    Pin {
        row: usize,
        pinned: bool,
    },
    /// Names, annotates, stars; from the revision that stands there, or from an older one.
    Edit {
        row: usize,
        remark: &'static str,
        starred: bool,
        is_stale: bool,
    },
    Delete {
        row: usize,
    },
    Restore {
        deleted: usize,
    },
}

fn act(random: &mut ChaCha8Rng, rows: usize, deleted: usize) -> Act {
    let any = |random: &mut ChaCha8Rng, count: usize| random.random_range(0..count.max(1));
    match random.random_range(0..10) {
        0..4 => {
            let passed = random.random_bool(0.4).then(|| any(random, rows));
            Act::Keep { gain: any(random, 9), passed }
        }
        4 | 5 => Act::Pin { row: any(random, rows), pinned: random.random_bool(0.7) },
        6 | 7 => Act::Edit {
            row: any(random, rows),
            remark: ["", "calm", "to be tried"][any(random, 3)],
            starred: random.random_bool(0.3),
            is_stale: random.random_bool(0.3),
        },
        8 => Act::Delete { row: any(random, rows) },
        _ => Act::Restore { deleted: any(random, deleted) },
    }
}

/// The list beside the store: the newest first, and the bin with what was deleted together.
#[derive(Debug, Default)]
struct Beside {
    rows: Vec<Row>,
    bin: Vec<(Uuid, Row)>,
}

impl Beside {
    fn next_number(&self) -> i32 {
        // What lies in the bin keeps its number: it may come back.
        self.rows.iter().chain(self.bin.iter().map(|(_, row)| row)).map(|row| row.number).max().unwrap_or(0) + 1
    }

    fn keep(&mut self, gain: usize, passed: Option<Uuid>, id: Uuid) {
        let same = self.rows.iter().find(|row| row.gain == gain).map(|row| row.id);
        self.rows.retain(|row| {
            let makes_room = Some(row.id) == passed && passed != same;
            !makes_room || row.starred || row.pinned || !row.remark.is_empty()
        });
        if same.is_some() {
            assert_eq!(Some(id), same, "a trial that is there already is not kept twice");
            return;
        }
        let number = self.next_number();
        let row = Row {
            id,
            number,
            gain,
            label: format!("gain {gain}"),
            remark: String::new(),
            starred: false,
            pinned: false,
            revision: 1,
        };
        self.rows.insert(0, row);
        self.rows.sort_by_key(|row| -row.number);
    }
}

async fn stored(store: &Store, loop_id: Uuid, gains: &[Trial]) -> Vec<Row> {
    let rows = store.trials(loop_id).await.unwrap();
    rows.into_iter()
        .map(|row| Row {
            id: row.id,
            number: row.number,
            gain: gains.iter().position(|trial| *trial == row.trial).unwrap(),
            label: row.label,
            remark: row.remark,
            starred: row.starred,
            pinned: row.pinned,
            revision: row.revision,
        })
        .collect()
}

#[tokio::test]
async fn whatever_is_done_the_trail_is_what_the_rules_say() {
    let cluster = antistasis_cluster::for_tests().unwrap();
    let store = Store::open(&cluster.url("trail")).await.unwrap();
    let gains: Vec<Trial> = (0..9).map(|k| trial(1.0 + 0.1 * f64::from(k))).collect();
    let assessments: Vec<Assessment> =
        gains.iter().map(|trial| assess(trial, &trial.run().unwrap()).unwrap()).collect();
    for seed in 0..12 {
        let tag = format!("LIC-{seed}");
        let seeded = LoopSeed {
            tag: tag.clone(),
            name: "Tank".into(),
            difficulty: String::new(),
            pv: signal("LIC-1.PV", "m"),
            op: signal("LIC-1.OP", "%"),
        };
        store.seed_areas(&[AreaSeed { name: format!("Area {seed}"), loops: vec![seeded] }]).await.unwrap();
        let loop_id = store.find_loop(&tag).await.unwrap().id;
        let mut random = ChaCha8Rng::seed_from_u64(seed);
        let mut beside = Beside::default();
        for step in 0..60 {
            let act = act(&mut random, beside.rows.len(), beside.bin.len());
            match &act {
                Act::Keep { gain, passed } => {
                    let passed = passed.and_then(|k| beside.rows.get(k)).map(|row| row.id);
                    let label = format!("gain {gain}");
                    let new = NewTrial {
                        model_id: None,
                        label: &label,
                        trial: &gains[*gain],
                        assessment: &assessments[*gain],
                        replaces: passed,
                    };
                    let id = store.add_trial(loop_id, new).await.unwrap();
                    beside.keep(*gain, passed, id);
                }
                Act::Pin { row, pinned } => {
                    let Some(id) = beside.rows.get(*row).map(|row| row.id) else { continue };
                    store.pin_trial(id, *pinned).await.unwrap();
                    for row in &mut beside.rows {
                        // One at most: pinning takes the pin from the other, unpinning takes only its own.
                        row.pinned = if row.id == id { *pinned } else { row.pinned && !pinned };
                    }
                }
                Act::Edit { row, remark, starred, is_stale } => {
                    let Some(row) = beside.rows.get_mut(*row) else { continue };
                    let edit = TrialEdit { label: "named", remark, starred: *starred };
                    let revision = row.revision - i64::from(*is_stale);
                    let done = store.set_trial(row.id, Expected::Revision(revision), edit).await;
                    if *is_stale {
                        assert!(matches!(done, Err(Error::Changed)), "an older revision overwrites nothing: {done:?}");
                    } else {
                        done.unwrap();
                        row.label = "named".into();
                        row.remark = (*remark).into();
                        row.starred = *starred;
                        row.revision += 1;
                    }
                }
                Act::Delete { row } => {
                    if *row >= beside.rows.len() {
                        continue;
                    }
                    let row = beside.rows.remove(*row);
                    let item = store.delete(DeletionKind::Trial, row.id).await.unwrap();
                    assert!(store.trial(row.id).await.is_err(), "what is in the bin is not in the trail");
                    beside.bin.push((item.id, row));
                }
                Act::Restore { deleted } => {
                    if *deleted >= beside.bin.len() {
                        continue;
                    }
                    let (deletion, mut row) = beside.bin[*deleted].clone();
                    let done = store.restore(deletion).await;
                    if beside.rows.iter().any(|other| other.gain == row.gain) {
                        assert!(matches!(done, Err(Error::Refused(_))), "the same trial stands in the trail: {done:?}");
                    } else {
                        done.unwrap();
                        beside.bin.remove(*deleted);
                        // What was pinned since stays so.
                        row.pinned &= !beside.rows.iter().any(|other| other.pinned);
                        beside.rows.push(row);
                        beside.rows.sort_by_key(|row| -row.number);
                    }
                }
            }
            let found = stored(&store, loop_id, &gains).await;
            assert_eq!(found, beside.rows, "seed {seed}, step {step}: {act:?}");
            // A part of it is its beginning, with what is pinned or starred.
            let Listed { rows: part, all, .. } =
                store.newest_trials(loop_id, Part { newest: 2, also: None }).await.unwrap();
            let wanted: Vec<Uuid> = beside
                .rows
                .iter()
                .enumerate()
                .filter(|(k, row)| *k < 2 || row.pinned || row.starred)
                .map(|(_, row)| row.id)
                .collect();
            assert_eq!(part.iter().map(|row| row.id).collect::<Vec<_>>(), wanted);
            assert_eq!(all, beside.rows.len() as i64);
        }
        let summary =
            store.loops(&LoopsAsked::default()).await.unwrap().rows.into_iter().find(|one| one.tag == tag).unwrap();
        assert_eq!(summary.trials, beside.rows.len() as i64);
    }
    store.close().await;
}
