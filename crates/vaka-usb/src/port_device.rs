//! A serial port of the system as a USB device: its one port has the requests and pipes of CDC-ACM, so
//! that one serial engine serves both ways to a unit.
//!
//! Sources: USB 2.0, section 9.4; CDC 1.2, section 5.2.3; PSTN subclass of CDC 1.2, section 6.3.

use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use crate::descriptor::kind;
use crate::device::{EndpointInfo, Setup, TransferError, UsbDevice};
use crate::system_port::{LineForm, SystemPort};

/// CDC requests. Source: PSTN subclass of CDC 1.2, section 6.3.
const SET_LINE_CODING: u8 = 0x20;
const SET_CONTROL_LINE_STATE: u8 = 0x22;
const SEND_BREAK: u8 = 0x23;

/// Endpoints and packet size of the port, and the number of its control interface.
const PIPE_OUT: u8 = 0x01;
const PIPE_IN: u8 = 0x81;
const PACKET: u8 = 64;
const CONTROL: u8 = 0xFE;

/// Interval at which the presence of the unit is checked.
const LOOK: Duration = Duration::from_millis(5);

/// The description of a unit that the system read from it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct KnownUnit {
    /// idVendor, idProduct, bcdDevice.
    pub ids: [u16; 3],
    /// Manufacturer, product and serial number.
    pub texts: [Option<String>; 3],
}

/// A serial port of the system as a USB device.
pub struct PortDevice {
    port: SystemPort,
    node: PathBuf,
    unit: KnownUnit,
    /// bInterfaceNumber of its data interface.
    interface: u8,
    /// Whether the unit that has the port is still attached.
    is_there: Box<dyn Fn() -> bool + Send>,
}

impl PortDevice {
    /// Opens the port at `node`, as the data interface `interface` of a unit.
    ///
    /// # Errors
    /// As for [`SystemPort::open`].
    pub fn open(
        node: &Path,
        unit: KnownUnit,
        interface: u8,
        is_there: Box<dyn Fn() -> bool + Send>,
    ) -> io::Result<Self> {
        Ok(Self { port: SystemPort::open(node)?, node: node.to_owned(), unit, interface, is_there })
    }

    fn descriptor(&self, value: u16) -> Option<Vec<u8>> {
        let [index, which] = value.to_le_bytes();
        match which {
            kind::DEVICE => Some(self.device_descriptor()),
            kind::CONFIGURATION => Some(self.configuration_descriptor()),
            // The languages: English. Source: USB 2.0, section 9.6.7.
            kind::STRING if index == 0 => Some(vec![4, kind::STRING, 0x09, 0x04]),
            kind::STRING => text_descriptor(self.unit.texts.get(usize::from(index) - 1)?.as_deref()?),
            _ => None,
        }
    }

    fn device_descriptor(&self) -> Vec<u8> {
        let text = |at: u8| if self.unit.texts[usize::from(at) - 1].is_some() { at } else { 0 };
        let mut bytes = vec![18, kind::DEVICE, 0x00, 0x02, 0, 0, 0, PACKET];
        self.unit.ids.iter().for_each(|word| bytes.extend(word.to_le_bytes()));
        bytes.extend([text(1), text(2), text(3), 1]);
        bytes
    }

    fn configuration_descriptor(&self) -> Vec<u8> {
        let data = self.interface;
        let mut bytes = vec![9, kind::CONFIGURATION, 0, 0, 2, 1, 0, 0x80, 50];
        bytes.extend([9, kind::INTERFACE, CONTROL, 0, 0, 0x02, 0x02, 0, 0]);
        // The union of both. Source: CDC 1.2, table 16.
        bytes.extend([5, 0x24, 0x06, CONTROL, data]);
        bytes.extend([9, kind::INTERFACE, data, 0, 2, 0x0A, 0, 0, 0]);
        for endpoint in [PIPE_OUT, PIPE_IN] {
            bytes.extend([7, kind::ENDPOINT, endpoint, 2, PACKET, 0, 0]);
        }
        let total = u8::try_from(bytes.len()).unwrap_or(u8::MAX);
        bytes[2] = total;
        bytes
    }

