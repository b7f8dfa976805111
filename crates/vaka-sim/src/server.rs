//! A world as a USB/IP server.
//!
//! Observably it behaves like the kernel's server: one operation per connection, an imported
//! device is not listed, a port is reset on request or at the end of a connection, and the
//! connection closes when the unit disconnects.

use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use vaka_usb::usbip::wire::{self, DeviceRecord, Message, OpHeader, status};

use crate::usb::{Answer, Bulk, Setup};
use crate::world::{DeviceListing, OpenError, SharedWorld, lock};

/// Interval at which an idle connection checks whether its unit is still attached.
const LOOK_INTERVAL: Duration = Duration::from_millis(10);

/// Interval at which a busy unit is offered a transfer again.
const ASK_INTERVAL: Duration = Duration::from_micros(200);

/// Interval after a long wait: a system polls some endpoints forever.
const PATIENCE: Duration = Duration::from_millis(100);
const ASK_SELDOM: Duration = Duration::from_millis(4);

/// More than any client sends in one transfer; the kernel's own drivers send up to
/// 120 KiB, and 1 MiB on fast buses.
const MAX_PAYLOAD: u32 = 1024 * 1024;

/// A running server. Dropping it ends the list of devices and, within a
/// moment, the connections.
pub struct Server {
    address: SocketAddr,
    stop: Arc<AtomicBool>,
    accepting: Option<JoinHandle<()>>,
}

impl Server {
    /// Serves `world` on `address`; port 0 selects a free port.
    ///
    /// # Errors
    /// The address cannot be listened on.
    pub fn start(world: SharedWorld, address: SocketAddr) -> io::Result<Self> {
        let listener = TcpListener::bind(address)?;
        let address = listener.local_addr()?;
        let stop = Arc::new(AtomicBool::new(false));
        let stop_accepting = stop.clone();
        let accepting = std::thread::spawn(move || accept(&listener, &world, &stop_accepting));
        Ok(Self { address, stop, accepting: Some(accepting) })
    }

    /// The address of the server.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// The bus, in the form of `--bus`.
    pub fn bus(&self) -> String {
        format!("usbip://{}", self.address)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::SeqCst);
        // A connection of our own wakes the thread that waits for one.
        let _ = TcpStream::connect_timeout(&self.address, Duration::from_secs(1));
        if let Some(accepting) = self.accepting.take() {
            let _ = accepting.join();
        }
    }
}

fn accept(listener: &TcpListener, world: &SharedWorld, stop: &Arc<AtomicBool>) {
    for stream in listener.incoming() {
        if stop.load(Ordering::SeqCst) {
            return;
        }
        let Ok(stream) = stream else { continue };
        let (world, stop) = (world.clone(), stop.clone());
        // A client that disconnects or violates the protocol ends only its own connection.
        std::thread::spawn(move || drop(serve(stream, &world, &stop)));
    }
}

fn serve(mut stream: TcpStream, world: &SharedWorld, stop: &AtomicBool) -> io::Result<()> {
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(Duration::from_secs(10)))?;
    let mut header = [0; wire::OP_HEADER_LEN];
    stream.read_exact(&mut header)?;
    let header = OpHeader::parse(&header);
    match (header.version, header.code) {
        (wire::VERSION, wire::OP_REQ_DEVLIST) => stream.write_all(&device_list(world)),
        (wire::VERSION, wire::OP_REQ_IMPORT) => {
            let mut busid = [0; wire::BUSID_LEN];
            stream.read_exact(&mut busid)?;
            import(stream, world, stop, &wire::parse_busid(&busid))
        }
        _ => Ok(()),
    }
}

fn device_list(world: &SharedWorld) -> Vec<u8> {
    let devices = lock(world).list();
    let mut reply = OpHeader::new(wire::OP_REP_DEVLIST, 0).emit().to_vec();
    reply.extend_from_slice(&u32::try_from(devices.len()).unwrap_or(0).to_be_bytes());
    for device in &devices {
        reply.extend_from_slice(&record(device).emit());
        for [class, subclass, protocol] in &device.classes {
            reply.extend_from_slice(&[*class, *subclass, *protocol, 0]);
        }
    }
    reply
}

fn record(device: &DeviceListing) -> DeviceRecord {
    let (vendor, product, release) = device.ids;
    DeviceRecord {
        path: format!("/simulated/{}", device.port),
        busid: device.port.clone(),
        busnum: device.number,
        devnum: device.enumeration,
        speed: 2,
        vendor,
        product,
        release,
        class: [0, 0, 0],
        configuration: 1,
        configurations: 1,
        interfaces: u8::try_from(device.classes.len()).unwrap_or(u8::MAX),
    }
}

