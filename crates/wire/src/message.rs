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
    /// Which request this is, or answers; 0 for an unsolicited notification.
    pub id: u32,
    /// What is asked or answered.
    pub operation: Operation,
    /// What goes with it.
    #[rasn(tag(0))]
    pub controls: Option<Vec<Control>>,
}

/// What is asked or answered.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(choice)]
pub enum Operation {
    /// Who asks (RFC 4511 §4.2).
    BindRequest(BindRequest),
    /// Whether they are believed.
    BindResponse(BindResponse),
    /// The client goes (RFC 4511 §4.3).
    #[rasn(tag(application, 2))]
    UnbindRequest(()),
    /// What is looked for (RFC 4511 §4.5).
    SearchRequest(SearchRequest),
    /// One entry that was found.
    SearchResultEntry(SearchResultEntry),
    /// The end of a search.
    #[rasn(tag(application, 5))]
    SearchResultDone(LdapResult),
    /// Where else to look (RFC 4511 §4.5.3).
    #[rasn(tag(application, 19))]
    SearchResultReference(Vec<Octets>),
    /// Forget a request (RFC 4511 §4.11).
    #[rasn(tag(application, 16))]
    AbandonRequest(u32),
    /// Something beyond the standard's own operations (RFC 4511 §4.12).
    ExtendedRequest(ExtendedRequest),
    /// Its answer, or an unsolicited notification (RFC 4511 §4.4).
    ExtendedResponse(ExtendedResponse),
}

/// A control (RFC 4511 §4.1.11).
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct Control {
    /// The OID.
    pub oid: Octets,
    /// Whether the server must refuse the request if it does not know the control.
    #[rasn(default)]
    pub critical: bool,
    /// The control's own bytes.
    pub value: Option<Octets>,
}

/// A bind request. It does not print its password, and wipes its copy of it.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 0))]
pub struct BindRequest {
    /// 3.
    pub version: u8,
    /// Who asks; empty for nobody.
    pub name: Octets,
    /// How it is shown.
    pub authentication: Authentication,
}

/// How a client shows who it is.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(choice)]
pub enum Authentication {
    /// By a password (RFC 4513 §5.1).
    #[rasn(tag(0))]
    Simple(Password),
    /// By a SASL mechanism (RFC 4513 §5.2).
    #[rasn(tag(3))]
    Sasl(Sasl),
}

/// A SASL mechanism and what it says.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
pub struct Sasl {
    /// The mechanism's name.
    pub mechanism: Octets,
    /// Its own bytes.
    pub credentials: Option<Octets>,
}

/// A password: not printed, and wiped when it is dropped.
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
    /// What came of it.
    pub code: ResultCode,
    /// The part of the name that does exist, with `noSuchObject`.
    pub matched_dn: Octets,
    /// The server's own words.
    pub text: Octets,
    /// Where else to ask.
    #[rasn(tag(3))]
    pub referral: Option<Vec<Octets>>,
}

impl LdapResult {
    /// A result with a code and words of the server's own.
    #[must_use]
    pub fn new(code: u32, text: &str) -> Self {
        Self {
            code: ResultCode(code),
            matched_dn: Octets::default(),
            text: Octets::from_slice(text.as_bytes()),
            referral: None,
        }
    }

    /// The server's own words, whatever bytes they are.
    #[must_use]
    pub fn words(&self) -> String {
        String::from_utf8_lossy(&self.text).trim_end_matches('\0').to_owned()
    }
}

/// The answer to a bind: a result, with room for a SASL mechanism's bytes.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 1))]
pub struct BindResponse {
    /// What came of it.
    pub code: ResultCode,
    /// The part of the name that does exist.
    pub matched_dn: Octets,
    /// The server's own words.
    pub text: Octets,
    /// Where else to ask.
    #[rasn(tag(3))]
    pub referral: Option<Vec<Octets>>,
    /// A SASL mechanism's bytes.
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
    /// Where to begin.
    pub base: Octets,
    /// How far down to look.
    pub scope: Scope,
    /// Whether aliases are followed.
    pub aliases: Aliases,
    /// The most entries wanted; 0 for no limit.
    pub size_limit: u32,
    /// The longest time in seconds; 0 for no limit.
    pub time_limit: u32,
    /// Whether attributes come without their values.
    pub types_only: bool,
    /// What an entry must be like.
    pub filter: WireFilter,
    /// Which attributes are wanted.
    pub attributes: Vec<Octets>,
}

impl SearchRequest {
    /// A search without limits that follows no aliases.
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

/// How far down a search looks (RFC 4511 §4.5.1.2).
#[derive(AsnType, Encode, Decode, Debug, Clone, Copy, PartialEq, Eq)]
#[rasn(enumerated)]
pub enum Scope {
    /// The base alone.
    Base = 0,
    /// The base's children.
    One = 1,
    /// The base and everything below it.
    Subtree = 2,
}

/// Whether aliases are followed (RFC 4511 §4.5.1.3).
#[derive(AsnType, Encode, Decode, Debug, Clone, Copy, PartialEq, Eq)]
#[rasn(enumerated)]
pub enum Aliases {
    /// Never.
    Never = 0,
    /// Below the base.
    Searching = 1,
    /// At the base.
    FindingBase = 2,
    /// Always.
    Always = 3,
}

/// One entry that was found (RFC 4511 §4.5.2).
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
    /// The values, in the order in which they came.
    #[rasn(tag(universal, 17))]
    pub values: Vec<Octets>,
}

/// Something beyond the standard's own operations.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 23))]
pub struct ExtendedRequest {
    /// The operation's OID.
    #[rasn(tag(0))]
    pub name: Octets,
    /// Its own bytes.
    #[rasn(tag(1))]
    pub value: Option<Octets>,
}

/// The answer to it, or an unsolicited notification.
#[derive(AsnType, Encode, Decode, Debug, Clone, PartialEq, Eq)]
#[rasn(tag(application, 24))]
pub struct ExtendedResponse {
    /// What came of it.
    pub code: ResultCode,
    /// The part of the name that does exist.
    pub matched_dn: Octets,
    /// The server's own words.
    pub text: Octets,
    /// Where else to ask.
    #[rasn(tag(3))]
    pub referral: Option<Vec<Octets>>,
    /// The OID of what is answered or notified.
    #[rasn(tag(10))]
    pub name: Option<Octets>,
    /// Its own bytes.
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

    /// The bytes of the message.
    ///
    /// # Errors
    /// [`ProtocolErrorKind::Unwritable`] if the codec refuses it.
    pub fn encode(&self) -> Result<Vec<u8>, ProtocolError> {
        rasn::ber::encode(self).map_err(|_| ProtocolErrorKind::Unwritable.into())
    }

    /// Reads one whole message, as [`crate::frame`] cuts it out.
    ///
    /// # Errors
    /// [`ProtocolErrorKind::Malformed`] for anything else.
    pub fn decode(bytes: &[u8]) -> Result<Self, ProtocolError> {
        rasn::ber::decode(bytes).map_err(|_| ProtocolErrorKind::Malformed.into())
    }
}

#[cfg(test)]
mod tests;
