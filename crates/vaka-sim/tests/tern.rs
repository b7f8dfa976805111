//! The Tern simulated unit itself: what bricks it, and what does not.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::time::Duration;

use support::Raw;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::usb::Answer;

const R1_BINARY: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.bin");
const R2_BINARY: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r2-1.5.0.bin");
const APPLICATION: u32 = 0x0A00_2400;

/// Resets a unit and gives it time to start.
fn restart(unit: &mut Tern) -> Condition {
    unit.act(Duration::ZERO, &UserAction::Tap("RESET".into()));
    unit.advance(Duration::from_secs(1));
    unit.condition()
}

/// A Tern r1 with these bytes at the start of its application region.
fn with_application(image: &[u8]) -> Tern {
    let mut unit = Tern::new(Revision::R1, "T1-00217");
    unit.flash_mut().erase(Tern::application_region(Revision::R1));
    unit.flash_mut().put(APPLICATION, image);
    unit
}

#[test]
fn only_a_sound_image_for_its_board_runs() {
    assert_eq!(restart(&mut with_application(R1_BINARY)), Condition::Application);
    // Nothing to start, or something unsound: back to the boot mode.
    assert_eq!(restart(&mut with_application(&[])), Condition::Boot);
    assert_eq!(restart(&mut with_application(&R1_BINARY[..R1_BINARY.len() - 1])), Condition::Boot);
    let mut damaged = R1_BINARY.to_vec();
    damaged[0x2000] ^= 1;
    assert_eq!(restart(&mut with_application(&damaged)), Condition::Boot);
}

#[test]
fn the_other_boards_image_bricks_it() {
    // Linked for r1's start address, sound in every way but its board word.
    let mut wrong = R1_BINARY.to_vec();
    wrong[0x43] = b'2';
    let end = wrong.len() - 4;
    let crc = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(&wrong[..end]);
    wrong[end..].copy_from_slice(&crc.to_le_bytes());
    for image in [&wrong[..], R2_BINARY] {
        let mut unit = with_application(image);
        assert_eq!(restart(&mut unit), Condition::Bricked);
        assert!(unit.descriptors().is_none(), "it shows nothing on the bus");
        for hand in
            [UserAction::Pull, UserAction::Hold("SET".into()), UserAction::Plug, UserAction::Tap("RESET".into())]
        {
            unit.act(Duration::from_secs(2), &hand);
            unit.advance(Duration::from_secs(9));
        }
        assert_eq!(unit.condition(), Condition::Bricked, "no hand brings it back");
        unit.revive(Duration::from_secs(10));
        unit.advance(Duration::from_secs(11));
        assert_eq!(unit.condition(), Condition::Application);
    }
}

#[test]
fn a_changed_bootloader_bricks_it() {
    let mut unit = Tern::new(Revision::R1, "T1-00217");
    let byte = unit.flash().read(0x0A00_0010, 1).unwrap()[0];
    unit.flash_mut().put(0x0A00_0010, &[byte ^ 0x80]);
    assert_eq!(restart(&mut unit), Condition::Bricked);
}

fn booted() -> Raw {
    Raw::new(Tern::in_boot_mode(Revision::R1, "T1-00217"), 0)
}

fn byte(raw: &mut Raw, address: u32) -> u8 {
    raw.unit().flash().read(address, 1).unwrap()[0]
}

const ERASE_APPLICATION: [u8; 5] = [0x41, 0x00, 0x24, 0x00, 0x0A];

#[test]
fn work_begins_with_the_status_and_takes_its_time() {
    let mut raw = booted();
    let before = byte(&mut raw, APPLICATION + 4);
    assert_eq!(raw.download(0, &ERASE_APPLICATION), Answer::Done);
    raw.wait(1000);
    assert_eq!(byte(&mut raw, APPLICATION + 4), before, "nothing happens without a status request");
    // 3 KiB at 10 ms a KiB, and the promise is a tenth longer.
    assert_eq!(raw.status(), (0, 33, 4));
    raw.wait(29);
    assert_eq!(byte(&mut raw, APPLICATION + 4), before);
    raw.wait(1);
    assert_eq!(byte(&mut raw, APPLICATION + 4), 0xFF);
    assert_eq!(raw.status(), (0, 0, 5));
}

#[test]
fn a_busy_unit_wants_to_be_left_alone() {
    let mut raw = booted();
    raw.download(0, &ERASE_APPLICATION);
    raw.status();
    raw.wait(29);
    assert_eq!(raw.send(0xA1, 3, 0, 6, &[]), Answer::Stall);
    assert_eq!(raw.status(), (0x0F, 0, 10), "errSTALLEDPKT, dfuERROR");
}

