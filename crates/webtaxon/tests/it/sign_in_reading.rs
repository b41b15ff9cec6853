//! The reading of one person decides as the reading of everybody does; and with something hidden from the bind account, it
//! never lets in, or refuses, somebody for whom that is not true.

use crate::museum::{DIRECTORY, Museum};
use std::collections::BTreeMap;
use std::sync::Arc;
use webtaxon::directory::read;
use webtaxon::model::ldap::identity::CALLED;
use webtaxon::model::preview::why::{self, Subject, Why};
use webtaxon::model::preview::{Memory, Situation};
use webtaxon::model::reading::{Reading, Request};
use webtaxon::model::selection::Selection;
use webtaxon::sign_in::Examination;
use webtaxon::{Named, SignIns, report};
use webtaxon_standin::{Directory, Manner, Options};

const PLAIN: &str = include_str!("../../../../demo/directory-plain.ldif");
const PLAIN_SETTINGS: &str = include_str!("../../../../demo/webtaxon-plain.toml");

/// The login of everybody, each with what decides about them: `in`, or the step at which they drop out.
type Everybody = BTreeMap<String, String>;

async fn museum(directory: &Arc<Directory>, options: Options, strategy: &str) -> Museum {
    let museum = Museum::of(directory, options).await;
    let settings = match directory.manner() {
        Manner::Controller => museum.settings(),
        _ => PLAIN_SETTINGS.replace("ldaps://localhost:6360", &museum.standin().url()),
    };
    let settings = match strategy {
        "chain" | "tokens" => settings.replace("group_bases", "# group_bases"),
        _ => settings,
    };
    museum.write(
        "webtaxon.toml",
        settings.replacen("match        =", &format!("strategy     = \"{strategy}\"\nmatch        ="), 1),
    );
    museum
}

fn directory(manner: Manner) -> Arc<Directory> {
    let ldif = if manner == Manner::Controller { DIRECTORY } else { PLAIN };
    Arc::new(Directory::with_manner(ldif.as_bytes(), manner).unwrap())
}

async fn whole(museum: &Museum) -> Reading {
    let workspace = museum.workspace().unwrap();
    let request = Request::of(&workspace.settings().intakes.first);
    read(&workspace.access().await.unwrap(), &request, &[]).await.unwrap()
}

/// The fields and roles that are drawn for a candidate.
type Drawn = (Vec<Option<String>>, Vec<Option<bool>>);

/// The whole reading's verdict on everybody, and the values that it draws.
async fn truth(museum: &Museum, attribute: &str) -> BTreeMap<String, (String, Drawn)> {
    let workspace = museum.workspace().unwrap();
    let (intake, reading) = (workspace.settings().intakes.first.clone(), whole(museum).await);
    assert!(reading.whole().is_some(), "{:?}", reading.gaps());
    let selection = Selection::new(&reading, &intake);
    let login = |person: usize| {
        let entry = reading.people().get(person).unwrap();
        entry.text(attribute).unwrap().to_lowercase()
    };
    let mut all = BTreeMap::new();
    for one in &selection.candidates {
        let some = |value: &str| Some(value.to_owned()).filter(|value| !value.is_empty());
        let fields = (0..intake.fields.len()).map(|at| some(one.proposal.value(at))).collect();
        let roles = (0..intake.roles.len()).map(|at| one.proposal.role(at)).collect();
        all.insert(login(one.person), ("in".to_owned(), (fields, roles)));
    }
    for one in &selection.dropped {
        all.insert(login(one.person), (one.step.name().to_owned(), Drawn::default()));
    }
    all
}

fn drawn(why: &Why) -> Drawn {
    let fields = why.fields.iter().map(|field| field.value.clone()).collect();
    (fields, why.roles.iter().map(|role| role.given).collect())
}

