//! What may be typed: commands and options.

use crate::wanted::{Sort, Wanted, Written};
use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::civil::Date;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;
use webtaxon_standin::{Fault, Manner};

/// Connects an application to a company's directory over LDAP, and previews which accounts it
/// would import, update, suspend or remove, before anything happens.
#[derive(Debug, Parser)]
#[command(version, max_term_width = 100)]
#[command(after_help = "Exit codes: 0 done; 1 it could not be done; 2 wrong usage or settings; \
3 a brake held an apply; 4 the directory was not read to its end.\nFirst steps: webtaxon demo")]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
    #[command(flatten)]
    pub(crate) common: Common,
}

/// What every command understands.
#[derive(Args, Clone, Debug)]
pub(crate) struct Common {
    /// The settings file.
    ///
    /// Paths inside it start from the folder that it is in.
    /// Example: webtaxon preview --settings loans/webtaxon.toml
    #[arg(
        long,
        global = true,
        value_name = "FILE",
        default_value = "webtaxon.toml",
        env = "WEBTAXON_SETTINGS"
    )]
    pub(crate) settings: PathBuf,

    /// Read a snapshot in place of the directory.
    ///
    /// `webtaxon snapshot FILE` writes one; any LDIF content will do, but is not taken for whole.
    /// Example: webtaxon preview --from monday.ldif
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,

    /// How the answer is written: text for people, json for programs.
    ///
    /// JSON is one document on standard output, with stable keys and a version in "format".
    /// Example: webtaxon preview --format json
    #[arg(long, global = true, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,

    /// Whether text has colours; words say the same without them.
    ///
    /// NO_COLOR is respected, too. Example: webtaxon check --color never
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto)]
    pub(crate) color: Color,
}

/// How an answer is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// Whether text has colours.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The commands, in the order of the work.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show the whole job on made-up data, with nothing installed.
    Demo(Demo),
    /// Write a first settings file, from what a directory shows.
    ///
    /// Needs a host name, a name to bind with and a password; asks for what is not given. Where
    /// people and groups sit, what they are called by and who is active is found out. Nothing is
    /// overwritten.
    Draft(Draft),
    /// Try everything that a run needs, step by step.
    ///
    /// Host name, connection, certificate, bind, rights, bases, filter, attributes, groups, the
    /// accounts file: one line each, and for each that fails, what to do. Reads only.
    Check(Check),
    /// Show where people and groups sit, or one entry with everything it has.
    ///
    /// Names are shown in full, to be copied into the settings.
    Browse(Browse),
    /// Show which attributes people have, how often, and which are good for what.
    ///
    /// Of the people whom the intake's filter finds under its bases.
    Fields(Fields),
    /// Explain a filter: what it means, what will surprise, whom it selects, and why not somebody.
    ///
    /// With --ldif or --intake it is tried on entries, and each clause is counted; with --entry
    /// each clause is judged for that one.
    Filter(Filter),
    /// Show who is in a group, and through which groups inside it.
    ///
    /// Of the people whom the intake reads. Members of members count; with --tree the groups are
    /// shown, with --broken what is wrong with them.
    Members(Members),
    /// Show what the application would import, update, suspend or remove.
    ///
    /// Nothing is changed. If the directory was not read to its end, nobody's account is taken
    /// away, and the exit code is 4.
    Preview(Preview),
    /// Show what other settings would change, before they are used.
    ///
    /// Both are tried on one reading of the directory: who would come in, who would go, whose fields or
    /// roles would differ, which accounts would meet with something else.
    Compare(Compare),
    /// Tell why one person is in or out, and what would happen to their account.
    ///
    /// By login, mail, name or DN, also for somebody whom the intake does not find, and for an account
    /// that has no person. Every step is shown, and what would have to change for another outcome.
    Why(Why),
    /// Carry out what a preview shows: a saved one exactly, or a fresh one after a question.
    ///
    /// First the accounts are copied and the journal is written; each account is looked at once more, and
    /// left out if somebody changed it meanwhile. What was done can be taken back.
    Apply(Apply),
    /// Show what was applied, one run in full, or the way back of one.
    Journal(Journal),
    /// Write what the intake reads to a file, as LDIF.
    ///
    /// Every command reads it with --from FILE in place of the directory.
    Snapshot(Snapshot),
    /// Run a simulated directory over an LDIF file, on this machine only.
    Standin(Standin),
    /// Explain a message by its code, like WX0307.
    Code {
        /// The code as a message shows it.
        code: String,
    },
}

