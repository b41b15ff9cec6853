//! Looking up one entry on servers that refuse the filter for any entry, `(objectClass=*)`: by object classes then, and by
//! one class after the other on servers that know nothing but equality.

use super::query::Query;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_wire::message::{ResultCode, Scope};

/// Object classes of entries that are looked up.
const CLASSES: [&str; 12] = [
    "top",
    "groupOfNames",
    "groupOfUniqueNames",
    "posixGroup",
    "group",
    "groupOfURLs",
    "inetOrgPerson",
    "person",
    "organizationalUnit",
    "organization",
    "domain",
    "container",
];

/// The filter that finds any entry on this server.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) enum Existence {
    /// `(objectClass=*)` (RFC 4512 §2.4: every entry has the attribute).
    #[default]
    Present,
    /// Any of the known classes.
    AnyClass,
    /// One class, of this index.
    OneClass(usize),
}

impl Existence {
    /// Whether a query looks up one entry, whatever it is.
    pub(super) fn is_asked(query: &Query) -> bool {
        query.scope == Scope::Base && query.filter == Filter::present("objectClass")
    }

    /// The filter.
    pub(super) fn filter(self) -> Filter {
        match self {
            Self::Present => Filter::present("objectClass"),
            Self::AnyClass => Filter::any(CLASSES.map(|class| Filter::equal("objectClass", class))),
            Self::OneClass(at) => Filter::equal("objectClass", CLASSES.get(at).copied().unwrap_or("top")),
        }
    }

    /// The filter to try after this one; `None` if its result counts.
    pub(super) fn next(self, code: ResultCode, is_found: bool) -> Option<Self> {
        let refuses = [
            ResultCode::PROTOCOL_ERROR,
            ResultCode::INAPPROPRIATE_MATCHING,
            ResultCode::UNWILLING_TO_PERFORM,
        ];
        match self {
            Self::Present if refuses.contains(&code) => Some(Self::AnyClass),
            Self::AnyClass if refuses.contains(&code) => Some(Self::OneClass(0)),
            Self::OneClass(at) if code == ResultCode::SUCCESS && !is_found && at + 1 < CLASSES.len() => {
                Some(Self::OneClass(at + 1))
            }
            _ => None,
        }
    }

    /// The filter with which to begin once this one found an entry.
    pub(super) fn known(self) -> Self {
        match self {
            Self::OneClass(_) => Self::OneClass(0),
            other => other,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_refused_filter_gives_way_to_a_simpler_one_and_what_counts_ends_it() {
        let (success, refused) = (ResultCode::SUCCESS, ResultCode::UNWILLING_TO_PERFORM);
        let last = Existence::OneClass(CLASSES.len() - 1);
        for (now, code, is_found, next) in [
            (Existence::Present, success, true, None),
            (Existence::Present, success, false, None),
            (Existence::Present, ResultCode::NO_SUCH_OBJECT, false, None),
            (Existence::Present, refused, false, Some(Existence::AnyClass)),
            (Existence::AnyClass, success, false, None),
            (Existence::AnyClass, refused, false, Some(Existence::OneClass(0))),
            (Existence::OneClass(0), success, false, Some(Existence::OneClass(1))),
            (Existence::OneClass(1), success, true, None),
            (Existence::OneClass(1), refused, false, None),
            (last, success, false, None),
        ] {
            assert_eq!(now.next(code, is_found), next, "{now:?} {code:?} {is_found}");
        }
    }
}