    fn set_line(&mut self, coding: &[u8]) -> Result<(), TransferError> {
        let &[b0, b1, b2, b3, stop, parity, data_bits] = coding else { return Err(TransferError::Stall) };
        let line = LineForm { baud: u32::from_le_bytes([b0, b1, b2, b3]), data_bits, parity, stop };
        match self.port.set_line(line) {
            // Like a unit without a physical line.
            Ok(false) => Err(TransferError::Stall),
            Err(error) if self.refuses(&error) => Err(TransferError::Stall),
            done => done.map(drop).map_err(|error| failed(&error)),
        }
    }

    /// Whether the driver refuses a setting of a port that is still there.
    fn refuses(&self, error: &io::Error) -> bool {
        (self.is_there)() && !matches!(error.kind(), io::ErrorKind::BrokenPipe | io::ErrorKind::NotConnected)
    }
}

fn text_descriptor(text: &str) -> Option<Vec<u8>> {
    let units: Vec<u8> = text.encode_utf16().take(126).flat_map(u16::to_le_bytes).collect();
    let mut bytes = vec![u8::try_from(units.len() + 2).ok()?, kind::STRING];
    bytes.extend(units);
    Some(bytes)
}

fn failed(error: &io::Error) -> TransferError {
    match error.kind() {
        io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock => TransferError::Timeout,
        io::ErrorKind::ResourceBusy => TransferError::Busy(String::new()),
        // A port that hung up returns its end, or an I/O error.
        _ => TransferError::Disconnected,
    }
}

