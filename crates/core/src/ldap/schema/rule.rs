//! The matching rules (RFC 4517 §4), and the names, OIDs and syntaxes that stand for them.

/// A way to compare values for equality.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Rule {
    /// Text; case and outer blanks are ignored (caseIgnoreMatch).
    CaseIgnore,
    /// Text; case counts (caseExactMatch).
    CaseExact,
    /// ASCII text; case is ignored (caseIgnoreIA5Match).
    CaseIgnoreIa5,
    /// ASCII text; case counts (caseExactIA5Match).
    CaseExactIa5,
    /// Lines of text separated by dollar signs; case is ignored (caseIgnoreListMatch).
    List,
    /// Digits; blanks are ignored (numericStringMatch).
    Numeric,
    /// Text; blanks and hyphens are ignored as well (telephoneNumberMatch).
    Telephone,
    /// Text as a domain controller compares it: case and marks on letters are ignored.
    Marks,
    /// An integer (integerMatch).
    Integer,
    /// `TRUE` or `FALSE` (booleanMatch).
    Boolean,
    /// A time (generalizedTimeMatch), in UTC.
    Time,
    /// Bytes (octetStringMatch).
    Octets,
    /// `'0101'B` (bitStringMatch).
    Bits,
    /// A distinguished name (distinguishedNameMatch).
    Name,
    /// A distinguished name, with an optional bit string (uniqueMemberMatch).
    NameAndUid,
    /// A domain controller's objectCategory: a name, or the category's short name.
    Category,
    /// An OID or its short name (objectIdentifierMatch).
    ObjectIdentifier,
    /// A UUID in text form (UUIDMatch).
    Uuid,
    /// The first component of a definition, an OID or a number (objectIdentifierFirstComponentMatch,
    /// integerFirstComponentMatch).
    FirstComponent,
}

/// What a matching rule tests.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Use {
    /// Equality.
    Equality,
    /// Order: less than (RFC 4517 §4.2, the ordering rules).
    Ordering,
    /// Substrings.
    Substrings,
}

/// Name, OID, comparison and use (RFC 4517 §4.2, RFC 4530 §2).
const RULES: &[(&str, &str, Rule, Use)] = &[
    ("objectIdentifierMatch", "2.5.13.0", Rule::ObjectIdentifier, Use::Equality),
    ("distinguishedNameMatch", "2.5.13.1", Rule::Name, Use::Equality),
    ("caseIgnoreMatch", "2.5.13.2", Rule::CaseIgnore, Use::Equality),
    ("caseIgnoreOrderingMatch", "2.5.13.3", Rule::CaseIgnore, Use::Ordering),
    ("caseIgnoreSubstringsMatch", "2.5.13.4", Rule::CaseIgnore, Use::Substrings),
    ("caseExactMatch", "2.5.13.5", Rule::CaseExact, Use::Equality),
    ("caseExactOrderingMatch", "2.5.13.6", Rule::CaseExact, Use::Ordering),
    ("caseExactSubstringsMatch", "2.5.13.7", Rule::CaseExact, Use::Substrings),
    ("numericStringMatch", "2.5.13.8", Rule::Numeric, Use::Equality),
    ("numericStringOrderingMatch", "2.5.13.9", Rule::Numeric, Use::Ordering),
    ("numericStringSubstringsMatch", "2.5.13.10", Rule::Numeric, Use::Substrings),
    ("caseIgnoreListMatch", "2.5.13.11", Rule::List, Use::Equality),
    ("caseIgnoreListSubstringsMatch", "2.5.13.12", Rule::List, Use::Substrings),
    ("booleanMatch", "2.5.13.13", Rule::Boolean, Use::Equality),
    ("integerMatch", "2.5.13.14", Rule::Integer, Use::Equality),
    ("integerOrderingMatch", "2.5.13.15", Rule::Integer, Use::Ordering),
    ("bitStringMatch", "2.5.13.16", Rule::Bits, Use::Equality),
    ("octetStringMatch", "2.5.13.17", Rule::Octets, Use::Equality),
    ("octetStringOrderingMatch", "2.5.13.18", Rule::Octets, Use::Ordering),
    ("octetStringSubstringsMatch", "2.5.13.19", Rule::Octets, Use::Substrings),
    ("telephoneNumberMatch", "2.5.13.20", Rule::Telephone, Use::Equality),
    ("telephoneNumberSubstringsMatch", "2.5.13.21", Rule::Telephone, Use::Substrings),
    ("uniqueMemberMatch", "2.5.13.23", Rule::NameAndUid, Use::Equality),
    ("generalizedTimeMatch", "2.5.13.27", Rule::Time, Use::Equality),
    ("generalizedTimeOrderingMatch", "2.5.13.28", Rule::Time, Use::Ordering),
    ("integerFirstComponentMatch", "2.5.13.29", Rule::FirstComponent, Use::Equality),
    ("objectIdentifierFirstComponentMatch", "2.5.13.30", Rule::FirstComponent, Use::Equality),
    ("caseExactIA5Match", "1.3.6.1.4.1.1466.109.114.1", Rule::CaseExactIa5, Use::Equality),
    ("caseIgnoreIA5Match", "1.3.6.1.4.1.1466.109.114.2", Rule::CaseIgnoreIa5, Use::Equality),
    ("caseIgnoreIA5SubstringsMatch", "1.3.6.1.4.1.1466.109.114.3", Rule::CaseIgnoreIa5, Use::Substrings),
    ("caseExactIA5SubstringsMatch", "1.3.6.1.4.1.4203.1.2.1", Rule::CaseExactIa5, Use::Substrings),
    ("UUIDMatch", "1.3.6.1.1.16.2", Rule::Uuid, Use::Equality),
    ("UUIDOrderingMatch", "1.3.6.1.1.16.3", Rule::Uuid, Use::Ordering),
    // OpenLDAP's change sequence numbers
    ("CSNMatch", "1.3.6.1.4.1.4203.666.11.2.2", Rule::CaseExactIa5, Use::Equality),
    ("CSNOrderingMatch", "1.3.6.1.4.1.4203.666.11.2.3", Rule::CaseExactIa5, Use::Ordering),
];

