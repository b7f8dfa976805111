//! Why a unit cannot be opened or identified, and the resulting failure.

use vaka_can::CanError;
use vaka_usb::{BusError, TransferError};

use crate::failure::{Failure, FailureKind};
use crate::protocol::session_error::{Loss, SessionError};
use crate::remedy::Remedy;

/// Why a unit cannot be inspected.
#[derive(Clone, Debug, thiserror::Error, PartialEq, Eq)]
pub enum OpenError {
    /// The unit cannot be opened.
    #[error(transparent)]
    Bus(#[from] BusError),
    /// The unit does not reply correctly.
    #[error(transparent)]
    Transfer(#[from] TransferError),
    /// The disk cannot be read.
    #[error(transparent)]
    Disk(#[from] SessionError),
    /// The unit does not reply in its dialect.
    #[error("it does not reply in its dialect {name}: {error}")]
    Dialect {
        /// The dialect.
        name: String,
        /// The error.
        error: SessionError,
    },
}

impl OpenError {
    /// Whether the unit left the bus.
    pub fn is_absence(&self) -> bool {
        let loss = match self {
            Self::Bus(error) => return matches!(error, BusError::NotFound(_)),
            Self::Transfer(error) => SessionError::from(error.clone()).loss(),
            Self::Disk(error) | Self::Dialect { error, .. } => error.loss(),
        };
        loss == Some(Loss::Unit)
    }
}

/// A bus error as a failure, with its remedy.
pub fn bus_failure(error: &BusError) -> Failure {
    let failure = Failure::new(FailureKind::Bus(error.clone()));
    match error {
        BusError::Unreachable { .. } => failure.remedy(Remedy::CheckServer),
        BusError::Protocol { .. } => failure.remedy(Remedy::CheckServerPort),
        BusError::Busy(_) | BusError::PortBusy { .. } => failure.unchanged().remedy(Remedy::EndOtherProgram),
        BusError::PortDenied { group, .. } => failure.unchanged().remedy(Remedy::JoinGroup { group: group.clone() }),
        BusError::Can { .. } => failure.unchanged().remedy(Remedy::CanBus(CanError::NotAcknowledged)),
        BusError::InterfaceDown { name, rate } => {
            failure.unchanged().remedy(Remedy::SetInterfaceUp { name: name.clone(), rate: *rate })
        }
        BusError::NoSerialPort(_) => failure.unchanged().remedy(Remedy::LoadSerialDriver),
        BusError::PermissionDenied { vendor, .. } => {
            failure.unchanged().remedy(Remedy::GrantAccess { vendor: *vendor })
        }
        BusError::Unavailable(_) => failure.remedy(Remedy::CheckUsbAccess),
        BusError::NotFound(_) => failure.remedy(Remedy::PlugIn),
        _ => failure.remedy(Remedy::Replug),
    }
}

/// The failure of a unit that cannot be opened or read.
pub fn open_failure(error: &OpenError, place: &str) -> Failure {
    let place = place.to_owned();
    match error {
        OpenError::Bus(error) => bus_failure(error),
        OpenError::Transfer(TransferError::Busy(by))
        | OpenError::Disk(SessionError::Busy(by))
        | OpenError::Dialect { error: SessionError::Busy(by), .. } => held(&place, by),
        OpenError::Dialect { name, error } => {
            let (dialect, error) = (name.clone(), error.clone());
            let failure = Failure::new(FailureKind::DialectSilent { place, dialect, error });
            failure.unchanged().remedy(Remedy::ReenterAndTrace)
        }
        OpenError::Disk(error) => Failure::new(FailureKind::DiskUnreadable { place, error: error.clone() })
            .unchanged()
            .remedy(Remedy::ReplugOtherCable),
        OpenError::Transfer(error) => Failure::new(FailureKind::NotIdentified { place, error: error.clone() })
            .unchanged()
            .remedy(Remedy::ReplugOtherCable),
    }
}

/// Another program or a driver uses the required interface.
pub fn held(place: &str, by: &str) -> Failure {
    let failure = Failure::new(FailureKind::Held { place: place.to_owned(), by: by.to_owned() });
    failure.unchanged().remedy(Remedy::EndOtherProgram)
}
