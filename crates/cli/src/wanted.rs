//! The words that options of `preview` take.

use clap::ValueEnum;

/// What `preview --as` writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Written {
    /// One page with everything, for a browser or a printer.
    Html,
    /// The changes, for a spreadsheet.
    Csv,
}

/// A kind of change that is wanted.
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
    /// By place in the directory, so that people of one unit stand together.
    Place,
    /// By cause, then by login.
    Cause,
}