/// How a domain controller compares values, by syntax: its schema names no rules ([MS-ADTS] §3.1.1.2.2.2,
/// §3.1.1.2.2.4).
const SYNTAXES: &[(&str, Rule)] = &[
    ("1.3.6.1.4.1.1466.115.121.1.7", Rule::Boolean),
    ("1.3.6.1.4.1.1466.115.121.1.12", Rule::Name),
    ("1.3.6.1.4.1.1466.115.121.1.15", Rule::Marks),
    ("1.3.6.1.4.1.1466.115.121.1.24", Rule::Time),
    ("1.3.6.1.4.1.1466.115.121.1.53", Rule::Time),
    ("1.3.6.1.4.1.1466.115.121.1.26", Rule::CaseExact),
    ("1.3.6.1.4.1.1466.115.121.1.27", Rule::Integer),
    ("1.3.6.1.4.1.1466.115.121.1.36", Rule::CaseExact),
    ("1.3.6.1.4.1.1466.115.121.1.38", Rule::ObjectIdentifier),
    ("1.3.6.1.4.1.1466.115.121.1.40", Rule::Octets),
    ("1.3.6.1.4.1.1466.115.121.1.44", Rule::CaseExact),
    ("1.2.840.113556.1.4.905", Rule::Marks),
    ("1.2.840.113556.1.4.906", Rule::Integer),
    ("1.2.840.113556.1.4.1362", Rule::CaseExact),
];

impl Rule {
    /// The rule with this name or OID, and its use.
    #[must_use]
    pub fn named(name: &str) -> Option<(Rule, Use)> {
        RULES
            .iter()
            .find(|(known, oid, ..)| known.eq_ignore_ascii_case(name) || *oid == name)
            .map(|(_, _, rule, purpose)| (*rule, *purpose))
    }

    /// The rule by which a domain controller compares values of this syntax.
    #[must_use]
    pub fn of_syntax(oid: &str) -> Option<Rule> {
        SYNTAXES.iter().find(|(known, _)| *known == oid).map(|(_, rule)| *rule)
    }

    /// Whether values have at least one character (RFC 4517 §3.3.6); ASCII text may be empty (§3.3.15).
    #[must_use]
    pub fn is_never_empty(self) -> bool {
        self.is_text() && !matches!(self, Rule::CaseIgnoreIa5 | Rule::CaseExactIa5)
    }

    /// Whether values are text.
    #[must_use]
    pub fn is_text(self) -> bool {
        matches!(
            self,
            Rule::CaseIgnore
                | Rule::CaseExact
                | Rule::CaseIgnoreIa5
                | Rule::CaseExactIa5
                | Rule::List
                | Rule::Numeric
                | Rule::Telephone
                | Rule::Marks
        )
    }

    /// Whether a rule named in a filter applies to an attribute whose own rule is `own` (RFC 4512 §4.1.4): text to
    /// text, anything else to its like.
    #[must_use]
    pub fn goes_with(self, own: Rule) -> bool {
        self == own || (self.is_text() && own.is_text())
    }
}