/// Options of `demo`.
#[derive(Args, Debug)]
pub(crate) struct Demo {
    /// Write the demo's files to this folder and keep them.
    ///
    /// The folder is made if it does not exist; nothing in it is overwritten.
    /// Example: webtaxon demo --keep museum
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,

    /// Leave the simulated directory running until Ctrl-C.
    ///
    /// The commands that the demo prints can then be typed in another terminal.
    /// Example: webtaxon demo --stay
    #[arg(long)]
    pub(crate) stay: bool,
}

/// Options of `draft`.
#[derive(Args, Debug)]
pub(crate) struct Draft {
    /// The directory's server: a host name, or an address like ldaps://dc1.quillmere.example:636.
    ///
    /// A host alone is tried with TLS (port 636), then with StartTLS (port 389).
    #[arg(value_name = "URL")]
    pub(crate) url: String,

    /// Who asks: a DN, user@domain or 'DOMAIN\user'; "" for anonymous.
    ///
    /// Example: --bind svc-loansdesk@quillmere.example
    #[arg(long, value_name = "NAME")]
    pub(crate) bind: Option<String>,

    /// The environment variable that holds the password.
    ///
    /// The settings name it, too. Example: --password-env MUSEUM_PASSWORD
    #[arg(long, value_name = "VARIABLE", conflicts_with = "password_file")]
    pub(crate) password_env: Option<String>,

    /// The file whose first line is the password.
    ///
    /// The settings name it, too. Example: --password-file museum-password.txt
    #[arg(long, value_name = "FILE")]
    pub(crate) password_file: Option<PathBuf>,

    /// The certificate of the authority that signs the server's, as a PEM file.
    ///
    /// Left out: the system's own authorities. Example: --authority museum-ca.pem
    #[arg(long, value_name = "FILE", conflicts_with = "fingerprint")]
    pub(crate) authority: Option<PathBuf>,

    /// The fingerprint of the server's certificate, if you have verified it by another way.
    ///
    /// Example: --fingerprint sha256:0E:E8:24:…
    #[arg(long, value_name = "SHA256")]
    pub(crate) fingerprint: Option<String>,

    /// Where the settings are written; - for standard output.
    ///
    /// Paths in them start from the file's folder. Example: --out loans/webtaxon.toml
    #[arg(long, value_name = "FILE", default_value = "webtaxon.toml")]
    pub(crate) out: PathBuf,

    /// The application's list, as the settings name it. An empty one is made if there is none.
    #[arg(long, value_name = "FILE", default_value = "accounts.csv")]
    pub(crate) accounts: String,
}

/// Which intake a command looks at.
#[derive(Args, Debug)]
pub(crate) struct LookedAt {
    /// Look at this intake; left out: the first of the settings.
    ///
    /// Example: --intake contractors
    #[arg(long, value_name = "NAME")]
    pub(crate) intake: Option<String>,
}

/// Options of `browse`.
#[derive(Args, Debug)]
pub(crate) struct Browse {
    /// The entry to show, with what is below it; left out: the directory's own tops.
    ///
    /// Example: webtaxon browse "OU=People,DC=quillmere,DC=example"
    pub(crate) dn: Option<String>,

    /// Find people and groups by a piece of their name, login or mail.
    ///
    /// Example: webtaxon browse --find ibbotson
    #[arg(long, value_name = "TEXT", conflicts_with = "dn")]
    pub(crate) find: Option<String>,

    #[command(flatten)]
    pub(crate) looked_at: LookedAt,
}

/// Options of `filter`.
#[derive(Args, Debug)]
pub(crate) struct Filter {
    /// The filter, in single quotes; - reads it from standard input.
    ///
    /// Left out: the intake's own, or --read. Example: webtaxon filter '(department=Botany)'
    pub(crate) filter: Option<String>,

