//! The commands and their options.

use crate::values;
use crate::wanted::{Sort, Wanted, Written};
use clap::{Args, Parser, Subcommand, ValueEnum};
use jiff::civil::Date;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;
use webtaxon_standin::{Fault, Manner};

/// Connects an application to a corporate directory over LDAP, and previews which accounts it
/// would import, update, suspend or remove, before anything happens.
#[derive(Debug, Parser)]
#[command(version, max_term_width = 100)]
#[command(after_help = "Exit codes: 0 done; 1 it could not be done; 2 wrong usage or settings; \
3 a brake stopped an apply; 4 the directory was not read to its end; 5 a sign-in was \
refused.\nFirst steps: webtaxon demo")]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
    #[command(flatten)]
    pub(crate) common: Common,
}

/// Options of every command.
#[derive(Args, Clone, Debug)]
pub(crate) struct Common {
    /// The settings file.
    ///
    /// Paths in it are relative to its folder.
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
    /// `webtaxon snapshot FILE` writes one. Any LDIF file will do, but is not taken for whole.
    /// Example: webtaxon preview --from monday.ldif
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,

    /// Output format: text for people, json for programs.
    ///
    /// JSON is one document on standard output, with stable keys and a version in "format".
    /// Example: webtaxon preview --format json
    #[arg(long, global = true, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,

    /// Whether to colour text. Colours only repeat what the words say.
    ///
    /// NO_COLOR is honoured. Example: webtaxon check --color never
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto)]
    pub(crate) color: Color,
}

/// Output formats.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people.
    Text,
    /// For programs.
    Json,
}

/// When to colour text.
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
    /// Write a first settings file by looking at the directory.
    ///
    /// Needs a host name, a bind name and a password, and asks for those that are missing. Finds out
    /// where people and groups are, which attributes name them, and how inactive people are marked.
    /// Nothing is overwritten.
    Draft(Draft),
    /// Check everything that a run needs, step by step.
    ///
    /// Host name, connection, certificate, bind, rights, bases, filter, attributes, groups,
    /// accounts: one line each, with a remedy if it fails. Changes nothing, except with --scratch.
    Check(Check),
    /// Show where people and groups are, or one entry in full.
    ///
    /// Names are shown in full, so that they can be copied into the settings.
    Browse(Browse),
    /// Show which attributes people have, how often, and what they are suitable for.
    ///
    /// People are those who match the intake's filter under its bases.
    Fields(Fields),
    /// Explain a filter: what it means, what may surprise, whom it selects, and why not somebody.
    ///
    /// With --ldif or --intake it is tried on entries, with the number that pass each clause; with
    /// --entry it is explained for that entry, clause by clause.
    Filter(Filter),
    /// Show who is in a group, directly or through nested groups.
    ///
    /// People are those whom the intake reads. --tree shows the nested groups, --broken what is
    /// wrong with them.
    Members(Members),
    /// Show what the application would import, update, suspend or remove.
    ///
    /// Changes nothing. If the directory was not read to its end, no account is suspended or removed,
    /// and the exit code is 4.
    Preview(Preview),
    /// Show what other settings would change, before they are used.
    ///
    /// Both are tried on one reading of the directory: who would join or leave, whose fields or roles
    /// would differ, which accounts would be changed differently.
    Compare(Compare),
    /// Explain why one person is selected or not, and what would happen to their account.
    ///
    /// Give a login, mail, name or DN. It may be that of a person whom the intake does not find, or of an
    /// account without a person. Shows every step, and what would have to change for another outcome.
    Why(Why),
    /// Ask about each clash of the preview, and write the answers into the settings.
    ///
    /// Shows both sides of each clash, field by field, and what each answer does. Nothing is written before
    /// you have seen the effect; comments in the settings stay. Without a terminal it prints the lines.
    Settle,
    /// Carry out a preview: a saved one exactly, or a new one after a question.
    ///
    /// The accounts are copied and the journal is written first. Each account is checked once more, and
    /// left out if it was changed meanwhile. An apply can be undone.
    Apply(Apply),
    /// Show past applies, one of them in full, or how to undo one.
    Journal(Journal),
    /// Try a sign-in: can this person get in, and what would they be in the application?
    ///
    /// Asks for their password, and goes through it step by step: the name, the entry, the directory's answer to the
    /// password, the selection, the account, the roles. Changes no account. With --audit it shows earlier tries.
    SignIn(SignIn),
    /// Save what the intake reads to a file, as LDIF.
    ///
    /// Every command can read it with --from FILE in place of the directory.
    Snapshot(Snapshot),
    /// Run a simulated directory with the entries of an LDIF file, for this machine only.
    Standin(Standin),
    /// Explain a message by its code, like WX0307.
    Code {
        /// The code shown with a message.
        code: String,
    },
}

