//! Groups in every way in which directories write them: whole, or without the proof.

use crate::museum::{DIRECTORY, Museum};
use jiff::Timestamp;
use std::fmt::Write as _;
use webtaxon::model::preview::Preview;
use webtaxon::report;
use webtaxon_standin::{Fault, FaultKind, Options};

pub(super) const TOP: &str = "DC=quillmere,DC=example";
pub(super) const ADA: &str = r"CN=Ibbotson\, Ada,OU=Botany,OU=People,DC=quillmere,DC=example";

/// The museum with a group of so many members who are gone, and Ada as the last one, which is the
/// only group that lets people in.
async fn crowd(gone: usize, options: Options) -> Museum {
    crowd_with(gone, "", &[], options).await
}

/// The same with other entries, and other members.
async fn crowd_with(gone: usize, more: &str, members: &[&str], options: Options) -> Museum {
    let mut ldif = format!(
        "{}{more}\n\ndn: CN=Everybody,OU=Groups,{TOP}\nobjectClass: top\nobjectClass: group\ncn: Everybody\n",
        DIRECTORY.trim_end()
    );
    for number in 0..gone {
        let _ = writeln!(ldif, "member: CN=gone {number:05},OU=People,{TOP}");
    }
    for member in members.iter().chain([&ADA]) {
        let _ = writeln!(ldif, "member: {member}");
    }
    let museum = Museum::with(&ldif, options).await;
    // The simulated directory takes its time over a long list.
    let settings = museum.settings().replace("timeout  = \"10s\"", "timeout  = \"120s\"");
    museum.write("webtaxon.toml", settings.replace("CN=Loans Desk Users", "CN=Everybody"));
    museum
}

#[tokio::test]
async fn a_group_that_is_given_in_ranges_is_read_to_its_end() {
    for (gone, why) in [
        (1499, "one answer"),
        (1500, "one more than fits"),
        (2999, "two full ranges"),
        (4600, "several ranges"),
    ] {
        let preview = crowd(gone, Options::default()).await.preview().await.unwrap();
        assert!(preview.is_whole(), "{why}: {:?}", preview.gaps);
        assert_eq!(preview.intakes.first.funnel[1].left, 1, "{why}: Ada is the last one");
    }
}

#[tokio::test]
async fn a_range_that_is_cut_takes_nobodys_account_away() {
    // 244 people, then the group's own ranges: the cut comes before, between and behind them.
    for after in 247..254 {
        let fault = Some(Fault { kind: FaultKind::Cut, after });
        let preview = crowd(3200, Options { fault, ..Options::default() }).await.preview().await.unwrap();
        let leaving = |change: &&webtaxon::model::preview::Change| {
            ["suspend", "remove"].contains(&change.kind().name())
        };
        assert!(!preview.is_whole(), "after {after}");
        assert_eq!(preview.changes.iter().filter(leaving).count(), 0, "after {after}");
    }
}

#[tokio::test]
async fn a_unit_that_is_named_as_a_group_has_everybody_below_it() {
    let museum = Museum::with(DIRECTORY, Options::default()).await;
    museum.change("CN=Loans Desk Users,OU=Groups", "OU=Botany,OU=People");
    let preview = museum.preview().await.unwrap();
    assert!(preview.is_whole(), "{:?}", preview.gaps);
    let below =
        DIRECTORY.lines().filter(|line| line.starts_with("dn: ") && line.contains(",OU=Botany,OU=People,"));
    let people = preview.intakes.first.funnel[1].left;
    assert!(people > 20 && people <= below.count(), "{people}");
}

