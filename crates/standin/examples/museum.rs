//! Writes the museum's directory in the form that another server takes:
//!
//! ```text
//! cargo run -p webtaxon-standin --example museum -- plain FOLDER        plain.ldif
//! cargo run -p webtaxon-standin --example museum -- controller FOLDER   entries.ldif, members.ldif
//! cargo run -p webtaxon-standin --example museum -- crowd FOLDER PEOPLE [GROUPS]  crowd.ldif, for benches
//! ```

use std::path::PathBuf;
use webtaxon_core::ldap::ldif;
use webtaxon_standin::scenario;

const DIRECTORY: &str = include_str!("../../../demo/directory.ldif");

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let (Some(kind), Some(folder)) = (arguments.next(), arguments.next()) else {
        return Err("name plain, controller or crowd, and a folder".into());
    };
    let folder = PathBuf::from(folder);
    let entries = ldif::entries(DIRECTORY.as_bytes())?;
    match kind.as_str() {
        "plain" => std::fs::write(folder.join("plain.ldif"), scenario::plain(&entries))?,
        "controller" => {
            let (entries, members) = scenario::to_load(&entries);
            std::fs::write(folder.join("entries.ldif"), entries)?;
            std::fs::write(folder.join("members.ldif"), members)?;
        }
        "crowd" => {
            let count = arguments.next().ok_or("say how many people")?.parse()?;
            let groups = arguments.next().map_or(Ok(0), |groups| groups.parse())?;
            let text = scenario::crowd(count) + &scenario::crowd_groups(count, groups);
            std::fs::write(folder.join("crowd.ldif"), text)?;
        }
        other => return Err(format!("{other} is neither plain, controller nor crowd").into()),
    }
    Ok(())
}
