//! Waiting for a bus event: with a deadline, stop requests and a sign of life.

use std::time::Duration;

use vaka_usb::{Bus, BusError, Clock, DeviceInfo, HotplugEvent, PolledWatch};

use crate::bench::buses::Bench;
use crate::bench::tracking::Absence;
use crate::context::Context;

/// A sign of life is emitted this often. Chosen by us.
const SIGN_OF_LIFE: Duration = Duration::from_secs(5);

/// Interval for checking stop requests. Chosen by us: imperceptible for a user.
const STOP_POLL: Duration = Duration::from_millis(100);

/// Why a wait ends without the awaited event.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum WaitEnd {
    /// The deadline passed.
    TimedOut,
    /// The user requested a stop.
    Stopped,
}

/// A wait with a deadline. The caller observes, checks, and pauses until the next observation.
#[derive(Debug)]
pub(crate) struct Wait {
    deadline: Duration,
    next_sign: Duration,
}

impl Wait {
    /// Starts a wait of at most `time`. The first sign of life follows after [`SIGN_OF_LIFE`].
    pub(crate) fn new(time: Duration, clock: &dyn Clock) -> Self {
        let now = clock.now();
        Self { deadline: now + time, next_sign: now + SIGN_OF_LIFE }
    }

    /// Moves the first sign of life to the first check.
    pub(crate) fn announced(self) -> Self {
        Self { next_sign: Duration::ZERO, ..self }
    }

    /// Moves the deadline to `time` from now on.
    pub(crate) fn restart(&mut self, time: Duration, cx: &Context<'_>) {
        self.deadline = cx.now() + time;
    }

    /// Emits the awaited event and the remaining time.
    pub(crate) fn sign(&mut self, what: &str, cx: &mut Context<'_>) {
        cx.waiting(what, self.deadline);
        self.next_sign = cx.now() + SIGN_OF_LIFE;
    }

    /// Checks whether the wait is over; emits a sign of life if one is due.
    pub(crate) fn check(&mut self, what: impl FnOnce() -> String, cx: &mut Context<'_>) -> Option<WaitEnd> {
        if cx.stop_requested() {
            return Some(WaitEnd::Stopped);
        }
        if cx.now() >= self.deadline {
            return Some(WaitEnd::TimedOut);
        }
        if cx.now() >= self.next_sign {
            self.sign(&what(), cx);
        }
        None
    }

    /// The maximum duration of the next observation.
    fn slice(&self, cx: &Context<'_>) -> Duration {
        STOP_POLL.min(self.deadline.saturating_sub(cx.now()))
    }

    /// Pauses before the next observation of all buses of the bench.
    pub(crate) fn pause(&self, bench: &Bench<'_>, cx: &Context<'_>) {
        let slice = self.slice(cx);
        match bench.plugged()[..] {
            [only] => only.await_change(cx.clock(), PolledWatch::INTERVAL, slice),
            _ => cx.clock().sleep(PolledWatch::INTERVAL.min(slice)),
        }
    }
}

/// Watches the bus of one unit, and whether the unit leaves its port.
pub(crate) struct UnitWatch<'w> {
    bench: &'w Bench<'w>,
    unit: &'w DeviceInfo,
    watch: PolledWatch<'w>,
    absence: Absence<'w>,
    wait: Wait,
}

impl<'w> UnitWatch<'w> {
    /// Watches from now on; devices attached now are not reported.
    ///
    /// # Errors
    /// The bus cannot be listed.
    pub(crate) fn new(
        bench: &'w Bench<'w>,
        unit: &'w DeviceInfo,
        time: Duration,
        clock: &'w dyn Clock,
    ) -> Result<Self, BusError> {
        let watch = PolledWatch::new(bus_of(bench, unit)?, clock)?;
        Ok(Self::with(bench, unit, watch, Wait::new(time, clock)))
    }

    /// Watches from now on; the first observation reports all attached devices.
    ///
    /// # Errors
    /// The unit's bus is not on the bench.
    pub(crate) fn from_nothing(
        bench: &'w Bench<'w>,
        unit: &'w DeviceInfo,
        time: Duration,
        clock: &'w dyn Clock,
    ) -> Result<Self, BusError> {
        let watch = PolledWatch::from_nothing(bus_of(bench, unit)?, clock);
        Ok(Self::with(bench, unit, watch, Wait::new(time, clock)))
    }

    fn with(bench: &'w Bench<'w>, unit: &'w DeviceInfo, watch: PolledWatch<'w>, wait: Wait) -> Self {
        Self { bench, unit, watch, absence: Absence::of(unit), wait }
    }

    /// Returns the events since the last call: at the first event, or none after at most
    /// [`STOP_POLL`].
    ///
    /// # Errors
    /// The bus cannot be listed.
    pub(crate) fn next(&mut self, cx: &Context<'_>) -> Result<Vec<HotplugEvent>, BusError> {
        let changes = self.watch.next(self.wait.slice(cx))?;
        self.absence.observe(self.bench, self.watch.there());
        Ok(changes)
    }

    /// As [`next`](Self::next), for a server that may be temporarily unreachable: returns an
    /// error with an empty list, after a pause.
    pub(crate) fn next_or_error(&mut self, cx: &Context<'_>) -> (Vec<HotplugEvent>, Option<BusError>) {
        match self.next(cx) {
            Ok(changes) => (changes, None),
            Err(error) => {
                cx.clock().sleep(self.wait.slice(cx));
                (Vec::new(), Some(error))
            }
        }
    }

    /// The deadline and the signs of life of this watch.
    pub(crate) fn wait(&mut self) -> &mut Wait {
        &mut self.wait
    }

    /// All devices of the bus at the last observation.
    pub(crate) fn devices(&self) -> &[DeviceInfo] {
        self.watch.there()
    }

    /// The device on the unit's port at the last observation.
    pub(crate) fn on_port(&self) -> Option<&DeviceInfo> {
        self.devices().iter().find(|device| self.bench.is_same_port(&self.unit.location, &device.location))
    }

    /// Whether `device` was attached after the unit left: it has another enumeration number, or
    /// the port was seen empty.
    pub(crate) fn has_returned_as(&self, device: &DeviceInfo) -> bool {
        self.absence.has_ended_with(device)
    }
}

/// The bus that a unit was found on.
fn bus_of<'b>(bench: &'b Bench<'_>, unit: &DeviceInfo) -> Result<&'b dyn Bus, BusError> {
    bench.bus(&unit.location).map(|bus| &**bus).ok_or_else(|| BusError::NotFound(unit.location.clone()))
}