fn import(mut stream: TcpStream, world: &SharedWorld, stop: &AtomicBool, busid: &str) -> io::Result<()> {
    let opened = lock(world).open(busid);
    let device = match opened {
        Ok(device) => device,
        Err(error) => {
            let status = if error == OpenError::InUse { 2 } else { 4 };
            return stream.write_all(&OpHeader::new(wire::OP_REP_IMPORT, status).emit());
        }
    };
    let mut reply = OpHeader::new(wire::OP_REP_IMPORT, 0).emit().to_vec();
    reply.extend_from_slice(&record(&device).emit());
    let devid = record(&device).devid();
    let mut link = ClientLink {
        stream,
        world,
        stop,
        device: &device,
        devid,
        silent: Vec::new(),
        waiting: Vec::new(),
        in_use: false,
        is_blocking: true,
    };
    let ended = link.stream.write_all(&reply).and_then(|()| link.run());
    lock(world).close(&device.port, device.enumeration);
    ended
}

/// The connection of an imported device.
struct ClientLink<'a> {
    stream: TcpStream,
    world: &'a SharedWorld,
    stop: &'a AtomicBool,
    device: &'a DeviceListing,
    devid: u32,
    /// Transfers that the unit does not answer.
    silent: Vec<u32>,
    /// Transfers that the unit was too busy for.
    waiting: Vec<Waiting>,
    /// Whether the client has configured or used the unit.
    in_use: bool,
    /// Whether the stream blocks; setting it costs a system call for each transfer.
    is_blocking: bool,
}

/// A transfer as the client submits it.
struct Submission {
    is_in: bool,
    endpoint: u32,
    length: u32,
    setup: [u8; 8],
}

/// A bulk transfer that waits until the unit accepts it.
struct Waiting {
    seqnum: u32,
    endpoint: u8,
    is_in: bool,
    length: usize,
    data: Vec<u8>,
    since: Instant,
}

impl Waiting {
    fn transfer(&self) -> Bulk<'_> {
        if self.is_in { Bulk::In(self.endpoint, self.length) } else { Bulk::Out(self.endpoint, &self.data) }
    }
}

/// The connection ends; not a fault.
fn ended() -> io::Error {
    io::ErrorKind::ConnectionAborted.into()
}

