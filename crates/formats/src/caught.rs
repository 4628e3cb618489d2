//! Libraries that stop a program on some damaged files, kept from it.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind, set_hook, take_hook};
use std::sync::Once;

thread_local! {
    /// Whether what stops here is caught, so that nothing is to be told of it.
    static IS_CAUGHT: Cell<bool> = const { Cell::new(false) };
}

/// What a reader gives; `None` where it stopped. Nothing is written to standard error then: the caller tells which file is
/// damaged.
///
/// ```
/// use whodunit_formats::caught::caught;
/// assert_eq!(caught(|| 3), Some(3));
/// assert_eq!(caught(|| [0_u8; 2].iter().nth(2).copied().expect("a third byte")), None);
/// ```
pub fn caught<T>(read: impl FnOnce() -> T) -> Option<T> {
    static HOOK: Once = Once::new();
    HOOK.call_once(|| {
        let usual = take_hook();
        set_hook(Box::new(move |stopped| {
            if !IS_CAUGHT.get() {
                usual(stopped);
            }
        }));
    });
    let before = IS_CAUGHT.replace(true);
    let result = catch_unwind(AssertUnwindSafe(read));
    IS_CAUGHT.set(before);
    result.ok()
}
