//! LDAP messages as bytes and back (RFC 4511), framing with limits, and the client's side of the
//! conversation as a state machine. No sockets, no async, no clock.
//!
//! * [`message`]: the messages of RFC 4511 that this job needs, over the `rasn` codec;
//! * [`entry`]: the entries of a search, decoded by hand;
//! * [`frame`]: where one message ends in a stream of bytes, within a size limit;
//! * [`control`]: controls and extended operations;
//! * [`filter`]: search filters as BER and back;
//! * [`conversation`]: which requests a client may send, and what the responses mean.

pub mod control;
pub mod conversation;
pub mod entry;
mod error;
pub mod filter;
pub mod frame;
pub mod message;
mod result_code;

pub use conversation::{Conversation, Event};
pub use error::{ProtocolError, ProtocolErrorKind};
pub use message::{Message, Operation};