impl ClientLink<'_> {
    fn run(&mut self) -> io::Result<()> {
        self.stream.set_read_timeout(Some(LOOK_INTERVAL))?;
        loop {
            let mut header = [0; wire::HEADER_LEN];
            self.read(&mut header)?;
            match Message::parse(&header) {
                Some((seqnum, Message::Submit { devid, is_in, endpoint, length, setup, .. }))
                    if devid == self.devid =>
                {
                    self.submit(seqnum, Submission { is_in, endpoint, length, setup })?;
                }
                Some((seqnum, Message::Unlink { target, .. })) => self.unlink(seqnum, target)?,
                _ => return Err(ended()),
            }
        }
    }

    /// Pauses before waiting transfers are retried: a socket timeout would be rounded up to some
    /// milliseconds.
    fn pause(&self) {
        if self.waiting.is_empty() {
            return;
        }
        let is_new = self.waiting.iter().any(|waiting| waiting.since.elapsed() < PATIENCE);
        std::thread::sleep(if is_new { ASK_INTERVAL } else { ASK_SELDOM });
    }

    /// Reads all of `bytes`; ends when the unit leaves or the server stops.
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<()> {
        let mut filled = 0;
        while filled < bytes.len() {
            match self.stream.read(&mut bytes[filled..]) {
                Ok(0) => return Err(ended()),
                Ok(count) => filled += count,
                Err(error) if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut) => {
                    self.pause();
                    self.look()?;
                    self.ask_again()?;
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    fn look(&self) -> io::Result<()> {
        let present = lock(self.world).is_present(&self.device.port, self.device.enumeration);
        if self.stop.load(Ordering::SeqCst) || !present { Err(ended()) } else { Ok(()) }
    }

    /// Retries the transfers that the unit was too busy for.
    fn ask_again(&mut self) -> io::Result<()> {
        for waiting in std::mem::take(&mut self.waiting) {
            self.bulk(waiting, true)?;
        }
        Ok(())
    }

    fn bulk(&mut self, asked: Waiting, again: bool) -> io::Result<()> {
        let (port, enumeration) = (&self.device.port, self.device.enumeration);
        let answer = lock(self.world).bulk(port, enumeration, asked.transfer(), again);
        let seqnum = asked.seqnum;
        match answer {
            None => return Err(ended()),
            Some(Answer::Data(bytes)) if !asked.is_in || bytes.len() > asked.length => {
                self.answer(seqnum, status::TOO_MUCH, &[], 0)?;
            }
            Some(Answer::Data(bytes)) => self.answer(seqnum, 0, &bytes, bytes.len())?,
            Some(Answer::Done) => self.answer(seqnum, 0, &[], asked.data.len())?,
            Some(Answer::Stall) => self.answer(seqnum, status::STALL, &[], 0)?,
            Some(Answer::Silent) => self.silent.push(seqnum),
            Some(Answer::Busy) => self.waiting.push(asked),
        }
        // While a transfer waits, the unit is polled frequently.
        self.keep_asking()
    }

    fn submit(&mut self, seqnum: u32, submission: Submission) -> io::Result<()> {
        let Submission { is_in, endpoint, length, setup } = submission;
        let endpoint = u8::try_from(endpoint).ok().filter(|number| *number < 16 && length <= MAX_PAYLOAD);
        let endpoint = endpoint.ok_or_else(ended)?;
        let mut data = vec![0; if is_in { 0 } else { length as usize }];
        self.read(&mut data)?;
        if endpoint != 0 {
            self.in_use = true;
            return self.bulk(
                Waiting { seqnum, endpoint, is_in, length: length as usize, data, since: Instant::now() },
                false,
            );
        }
        if setup[..2] == wire::PORT_RESET[..2] && setup[2..4] == wire::PORT_RESET[2..4] {
            let reset = lock(self.world).bus_reset(&self.device.port, self.device.enumeration);
            return if reset { self.answer(seqnum, 0, &[], 0) } else { Err(ended()) };
        }
        let (port, enumeration) = (&self.device.port, self.device.enumeration);
        if self.begins_enumeration(setup) && !lock(self.world).bus_reset(port, enumeration) {
            return Err(ended());
        }
        let answer = lock(self.world).control(port, enumeration, Setup::parse(setup), &data);
        match answer {
            None => Err(ended()),
            Some(Answer::Data(bytes)) if !is_in || bytes.len() > length as usize => {
                self.answer(seqnum, status::TOO_MUCH, &[], 0)
            }
            Some(Answer::Data(bytes)) => self.answer(seqnum, 0, &bytes, bytes.len()),
            Some(Answer::Done) => self.answer(seqnum, 0, &[], data.len()),
            Some(Answer::Stall) => self.answer(seqnum, status::STALL, &[], 0),
            Some(Answer::Silent | Answer::Busy) => {
                self.silent.push(seqnum);
                self.look()
            }
        }
    }

    /// Whether a request shows that a kernel client has reset its port. The reset itself is not
    /// transmitted, but the enumeration after it is, which starts with a read of the device
    /// descriptor into 64 bytes. Resets before the first configuration are part of attaching the
    /// unit.
    ///
    /// Source: Linux, `drivers/usb/usbip/vhci_hcd.c` and `drivers/usb/core/hub.c`.
    fn begins_enumeration(&mut self, setup: [u8; 8]) -> bool {
        const READ_DEVICE_DESCRIPTOR_64: [u8; 8] = [0x80, 6, 0, 1, 0, 0, 64, 0];
        const SET_CONFIGURATION: [u8; 2] = [0x00, 9];
        if setup == READ_DEVICE_DESCRIPTOR_64 {
            return std::mem::take(&mut self.in_use);
        }
        let standard = setup[0] & 0x60 == 0;
        self.in_use |= !standard || setup[..2] == SET_CONFIGURATION;
        false
    }

    fn answer(&mut self, seqnum: u32, status: i32, payload: &[u8], length: usize) -> io::Result<()> {
        let length = u32::try_from(length).unwrap_or(0);
        let mut bytes = Message::Submitted { status, length }.emit(seqnum).to_vec();
        bytes.extend_from_slice(payload);
        self.write(&bytes)
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.block(true)?;
        self.stream.write_all(bytes)?;
        self.keep_asking()
    }

    /// While a transfer waits, the connection does not block.
    fn keep_asking(&mut self) -> io::Result<()> {
        self.block(self.waiting.is_empty())
    }

    fn block(&mut self, is_blocking: bool) -> io::Result<()> {
        if std::mem::replace(&mut self.is_blocking, is_blocking) != is_blocking {
            self.stream.set_nonblocking(!is_blocking)?;
        }
        Ok(())
    }

    fn unlink(&mut self, seqnum: u32, target: u32) -> io::Result<()> {
        let before = self.silent.len() + self.waiting.len();
        self.silent.retain(|number| *number != target);
        self.waiting.retain(|waiting| waiting.seqnum != target);
        let is_cancelled = self.silent.len() + self.waiting.len() < before;
        let status = if is_cancelled { status::CANCELLED } else { 0 };
        self.write(&Message::Unlinked { status }.emit(seqnum))
    }
}
