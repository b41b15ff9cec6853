//! The parts of a reading, how each ended, and the proof that all are complete.

use super::{PlacePurpose, Request};
use crate::graph::{Graph, NodeId};
use crate::ldap::identity::Identity;
use crate::ldap::name::{Dn, DnKey};
use crate::settings::GroupPurpose;
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

/// One part that must be read to its end.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Part {
    /// The people under one base.
    People {
        /// The base's name.
        base: Dn,
    },
    /// The groups to be imported under one base.
    ApplicationGroups {
        /// The base's name.
        base: Dn,
    },
    /// An entry that the settings name as a place. It must have been shown: a search below one that does not exist,
    /// or is hidden, may end well and find nothing.
    Place {
        /// The entry.
        place: Dn,
        /// What it is named for.
        purpose: PlacePurpose,
    },
    /// One group of a nest, with its members.
    Group {
        /// The group, by its number in the graph.
        group: NodeId,
        /// What the nest is read for.
        purpose: GroupPurpose,
    },
    /// The search for changes made during the reading: to people under a base, or to groups or containers under it.
    SecondLook {
        /// The base's name.
        base: Dn,
    },
    /// A snapshot, in place of a directory.
    Snapshot,
    /// The attributes and members that a domain controller's global catalog lacks.
    Catalog,
    /// The kind of server, which decides what primary groups and lacking attributes mean.
    Kind,
    /// Whatever would have been read after an interruption.
    Rest,
    /// The people's lasting identities.
    Identities {
        /// The attribute.
        attribute: String,
    },
    /// The people for whom the server says that a condition is true.
    Condition {
        /// The condition.
        filter: String,
    },
    /// The people's primary groups, which no group lists.
    PrimaryGroups,
    /// The entries other than people that fields refer to.
    FollowedNames,
    /// The look-up of people who have an account but are in no base.
    Lookup {
        /// The people.
        people: Vec<Identity>,
    },
}

/// How a part ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ended {
    /// With the server's final success, and nothing left out.
    Complete,
    /// With a result code other than success, a referral not followed, or a lost connection; in words.
    Short(String),
}

/// A part that was not read to its end.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Gap {
    /// The part, in words.
    pub part: String,
    /// The reason.
    pub reason: String,
    /// The part was read, and shows nothing where the last apply remembers something.
    #[serde(skip)]
    pub is_fall: bool,
    /// Whether people who must be excluded may be missing because of it.
    #[serde(skip)]
    pub hides_excluded: bool,
    /// The groups whose members may be unknown because of it.
    #[serde(skip)]
    pub hides_members: Hidden,
}

/// The groups whose members may be unknown.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Hidden {
    /// Of none.
    #[default]
    None,
    /// This group, and every group that contains it.
    Of(DnKey),
    /// Of any.
    Any,
}

impl fmt::Display for Gap {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        // The gaps of a snapshot name the part themselves.
        if self.part == SNAPSHOT {
            return out.write_str(&self.reason);
        }
        write!(out, "{}: {}", self.part, self.reason)
    }
}

/// The number of a part in progress.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PartId(usize);

/// The parts in progress.
#[derive(Debug, Default)]
pub(super) struct Parts {
    list: Vec<(Part, Option<Ended>)>,
    /// The reason for ending before every part was opened.
    cut: Option<String>,
}

impl Parts {
    /// Opens a part.
    pub(super) fn open(&mut self, part: Part) -> PartId {
        self.list.push((part, None));
        PartId(self.list.len() - 1)
    }

    /// Number of parts so far.
    pub(super) fn count(&self) -> usize {
        self.list.len()
    }

    /// Forgets the parts opened since there were so many.
    pub(super) fn back_to(&mut self, count: usize) {
        self.list.truncate(count);
    }

    /// Closes a part. Only the first call counts.
    pub(super) fn close(&mut self, part: PartId, ended: Ended) {
        if let Some((_, slot @ None)) = self.list.get_mut(part.0) {
            *slot = Some(ended);
        }
    }

    /// Closes every open part, and those not yet opened, for one reason.
    pub(super) fn cut_short(&mut self, reason: &str) {
        self.cut.get_or_insert_with(|| reason.to_owned());
        for (_, slot) in self.list.iter_mut().filter(|(_, slot)| slot.is_none()) {
            *slot = Some(Ended::Short(reason.to_owned()));
        }
    }

    /// The places that were not shown.
    pub(super) fn hidden_places(&self) -> Vec<DnKey> {
        let hidden = self.list.iter().filter(|(_, ended)| *ended != Some(Ended::Complete));
        let keys = hidden.filter_map(|(part, _)| match part {
            Part::Place { place, .. } => Some(place.key()),
            _ => None,
        });
        keys.collect()
    }