/// Options of `demo`.
#[derive(Args, Debug)]
pub(crate) struct Demo {
    /// Write the demo's files to this folder and keep them.
    ///
    /// The folder is created if needed; nothing in it is overwritten.
    /// Example: webtaxon demo --keep museum
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,

    /// Keep the simulated directory running until Ctrl-C.
    ///
    /// The commands that the demo prints can then be tried in another terminal.
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

    /// The bind name: a DN, user@domain or 'DOMAIN\user'; "" for an anonymous bind.
    ///
    /// Example: --bind svc-loansdesk@quillmere.example
    #[arg(long, value_name = "NAME")]
    pub(crate) bind: Option<String>,

    /// The environment variable that holds the password.
    ///
    /// The settings will refer to it. Example: --password-env MUSEUM_PASSWORD
    #[arg(long, value_name = "VARIABLE", conflicts_with = "password_file")]
    pub(crate) password_env: Option<String>,

    /// A file whose first line is the password.
    ///
    /// The settings will refer to it. Example: --password-file museum-password.txt
    #[arg(long, value_name = "FILE")]
    pub(crate) password_file: Option<PathBuf>,

    /// The certificate of the authority that signed the server's, as a PEM file.
    ///
    /// Default: the system's authorities. Example: --authority museum-ca.pem
    #[arg(long, value_name = "FILE", conflicts_with = "fingerprint")]
    pub(crate) authority: Option<PathBuf>,

    /// The fingerprint of the server's certificate, if you have verified it out of band.
    ///
    /// Example: --fingerprint sha256:0E:E8:24:…
    #[arg(long, value_name = "SHA256")]
    pub(crate) fingerprint: Option<String>,

    /// The settings file to write; - for standard output.
    ///
    /// Paths in it are relative to its folder. Example: --out loans/webtaxon.toml
    #[arg(long, value_name = "FILE", default_value = "webtaxon.toml")]
    pub(crate) out: PathBuf,

    /// The application's accounts file, as the settings refer to it. An empty one is created if missing.
    #[arg(long, value_name = "FILE", default_value = "accounts.csv")]
    pub(crate) accounts: String,
}

/// The intake that a command uses.
#[derive(Args, Debug)]
pub(crate) struct LookedAt {
    /// The intake to use; the first one by default.
    ///
    /// Example: --intake contractors
    #[arg(long, value_name = "NAME")]
    pub(crate) intake: Option<String>,
}

/// Options of `browse`.
#[derive(Args, Debug)]
pub(crate) struct Browse {
    /// The entry to show, with the tree below it; by default the directory's naming contexts.
    ///
    /// Example: webtaxon browse "OU=People,DC=quillmere,DC=example"
    pub(crate) dn: Option<String>,

    /// Find people and groups by a part of their name, login or mail.
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
    /// Default: the intake's own, or --read. Example: webtaxon filter '(department=Botany)'
    pub(crate) filter: Option<String>,

    /// Read the filter from a file, where the shell cannot alter it.
    #[arg(long, value_name = "FILE", conflicts_with = "filter")]
    pub(crate) read: Option<PathBuf>,

    /// Try it on the entries of an LDIF file.
    ///
    /// Example: webtaxon filter '(mail=*)' --ldif demo/directory.ldif
    #[arg(long, value_name = "FILE", conflicts_with = "intake")]
    pub(crate) ldif: Option<PathBuf>,

    /// Try it on everything under the bases of the intake (or in the snapshot given with --from).
    ///
    /// Uses the first intake, or the one given: --intake=contractors
    #[arg(long, value_name = "NAME", num_args = 0..=1, require_equals = true, default_missing_value = "")]
    pub(crate) intake: Option<String>,

