//! Points at which a test lets the program die, to prove that an apply may be interrupted anywhere. They do nothing
//! without the feature `crash-points`, which only test builds have.

/// Dies at once, as in a power failure, if this point has the number in `WEBTAXON_DIE_AT`.
#[cfg(feature = "crash-points")]
pub(crate) fn point() {
    use std::sync::atomic::{AtomicU64, Ordering};
    static PASSED: AtomicU64 = AtomicU64::new(0);
    let Some(wanted) = std::env::var("WEBTAXON_DIE_AT").ok().and_then(|number| number.parse::<u64>().ok())
    else {
        return;
    };
    if PASSED.fetch_add(1, Ordering::Relaxed) + 1 == wanted {
        let _ = std::process::Command::new("kill").args(["-KILL", &std::process::id().to_string()]).status();
        std::thread::sleep(std::time::Duration::from_secs(60));
    }
}

#[cfg(not(feature = "crash-points"))]
pub(crate) fn point() {}
