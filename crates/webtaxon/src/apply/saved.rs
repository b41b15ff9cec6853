//! A preview, or the undoing of a run, saved in a file to be approved and applied later.
//!
//! The file is sealed with a key that is kept in the state: a file that was edited, or made with another state, is
//! refused.

use super::Work;
use super::prepare::hex_digest;
use crate::box_error::BoxError;
use crate::directory::{DirectoryError, DirectoryErrorKind};
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::private;
use crate::setup::Setup;
use crate::state::Journal;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use jiff::Timestamp;
use ring::hmac;
use ring::rand::{SecureRandom as _, SystemRandom};
use serde::{Deserialize, Serialize};
use std::io::Write as _;
use std::path::Path;

const FORMAT: &str = "webtaxon.saved/1";

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Saved {
    format: String,
    /// The version of Webtaxon that saved it.
    version: String,
    made: Timestamp,
    /// Tells the states apart: the digest of the key.
    state: String,
    /// The seal of everything else.
    seal: String,
    work: Work,
}

/// The key of a state.
struct Seal(String);

impl Seal {
    /// The key that the state has, or a new one.
    fn of(setup: &Setup, who: &str) -> Result<Self, Error> {
        let place = setup.state();
        if let Some(known) = Journal::read(&*place)?.map(|journal| journal.seal()).transpose()?.flatten() {
            return Ok(Self(known));
        }
        let mut journal = Journal::write(&*place, who)?;
        if let Some(known) = journal.seal()? {
            return Ok(Self(known));
        }
        let mut bytes = [0; 32];
        SystemRandom::new()
            .fill(&mut bytes)
            .map_err(|_| DirectoryError::from(DirectoryErrorKind::NoRandom))?;
        let key = STANDARD.encode(bytes);
        journal.set_seal(&key)?;
        Ok(Self(key))
    }

    fn state(&self) -> String {
        hex_digest(self.0.as_bytes()).chars().take(16).collect()
    }

    fn key(&self) -> hmac::Key {
        hmac::Key::new(hmac::HMAC_SHA256, self.0.as_bytes())
    }
}

/// The bytes that are sealed.
fn sealed(version: &str, made: Timestamp, work: &impl Serialize) -> serde_json::Result<Vec<u8>> {
    serde_json::to_vec(&(FORMAT, version, made, work))
}

/// Saves work to a new file that only its owner can read.
///
/// # Errors
/// The file exists or cannot be written, or the state cannot.
pub(crate) fn save(setup: &Setup, work: &Work, file: &Path, who: &str) -> Result<(), Error> {
    let failed =
        |source: BoxError| ApplyError::from(ApplyErrorKind::Unsaved { file: file.to_owned(), source });
    let seal = Seal::of(setup, who)?;
    let (version, made) = (env!("CARGO_PKG_VERSION"), Timestamp::now());
    let bytes = sealed(version, made, work).map_err(|error| failed(error.into()))?;
    let tag = hmac::sign(&seal.key(), &bytes);
    let saved = Saved {
        format: FORMAT.to_owned(),
        version: version.to_owned(),
        made,
        state: seal.state(),
        seal: STANDARD.encode(tag),
        work: work.clone(),
    };
    let text = serde_json::to_string_pretty(&saved).map_err(|error| failed(error.into()))?;
    let write = || -> std::io::Result<()> {
        let mut out = private::file(file)?;
        out.write_all(text.as_bytes())?;
        out.write_all(b"\n")?;
        out.sync_all()
    };
    Ok(write().map_err(|error| failed(error.into()))?)
}

/// Reads saved work, with the time of saving.
///
/// # Errors
/// The file cannot be read, has another format or version, was edited, or was made with another state.
pub(crate) fn read_saved(setup: &Setup, file: &Path) -> Result<(Work, Timestamp), Error> {
    let failed =
        |source: BoxError| ApplyError::from(ApplyErrorKind::NotSaved { file: file.to_owned(), source });
    let text = std::fs::read(file).map_err(|error| failed(error.into()))?;
    let value: serde_json::Value =
        serde_json::from_slice(&text).map_err(|error| failed(format!("it is not JSON: {error}").into()))?;
    let said = |key: &str| value.get(key).and_then(serde_json::Value::as_str).unwrap_or("none").to_owned();
    let (format, version) = (said("format"), said("version"));
    if format != FORMAT {
        return Err(failed(format!("its format is {format}, not {FORMAT}").into()).into());
    }
    if version != env!("CARGO_PKG_VERSION") {
        let own = env!("CARGO_PKG_VERSION");
        return Err(failed(format!("Webtaxon {version} wrote it, and this is {own}").into()).into());
    }
    let known = Journal::read(&*setup.state())?.map(|journal| journal.seal()).transpose()?.flatten();
    let seal = known.map(Seal).filter(|seal| seal.state() == said("state"));
    let seal = seal.ok_or_else(|| failed("it was made with another state".into()))?;
    let edited = || failed("it was edited after it was made".into());
    let made = said("made").parse::<Timestamp>().map_err(|_| edited())?;
    let bytes = sealed(&version, made, &value.get("work")).map_err(|error| failed(error.into()))?;
    let tag = STANDARD.decode(said("seal")).map_err(|_| edited())?;
    hmac::verify(&seal.key(), &bytes, &tag).map_err(|_| edited())?;
    let saved: Saved = serde_json::from_value(value).map_err(|error| failed(error.into()))?;
    Ok((saved.work, saved.made))
}