#[tokio::test]
async fn a_member_that_stands_for_others_is_told() {
    for (sid, whole, why) in [
        ("S-1-5-11", false, "everybody who has signed in: no list shows them"),
        ("S-1-5-99999", false, "not known"),
        ("S-1-5-21-7-8-9-1104", true, "an account of another domain: nobody of this one"),
        ("S-1-5-18", true, "no people"),
    ] {
        let ldif = format!(
            "{}\n\ndn: CN=Wide,OU=Groups,{TOP}\nobjectClass: top\nobjectClass: group\ncn: Wide\nmember: {ADA}\n\
             member: CN={sid},CN=ForeignSecurityPrincipals,{TOP}\n",
            DIRECTORY.trim_end()
        );
        let museum = Museum::with(&ldif, Options::default()).await;
        museum.change("CN=Loans Desk Users", "CN=Wide");
        let preview = museum.preview().await.unwrap();
        assert_eq!(preview.is_whole(), whole, "{why}: {:?}", preview.gaps);
        let leaving = |change: &&webtaxon::model::preview::Change| {
            ["suspend", "remove"].contains(&change.kind().name())
        };
        let count = preview.changes.iter().filter(leaving).count();
        assert_eq!(count > 0, whole, "{why}: {count} leave");
    }
}

/// What a preview says, beside how it was come by; and how.
pub(super) async fn said(museum: &Museum, strategy: &str) -> (String, String) {
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
    museum.write("webtaxon.toml", settings.replace("[intake.fields]", &line));
    let preview = museum.preview().await.unwrap();
    museum.write("webtaxon.toml", settings);
    let notes = preview.intakes.first.notes.join("; ");
    let mut document = webtaxon::report::preview(&preview);
    document.as_object_mut().unwrap().remove("notes");
    (document.to_string(), notes)
}

#[tokio::test]
async fn every_strategy_finds_the_same() {
    let dynamic = format!(
        "objectClass: groupOfURLs\nmemberURL: ldap:///OU=People,{TOP}??one?(gidNumber=200)\nmember: uid=ada,OU=People,{TOP}\n"
    );
    for (museum, why) in [
        (Museum::with(DIRECTORY, Options::default()).await, "the museum"),
        (crowd(4600, Options::default()).await, "a group in ranges"),
        (posix(&dynamic, &[], true).await, "a dynamic group"),
        (posix("objectClass: posixGroup\ngidNumber: 9\nmemberUid: cleo\n", &[], true).await, "without proof"),
        (posix("objectClass: groupOfNames\nmember: uid=ada\n", &["member"], true).await, "members hidden"),
    ] {
        let (expected, notes) = said(&museum, "downwards").await;
        assert_eq!(notes, "", "{why}");
        let (swept, notes) = said(&museum, "sweep").await;
        assert_eq!(swept, expected, "{why}");
        assert!(notes.contains("were read with one search, as set in the settings"), "{why}: {notes}");
        for strategy in ["auto", "lists"] {
            assert_eq!(said(&museum, strategy).await.0, expected, "{why}, {strategy}");
        }
    }
}

/// What a forest of two domains says of them.
fn two_domains() -> String {
    let partitions = format!("CN=Partitions,CN=Configuration,{TOP}");
    let domain = |name: &str| {
        format!("\n\ndn: CN={name},{partitions}\nobjectClass: crossRef\ncn: {name}\nsystemFlags: 3\n")
    };
    format!("\n\ndn: {partitions}\nobjectClass: top\n{}{}", domain("A"), domain("B"))
}

/// A list of more than 20,000 members is not read for the sake of so few people, where what they say of themselves
/// shows everything.
#[tokio::test]
async fn a_long_list_is_left_for_what_people_say() {
    let hidden = |name: &str| Options { hidden: vec![name.to_owned()], ..Options::default() };
    let two = two_domains();
    for (gone, more, options, is_upwards, is_whole, why) in [
        (20_000, "", Options::default(), true, true, "one more than are read"),
        (19_999, "", Options::default(), false, true, "as many as are read"),
        (20_000, "", hidden("memberOf"), false, true, "nobody says anything"),
        (20_000, &two, Options::default(), false, true, "there are other domains"),
        (20_000, "", hidden("primaryGroupID"), false, false, "not everybody shows the primary group"),
    ] {
        let museum = crowd_with(gone, more, &[], options).await;
        let preview = museum.preview().await.unwrap();
        let notes = &preview.intakes.first.notes;
        assert_eq!(in_short(&preview, true), outcome(&museum, "lists", true).await, "{why}");
        assert_eq!(preview.is_whole(), is_whole, "{why}: {:?}", preview.gaps);
        assert_eq!(notes.iter().any(|note| note.contains("read upwards")), is_upwards, "{why}: {notes:?}");
    }
}

