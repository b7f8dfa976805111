//! The machine's own USB ports.
//!
//! The system's driver is detached from an interface while the interface is claimed, and
//! reattached afterwards. Devices come from the system's list; hotplug events come from udevd if
//! it runs, and otherwise from listing at short intervals, as in containers and on small systems.

use std::collections::BTreeMap;
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::pin::Pin;
use std::sync::{Arc, Mutex, TryLockError};
use std::task::{Context, Poll, Wake, Waker};
use std::thread::Thread;
use std::time::{Duration, Instant};

use futures_core::Stream;
use nusb::hotplug::HotplugWatch;
use nusb::transfer::{
    Buffer, Bulk, BulkOrInterrupt, Completion, ControlIn, ControlOut, ControlType, EndpointDirection, In, Interrupt,
    Out, Recipient,
};
use nusb::{ErrorKind, Interface, MaybeFuture};

use crate::bus::{Bus, BusError, DeviceInfo, InterfaceClass, Location, PolledWatch, SerialNode, Speed};
use crate::clock::Clock;
use crate::device::{EndpointInfo, MAX_PIPE_TRANSFER, PipeKind, Setup, TransferError, UsbDevice};
use crate::kernel_log;
use crate::mounts::{self, Mounted};
use crate::port_device::{KnownUnit, PortDevice};
use crate::sockets;
use crate::system::{self, DEVICES, Program};

/// Exists while a udevd runs that this program can reach. Source: systemd-udevd(8).
const UDEV_SOCKET: &str = "/run/udev/control";

/// Maximum interval between lists, even with notifications from udevd: a container may see the
/// socket without receiving events.
const AT_LEAST: Duration = Duration::from_millis(500);

/// Time for udevd to set the permissions of a new node. Chosen by us.
const TIME_FOR_RULES: Duration = Duration::from_millis(800);

/// Time for the system to create a serial port for a new or reattached unit. Chosen by us.
const TIME_FOR_NODES: Duration = Duration::from_millis(600);

/// The machine's own ports as a bus.
#[derive(Default)]
pub struct NativeBus {
    /// `None` before the first wait, or if no udevd runs.
    watch: Mutex<Option<HotplugWatch>>,
}

impl NativeBus {
    /// The name of this bus.
    pub const NAME: &'static str = "usb";

    /// Creates the bus. Nothing is opened until it is used.
    pub fn new() -> Self {
        Self::default()
    }

    fn devices(&self) -> Result<Vec<nusb::DeviceInfo>, BusError> {
        match nusb::list_devices().wait() {
            Ok(devices) => Ok(devices.collect()),
            Err(_) if !Path::new(DEVICES).exists() => Ok(Vec::new()),
            Err(error) => Err(BusError::Unavailable(error.to_string())),
        }
    }

    fn try_open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let location = Location { bus: Self::NAME.into(), port: port.to_owned() };
        let device = self.devices()?.into_iter().find(|device| port_of(device) == port);
        let found = device.ok_or_else(|| BusError::NotFound(location.clone()))?;
        let node = node(&found);
        match found.open().wait() {
            Ok(device) => {
                Ok(Box::new(NativeDevice { device, found, node, claimed: Vec::new(), unfinished: BTreeMap::new() }))
            }
            Err(error) => Err(match error.kind() {
                ErrorKind::PermissionDenied => BusError::PermissionDenied { location, node, vendor: found.vendor_id() },
                ErrorKind::Busy => BusError::Busy(location),
                _ if !Path::new(&node).exists() && self.has(&found) => BusError::System {
                    location,
                    reason: format!("{node} is missing; it must be passed into the container"),
                },
                ErrorKind::Disconnected | ErrorKind::NotFound => BusError::NotFound(location),
                _ => BusError::System { location, reason: error.to_string() },
            }),
        }
    }

    fn has(&self, wanted: &nusb::DeviceInfo) -> bool {
        self.devices().is_ok_and(|devices| devices.iter().any(|device| device.id() == wanted.id()))
    }
}

/// Whether a udevd runs that this program can reach.
fn udevd_runs() -> bool {
    Path::new(UDEV_SOCKET).exists()
}

/// `1-2.4`, as the system names it.
fn port_of(device: &nusb::DeviceInfo) -> String {
    let chain: Vec<String> = device.port_chain().iter().map(u8::to_string).collect();
    let bus = device.bus_id().trim_start_matches('0');
    format!("{}-{}", if bus.is_empty() { "0" } else { bus }, chain.join("."))
}

