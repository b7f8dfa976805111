//! Dialects of a few lines, for one rule each.

#![allow(dead_code, unreachable_pub, clippy::unwrap_used)] // each test file uses its part

use vaka_dialect::{Callee, Dialect, OperationName, Step, no_files};

/// The beginning of a dialect, with two names.
pub const BEGIN: &str =
    "dialect = 1\nname = \"l\"\n[carrier]\nkind = \"pipes\"\n[names]\nn = 0x1234\nb = \"x'01 02 03 FF'\"\n";

/// A dialect, or everything that is wrong with it.
pub fn parse(text: &str) -> Result<Dialect, String> {
    Dialect::parse("l", text, &no_files).map_err(|errors| errors.to_string())
}

/// The exchange of an operation that is one.
pub fn exchange_of(dialect: &Dialect, name: OperationName) -> usize {
    match &dialect.operation(name).unwrap().steps[0] {
        Step::Call { target, .. } => match target.callee() {
            Some(Callee::Exchange(number)) => number,
            other => panic!("{other:?}"),
        },
        other => panic!("{other:?}"),
    }
}
