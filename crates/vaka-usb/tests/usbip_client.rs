//! The USB/IP client against servers that do not behave.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use vaka_usb::usbip::UsbIpBus;
use vaka_usb::{Bus, BusError, EndpointInfo, PipeKind, Setup, TransferError, UsbDevice};

/// A server that plays one function for each connection, in order.
struct Scripted {
    bus: UsbIpBus,
    playing: JoinHandle<()>,
}

type Scene = Box<dyn FnOnce(TcpStream) + Send>;

fn serve(scenes: Vec<Scene>) -> Scripted {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let bus = UsbIpBus::new(&format!("usbip://{}", listener.local_addr().unwrap())).unwrap();
    let playing = std::thread::spawn(move || {
        for scene in scenes {
            scene(listener.accept().unwrap().0);
        }
    });
    Scripted { bus, playing }
}

fn receive<const N: usize>(stream: &mut TcpStream) -> [u8; N] {
    let mut bytes = [0; N];
    stream.read_exact(&mut bytes).unwrap();
    bytes
}

/// A device record as the kernel's tools lay it out; bus 3, device 2.
fn record(interfaces: u8) -> Vec<u8> {
    let mut record = vec![0; 312];
    record[256..259].copy_from_slice(b"3-2");
    record[288..304].copy_from_slice(&[0, 0, 0, 3, 0, 0, 0, 2, 0, 0, 0, 2, 0x12, 0x09, 0x00, 0x02]);
    record[304..306].copy_from_slice(&[0x01, 0x50]);
    // bConfigurationValue, bNumConfigurations, bNumInterfaces
    record[309..312].copy_from_slice(&[1, 1, interfaces]);
    record
}

/// Answers a list request with these bytes, and closes.
fn list_reply(bytes: Vec<u8>) -> Scene {
    Box::new(move |mut stream| {
        assert_eq!(receive::<8>(&mut stream), [0x01, 0x11, 0x80, 0x05, 0, 0, 0, 0]);
        stream.write_all(&bytes).unwrap();
    })
}

/// A list without any device, as a server gives it whose unit has left.
fn empty_list() -> Scene {
    list_reply(vec![0x01, 0x11, 0, 5, 0, 0, 0, 0, 0, 0, 0, 0])
}

/// A list with the unit, as it was.
fn list_of_one() -> Scene {
    list_reply([vec![0x01, 0x11, 0, 5, 0, 0, 0, 0, 0, 0, 0, 1], record(0)].concat())
}

/// Grants an import and goes on with `scene`.
fn imported(scene: impl FnOnce(TcpStream) + Send + 'static) -> Scene {
    Box::new(move |mut stream| {
        let request = receive::<40>(&mut stream);
        assert_eq!(request[..11], [0x01, 0x11, 0x80, 0x03, 0, 0, 0, 0, b'3', b'-', b'2']);
        let mut reply = vec![0x01, 0x11, 0x00, 0x03, 0, 0, 0, 0];
        reply.extend(record(0));
        stream.write_all(&reply).unwrap();
        scene(stream);
    })
}

/// A result header: RET_SUBMIT with this number, status and length.
fn submitted(seqnum: u32, status: i32, length: u32) -> Vec<u8> {
    let mut bytes = vec![0; 48];
    bytes[3] = 3;
    bytes[4..8].copy_from_slice(&seqnum.to_be_bytes());
    bytes[20..24].copy_from_slice(&status.to_be_bytes());
    bytes[24..28].copy_from_slice(&length.to_be_bytes());
    bytes
}

fn unlinked(seqnum: u32, status: i32) -> Vec<u8> {
    let mut bytes = submitted(seqnum, status, 0);
    bytes[3] = 4;
    bytes
}

const ASK: Setup = Setup { kind: 0xA1, request: 3, value: 0, index: 0 };
const SOON: Duration = Duration::from_millis(100);

fn open(server: &Scripted) -> Box<dyn UsbDevice> {
    server.bus.open("3-2").unwrap()
}

#[test]
fn a_list_is_read_with_its_interfaces() {
    let mut reply = vec![0x01, 0x11, 0, 5, 0, 0, 0, 0, 0, 0, 0, 1];
    reply.extend(record(2));
    reply.extend([0xFE, 1, 2, 0, 3, 0, 0, 0]);
    let server = serve(vec![list_reply(reply)]);
    let devices = server.bus.list().unwrap();
    assert_eq!(devices.len(), 1);
    let device = &devices[0];
    assert_eq!((device.vendor, device.product, device.release), (0x1209, 2, 0x0150));
    assert_eq!((device.location.port.as_str(), device.address), ("3-2", 0x0003_0002));
    let classes: Vec<_> = device.interfaces.iter().map(|i| (i.class, i.subclass, i.protocol)).collect();
    assert_eq!(classes, [(0xFE, 1, 2), (3, 0, 0)]);
    server.playing.join().unwrap();
}

