//! What a reading consists of.

use super::{Gap, Hidden};
use crate::identity::Identity;
use crate::membership::{Graph, NodeId};
use crate::name::Dn;
use crate::settings::Intake;

/// What [`Part::Snapshot`] is called.
pub(super) const SNAPSHOT: &str = "what was read";

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
        purpose: Purpose,
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
    /// Where the people of accounts are that the sweep did not meet.
    Lookup {
        /// Who is looked for.
        people: Vec<Identity>,
    },
}

/// What a nest of groups is read for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Purpose {
    /// `groups`: its members come in.
    Admit,
    /// `not_in_group`: its members stay out.
    Exclude,
    /// A condition asks about it.
    Decide,
    /// It comes into the application.
    Bring,
}

impl Part {
    /// What is missing where it was not read to its end, for this reason.
    pub(super) fn gap(&self, reason: String, graph: &Graph, intake: &Intake) -> Gap {
        let hides_excluded = match self {
            Self::Group { purpose, .. } => *purpose == Purpose::Exclude,
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
                let accounts = if people.len() == 1 { "account" } else { "accounts" };
                format!("look-up of the people of {} linked {accounts}", people.len())
            }
        }
    }
}
