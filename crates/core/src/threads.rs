//! The threads that readers share.

/// As many threads read at a time at the most.
const MAX_THREADS: usize = 32;

/// How many threads there are to be: one for each processor.
#[must_use]
pub fn count() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(MAX_THREADS)
}

/// Starts them, whatever the environment says of their number; where the system gives none, the calling thread works
/// alone. To be called once, before anything is read: the first reader would start them otherwise.
pub fn start() {
    let builder = || rayon::ThreadPoolBuilder::new().num_threads(count());
    // A pool for all that could not be started would be tried only once.
    let started = builder().build().is_ok() && builder().build_global().is_ok();
    if !started && rayon::ThreadPoolBuilder::new().num_threads(1).use_current_thread().build_global().is_err() {
        tracing::debug!("threads were started before");
    }
}