    /// Explain each clause for this entry: a DN, or a login or name that only one entry has.
    ///
    /// Example: webtaxon filter --intake --entry bthornbury
    #[arg(long, value_name = "DN")]
    pub(crate) entry: Option<String>,
}

/// Options of `members`.
#[derive(Args, Debug)]
pub(crate) struct Members {
    /// The group: its full name, or a part of it that only one group has.
    ///
    /// Example: webtaxon members "Loans Desk Users"
    #[arg(required_unless_present = "of")]
    pub(crate) group: Option<String>,

    /// Show the groups of one person: a DN, or a part of a login or name that only one has. With a
    /// GROUP, show every path from that group to the person.
    ///
    /// Example: webtaxon members --of bthornbury
    #[arg(long, value_name = "PERSON", conflicts_with_all = ["tree", "broken", "drawn"])]
    pub(crate) of: Option<String>,

    /// Show the nested groups as a tree, with the number of people in each.
    #[arg(long, conflicts_with = "broken")]
    pub(crate) tree: bool,

    /// Show cycles, empty groups, deleted members, members from outside, and members whom no group lists.
    #[arg(long)]
    pub(crate) broken: bool,

    /// Write a table of the members, a drawing of the groups, or their graph for other programs.
    ///
    /// Example: webtaxon members "Loans Desk Users" --as svg > nest.svg
    #[arg(long = "as", value_name = "KIND", conflicts_with_all = ["tree", "broken", "format"])]
    pub(crate) drawn: Option<Drawn>,

    /// Show who joined the group and who left since this snapshot was taken.
    ///
    /// Example: webtaxon snapshot monday.ldif, and later: webtaxon members Curators --since monday.ldif
    #[arg(long, value_name = "FILE", requires = "group", conflicts_with_all = ["of", "tree", "broken", "drawn", "from"])]
    pub(crate) since: Option<PathBuf>,

    #[command(flatten)]
    pub(crate) looked_at: LookedAt,
}

/// Formats of `members --as`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Drawn {
    /// The members, for a spreadsheet.
    Csv,
    /// A drawing of the nested groups, for a browser.
    Svg,
    /// The same as DOT text.
    Dot,
}

/// Options of `fields`.
#[derive(Args, Debug)]
pub(crate) struct Fields {
    /// Hide all values, so that the answer can be passed on.
    #[arg(long)]
    pub(crate) mask: bool,

    #[command(flatten)]
    pub(crate) looked_at: LookedAt,
}

/// Options of `check`.
#[derive(Args, Debug)]
pub(crate) struct Check {
    /// Keep trying a server that cannot be reached, for this long.
    ///
    /// For a start-up script that may run before the directory is up. Example: --wait 60s
    #[arg(long, value_name = "TIME", default_value = "0s", value_parser = values::time)]
    pub(crate) wait: Duration,
    /// Also try the account store with an account of this login: create, change, suspend and remove it.
    ///
    /// For a SCIM service, which may keep less than it says: what it does is remembered for later runs. Nobody may
    /// have the login. Example: --scratch webtaxon.scratch
    #[arg(long, value_name = "LOGIN")]
    pub(crate) scratch: Option<String>,
}

/// Options of `preview`.
#[derive(Args, Debug, Default)]
pub(crate) struct Preview {
    /// Exit with 10 if there is something to do, for scripts.
    ///
    /// Example: webtaxon preview --changes-exit-code; test $? -eq 10 && echo "something to do"
    #[arg(long)]
    pub(crate) changes_exit_code: bool,

    /// Show only these kinds of change: import, adopt, update, restore, wait, suspend, remove, clash, held, groups.
    ///
    /// The figures remain those of the whole preview. Example: --only suspend,remove
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

    /// Show at most N changes of each kind, as text.
    #[arg(long, value_name = "N", conflicts_with = "written")]
    pub(crate) limit: Option<usize>,

    /// Write a page for a browser, or a table for a spreadsheet.
    ///
    /// The page works without a connection and without scripts; with scripts it can be searched and sorted.
    /// Example: webtaxon preview --as html --out preview.html
    #[arg(long = "as", value_name = "KIND", conflicts_with = "format")]
    pub(crate) written: Option<Written>,

    /// Write to this file instead of standard output.
    ///
    /// Only a file that Webtaxon wrote is overwritten.
    #[arg(long, value_name = "FILE", requires = "written")]
    pub(crate) out: Option<PathBuf>,

