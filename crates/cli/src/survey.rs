//! `webtaxon browse` and `webtaxon fields`: what is there.

use crate::arguments::{Browse, Common, Fields, Format};
use crate::output::{Output, width};
use crate::run::{Exit, failed, open_for, same_options};
use crate::text;
use webtaxon::core::name::Dn;
use webtaxon::directory::survey::{self, Tree};
use webtaxon::directory::{Connection, DirectoryError, Query};
use webtaxon::{Error, report};

/// People and groups that are shown at most.
const FOUND: usize = 100;

/// Opens the settings and the directory, and gives the answer of `ask`.
macro_rules! with_directory {
    ($intake:expr, $common:expr, $output:expr, |$workspace:ident, $connection:ident| $ask:expr) => {{
        let $workspace = match open_for($intake.as_deref(), $common, $output) {
            Ok(workspace) => workspace,
            Err(exit) => return exit,
        };
        let mut $connection = match $workspace.connect().await {
            Ok(connection) => connection,
            Err(error) => return failed(&error, $output),
        };
        let answer = $ask;
        $connection.close().await;
        match answer {
            Ok(answer) => answer,
            Err(error) => return failed(&Error::from(error), $output),
        }
    }};
}

pub(crate) async fn browse(options: &Browse, common: &Common, output: &Output) -> Exit {
    let option = same_options(common);
    if let Some(wanted) = &options.find {
        let (found, more) =
            with_directory!(options.looked_at.intake, common, output, |workspace, connection| {
                survey::find(&mut connection, wanted, FOUND).await
            });
        output.answer(&match common.format {
            Format::Text => text::found(&found, more, wanted, &option),
            Format::Json => format!("{:#}\n", report::found(&found, more)),
        });
        return if found.is_empty() { Exit::Failed } else { Exit::Done };
    }
    let base = match options.dn.as_deref().map(Dn::parse_pasted).transpose() {
        Ok(pasted) => pasted.map(|pasted| {
            output.pasted(&pasted);
            pasted.dn
        }),
        Err(error) => {
            output.error(&error);
            return Exit::Wrong;
        }
    };
    let (trees, entry) = with_directory!(
        options.looked_at.intake,
        common,
        output,
        |workspace, connection| look(&mut connection, base.as_ref()).await
    );
    output.answer(&match common.format {
        Format::Text => text::trees(&trees, entry.get(0), width(), &option),
        Format::Json => format!("{:#}\n", report::browse(&trees, entry.get(0))),
    });
    Exit::Done
}

/// The trees below an entry, or below every top; and the entry, if one is named.
async fn look(
    connection: &mut Connection,
    base: Option<&Dn>,
) -> Result<(Vec<Tree>, webtaxon::core::entry::Entries), DirectoryError> {
    let mut trees = Vec::new();
    let Some(base) = base else {
        for top in connection.root().tops().to_vec() {
            trees.push(Tree::read(connection, &top).await?);
        }
        return Ok((trees, webtaxon::core::entry::Entries::new()));
    };
    trees.push(Tree::read(connection, base).await?);
    let query = Query::base(&base.to_string(), &["*", "+"]);
    Ok((trees, connection.entries(query).await?.0))
}

pub(crate) async fn fields(options: &Fields, common: &Common, output: &Output) -> Exit {
    let survey = with_directory!(options.looked_at.intake, common, output, |workspace, connection| {
        let intake = &workspace.settings().intake;
        survey::fields(&mut connection, &intake.bases, &intake.filter, options.mask).await
    });
    output.answer(&match common.format {
        Format::Text => text::fields(&survey, width()),
        Format::Json => format!("{:#}\n", report::fields(&survey)),
    });
    Exit::Done
}
