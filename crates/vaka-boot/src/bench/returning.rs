//! Waiting for a unit that left the bus.

use std::time::Duration;

use vaka_usb::{DeviceInfo, HotplugEvent};

use crate::bench::buses::Bench;
use crate::bench::open_error::bus_failure;
use crate::bench::tracking::{PortMatch, TrackedUnit, moved};
use crate::bench::waiting::{UnitWatch, WaitEnd};
use crate::context::{Context, stopped};
use crate::failure::{Failure, FailureKind};
use crate::remedy::Remedy;

/// Waits until the unit returns: with another enumeration, or after its port was seen empty,
/// unless it may have stayed. The unit is the device on its port, or a device with its serial
/// number elsewhere if that number is stable. If the server does not respond, retries until the
/// deadline.
///
/// # Errors
/// The unit does not return in time, the user stops the run, or the bus cannot be listed.
pub fn come_back(
    bench: &Bench<'_>,
    followed: TrackedUnit<'_>,
    may_stay: bool,
    wait: Duration,
    cx: &mut Context<'_>,
) -> Result<DeviceInfo, Failure> {
    let unit = followed.unit;
    let mut watch = UnitWatch::from_nothing(bench, unit, wait, cx.clock()).map_err(|error| bus_failure(&error))?;
    loop {
        let (changes, error) = watch.next_or_error(cx);
        for change in changes {
            let HotplugEvent::Attached(device) = change else { continue };
            match followed.meets(bench, &device, watch.devices()) {
                PortMatch::Here if may_stay || watch.has_returned_as(&device) => return Ok(device),
                PortMatch::Moved => {
                    cx.warn(moved(bench, &device));
                    return Ok(device);
                }
                _ => {}
            }
        }
        match watch.wait().check(|| "the unit to return".to_owned(), cx) {
            None => {}
            Some(WaitEnd::Stopped) => return Err(stopped().unchanged()),
            Some(WaitEnd::TimedOut) => {
                return Err(error.map_or_else(|| not_returned(bench, unit, wait), |error| bus_failure(&error)));
            }
        }
    }
}

fn not_returned(bench: &Bench<'_>, unit: &DeviceInfo, wait: Duration) -> Failure {
    let place = bench.place(&unit.location);
    Failure::new(FailureKind::NotReturned { place, waited: wait }).remedy(Remedy::CheckCableAndReenter)
}
