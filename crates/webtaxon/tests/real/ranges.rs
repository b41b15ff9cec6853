//! Member lists in ranges ([MS-ADTS] §3.1.1.3.1.3.3) as a real controller gives them. Samba cuts no list by itself, but
//! gives any range that it is asked for: a proxy asks it for a few members at a time, as a controller with a low limit
//! would give them.

use super::{CONTROLLER, Desk, home};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::pki_types::pem::PemObject as _;
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName};
use tokio_rustls::rustls::{ClientConfig, RootCertStore};
use webtaxon_wire::message::{Octets, Operation};
use webtaxon_wire::{Message, frame};

/// Members that are given at once.
const STEP: usize = 2;

/// Asks for no more members at once than a low limit gives; how many questions went beyond the first range is counted.
fn limited(message: &[u8], further: &AtomicUsize) -> Vec<u8> {
    let Ok(mut message) = Message::decode(message) else { return message.to_vec() };
    if let Operation::SearchRequest(request) = &mut message.operation {
        for attribute in &mut request.attributes {
            let text = std::str::from_utf8(attribute).unwrap();
            // A range that has an end is asked for to see how long a list is.
            let rest = text.strip_prefix("member;range=").and_then(|range| range.strip_suffix("-*"));
            let from = match rest {
                Some(from) => {
                    further.fetch_add(1, Ordering::Relaxed);
                    from.parse().unwrap()
                }
                None if text == "member" => 0,
                None => continue,
            };
            *attribute = Octets::from_slice(format!("member;range={from}-{}", from + STEP - 1).as_bytes());
        }
    }
    message.encode().unwrap()
}

/// A controller that gives few members at once: its address, and the count of questions for further ones. It goes away
/// when it is asked for more of them than so many.
async fn controller(most: usize) -> (String, Arc<AtomicUsize>) {
    let mut roots = RootCertStore::empty();
    roots.add(CertificateDer::from_pem_file(home().join("tls/ca.pem")).unwrap()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions().unwrap();
    let tls = TlsConnector::from(Arc::new(config.with_root_certificates(roots).with_no_client_auth()));
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let further = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&further);
    tokio::spawn(async move {
        while let Ok((client, _)) = listener.accept().await {
            let server = TcpStream::connect("127.0.0.2:636").await.unwrap();
            let server = tls.connect(ServerName::try_from("127.0.0.2").unwrap(), server).await.unwrap();
            let (mut from_client, mut to_client) = client.into_split();
            let (mut from_server, mut to_server) = tokio::io::split(server);
            let further = Arc::clone(&counted);
            tokio::spawn(async move { tokio::io::copy(&mut from_server, &mut to_client).await });
            tokio::spawn(async move {
                let (mut inbox, mut buffer) = (frame::Inbox::default(), vec![0; 1 << 16]);
                while let Ok(count @ 1..) = from_client.read(&mut buffer).await {
                    inbox.feed(&buffer[..count]);
                    while let Some(message) = inbox.next(frame::MESSAGE_LIMIT).unwrap() {
                        let asked = limited(message, &further);
                        if further.load(Ordering::Relaxed) > most {
                            return to_server.shutdown().await.unwrap();
                        }
                        to_server.write_all(&asked).await.unwrap();
                    }
                    to_server.flush().await.unwrap();
                }
            });
        }
    });
    (address, further)
}

/// The museum behind such a controller.
fn desk(address: &str, strategy: &str) -> Desk {
    Desk::new(CONTROLLER, &format!("ldap://{address}"))
        .with("[directory.museum]", "[directory.museum]\nplain = true")
        .with("[intake.fields]", &format!("strategy = \"{strategy}\"\n[intake.fields]"))
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_controller_that_gives_members_in_ranges_is_read_to_its_end() {
    for strategy in ["downwards", "sweep", "auto"] {
        let (address, further) = controller(usize::MAX).await;
        desk(&address, strategy).is_read(strategy).await;
        let asked = further.load(Ordering::Relaxed);
        assert!(asked > 20, "{strategy}: {asked} questions for further members");
    }
}

#[tokio::test]
#[ignore = "needs scripts/real-directories up"]
async fn a_controller_that_goes_away_between_ranges_takes_nobodys_account_away() {
    for most in [0, 1, 5, 15] {
        let (address, _) = controller(most).await;
        let preview = desk(&address, "auto").preview().await.unwrap();
        let leaves =
            preview.changes.iter().filter(|change| ["suspend", "remove"].contains(&change.kind().name()));
        assert!(!preview.is_whole(), "after {most}");
        assert_eq!(leaves.count(), 0, "after {most}");
    }
}
