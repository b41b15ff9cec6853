//! The progress of a reading: a line on standard error, and its summary if the run is stopped.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use webtaxon::progress::{Progress as Event, Watch};
use webtaxon::report::harmless;

/// The line, and the latest counts.
#[derive(Clone)]
pub(crate) struct Progress {
    bar: ProgressBar,
    read: Arc<Mutex<Read>>,
    /// Whether a thread keeps the line up to date: starting one for each event would cost more than the event.
    is_ticking: Arc<AtomicBool>,
}

#[derive(Default)]
struct Read {
    server: Option<String>,
    people: usize,
    groups: usize,
}

impl Default for Progress {
    fn default() -> Self {
        // Nothing is drawn unless standard error is a terminal.
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(8));
        if let Ok(style) = ProgressStyle::with_template("{msg} ({elapsed})") {
            bar.set_style(style);
        }
        Self { bar, read: Arc::default(), is_ticking: Arc::default() }
    }
}

impl Progress {
    /// The receiver of the workspace's progress events.
    pub(crate) fn watch(&self) -> Watch {
        let progress = self.clone();
        Watch::new(move |event| progress.take(event))
    }

    fn take(&self, event: &Event) {
        let Ok(mut read) = self.read.lock() else { return };
        let line = match event {
            Event::Connected { server } => {
                *read = Read { server: Some(server.clone()), ..Read::default() };
                format!("Connected to {}", harmless(server))
            }
            Event::People { read: people } => {
                read.people = *people;
                format!("Reading people: {people}")
            }
            Event::Groups { read: groups } => {
                read.groups = *groups;
                format!("Reading groups: {groups}; people: {}", read.people)
            }
            Event::Members { looked_at } => {
                format!(
                    "Looking which members are groups: {looked_at}; groups: {}; people: {}",
                    read.groups, read.people
                )
            }
            Event::LookingFor { people } => {
                format!("Looking for {people} people whom the bases do not have")
            }
            Event::CarriedOut { edits, of } => format!("Carried out: {edits} of {of}"),
            _ => return,
        };
        if self.bar.is_finished() {
            self.bar.reset(); // something was said in between
        }
        if !self.is_ticking.swap(true, Ordering::Relaxed) {
            self.bar.enable_steady_tick(Duration::from_millis(125));
        }
        self.bar.set_message(line);
    }

    /// Removes the line, to make room for the answer.
    pub(crate) fn clear(&self) {
        self.bar.disable_steady_tick();
        self.is_ticking.store(false, Ordering::Relaxed);
        self.bar.finish_and_clear();
    }

    /// The progress so far, to follow "Stopped".
    pub(crate) fn in_words(&self) -> String {
        let Ok(read) = self.read.lock() else { return String::new() };
        match &read.server {
            Some(server) => format!(
                ": {} people and {} groups had been read at {}",
                read.people,
                read.groups,
                harmless(server)
            ),
            None => String::new(),
        }
    }
}