/// A sign-in's verdict: `in`, the step at which they drop out, or why it is not known.
fn verdict(examination: &Examination) -> String {
    if examination.is_unknown {
        return "unknown".to_owned();
    }
    let Some(why) = &examination.why else {
        return examination.refusal.as_ref().map_or("nothing", |refusal| refusal.name()).to_owned();
    };
    if why.selected {
        return "in".to_owned();
    }
    let step = why.against().next().map_or("nothing", |step| step.name);
    step.to_owned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_person_is_judged_as_everybody_is() {
    for (manner, strategies) in [
        (Manner::Controller, &["auto", "upwards", "tokens", "chain"][..]),
        (Manner::Plain, &["auto", "lists"]),
        (Manner::Dirsrv, &["auto"]),
    ] {
        let directory = directory(manner);
        for strategy in strategies {
            let museum = museum(&directory, Options::default(), strategy).await;
            let login = if manner == Manner::Controller { "sAMAccountName" } else { "uid" };
            let truth = truth(&museum, login).await;
            assert!(truth.len() > 240);
            let sign_ins = SignIns::open(&museum.workspace().unwrap()).await.unwrap();
            for (login, (expected, values)) in truth {
                let examination = sign_ins.examine(&login, None, "test").await.unwrap();
                assert_eq!(
                    verdict(&examination),
                    expected,
                    "{manner:?} {strategy} {login}: {:#?}",
                    examination.steps
                );
                if expected == "in" {
                    let why = examination.why.as_ref().unwrap();
                    assert!(why.whole, "{manner:?} {strategy} {login}");
                    assert_eq!(drawn(why), values, "{manner:?} {strategy} {login}");
                }
            }
        }
    }
}

/// `why` reads one person where nothing depends on others: the explanation is the same.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_explanation_is_the_same_whoever_else_is_read() {
    for manner in [Manner::Controller, Manner::Plain] {
        let directory = directory(manner);
        let museum = museum(&directory, Options::default(), "auto").await;
        let workspace = museum.workspace().unwrap();
        let (settings, intake) = (workspace.settings(), &workspace.settings().intakes.first);
        let more =
            CALLED.iter().map(|name| (*name).to_owned()).chain(intake.filter.attributes().map(str::to_owned));
        let accounts = workspace.accounts().await.unwrap();
        let links: Vec<_> = accounts.iter().filter_map(|account| account.link.clone()).collect();
        let request = Request::of(intake).with(more);
        let reading = read(&workspace.access().await.unwrap(), &request, &links).await.unwrap();
        let memory = Memory::on(jiff::Zoned::now().date());
        let situation = Situation::new(settings, &reading, &accounts, &memory);
        let login = if manner == Manner::Controller { "sAMAccountName" } else { "uid" };
        for person in reading.people().iter().step_by(3) {
            let login = person.text(login).unwrap().to_lowercase();
            let [found] = why::find(situation, &login)[..] else { panic!("{login}") };
            let subject = Subject { person: found.person, stranger: None, account: found.account };
            let whole = report::why(&Why::of(situation, subject).unwrap());
            let Named::One(alone) = workspace.why(&login).await.unwrap() else { panic!("{login}") };
            assert_eq!(report::why(&alone), whole, "{manner:?} {login}");
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_hidden_lets_nobody_in_and_refuses_nobody_by_a_hole() {
    let attribute = |name: &str| Options {
        hidden: vec![name.to_owned()],
        unsearchable: vec![name.to_owned()],
        ..Options::default()
    };
    let below = |name: &str| Options {
        hidden_below: vec![format!("{name},DC=quillmere,DC=example")],
        ..Options::default()
    };
    for manner in [Manner::Controller, Manner::Plain] {
        let directory = directory(manner);
        let login = if manner == Manner::Controller { "sAMAccountName" } else { "uid" };
        let seen = museum(&directory, Options::default(), "auto").await;
        let truth: Everybody =
            truth(&seen, login).await.into_iter().map(|(login, (verdict, _))| (login, verdict)).collect();
        // The footprint of an apply, by which a group that has become empty is noticed.
        let workspace = seen.workspace().unwrap();
        let (_, work) = workspace.work().await.unwrap();
        let release = webtaxon::model::preview::BrakeKind::ALL.map(|kind| kind.name().to_owned()).to_vec();
        let consent = webtaxon::apply::Consent { who: "ada".to_owned(), release, stop_after: None };
        assert!(workspace.apply(&work, &consent).await.unwrap().is_complete());
        let mut cases: Vec<(String, Options)> = Vec::new();
        for name in
            ["member", "objectClass", "primaryGroupID", "userAccountControl", "mail", "pwdAccountLockedTime"]
        {
            cases.push((name.to_owned(), attribute(name)));
        }
        for place in [
            "OU=Groups",
            "CN=Loans Desk Users,OU=Groups",
            "CN=Loans Desk Staff,OU=Groups",
            "CN=Curators,OU=Groups",
            "CN=Leavers,OU=Groups",
            "CN=Leavers 2026,OU=Groups",
        ] {
            cases.push((place.to_owned(), below(place)));
        }
        for (what, options) in cases {
            let hidden = museum(&directory, options, "auto").await;
            for file in ["accounts.csv", "webtaxon.state.sqlite"] {
                std::fs::copy(seen.path().join(file), hidden.path().join(file)).unwrap();
            }
            let sign_ins = SignIns::open(&hidden.workspace().unwrap()).await.unwrap();
            for (login, expected) in &truth {
                let Ok(examination) = sign_ins.examine(login, None, "test").await else {
                    continue;
                };
                let verdict = verdict(&examination);
                let is_true = match verdict.as_str() {
                    "unknown" | "unknown_name" => true,
                    // What hides a person's attribute may stop them at another step, never let them in.
                    "in" => expected == "in",
                    _ => expected != "in",
                };
                assert!(
                    is_true,
                    "{manner:?} without {what}: {login} is {expected}: {:#?}",
                    examination.steps
                );
            }
        }
    }
}
