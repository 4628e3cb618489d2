//! Nothing but dependencies. Cargo builds a library once for each set of features that is asked of it, and `cargo run`
//! does not know what the tests ask for: without this crate `cargo test` after it builds the core a second time, which
//! takes longer than all the libraries together.
