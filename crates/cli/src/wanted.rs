//! The values of options of `preview`.

use clap::ValueEnum;

/// A format of `preview --as`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Written {
    /// One page with everything, for a browser or a printer.
    Html,
    /// The changes, for a spreadsheet.
    Csv,
}

/// A kind of change to show.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Wanted {
    Import,
    Adopt,
    Update,
    Restore,
    Wait,
    Suspend,
    Remove,
    Clash,
    Held,
    Groups,
}

/// The order of changes within a kind.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Sort {
    /// By login.
    #[default]
    Login,
    /// By place in the directory, so that people of one unit are together.
    Place,
    /// By cause, then by login.
    Cause,
}
