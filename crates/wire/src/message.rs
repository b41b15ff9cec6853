//! The messages of RFC 4511 that this job needs, as types of the `rasn` codec.
//!
//! The types of the codec's own LDAP crate lose a whole message over a vendor's result code, and
//! give sets an order of their own; these keep both. Decoding is bounded by the codec's depth
//! limit and by the size of the frame.

pub use crate::filter::Octets;
use crate::filter::WireFilter;
pub use crate::result_code::ResultCode;
use crate::{ProtocolError, ProtocolErrorKind};
use rasn::prelude::*;
use webtaxon_core::ldap::filter::Filter;

/// The envelope of every message (RFC 4511 §4.1.1).
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// The request's id, also on its responses; 0 for an unsolicited notification.
    pub id: u32,
    /// The operation.
    pub operation: Operation,
    /// The controls.
    #[rasn(tag(0))]
    pub controls: Option<Vec<Control>>,
}

/// An LDAP operation.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(choice)]
pub enum Operation {
    /// A bind request (RFC 4511 §4.2).
    BindRequest(BindRequest),
    /// A bind response.
    BindResponse(BindResponse),
    /// An unbind request (RFC 4511 §4.3).
    #[rasn(tag(application, 2))]
    UnbindRequest(()),
    /// A search request (RFC 4511 §4.5).
    SearchRequest(SearchRequest),
    /// A search result entry.
    SearchResultEntry(SearchResultEntry),
    /// The end of a search.
    #[rasn(tag(application, 5))]
    SearchResultDone(LdapResult),
    /// A search continuation reference (RFC 4511 §4.5.3).
    #[rasn(tag(application, 19))]
    SearchResultReference(Vec<Octets>),
    /// An abandon request (RFC 4511 §4.11).
    #[rasn(tag(application, 16))]
    AbandonRequest(u32),
    /// An extended request (RFC 4511 §4.12).
    ExtendedRequest(ExtendedRequest),
    /// An extended response, or an unsolicited notification (RFC 4511 §4.4).
    ExtendedResponse(ExtendedResponse),
}

/// A control (RFC 4511 §4.1.11).
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct Control {
    /// The OID.
    pub oid: Octets,
    /// Whether a server that does not know it must refuse the request.
    #[rasn(default)]
    pub critical: bool,
    /// The control's value.
    pub value: Option<Octets>,
}

/// A bind request. Its password is never printed, and is wiped when dropped.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 0))]
pub struct BindRequest {
    /// The protocol version, 3.
    pub version: u8,
    /// The name; empty for an anonymous bind.
    pub name: Octets,
    /// The authentication method.
    pub authentication: Authentication,
}

/// An authentication method.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(choice)]
pub enum Authentication {
    /// Simple, with a password (RFC 4513 §5.1).
    #[rasn(tag(0))]
    Simple(Password),
    /// A SASL mechanism (RFC 4513 §5.2).
    #[rasn(tag(3))]
    Sasl(Sasl),
}

/// A SASL mechanism and its credentials.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct Sasl {
    /// The mechanism's name.
    pub mechanism: Octets,
    /// The credentials.
    pub credentials: Option<Octets>,
}

/// A password: never printed, and wiped when dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct Password(pub zeroize::Zeroizing<Vec<u8>>);

impl AsnType for Password {
    const TAG: Tag = Tag::OCTET_STRING;
}

impl std::fmt::Debug for Password {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.write_str("Password(…)")
    }
}

impl Encode for Password {
    fn encode_with_tag_and_constraints<'e, E: Encoder<'e>>(
        &self,
        encoder: &mut E,
        tag: Tag,
        constraints: &Constraints,
        identifier: Identifier,
    ) -> Result<(), E::Error> {
        encoder.encode_octet_string(tag, constraints, &self.0, identifier).map(|_| ())
    }
}

impl Decode for Password {
    fn decode_with_tag_and_constraints<D: Decoder>(
        decoder: &mut D,
        tag: Tag,
        constraints: &Constraints,
    ) -> Result<Self, D::Error> {
        let bytes: Vec<u8> = decoder.decode_octet_string(tag, constraints)?;
        Ok(Self(bytes.into()))
    }
}

/// The result of an operation (RFC 4511 §4.1.9).
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct LdapResult {
    /// The result code.
    pub code: ResultCode,
    /// With `noSuchObject`, the part of the name that exists.
    pub matched_dn: Octets,
    /// The server's message.
    pub text: Octets,
    /// Referrals to other servers.
    #[rasn(tag(3))]
    pub referral: Option<Vec<Octets>>,
}

impl LdapResult {
    /// A result with a code and a message.
    #[must_use]
    pub fn new(code: u32, text: &str) -> Self {
        Self {
            code: ResultCode(code),
            matched_dn: Octets::default(),
            text: Octets::from_slice(text.as_bytes()),
            referral: None,
        }
    }

    /// The server's message as text, whatever its bytes.
    #[must_use]
    pub fn words(&self) -> String {
        String::from_utf8_lossy(&self.text).trim_end_matches('\0').to_owned()
    }
}

