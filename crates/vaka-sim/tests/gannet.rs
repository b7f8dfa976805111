//! The Gannet simulated unit: plain DFU by the standard's table, driven from outside.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Arc;
use std::time::Duration;

use support::Raw;
use vaka_sim::World;
use vaka_sim::bootloader::dfu::Quirks;
use vaka_sim::bootloader::dfu_plain::Traits;
use vaka_sim::unit::gannet::{APPLICATION_REGION, Gannet};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::usb::Answer;

const BINARY: &[u8] = include_bytes!("../../../demo/firmware/out/gannet-1.3.0.bin");

fn booted(traits: Traits) -> Raw {
    Raw::new(Gannet::with("G-00031", traits, Quirks::default()).in_boot_mode(), 0)
}

/// The state as DFU_GETSTATE tells it; at work it refuses, and after a
/// manifestation that it does not tolerate it is silent.
fn told_state(raw: &mut Raw) -> Option<Answer> {
    raw.try_send(0xA1, 5, 0, 1, &[])
}

/// Downloads all of an image, without the end.
fn download_all(raw: &mut Raw, image: &[u8]) -> u16 {
    let mut number = 0;
    for block in image.chunks(1024) {
        assert_eq!(raw.download(number, block), Answer::Done);
        raw.status();
        raw.wait(100);
        assert_eq!(raw.status(), (0, 0, 5));
        number += 1;
    }
    number
}

const TOLERANT: Traits = Traits { can_upload: true, tolerant: true, will_detach: false };
const WAITS: Traits = Traits { can_upload: true, tolerant: false, will_detach: false };

/// Brings a fresh unit into a state by its number in the standard.
fn in_state(state: u8) -> Raw {
    let mut raw = booted(if state == 8 { WAITS } else { TOLERANT });
    match state {
        3 => drop(raw.download(0, &[1; 1024])),
        4 => {
            raw.download(0, &[1; 1024]);
            raw.status();
        }
        5 => drop(download_all(&mut raw, &BINARY[..2048])),
        6..=8 => {
            let number = download_all(&mut raw, BINARY);
            raw.download(number, &[]);
            if state > 6 {
                raw.status();
            }
            if state == 8 {
                raw.wait(100);
            }
        }
        9 => drop(raw.try_send(0xA1, 2, 0, 1024, &[])),
        10 => drop(raw.try_send(0x21, 0, 0, 0, &[])),
        _ => {}
    }
    raw
}

/// DFU 1.1, appendix A. `X` is a stall that leads to dfuERROR; a number the next
/// state; `S` silence.
#[test]
fn every_request_in_every_state_goes_as_the_standard_says() {
    const X: u8 = 0xFF;
    const S: u8 = 0xFE;
    #[rustfmt::skip]
    let table: [(u8, [u8; 8]); 9] = [
        // state DETACH DNLOAD DNLOAD-0 UPLOAD GETSTATUS CLRSTATUS GETSTATE ABORT
        (2,     [X,     3,     X,       9,     2,        X,        2,       2]),
        (3,     [X,     X,     X,       X,     4,        X,        3,       2]),
        (4,     [X,     X,     X,       X,     X,        X,        X,       X]),
        (5,     [X,     3,     6,       X,     5,        X,        5,       2]),
        (6,     [X,     X,     X,       X,     7,        X,        6,       2]),
        (7,     [X,     X,     X,       X,     X,        X,        X,       X]),
        (8,     [S,     S,     S,       S,     S,        S,        S,       S]),
        (9,     [X,     X,     X,       9,     9,        X,        9,       2]),
        (10,    [X,     X,     X,       X,     10,       2,        10,      X]),
    ];
    for (state, row) in table {
        for (column, next) in row.into_iter().enumerate() {
            let what = format!("request {column} in state {state}");
            let mut raw = in_state(state);
            // The next block of a download or upload that is under way.
            let number = match state {
                5 => 2,
                9 => 1,
                _ => 0,
            };
            let answer = match column {
                0 => raw.try_send(0x21, 0, 0, 0, &[]),
                1 => Some(raw.download(number, &[1, 2, 3, 4])),
                2 => Some(raw.download(number, &[])),
                3 => raw.try_send(0xA1, 2, number, 1024, &[]),
                4 => raw.try_send(0xA1, 3, 0, 6, &[]),
                5 => raw.try_send(0x21, 4, 0, 0, &[]),
                6 => told_state(&mut raw),
                _ => raw.try_send(0x21, 6, 0, 0, &[]),
            };
            let wanted = match next {
                S => Some(Answer::Silent),
                // A unit at work refuses even to tell its state.
                4 | 7 => Some(Answer::Stall),
                X => Some(Answer::Data(vec![10])),
                next => Some(Answer::Data(vec![next])),
            };
            assert_eq!(answer == Some(Answer::Stall), next == X, "{what}: {answer:?}");
            assert_eq!(told_state(&mut raw), wanted, "{what}");
            if next == X && state != 10 {
                assert_eq!(raw.status(), (0x0F, 0, 10), "{what}: errSTALLEDPKT");
            }
        }
    }
}