fn node(device: &nusb::DeviceInfo) -> String {
    format!("/dev/bus/usb/{}/{:03}", device.bus_id(), device.device_address())
}

fn info(device: &nusb::DeviceInfo) -> DeviceInfo {
    let interface = |interface: &nusb::InterfaceInfo| InterfaceClass {
        class: interface.class(),
        subclass: interface.subclass(),
        protocol: interface.protocol(),
    };
    DeviceInfo {
        location: Location { bus: NativeBus::NAME.into(), port: port_of(device) },
        address: u32::from(device.device_address()),
        speed: match device.speed() {
            Some(nusb::Speed::Low) => Speed::Low,
            Some(nusb::Speed::Full) => Speed::Full,
            Some(nusb::Speed::High) => Speed::High,
            Some(nusb::Speed::Super) => Speed::Super,
            Some(nusb::Speed::SuperPlus) => Speed::SuperPlus,
            _ => Speed::Unknown,
        },
        vendor: device.vendor_id(),
        product: device.product_id(),
        release: device.device_version(),
        interfaces: device.interfaces().map(interface).collect(),
        product_text: device.product_string().map(str::to_owned),
        serial: device.serial_number().map(str::to_owned),
        node: None,
    }
}

impl Bus for NativeBus {
    fn name(&self) -> &str {
        Self::NAME
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        const HUB: u8 = 9;
        let mut devices = self.devices()?;
        devices.retain(|device| device.class() != HUB);
        devices.sort_by_key(|device| (device.busnum(), device.port_chain().to_vec()));
        Ok(devices.iter().map(info).collect())
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let give_up = Instant::now() + TIME_FOR_RULES;
        loop {
            match self.try_open(port) {
                // The node exists before udevd has set its permissions.
                Err(BusError::PermissionDenied { .. }) if udevd_runs() && Instant::now() < give_up => {
                    std::thread::sleep(PolledWatch::INTERVAL);
                }
                other => return other,
            }
        }
    }

    fn empty_reason(&self) -> Option<String> {
        (!Path::new(DEVICES).exists()).then(|| {
            "this machine has no USB, or this program cannot see it (it must be passed into a container)".to_owned()
        })
    }

    fn mounted(&self, port: &str) -> Vec<Mounted> {
        mounts::of_device(&Path::new(DEVICES).join(port))
    }

    fn is_same_port(&self, one: &Location, other: &Location) -> bool {
        one == other || (one.bus == other.bus && sockets::are_peers(Path::new(DEVICES), &one.port, &other.port))
    }

    fn nodes(&self, port: &str) -> Vec<PathBuf> {
        let deadline = Instant::now() + TIME_FOR_NODES;
        loop {
            let interfaces = system::interfaces(&Path::new(DEVICES).join(port));
            let nodes: Vec<PathBuf> = interfaces.iter().flat_map(|interface| interface.nodes.clone()).collect();
            let is_awaited = interfaces.iter().any(|interface| interface.is_serial && interface.driver.is_none());
            if !nodes.is_empty() || !is_awaited || Instant::now() >= deadline {
                return nodes;
            }
            std::thread::sleep(PolledWatch::INTERVAL);
        }
    }

    fn serial_ports(&self, port: &str) -> Vec<SerialNode> {
        let deadline = Instant::now() + TIME_FOR_NODES;
        let device = Path::new(DEVICES).join(port);
        loop {
            let ports = system::serial_nodes(&device);
            if !ports.is_empty() || !device.exists() || Instant::now() >= deadline {
                return ports;
            }
            std::thread::sleep(PolledWatch::INTERVAL);
        }
    }

    fn network_interface(&self, port: &str) -> Option<String> {
        system::network_interfaces(&Path::new(DEVICES).join(port)).into_iter().next()
    }

    fn open_serial(&self, port: &str, interface: Option<u8>) -> Result<Box<dyn UsbDevice>, BusError> {
        let location = Location { bus: Self::NAME.into(), port: port.to_owned() };
        let give_up = Instant::now() + TIME_FOR_RULES;
        loop {
            let ports = self.serial_ports(port);
            let mut fit = ports.iter().filter(|one| interface.is_none_or(|number| one.interface == number));
            let found = fit.next().ok_or_else(|| BusError::NoSerialPort(location.clone()))?;
            match open_node(found, &location) {
                // The port exists before udevd has set its permissions.
                Err(BusError::PortDenied { .. }) if udevd_runs() && Instant::now() < give_up => {
                    std::thread::sleep(PolledWatch::INTERVAL);
                }
                opened => return opened,
            }
        }
    }

