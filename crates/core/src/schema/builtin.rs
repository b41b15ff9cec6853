//! The attribute types that are known without asking a server.
//!
//! Sources: RFC 4512 (subschema and root DSE), RFC 4519, RFC 4524, RFC 2798, RFC 2307, RFC 4530,
//! and the published protocol specification of domain controllers for theirs.

use super::{AttributeType, Rule};

const fn many(oid: &'static str, names: &'static [&'static str], rule: Rule) -> AttributeType {
    AttributeType { oid, names, rule, single: false, operational: false }
}

const fn one(oid: &'static str, names: &'static [&'static str], rule: Rule) -> AttributeType {
    AttributeType { oid, names, rule, single: true, operational: false }
}

const fn operational(oid: &'static str, names: &'static [&'static str], rule: Rule) -> AttributeType {
    AttributeType { oid, names, rule, single: true, operational: true }
}

const fn published(oid: &'static str, names: &'static [&'static str], rule: Rule) -> AttributeType {
    AttributeType { oid, names, rule, single: false, operational: true }
}

pub(super) const TYPES: &[AttributeType] = &[
    // People, organisations and groups (RFC 4519, 4524, 2798)
    many("2.5.4.0", &["objectClass"], Rule::ObjectIdentifier),
    many("2.5.4.3", &["cn", "commonName"], Rule::CaseIgnore),
    many("2.5.4.4", &["sn", "surname"], Rule::CaseIgnore),
    many("2.5.4.5", &["serialNumber"], Rule::CaseIgnore),
    one("2.5.4.6", &["c", "countryName"], Rule::CaseIgnore),
    many("2.5.4.7", &["l", "localityName"], Rule::CaseIgnore),
    many("2.5.4.8", &["st"], Rule::CaseIgnore),
    many("2.5.4.9", &["street", "streetAddress"], Rule::CaseIgnore),
    many("2.5.4.10", &["o", "organizationName"], Rule::CaseIgnore),
    many("2.5.4.11", &["ou", "organizationalUnitName"], Rule::CaseIgnore),
    many("2.5.4.12", &["title"], Rule::CaseIgnore),
    many("2.5.4.13", &["description"], Rule::CaseIgnore),
    many("2.5.4.16", &["postalAddress"], Rule::CaseIgnore),
    many("2.5.4.17", &["postalCode"], Rule::CaseIgnore),
    many("2.5.4.19", &["physicalDeliveryOfficeName"], Rule::CaseIgnore),
    many("2.5.4.20", &["telephoneNumber"], Rule::Telephone),
    many("2.5.4.31", &["member"], Rule::Name),
    many("2.5.4.32", &["owner"], Rule::Name),
    many("2.5.4.35", &["userPassword"], Rule::Octets),
    many("2.5.4.41", &["name"], Rule::CaseIgnore),
    many("2.5.4.42", &["givenName"], Rule::CaseIgnore),
    many("2.5.4.43", &["initials"], Rule::CaseIgnore),
    one("2.5.4.49", &["distinguishedName"], Rule::Name),
    many("2.5.4.50", &["uniqueMember"], Rule::Name),
    many("0.9.2342.19200300.100.1.1", &["uid", "userid"], Rule::CaseIgnore),
    many("0.9.2342.19200300.100.1.3", &["mail", "rfc822Mailbox"], Rule::CaseIgnore),
    many("0.9.2342.19200300.100.1.6", &["roomNumber"], Rule::CaseIgnore),
    many("0.9.2342.19200300.100.1.10", &["manager"], Rule::Name),
    many("0.9.2342.19200300.100.1.20", &["homePhone"], Rule::Telephone),
    many("0.9.2342.19200300.100.1.21", &["secretary"], Rule::Name),
    one("0.9.2342.19200300.100.1.25", &["dc", "domainComponent"], Rule::CaseIgnore),
    many("0.9.2342.19200300.100.1.41", &["mobile"], Rule::Telephone),
    many("0.9.2342.19200300.100.1.60", &["jpegPhoto"], Rule::Octets),
    many("2.16.840.1.113730.3.1.2", &["departmentNumber"], Rule::CaseIgnore),
    one("2.16.840.1.113730.3.1.3", &["employeeNumber"], Rule::CaseIgnore),
    many("2.16.840.1.113730.3.1.4", &["employeeType"], Rule::CaseIgnore),
    one("2.16.840.1.113730.3.1.39", &["preferredLanguage"], Rule::CaseIgnore),
    one("2.16.840.1.113730.3.1.241", &["displayName"], Rule::CaseIgnore),
    // POSIX accounts (RFC 2307)
    one("1.3.6.1.1.1.1.0", &["uidNumber"], Rule::Integer),
    one("1.3.6.1.1.1.1.1", &["gidNumber"], Rule::Integer),
    one("1.3.6.1.1.1.1.3", &["homeDirectory"], Rule::CaseExact),
    many("1.3.6.1.1.1.1.12", &["memberUid"], Rule::CaseExact),
    // A domain controller's
    one("1.2.840.113556.1.2.1", &["instanceType"], Rule::Integer),
    one("1.2.840.113556.1.2.2", &["whenCreated"], Rule::Time),
    one("1.2.840.113556.1.2.3", &["whenChanged"], Rule::Time),
    one("1.2.840.113556.1.2.19", &["uSNCreated"], Rule::Integer),
    many("1.2.840.113556.1.2.81", &["info"], Rule::CaseIgnore),
    many("1.2.840.113556.1.2.102", &["memberOf"], Rule::Name),
    one("1.2.840.113556.1.2.120", &["uSNChanged"], Rule::Integer),
    one("1.2.840.113556.1.2.141", &["department"], Rule::CaseIgnore),
    one("1.2.840.113556.1.2.146", &["company"], Rule::CaseIgnore),
    many("1.2.840.113556.1.2.210", &["proxyAddresses"], Rule::CaseIgnore),
    one("1.2.840.113556.1.4.2", &["objectGUID"], Rule::Octets),
    one("1.2.840.113556.1.4.8", &["userAccountControl"], Rule::Integer),
    one("1.2.840.113556.1.4.35", &["employeeID"], Rule::CaseIgnore),
    one("1.2.840.113556.1.4.96", &["pwdLastSet"], Rule::Integer),
    one("1.2.840.113556.1.4.98", &["primaryGroupID"], Rule::Integer),
    one("1.2.840.113556.1.4.146", &["objectSid"], Rule::Octets),
    one("1.2.840.113556.1.4.150", &["adminCount"], Rule::Integer),
    one("1.2.840.113556.1.4.159", &["accountExpires"], Rule::Integer),
    one("1.2.840.113556.1.4.221", &["sAMAccountName"], Rule::CaseIgnore),
    one("1.2.840.113556.1.4.302", &["sAMAccountType"], Rule::Integer),
    one("1.2.840.113556.1.4.363", &["operatingSystem"], Rule::CaseIgnore),
    one("1.2.840.113556.1.4.619", &["dNSHostName"], Rule::CaseIgnore),
    one("1.2.840.113556.1.4.656", &["userPrincipalName"], Rule::CaseIgnore),
    one("1.2.840.113556.1.4.662", &["lockoutTime"], Rule::Integer),
    one("1.2.840.113556.1.4.750", &["groupType"], Rule::Integer),
    many("1.2.840.113556.1.4.771", &["servicePrincipalName"], Rule::CaseIgnore),
    one("1.2.840.113556.1.4.782", &["objectCategory"], Rule::Category),
    one("1.2.840.113556.1.4.1696", &["lastLogonTimestamp"], Rule::Integer),
    // What the server itself keeps (RFC 4512 §3.4, RFC 4530, RFC 5020)
    operational("2.5.18.1", &["createTimestamp"], Rule::Time),
    operational("2.5.18.2", &["modifyTimestamp"], Rule::Time),
    operational("2.5.18.3", &["creatorsName"], Rule::Name),
    operational("2.5.18.4", &["modifiersName"], Rule::Name),
    operational("2.5.18.9", &["hasSubordinates"], Rule::Boolean),
    operational("2.5.18.10", &["subschemaSubentry"], Rule::Name),
    operational("2.5.21.9", &["structuralObjectClass"], Rule::ObjectIdentifier),
    operational("1.3.6.1.1.16.4", &["entryUUID"], Rule::Uuid),
    operational("1.3.6.1.1.20", &["entryDN"], Rule::Name),
    // draft-behera-ldap-password-policy
    operational("1.3.6.1.4.1.42.2.27.8.1.16", &["pwdChangedTime"], Rule::Time),
    operational("1.3.6.1.4.1.42.2.27.8.1.17", &["pwdAccountLockedTime"], Rule::Time),
    operational("1.3.6.1.4.1.42.2.27.8.1.23", &["pwdPolicySubentry"], Rule::Name),
    operational("2.16.840.1.113730.3.1.542", &["nsUniqueId"], Rule::CaseIgnore),
    published("2.5.21.4", &["matchingRules"], Rule::FirstComponent),
    published("2.5.21.5", &["attributeTypes"], Rule::FirstComponent),
    published("2.5.21.6", &["objectClasses"], Rule::FirstComponent),
    published("1.3.6.1.4.1.1466.101.120.16", &["ldapSyntaxes"], Rule::FirstComponent),
    // The root DSE's (RFC 4512 §5.1)
    published("1.3.6.1.4.1.1466.101.120.5", &["namingContexts"], Rule::Name),
    published("1.3.6.1.4.1.1466.101.120.6", &["altServer"], Rule::CaseExact),
    published("1.3.6.1.4.1.1466.101.120.7", &["supportedExtension"], Rule::ObjectIdentifier),
    published("1.3.6.1.4.1.1466.101.120.13", &["supportedControl"], Rule::ObjectIdentifier),
    published("1.3.6.1.4.1.1466.101.120.14", &["supportedSASLMechanisms"], Rule::CaseIgnore),
    published("1.3.6.1.4.1.1466.101.120.15", &["supportedLDAPVersion"], Rule::Integer),
    published("1.3.6.1.4.1.4203.1.3.5", &["supportedFeatures"], Rule::ObjectIdentifier),
];
