//! Virtual time.

use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use vaka_usb::Clock;

/// A clock that advances only when a caller sleeps on it.
#[derive(Debug, Default)]
pub struct VirtualClock {
    nanoseconds: AtomicU64,
}

impl Clock for VirtualClock {
    fn now(&self) -> Duration {
        Duration::from_nanos(self.nanoseconds.load(Ordering::SeqCst))
    }

    fn sleep(&self, time: Duration) {
        let nanoseconds = u64::try_from(time.as_nanos()).unwrap_or(u64::MAX);
        self.nanoseconds.fetch_add(nanoseconds, Ordering::SeqCst);
    }
}