#[test]
fn a_list_that_makes_no_sense_is_refused() {
    let cut = {
        let mut reply = vec![0x01, 0x11, 0, 5, 0, 0, 0, 0, 0, 0, 0, 2];
        reply.extend(record(1));
        reply
    };
    for (reply, words) in [
        (vec![0x01, 0x06, 0, 5, 0, 0, 0, 0], "version is 0106"),
        (vec![0x01, 0x11, 0, 3, 0, 0, 0, 0], "replied with 0003"),
        (vec![0x01, 0x11, 0, 5, 0, 0, 0, 1], "status 1"),
        (vec![0x01, 0x11, 0, 5, 0, 0, 0, 0, 0xFF, 0xFF, 0xFF, 0xFF], "4294967295 devices"),
        (b"HTTP/1.1 400 Bad Request\r\n".to_vec(), "version is 4854"),
        (vec![0x01, 0x11, 0], "closed the connection"),
        (cut, "closed the connection"),
    ] {
        let server = serve(vec![list_reply(reply)]);
        let error = server.bus.list().unwrap_err();
        assert!(matches!(error, BusError::Protocol { .. }), "{error}");
        assert!(error.to_string().contains(words), "{error}");
    }
}

#[test]
fn every_refusal_of_an_import_has_its_own_error() {
    for (status, wanted) in [
        (1, "no free device is attached at"),
        (2, "another program"),
        (3, "error state"),
        (4, "no free device is attached at"),
        (9, "status 9"),
    ] {
        // A device that is in use is asked for again, for a while.
        let asked = if status == 2 { 60 } else { 1 };
        let server = serve((0..asked).map(|_| refused(status)).collect());
        let error = server.bus.open("3-2").map(drop).unwrap_err();
        assert!(error.to_string().contains(wanted), "{error}");
    }
}

fn refused(status: u8) -> Scene {
    Box::new(move |mut stream| {
        receive::<40>(&mut stream);
        stream.write_all(&[0x01, 0x11, 0, 3, 0, 0, 0, status]).unwrap();
    })
}

/// Whoever had it has just ended: the server lets go of it a moment later.
#[test]
fn a_device_that_becomes_free_in_a_moment_is_opened() {
    let server = serve(vec![refused(2), refused(2), imported(|_| {})]);
    drop(open(&server));
}

#[test]
fn a_missing_server_is_reported() {
    let address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
    let error = UsbIpBus::new(&format!("usbip://{address}")).unwrap().list().unwrap_err();
    assert!(matches!(error, BusError::Unreachable { .. }), "{error}");
}

#[test]
fn status_values_become_what_they_mean() {
    let results = [
        (0, Ok(vec![7, 8])),
        (-32, Err(TransferError::Stall)),
        (-19, Err(TransferError::Disconnected)),
        (-108, Err(TransferError::Disconnected)),
        (-75, Err(TransferError::Overflow)),
        (-71, Err(TransferError::Failed("the USB/IP server reports -71".into()))),
    ];
    let statuses: Vec<i32> = results.iter().map(|(status, _)| *status).collect();
    let server = serve(vec![imported(move |mut stream| {
        for (seqnum, status) in (1..).zip(statuses) {
            let header = receive::<48>(&mut stream);
            assert_eq!(header[..24], [0, 0, 0, 1, 0, 0, 0, seqnum, 0, 3, 0, 2, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 2, 0]);
            assert_eq!(header[40..], [0xA1, 3, 0, 0, 0, 0, 6, 0]);
            // Data may come together with an error; it must be taken off the stream.
            stream.write_all(&submitted(u32::from(seqnum), status, 2)).unwrap();
            stream.write_all(&[7, 8]).unwrap();
        }
    })]);
    let mut device = open(&server);
    for (status, wanted) in results {
        assert_eq!(device.control_in(ASK, 6, SOON), wanted, "{status}");
    }
}

