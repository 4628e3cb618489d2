//! Log of what was read, on standard error, with `-v`.

use tracing::level_filters::LevelFilter;

/// Starts logging: the installations that were read with `-v`, every file with `-vv`.
///
/// Events carry structured fields; standard output stays the answer alone.
pub fn start(verbose: u8) {
    let level = match verbose {
        0 => return,
        1 => LevelFilter::INFO,
        _ => LevelFilter::DEBUG,
    };
    let subscriber = tracing_subscriber::fmt()
        .with_max_level(level)
        .with_writer(std::io::stderr)
        .with_target(false)
        .with_ansi(false)
        .without_time();
    // A second call, from within the demo, changes nothing.
    let _ = subscriber.try_init();
}
