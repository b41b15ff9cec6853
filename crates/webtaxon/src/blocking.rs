//! For programs without async.

/// A Tokio runtime of its own, on which a program without async waits for this library's futures.
///
/// ```no_run
/// let (blocking, workspace) =
///     (webtaxon::Blocking::new()?, webtaxon::Workspace::open("webtaxon.toml")?);
/// let preview = blocking.wait(workspace.preview())?;
/// println!("{} changes", preview.changes.len());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
///
/// One is enough for a program, and a connection must be used with the one that opened it. Dropping it waits for an
/// apply that is under way.
#[derive(Debug)]
pub struct Blocking(tokio::runtime::Runtime);

impl Blocking {
    /// Starts the runtime, on the caller's thread.
    ///
    /// # Errors
    /// The system provides no more file descriptors or threads.
    pub fn new() -> std::io::Result<Self> {
        tokio::runtime::Builder::new_current_thread().enable_all().build().map(Self)
    }

    /// Waits for a future, and returns its output.
    ///
    /// # Panics
    /// In async code: there, await the future.
    pub fn wait<F: Future>(&self, future: F) -> F::Output {
        self.0.block_on(future)
    }
}