    fn trouble(&self, port: &str) -> Option<String> {
        kernel_log::recent_failure(port)
    }

    fn await_change(&self, clock: &dyn Clock, interval: Duration, at_most: Duration) {
        if !udevd_runs() {
            return look_out(clock, interval, at_most.min(AT_LEAST));
        }
        // Another thread listens already and would block this one.
        let mut watch = match self.watch.try_lock() {
            Ok(watch) => watch,
            Err(TryLockError::Poisoned(watch)) => watch.into_inner(),
            Err(TryLockError::WouldBlock) => return look_out(clock, interval, at_most.min(AT_LEAST)),
        };
        if watch.is_none() {
            *watch = nusb::watch_devices().ok();
            // Devices attached before the watch started are not reported; list once more.
            return clock.sleep(at_most.min(interval));
        }
        if let Some(watch) = watch.as_mut() {
            listen(watch, at_most.min(AT_LEAST));
        }
    }
}

/// Opens the serial port that the system made of a unit.
fn open_node(found: &SerialNode, location: &Location) -> Result<Box<dyn UsbDevice>, BusError> {
    let (location, port) = (location.clone(), location.port.clone());
    let node = found.node.display().to_string();
    // A program without exclusive access would take part of the replies.
    if let Some(program) = system::programs_with(std::slice::from_ref(&found.node)).first() {
        return Err(BusError::PortBusy { location, node, by: format!(" ({})", named(program)) });
    }
    let folder = Path::new(DEVICES).join(&port);
    let id = |name: &str| system::attribute(&folder, name).and_then(|text| u16::from_str_radix(&text, 16).ok());
    let unit = KnownUnit {
        ids: ["idVendor", "idProduct", "bcdDevice"].map(|name| id(name).unwrap_or_default()),
        texts: ["manufacturer", "product", "serial"].map(|name| system::attribute(&folder, name)),
    };
    let number = number_of(&port);
    let is_there = Box::new(move || number_of(&port) == number);
    match PortDevice::open(&found.node, unit, found.interface, is_there) {
        Ok(device) => Ok(Box::new(device)),
        Err(error) => Err(match error.kind() {
            io::ErrorKind::PermissionDenied => {
                let group = std::fs::metadata(&found.node).ok().and_then(|about| system::group_name(about.gid()));
                BusError::PortDenied { location, node, group }
            }
            io::ErrorKind::ResourceBusy => BusError::PortBusy { location, node, by: String::new() },
            io::ErrorKind::NotFound => BusError::NoSerialPort(location),
            _ => BusError::System { location, reason: format!("{node}: {error}") },
        }),
    }
}

/// Waits until the system's list changes. Reads only names and numbers, at a small part of the
/// cost of reading every device.
fn look_out(clock: &dyn Clock, interval: Duration, at_most: Duration) {
    let before = numbers();
    let deadline = clock.now() + at_most;
    loop {
        let left = deadline.saturating_sub(clock.now());
        clock.sleep(left.min(interval));
        if left.is_zero() || numbers() != before {
            return;
        }
    }
}

/// The names of all devices, with the numbers that change with every enumeration.
fn numbers() -> Vec<(String, String)> {
    let entries = std::fs::read_dir(DEVICES).into_iter().flatten().flatten();
    let names = entries.map(|entry| entry.file_name().to_string_lossy().into_owned());
    let mut numbers: Vec<_> = names.filter(|name| !name.contains(':')).map(|name| (number_of(&name), name)).collect();
    numbers.sort();
    numbers
}

/// The number of the device at a port; empty if there is none.
fn number_of(port: &str) -> String {
    std::fs::read_to_string(Path::new(DEVICES).join(port).join("devnum")).unwrap_or_default()
}

/// Wakes the thread that listens.
struct Unpark(Thread);

impl Wake for Unpark {
    fn wake(self: Arc<Self>) {
        self.0.unpark();
    }
}

/// Waits for data on the stream, and consumes all of it.
fn listen(watch: &mut HotplugWatch, at_most: Duration) {
    let waker = Waker::from(Arc::new(Unpark(std::thread::current())));
    let mut context = Context::from_waker(&waker);
    let deadline = Instant::now() + at_most;
    let mut heard = false;
    loop {
        match Pin::new(&mut *watch).poll_next(&mut context) {
            Poll::Ready(Some(_)) => heard = true,
            Poll::Ready(None) => return,
            Poll::Pending => {
                let left = deadline.saturating_duration_since(Instant::now());
                if heard || left.is_zero() {
                    return;
                }
                std::thread::park_timeout(left);
            }
        }
    }
}

