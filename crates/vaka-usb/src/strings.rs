//! Descriptors and strings, fetched from a device.

use std::time::Duration;

use crate::clock::Clock;
use crate::descriptor::{Configuration, DeviceDescriptor, kind};
use crate::device::{Setup, TransferError, UsbDevice};

/// Time for a standard request. Source: USB 2.0, section 9.2.6.4 (5 s).
const STANDARD_TIMEOUT: Duration = Duration::from_secs(5);

/// Time for all requests of one identification. Chosen by us: some hundred times what a unit needs,
/// and short enough that a command ends within ten seconds.
const IDENTIFICATION_TIME: Duration = Duration::from_secs(8);
/// Requests without a reply after which no more are sent. Chosen by us: a unit that is silent once
/// may have been busy.
const MOST_SILENCES: u8 = 2;

/// The time that a unit has for the requests of its identification, all together.
pub struct Patience<'c> {
    clock: &'c dyn Clock,
    end: Duration,
    silences: u8,
}

impl<'c> Patience<'c> {
    /// Starts the time.
    pub fn new(clock: &'c dyn Clock) -> Self {
        Self { clock, end: clock.now() + IDENTIFICATION_TIME, silences: 0 }
    }

    /// Sends a standard request, if there is time left.
    fn ask(&mut self, device: &mut dyn UsbDevice, setup: Setup, len: u16) -> Result<Vec<u8>, TransferError> {
        let left = self.end.saturating_sub(self.clock.now());
        if left.is_zero() || self.silences >= MOST_SILENCES {
            return Err(TransferError::Timeout);
        }
        let reply = device.control_in(setup, len, STANDARD_TIMEOUT.min(left));
        self.silences += u8::from(reply == Err(TransferError::Timeout));
        reply
    }
}

/// English (US), which nearly every device has. Source: USB language ids.
const ENGLISH: u16 = 0x0409;

/// Reads the device descriptor.
///
/// # Errors
/// The transfer failed, or the reply is not a device descriptor.
pub fn device_descriptor(
    device: &mut dyn UsbDevice,
    patience: &mut Patience<'_>,
) -> Result<DeviceDescriptor, TransferError> {
    let bytes = patience.ask(device, Setup::get_descriptor(kind::DEVICE, 0, 0), 18)?;
    DeviceDescriptor::parse(&bytes).ok_or_else(|| TransferError::Failed("its device descriptor is invalid".into()))
}

/// Reads the first configuration.
///
/// # Errors
/// The transfer failed, or the reply is not a configuration.
pub fn configuration(device: &mut dyn UsbDevice, patience: &mut Patience<'_>) -> Result<Configuration, TransferError> {
    let setup = Setup::get_descriptor(kind::CONFIGURATION, 0, 0);
    let head = patience.ask(device, setup, 9)?;
    let total = match head[..] {
        [_, _, low, high, ..] => u16::from_le_bytes([low, high]).max(9),
        _ => 9,
    };
    let bytes = patience.ask(device, setup, total)?;
    Configuration::parse(&bytes).ok_or_else(|| TransferError::Failed("its configuration descriptor is invalid".into()))
}

/// Reads a class descriptor of an interface. Many devices refuse that.
///
/// # Errors
/// The transfer failed.
pub fn class_descriptor(
    device: &mut dyn UsbDevice,
    kind: u8,
    interface: u8,
    patience: &mut Patience<'_>,
) -> Result<Vec<u8>, TransferError> {
    let setup = Setup { kind: 0x81, ..Setup::get_descriptor(kind, 0, u16::from(interface)) };
    patience.ask(device, setup, 64)
}

/// Reads strings in the device's English, or its first language.
#[derive(Clone, Copy, Debug)]
pub struct StringReader {
    language: u16,
}

impl StringReader {
    /// Queries the languages of the device. Defaults to English if the device reports none.
    ///
    /// # Errors
    /// The device is gone, or does not answer.
    pub fn of(device: &mut dyn UsbDevice, patience: &mut Patience<'_>) -> Result<Self, TransferError> {
        let list = patiently(device, Setup::get_descriptor(kind::STRING, 0, 0), patience)?.unwrap_or_default();
        let languages: Vec<u16> = text_units(&list).collect();
        let language = match languages.first() {
            Some(first) if !languages.contains(&ENGLISH) => *first,
            _ => ENGLISH,
        };
        Ok(Self { language })
    }

    /// The string with this index; `None` if the index is 0, the device rejects it, or the string
    /// is empty. The text is unsanitized.
    ///
    /// # Errors
    /// The device is gone, or does not answer.
    pub fn get(
        self,
        device: &mut dyn UsbDevice,
        index: u8,
        patience: &mut Patience<'_>,
    ) -> Result<Option<String>, TransferError> {
        if index == 0 {
            return Ok(None);
        }
        let bytes = patiently(device, Setup::get_descriptor(kind::STRING, index, self.language), patience)?;
        let text: String = char::decode_utf16(text_units(&bytes.unwrap_or_default()))
            .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
            .collect();
        let empty = text.trim_matches(|c: char| c == '\0' || c.is_whitespace()).is_empty();
        Ok((!empty).then_some(text))
    }
}

/// Requests a string descriptor, twice if necessary: some devices reject the first request after
/// they were attached. `None` if both are rejected. A missing reply is not a rejection: the
/// string is unknown.
fn patiently(
    device: &mut dyn UsbDevice,
    setup: Setup,
    patience: &mut Patience<'_>,
) -> Result<Option<Vec<u8>>, TransferError> {
    let mut last = None;
    for _ in 0..2 {
        match patience.ask(device, setup, 255) {
            Ok(bytes) => return Ok(Some(bytes)),
            Err(TransferError::Disconnected) => return Err(TransferError::Disconnected),
            Err(error) => last = Some(error),
        }
    }
    match last {
        Some(error @ (TransferError::Timeout | TransferError::Failed(_))) => Err(error),
        _ => Ok(None),
    }
}

/// The 16-bit units of a string descriptor: up to bLength or the end of the reply, without an odd
/// last byte.
fn text_units(bytes: &[u8]) -> impl Iterator<Item = u16> + '_ {
    let len = match bytes {
        [len, kind::STRING, ..] => usize::from(*len).min(bytes.len()),
        _ => 0,
    };
    bytes.get(2..len).unwrap_or_default().chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn string_descriptors_are_cut_to_what_is_sound() {
        let units = |bytes: &[u8]| text_units(bytes).collect::<Vec<_>>();
        assert_eq!(units(&[6, 3, b'O', 0, b'k', 0]), [0x4F, 0x6B]);
        assert_eq!(units(&[4, 3, b'O', 0, b'k', 0]), [0x4F]);
        assert_eq!(units(&[255, 3, b'O', 0, b'k']), [0x4F]);
        assert_eq!(units(&[6, 4, b'O', 0, b'k', 0]), Vec::<u16>::new());
        assert_eq!(units(&[1, 3]), Vec::<u16>::new());
        assert_eq!(units(&[]), Vec::<u16>::new());
    }
}
