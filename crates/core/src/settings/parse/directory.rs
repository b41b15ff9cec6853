//! The table `[directory.NAME]`: servers, trust, bind, password.

use super::table::{Table, Text, Value};
use super::values::{duration, names};
use crate::ldap::url::Server;
use crate::settings::{
    Bind, ClientCertificate, Directory, Fingerprint, PasswordSource, References, Servers, SettingsError,
    Trust,
};

pub(super) fn directory(name: String, value: Value<'_>) -> Result<Directory, SettingsError> {
    let known = &[
        "servers",
        "domain",
        "trust",
        "certificate",
        "bind",
        "password",
        "tops",
        "references",
        "page",
        "connect_timeout",
        "timeout",
        "deadline",
        "plain",
    ];
    let mut table = value.table(known)?;
    let mut directory = Directory::new(name, servers(&mut table)?);
    if let Some(value) = table.take("trust") {
        directory.trust = trust(value)?;
    }
    directory.certificate = table.take("certificate").map(certificate).transpose()?;
    directory.bind = bind(&mut table)?;
    directory.tops = table.take("tops").map(names).transpose()?.unwrap_or_default();
    if let Some(value) = table.take("references") {
        directory.references = value.text()?.word(&[
            ("follow", References::Follow),
            ("ignore", References::Ignore),
            ("elsewhere", References::Elsewhere),
            ("refuse", References::Refuse),
        ])?;
    }
    if let Some(value) = table.take("plain") {
        directory.plain = value.boolean()?;
    }
    if let Some(value) = table.take("page") {
        directory.page = u32::try_from(value.number(1)?).unwrap_or(u32::MAX).min(i32::MAX.unsigned_abs());
    }
    for (key, time) in [
        ("connect_timeout", &mut directory.connect_timeout),
        ("timeout", &mut directory.timeout),
        ("deadline", &mut directory.deadline),
    ] {
        *time = duration(&mut table, key, *time)?;
    }
    Ok(directory)
}

fn servers(table: &mut Table<'_>) -> Result<Servers, SettingsError> {
    const HELP: &str = "write servers = [\"ldaps://dc1.quillmere.example\"], or domain = \"quillmere.example\" for the servers in DNS";
    match table.take("domain") {
        Some(value) => {
            let domain = value.text()?;
            if table.take("servers").is_some() {
                return Err(domain.bad("the servers are given already", "keep either servers or domain"));
            }
            let sound = |label: &str| {
                let fits = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_');
                (1..=63).contains(&label.len()) && label.bytes().all(fits)
            };
            if !domain.text.split('.').all(sound) {
                return Err(domain.bad(
                    "this is not the name of a domain",
                    "write the name alone, like quillmere.example",
                ));
            }
            Ok(Servers::Domain(domain.text))
        }
        None => {
            let list = table.require("servers", HELP)?;
            let none = list.bad("it is empty", HELP);
            let list = list.texts()?.iter().map(server).collect::<Result<Vec<_>, _>>()?;
            if list.is_empty() { Err(none) } else { Ok(Servers::Named(list)) }
        }
    }
}

fn server(text: &Text<'_>) -> Result<Server, SettingsError> {
    text.text
        .parse::<Server>()
        .map_err(|reason| text.bad(&reason.to_string(), "write ldaps://HOST or ldaps://HOST:PORT"))
}

pub(super) fn trust(value: Value<'_>) -> Result<Trust, SettingsError> {
    const HELP: &str = "name the authority's PEM file: { authority = \"museum-ca.pem\" }; or a certificate: { fingerprint = \"sha256:…\" }";
    let unclear = value.bad("only one kind is possible", HELP);
    let mut table = value.table(&["authority", "fingerprint"])?;
    match (table.take("authority"), table.take("fingerprint")) {
        (Some(file), None) => Ok(Trust::Authority(file.text()?.text.into())),
        (None, Some(list)) => {
            let none = list.bad("it is empty", HELP);
            let parse = |text: &Text<'_>| {
                text.text.parse::<Fingerprint>().map_err(|reason| {
                    text.bad(
                        &reason.to_string(),
                        "`webtaxon check` shows the fingerprint of the server's certificate",
                    )
                })
            };
            let list = list.texts()?.iter().map(parse).collect::<Result<Vec<_>, _>>()?;
            if list.is_empty() { Err(none) } else { Ok(Trust::Pinned(list)) }
        }
        _ => Err(unclear),
    }
}

fn certificate(value: Value<'_>) -> Result<ClientCertificate, SettingsError> {
    const HELP: &str = "write certificate = { chain = \"loansdesk.pem\", key = \"loansdesk.key\" }";
    let mut table = value.table(&["chain", "key"])?;
    let chain = table.require("chain", HELP)?.text()?.text.into();
    let key = table.require("key", HELP)?.text()?.text.into();
    Ok(ClientCertificate { chain, key })
}

fn bind(table: &mut Table<'_>) -> Result<Bind, SettingsError> {
    const HELP: &str = "leave bind out for an anonymous bind, or write a DN, user@domain or 'DOMAIN\\user'";
    let password =
        table.take("password").map(|value| Ok((value.bad("it is not used", HELP), password(value)?)));
    let password = password.transpose()?;
    let bind = match table.take("bind") {
        None => Bind::Anonymous,
        Some(value) if value.is_text() => {
            let name = value.text()?;
            if name.text.trim().is_empty() {
                return Err(name.bad("it is empty", HELP));
            }
            return Ok(Bind::Simple { name: name.text, password: password.map(|(_, source)| source) });
        }
        Some(value) => {
            let unclear =
                value.bad("this is not a kind of bind", "write a name in quotes, or { external = true }");
            let external = value.table(&["external"])?.take("external").map(Value::boolean).transpose()?;
            if external != Some(true) {
                return Err(unclear);
            }
            Bind::External
        }
    };
    match password {
        Some((unused, _)) => Err(unused),
        None => Ok(bind),
    }
}

pub(super) fn password(value: Value<'_>) -> Result<PasswordSource, SettingsError> {
    if value.is_text() {
        return Err(value.secret());
    }
    let one = value.bad("only one source is possible", "keep one of env, file, command, credential and ask");
    let mut table = value.table(&["env", "file", "command", "credential", "ask"])?;
    let mut found = Vec::new();
    for (key, what, kind) in [
        ("env", "name an environment variable", PasswordSource::Env as fn(String) -> PasswordSource),
        ("file", "name a file", |file| PasswordSource::File(file.into())),
        ("credential", "name a credential of the service manager", PasswordSource::Credential),
    ] {
        let Some(value) = table.take(key) else { continue };
        let text = value.text()?;
        let odd = key == "credential" && (text.text.contains('/') || text.text.starts_with('.'));
        if text.text.is_empty() || odd {
            return Err(text.bad(if odd { "it is a name, not a path" } else { "it is empty" }, what));
        }
        found.push(kind(text.text));
    }
    if let Some(value) = table.take("command") {
        let help = "write the program and its arguments: command = [\"/usr/local/bin/loansdesk-password\"]";
        let none = value.bad("it is empty", help);
        let words: Vec<String> = value.texts()?.into_iter().map(|text| text.text).collect();
        if words.first().is_none_or(String::is_empty) {
            return Err(none);
        }
        found.push(PasswordSource::Command(words));
    }
    if let Some(value) = table.take("ask") {
        let no = value.bad("this disables the prompt", "write { ask = true }, or another source");
        if !value.boolean()? {
            return Err(no);
        }
        found.push(PasswordSource::Ask);
    }
    match (found.pop(), found.is_empty()) {
        (Some(source), true) => Ok(source),
        _ => Err(one),
    }
}