/// An open device, with the interfaces that were claimed on it.
struct NativeDevice {
    device: nusb::Device,
    found: nusb::DeviceInfo,
    node: String,
    claimed: Vec<Interface>,
    /// Whole packets of a transfer to the host that timed out before its end, by endpoint address.
    /// The device does not send them again, so the next read starts with them.
    unfinished: BTreeMap<u8, Vec<u8>>,
}

impl Drop for NativeDevice {
    /// Interfaces are released in reverse order: a driver of several interfaces, such as that of
    /// serial ports, claims all of them when it is offered the first one, and fails if another
    /// one is still claimed.
    fn drop(&mut self) {
        while self.claimed.pop().is_some() {}
    }
}

impl NativeDevice {
    fn interface_with(&self, pipe: EndpointInfo) -> Result<&Interface, TransferError> {
        let has = |interface: &&Interface| {
            interface.descriptor().is_some_and(|setting| setting.endpoints().any(|e| e.address() == pipe.address))
        };
        let none = TransferError::Unsupported("no claimed interface has that endpoint");
        self.claimed.iter().find(has).ok_or(none)
    }

    fn on_pipe<K: BulkOrInterrupt, D: EndpointDirection>(
        &self,
        pipe: EndpointInfo,
        buffer: Buffer,
        timeout: Duration,
    ) -> Result<Completion, TransferError> {
        let mut endpoint = self.endpoint::<K, D>(pipe)?;
        Ok(endpoint.transfer_blocking(buffer, timeout))
    }

    /// An endpoint of a claimed interface. The thread that completes transfers may keep the endpoint of the
    /// last one for a moment.
    fn endpoint<K: BulkOrInterrupt, D: EndpointDirection>(
        &self,
        pipe: EndpointInfo,
    ) -> Result<nusb::Endpoint<K, D>, TransferError> {
        const RELEASE: Duration = Duration::from_millis(200);
        let interface = self.interface_with(pipe)?;
        let deadline = Instant::now() + RELEASE;
        loop {
            match interface.endpoint::<K, D>(pipe.address) {
                Err(error) if error.kind() == ErrorKind::Busy && Instant::now() < deadline => std::thread::yield_now(),
                opened => return opened.map_err(other),
            }
        }
    }

    /// A program that has the serial port or raw device of an interface open: claiming the
    /// interface would disconnect it.
    fn user(&self, interface: u8) -> Option<String> {
        let folder = format!("{DEVICES}/{}:1.{interface}", port_of(&self.found));
        let program = system::programs_with(&system::nodes(Path::new(&folder))).into_iter().next()?;
        Some(format!(" ({}, which has {} open)", named(&program), program.node.display()))
    }

    /// The user of an interface, as far as the system reports it.
    fn holder(&self, interface: u8) -> String {
        let path = format!("{DEVICES}/{0}:1.{interface}/driver", port_of(&self.found));
        let driver = std::fs::read_link(path).ok();
        let driver = driver.as_deref().and_then(Path::file_name).and_then(|name| name.to_str());
        match (system::programs_with(&[PathBuf::from(&self.node)]).first(), driver) {
            (Some(program), _) => format!(" ({})", named(program)),
            (None, Some(driver)) if driver != "usbfs" => format!(" (driver {driver})"),
            _ => String::new(),
        }
    }
}

fn named(program: &Program) -> String {
    format!("program '{}', process {}", program.name, program.process)
}

fn other(error: nusb::Error) -> TransferError {
    match error.kind() {
        ErrorKind::Disconnected => TransferError::Disconnected,
        ErrorKind::Busy => TransferError::Busy(String::new()),
        _ => TransferError::Failed(error.to_string()),
    }
}

fn transfer_error(error: nusb::transfer::TransferError) -> TransferError {
    use nusb::transfer::TransferError as Native;
    match error {
        Native::Cancelled => TransferError::Timeout,
        Native::Stall => TransferError::Stall,
        Native::Disconnected => TransferError::Disconnected,
        error => TransferError::Failed(error.to_string()),
    }
}

/// Converts bmRequestType for nusb. Source: USB 2.0, table 9-2.
fn kind_of(kind: u8) -> Result<(ControlType, Recipient), TransferError> {
    let control_type = match kind >> 5 & 3 {
        0 => ControlType::Standard,
        1 => ControlType::Class,
        2 => ControlType::Vendor,
        _ => return Err(TransferError::Unsupported("a request of the reserved type")),
    };
    let recipient = match kind & 0x1F {
        0 => Recipient::Device,
        1 => Recipient::Interface,
        2 => Recipient::Endpoint,
        _ => Recipient::Other,
    };
    Ok((control_type, recipient))
}