/// A bind response: a result, with room for SASL credentials.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 1))]
pub struct BindResponse {
    /// The result code.
    pub code: ResultCode,
    /// With `noSuchObject`, the part of the name that exists.
    pub matched_dn: Octets,
    /// The server's message.
    pub text: Octets,
    /// Referrals to other servers.
    #[rasn(tag(3))]
    pub referral: Option<Vec<Octets>>,
    /// SASL credentials.
    #[rasn(tag(7))]
    pub sasl: Option<Octets>,
}

impl From<BindResponse> for LdapResult {
    fn from(from: BindResponse) -> Self {
        Self { code: from.code, matched_dn: from.matched_dn, text: from.text, referral: from.referral }
    }
}

/// A search (RFC 4511 §4.5.1).
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 3))]
pub struct SearchRequest {
    /// The base.
    pub base: Octets,
    /// The scope.
    pub scope: Scope,
    /// How to treat aliases.
    pub aliases: Aliases,
    /// Maximum entries; 0 for no limit.
    pub size_limit: u32,
    /// Maximum time in seconds; 0 for no limit.
    pub time_limit: u32,
    /// Whether to return attributes without values.
    pub types_only: bool,
    /// The filter.
    pub filter: WireFilter,
    /// The attributes to return.
    pub attributes: Vec<Octets>,
}

impl SearchRequest {
    /// A search without limits that does not follow aliases.
    ///
    /// # Errors
    /// As [`WireFilter::new`](WireFilter::new).
    pub fn new<'a>(
        base: &str,
        scope: Scope,
        filter: &Filter,
        attributes: impl IntoIterator<Item = &'a str>,
    ) -> Result<Self, ProtocolError> {
        Ok(Self {
            base: Octets::from_slice(base.as_bytes()),
            scope,
            aliases: Aliases::Never,
            size_limit: 0,
            time_limit: 0,
            types_only: false,
            filter: WireFilter::new(filter)?,
            attributes: attributes.into_iter().map(|name| Octets::from_slice(name.as_bytes())).collect(),
        })
    }
}

/// The scope of a search (RFC 4511 §4.5.1.2).
#[derive(AsnType, Encode, Decode, Debug, Clone, Copy, PartialEq, Eq)]
#[rasn(enumerated)]
pub enum Scope {
    /// The base only.
    Base = 0,
    /// The base's children.
    One = 1,
    /// The base and its whole subtree.
    Subtree = 2,
}

/// How to treat aliases (RFC 4511 §4.5.1.3).
#[derive(AsnType, Encode, Decode, Debug, Clone, Copy, PartialEq, Eq)]
#[rasn(enumerated)]
pub enum Aliases {
    /// Never follow them.
    Never = 0,
    /// Follow them below the base.
    Searching = 1,
    /// Follow them at the base.
    FindingBase = 2,
    /// Always follow them.
    Always = 3,
}

/// A search result entry (RFC 4511 §4.5.2).
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 4))]
pub struct SearchResultEntry {
    /// The entry's name.
    pub name: Octets,
    /// Its attributes.
    pub attributes: Vec<PartialAttribute>,
}

/// One attribute with its values (RFC 4511 §4.1.7).
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct PartialAttribute {
    /// The attribute description.
    pub description: Octets,
    /// The values, in the order received.
    #[rasn(tag(universal, 17))]
    pub values: Vec<Octets>,
}

/// An extended request.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 23))]
pub struct ExtendedRequest {
    /// The operation's OID.
    #[rasn(tag(0))]
    pub name: Octets,
    /// Its value.
    #[rasn(tag(1))]
    pub value: Option<Octets>,
}

/// An extended response, or an unsolicited notification.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 24))]
pub struct ExtendedResponse {
    /// The result code.
    pub code: ResultCode,
    /// With `noSuchObject`, the part of the name that exists.
    pub matched_dn: Octets,
    /// The server's message.
    pub text: Octets,
    /// Referrals to other servers.
    #[rasn(tag(3))]
    pub referral: Option<Vec<Octets>>,
    /// The OID of the response or notification.
    #[rasn(tag(10))]
    pub name: Option<Octets>,
    /// Its value.
    #[rasn(tag(11))]
    pub value: Option<Octets>,
}

impl From<ExtendedResponse> for LdapResult {
    fn from(from: ExtendedResponse) -> Self {
        Self { code: from.code, matched_dn: from.matched_dn, text: from.text, referral: from.referral }
    }
}

impl Message {
    /// A message without controls.
    #[must_use]
    pub fn new(id: u32, operation: Operation) -> Self {
        Self { id, operation, controls: None }
    }

    /// Encodes the message.
    ///
    /// # Errors
    /// [`ProtocolErrorKind::Unwritable`] if the codec refuses it.
    pub fn encode(&self) -> Result<Vec<u8>, ProtocolError> {
        rasn::ber::encode(self).map_err(|_| ProtocolErrorKind::Unwritable.into())
    }

    /// Decodes one complete message, as cut out by [`crate::frame`].
    ///
    /// # Errors
    /// [`ProtocolErrorKind::Malformed`] for anything else.
    pub fn decode(bytes: &[u8]) -> Result<Self, ProtocolError> {
        rasn::ber::decode(bytes).map_err(|_| ProtocolErrorKind::Malformed.into())
    }
}

#[cfg(test)]
mod tests;
