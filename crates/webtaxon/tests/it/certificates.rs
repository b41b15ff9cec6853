//! Which certificates are good, and what is told of the others.

use crate::museum::{DIRECTORY, Museum, fails, told};
use webtaxon_standin::{CertificateKind, Options};

async fn with(certificate: CertificateKind) -> Museum {
    Museum::with(DIRECTORY, Options { certificate, ..Options::default() }).await
}

/// The fingerprint in a text, as the settings write it.
fn fingerprint_in(text: &str) -> &str {
    let from = text.find("sha256:").expect(text);
    &text[from..from + 7 + 95]
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