impl UsbDevice for PortDevice {
    fn control_in(&mut self, setup: Setup, length: u16, _: Duration) -> Result<Vec<u8>, TransferError> {
        let asked = Setup::get_descriptor(0, 0, 0);
        if (setup.kind, setup.request) != (asked.kind, asked.request) {
            return Err(TransferError::Unsupported("a serial port of the system has no such request"));
        }
        let mut bytes = self.descriptor(setup.value).ok_or(TransferError::Stall)?;
        bytes.truncate(length.into());
        Ok(bytes)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], _: Duration) -> Result<(), TransferError> {
        match (setup.kind, setup.request) {
            (Setup::CLASS_INTERFACE_OUT, SET_LINE_CODING) => self.set_line(data),
            (Setup::CLASS_INTERFACE_OUT, SET_CONTROL_LINE_STATE) => {
                match self.port.signal(setup.value & 1 != 0, setup.value & 2 != 0) {
                    // A port without these lines, like a unit without them.
                    Err(error) if self.refuses(&error) => Err(TransferError::Stall),
                    done => done.map_err(|error| failed(&error)),
                }
            }
            (Setup::CLASS_INTERFACE_OUT, SEND_BREAK) => {
                self.port.set_break(setup.value != 0).map_err(|error| failed(&error))
            }
            _ => Err(TransferError::Unsupported("a serial port of the system has no such request")),
        }
    }

    fn claim(&mut self, interface: u8, _: u8) -> Result<(), TransferError> {
        match interface == self.interface || interface == CONTROL {
            true => Ok(()),
            false => Err(TransferError::Unsupported("a serial port of the system has one interface")),
        }
    }

    fn read_endpoint(&mut self, _: EndpointInfo, length: usize, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.port.receive(length, timeout).map_err(|error| failed(&error))
    }

    fn write_endpoint(&mut self, _: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.port.send(data, timeout).map_err(|error| failed(&error))
    }

    fn clear_halt(&mut self, _: EndpointInfo) -> Result<(), TransferError> {
        Ok(())
    }

    fn node(&self) -> Option<&Path> {
        Some(&self.node)
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        let deadline = Instant::now() + within;
        while (self.is_there)() {
            if Instant::now() >= deadline {
                return false;
            }
            std::thread::sleep(LOOK);
        }
        true
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        Err(TransferError::Unsupported("a unit cannot be reset through a serial port of the system"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    use std::fs::File;
    use std::io::{Read, Write};
    use std::sync::Arc;
    use std::sync::atomic::{AtomicBool, Ordering};

    use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};

    use crate::SystemClock;
    use crate::descriptor::Configuration;
    use crate::device::PipeKind;
    use crate::strings::{self, Patience, StringReader};

    const SECOND: Duration = Duration::from_secs(1);

    /// The unit's side of a pseudo-terminal, and the other side as a device that can be unplugged.
    fn device() -> (File, PortDevice, Arc<AtomicBool>) {
        let unit = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
        grantpt(&unit).unwrap();
        unlockpt(&unit).unwrap();
        let node = PathBuf::from(ptsname(&unit, Vec::new()).unwrap().to_str().unwrap());
        let known =
            KnownUnit { ids: [0x1209, 0x000D, 0x0410], texts: [Some("Skerrow".into()), None, Some("F-1".into())] };
        let is_there = Arc::new(AtomicBool::new(true));
        let there = is_there.clone();
        let device = PortDevice::open(&node, known, 1, Box::new(move || there.load(Ordering::Relaxed))).unwrap();
        (File::from(unit), device, is_there)
    }

    #[test]
    fn it_describes_the_unit_and_one_port() {
        let (_unit, mut device, _) = device();
        let patience = &mut Patience::new(&SystemClock);
        let found = strings::device_descriptor(&mut device, patience).unwrap();
        assert_eq!((found.vendor, found.product, found.release), (0x1209, 0x000D, 0x0410));
        let language = StringReader::of(&mut device, patience).unwrap();
        let read = |device: &mut PortDevice, index| language.get(device, index, &mut Patience::new(&SystemClock));
        assert_eq!(read(&mut device, found.serial_string).unwrap().as_deref(), Some("F-1"));
        assert_eq!((found.maker_string, found.product_string), (1, 0));
        let Configuration { interfaces, .. } = strings::configuration(&mut device, patience).unwrap();
        let classes: Vec<(u8, u8)> = interfaces.iter().map(|one| (one.number, one.class)).collect();
        assert_eq!(classes, [(CONTROL, 2), (1, 0x0A)]);
    }

    #[test]
    fn bytes_pass_and_a_hang_up_is_a_unit_that_left() {
        let (mut unit, mut device, is_there) = device();
        let pipe = |address| EndpointInfo { address, kind: PipeKind::Bulk, interval: 0, packet: 64 };
        assert!(device.claim(1, 0).is_ok() && device.claim(2, 0).is_err());
        // Source: PSTN subclass of CDC 1.2, table 17: 9600 bit/s, two stop bits, no parity, 8 bits.
        let setup = |request, value| Setup { kind: 0x21, request, value, index: CONTROL.into() };
        device.control_out(setup(0x20, 0), &[0x80, 0x25, 0, 0, 2, 0, 8], SECOND).unwrap();
        // A pseudo-terminal has no parity.
        let even = device.control_out(setup(0x20, 0), &[0x80, 0x25, 0, 0, 2, 2, 8], SECOND);
        assert_eq!(even, Err(TransferError::Stall));
        // A pseudo-terminal has no control lines.
        assert_eq!(device.control_out(setup(0x22, 3), &[], SECOND), Err(TransferError::Stall));
        device.write_endpoint(pipe(PIPE_OUT), b"hail\r", SECOND).unwrap();
        let mut bytes = [0; 5];
        unit.read_exact(&mut bytes).unwrap();
        assert_eq!(&bytes, b"hail\r");
        unit.write_all(&[3, 0, 7]).unwrap();
        assert_eq!(device.read_endpoint(pipe(PIPE_IN), 64, SECOND).unwrap(), [3, 0, 7]);
        assert_eq!(device.read_endpoint(pipe(PIPE_IN), 64, Duration::from_millis(1)), Err(TransferError::Timeout));
        assert!(!device.wait_for_disconnect(Duration::from_millis(1)));
        is_there.store(false, Ordering::Relaxed);
        drop(unit);
        assert_eq!(device.read_endpoint(pipe(PIPE_IN), 64, SECOND), Err(TransferError::Disconnected));
        assert!(device.wait_for_disconnect(SECOND));
    }
}