#[test]
fn power_lost_in_the_middle_leaves_half_an_erase() {
    let mut raw = booted();
    raw.download(0, &ERASE_APPLICATION);
    raw.status();
    raw.wait(10);
    raw.world.act("1-1", &UserAction::Pull);
    assert_eq!(byte(&mut raw, APPLICATION), 0xFF);
    assert_ne!(byte(&mut raw, APPLICATION + 2048), 0xFF, "the second half is as it was");
}

#[test]
fn addresses_outside_the_flash_are_refused() {
    for command in [[0x21, 0, 0, 0, 0], [0x41, 0x00, 0x40, 0x02, 0x0A], [0x41, 0xFF, 0xFF, 0xFF, 0x09]] {
        let mut raw = booted();
        raw.download(0, &command);
        assert_eq!(raw.status(), (0x08, 0, 10), "{command:02X?}: errADDRESS");
    }
}

/// Brings a fresh unit into a state by its number in the standard.
fn in_state(state: u8) -> Raw {
    let mut raw = booted();
    match state {
        3 => drop(raw.download(0, &ERASE_APPLICATION)),
        4 => {
            raw.download(0, &ERASE_APPLICATION);
            raw.status();
        }
        5 => {
            raw.download(0, &[0x21, 0x00, 0x24, 0x00, 0x0A]);
            raw.status();
            raw.status();
        }
        6 => drop(raw.download(0, &[])),
        7 => {
            raw.download(0, &[]);
            raw.status();
        }
        9 => drop(raw.send(0xA1, 2, 2, 1024, &[])),
        10 => drop(raw.send(0x21, 0, 0, 0, &[])),
        _ => {}
    }
    raw
}

/// DFU 1.1, appendix A, for a unit that can download and upload, with what the
/// address extension changes: a download of no bytes in dfuIDLE is the request
/// to leave. `X` is a stall that leads to dfuERROR; a number the next state.
#[test]
fn every_request_in_every_state_goes_as_the_standard_says() {
    const X: u8 = 0xFF;
    #[rustfmt::skip]
    let table: [(u8, [u8; 8]); 8] = [
        // state DETACH DNLOAD DNLOAD-0 UPLOAD GETSTATUS CLRSTATUS GETSTATE ABORT
        (2,     [X,     3,     6,       9,     2,        X,        2,       2]),
        (3,     [X,     X,     X,       X,     4,        X,        3,       2]),
        (4,     [X,     X,     X,       X,     X,        X,        X,       X]),
        (5,     [X,     3,     6,       X,     5,        X,        5,       2]),
        (6,     [X,     X,     X,       X,     7,        X,        6,       2]),
        (7,     [X,     X,     X,       X,     X,        X,        X,       X]),
        (9,     [X,     X,     X,       9,     9,        X,        9,       2]),
        (10,    [X,     X,     X,       X,     10,       2,        10,      X]),
    ];
    let requests: [(u8, u8, u16, u16, &[u8]); 8] = [
        (0x21, 0, 0, 0, &[]),
        (0x21, 1, 2, 4, &[1, 2, 3, 4]),
        (0x21, 1, 0, 0, &[]),
        (0xA1, 2, 2, 1024, &[]),
        (0xA1, 3, 0, 6, &[]),
        (0x21, 4, 0, 0, &[]),
        (0xA1, 5, 0, 1, &[]),
        (0x21, 6, 0, 0, &[]),
    ];
    for (state, row) in table {
        for (column, next) in row.into_iter().enumerate() {
            let what = format!("request {column} in state {state}");
            let mut raw = in_state(state);
            let (kind, request, value, length, data) = requests[column];
            let answer = raw.send(kind, request, value, length, data);
            assert_eq!(answer == Answer::Stall, next == X, "{what}: {answer:?}");
            let now = raw.send(0xA1, 5, 0, 1, &[]);
            let wanted = match next {
                // A unit at work refuses even to tell its state.
                4 | 7 => Answer::Stall,
                X => Answer::Data(vec![10]),
                next => Answer::Data(vec![next]),
            };
            assert_eq!(now, wanted, "{what}");
            if next == X && state != 10 {
                assert_eq!(raw.status(), (0x0F, 0, 10), "{what}: errSTALLEDPKT");
            }
        }
    }
}