    /// Read the filter from a file: a shell eats parentheses.
    #[arg(long, value_name = "FILE", conflicts_with = "filter")]
    pub(crate) read: Option<PathBuf>,

    /// Try it on the entries of an LDIF file.
    ///
    /// Example: webtaxon filter '(mail=*)' --ldif demo/directory.ldif
    #[arg(long, value_name = "FILE", conflicts_with = "intake")]
    pub(crate) ldif: Option<PathBuf>,

    /// Try it on everything under the bases of the settings' intake (or of --from's snapshot).
    ///
    /// Of several intakes, the first is meant, or the one that is named: --intake=contractors
    #[arg(long, value_name = "NAME", num_args = 0..=1, require_equals = true, default_missing_value = "")]
    pub(crate) intake: Option<String>,

    /// Judge each clause for this entry: a DN, or a login or name that one entry has.
    ///
    /// Example: webtaxon filter --intake --entry bthornbury
    #[arg(long, value_name = "DN")]
    pub(crate) entry: Option<String>,
}

/// Options of `members`.
#[derive(Args, Debug)]
pub(crate) struct Members {
    /// The group: its name in full, or a piece of it that one group has.
    ///
    /// Example: webtaxon members "Loans Desk Users"
    #[arg(required_unless_present = "of")]
    pub(crate) group: Option<String>,

    /// Show the groups of one person instead: a DN, or a piece of a login or name that one has. With
    /// a GROUP, every way by which they are in that one.
    ///
    /// Example: webtaxon members --of bthornbury
    #[arg(long, value_name = "PERSON", conflicts_with_all = ["tree", "broken", "drawn"])]
    pub(crate) of: Option<String>,

    /// Show the groups inside one another, with how many people are in each.
    #[arg(long, conflicts_with = "broken")]
    pub(crate) tree: bool,

    /// Show cycles, empty groups, members that are gone or from outside, and who is in no list.
    #[arg(long)]
    pub(crate) broken: bool,

    /// Write a table of the members, a picture of the groups, or their graph for other programs.
    ///
    /// Example: webtaxon members "Loans Desk Users" --as svg > nest.svg
    #[arg(long = "as", value_name = "KIND", conflicts_with_all = ["tree", "broken", "format"])]
    pub(crate) drawn: Option<Drawn>,

    /// Show who came into the group and who went since this snapshot was taken.
    ///
    /// Example: webtaxon snapshot monday.ldif, and later: webtaxon members Curators --since monday.ldif
    #[arg(long, value_name = "FILE", requires = "group", conflicts_with_all = ["of", "tree", "broken", "drawn", "from"])]
    pub(crate) since: Option<PathBuf>,

    #[command(flatten)]
    pub(crate) looked_at: LookedAt,
}

/// What `members --as` writes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Drawn {
    /// The members, for a spreadsheet.
    Csv,
    /// The groups inside one another as boxes and lines, for a browser.
    Svg,
    /// The same as DOT text.
    Dot,
}

/// Options of `fields`.
#[derive(Args, Debug)]
pub(crate) struct Fields {
    /// Show no values, so that the answer can be passed on.
    #[arg(long)]
    pub(crate) mask: bool,

    #[command(flatten)]
    pub(crate) looked_at: LookedAt,
}

/// Options of `check`.
#[derive(Args, Debug)]
pub(crate) struct Check {
    /// Try a server that cannot be reached again, for so long.
    ///
    /// For a start-up script, where the directory may come later than this. Example: --wait 60s
    #[arg(long, value_name = "TIME", default_value = "0s", value_parser = time)]
    pub(crate) wait: Duration,
}

/// A length of time: a number with a unit.
fn time(text: &str) -> Result<Duration, String> {
    let parsed = text.parse::<jiff::SignedDuration>().ok().and_then(|span| Duration::try_from(span).ok());
    parsed.ok_or_else(|| "write a number with a unit, like 30s or 2m".to_owned())
}

