//! Blocking work on a thread of its own, so that the caller's runtime is free.

use std::panic::resume_unwind;
use tokio::runtime::Handle;
use tokio::task::{JoinError, spawn_blocking};

/// Runs `work` on a thread where it may block. Once started it runs to its end, whether the caller waits for it or
/// not.
///
/// # Panics
/// If `work` does.
pub(crate) async fn run<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    match spawn_blocking(work).await {
        Ok(done) => done,
        Err(error) => match JoinError::try_into_panic(error) {
            Ok(panic) => resume_unwind(panic),
            // The runtime is shutting down, so no caller waits.
            Err(_) => std::future::pending().await,
        },
    }
}

/// Drives a future on such a thread.
pub(crate) async fn drive<F: Future>(make: impl FnOnce() -> F + Send + 'static) -> F::Output
where
    F::Output: Send + 'static,
{
    let runtime = Handle::current();
    run(move || runtime.block_on(make())).await
}
