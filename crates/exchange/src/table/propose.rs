//! The loops that a table of signals seems to hold, by the tags of its columns.

use super::{ChannelMapping, Mapping};
use antistasis_core::series::Role;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A loop that a file seems to hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoopProposal {
    /// Its tag, out of those of its signals; empty where they tell none.
    pub tag: String,
    /// Its own signals, and those that no loop claims.
    pub channels: Vec<ChannelMapping>,
}

/// What the signals of a loop are called behind its tag.
const SUFFIXES: [(Role, &[&str]); 3] = [
    (Role::Pv, &["pv", "me", "meas", "measurement", "istwert", "x"]),
    (Role::Op, &["op", "out", "output", "co", "mv", "stellwert", "y"]),
    (Role::Sp, &["sp", "setpoint", "wsp", "sollwert", "w"]),
];

/// `TIC-207.PV` into tag and role.
fn taken_apart(name: &str) -> Option<(&str, Role)> {
    let at = name.rfind(['.', '/', ':', '_', ' ', '|'])?;
    let (tag, suffix) = (name[..at].trim(), name[at + 1..].trim().to_lowercase());
    let role = SUFFIXES.iter().find(|(_, words)| words.contains(&suffix.as_str()))?.0;
    (!tag.is_empty()).then_some((tag, role))
}

/// The loops that the channels of a mapping seem to belong to: a PV and an OP with one tag make a loop; where none do, the
/// channels are one loop as they were guessed.
#[must_use]
pub fn propose(guess: &Mapping) -> Vec<LoopProposal> {
    let apart: Vec<Option<(&str, Role)>> = guess.channels.iter().map(|channel| taken_apart(&channel.column)).collect();
    let mut tags: Vec<&str> = Vec::new();
    for (tag, _) in apart.iter().flatten() {
        let has = |role| apart.iter().flatten().any(|other| *other == (*tag, role));
        if !tags.contains(tag) && has(Role::Pv) && has(Role::Op) {
            tags.push(tag);
        }
    }
    if tags.is_empty() {
        let pv = guess.channels.iter().find(|channel| channel.role == Role::Pv);
        let tag = pv.and_then(|pv| taken_apart(&pv.column)).map_or(String::new(), |(tag, _)| tag.to_owned());
        return vec![LoopProposal { tag, channels: guess.channels.clone() }];
    }
    tags.iter()
        .map(|tag| {
            let channels = guess.channels.iter().zip(&apart).filter_map(|(channel, apart)| {
                let role = match apart {
                    Some((own, role)) if own == tag => *role,
                    // A signal of no loop may disturb this one.
                    Some((own, _)) if tags.contains(own) => return None,
                    _ if channel.role == Role::Dv => Role::Dv,
                    _ => Role::Other,
                };
                let unit = if channel.unit.is_empty() && role == Role::Op { "%".into() } else { channel.unit.clone() };
                Some(ChannelMapping { role, unit, ..channel.clone() })
            });
            LoopProposal { tag: (*tag).to_owned(), channels: one_of_each(channels.collect()) }
        })
        .collect()
}

/// One PV, OP and SP; a second one is any other signal.
fn one_of_each(mut channels: Vec<ChannelMapping>) -> Vec<ChannelMapping> {
    for role in [Role::Pv, Role::Op, Role::Sp] {
        let again = channels.iter_mut().filter(|channel| channel.role == role).skip(1);
        again.for_each(|channel| channel.role = Role::Other);
    }
    channels
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{Reading, TimeSource};

    fn proposed(columns: &[(&str, Role)]) -> Vec<LoopProposal> {
        let channels = columns.iter().map(|(column, role)| ChannelMapping {
            column: (*column).into(),
            role: *role,
            tag: (*column).into(),
            unit: String::new(),
        });
        let time = TimeSource::Interval { seconds: 1.0 };
        propose(&Mapping { reading: Reading::default(), time, gaps: None, channels: channels.collect() })
    }

    #[test]
    fn a_pv_and_an_op_of_one_tag_make_a_loop() {
        let found = proposed(&[
            ("TIC-1.PV", Role::Pv),
            ("TIC-1.OP", Role::Op),
            ("LIC-2.SP", Role::Sp),
            ("LIC-2.OP", Role::Other),
            ("LIC-2.PV", Role::Other),
            ("FI-3.PV", Role::Dv),
        ]);
        assert_eq!(found.iter().map(|one| one.tag.as_str()).collect::<Vec<_>>(), ["TIC-1", "LIC-2"]);
        let roles = |k: usize| -> Vec<(String, Role)> {
            found[k].channels.iter().map(|channel| (channel.column.clone(), channel.role)).collect()
        };
        let own = |column: &str, role| (column.to_owned(), role);
        assert_eq!(
            roles(1),
            [own("LIC-2.SP", Role::Sp), own("LIC-2.OP", Role::Op), own("LIC-2.PV", Role::Pv), own("FI-3.PV", Role::Dv)]
        );
        assert_eq!(roles(0)[2], own("FI-3.PV", Role::Dv));
    }

    #[test]
    fn without_tags_the_file_is_one_loop() {
        let found = proposed(&[("level", Role::Pv), ("valve", Role::Op)]);
        assert_eq!((found.len(), found[0].tag.as_str(), found[0].channels.len()), (1, "", 2));
        assert_eq!(proposed(&[("TIC-9.PV", Role::Pv), ("valve", Role::Op)])[0].tag, "TIC-9");
    }
}
