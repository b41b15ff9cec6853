//! The settings that decide who is selected and what happens to those who are not, as text to be compared with an
//! earlier run's.

use super::{
    Bind, Directory, GroupIntake, GroupLeaving, GroupMembers, Intake, Leaving, LeavingAction, LeavingRule,
    Locked, MemberAttribute, MemberAttributeKind, References, Servers, Settings, Strategy,
};
use crate::ldap::name::Dn;
use crate::ldap::url::{Scheme, Server};
use std::collections::BTreeMap;

impl Settings {
    /// Each setting that selects people, with its value; the intake's name comes first if there are several intakes.
    /// Never contains secrets.
    #[must_use]
    pub fn selecting(&self) -> BTreeMap<String, String> {
        let mut all = BTreeMap::new();
        for intake in self.intakes.iter() {
            let servers = self.directory(intake).map(|one| servers(&one.servers));
            let directory = self.directory(intake).map(of_directory).unwrap_or_default();
            let own = [("servers", servers.unwrap_or_default())].into_iter();
            let own = own.chain(directory).chain(texts(intake));
            for (name, text) in own.filter(|(_, text)| !text.is_empty()) {
                all.insert(self.called(intake, name), text);
            }
        }
        if !self.intakes.is_single() {
            let order: Vec<&str> = self.intakes.iter().map(|intake| intake.name.as_str()).collect();
            all.insert("order of the intakes".to_owned(), order.join("\n"));
        }
        all
    }

    fn called(&self, intake: &Intake, name: &str) -> String {
        if self.intakes.is_single() { name.to_owned() } else { format!("{}: {name}", intake.name) }
    }

    /// Converts the texts remembered by an earlier version to the form of [`Settings::selecting`]: three of them were
    /// stored in Rust's debug format.
    pub fn bring_up(&self, remembered: &mut BTreeMap<String, String>) {
        let now = self.selecting();
        for intake in &self.intakes {
            // Up to form 2 of the state, these were not remembered.
            if !remembered.contains_key(&self.called(intake, "bind")) {
                for name in ["bind", "references", "strategy"].map(|name| self.called(intake, name)) {
                    remembered.extend(now.get(&name).map(|text| (name, text.clone())));
                }
            }
            let earlier = [
                ("servers", self.directory(intake).map(|one| earlier_servers(&one.servers))),
                (
                    "locked",
                    Some(if intake.locked == Locked::Active { "Active" } else { "Inactive" }.to_owned()),
                ),
                ("application_groups", intake.application_groups.as_ref().map(earlier_groups)),
            ];
            for (name, earlier) in earlier {
                let name = self.called(intake, name);
                if let (Some(text), Some(now)) = (remembered.get_mut(&name), now.get(&name))
                    && earlier.as_deref() == Some(text)
                {
                    text.clone_from(now);
                }
            }
        }
    }
}

/// The servers as remembered up to form 2 of the state.
fn earlier_servers(servers: &Servers) -> String {
    let one = |server: &Server| match server {
        Server::Host { scheme, host, port } => {
            let scheme = if *scheme == Scheme::Ldaps { "Ldaps" } else { "Ldap" };
            format!("Host {{ scheme: {scheme}, host: {host:?}, port: {port} }}")
        }
        Server::Socket(path) => format!("Socket({path:?})"),
    };
    match servers {
        Servers::Named(list) => format!("Named([{}])", list.iter().map(one).collect::<Vec<_>>().join(", ")),
        Servers::Domain(domain) => format!("Domain({domain:?})"),
    }
}

fn earlier_groups(groups: &GroupIntake) -> String {
    let members = if groups.members == GroupMembers::Direct { "Direct" } else { "Flattened" };
    let gone = if groups.gone == GroupLeaving::Remove { "Remove" } else { "Keep" };
    format!("{}\n{members} {} {gone}", groups.which(), groups.adopt)
}

