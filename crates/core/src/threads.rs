//! The threads that readers share.

use std::sync::{Mutex, Once};

/// As many threads read at a time at the most.
const MAX_THREADS: usize = 32;

/// What a thread that only waits needs, in bytes.
const STACK: usize = 64 << 10;

/// How many threads there are to be: one for each processor.
#[must_use]
pub fn count() -> usize {
    std::thread::available_parallelism().map_or(1, std::num::NonZero::get).min(MAX_THREADS)
}

/// Starts them, whatever the environment says of their number; where the system gives none, the calling thread works
/// alone. To be called before anything is read, since the first reader would start them otherwise.
pub fn start() {
    static STARTED: Once = Once::new();
    STARTED.call_once(|| {
        let pool = rayon::ThreadPoolBuilder::new();
        // A pool that cannot be started is not tried again, so it is known before.
        let pool = match can_spawn(count()) {
            true => pool.num_threads(count()),
            false => pool.num_threads(1).use_current_thread(),
        };
        if let Err(error) = pool.build_global() {
            tracing::debug!(%error, "threads were not started");
        }
    });
}

/// Whether the system gives so many threads at a time.
fn can_spawn(count: usize) -> bool {
    let gate = Mutex::new(());
    std::thread::scope(|scope| {
        let _closed = gate.lock();
        let wait = || drop(gate.lock());
        (0..count).all(|_| std::thread::Builder::new().stack_size(STACK).spawn_scoped(scope, wait).is_ok())
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_threads_than_a_system_gives_are_not_asked_of_it() {
        assert!(can_spawn(count()));
        start();
        start();
        assert_eq!(rayon::current_num_threads(), count());
    }
}
