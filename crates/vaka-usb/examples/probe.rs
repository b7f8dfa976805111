//! Works one device by hand, to try a bus: `probe BUS PORT ACTION`.
//!
//! - `describe` prints ids, strings and interfaces.
//! - `loopback BYTES` writes to the first bulk OUT endpoint and reads the same
//!   bytes back from the first bulk IN endpoint, as a loopback device gives
//!   them, then ends a halt on both.
//! - `unfinished` reads more than a loopback device returns, until the read times
//!   out, and reads again: the data must be there.
//! - `hold SECONDS` claims interface 0 and holds it, until the device leaves or
//!   the time is over.
//! - `reset` resets the port and asks the device for its descriptor again.

#![allow(clippy::print_stdout)] // its results

use std::time::Duration;

use vaka_usb::SystemClock;
use vaka_usb::native::NativeBus;
use vaka_usb::strings::{self, Patience, StringReader};
use vaka_usb::usbip::UsbIpBus;
use vaka_usb::{Bus, EndpointInfo, PipeKind, Setup, TransferError, UsbDevice};

type Failure = Box<dyn std::error::Error>;

const SOON: Duration = Duration::from_secs(5);

fn main() -> std::process::ExitCode {
    match run() {
        Ok(()) => std::process::ExitCode::SUCCESS,
        Err(error) => {
            println!("{error}");
            std::process::ExitCode::FAILURE
        }
    }
}

fn run() -> Result<(), Failure> {
    let args: Vec<String> = std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect();
    let words: Vec<&str> = args.iter().map(String::as_str).collect();
    let [bus, port, ref action @ ..] = words[..] else { return Err("probe BUS PORT ACTION".into()) };
    let bus: Box<dyn Bus> = match bus {
        NativeBus::NAME => Box::new(NativeBus::new()),
        name => Box::new(UsbIpBus::new(name)?),
    };
    let mut device = bus.open(port)?;
    match action {
        ["describe"] => describe(&mut *device),
        ["loopback", bytes] => loopback(&mut *device, bytes.parse()?),
        ["unfinished"] => unfinished(&mut *device),
        ["hold", seconds] => hold(&mut *device, Duration::from_secs(seconds.parse()?)),
        ["reset"] => reset(&mut *device),
        _ => Err("ACTION is describe, loopback BYTES, unfinished, hold SECONDS or reset".into()),
    }
}

fn describe(device: &mut dyn UsbDevice) -> Result<(), Failure> {
    let descriptor = strings::device_descriptor(device, &mut Patience::new(&SystemClock))?;
    println!("id {:04x}:{:04x} release {:04x}", descriptor.vendor, descriptor.product, descriptor.release);
    let patience = &mut Patience::new(&SystemClock);
    let texts = StringReader::of(device, patience)?;
    for index in [descriptor.maker_string, descriptor.product_string, descriptor.serial_string] {
        println!("string {index}: {:?}", texts.get(device, index, patience)?);
    }
    for interface in strings::configuration(device, &mut Patience::new(&SystemClock))?.interfaces {
        let (number, alternate) = (interface.number, interface.alternate);
        println!("interface {number}.{alternate}: {:02x}/{:02x}", interface.class, interface.subclass);
    }
    Ok(())
}

/// The addresses of the first bulk endpoints of interface 0, alternate setting
/// 0: OUT and IN. Source: USB 2.0, table 9-13.
fn bulk_endpoints(device: &mut dyn UsbDevice) -> Result<[EndpointInfo; 2], Failure> {
    let bytes = device.control_in(Setup::get_descriptor(2, 0, 0), 512, SOON)?;
    let mut addresses = Vec::new();
    let mut rest = &bytes[..];
    while let [length, kind, ..] = *rest {
        let (descriptor, behind) = rest.split_at_checked(usize::from(length)).ok_or("a torn descriptor")?;
        if kind == 5 && descriptor[3] & 3 == 2 {
            addresses.push(descriptor[2]);
        }
        rest = behind;
    }
    let pipe = |is_in: bool| {
        let address = addresses.iter().copied().find(|address| (address & 0x80 != 0) == is_in);
        address.map(|address| EndpointInfo { address, kind: PipeKind::Bulk, interval: 0, packet: 512 })
    };
    Ok([pipe(false).ok_or("no bulk OUT")?, pipe(true).ok_or("no bulk IN")?])
}

fn loopback(device: &mut dyn UsbDevice, bytes: usize) -> Result<(), Failure> {
    let [out, into] = bulk_endpoints(device)?;
    device.claim(0, 0)?;
    let sent: Vec<u8> = (0..=255u8).rev().chain(7..=250).cycle().take(bytes).collect();
    // The device holds a buffer of 4 KiB before it wants to be read.
    for piece in sent.chunks(4096) {
        device.write_endpoint(out, piece, SOON).map_err(|error| format!("while writing: {error}"))?;
        let back = device.read_endpoint(into, 4096, SOON).map_err(|error| format!("while reading: {error}"))?;
        if back != piece {
            return Err(format!("{} bytes came back for {}", back.len(), piece.len()).into());
        }
    }
    device.clear_halt(out)?;
    device.clear_halt(into)?;
    println!("{bytes} bytes came back as they were sent");
    Ok(())
}

/// The loopback device returns the 4 KiB in whole packets and does not end the transfer.
fn unfinished(device: &mut dyn UsbDevice) -> Result<(), Failure> {
    let [out, into] = bulk_endpoints(device)?;
    device.claim(0, 0)?;
    let sent: Vec<u8> = (0..=255u8).cycle().take(4096).collect();
    device.write_endpoint(out, &sent, SOON)?;
    match device.read_endpoint(into, 8192, Duration::from_millis(300)) {
        Err(TransferError::Timeout) => {}
        other => return Err(format!("the first read ended with {other:?}").into()),
    }
    let back = device.read_endpoint(into, 4096, SOON)?;
    if back != sent {
        return Err(format!("{} bytes after the time-out", back.len()).into());
    }
    println!("{} bytes after the time-out, as they were sent", back.len());
    Ok(())
}

fn hold(device: &mut dyn UsbDevice, time: Duration) -> Result<(), Failure> {
    device.claim(0, 0)?;
    println!("holding interface 0");
    if device.wait_for_disconnect(time) {
        println!("the device left");
        return match device.control_in(Setup::get_descriptor(1, 0, 0), 18, SOON) {
            Err(error) => {
                println!("a transfer then says: {error}");
                Ok(())
            }
            Ok(_) => Err("it answers although it left".into()),
        };
    }
    Ok(())
}

fn reset(device: &mut dyn UsbDevice) -> Result<(), Failure> {
    device.reset()?;
    let descriptor = strings::device_descriptor(device, &mut Patience::new(&SystemClock))?;
    println!("after the reset it still is {:04x}:{:04x}", descriptor.vendor, descriptor.product);
    Ok(())
}
