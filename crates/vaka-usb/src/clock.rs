//! Time, injected, so that a test waits a minute in no time.

use std::sync::OnceLock;
use std::time::{Duration, Instant};

/// A monotonic clock that can also wait.
pub trait Clock: Send + Sync {
    /// Time since some fixed moment; never goes back.
    fn now(&self) -> Duration;

    /// Returns once `time` has passed.
    fn sleep(&self, time: Duration);
}

/// The machine's own clock.
#[derive(Clone, Copy, Debug, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> Duration {
        static START: OnceLock<Instant> = OnceLock::new();
        START.get_or_init(Instant::now).elapsed()
    }

    fn sleep(&self, time: Duration) {
        std::thread::sleep(time);
    }
}
