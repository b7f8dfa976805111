//! Styles of text on a terminal.

use anstyle::{AnsiColor, Style};

/// The subject of a line.
pub const BOLD: Style = Style::new().bold();
/// A conflict or a failure.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
/// A success.
pub const GOOD: Style = AnsiColor::Green.on_default().bold();
/// Of less interest.
pub const DIM: Style = Style::new().dimmed();
