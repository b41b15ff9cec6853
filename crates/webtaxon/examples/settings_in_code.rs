//! Settings that an application puts together, from a form or from its own configuration:
//! `cargo run --example settings_in_code -- ldaps://localhost:6360 museum museum/museum-password.txt`.
//!
//! They have the shape of a settings file, and are held to its rules. The second argument is the folder that
//! relative paths start from, and in which the application lets Webtaxon remember things.
#![expect(clippy::print_stdout, reason = "an example shows its result")]

use secrecy::SecretString;
use serde_json::json;
use webtaxon::Workspace;
use webtaxon::model::settings::Settings;

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut arguments = std::env::args().skip(1);
    let (Some(server), Some(folder), Some(secret)) = (arguments.next(), arguments.next(), arguments.next())
    else {
        return Err("settings_in_code SERVER FOLDER FILE-WITH-THE-PASSWORD".into());
    };
    let settings = Settings::from_value(&json!({
        "directory": { "museum": {
            "servers": server,
            "trust": { "authority": "museum-ca.pem" },
            "bind": "svc-loansdesk@quillmere.example",
            "password": { "ask": true },
        } },
        "accounts": { "store": "csv", "path": "accounts.csv" },
        "intake": [{
            "name": "staff",
            "directory": "museum",
            "bases": "OU=People,DC=quillmere,DC=example",
            "filter": "(&(objectCategory=person)(objectClass=user))",
            "groups": "CN=Loans Desk Users,OU=Groups,DC=quillmere,DC=example",
            "fields": {
                "login": { "from": "sAMAccountName", "case": "lower" },
                "email": { "from": "mail", "required": true },
            },
        }],
    }))?;
    // Where the application keeps secrets is its own affair; `ask` brings the question here.
    let password = std::fs::read_to_string(secret)?;
    let workspace = Workspace::new(settings, folder)
        .with_prompt(move |_account| Ok(SecretString::from(password.trim_end())));
    let preview = workspace.preview().await?;
    println!("{} changes, whole: {}", preview.changes.len(), preview.is_whole());
    Ok(())
}
