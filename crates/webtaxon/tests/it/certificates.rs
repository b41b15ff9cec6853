//! Which certificates are good, and what is told of the others.

use crate::museum::{DIRECTORY, Museum, fails, told};
use webtaxon_standin::{CertificateKind, Options};

async fn with(certificate: CertificateKind) -> Museum {
    Museum::with(DIRECTORY, Options { certificate, ..Options::default() }).await
}

/// The fingerprint in a text, with colons or without.
fn fingerprint_in(text: &str) -> String {
    let from = text.find("sha256:").expect(text) + 7;
    let digits = text[from..].chars().filter(|digit| *digit != ':').take(64).collect::<String>();
    format!("sha256:{}", digits.to_lowercase())
}

#[tokio::test]
async fn a_certificate_that_is_not_good_is_shown_with_the_way_to_trust_it() {
    for (kind, message, code, help) in [
        (
            CertificateKind::Expired,
            "has expired. It says: subject CN=simulated directory; for localhost",
            "WX0309",
            "clock",
        ),
        (CertificateKind::NotYet, "is not valid yet", "WX0309", "clock"),
        (
            CertificateKind::SelfSigned,
            "not signed by an authority that is trusted here",
            "WX0307",
            "fingerprint = ",
        ),
        (CertificateKind::Nameless, "it has no subjectAltName", "WX0308", "fingerprint = "),
    ] {
        fails(&with(kind).await, message, code, help).await;
    }
}

#[tokio::test]
async fn a_certificate_is_trusted_by_the_fingerprint_that_the_message_shows() {
    const AUTHORITY: &str = "{ authority = \"museum-ca.pem\" }";
    for kind in [CertificateKind::SelfSigned, CertificateKind::Nameless, CertificateKind::Good] {
        let museum = with(kind).await;
        museum.change(AUTHORITY, &format!("{{ fingerprint = \"sha256:{}\" }}", "00".repeat(32)));
        let error = museum.preview().await.unwrap_err();
        let (message, code, help) = told(&error);
        assert_eq!(code, "WX0321", "{message}");
        assert_eq!(fingerprint_in(&message), fingerprint_in(&help));
        let pinned =
            format!("{{ fingerprint = [\"sha256:{}\", \"{}\"] }}", "00".repeat(32), fingerprint_in(&help));
        museum.change(AUTHORITY, &pinned);
        assert!(museum.preview().await.unwrap().is_whole(), "{kind:?}");
    }
    let museum = with(CertificateKind::Expired).await;
    let (message, ..) = told(&museum.preview().await.unwrap_err());
    museum.change(AUTHORITY, &format!("{{ fingerprint = \"{}\" }}", fingerprint_in(&message)));
    fails(&museum, "has expired", "WX0309", "administrators").await;
}

#[tokio::test]
async fn a_self_signed_certificate_is_its_own_authority() {
    let museum = with(CertificateKind::SelfSigned).await;
    museum.write("museum-ca.pem", museum.standin().certificate_pem());
    assert!(museum.preview().await.unwrap().is_whole());
}

#[tokio::test]
async fn start_tls_checks_the_certificate_like_ldaps() {
    let options = Options { tls: false, certificate: CertificateKind::Expired, ..Options::default() };
    fails(&Museum::with(DIRECTORY, options).await, "has expired", "WX0309", "").await;
    let museum = Museum::with(DIRECTORY, Options { tls: false, ..Options::default() }).await;
    assert!(museum.preview().await.unwrap().is_whole());
    museum.change("localhost", "127.0.0.1");
    assert!(museum.preview().await.unwrap().is_whole(), "an address in the certificate");
}

#[tokio::test]
async fn a_client_certificate_says_who_asks() {
    const ACCOUNT: &str = "CN=svc-loansdesk,OU=Service Accounts,DC=quillmere,DC=example";
    const BIND: &str = "bind     = \"svc-loansdesk@quillmere.example\"";
    const PASSWORD: &str = "password = { file = \"museum-password.txt\" }";
    let external =
        |settings: String| settings.replace(BIND, "bind = { external = true }").replace(PASSWORD, "");
    let own = "bind = { external = true }\ncertificate = { chain = \"own.pem\", key = \"own.key\" }";
    for tls in [true, false] {
        let client = Some(ACCOUNT.to_owned());
        let museum = Museum::with(DIRECTORY, Options { tls, client, ..Options::default() }).await;
        let (chain, key) = museum.standin().client_pem();
        museum.write("own.pem", chain);
        museum.write("own.key", key);
        museum.write("webtaxon.toml", external(museum.settings()).replace("bind = { external = true }", own));
        assert!(museum.preview().await.unwrap().is_whole(), "tls from the beginning: {tls}");
        museum.write("webtaxon.toml", external(museum.settings()));
        fails(&museum, "it may require a client certificate", "WX0310", "").await;
        let other = with(CertificateKind::Good).await;
        museum.write("own.pem", other.standin().client_pem().0);
        museum.write("webtaxon.toml", external(museum.settings()).replace("bind = { external = true }", own));
        fails(&museum, "own.key cannot be used", "WX0322", "key").await;
        museum.write("own.key", other.standin().client_pem().1);
        fails(&museum, "it may not trust the client certificate", "WX0310", "").await;
    }
    let museum = with(CertificateKind::Good).await;
    museum.write("webtaxon.toml", external(museum.settings()));
    fails(&museum, "inappropriateAuthentication (48)", "WX0316", "client certificate").await;
}

/// Makes a certificate for localhost, and its key, in a folder.
pub(crate) fn self_signed(folder: &std::path::Path) {
    let made = std::process::Command::new("openssl")
        .args([
            "req",
            "-x509",
            "-newkey",
            "ec",
            "-pkeyopt",
            "ec_paramgen_curve:prime256v1",
            "-nodes",
            "-days",
            "2",
        ])
        .args([
            "-subj",
            "/CN=localhost",
            "-addext",
            "subjectAltName=DNS:localhost",
            "-addext",
            "basicConstraints=critical,CA:FALSE",
        ])
        .args(["-keyout", "server.key", "-out", "server.crt"])
        .current_dir(folder)
        .output()
        .unwrap();
    assert!(made.status.success(), "{made:?}");
}