#[tokio::test]
async fn a_cut_on_a_way_up_that_was_chosen_takes_nobodys_account_away() {
    // 244 people, whether the list is long, the domains, the group; the people again; their groups.
    for after in [245, 247, 300, 492, 500] {
        let fault = Some(Fault { kind: FaultKind::Cut, after });
        let preview = crowd(20_000, Options { fault, ..Options::default() }).await.preview().await.unwrap();
        let (_, changes, gaps) = in_short(&preview, false);
        assert!(!gaps.is_empty(), "after {after}");
        let leaves = |change: &&String| change.starts_with("suspend") || change.starts_with("remove");
        assert_eq!(changes.iter().filter(leaves).count(), 0, "after {after}");
    }
}

/// What was met on a way up that did not show everything is read downwards all the same.
#[tokio::test]
async fn a_way_up_that_was_left_hides_nothing() {
    let signed_in = format!("CN=S-1-5-11,CN=ForeignSecurityPrincipals,{TOP}");
    let more = format!("\n\ndn: {signed_in}\nobjectClass: foreignSecurityPrincipal\n");
    let person = format!("CN=Silas Ravenscroft,OU=Botany,OU=People,{TOP}");
    for (inner, told) in
        [(&format!("CN=All Botany,OU=Groups,{TOP}"), "not a group"), (&signed_in, "S-1-5-11")]
    {
        let museum = crowd_with(20_000, &more, &[inner], Options::default()).await;
        let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
        let two = settings.replace("[\"CN=Everybody", &format!("[\"{person}\", \"CN=Everybody"));
        museum.write("webtaxon.toml", two);
        let expected = outcome(&museum, "lists", true).await;
        assert_eq!(outcome(&museum, "auto", true).await, expected, "{inner}");
        assert!(expected.2.iter().any(|gap| gap.contains(told)), "{inner}: {:?}", expected.2);
    }
}

/// A small directory of the other kind: two people and a group, which alone lets people in.
async fn posix(group: &str, hidden: &[&str], numbered: bool) -> Museum {
    let person = |uid: &str, number: u32| {
        format!(
            "dn: uid={uid},OU=People,{TOP}\nobjectClass: inetOrgPerson\nobjectClass: posixAccount\nuid: {uid}\ncn: {uid}\nsn: {uid}\n\
             mail: {uid}@quillmere.example\ngidNumber: {number}\nentryUUID: {number:08x}-0000-4000-8000-000000000000\n\n"
        )
    };
    let ldif = format!(
        "dn: {TOP}\nobjectClass: dcObject\ndc: quillmere\n\ndn: OU=People,{TOP}\nobjectClass: organizationalUnit\nou: People\n\n{}{}{}\
         dn: CN=Lenders,OU=Groups,{TOP}\n{group}\n",
        person("ada", 100),
        person("ben", 200),
        person("Cleo", 300),
    );
    let ldif = if numbered {
        ldif
    } else {
        ldif.replace("quillmere.example\ngidNumber: ", "quillmere.example\nroomNumber: ")
    };
    let hidden = hidden.iter().map(|name| (*name).to_owned()).collect();
    let options = Options { anonymous: true, hidden, ..Options::default() };
    let museum = Museum::with(&ldif, options).await;
    let url = museum.standin().url();
    museum.write("accounts.csv", "login,link,state,email\n");
    museum.write(
        "webtaxon.toml",
        format!(
            "[directory.d]\nservers = [\"{url}\"]\ntrust = {{ authority = \"museum-ca.pem\" }}\n[accounts]\nstore = \"csv\"\npath = \"accounts.csv\"\n\
             [[intake]]\nname = \"n\"\ndirectory = \"d\"\nbases = [\"OU=People,{TOP}\"]\nfilter = \"(uid=*)\"\ngroups = [\"CN=Lenders,OU=Groups,{TOP}\"]\n\
             [intake.fields]\nlogin = {{ from = \"uid\" }}\nemail = {{ from = \"mail\" }}\n"
        ),
    );
    museum
}

