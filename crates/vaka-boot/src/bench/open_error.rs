//! Why a unit cannot be opened or identified, and the failure that is reported then.

use vaka_core::event::{ExitCode, Failure};
use vaka_usb::{BusError, TransferError};

use crate::protocol::session::SessionError;

/// Why a unit cannot be looked at.
#[derive(Clone, Debug, thiserror::Error, PartialEq, Eq)]
pub enum OpenError {
    /// It cannot be opened.
    #[error(transparent)]
    Bus(#[from] BusError),
    /// It does not answer as it should.
    #[error(transparent)]
    Transfer(#[from] TransferError),
    /// Its disk cannot be read.
    #[error(transparent)]
    Disk(#[from] SessionError),
    /// It does not answer in its dialect.
    #[error("it does not answer in its dialect {name}: {error}")]
    Dialect {
        /// The dialect.
        name: String,
        /// Why.
        error: SessionError,
    },
}

/// A bus error as a failure, with its cure.
pub fn bus_failure(error: &BusError) -> Failure {
    let (code, cure) = match error {
        BusError::Unreachable { .. } => (
            ExitCode::Access,
            "Is the USB/IP server running there, and is that its port? Then run the same command again.",
        ),
        BusError::Protocol { .. } => (ExitCode::Access, "Is this the port of a USB/IP server (version 1.1.1)?"),
        BusError::Busy(_) => (ExitCode::Access, "End the program that uses it, then run the same command again."),
        BusError::PermissionDenied { vendor, .. } => return no_rights(error, *vendor),
        BusError::Unavailable(_) => {
            (ExitCode::Access, "May this user see /sys/bus/usb? Or name a server: --bus usbip://HOST[:PORT].")
        }
        BusError::NotFound(_) => (ExitCode::NoUnit, "Plug it in, or see with 'vaka survey' where it is."),
        _ => (ExitCode::Access, "Unplug the unit and plug it in again."),
    };
    Failure::new(code, sentence(error)).cure(cure)
}

/// An error with a capital and a full stop.
fn sentence(error: &BusError) -> String {
    let words = error.to_string();
    let mut letters = words.chars();
    let first = letters.next().map(|letter| letter.to_uppercase().to_string()).unwrap_or_default();
    // A name such as usbip://… stays as it is.
    if words.starts_with("usbip:") { format!("{words}.") } else { format!("{first}{}.", letters.as_str()) }
}

/// The cure is a rule for the system's device manager, ready to be copied.
fn no_rights(error: &BusError, vendor: u16) -> Failure {
    Failure::new(ExitCode::Access, sentence(error)).state("Nothing was changed in it.").cure(format!(
        "As root, put this line into /etc/udev/rules.d/70-vaka.rules and plug the unit in anew ('vaka setup rules' makes such lines for all units of your sheets):\n  \
         SUBSYSTEM==\"usb\", ATTR{{idVendor}}==\"{vendor:04x}\", MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\""
    ))
}

/// What is said when a unit cannot be opened or read.
pub fn open_failure(error: &OpenError, place: &str) -> Failure {
    match error {
        OpenError::Bus(error) => bus_failure(error),
        OpenError::Transfer(TransferError::Busy(by))
        | OpenError::Disk(SessionError::Busy(by))
        | OpenError::Dialect { error: SessionError::Busy(by), .. } => held(place, by),
        OpenError::Dialect { name, error } => {
            Failure::new(ExitCode::Transfer, format!("The unit at {place} does not answer in its dialect {name}: {error}."))
                .state("Nothing was changed in it.")
                .cure("Unplug it, bring it into update mode again and run the same command; --trace FILE and 'vaka dialect trace' show each frame.")
        }
        OpenError::Disk(error) => {
            Failure::new(ExitCode::Transfer, format!("The disk of the unit at {place} could not be read: {error}."))
                .state("Nothing was changed in it.")
                .cure("Unplug it, plug it in again, and try another cable if that repeats.")
        }
        OpenError::Transfer(error) => {
            Failure::new(ExitCode::Transfer, format!("The unit at {place} could not be asked what it is: {error}."))
                .state("Nothing was changed in it.")
                .cure("Unplug it, plug it in again, and try another cable if that repeats.")
        }
    }
}

/// Another program or a driver holds the interface that is needed.
pub fn held(place: &str, by: &str) -> Failure {
    Failure::new(ExitCode::Access, format!("Another program holds the unit at {place}{by}."))
        .state("Nothing was changed in it.")
        .cure("End that program, then run the same command again.")
}
