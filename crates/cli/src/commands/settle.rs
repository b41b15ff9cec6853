//! `webtaxon settle`: asks about each clash, and writes the answers into the settings.

use crate::arguments::Common;
use crate::output::{Tone, harmless, paint, width};
use crate::session::{Exit, Failure, Session};
use crate::text;
use std::io::{self, IsTerminal as _};
use webtaxon::Error;
use webtaxon::model::preview::{Clash, Question, Way, Word};
use webtaxon::model::settings::Settings;
use webtaxon::report;
use webtaxon::settle::{Clashes, replace, with_words};

/// An answer to one question.
enum Answer {
    Word(Word),
    Open,
    /// No more questions.
    End,
}

pub(crate) async fn run(session: &Session<'_>) -> Result<Exit, Failure> {
    let workspace = session.open()?;
    let clashes = workspace.clashes().await?;
    let exit = Exit::by_whole(clashes.preview.is_whole());
    if !session.is_text() || !io::stdin().is_terminal() {
        let option = session.same_options();
        session.answer(
            |width| text::questions(&clashes.questions, width, &option),
            || report::questions(&clashes.questions),
        );
        return Ok(exit);
    }
    if clashes.questions.is_empty() {
        session.output.answer("No clash: there is nothing to settle.\n");
        return Ok(exit);
    }
    let words = ask(&clashes, session).await;
    if words.is_empty() {
        session.output.answer("Nothing was written.\n");
        return Ok(exit);
    }
    write(&clashes, &words, session).await?;
    Ok(exit)
}

/// Asks about each clash; people made anew are offered together first.
async fn ask(clashes: &Clashes, session: &Session<'_>) -> Vec<Word> {
    let mut words = Vec::new();
    let mut left: Vec<&Question> = clashes.questions.iter().collect();
    let same: Vec<Word> = left.iter().filter_map(|question| same_person(question)).collect();
    if same.len() > 1 {
        let logins: Vec<String> = same.iter().map(|word| harmless(&word.account)).collect();
        session.output.answer(&text::made_anew(&logins, width()));
        let question = "Type all if each is the same person, or Enter to be asked one by one: ";
        match session.line(question).await.as_deref() {
            Some("all") => {
                words.extend(same);
                left.retain(|question| same_person(question).is_none());
            }
            Some(_) => {}
            None => return words,
        }
    }
    for (at, question) in left.iter().enumerate() {
        session.output.answer(&text::question(question, (at + 1, left.len()), width()));
        match one(question, session).await {
            Answer::Word(word) => words.push(word),
            Answer::Open => {}
            Answer::End => break,
        }
    }
    words
}

/// The word that links the account of somebody whose entry was made anew to the new entry.
fn same_person(question: &Question) -> Option<Word> {
    let is_anew = matches!(question.change.clash(), Some(Clash::MadeAnew { .. }));
    let mut words = offered(question).filter(|_| is_anew).filter_map(|way| way.word.as_ref());
    words.find(|word| Some(&word.link) == question.change.link.as_ref()).cloned()
}

/// The ways that a line of the settings takes.
fn offered(question: &Question) -> impl Iterator<Item = &Way> {
    question.change.ways().iter().filter(|way| way.word.is_some())
}

/// Asks about one clash until the answer is one of those offered.
async fn one(question: &Question, session: &Session<'_>) -> Answer {
    let ways: Vec<&Way> = offered(question).collect();
    let numbers: Vec<String> = (1..=ways.len()).map(|number| number.to_string()).collect();
    let choice = match ways.len() {
        0 => "Enter for the next clash, q to end: ".to_owned(),
        _ => format!("Your answer ({}, Enter to leave it open, q to end): ", numbers.join(", ")),
    };
    loop {
        let Some(line) = session.line(&choice).await else { return Answer::End };
        match line.as_str() {
            "" => return Answer::Open,
            "q" => return Answer::End,
            number => {
                let at = numbers.iter().position(|one| one == number);
                if let Some(word) = at.and_then(|at| ways.get(at)?.word.clone()) {
                    return Answer::Word(word);
                }
            }
        }
    }
}

/// Shows what the answers do, and writes them once the user has agreed.
async fn write(clashes: &Clashes, words: &[Word], session: &Session<'_>) -> Result<(), Failure> {
    let Common { settings: file, .. } = session.common;
    let unwritable = |error: &dyn std::fmt::Display| Failure::unwritable(file, error);
    let before = std::fs::read_to_string(file).map_err(|error| unwritable(&error))?;
    let name = file.display().to_string();
    let after = with_words(&name, &before, words).map_err(|error| unwritable(&error))?;
    let settings = Settings::parse(&name, after.as_bytes()).map_err(Error::from)?;
    let then = clashes.after(&settings);
    session.output.answer(&text::answers(words, &then, &name, width()));
    if session.line(&format!("Write this to {}? Type yes: ", harmless(&name))).await.as_deref() != Some("yes")
    {
        session.output.answer("Nothing was written.\n");
        return Ok(());
    }
    replace(file, &before, &after).map_err(|error| unwritable(&error))?;
    let option = session.same_options();
    session.output.answer(&format!(
        "{} {}\nNext: webtaxon preview{option}\n",
        paint(Tone::Good, "Written:"),
        harmless(&name)
    ));
    Ok(())
}