#[tokio::test]
async fn members_are_read_in_every_way_that_they_are_written() {
    for (group, expected, why) in [
        (
            "objectClass: posixGroup\ngidNumber: 9\nmemberUid: ada\nmemberUid: nobody\n",
            &["ada"][..],
            "by login",
        ),
        (
            "objectClass: posixGroup\ngidNumber: 9\nmemberUid: cleo\nmemberUid: ada\n",
            &["ada"],
            "exactly the login",
        ),
        (
            "objectClass: posixGroup\ngidNumber: 9\nmemberUid: cleo\n",
            &[],
            "doubtful: nobody has such a login",
        ),
        ("objectClass: posixGroup\ngidNumber: 200\n", &["ben"], "by the number of the primary group"),
        ("objectClass: posixGroup\ngidNumber: 200\nmemberUid: ada\n", &["ada", "ben"], "by both"),
        (
            &format!(
                "objectClass: groupOfUniqueNames\nuniqueMember: uid=ada,OU=People,{TOP}#'0101'B\nuniqueMember: uid=ben,OU=People,{TOP}\n"
            ),
            &["ada", "ben"],
            "with bits behind a name",
        ),
        (
            &format!(
                "objectClass: groupOfURLs\nmemberURL: ldap:///OU=People,{TOP}??one?(gidNumber=200)\nmemberURL: ldap:///uid=ada,OU=People,{TOP}\n"
            ),
            &["ada", "ben"],
            "by searches",
        ),
        (
            &format!("objectClass: groupOfNames\nmember: uid=ada;OU=People,{TOP}\n"),
            &[],
            "a name in an older form is told",
        ),
    ] {
        let museum = posix(group, &[], true).await;
        let preview = museum.preview().await.unwrap();
        let logins: Vec<&str> = preview.changes.iter().map(|change| change.login.as_str()).collect();
        assert_eq!(logins, expected, "{why}: {:?}", preview.gaps);
        let short = why.contains("older form") || why.contains("doubtful");
        assert_eq!(preview.is_whole(), !short, "{why}: {:?}", preview.gaps);
    }
}

#[tokio::test]
async fn a_group_of_nobody_is_in_doubt_where_numbers_are_hidden() {
    for (hidden, numbered, why) in
        [(&["gidNumber"][..], true, "the group's number and the people's"), (&[], false, "the people's")]
    {
        let museum = posix("objectClass: posixGroup\ngidNumber: 200\n", hidden, numbered).await;
        let preview = museum.preview().await.unwrap();
        let told = preview.gaps.iter().any(|gap| gap.reason.contains("gidNumber"));
        assert!(told && !preview.is_whole(), "{why}: {:?}", preview.gaps);
    }
}

/// A group of a class that the server's schema does not allow to be empty.
#[tokio::test]
async fn a_group_that_cannot_be_empty_and_shows_nobody_was_not_seen() {
    for (class, attribute) in [("groupOfNames", "member"), ("groupOfUniqueNames", "uniqueMember")] {
        let group = format!("objectClass: {class}\n{attribute}: uid=ada,OU=People,{TOP}\n");
        let museum = posix(&group, &[attribute], true).await;
        let preview = museum.preview().await.unwrap();
        let reasons: Vec<&str> = preview.gaps.iter().map(|gap| gap.reason.as_str()).collect();
        let wanted = format!("it shows no member, and a {class} must have one");
        assert!(reasons.len() == 1 && reasons[0].starts_with(&wanted), "{reasons:?}");
    }
}