    /// The people of every complete look-up.
    pub(super) fn looked_up(&self) -> impl Iterator<Item = &Identity> {
        let complete = self.list.iter().filter(|(_, ended)| *ended == Some(Ended::Complete));
        complete.flat_map(|(part, _)| match part {
            Part::Lookup { people } => people.as_slice(),
            _ => &[],
        })
    }

    /// The gaps: parts that did not end well, and required parts not opened; and the proof if there are none. The
    /// only place that makes one.
    pub(super) fn finish(
        self,
        needed: &[Part],
        graph: &Graph,
        request: &Request,
    ) -> (Vec<Gap>, Option<Whole>) {
        let is_complete = |(_, ended): &&(Part, Option<Ended>)| *ended == Some(Ended::Complete);
        let complete: HashSet<&Part> = self.list.iter().filter(is_complete).map(|(part, _)| part).collect();
        let (mut gaps, mut told) = (Vec::<Gap>::new(), HashMap::<String, usize>::new());
        for (part, ended) in &self.list {
            let reason = match ended {
                Some(Ended::Complete) => continue,
                Some(Ended::Short(reason)) => reason.clone(),
                None => "it was not read to its end".to_owned(),
            };
            let gap = part.gap(reason, graph, request);
            // A group may be found missing before it is read; the first reason is told.
            let known = told.get(&gap.part).filter(|_| matches!(part, Part::Group { .. }));
            match known.and_then(|at| gaps.get_mut(*at)) {
                Some(known) => known.hides_excluded |= gap.hides_excluded,
                None => {
                    told.insert(gap.part.clone(), gaps.len());
                    gaps.push(gap);
                }
            }
        }
        for part in needed.iter().filter(|part| !complete.contains(part)) {
            let why = self.cut.as_ref().map_or_else(String::new, |reason| format!(": {reason}"));
            let gap = part.gap(format!("it was not read{why}"), graph, request);
            // A group may be needed for several purposes; it is reported once.
            match told.get(&gap.part).and_then(|at| gaps.get_mut(*at)) {
                Some(known) => known.hides_excluded |= gap.hides_excluded,
                None => {
                    told.insert(gap.part.clone(), gaps.len());
                    gaps.push(gap);
                }
            }
        }
        // It may end between two parts.
        if let Some(reason) = self.cut.filter(|_| gaps.is_empty()) {
            gaps.push(Part::Rest.gap(reason, graph, request));
        }
        let whole = gaps.is_empty().then_some(Whole(()));
        (gaps, whole)
    }
}

impl Part {
    /// The gap that the part leaves, for this reason.
    fn gap(&self, reason: String, graph: &Graph, request: &Request) -> Gap {
        let hides_excluded = match self {
            Self::Group { purpose, .. } => *purpose == GroupPurpose::Exclude,
            Self::PrimaryGroups
            | Self::Catalog
            | Self::Rest
            | Self::Kind
            | Self::SecondLook { .. }
            | Self::Place { purpose: PlacePurpose::Groups, .. } => request.excludes(),
            _ => false,
        };
        let (part, hides_members) = (self.called(graph), self.hides_members(graph));
        Gap { part, reason, is_fall: false, hides_excluded, hides_members }
    }

    /// The groups whose members may be unknown because of it.
    fn hides_members(&self, graph: &Graph) -> Hidden {
        match self {
            Self::Group { group, .. } => graph.key(*group).map_or(Hidden::Any, |key| Hidden::Of(key.clone())),
            Self::PrimaryGroups
            | Self::Snapshot
            | Self::Catalog
            | Self::Rest
            | Self::SecondLook { .. }
            | Self::Place { purpose: PlacePurpose::Groups, .. } => Hidden::Any,
            _ => Hidden::None,
        }
    }

    /// The part, in words.
    fn called(&self, graph: &Graph) -> String {
        match self {
            Self::People { base } => format!("people under {base}"),
            Self::ApplicationGroups { base } => format!("groups for the application under {base}"),
            Self::Place { place, purpose } => match purpose {
                PlacePurpose::People => format!("base {place}"),
                PlacePurpose::Groups => format!("group base {place}"),
                PlacePurpose::ApplicationGroups => format!("base {place} of groups for the application"),
                PlacePurpose::Condition => format!("{place}, which a condition names (under)"),
            },
            Self::Group { group, .. } => format!("group {}", graph.dn(*group)),
            Self::Snapshot => SNAPSHOT.to_owned(),
            Self::Catalog => "the global catalog".to_owned(),
            Self::Kind => "the kind of server".to_owned(),
            Self::Condition { filter } => format!("whom {filter} is true for"),
            Self::Rest => "the end of the reading".to_owned(),
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