/// The settings of a directory that decide what it shows; empty texts for the defaults.
fn of_directory(directory: &Directory) -> [(&'static str, String); 3] {
    let references = match directory.references {
        References::Ignore => "",
        References::Follow => "follow",
        References::Refuse => "refuse",
        References::Elsewhere => "elsewhere",
    };
    let bind = match &directory.bind {
        Bind::Anonymous => "anonymous",
        Bind::Simple { name, .. } => name,
        Bind::External => "by the connection",
    };
    let tops = names(&directory.tops);
    [("bind", bind.to_owned()), ("references", references.to_owned()), ("tops", tops)]
}

fn strategy(strategy: Strategy) -> &'static str {
    match strategy {
        Strategy::Auto | Strategy::Lists | Strategy::Downwards | Strategy::Sweep => "",
        Strategy::Upwards => "upwards",
        Strategy::Chain => "chain",
        Strategy::Tokens => "tokens",
    }
}

fn texts(intake: &Intake) -> [(&'static str, String); 16] {
    let Intake { bases, filter, groups, not_in_group, group_bases, active, leaving, .. } = intake;
    let required = intake.fields.iter().filter(|(_, rule)| rule.required);
    [
        ("bases", names(bases)),
        ("filter", filter.to_string()),
        ("only", intake.only.join("\n")),
        ("except", intake.except.join("\n")),
        ("groups", names(groups)),
        ("not_in_group", names(not_in_group)),
        ("group_bases", names(group_bases)),
        ("active", active.as_ref().map(ToString::to_string).unwrap_or_default()),
        ("locked", locked(intake.locked).to_owned()),
        ("identity", intake.identity.clone().unwrap_or_default()),
        ("strategy", strategy(intake.strategy).to_owned()),
        ("member_login", intake.member_login.clone().unwrap_or_default()),
        ("member_attribute", intake.member_attribute.as_ref().map(member_attribute).unwrap_or_default()),
        ("required fields", required.map(|(name, _)| name.as_str()).collect::<Vec<_>>().join("\n")),
        ("leaving", in_words(leaving)),
        ("application_groups", intake.application_groups.as_ref().map(groups_in).unwrap_or_default()),
    ]
}

fn servers(servers: &Servers) -> String {
    match servers {
        Servers::Named(list) => list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"),
        Servers::Domain(domain) => format!("domain {domain}"),
    }
}

fn member_attribute(attribute: &MemberAttribute) -> String {
    let kind = match attribute.kind {
        MemberAttributeKind::NamesOfMembers => "names of members",
        MemberAttributeKind::LoginsOfMembers => "logins of members",
        MemberAttributeKind::NamesOfGroups => "names of groups",
        MemberAttributeKind::CommonNamesOfGroups => "cn of groups",
    };
    format!("{} ({kind})", attribute.name)
}

fn locked(locked: Locked) -> &'static str {
    match locked {
        Locked::Active => "active",
        Locked::Inactive => "inactive",
    }
}

fn groups_in(groups: &GroupIntake) -> String {
    let members = match groups.members {
        GroupMembers::Flattened => "flattened",
        GroupMembers::Direct => "direct",
    };
    let gone = match groups.gone {
        GroupLeaving::Keep => "keep",
        GroupLeaving::Remove => "remove",
    };
    let adopt = if groups.adopt { "same-name" } else { "never" };
    format!("{}\n{members} {adopt} {gone}", groups.which())
}

fn names(list: &[Dn]) -> String {
    list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

fn in_words(leaving: &Leaving) -> String {
    let one = |name: &str, rule: LeavingRule| {
        let action = match rule.action {
            LeavingAction::Remove => "remove",
            LeavingAction::Suspend => "suspend",
            LeavingAction::Keep => "keep",
        };
        format!("{name} {action} {}", rule.after_days)
    };
    // `refresh` decides nothing about who is in.
    let Leaving { gone, outside, disabled, incomplete, refresh: _ } = *leaving;
    [("gone", gone), ("outside", outside), ("disabled", disabled), ("incomplete", incomplete)]
        .map(|(name, rule)| one(name, rule))
        .join("\n")
}