    /// Save the preview to a new file; `webtaxon apply FILE` carries out exactly that later.
    ///
    /// Always saves the whole preview, whatever is shown. Example: --save monday.json
    #[arg(long, value_name = "FILE")]
    pub(crate) save: Option<PathBuf>,
}

/// Options of `apply`.
#[derive(Args, Debug)]
pub(crate) struct Apply {
    /// A preview saved by `preview --save` or `journal --undo --save`; by default a new one is made.
    ///
    /// Example: webtaxon apply monday.json
    pub(crate) saved: Option<PathBuf>,

    /// Do not ask for confirmation.
    #[arg(long)]
    pub(crate) yes: bool,

    /// Release these brakes, this time only, by their names in the preview.
    ///
    /// Example: --release seats,settings_changed
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub(crate) release: Vec<String>,

    /// Stop after N changes that the application refused.
    #[arg(long, value_name = "N")]
    pub(crate) stop_after: Option<usize>,

    /// Write the SQL statements to a new file instead of running them.
    ///
    /// For a database administrator to review, and to run in one transaction. The journal does not
    /// record them, so they cannot be undone here. Example: --statements monday.sql
    #[arg(long, value_name = "FILE", conflicts_with_all = ["yes", "stop_after"])]
    pub(crate) statements: Option<PathBuf>,
}

/// Options of `journal`.
#[derive(Args, Debug)]
pub(crate) struct Journal {
    /// The number of the run; by default all runs are listed.
    ///
    /// Example: webtaxon journal 3
    pub(crate) run: Option<i64>,

    /// Show how to undo the run. Changes nothing.
    ///
    /// Accounts that were changed since, here or by hand, are left out when it is applied.
    #[arg(long, requires = "run", conflicts_with_all = ["lines", "forget_before"])]
    pub(crate) undo: bool,

    /// Save the undoing of the run to a new file, for `webtaxon apply FILE`.
    ///
    /// Example: webtaxon journal 3 --undo --save undo-3.json
    #[arg(long, value_name = "FILE", requires = "undo")]
    pub(crate) save: Option<PathBuf>,

    /// Write every change of the run, or of all runs, as a line of JSON each, oldest first.
    ///
    /// Example: webtaxon journal --lines > journal.jsonl
    #[arg(long, conflicts_with = "format")]
    pub(crate) lines: bool,

    /// Delete the records of runs before this day, and their copies of the accounts.
    ///
    /// The latest run is always kept. Example: --forget-before 2026-01-01
    #[arg(long, value_name = "DAY", conflicts_with_all = ["run", "lines"])]
    pub(crate) forget_before: Option<Date>,
}

/// Options of `compare`.
#[derive(Args, Debug)]
pub(crate) struct Compare {
    /// The other settings file; --settings gives the one in use.
    ///
    /// Example: webtaxon compare proposed.toml
    #[arg(value_name = "OTHER.toml")]
    pub(crate) other: PathBuf,

    /// Show at most N people, accounts or groups in each list, as text.
    #[arg(long, value_name = "N")]
    pub(crate) limit: Option<usize>,
}

/// Options of `why`.
#[derive(Args, Debug)]
pub(crate) struct Why {
    /// The person or account: a login, a mail, a name or part of one, or a DN.
    ///
    /// Example: webtaxon why bthornbury
    pub(crate) person: String,
}

/// Options of `sign-in`.
#[derive(Args, Debug)]
pub(crate) struct SignIn {
    /// The name, as the person types it at the application.
    ///
    /// Example: webtaxon sign-in bthornbury
    #[arg(value_name = "NAME", required_unless_present = "audit")]
    pub(crate) name: Option<String>,

    /// Read the password from the first line of a file; - for standard input.
    ///
    /// By default it is asked for. Example: --password-file - < password.txt
    #[arg(long, value_name = "FILE", conflicts_with = "without_password")]
    pub(crate) password_file: Option<PathBuf>,

    /// Do not ask for a password, and do not try one.
    ///
    /// Everything else is told: the entry, the selection, the account and the roles.
    #[arg(long)]
    pub(crate) without_password: bool,

