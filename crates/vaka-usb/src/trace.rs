//! A bus that records its traffic, so that a run can be examined elsewhere.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use crate::bus::{Bus, BusError, DeviceInfo, Location, SerialNode};
use crate::clock::Clock;
use crate::device::{EndpointInfo, Setup, TransferError, UsbDevice};
use crate::mounts::Mounted;

/// The content of a transfer, as a record shows it.
#[derive(Clone, Copy, Debug)]
pub enum Content<'a> {
    /// The bytes.
    Bytes(&'a [u8]),
    /// A secret of this many bytes.
    Concealed(usize),
}

/// One recorded action on a bus.
#[derive(Clone, Debug)]
pub enum Record<'a> {
    /// The list, when it is another one than before.
    List {
        /// The bus.
        bus: &'a str,
        /// The devices.
        devices: &'a [DeviceInfo],
    },
    /// A device was opened; it gets a number.
    Open {
        /// Its number from now on.
        device: u32,
        /// Its port.
        port: &'a str,
        /// The serial port of the system through which it is reached, if it is.
        node: Option<&'a Path>,
        /// The error, if it could not be opened.
        error: Option<&'a BusError>,
    },
    /// A control transfer to the host.
    ControlIn {
        /// Number of the device.
        device: u32,
        /// The eight bytes of the setup packet.
        setup: [u8; 8],
        /// The reply.
        reply: Result<Content<'a>, &'a TransferError>,
        /// Duration.
        took: Duration,
    },
    /// A control transfer to the device.
    ControlOut {
        /// Number of the device.
        device: u32,
        /// The eight bytes of the setup packet.
        setup: [u8; 8],
        /// The data.
        data: Content<'a>,
        /// The result.
        done: &'a Result<(), TransferError>,
        /// Duration.
        took: Duration,
    },
    /// A transfer from a pipe.
    PipeIn {
        /// Number of the device.
        device: u32,
        /// bEndpointAddress.
        endpoint: u8,
        /// The reply.
        reply: Result<Content<'a>, &'a TransferError>,
        /// Duration.
        took: Duration,
    },
    /// A transfer to a pipe.
    PipeOut {
        /// Number of the device.
        device: u32,
        /// bEndpointAddress.
        endpoint: u8,
        /// The data.
        data: Content<'a>,
        /// The result.
        done: &'a Result<(), TransferError>,
        /// Duration.
        took: Duration,
    },
    /// Another action on a device: `claim 0.1`, `reset`, `clear-halt 81`.
    Act {
        /// Number of the device.
        device: u32,
        /// The action.
        what: &'a str,
        /// The result.
        done: &'a Result<(), TransferError>,
    },
    /// The purpose of the next transfers: an operation of a dialect, and its arguments.
    Operation {
        /// Number of the device.
        device: u32,
        /// The dialect.
        dialect: &'a str,
        /// The operation.
        name: &'a str,
        /// Names and values; bytes as hex digits.
        given: &'a [(String, String)],
    },
    /// A device was closed.
    Close {
        /// Number of the device.
        device: u32,
    },
}

/// The destination of records, with their time since a fixed moment.
pub trait Sink: Send + Sync {
    /// Stores one record.
    fn take(&self, record: &Record<'_>);
}

/// Records a bus's traffic to a sink.
pub struct TracedBus {
    bus: Arc<dyn Bus>,
    sink: Arc<dyn Sink>,
    last: Mutex<Option<Vec<DeviceInfo>>>,
    opened: AtomicU32,
}

impl TracedBus {
    /// Records the traffic of `bus` to `sink`.
    pub fn new(bus: Arc<dyn Bus>, sink: Arc<dyn Sink>) -> Self {
        Self { bus, sink, last: Mutex::default(), opened: AtomicU32::new(0) }
    }

    fn traced(&self, port: &str, opened: Result<Box<dyn UsbDevice>, BusError>) -> Result<Box<dyn UsbDevice>, BusError> {
        let device = self.opened.fetch_add(1, Ordering::Relaxed) + 1;
        let node = opened.as_ref().ok().and_then(|device| device.node());
        self.sink.take(&Record::Open { device, port, node, error: opened.as_ref().err() });
        Ok(Box::new(Traced { device: opened?, sink: self.sink.clone(), number: device, is_secret: false }))
    }
}

impl Bus for TracedBus {
    fn name(&self) -> &str {
        self.bus.name()
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        let devices = self.bus.list()?;
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if last.as_ref() != Some(&devices) {
            self.sink.take(&Record::List { bus: self.bus.name(), devices: &devices });
            *last = Some(devices.clone());
        }
        Ok(devices)
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        self.traced(port, self.bus.open(port))
    }

