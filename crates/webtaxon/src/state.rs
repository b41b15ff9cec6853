//! What Webtaxon remembers from run to run, in a file of its own beside the settings: since when people
//! are missing whose days of grace run. A preview reads it and never writes it.

use crate::Error;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use webtaxon_core::identity::Identity;
use webtaxon_core::preview::Memory;

const FORMAT: &str = "webtaxon.state/1";

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct State {
    format: String,
    /// By link.
    #[serde(default)]
    missed: BTreeMap<String, Date>,
}

/// The file that belongs to a settings file: `webtaxon.state.json` to `webtaxon.toml`.
#[must_use]
pub fn file_of(settings: &Path) -> PathBuf {
    settings.with_extension("state.json")
}

/// Reads what is remembered; nothing if there is no such file. Days are those of UTC.
///
/// # Errors
/// The file is there and cannot be read, or is not one of this form: a memory that was lost would let
/// days of grace begin anew without a word.
pub fn read(settings: &Path) -> Result<Memory, Error> {
    let today = Timestamp::now().to_zoned(TimeZone::UTC).date();
    let file = file_of(settings);
    let broken = |reason: String| Error::BrokenState { file: file.clone(), reason };
    let text = match std::fs::read(&file) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Memory::on(today)),
        Err(error) => return Err(broken(error.to_string())),
    };
    let state: State = serde_json::from_slice(&text).map_err(|error| broken(error.to_string()))?;
    if state.format != FORMAT {
        return Err(broken(format!("its form is {}, not {FORMAT}", state.format)));
    }
    let one = |(link, day): (String, Date)| Some((Identity::from_link(&link)?, day));
    Ok(Memory { missed: state.missed.into_iter().filter_map(one).collect(), today })
}
