//! Records the tries of many tasks: lines that wait while others are written are written together.

use super::audit::{AuditFile, AuditLine};
use std::io;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use tokio::sync::oneshot;
use tokio::task::spawn_blocking;

/// The record of tries. Cheap to clone.
#[derive(Clone, Debug)]
pub(super) struct Recorder {
    audit: AuditFile,
    queue: Arc<Mutex<Queue>>,
}

/// A failure is told to everybody who waited for it.
type Told = Result<(), Arc<io::Error>>;

#[derive(Debug, Default)]
struct Queue {
    lines: Vec<AuditLine>,
    waiting: Vec<oneshot::Sender<Told>>,
    /// A thread writes, and looks here again before it ends.
    is_written: bool,
}

impl Recorder {
    pub(super) fn new(audit: AuditFile) -> Self {
        Self { audit, queue: Arc::default() }
    }

    pub(super) fn audit(&self) -> &AuditFile {
        &self.audit
    }

    /// Appends a line to the file. Once begun, it is written, whether the caller waits for it or not.
    ///
    /// # Errors
    /// The file cannot be written.
    pub(super) async fn record(&self, line: AuditLine) -> Told {
        let (teller, told) = oneshot::channel();
        let is_written = {
            let mut queue = self.queue();
            queue.lines.push(line);
            queue.waiting.push(teller);
            std::mem::replace(&mut queue.is_written, true)
        };
        if !is_written {
            let writer = Writer { recorder: self.clone(), is_done: false };
            drop(spawn_blocking(move || writer.write()));
        }
        told.await.unwrap_or_else(|_| Err(Arc::new(io::Error::other("the writer ended"))))
    }

    fn queue(&self) -> MutexGuard<'_, Queue> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The only thread that writes.
struct Writer {
    recorder: Recorder,
    is_done: bool,
}

impl Writer {
    /// Writes until nothing waits.
    fn write(mut self) {
        loop {
            let (lines, waiting) = {
                let mut queue = self.recorder.queue();
                if queue.lines.is_empty() {
                    (queue.is_written, self.is_done) = (false, true);
                    return;
                }
                (std::mem::take(&mut queue.lines), std::mem::take(&mut queue.waiting))
            };
            let done = self.recorder.audit.append(&lines).map_err(Arc::new);
            for teller in waiting {
                let _ = teller.send(done.clone());
            }
        }
    }
}

impl Drop for Writer {
    /// Ends the wait for a writer that did not come to its end; the next line begins anew.
    fn drop(&mut self) {
        if !self.is_done {
            *self.recorder.queue() = Queue::default();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::Timestamp;
    use webtaxon_core::settings::Audit;

    fn line(name: usize) -> AuditLine {
        serde_json::from_value(serde_json::json!({
            "at": Timestamp::UNIX_EPOCH, "name": name.to_string(), "from": "", "outcome": "in", "reason": "in",
            "milliseconds": 0
        }))
        .unwrap()
    }

    fn recorder(folder: &std::path::Path) -> Recorder {
        Recorder::new(AuditFile::new(&Audit::default(), folder))
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn whoever_is_told_that_a_line_is_written_finds_it_in_the_file() {
        let folder = tempfile::tempdir().unwrap();
        let recorder = recorder(folder.path());
        let task = |name: usize| {
            let recorder = recorder.clone();
            tokio::spawn(async move {
                recorder.record(line(name)).await.unwrap();
                let mut is_there = false;
                recorder.audit().read(|one| is_there |= one.name == name.to_string()).unwrap();
                assert!(is_there, "{name}");
            })
        };
        for task in (0..100).map(task).collect::<Vec<_>>() {
            task.await.unwrap();
        }
        let mut count = 0;
        assert_eq!(recorder.audit().read(|_| count += 1).unwrap(), 0);
        assert_eq!(count, 100);
    }

    #[tokio::test]
    async fn a_failure_is_told_to_everybody_and_the_next_line_is_tried_anew() {
        let folder = tempfile::tempdir().unwrap();
        let place = folder.path().join("later");
        let recorder = recorder(&place);
        let both = tokio::join!(recorder.record(line(1)), recorder.record(line(2)));
        assert!(both.0.is_err() && both.1.is_err());
        std::fs::create_dir(&place).unwrap();
        recorder.record(line(3)).await.unwrap();
    }

    #[test]
    fn a_runtime_that_ends_before_a_line_is_written_holds_up_nobody() {
        let folder = tempfile::tempdir().unwrap();
        let recorder = recorder(folder.path());
        drop(Writer { recorder: recorder.clone(), is_done: false });
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(recorder.record(line(1))).unwrap();
    }
}