/// The result of a transfer whose time-out passes before the server's result arrives. The result
/// counts if it precedes the reply to the cancellation: its data has left the device.
#[test]
fn a_result_that_precedes_the_cancellation_is_not_lost() {
    struct Case {
        result_before_reply: Option<i32>,
        result_after_reply: bool,
        unlink_status: i32,
        wanted: Result<Vec<u8>, TransferError>,
    }
    let timeout = || Err(TransferError::Timeout);
    let case = |before, after, unlink_status, wanted| Case {
        result_before_reply: before,
        result_after_reply: after,
        unlink_status,
        wanted,
    };
    for Case { result_before_reply, result_after_reply, unlink_status, wanted } in [
        case(None, false, -104, timeout()),
        case(None, true, -104, timeout()),
        case(Some(0), false, 0, Ok(vec![1, 2, 3])),
        case(Some(-32), false, 0, Err(TransferError::Stall)),
    ] {
        let server = serve(vec![imported(move |mut stream| {
            receive::<48>(&mut stream);
            let unlink = receive::<48>(&mut stream);
            assert_eq!((unlink[3], unlink[7], unlink[23]), (2, 2, 1), "cancels number 1 under number 2");
            if let Some(status) = result_before_reply {
                stream.write_all(&submitted(1, status, 3)).unwrap();
                stream.write_all(&[1, 2, 3]).unwrap();
            }
            stream.write_all(&unlinked(2, unlink_status)).unwrap();
            receive::<48>(&mut stream);
            if result_after_reply {
                stream.write_all(&submitted(1, 0, 3)).unwrap();
                stream.write_all(&[1, 2, 3]).unwrap();
            }
            stream.write_all(&submitted(3, 0, 1)).unwrap();
            stream.write_all(&[9]).unwrap();
        })]);
        let mut device = open(&server);
        assert_eq!(device.control_in(ASK, 6, SOON), wanted, "{result_before_reply:?} {result_after_reply}");
        assert_eq!(device.control_in(ASK, 6, Duration::from_secs(5)), Ok(vec![9]));
    }
}

#[test]
fn more_than_was_asked_for_ends_the_connection() {
    let server = serve(vec![imported(|mut stream| {
        receive::<48>(&mut stream);
        stream.write_all(&submitted(1, 0, u32::MAX)).unwrap();
        // The client ends the connection.
        assert_eq!(stream.read(&mut [0; 1]).unwrap_or(0), 0);
    })]);
    let mut device = open(&server);
    let error = device.control_in(ASK, 6, SOON).unwrap_err();
    assert!(matches!(error, TransferError::Failed(_)), "{error}");
    assert_eq!(device.control_in(ASK, 6, SOON).unwrap_err(), error, "and stays so");
    server.playing.join().unwrap();
}

#[test]
fn a_server_that_stops_answering_is_left_by_a_deadline() {
    let server = serve(vec![imported(|mut stream| {
        // Takes everything and says nothing until the client goes.
        let mut sink = [0; 256];
        while stream.read(&mut sink).is_ok_and(|count| count > 0) {}
    })]);
    let mut device = open(&server);
    let started = Instant::now();
    let error = device.control_in(ASK, 6, SOON).unwrap_err();
    assert_eq!(error, TransferError::Failed("the USB/IP server stopped replying".into()));
    assert!(started.elapsed() < Duration::from_secs(5));
}

/// The meaning of a closed connection depends on the server's next list.
#[test]
fn a_closed_connection_is_a_unit_that_left_only_if_it_is_not_listed() {
    let work = || {
        imported(|mut stream| {
            receive::<48>(&mut stream);
        })
    };
    let lost = |name: &str, words: &str| TransferError::Failed(format!("the connection to {name} was lost{words}"));
    let server = serve(vec![work(), empty_list()]);
    let mut device = open(&server);
    assert_eq!(device.control_in(ASK, 6, SOON), Err(TransferError::Disconnected));
    assert_eq!(device.control_out(ASK, &[1], SOON), Err(TransferError::Disconnected));
    let server = serve(std::iter::once(work()).chain((0..200).map(|_| list_of_one())).collect());
    let there = lost(server.bus.name(), "; the server still lists the unit");
    assert_eq!(open(&server).control_in(ASK, 6, SOON), Err(there));
    let server = serve(vec![work()]);
    assert_eq!(open(&server).control_in(ASK, 6, SOON), Err(lost(server.bus.name(), "")));
}

#[test]
fn out_data_follows_its_header_and_a_reset_is_asked_for_as_the_kernels_server_wants() {
    let work = imported(|mut stream| {
        let header = receive::<48>(&mut stream);
        assert_eq!(header[12..16], [0, 0, 0, 0], "direction OUT");
        assert_eq!(header[24..28], [0, 0, 0, 3], "length");
        assert_eq!(header[40..], [0x21, 1, 2, 0, 0, 0, 3, 0]);
        assert_eq!(receive::<3>(&mut stream), [5, 6, 7]);
        // For OUT the length counts bytes sent; none follow.
        stream.write_all(&submitted(1, 0, 3)).unwrap();
        assert_eq!(receive::<48>(&mut stream)[40..], [0x23, 3, 4, 0, 0, 0, 0, 0]);
        // The unit comes back as something else: the server lets go of it.
    });
    let server = serve(vec![work, empty_list()]);
    let mut device = open(&server);
    let download = Setup { kind: 0x21, request: 1, value: 2, index: 0 };
    assert_eq!(device.control_out(download, &[5, 6, 7], SOON), Ok(()));
    assert_eq!(device.reset(), Ok(()));
    assert_eq!(device.control_in(ASK, 6, SOON), Err(TransferError::Disconnected));
}

