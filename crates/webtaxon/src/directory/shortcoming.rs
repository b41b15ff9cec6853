//! Why a part of a reading is incomplete: every reason, with its words.

use super::error::{DirectoryError, DirectoryErrorKind};
use thiserror::Error;
use webtaxon_core::reading::Ended;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Why a part of a reading is incomplete.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub(crate) enum Shortcoming {
    /// An operation failed; in the error's words.
    #[error("{0}")]
    Failed(String),
    /// The server's limit ended a search, and it could not be split.
    #[error("{limit}; {reason}")]
    Unsplit { limit: String, reason: Box<Shortcoming> },
    #[error("not every entry shows a name by which to split the search")]
    NoNameToSplitBy,
    #[error("too many entries have the same {0}, and the server does not return them all")]
    SameName(&'static str),
    #[error("even a part of it, by {0}, is more work than the server does for this account")]
    TooMuchWork(&'static str),
    #[error("the server sends the same entries again and again")]
    SameEntries,
    #[error("an entry does not show its {0}")]
    NoIdentity(String),
    #[error("an entry has an invalid name: {0}")]
    BadEntryName(String),
    #[error("{count} of them do not show {attribute}; the bind account may lack the right to read it")]
    Hidden { count: usize, attribute: String },
    #[error("{0} of them do not show it; the bind account may lack the right to read it")]
    HiddenIdentity(usize),
    #[error("{0} of them do not show it; the bind account may lack the right to read primaryGroupID")]
    HiddenPrimaryGroup(usize),
    #[error("they were not looked up when the snapshot was taken")]
    NotInSnapshot,
    #[error("those of {0} were not read into the snapshot")]
    NamesNotInSnapshot(String),
    #[error("the server does not show {0}")]
    NameNotShown(String),

    #[error(
        "the server does not show it: it does not exist, has another name by now, or the bind account may not read it"
    )]
    Absent,
    #[error("the server does not show it; did you mean {0}?")]
    Misspelt(String),
    #[error("the server shows its name and nothing else; the bind account may lack the right to read it")]
    NameAlone,
    #[error("this server holds {0}, and the name does not end like that")]
    OtherTree(String),
    #[error("the server returned an entry from outside it: {0}")]
    OutsideBase(String),

    #[error(
        "a search by {attribute} does not find {dn}, which was just read: the server cannot search by it, so nobody is known to be gone; choose another attribute with `identity`"
    )]
    Unsearchable { attribute: String, dn: String },
    #[error("nobody was read whose {0} could be searched for, so nobody is known to be gone")]
    NoWitness(String),
    #[error(
        "{0} lies outside the trees that the server names (namingContexts), so a person may have moved there"
    )]
    OutsideTrees(String),
    #[error(
        "{dn} is under {base} and matches the filter, but the search there did not return it: the server cuts searches short, or the entry came there meanwhile"
    )]
    LeftOut { dn: String, base: String },

    /// An entry was not returned by its look-up.
    #[error("the server does not show it; the bind account may lack the right to read it")]
    NotShown,
    #[error(
        "a group lists it, and the server does not show it: if it is a group, the bind account may not read it; if it is none, or was deleted, add it to `deleted`"
    )]
    Vanished,
    #[error(
        "the server shows its name and not what it is (objectClass); the bind account may lack the right to read it"
    )]
    KindHidden,
    #[error(
        "it shows no member, and {0} claims to be one (memberOf); the bind account may lack the right to read them"
    )]
    Claimed(String),
    #[error("{0}, a group in it, is not shown any more; the bind account may lack the right to read it")]
    NestedNotShown(String),
    #[error("groups still changed at the last of {0} looks")]
    StillChanging(usize),
    #[error("it is not a group")]
    NotAGroup,
    #[error("the server returned {0} of its members, but not the rest")]
    NotTheRest(usize),
    #[error("the server returns ranges of its members without end")]
    EndlessRanges,
    #[error("it has a memberURL that is not UTF-8")]
    UrlNotUtf8,
    #[error("it lists a member that is not UTF-8")]
    MemberNotUtf8,
    #[error("it lists a member that is not a distinguished name")]
    MemberNotAName,
    #[error(
        "its members are stored as memberUid; set member_login to the attribute of people that it refers to"
    )]
    UnknownLogins,
    #[error(
        "none of its logins (memberUid) is the {0} of anybody; set member_login to the attribute of people that it refers to"
    )]
    NobodysLogins(String),
    #[error(
        "it lists nobody and does not show its gidNumber; the bind account may lack the right to read it"
    )]
    HiddenNumber,
    #[error("it shows no member, and a {0} must have one; the bind account may lack the right to read them")]
    NeverEmpty(&'static str),
    #[error("it has no members, unless by gidNumber, which none of the people shows")]
    NobodyShowsNumber,
    #[error("{called} ({sid}) is a member, which stands for people whom no list shows")]
    Unlisted { called: &'static str, sid: String },
    #[error("its members are found by {0}, at another server or without a base")]
    UrlElsewhere(String),
    #[error("its members are found by {url}, which cannot be read: {why}")]
    BadUrl { url: String, why: String },
    #[error(
        "its members are found by {url}: nobody is, and nobody there shows {attribute}; the bind account may lack the right to search by it"
    )]
    UrlHidden { url: String, attribute: String },
    #[error("its members are found by {url}: {why}")]
    UrlFailed { url: String, why: String },

    #[error("it is in more groups than the server returns at once")]
    TooManyGroups,
    #[error("a name in its memberOf is not UTF-8")]
    GroupNotUtf8,
    #[error("somebody is in more groups than the server returns at once")]
    SomebodyInTooManyGroups,
    #[error("a name in somebody's {0} is not UTF-8")]
    SomebodysGroupNotUtf8(String),
    #[error("nobody shows {0} (member_attribute); the bind account may lack the right to read it")]
    NobodyShows(String),
    #[error("nobody says to be in it ({0}), and the server shows no such entry; check its spelling")]
    NobodysGroup(String),
    #[error("several groups have the cn {0}, so it is unknown which of them people mean by it")]
    SeveralGroupsCalled(String),
    #[error("{0} is not a distinguished name")]
    GroupNotAName(String),
    #[error("the groups of {whose} cannot be read: {why}")]
    GroupsUnread { whose: String, why: Box<Shortcoming> },
    #[error("the primary group {0} of some of them is not shown")]
    PrimaryGroupNotShown(String),
    #[error(
        "{0} lists a member whose memberOf does not show it; the bind account may lack the right to read memberOf"
    )]
    HiddenMemberOf(String),
    #[error("it is not known whether memberOf is visible: {0}")]
    MemberOfUnknown(Box<Shortcoming>),
    #[error("this kind of server need not maintain memberOf; strategy = \"lists\" reads member lists")]
    MemberOfNotMaintained,
    #[error("the server does not show its domain")]
    NoDomain,
    #[error("the domains of the forest could not be read, and groups of another one would be missed: {0}")]
    DomainsUnread(String),
    #[error(
        "the server does not show which domains the forest has, and groups of another one would be missed"
    )]
    DomainsHidden,
    #[error(
        "the forest has {0} domains, and groups of the others are not seen; strategy = \"lists\" reads member lists"
    )]
    OtherDomains(usize),
    #[error("only a domain controller computes nested membership; strategy = \"lists\" reads member lists")]
    NotComputed,
    #[error("{name} inside it cannot be read: {why}")]
    InnerUnread { name: String, why: Box<Shortcoming> },
    #[error("it does not show its objectSid; the bind account may lack the right to read it")]
    NoSid,
    #[error("the groups of {name} (tokenGroups) are not shown: {why}")]
    TokensNotShown { name: String, why: Box<Shortcoming> },
    #[error("{0} is a distribution group, which tokenGroups omits; strategy = \"lists\" reads member lists")]
    DistributionGroup(String),

    #[error(
        "it holds only some attributes of people, and the members of some groups; write port 636 in `servers` (389 with StartTLS)"
    )]
    Catalog,
    #[error(
        "people have objectGUID, as on a domain controller, and the server does not say that it is one (supportedCapabilities of its root DSE); if it is none, write identity = \"objectGUID\""
    )]
    UnknownKind,
    #[error("a part of it is held by another server")]
    HeldElsewhere,
    #[error("a part of it is held by another server, and the referral was not followed: {0}")]
    NotFollowed(String),
    #[error("there are more than {hops} referrals in a row: {urls}")]
    TooManyHops { hops: usize, urls: String },
    #[error("a part of it is held by {urls}, which was not read: {why}")]
    NotReadThere { urls: String, why: Box<Shortcoming> },
    #[error("it names no server")]
    NoServer,
    #[error("its address is invalid: {0}")]
    BadAddress(String),
}

impl Shortcoming {
    /// Why an entry was not returned by its look-up.
    pub(crate) fn of_lookup(dn: &str, result: &LdapResult) -> Self {
        if result.code == ResultCode::SUCCESS {
            return Self::NotShown;
        }
        let (base, result) = (dn.to_owned(), Box::new(result.clone()));
        Self::Failed(DirectoryErrorKind::Search { base, result }.to_string())
    }

    /// The end of a part that lacks this, or nothing.
    pub(crate) fn ended(shortcoming: Option<Self>) -> Ended {
        shortcoming.map_or(Ended::Complete, |why| Ended::Short(why.to_string()))
    }
}

impl From<&DirectoryError> for Shortcoming {
    fn from(error: &DirectoryError) -> Self {
        Self::Failed(error.to_string())
    }
}