    /// Show recorded tries, with counts by reason.
    ///
    /// Example: webtaxon sign-in --audit --of bthornbury
    #[arg(long, conflicts_with_all = ["name", "password_file", "without_password"])]
    pub(crate) audit: bool,

    /// Of the recorded tries, only those since a day, or within a time.
    ///
    /// Example: --since 2026-12-01, or --since 2h
    #[arg(long, value_name = "WHEN", requires = "audit", value_parser = values::when)]
    pub(crate) since: Option<values::When>,

    /// Of the recorded tries, only those with this in the name, the entry or the account.
    ///
    /// Example: --of thornbury
    #[arg(long, value_name = "NAME", requires = "audit")]
    pub(crate) of: Option<String>,
}

/// Options of `snapshot`.
#[derive(Args, Debug)]
pub(crate) struct Snapshot {
    /// The file to write; an existing one is not overwritten.
    ///
    /// Example: webtaxon snapshot monday.ldif
    pub(crate) file: PathBuf,

    /// Replace people's values by invented ones, so that the file can be sent to somebody for help.
    ///
    /// Names, logins, addresses and numbers are replaced, equal ones by equal ones; values that filters
    /// test are kept. Places in the tree and groups keep their names.
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
    /// To try what a preview would show tomorrow. Example: --changes tomorrow.ldif
    #[arg(long, value_name = "FILE")]
    pub(crate) changes: Vec<PathBuf>,

    /// The loopback address to listen on; port 0 takes a free one.
    ///
    /// Example: --listen 127.0.0.1:6361
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:6360")]
    pub(crate) listen: SocketAddr,

    /// Also run a simulated application, a SCIM service with the accounts of this CSV file.
    ///
    /// The accounts are held in memory. In the settings: store = "scim", service = "http://127.0.0.1:6370/scim/v2",
    /// plain = true. Example: --application demo/accounts.csv
    #[arg(long, value_name = "FILE")]
    pub(crate) application: Option<PathBuf>,

    /// The address that the simulated application listens on.
    ///
    /// Example: --application-listen 127.0.0.1:6371
    #[arg(long, value_name = "ADDR", default_value = "127.0.0.1:6370", requires = "application")]
    pub(crate) application_listen: SocketAddr,

    /// The file to write the certificate of the signing authority to.
    ///
    /// A new one is made at every start. In the settings:
    /// trust = { authority = "museum-ca.pem" }
    #[arg(long, value_name = "FILE")]
    pub(crate) authority: Option<PathBuf>,

    /// Listen without TLS (ldap:// instead of ldaps://); StartTLS is offered.
    #[arg(long)]
    pub(crate) plain: bool,

    /// Allow anonymous searches.
    #[arg(long)]
    pub(crate) anonymous: bool,

    /// Maximum entries of a search without paging.
    ///
    /// Example: --size-limit 1000
    #[arg(long, value_name = "N")]
    pub(crate) size_limit: Option<usize>,

    /// The kind of server: plain (entryUUID, who-am-I), dirsrv (as 389 Directory Server) or controller; by default
    /// guessed from the entries.
    ///
    /// Example: --manner plain
    #[arg(long, value_name = "KIND")]
    pub(crate) manner: Option<Manner>,

    /// Changes to make while a client reads, as LDIF change records; may be given several times.
    ///
    /// They are made once the directory has answered N searches. To try a rename in the middle of a preview.
    /// Example: --later moved.ldif@40
    #[arg(long, value_name = "FILE@N", value_parser = values::later)]
    pub(crate) later: Vec<(PathBuf, u64)>,

    /// An attribute that is never returned, as with an access rule; may be given several times.
    ///
    /// Example: --hidden mail
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) hidden: Vec<String>,

    /// An entry that is hidden with all below it, as with an access rule; may be given several times.
    ///
    /// Example: --hidden-below OU=Botany,OU=People,DC=quillmere,DC=example
    #[arg(long, value_name = "DN", value_parser = values::name)]
    pub(crate) hidden_below: Vec<String>,

    /// A fault, for tests, after a number of messages on each connection.
    ///
    /// cut, cut-inside, stall, drip, busy, hurried, short, wrong-id, odd-end, empty-pages, same-page, notice, huge, lie,
    /// nested, injected. Example: --fault cut@50
    #[arg(long, value_name = "KIND@N")]
    pub(crate) fault: Option<Fault>,
}