/// A hidden attribute and one that nobody has look the same to a search.
#[tokio::test]
async fn a_search_for_members_by_what_nobody_shows_was_not_seen() {
    for (filter, shown) in [
        ("(gidNumber=999)", true),
        ("(&(objectClass=person)(gidNumber=999)(!(roomNumber=7)))", true),
        ("(roomNumber=7)", false),
        ("(&(gidNumber=100)(|(uid=ben)(roomNumber=7)))", false),
    ] {
        let group = format!("objectClass: groupOfURLs\nmemberURL: ldap:///OU=People,{TOP}??one?{filter}\n");
        let preview = posix(&group, &[], true).await.preview().await.unwrap();
        let told = preview.gaps.iter().any(|gap| gap.reason.contains("nobody there shows roomNumber"));
        assert_eq!((preview.is_whole(), told), (shown, !shown), "{filter}: {:?}", preview.gaps);
    }
}

#[tokio::test]
async fn a_primary_group_that_is_hidden_takes_nobodys_account_away() {
    let options = Options { hidden: vec!["primaryGroupID".to_owned()], ..Options::default() };
    let preview = Museum::with(DIRECTORY, options).await.preview().await.unwrap();
    let gap = preview.gaps.iter().find(|gap| gap.part == "primary groups of the people");
    assert!(gap.is_some_and(|gap| gap.reason.contains("do not show it")), "{:?}", preview.gaps);
    assert!(preview.changes.iter().all(|change| !["suspend", "remove"].contains(&change.kind().name())));
}

#[tokio::test]
async fn member_login_says_which_attribute_memberuid_speaks_of() {
    let dn = format!("dn: CN=Student Lenders,OU=Groups,{TOP}\n");
    let ldif = DIRECTORY.replacen(&dn, &format!("{dn}memberUid: aibbotson\n"), 1);
    let museum = Museum::with(&ldif, Options::default()).await;
    let unknown = museum.preview().await.unwrap();
    assert!(unknown.gaps.iter().any(|gap| gap.reason.contains("member_login")), "{:?}", unknown.gaps);
    museum.change("match        = ", "member_login = \"sAMAccountName\"\nmatch        = ");
    let known = museum.preview().await.unwrap();
    assert!(
        known.is_whole() && known.intakes.first.funnel[1].left == 81,
        "Ada was in already: {:?}",
        known.gaps
    );
}

/// What comes of a way to read nests: the funnel, the changes with or without paths, and what is missing.
async fn outcome(museum: &Museum, strategy: &str, paths: bool) -> (Vec<usize>, Vec<String>, Vec<String>) {
    let settings = std::fs::read_to_string(museum.path().join("webtaxon.toml")).unwrap();
    let line = format!("strategy = \"{strategy}\"\n[intake.fields]");
    museum.write("webtaxon.toml", settings.replace("[intake.fields]", &line));
    let preview = museum.preview().await.unwrap();
    museum.write("webtaxon.toml", settings);
    in_short(&preview, paths)
}

/// How many are left after each step, the changes, and the gaps.
fn in_short(preview: &Preview, paths: bool) -> (Vec<usize>, Vec<String>, Vec<String>) {
    let funnel = preview.intakes.first.funnel.iter().map(|step| step.left).collect();
    let change = |change: &webtaxon::model::preview::Change| {
        let path = if paths { change.path.groups.join(" > ") } else { String::new() };
        format!("{} {} {:?} {:?} {path}", change.kind().name(), change.login, change.cause(), change.fields)
    };
    (
        funnel,
        preview.changes.iter().map(change).collect(),
        preview.gaps.iter().map(|gap| gap.reason.clone()).collect(),
    )
}

