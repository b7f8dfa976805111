//! A network interface of Linux as an adapter: it has the requests and pipes of an adapter on a USB
//! port, so that one engine serves both ways to the wire.
//!
//! Source: Linux, `Documentation/networking/can.rst`.

use std::collections::VecDeque;
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use socketcan::{CanAnyFrame, CanFdFrame, CanFdSocket, EmbeddedFrame, Id, Socket, SocketOptions};
use vaka_usb::{EndpointInfo, Setup, TransferError, UsbDevice};

use crate::frame::{CanFrame, CanId};
use crate::wire::{self, FromAdapter, feature, request};

/// The folder of the system's network interfaces.
const INTERFACES: &str = "/sys/class/net";

/// The type of a CAN interface. Source: `linux/if_arp.h`, ARPHRD_CAN.
const TYPE_CAN: &str = "280";

/// The flag of an interface that is up. Source: `linux/if.h`, IFF_UP.
const UP: u32 = 1;

/// Size of a frame with FD, as the MTU of an interface. Source: `linux/can.h`, CANFD_MTU.
const FD_MTU: u32 = 72;

/// Endpoints of the adapter that it stands for.
const PIPE_OUT: u8 = 0x01;
const PIPE_IN: u8 = 0x81;

/// Whether the system has a CAN interface with this name.
pub fn exists(name: &str) -> bool {
    attribute(name, "type").is_some_and(|found| found == TYPE_CAN)
}

/// An attribute of an interface.
fn attribute(name: &str, what: &str) -> Option<String> {
    // The name becomes part of a path.
    let is_plain = Path::new(name).components().count() == 1 && !name.starts_with('.');
    let path = Path::new(INTERFACES).join(name).join(what);
    Some(std::fs::read_to_string(path).ok().filter(|_| is_plain)?.trim().to_owned())
}

fn is_up(name: &str) -> bool {
    let flags = attribute(name, "flags");
    flags.and_then(|text| u32::from_str_radix(text.trim_start_matches("0x"), 16).ok()).is_some_and(|f| f & UP != 0)
}

/// A network interface as an adapter.
pub struct InterfaceDevice {
    socket: CanFdSocket,
    name: String,
    node: PathBuf,
    has_fd: bool,
    /// Numbers and content of the frames that were sent and not seen on the bus yet.
    underway: VecDeque<(u32, CanFrame)>,
}

impl InterfaceDevice {
    /// Opens an interface that is up.
    ///
    /// # Errors
    /// [`NotFound`](io::ErrorKind::NotFound), [`NetworkDown`](io::ErrorKind::NetworkDown), or another
    /// error of the system.
    pub fn open(name: &str) -> io::Result<Self> {
        if !exists(name) {
            return Err(io::ErrorKind::NotFound.into());
        }
        if !is_up(name) {
            return Err(io::ErrorKind::NetworkDown.into());
        }
        let socket = CanFdSocket::open(name)?;
        socket.set_nonblocking(true)?;
        // A frame comes back once it is on the bus: the acknowledge bit was seen.
        socket.set_recv_own_msgs(true)?;
        socket.set_error_filter_accept_all()?;
        let has_fd = attribute(name, "mtu").and_then(|mtu| mtu.parse().ok()).is_some_and(|mtu: u32| mtu >= FD_MTU);
        let (name, node) = (name.to_owned(), PathBuf::from(name));
        Ok(Self { socket, name, node, has_fd, underway: VecDeque::new() })
    }

    fn failed(&self, error: &io::Error) -> TransferError {
        match error.kind() {
            io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut => TransferError::Timeout,
            io::ErrorKind::NetworkDown if exists(&self.name) => {
                TransferError::Failed(format!("the interface {} was set down", self.name))
            }
            _ if !exists(&self.name) => TransferError::Disconnected,
            _ => TransferError::Failed(error.to_string()),
        }
    }

    fn wait(&self, flags: PollFlags, until: Instant) -> Result<(), TransferError> {
        let left = until.saturating_duration_since(Instant::now());
        let time = Timespec::try_from(left).map_err(|_| TransferError::Timeout)?;
        let mut fds = [PollFd::new(&self.socket, flags)];
        match poll(&mut fds, Some(&time)) {
            Ok(0) => Err(TransferError::Timeout),
            Ok(_) | Err(rustix::io::Errno::INTR) => Ok(()),
            Err(error) => Err(self.failed(&error.into())),
        }
    }

    /// The transfer that a frame from the system stands for; `None` for one without meaning here.
    fn transfer(&mut self, frame: CanAnyFrame) -> Option<Vec<u8>> {
        let plain = |id: Id, data: &[u8], is_fd| CanFrame {
            id: match id {
                Id::Standard(id) => CanId::Standard(id.as_raw()),
                Id::Extended(id) => CanId::Extended(id.as_raw()),
            },
            data: data.to_vec(),
            is_fd,
        };
        let frame = match frame {
            CanAnyFrame::Normal(frame) => plain(frame.id(), frame.data(), false),
            CanAnyFrame::Fd(frame) => plain(frame.id(), frame.data(), true),
            CanAnyFrame::Error(error) => {
                let mut data = [0; 8];
                data.iter_mut().zip(error.data()).for_each(|(to, from)| *to = *from);
                return Some(wire::failed(error.error_bits(), data));
            }
            CanAnyFrame::Remote(_) => return None,
        };
        match self.underway.iter().position(|(_, sent)| *sent == frame) {
            Some(at) => self.underway.remove(at).map(|(number, frame)| wire::sent(&frame, number)),
            None => Some(wire::received(&frame)),
        }
    }
}