impl UsbDevice for NativeDevice {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let (control_type, recipient) = kind_of(setup.kind)?;
        let Setup { request, value, index, .. } = setup;
        let transfer = ControlIn { control_type, recipient, request, value, index, length };
        self.device.control_in(transfer, timeout).wait().map_err(transfer_error)
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let (control_type, recipient) = kind_of(setup.kind)?;
        let Setup { request, value, index, .. } = setup;
        let transfer = ControlOut { control_type, recipient, request, value, index, data };
        self.device.control_out(transfer, timeout).wait().map_err(transfer_error)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        let claimed = self.claimed.iter().position(|claimed| claimed.interface_number() == interface);
        let at = match claimed {
            Some(at) => at,
            None => {
                if let Some(user) = self.user(interface) {
                    return Err(TransferError::Busy(user));
                }
                let claimed = self.device.detach_and_claim_interface(interface).wait();
                self.claimed.push(claimed.map_err(|error| match error.kind() {
                    ErrorKind::Busy => TransferError::Busy(self.holder(interface)),
                    _ => other(error),
                })?);
                self.claimed.len() - 1
            }
        };
        let interface = &self.claimed[at];
        // A device with setting 0 only may reject SET_INTERFACE.
        if interface.get_alt_setting() == alternate {
            return Ok(());
        }
        interface.set_alt_setting(alternate).wait().map_err(other)
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        let mut data = self.unfinished.remove(&pipe.address).unwrap_or_default();
        let room = length.min(MAX_PIPE_TRANSFER).saturating_sub(data.len());
        if room == 0 {
            return Ok(data);
        }
        let buffer = Buffer::new(room);
        let done = match pipe.kind {
            PipeKind::Bulk => self.on_pipe::<Bulk, In>(pipe, buffer, timeout),
            PipeKind::Interrupt => self.on_pipe::<Interrupt, In>(pipe, buffer, timeout),
        }?;
        data.extend_from_slice(&done.buffer);
        // Source: USB 2.0, 5.8.3: a transfer ends when it is full or with a short packet.
        let is_complete =
            done.actual_len > 0 && (done.actual_len == room || !done.actual_len.is_multiple_of(pipe.packet.into()));
        match done.status {
            // The transfer ended before the cancellation took effect.
            Err(nusb::transfer::TransferError::Cancelled) if is_complete => Ok(data),
            Err(error) => {
                if error == nusb::transfer::TransferError::Cancelled && !data.is_empty() {
                    self.unfinished.insert(pipe.address, data);
                }
                Err(transfer_error(error))
            }
            Ok(()) => Ok(data),
        }
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        if data.len() > MAX_PIPE_TRANSFER {
            return Err(TransferError::Unsupported("more than 64 KiB in one transfer"));
        }
        let buffer = Buffer::from(data.to_vec());
        match pipe.kind {
            PipeKind::Bulk => self.on_pipe::<Bulk, Out>(pipe, buffer, timeout),
            PipeKind::Interrupt => self.on_pipe::<Interrupt, Out>(pipe, buffer, timeout),
        }?
        .status
        .map_err(transfer_error)
    }

    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        self.unfinished.remove(&pipe.address);
        let cleared = match (pipe.kind, pipe.is_in()) {
            (PipeKind::Bulk, true) => self.endpoint::<Bulk, In>(pipe)?.clear_halt().wait(),
            (PipeKind::Bulk, false) => self.endpoint::<Bulk, Out>(pipe)?.clear_halt().wait(),
            (PipeKind::Interrupt, true) => self.endpoint::<Interrupt, In>(pipe)?.clear_halt().wait(),
            (PipeKind::Interrupt, false) => self.endpoint::<Interrupt, Out>(pipe)?.clear_halt().wait(),
        };
        cleared.map_err(other)
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        const LOOK: Duration = Duration::from_millis(5);
        let deadline = Instant::now() + within;
        loop {
            let there = number_of(&port_of(&self.found)).trim() == self.found.device_address().to_string();
            if !there || Instant::now() >= deadline {
                return !there;
            }
            std::thread::sleep(LOOK);
        }
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.unfinished.clear();
        match self.device.reset().wait() {
            // The device returned with other descriptors: the system enumerates it again.
            Err(error) if error.kind() == ErrorKind::Disconnected => Ok(()),
            other_result => other_result.map_err(other),
        }
    }
}