/// Options of `preview`.
#[derive(Args, Debug, Default)]
pub(crate) struct Preview {
    /// Exit with 10 where there is something to do, for scripts.
    ///
    /// Example: webtaxon preview --changes-exit-code; test $? -eq 10 && echo "something to do"
    #[arg(long)]
    pub(crate) changes_exit_code: bool,

    /// Show only these kinds of change: import, adopt, update, restore, wait, suspend, remove, clash, held, groups.
    ///
    /// The figures above stay those of the whole. Example: --only suspend,remove
    #[arg(long, value_name = "KINDS", value_delimiter = ',')]
    pub(crate) only: Vec<Wanted>,

    /// Show only changes with these words in the login, the name, a value, the cause or a group.
    ///
    /// Example: webtaxon preview --find curators
    #[arg(long, value_name = "WORDS", default_value = "", hide_default_value = true)]
    pub(crate) find: String,

    /// The order within each kind.
    #[arg(long, value_enum, default_value_t = Sort::Login)]
    pub(crate) sort: Sort,

    /// Show at most so many changes of each kind, as text.
    #[arg(long, value_name = "N", conflicts_with = "written")]
    pub(crate) limit: Option<usize>,

    /// Write a page for a browser, or a table for a spreadsheet.
    ///
    /// The page needs no connection and no scripts; with scripts it can be searched and sorted.
    /// Example: webtaxon preview --as html --out preview.html
    #[arg(long = "as", value_name = "KIND", conflicts_with = "format")]
    pub(crate) written: Option<Written>,

    /// Write to this file in place of standard output.
    ///
    /// A file that Webtaxon did not write is not overwritten.
    #[arg(long, value_name = "FILE", requires = "written")]
    pub(crate) out: Option<PathBuf>,

    /// Save it to a new file, to be carried out later by `webtaxon apply FILE`, exactly as it is.
    ///
    /// The whole preview is saved, whatever is shown of it. Example: --save monday.json
    #[arg(long, value_name = "FILE")]
    pub(crate) save: Option<PathBuf>,
}

/// Options of `apply`.
#[derive(Args, Debug)]
pub(crate) struct Apply {
    /// A preview that was saved by `preview --save` or `journal --undo --save`; left out: a fresh one.
    ///
    /// Example: webtaxon apply monday.json
    pub(crate) saved: Option<PathBuf>,

    /// Do not ask.
    #[arg(long)]
    pub(crate) yes: bool,

    /// Let these brakes go for this one time, each by its name as the preview shows it.
    ///
    /// Example: --release seats,settings_changed
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub(crate) release: Vec<String>,

    /// Begin no further change after so many that the application refused.
    #[arg(long, value_name = "N")]
    pub(crate) stop_after: Option<usize>,

    /// Write the SQL statements to a new file in place of running them.
    ///
    /// For a database administrator who wants to read them, and runs them in one transaction. The journal
    /// knows nothing of it then, and cannot take it back. Example: --statements monday.sql
    #[arg(long, value_name = "FILE", conflicts_with_all = ["yes", "stop_after"])]
    pub(crate) statements: Option<PathBuf>,
}

/// Options of `journal`.
#[derive(Args, Debug)]
pub(crate) struct Journal {
    /// The run, by its number; left out: all of them in short.
    ///
    /// Example: webtaxon journal 3
    pub(crate) run: Option<i64>,

    /// Show what would take the run back. Nothing is changed.
    ///
    /// What was changed since, here or by hand, is left out when it is applied.
    #[arg(long, requires = "run", conflicts_with_all = ["lines", "forget_before"])]
    pub(crate) undo: bool,

    /// Save the way back to a new file, for `webtaxon apply FILE`.
    ///
    /// Example: webtaxon journal 3 --undo --save undo-3.json
    #[arg(long, value_name = "FILE", requires = "undo")]
    pub(crate) save: Option<PathBuf>,

    /// Write every change of the run, or of all runs, as one line of JSON, the oldest first.
    ///
    /// Example: webtaxon journal --lines > journal.jsonl
    #[arg(long, conflicts_with = "format")]
    pub(crate) lines: bool,

