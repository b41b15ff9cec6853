//! A preview, or the undoing of a run, saved in a file to be approved and applied later.

use super::Work;
use super::prepare::hex_digest;
use crate::box_error::BoxError;
use crate::error::{ApplyError, ApplyErrorKind};
use crate::private;
use jiff::Timestamp;
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
    /// The digest of `work`, as compact JSON.
    digest: String,
    work: Work,
}

impl Work {
    /// Saves the work to a new file that only its owner can read.
    ///
    /// # Errors
    /// The file exists, or cannot be written.
    pub fn save(&self, file: &Path) -> Result<(), ApplyError> {
        let failed = |source: BoxError| ApplyErrorKind::NotSaved { file: file.to_owned(), source };
        let saved = Saved {
            format: FORMAT.to_owned(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            made: Timestamp::now(),
            digest: digest(self).map_err(|error| failed(error.into()))?,
            work: self.clone(),
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
    /// The file cannot be read, has another format or version, or was edited.
    pub fn read(file: &Path) -> Result<(Self, Timestamp), ApplyError> {
        let failed = |source: BoxError| ApplyErrorKind::NotSaved { file: file.to_owned(), source };
        let text = std::fs::read(file).map_err(|error| failed(error.into()))?;
        let value: serde_json::Value = serde_json::from_slice(&text)
            .map_err(|error| failed(format!("it is not JSON: {error}").into()))?;
        let said = |key: &str| value.get(key).and_then(serde_json::Value::as_str).unwrap_or("none");
        if said("format") != FORMAT {
            return Err(failed(format!("its format is {}, not {FORMAT}", said("format")).into()).into());
        }
        if said("version") != env!("CARGO_PKG_VERSION") {
            let (its, own) = (said("version"), env!("CARGO_PKG_VERSION"));
            return Err(failed(format!("Webtaxon {its} wrote it, and this is {own}").into()).into());
        }
        let digest = digest(value.get("work")).map_err(|error| failed(error.into()))?;
        if digest != said("digest") {
            return Err(failed("it was edited after it was made".into()).into());
        }
        let saved: Saved = serde_json::from_value(value).map_err(|error| failed(error.into()))?;
        Ok((saved.work, saved.made))
    }
}

/// The digest of work, as compact JSON.
fn digest(work: impl Serialize) -> serde_json::Result<String> {
    Ok(format!("sha256:{}", hex_digest(&serde_json::to_vec(&work)?)))
}
