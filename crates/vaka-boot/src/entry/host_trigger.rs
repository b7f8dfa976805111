//! Host signals that bring an application into update mode.

use std::borrow::Cow;
use std::sync::Arc;

use vaka_core::sheet::Signal;
use vaka_core::volume::VolumeFacts;
use vaka_dialect::Dialect;
use vaka_usb::{DeviceInfo, SystemClock, UsbDevice};

use super::procedure::EntryProcedure;
use crate::bench::buses::Bench;
use crate::bench::open_error::{bus_failure, held, open_failure};
use crate::context::Context;
use crate::failure::{Failure, FailureKind, TriggerError, UnitCondition};
use crate::protocol::identity::{self, Identity};
use crate::protocol::session_error::SessionError;
use crate::protocol::{dfu, dialect, volume};
use crate::remedy::Remedy;

/// Sends a signal to the application of a unit.
///
/// # Errors
/// The application rejected it, or another program uses the unit. Nothing was changed in the
/// unit.
pub(super) fn give(
    bench: &Bench<'_>,
    procedure: &EntryProcedure<'_>,
    signal: &Signal,
    cx: &mut Context<'_>,
) -> Result<(), Failure> {
    match signal {
        Signal::DfuDetach => detach(bench, procedure),
        Signal::Eject => eject(bench, procedure, cx),
        Signal::Dialect { dialect } => ask_in_dialect(bench, procedure.unit, dialect, cx),
    }
}

/// Opens the running application; returns its known description, or reads it now.
fn open<'i>(
    bench: &Bench<'_>,
    procedure: &EntryProcedure<'i>,
) -> Result<(Box<dyn UsbDevice>, Cow<'i, Identity>), Failure> {
    let location = &procedure.unit.location;
    let mut device = bench.open(location).map_err(|error| bus_failure(&error))?;
    let identity = match procedure.identity {
        Some(identity) => Cow::Borrowed(identity),
        None => Cow::Owned(
            identity::identify(&mut *device, &SystemClock)
                .map_err(|error| open_failure(&error.into(), &bench.place(location)))?,
        ),
    };
    Ok((device, identity))
}

/// The application did not obey the signal.
fn refused(place: &str, error: TriggerError) -> Failure {
    Failure::new(FailureKind::Trigger { place: place.to_owned(), error })
        .unit(UnitCondition::UnchangedAndRunning)
        .remedy(Remedy::EnterByHand)
}

/// Ejects the disk that the application shows.
fn eject(bench: &Bench<'_>, procedure: &EntryProcedure<'_>, cx: &mut Context<'_>) -> Result<(), Failure> {
    let location = &procedure.unit.location;
    let place = bench.place(location);
    let mounted = bench.bus(location).map(|bus| bus.mounted(&location.port)).unwrap_or_default();
    if let Some(one) = mounted.first() {
        let (folder, node) = (one.folder.display().to_string(), one.node.display().to_string());
        return Err(Failure::new(FailureKind::DiskMounted { place, folder })
            .unit(UnitCondition::UnchangedAndRunning)
            .remedy(Remedy::EjectMounted { node }));
    }
    let (device, identity) = open(bench, procedure)?;
    if identity.disks.is_empty() {
        return Err(refused(&place, TriggerError::NoDisk));
    }
    let any = |_: &VolumeFacts| true;
    let done = volume::open(device, &identity.disks, &any, cx).and_then(|(mut disk, _)| disk.eject(cx));
    done.map_err(|error| match error {
        SessionError::Busy(by) => held(&place, &by),
        error => refused(&place, TriggerError::Eject(error)),
    })
}

/// Requests update mode from the application in its dialect.
fn ask_in_dialect(
    bench: &Bench<'_>,
    unit: &DeviceInfo,
    dialect: &Arc<Dialect>,
    cx: &mut Context<'_>,
) -> Result<(), Failure> {
    let place = bench.place(&unit.location);
    let device = bench.open_for(unit, dialect, None).map_err(|error| bus_failure(&error))?;
    dialect::enter(device, dialect.clone(), unit.node.as_deref(), bench.secrets(), cx).map_err(|error| match error {
        SessionError::Busy(by) => held(&place, &by),
        error => not_asked(&place, dialect, error),
    })
}

/// The application did not obey in its dialect.
fn not_asked(place: &str, dialect: &Dialect, error: SessionError) -> Failure {
    let own = error.own_remedy();
    let error = TriggerError::Dialect { dialect: dialect.name.clone(), error };
    match own {
        None => refused(place, error),
        Some(remedy) => Failure::new(FailureKind::Trigger { place: place.to_owned(), error })
            .unit(UnitCondition::UnchangedAndRunning)
            .remedy(remedy),
    }
}

/// Asks the application to leave for its DFU mode.
fn detach(bench: &Bench<'_>, procedure: &EntryProcedure<'_>) -> Result<(), Failure> {
    let place = bench.place(&procedure.unit.location);
    let (device, identity) = open(bench, procedure)?;
    let Some(dfu) = identity.facts.run_time_dfu() else {
        let failure = Failure::new(FailureKind::NoDetachInterface { place });
        return Err(failure.unchanged().remedy(Remedy::EnterByHandOldApplication));
    };
    dfu::detach::detach(device, dfu).map_err(|error| match error {
        SessionError::Busy(by) => held(&place, &by),
        error => refused(&place, TriggerError::Detach(error)),
    })
}