    /// Forget runs that began before this day, and their copies of the accounts.
    ///
    /// The latest run is always kept. Example: --forget-before 2026-01-01
    #[arg(long, value_name = "DAY", conflicts_with_all = ["run", "lines"])]
    pub(crate) forget_before: Option<Date>,
}

/// Options of `compare`.
#[derive(Args, Debug)]
pub(crate) struct Compare {
    /// The other settings file; --settings names the one that is in use.
    ///
    /// Example: webtaxon compare proposed.toml
    #[arg(value_name = "OTHER.toml")]
    pub(crate) other: PathBuf,
}

/// Options of `why`.
#[derive(Args, Debug)]
pub(crate) struct Why {
    /// The person or account: a login, a mail, a name or a piece of one, or a DN.
    ///
    /// Example: webtaxon why bthornbury
    pub(crate) person: String,
}

/// Options of `snapshot`.
#[derive(Args, Debug)]
pub(crate) struct Snapshot {
    /// Where it is written; nothing is overwritten.
    ///
    /// Example: webtaxon snapshot monday.ldif
    pub(crate) file: PathBuf,

    /// Put made-up values in place of people's, so that the file can be given to somebody for help.
    ///
    /// Names, logins, addresses and numbers are replaced, the same ones by the same; what the
    /// filters compare with stays. Places in the tree and groups keep their names.
    #[arg(long)]
    pub(crate) mask: bool,

    #[command(flatten)]
    pub(crate) looked_at: LookedAt,
}

/// Options of `standin`.
#[derive(Args, Debug)]
pub(crate) struct Standin {
    /// The entries, as LDIF.
    ///
    /// Example: webtaxon standin --ldif demo/directory.ldif --authority demo/museum-ca.pem
    #[arg(long, value_name = "FILE")]
    pub(crate) ldif: PathBuf,

    /// Changes to make before it starts, as LDIF change records; may be given several times.
    ///
    /// What would a preview show tomorrow? Example: --changes tomorrow.ldif
    #[arg(long, value_name = "FILE")]
    pub(crate) changes: Vec<PathBuf>,

    /// Where to listen: an address of this machine's own loopback; port 0 takes a free one.
    ///
    /// Example: --listen 127.0.0.1:6361
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:6360")]
    pub(crate) listen: SocketAddr,

    /// Also run a simulated application: a SCIM service with the accounts of this CSV file.
    ///
    /// It is kept in memory. In the settings: store = "scim", service = "http://127.0.0.1:6370/scim/v2",
    /// plain = true. Example: --application demo/accounts.csv
    #[arg(long, value_name = "FILE")]
    pub(crate) application: Option<PathBuf>,

    /// Where the simulated application listens.
    ///
    /// Example: --application-listen 127.0.0.1:6371
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:6370", requires = "application")]
    pub(crate) application_listen: SocketAddr,

    /// Where to write the certificate of the authority that signs the server's.
    ///
    /// A new one is made at every start. Name the file in the settings:
    /// trust = { authority = "museum-ca.pem" }
    #[arg(long, value_name = "FILE")]
    pub(crate) authority: Option<PathBuf>,

    /// Begin in plain text (ldap://) instead of with TLS (ldaps://); StartTLS is offered.
    #[arg(long)]
    pub(crate) plain: bool,

    /// Let anybody search without a bind.
    #[arg(long)]
    pub(crate) anonymous: bool,

    /// The most entries that a search without paging gets.
    ///
    /// Example: --size-limit 1000
    #[arg(long, value_name = "N")]
    pub(crate) size_limit: Option<usize>,

    /// Which kind of server it is: plain (entryUUID, who-am-I) or controller; else what the entries look like.
    ///
    /// Example: --manner plain
    #[arg(long, value_name = "KIND")]
    pub(crate) manner: Option<Manner>,

    /// A fault for tests, after so many messages on each connection.
    ///
    /// cut, cut-inside, stall, drip, busy, hurried, wrong-id, odd-end, empty-pages, same-page, notice, huge, lie, nested,
    /// injected. Example: --fault cut@50
    #[arg(long, value_name = "KIND@N")]
    pub(crate) fault: Option<Fault>,
}
