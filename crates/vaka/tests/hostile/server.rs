//! A USB/IP server that answers as a case says. Source of the layouts: the kernel's
//! Documentation/usb/usbip_protocol.rst.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::time::Duration;

/// Handles a connection, after the eight bytes of its request.
pub type OnRequest = Arc<dyn Fn(&mut TcpStream, [u8; 8]) + Send + Sync>;

/// Request codes.
pub const LIST: [u8; 2] = [0x80, 0x05];
pub const IMPORT: [u8; 2] = [0x80, 0x03];

/// Serves connections until the test ends; the name of the bus.
pub fn serve(on_request: OnRequest) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            let on_request = on_request.clone();
            std::thread::spawn(move || {
                // A server must not outlive its test for ever.
                let _ = stream.set_write_timeout(Some(Duration::from_secs(20)));
                let mut request = [0; 8];
                if stream.read_exact(&mut request).is_ok() {
                    on_request(&mut stream, request);
                }
            });
        }
    });
    format!("usbip://{address}")
}

/// Writes bytes; a client that has left is none of the server's business.
pub fn write(stream: &mut TcpStream, bytes: &[u8]) -> bool {
    stream.write_all(bytes).is_ok()
}

/// Writes the same bytes until the client leaves.
pub fn flood(stream: &mut TcpStream, bytes: &[u8]) {
    let block = bytes.repeat(64 * 1024 / bytes.len() + 1);
    while write(stream, &block) {}
}

/// Keeps a connection open and says nothing.
pub fn silent(stream: &mut TcpStream) {
    let mut rest = [0; 1024];
    while matches!(stream.read(&mut rest), Ok(count) if count > 0) {}
}

/// The header of a reply.
pub fn header(code: u16, status: u32) -> Vec<u8> {
    [&[0x01, 0x11][..], &code.to_be_bytes(), &status.to_be_bytes()].concat()
}

/// A device record with these ids; bus 1, device 1, full speed.
pub fn record(ids: (u16, u16), interfaces: u8) -> Vec<u8> {
    let mut record = vec![0; 312];
    record[256..259].copy_from_slice(b"1-1");
    record[284 + 4..300].copy_from_slice(&[0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 2]);
    record[300..302].copy_from_slice(&ids.0.to_be_bytes());
    record[302..304].copy_from_slice(&ids.1.to_be_bytes());
    record[304..306].copy_from_slice(&[1, 0]);
    record[309..312].copy_from_slice(&[1, 1, interfaces]);
    record
}

/// A list with one device that has a DFU interface.
pub fn list_of_one(ids: (u16, u16)) -> Vec<u8> {
    [header(5, 0), vec![0, 0, 0, 1], record(ids, 1), vec![0xFE, 1, 2, 0]].concat()
}

/// A transfer that the client submits.
pub struct Urb {
    pub seqnum: u32,
    pub is_in: bool,
    pub endpoint: u32,
    pub length: u32,
    pub setup: [u8; 8],
}

/// The reply of the server to a transfer.
pub enum Reply {
    Data(Vec<u8>),
    /// A negative errno, without data.
    Status(i32),
    /// Bytes on the wire, whatever they mean.
    Raw(Vec<u8>),
    /// The same bytes for ever.
    Flood(Vec<u8>),
    /// Nothing, for this transfer.
    Silent,
    Close,
}

/// The reply to a transfer: its header, and data.
pub fn returned(seqnum: u32, status: i32, length: u32, data: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0; 48];
    bytes[3] = 3;
    bytes[4..8].copy_from_slice(&seqnum.to_be_bytes());
    bytes[20..24].copy_from_slice(&status.to_be_bytes());
    bytes[24..28].copy_from_slice(&length.to_be_bytes());
    bytes.extend(data);
    bytes
}

/// A server with one device, which answers transfers as `reply` says.
pub fn device(ids: (u16, u16), reply: impl Fn(&Urb) -> Reply + Send + Sync + 'static) -> OnRequest {
    Arc::new(move |stream, request| match [request[2], request[3]] {
        LIST => {
            write(stream, &list_of_one(ids));
        }
        IMPORT => {
            let mut busid = [0; 32];
            let is_whole = stream.read_exact(&mut busid).is_ok();
            if is_whole && write(stream, &[header(3, 0), record(ids, 1)].concat()) {
                transfers(stream, &reply);
            }
        }
        _ => {}
    })
}

fn transfers(stream: &mut TcpStream, reply: &dyn Fn(&Urb) -> Reply) {
    let mut head = [0; 48];
    while stream.read_exact(&mut head).is_ok() {
        let word = |at: usize| u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        if word(0) == 2 {
            let mut unlinked = returned(word(4), 0, 0, &[]);
            unlinked[3] = 4;
            if !write(stream, &unlinked) {
                return;
            }
            continue;
        }
        let mut setup = [0; 8];
        setup.copy_from_slice(&head[40..]);
        let urb = Urb { seqnum: word(4), is_in: word(12) == 1, endpoint: word(16), length: word(24), setup };
        if !urb.is_in {
            let mut data = vec![0; urb.length as usize];
            if stream.read_exact(&mut data).is_err() {
                return;
            }
        }
        let bytes = match reply(&urb) {
            Reply::Data(mut data) => {
                data.truncate(urb.length as usize);
                returned(urb.seqnum, 0, u32::try_from(data.len()).unwrap(), &data)
            }
            Reply::Status(status) => returned(urb.seqnum, status, 0, &[]),
            Reply::Raw(bytes) => bytes,
            Reply::Flood(bytes) => return flood(stream, &bytes),
            Reply::Silent => continue,
            Reply::Close => return,
        };
        if !write(stream, &bytes) {
            return;
        }
    }
}
