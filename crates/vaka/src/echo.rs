//! The echo of typed characters at the terminal.

pub use system::{hide, show};

#[cfg(unix)]
mod system {
    use std::sync::{Mutex, PoisonError};

    use nix::sys::termios::{LocalFlags, SetArg, Termios, tcgetattr, tcsetattr};

    /// The terminal as it was, while the echo is off.
    static BEFORE: Mutex<Option<Termios>> = Mutex::new(None);

    /// From now on typed characters are not shown.
    pub fn hide() {
        let Ok(before) = tcgetattr(std::io::stdin()) else { return };
        let mut quiet = before.clone();
        quiet.local_flags.remove(LocalFlags::ECHO);
        if tcsetattr(std::io::stdin(), SetArg::TCSANOW, &quiet).is_ok() {
            *BEFORE.lock().unwrap_or_else(PoisonError::into_inner) = Some(before);
        }
    }

    /// Shows typed characters again; also before the program ends at once.
    pub fn show() {
        if let Some(before) = BEFORE.lock().unwrap_or_else(PoisonError::into_inner).take() {
            let _ = tcsetattr(std::io::stdin(), SetArg::TCSANOW, &before);
        }
    }
}

/// A system without terminal settings always shows typed characters.
#[cfg(not(unix))]
mod system {
    pub fn hide() {}

    pub fn show() {}
}