impl UsbDevice for InterfaceDevice {
    fn control_in(&mut self, setup: Setup, length: u16, _: Duration) -> Result<Vec<u8>, TransferError> {
        let words = |words: &[u32]| words.iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<u8>>();
        // The system has set the timing of bits, so every one is possible here.
        let limits = [80_000_000, 1, 256, 1, 128, 128, 1, 1024, 1];
        let features = if self.has_fd { feature::FD } else { 0 };
        let mut bytes = match (setup.kind, setup.request, setup.value.to_le_bytes()[1]) {
            (wire::VENDOR_IN, request::DEVICE_CONFIG, _) => words(&[0, 1, 1]),
            (wire::VENDOR_IN, request::TIMING_LIMITS, _) => words(&[&[features], &limits[..]].concat()),
            (0x80, 6, 2) => configuration(),
            _ => return Err(TransferError::Stall),
        };
        bytes.truncate(length.into());
        Ok(bytes)
    }

    fn control_out(&mut self, setup: Setup, _: &[u8], _: Duration) -> Result<(), TransferError> {
        match (setup.kind, setup.request) {
            (
                wire::VENDOR_OUT,
                request::MODE | request::HOST_FORMAT | request::BIT_TIMING | request::DATA_BIT_TIMING,
            ) => Ok(()),
            _ => Err(TransferError::Stall),
        }
    }

    fn claim(&mut self, _: u8, _: u8) -> Result<(), TransferError> {
        Ok(())
    }

    fn read_endpoint(&mut self, _: EndpointInfo, _: usize, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let until = Instant::now() + timeout;
        loop {
            match self.socket.read_frame() {
                Ok(frame) => {
                    if let Some(transfer) = self.transfer(frame) {
                        return Ok(transfer);
                    }
                }
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => self.wait(PollFlags::IN, until)?,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(self.failed(&error)),
            }
        }
    }

    fn write_endpoint(&mut self, _: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        let until = Instant::now() + timeout;
        let number = data.first_chunk().map(|bytes| u32::from_le_bytes(*bytes));
        // The transfer of a frame to send reads like that of a received one.
        let as_received = [&u32::MAX.to_le_bytes()[..], data.get(4..).unwrap_or_default()].concat();
        let (Some(number), Some((FromAdapter::Received(frame), _))) = (number, wire::receiving(&as_received)) else {
            return Err(TransferError::Unsupported("the transfer is not a frame"));
        };
        let made = made(&frame).ok_or(TransferError::Unsupported("the frame is not possible"))?;
        self.underway.push_back((number, frame));
        loop {
            match self.socket.write_frame(&made) {
                Ok(()) => return Ok(()),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => self.wait(PollFlags::OUT, until)?,
                // The queue of the interface is full; it has no event for that.
                Err(error) if error.raw_os_error() == Some(rustix::io::Errno::NOBUFS.raw_os_error()) => {
                    if Instant::now() >= until {
                        return Err(TransferError::Timeout);
                    }
                    std::thread::sleep(Duration::from_millis(1));
                }
                Err(error) => return Err(self.failed(&error)),
            }
        }
    }

    fn clear_halt(&mut self, _: EndpointInfo) -> Result<(), TransferError> {
        Ok(())
    }

    fn node(&self) -> Option<&Path> {
        Some(&self.node)
    }

    fn wait_for_disconnect(&mut self, _: Duration) -> bool {
        !exists(&self.name)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        Err(TransferError::Unsupported("a network interface cannot be reset"))
    }
}

/// A frame in the form of the system.
fn made(frame: &CanFrame) -> Option<CanAnyFrame> {
    let id = match frame.id {
        CanId::Standard(id) => Id::Standard(socketcan::StandardId::new(id)?),
        CanId::Extended(id) => Id::Extended(socketcan::ExtendedId::new(id)?),
    };
    match frame.is_fd {
        true => CanFdFrame::with_flags(id, &frame.data, socketcan::id::FdFlags::BRS).map(CanAnyFrame::Fd),
        false => socketcan::CanFrame::new(id, &frame.data).map(|frame| match frame {
            socketcan::CanFrame::Data(frame) => CanAnyFrame::Normal(frame),
            socketcan::CanFrame::Remote(frame) => CanAnyFrame::Remote(frame),
            socketcan::CanFrame::Error(frame) => CanAnyFrame::Error(frame),
        }),
    }
}

/// One interface with a bulk endpoint in each direction. Source: USB 2.0, section 9.6.
fn configuration() -> Vec<u8> {
    let mut bytes = vec![9, 2, 32, 0, 1, 1, 0, 0x80, 50, 9, 4, 0, 0, 2, 0xFF, 0, 0, 0];
    for endpoint in [PIPE_OUT, PIPE_IN] {
        bytes.extend([7, 5, endpoint, 2, 64, 0, 0]);
    }
    bytes
}