/// From the people upwards, and by what a controller works out: the same people, each through the same groups
/// where they are known, and nobody else.
#[tokio::test]
async fn ways_that_read_no_lists_find_the_same() {
    let everywhere = ("group_bases  = [\"OU=Groups,DC=quillmere,DC=example\"]", "");
    for (change, why) in [
        (("", ""), "the museum"),
        (
            ("CN=Loans Desk Users,OU=Groups", "CN=Loans Desk Terminal Users,OU=Groups"),
            "by primary group alone",
        ),
        (("CN=Loans Desk Users,OU=Groups", "OU=Botany,OU=People"), "a unit"),
        (("[\"CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example\"]", "[]"), "only to keep people out"),
    ] {
        let museum = Museum::with(DIRECTORY, Options::default()).await;
        let settings = museum.settings();
        assert!(settings.contains(change.0) && settings.contains(everywhere.0), "{why}");
        let settings = settings.replace(change.0, change.1);
        for (strategy, settings, paths) in [
            ("upwards", settings.clone(), true),
            ("upwards", settings.replace(everywhere.0, everywhere.1), true),
            ("chain", settings.replace(everywhere.0, everywhere.1), false),
            ("tokens", settings.replace(everywhere.0, everywhere.1), false),
        ] {
            museum.write("webtaxon.toml", settings);
            let expected = outcome(&museum, "downwards", paths).await;
            assert_eq!(expected.2, [""; 0], "{why}");
            assert_eq!(outcome(&museum, strategy, paths).await, expected, "{strategy}, {why}");
        }
    }
}

/// What such a way cannot see, it says, and takes nobody's account away.
#[tokio::test]
async fn ways_that_read_no_lists_say_what_they_cannot_see() {
    let group = |name: &str, more: &str| {
        format!("\n\ndn: CN={name},OU=Groups,{TOP}\nobjectClass: top\nobjectClass: group\ncn: {name}\n{more}")
    };
    let two = two_domains();
    let signed_in = format!(
        "\n\ndn: CN=S-1-5-11,CN=ForeignSecurityPrincipals,{TOP}\nobjectClass: foreignSecurityPrincipal\n{}",
        group("Deep", &format!("member: CN=S-1-5-11,CN=ForeignSecurityPrincipals,{TOP}\nmember: {ADA}\n"))
    );
    let sid = "objectSid:: AQUAAAAAAAUVAAAA3PTcO4M9K0aCi6YoEBcAAA==\n";
    let wide = group("Wide", &format!("{sid}member: CN=Deep,OU=Groups,{TOP}\nmember: {ADA}\n"));
    let mail = group("Deep", &format!("groupType: 2\nmember: {ADA}\n"));
    let hidden = |name: &str| Options { hidden: vec![name.to_owned()], ..Options::default() };
    for (more, options, strategies, told, why) in [
        (two, Options::default(), &["upwards", "chain", "tokens"][..], "the forest has 2 domains", "domains"),
        (
            format!("{signed_in}{wide}"),
            Options::default(),
            &["upwards", "chain"],
            "Authenticated Users (S-1-5-11)",
            "all who signed in",
        ),
        (
            format!("{mail}{wide}"),
            Options::default(),
            &["tokens"],
            "is a distribution group",
            "a group for mail",
        ),
        (String::new(), hidden("primaryGroupID"), &["upwards", "chain"], "do not show it", "primary groups"),
        (
            String::new(),
            hidden("memberOf"),
            &["upwards", "chain"],
            "lists a member whose memberOf does not show it",
            "memberOf hidden",
        ),
        (String::new(), hidden("objectSid"), &["tokens"], "does not show its objectSid", "no SIDs"),
    ] {
        let museum = Museum::with(&format!("{}{more}", DIRECTORY.trim_end()), options).await;
        let name = if more.contains("CN=Wide") { "CN=Wide" } else { "CN=Loans Desk Users" };
        let settings = museum.settings().replace("CN=Loans Desk Users", name);
        let settings = settings.replace("group_bases  = [\"OU=Groups,DC=quillmere,DC=example\"]", "");
        for strategy in strategies {
            museum.write("webtaxon.toml", &settings);
            let (_, changes, gaps) = outcome(&museum, strategy, false).await;
            assert!(gaps.iter().any(|gap| gap.contains(told)), "{strategy}, {why}: {gaps:?}");
            let leaves = |change: &&String| change.starts_with("suspend") || change.starts_with("remove");
            assert_eq!(changes.iter().filter(leaves).count(), 0, "{strategy}, {why}");
        }
    }
}

