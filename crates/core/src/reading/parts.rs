//! The parts that a reading consists of, how each ended, and the proof that all of them are whole.

use crate::graph::{Graph, NodeId};
use crate::ldap::identity::Identity;
use crate::ldap::name::{Dn, DnKey};
use crate::settings::{GroupPurpose, Intake};
use crate::words::counted;
use foldhash::HashSet;
use serde::Serialize;
use std::collections::HashMap;
use std::fmt;

/// The name of [`Part::Snapshot`].
const SNAPSHOT: &str = "what was read";

/// Proof that a reading saw everything it asked for: every base, page, group and look-up.
///
/// Only the end of a [`ReadingBuilder`](super::ReadingBuilder) makes one, and it cannot be copied
/// out of its [`Reading`](super::Reading).
#[derive(Debug)]
pub struct Whole(());

/// One thing that has to be read to its end.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Part {
    /// The people under one base.
    People {
        /// The base's name.
        base: Dn,
    },
    /// The groups under one base that come into the application.
    ApplicationGroups {
        /// The base's name.
        base: Dn,
    },
    /// One group of the nest, and its members.
    Group {
        /// The group, by its number in the graph.
        group: NodeId,
        /// Whether the nest lets people in or keeps them out.
        purpose: GroupPurpose,
    },
    /// What changed while the people were read.
    SecondLook {
        /// The base's name.
        base: Dn,
    },
    /// A snapshot in place of the directory.
    Snapshot,
    /// The lasting identities of the people.
    Identities {
        /// The attribute that holds them.
        attribute: String,
    },
    /// The primary groups of the people, which no group lists.
    PrimaryGroups,
    /// The entries that fields of people name, and that are none of the people.
    FollowedNames,
    /// Where the people of accounts are that the builder did not meet.
    Lookup {
        /// Who is looked for.
        people: Vec<Identity>,
    },
}

/// How the reading of a part ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ended {
    /// With the server's final success, and nothing left out.
    Complete,
    /// With a result code other than success, a reference that was not followed, a cut connection:
    /// in words, for people.
    Short(String),
}

/// One thing that was not read to its end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Gap {
    /// What was being read.
    pub part: String,
    /// Why it is not whole.
    pub reason: String,
    /// Whether the people who must stay out may be incomplete through it.
    #[serde(skip)]
    pub hides_excluded: bool,
    /// Whose members may not be known through it.
    #[serde(skip)]
    pub hides_members: Hidden,
}

/// Groups whose members may not be known.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Hidden {
    /// Of none.
    #[default]
    None,
    /// Of this group, and of every group that it is in.
    Of(DnKey),
    /// Of any.
    Any,
}

impl fmt::Display for Gap {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        // A snapshot's gaps name the part themselves.
        if self.part == SNAPSHOT {
            return out.write_str(&self.reason);
        }
        write!(out, "{}: {}", self.part, self.reason)
    }
}

/// One part of a reading under way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartId(usize);

/// The parts of a reading under way.
#[derive(Debug, Default)]
pub(super) struct Parts {
    list: Vec<(Part, Option<Ended>)>,
    /// The reason why the reading ended before everything was begun.
    cut: Option<String>,
}

impl Parts {
    /// Begins a part.
    pub(super) fn open(&mut self, part: Part) -> PartId {
        self.list.push((part, None));
        PartId(self.list.len() - 1)
    }

    /// Ends a part. The first ending counts.
    pub(super) fn close(&mut self, part: PartId, ended: Ended) {
        if let Some((_, slot @ None)) = self.list.get_mut(part.0) {
            *slot = Some(ended);
        }
    }

    /// Ends every open part, and all that was not begun, for one reason.
    pub(super) fn cut_short(&mut self, reason: &str) {
        self.cut.get_or_insert_with(|| reason.to_owned());
        for (_, slot) in self.list.iter_mut().filter(|(_, slot)| slot.is_none()) {
            *slot = Some(Ended::Short(reason.to_owned()));
        }
    }

    /// The people of every look-up that ended well.
    pub(super) fn looked_up(&self) -> impl Iterator<Item = &Identity> {
        let complete = self.list.iter().filter(|(_, ended)| *ended == Some(Ended::Complete));
        complete.flat_map(|(part, _)| match part {
            Part::Lookup { people } => people.as_slice(),
            _ => &[],
        })
    }

    /// What is missing: parts that did not end well, and needed ones that were not begun; and the
    /// proof if nothing is. The only place that makes one.
    pub(super) fn finish(self, needed: &[Part], graph: &Graph, intake: &Intake) -> (Vec<Gap>, Option<Whole>) {
        let is_complete = |(_, ended): &&(Part, Option<Ended>)| *ended == Some(Ended::Complete);
        let complete: HashSet<&Part> = self.list.iter().filter(is_complete).map(|(part, _)| part).collect();
        let mut gaps = Vec::new();
        for (part, ended) in &self.list {
            let reason = match ended {
                Some(Ended::Complete) => continue,
                Some(Ended::Short(reason)) => reason.clone(),
                None => "it was not read to its end".to_owned(),
            };
            gaps.push(part.gap(reason, graph, intake));
        }
        let mut told: HashMap<String, usize> =
            gaps.iter().enumerate().map(|(at, gap)| (gap.part.clone(), at)).collect();
        for part in needed.iter().filter(|part| !complete.contains(part)) {
            let why = self.cut.as_ref().map_or_else(String::new, |reason| format!(": {reason}"));
            let gap = part.gap(format!("it was not read{why}"), graph, intake);
            // A group may be needed for several purposes; its name is told once.
            match told.get(&gap.part).and_then(|at| gaps.get_mut(*at)) {
                Some(known) => known.hides_excluded |= gap.hides_excluded,
                None => {
                    told.insert(gap.part.clone(), gaps.len());
                    gaps.push(gap);
                }
            }
        }
        let whole = gaps.is_empty().then_some(Whole(()));
        (gaps, whole)
    }
}

impl Part {
    /// What is missing where it was not read to its end, for this reason.
    fn gap(&self, reason: String, graph: &Graph, intake: &Intake) -> Gap {
        let hides_excluded = match self {
            Self::Group { purpose, .. } => *purpose == GroupPurpose::Exclude,
            Self::PrimaryGroups => !intake.not_in_group.is_empty(),
            _ => false,
        };
        Gap { part: self.called(graph), reason, hides_excluded, hides_members: self.hides_members(graph) }
    }

    /// Whose members may not be known if it was not read to its end.
    fn hides_members(&self, graph: &Graph) -> Hidden {
        match self {
            Self::Group { group, .. } => graph.key(*group).map_or(Hidden::Any, |key| Hidden::Of(key.clone())),
            Self::PrimaryGroups | Self::Snapshot => Hidden::Any,
            _ => Hidden::None,
        }
    }

    /// What it is called, for people.
    fn called(&self, graph: &Graph) -> String {
        match self {
            Self::People { base } => format!("people under {base}"),
            Self::ApplicationGroups { base } => format!("groups for the application under {base}"),
            Self::Group { group, .. } => format!("group {}", graph.dn(*group)),
            Self::Snapshot => SNAPSHOT.to_owned(),
            Self::SecondLook { base } => format!("what changed meanwhile under {base}"),
            Self::PrimaryGroups => "primary groups of the people".to_owned(),
            Self::FollowedNames => "entries that fields of people name".to_owned(),
            Self::Identities { attribute } => format!("{attribute} of the people"),
            Self::Lookup { people } => {
                format!(
                    "look-up of the people of {}",
                    counted(people.len(), "linked account", "linked accounts")
                )
            }
        }
    }
}