/// The kernel's server hands out devices that have no configuration yet. They
/// get their first one when an interface is claimed, and not before.
#[test]
fn a_device_without_a_configuration_gets_one_when_it_is_claimed() {
    let server = serve(vec![Box::new(|mut stream: TcpStream| {
        receive::<40>(&mut stream);
        let mut unconfigured = record(0);
        unconfigured[309] = 0;
        stream.write_all(&[0x01, 0x11, 0, 3, 0, 0, 0, 0]).unwrap();
        stream.write_all(&unconfigured).unwrap();
        // Source of the layout: USB 2.0, table 9-10; bConfigurationValue is 7.
        let configuration = [9, 2, 9, 0, 0, 7, 0, 0x80, 50];
        for seqnum in 1..=2 {
            let setup = receive::<48>(&mut stream);
            assert_eq!(setup[40..46], [0x80, 6, 0, 2, 0, 0], "GET_DESCRIPTOR(configuration)");
            stream.write_all(&submitted(seqnum, 0, 9)).unwrap();
            stream.write_all(&configuration).unwrap();
        }
        for (seqnum, wanted) in
            [(3, [0x00, 9, 7, 0, 0, 0, 0, 0]), (4, [0x01, 11, 1, 0, 2, 0, 0, 0]), (5, [0x01, 11, 0, 0, 2, 0, 0, 0])]
        {
            assert_eq!(receive::<48>(&mut stream)[40..], wanted);
            stream.write_all(&submitted(seqnum, 0, 0)).unwrap();
        }
    })]);
    let mut device = open(&server);
    assert_eq!(device.claim(2, 1), Ok(()));
    assert_eq!(device.claim(2, 0), Ok(()), "it is configured once");
}

/// Bulk and interrupt transfers: endpoint number, direction, interval, payload.
#[test]
fn pipes_are_addressed_as_the_kernels_server_wants() {
    let server = serve(vec![imported(|mut stream| {
        let header = receive::<48>(&mut stream);
        assert_eq!(header[12..20], [0, 0, 0, 0, 0, 0, 0, 2], "OUT, endpoint 2");
        assert_eq!(header[24..28], [0, 0, 0, 3], "length");
        assert_eq!(header[36..], [0; 12], "no interval, no setup");
        assert_eq!(receive::<3>(&mut stream), [5, 6, 7]);
        stream.write_all(&submitted(1, 0, 3)).unwrap();
        let header = receive::<48>(&mut stream);
        assert_eq!(header[12..20], [0, 0, 0, 1, 0, 0, 0, 3], "IN, endpoint 3");
        assert_eq!(header[36..40], [0, 0, 0, 10], "bInterval of a full-speed device, in ms");
        stream.write_all(&submitted(2, 0, 2)).unwrap();
        stream.write_all(&[8, 9]).unwrap();
        assert_eq!(receive::<48>(&mut stream)[40..], [0x02, 1, 0, 0, 0x83, 0, 0, 0], "clear the halt");
        stream.write_all(&submitted(3, 0, 0)).unwrap();
    })]);
    let mut device = open(&server);
    let out = EndpointInfo { address: 0x02, kind: PipeKind::Bulk, interval: 0, packet: 512 };
    let into = EndpointInfo { address: 0x83, kind: PipeKind::Interrupt, interval: 10, packet: 64 };
    assert_eq!(device.write_endpoint(out, &[5, 6, 7], SOON), Ok(()));
    assert_eq!(device.read_endpoint(into, 64, SOON), Ok(vec![8, 9]));
    assert_eq!(device.clear_halt(into), Ok(()));
    assert!(matches!(device.write_endpoint(out, &[0; 65 * 1024], SOON), Err(TransferError::Unsupported(_))));
    assert!(device.wait_for_disconnect(SOON), "the server closed the connection");
    assert_eq!(device.write_endpoint(out, &[1], SOON), Err(TransferError::Disconnected));
}

#[test]
fn a_device_with_one_setting_may_refuse_to_be_set_to_it() {
    for (alternate, status, wanted) in [
        (0, -32, Ok(())),
        (0, -22, Ok(())),
        (1, -32, Err(TransferError::Stall)),
        (0, -19, Err(TransferError::Disconnected)),
    ] {
        let server = serve(vec![imported(move |mut stream| {
            assert_eq!(receive::<48>(&mut stream)[40..], [0x01, 11, alternate, 0, 2, 0, 0, 0]);
            stream.write_all(&submitted(1, status, 0)).unwrap();
        })]);
        assert_eq!(open(&server).claim(2, alternate), wanted, "{alternate}, {status}");
    }
}