/// Where no controller works membership out, people come in by `memberOf`, and nobody leaves.
#[tokio::test]
async fn another_kind_of_server_gives_no_proof_upwards() {
    let of = "objectClass: groupOfNames\nmember: uid=ada,OU=People,DC=quillmere,DC=example\n";
    let museum = posix(of, &[], true).await;
    for (strategy, told) in [
        ("upwards", "need not maintain"),
        ("chain", "only a domain controller"),
        ("tokens", "only a domain controller"),
    ] {
        let (_, _, gaps) = outcome(&museum, strategy, false).await;
        assert!(gaps.iter().any(|gap| gap.contains(told)), "{strategy}: {gaps:?}");
    }
}

/// A connection that is cut at any moment of it gives no proof.
#[tokio::test]
async fn a_cut_on_the_way_up_takes_nobodys_account_away() {
    for strategy in ["upwards", "chain", "tokens"] {
        for after in [244, 245, 247, 250, 254, 260] {
            let fault = Some(Fault { kind: FaultKind::Cut, after });
            let museum = Museum::with(DIRECTORY, Options { fault, ..Options::default() }).await;
            let settings =
                museum.settings().replace("group_bases  = [\"OU=Groups,DC=quillmere,DC=example\"]", "");
            museum.write("webtaxon.toml", settings);
            let (_, changes, gaps) = outcome(&museum, strategy, false).await;
            let leaves = |change: &&String| change.starts_with("suspend") || change.starts_with("remove");
            assert!(!gaps.is_empty(), "{strategy} after {after}");
            assert_eq!(changes.iter().filter(leaves).count(), 0, "{strategy} after {after}");
        }
    }
}

/// Somebody at the end of a long chain of groups is in by a path that every report tells in bounds, and says so.
#[tokio::test]
async fn a_path_of_very_many_groups_is_told_in_bounds() {
    let barnaby = format!("CN=Barnaby Tattersall,OU=Estates,OU=People,{TOP}");
    let wing = |number: usize| format!("CN=Wing {number},OU=Groups,{TOP}");
    let more = (1..=30).fold(String::new(), |more, at| {
        let member = if at < 30 { wing(at + 1) } else { barnaby.clone() };
        more + &format!(
            "\n\ndn: {}\nobjectClass: top\nobjectClass: group\ncn: Wing {at}\nmember: {member}",
            wing(at)
        )
    });
    let museum = crowd_with(0, &more, &[&wing(1)], Options::default()).await;
    let preview = museum.preview().await.unwrap();
    let settings = museum.workspace().unwrap().settings().clone();
    let change = preview.changes.iter().find(|change| change.dn.as_ref() == Some(&barnaby)).unwrap();
    assert_eq!((change.path.groups.len(), change.path.left_out), (16, 15));
    let told = "(15 groups left out)";
    for (report, told) in [
        (report::preview_csv(&preview), format!("Everybody > {told} > Wing 16 > ")),
        (
            report::preview_html(&preview, &settings, Timestamp::UNIX_EPOCH),
            format!("<li class=\"to\">{told}</li>"),
        ),
        (report::preview(&preview).to_string(), "\"left_out\":15".to_owned()),
    ] {
        assert!(report.contains(&told), "{told}");
        assert!(!report.contains("Wing 15"), "{told}");
    }
}