    fn network_interface(&self, port: &str) -> Option<String> {
        self.bus.network_interface(port)
    }

    fn serial_ports(&self, port: &str) -> Vec<SerialNode> {
        self.bus.serial_ports(port)
    }

    fn open_serial(&self, port: &str, interface: Option<u8>) -> Result<Box<dyn UsbDevice>, BusError> {
        self.traced(port, self.bus.open_serial(port, interface))
    }

    fn empty_reason(&self) -> Option<String> {
        self.bus.empty_reason()
    }

    fn resets_on_close(&self) -> bool {
        self.bus.resets_on_close()
    }

    fn mounted(&self, port: &str) -> Vec<Mounted> {
        self.bus.mounted(port)
    }

    fn is_same_port(&self, one: &Location, other: &Location) -> bool {
        self.bus.is_same_port(one, other)
    }

    fn nodes(&self, port: &str) -> Vec<PathBuf> {
        self.bus.nodes(port)
    }

    fn trouble(&self, port: &str) -> Option<String> {
        self.bus.trouble(port)
    }

    fn await_change(&self, clock: &dyn Clock, interval: Duration, at_most: Duration) {
        self.bus.await_change(clock, interval, at_most);
    }
}

struct Traced {
    device: Box<dyn UsbDevice>,
    sink: Arc<dyn Sink>,
    number: u32,
    is_secret: bool,
}

impl Traced {
    fn content<'b>(&self, bytes: &'b [u8]) -> Content<'b> {
        if self.is_secret { Content::Concealed(bytes.len()) } else { Content::Bytes(bytes) }
    }

    fn act(&self, what: &str, done: Result<(), TransferError>) -> Result<(), TransferError> {
        self.sink.take(&Record::Act { device: self.number, what, done: &done });
        done
    }
}

impl UsbDevice for Traced {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let began = Instant::now();
        let reply = self.device.control_in(setup, length, timeout);
        let (device, setup, took) = (self.number, setup.bytes(length), began.elapsed());
        let seen = reply.as_deref().map(|bytes| self.content(bytes));
        self.sink.take(&Record::ControlIn { device, setup, reply: seen, took });
        reply
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let began = Instant::now();
        let done = self.device.control_out(setup, data, timeout);
        let length = u16::try_from(data.len()).unwrap_or(u16::MAX);
        let (device, setup, took) = (self.number, setup.bytes(length), began.elapsed());
        let data = self.content(data);
        self.sink.take(&Record::ControlOut { device, setup, data, done: &done, took });
        done
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        let done = self.device.claim(interface, alternate);
        self.act(&format!("claim {interface}.{alternate}"), done)
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        let began = Instant::now();
        let reply = self.device.read_endpoint(pipe, length, timeout);
        let (device, endpoint, took) = (self.number, pipe.address, began.elapsed());
        let seen = reply.as_deref().map(|bytes| self.content(bytes));
        self.sink.take(&Record::PipeIn { device, endpoint, reply: seen, took });
        reply
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let began = Instant::now();
        let done = self.device.write_endpoint(pipe, data, timeout);
        let (device, endpoint, took) = (self.number, pipe.address, began.elapsed());
        let data = self.content(data);
        self.sink.take(&Record::PipeOut { device, endpoint, data, done: &done, took });
        done
    }

    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        let done = self.device.clear_halt(pipe);
        self.act(&format!("clear-halt {:02x}", pipe.address), done)
    }

    fn takes_notes(&self) -> bool {
        true
    }

    fn note(&mut self, dialect: &str, operation: &str, given: &[(String, String)]) {
        self.sink.take(&Record::Operation { device: self.number, dialect, name: operation, given });
    }

    fn conceal(&mut self, is_secret: bool) {
        self.is_secret = is_secret;
    }

    fn node(&self) -> Option<&Path> {
        self.device.node()
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        let left = self.device.wait_for_disconnect(within);
        if left {
            let _ = self.act("left", Ok(()));
        }
        left
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        let done = self.device.reset();
        self.act("reset", done)
    }
}

impl Drop for Traced {
    fn drop(&mut self) {
        self.sink.take(&Record::Close { device: self.number });
    }
}
