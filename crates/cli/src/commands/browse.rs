//! `webtaxon browse`: where people and groups are, and one entry.

use crate::arguments::Browse as Options;
use crate::session::{Exit, Failure, Session};
use crate::text;
use webtaxon::directory::{Connection, DirectoryError, Query};
use webtaxon::model::ldap::entry::Entries;
use webtaxon::model::ldap::name::Dn;
use webtaxon::report;
use webtaxon::survey::{self, Tree};

/// Maximum people and groups shown.
const FOUND: usize = 100;

pub(crate) async fn run(options: &Options, session: &Session<'_>) -> Result<Exit, Failure> {
    let option = session.same_options();
    let base = match (&options.find, options.dn.as_deref().map(Dn::parse_pasted).transpose()) {
        (Some(_), _) => None,
        (None, Ok(pasted)) => pasted.map(|pasted| {
            session.output.pasted(&pasted);
            pasted.dn
        }),
        (None, Err(error)) => return Err(Failure::told(Exit::Wrong, error)),
    };
    let workspace = session.open_for(options.looked_at.intake.as_deref())?;
    let mut connection = workspace.connect().await?;
    if let Some(wanted) = &options.find {
        let found = survey::find(&mut connection, wanted, FOUND).await;
        connection.close().await;
        let (found, more) = found?;
        session.answer(|_| text::found(&found, more, wanted, &option), || report::found(&found, more));
        return Ok(if found.is_empty() { Exit::Failed } else { Exit::Done });
    }
    let looked = look(&mut connection, base.as_ref()).await;
    connection.close().await;
    let (trees, entry) = looked?;
    session.answer(
        |width| text::trees(&trees, entry.get(0), width, &option),
        || report::browse(&trees, entry.get(0)),
    );
    Ok(Exit::Done)
}

/// The trees below an entry, or below every naming context; and the entry, if one is given.
async fn look(
    connection: &mut Connection,
    base: Option<&Dn>,
) -> Result<(Vec<Tree>, Entries), DirectoryError> {
    let mut trees = Vec::new();
    let Some(base) = base else {
        for top in connection.root().tops().to_vec() {
            trees.push(Tree::read(connection, &top).await?);
        }
        return Ok((trees, Entries::new()));
    };
    trees.push(Tree::read(connection, base).await?);
    let query = Query::base(&base.to_string(), &["*", "+"]);
    Ok((trees, connection.entries(query).await?.0))
}
