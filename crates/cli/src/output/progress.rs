//! How far a long question is, on standard error where that is a terminal.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// A bar of this form (the template of the crate that draws it), of so many steps where that is known; one that is hidden
/// is never drawn.
pub fn bar(is_hidden: bool, steps: Option<u64>, form: &str) -> ProgressBar {
    let target = if is_hidden { ProgressDrawTarget::hidden() } else { ProgressDrawTarget::stderr() };
    let bar = ProgressBar::with_draw_target(steps, target);
    if let Ok(style) = ProgressStyle::with_template(form) {
        bar.set_style(style);
    }
    bar
}
