//! A reading tells how far it has come, whatever becomes of it.

use crate::museum::{DIRECTORY, Museum};
use std::sync::{Arc, Mutex};
use webtaxon::progress::{Progress, Watch};
use webtaxon_standin::{Fault, FaultKind, Options};

async fn told(museum: &Museum) -> Vec<Progress> {
    let events: Arc<Mutex<Vec<Progress>>> = Arc::default();
    let kept = Arc::clone(&events);
    let watch = Watch::new(move |event| kept.lock().unwrap().push(event.clone()));
    let _ = museum.workspace().unwrap().watched(watch).preview().await;
    let events = events.lock().unwrap();
    events.clone()
}

#[tokio::test]
async fn each_step_is_reported_as_it_goes_on() {
    let museum = Museum::open().await;
    let events = told(&museum).await;
    let url = museum.standin().url();
    assert_eq!(events[0], Progress::Connected { server: url });
    let people: Vec<usize> = events
        .iter()
        .filter_map(|event| match event {
            Progress::People { read } => Some(*read),
            _ => None,
        })
        .collect();
    assert_eq!(people, [100, 200, 244]);
    let mut groups = events.iter().filter(|event| matches!(event, Progress::Groups { .. }));
    assert!(groups.clone().count() >= 4, "one for each level: {events:?}");
    assert_eq!(groups.next_back(), Some(&Progress::Groups { read: 19 }));
    assert_eq!(events.last(), Some(&Progress::LookingFor { people: 6 }));
}

#[tokio::test]
async fn what_was_read_before_a_fault_was_reported() {
    let fault = Fault { kind: FaultKind::Cut, after: 150 };
    let museum = Museum::with(DIRECTORY, Options { fault: Some(fault), ..Options::default() }).await;
    let events = told(&museum).await;
    assert_eq!(events.last(), Some(&Progress::People { read: 100 }), "{events:?}");
}