/// The application's states 0 and 1: it takes a detach and tells its state,
/// and refuses all else without leaving its state.
#[test]
fn the_application_waits_for_a_reset_and_goes_on_without_one() {
    let mut raw = Raw::new(Gannet::new("G-00031"), 1);
    for (kind, request) in [(0x21, 1), (0xA1, 2), (0x21, 4), (0x21, 6)] {
        assert_eq!(raw.try_send(kind, request, 0, 0, &[]), Some(Answer::Stall), "{request}");
        assert_eq!(told_state(&mut raw), Some(Answer::Data(vec![0])));
    }
    assert_eq!(raw.try_send(0x21, 0, 1000, 0, &[]), Some(Answer::Done));
    assert_eq!(told_state(&mut raw), Some(Answer::Data(vec![1])));
    raw.wait(1000);
    assert_eq!(told_state(&mut raw), Some(Answer::Data(vec![0])), "the bus was not reset in time");
    assert!(raw.bus_reset());
    raw.wait(1000);
    assert_eq!(raw.unit().condition(), Condition::Application, "a reset alone changes nothing");
    assert_eq!(raw.try_send(0x21, 0, 1000, 0, &[]), Some(Answer::Done));
    raw.bus_reset();
    raw.wait(1000);
    assert_eq!(raw.unit().condition(), Condition::Boot);
}

/// An upload gives all that the region has and ends with a short block; asked
/// for more after exactly the end it gives nothing.
#[test]
fn an_upload_ends_with_a_short_reply() {
    let mut raw = booted(TOLERANT);
    let blocks = APPLICATION_REGION.len() / 1024;
    for number in 0..blocks {
        let answer = raw.try_send(0xA1, 2, u16::try_from(number).unwrap(), 1024, &[]);
        assert!(matches!(answer, Some(Answer::Data(bytes)) if bytes.len() == 1024), "{number}");
    }
    assert_eq!(raw.try_send(0xA1, 2, u16::try_from(blocks).unwrap(), 1024, &[]), Some(Answer::Data(Vec::new())));
    assert_eq!(told_state(&mut raw), Some(Answer::Data(vec![2])));
}

/// A cut download leaves no application; the unit then says so and waits.
#[test]
fn power_lost_in_the_middle_leaves_the_bootloader_waiting() {
    let mut raw = booted(TOLERANT);
    download_all(&mut raw, &BINARY[..4096]);
    for hand in [UserAction::Pull, UserAction::Plug] {
        raw.world.act("1-1", &hand);
    }
    raw.wait(1000);
    assert_eq!(raw.unit().condition(), Condition::Boot);
    raw.open_again();
    assert_eq!(raw.status(), (0x0A, 0, 10), "errFIRMWARE");
}

/// A kernel client resets its port without sending that. The server sees it by
/// the descriptor read that follows, once the unit had been configured.
#[test]
fn the_server_infers_a_kernel_clients_port_reset() {
    use vaka_usb::{Bus, UsbDevice};
    let second = Duration::from_secs(1);
    let read_descriptor = vaka_usb::Setup::get_descriptor(1, 0, 0);
    let configure = vaka_usb::Setup { kind: 0, request: 9, value: 1, index: 0 };
    let detach = vaka_usb::Setup { kind: 0x21, request: 0, value: 1000, index: 1 };
    // Enumeration as the kernel does it, with the detach before or after the reset.
    let open = |world: &vaka_sim::SharedWorld| {
        let server = vaka_sim::server::Server::start(world.clone(), ([127, 0, 0, 1], 0).into()).unwrap();
        let bus = vaka_usb::usbip::UsbIpBus::new(&server.bus()).unwrap();
        let mut device: Box<dyn UsbDevice> = bus.open("1-1").unwrap();
        assert_eq!(device.control_in(read_descriptor, 64, second).unwrap().len(), 18, "enumeration begins");
        device.control_out(configure, &[], second).unwrap();
        device.control_out(detach, &[], second).unwrap();
        (server, device)
    };
    for (length, leaves) in [(18, false), (64, true)] {
        let mut world = World::new(Arc::new(vaka_usb::SystemClock));
        world.plug("1-1", Box::new(Gannet::new("G-00031")), Vec::new());
        let world = world.shared();
        let (server, mut device) = open(&world);
        let answer = device.control_in(read_descriptor, length, second);
        assert_eq!(answer.is_err(), leaves, "a read of {length} bytes: {answer:?}");
        assert_eq!(device.wait_for_disconnect(Duration::from_millis(100)), leaves);
        drop((device, server));
    }
}

/// Its bootloader spares the flash, and yet what is there in the end is the image.
#[test]
fn what_is_there_already_is_left_alone() {
    let mut raw = booted(TOLERANT);
    // As it left the factory, but for one byte.
    let start = APPLICATION_REGION.start;
    let mut image = raw.unit().flash().read(start, 8192).unwrap().to_vec();
    let mut times = Vec::new();
    // The second block of the second sector differs.
    image[2048 + 1024 + 7] ^= 0xFF;
    for (number, block) in (0..).zip(image.chunks(1024)) {
        assert_eq!(raw.download(number, block), Answer::Done);
        times.push(raw.status().1);
        raw.wait(100);
        raw.status();
    }
    // By hand: one sector of 2 KiB is erased (20 ms) and both its blocks are
    // programmed (16 ms), and the promise is a tenth longer.
    assert_eq!(times, [0, 0, 0, 40, 0, 0, 0, 0]);
    assert_eq!(raw.unit().flash().read(start, 8192).unwrap(), image);
}
