//! What a reading consists of.

use super::Hidden;
use crate::identity::Identity;
use crate::name::{Dn, DnKey};
use std::fmt;

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
        /// The group's name.
        dn: Box<str>,
        /// The name for comparing.
        key: DnKey,
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
    /// One group that is named.
    #[must_use]
    pub fn group(dn: &Dn, purpose: Purpose) -> Self {
        Self::Group { dn: dn.to_string().into(), key: dn.key(), purpose }
    }

    /// Whose members may not be known if it was not read to its end.
    pub(super) fn hides_members(&self) -> Hidden {
        match self {
            Self::Group { key, .. } => Hidden::Of(key.clone()),
            Self::PrimaryGroups | Self::Snapshot => Hidden::Any,
            _ => Hidden::None,
        }
    }
}

impl fmt::Display for Part {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Part::People { base } => write!(out, "people under {base}"),
            Part::ApplicationGroups { base } => write!(out, "groups for the application under {base}"),
            Part::Group { dn, .. } => write!(out, "group {dn}"),
            Part::Snapshot => out.write_str("what was read"),
            Part::SecondLook { base } => write!(out, "what changed meanwhile under {base}"),
            Part::PrimaryGroups => out.write_str("primary groups of the people"),
            Part::FollowedNames => out.write_str("entries that fields of people name"),
            Part::Identities { attribute } => write!(out, "{attribute} of the people"),
            Part::Lookup { people } => {
                let accounts = if people.len() == 1 { "account" } else { "accounts" };
                write!(out, "look-up of the people of {} linked {accounts}", people.len())
            }
        }
    }
}
