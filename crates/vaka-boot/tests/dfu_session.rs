//! The DFU engine against units that do not behave, each answering requests
//! from a script of its own.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::protocol::dfu::{AddressedSession, DfuParams, detach};
use vaka_boot::protocol::session::Session;
use vaka_boot::protocol::session_error::SessionError;
use vaka_core::dfu::Attributes;
use vaka_core::unit::DfuFacts;
use vaka_image::address::{Address, Span};
use vaka_sim::clock::VirtualClock;
use vaka_usb::{Clock, Setup, TransferError, UsbDevice};

/// Requests by their numbers in the standard.
const DOWNLOAD: u8 = 1;
const UPLOAD: u8 = 2;
const GET_STATUS: u8 = 3;
const CLEAR_STATUS: u8 = 4;
const GET_STATE: u8 = 5;
const ABORT: u8 = 6;

type Answer = Result<Vec<u8>, TransferError>;
type Script = Box<dyn FnMut(u8, u16, &[u8]) -> Answer + Send>;

/// A unit that answers class requests by a script, and has one string.
struct Unit {
    script: Script,
    log: Arc<Mutex<Vec<(u8, u16, usize)>>>,
}

impl UsbDevice for Unit {
    fn control_in(&mut self, setup: Setup, length: u16, _: Duration) -> Answer {
        match setup.kind {
            0x80 if setup.value == 0x0300 => Ok(vec![4, 3, 9, 4]),
            0x80 => Ok(vec![8, 3, b'n', 0, 0x1B, 0, b'o', 0]),
            _ => {
                self.log.lock().unwrap().push((setup.request, setup.value, usize::from(length)));
                (self.script)(setup.request, setup.value, &[])
            }
        }
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], _: Duration) -> Result<(), TransferError> {
        self.log.lock().unwrap().push((setup.request, setup.value, data.len()));
        (self.script)(setup.request, setup.value, data).map(drop)
    }

    fn claim(&mut self, _: u8, _: u8) -> Result<(), TransferError> {
        Ok(())
    }

    fn wait_for_disconnect(&mut self, _: Duration) -> bool {
        false
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        Ok(())
    }
}

fn status(status: u8, poll_ms: u32, state: u8) -> Answer {
    let [a, b, c, _] = poll_ms.to_le_bytes();
    Ok(vec![status, a, b, c, state, 0])
}

/// The outcome of a test: result, requests, events, duration.
struct Outcome<T> {
    result: Result<T, SessionError>,
    log: Vec<(u8, u16, usize)>,
    events: Vec<Event>,
    time: Duration,
}

/// Opens a session on a unit with blocks of 16 bytes and works with it.
fn with_unit<T>(
    script: impl FnMut(u8, u16, &[u8]) -> Answer + Send + 'static,
    work: impl FnOnce(&mut AddressedSession, &mut Context<'_>) -> Result<T, SessionError>,
) -> Outcome<T> {
    let clock = VirtualClock::default();
    let log = Arc::new(Mutex::new(Vec::new()));
    let unit = Unit { script: Box::new(script), log: log.clone() };
    let mut events = Vec::new();
    let mut tell = |event| events.push(event);
    let stop = AtomicBool::new(false);
    let mut cx = Context::new(&clock, &mut tell, &stop);
    let opening = DfuParams {
        interface: 0,
        alternate: 0,
        block_size: 16,
        size_is_known: true,
        attributes: Attributes(0x0B),
        addressed: true,
        sectors: None,
    };
    let result =
        AddressedSession::open(Box::new(unit), opening, &mut cx).and_then(|mut session| work(&mut session, &mut cx));
    let time = clock.now();
    let log = log.lock().unwrap().clone();
    Outcome { result, log, events, time }
}

const AT: Address = Address::new(0x0A00_2400);

fn erase(session: &mut AddressedSession, cx: &mut Context<'_>) -> Result<(), SessionError> {
    session.erase(Span::new(AT, 16).unwrap(), cx)
}

/// A unit that is idle and answers each status from a list, the last for ever.
fn statuses(list: Vec<Answer>) -> impl FnMut(u8, u16, &[u8]) -> Answer + Send {
    let mut list = list.into_iter().peekable();
    move |request, _, _| match request {
        GET_STATE => Ok(vec![2]),
        GET_STATUS => {
            let now = list.peek().cloned().unwrap();
            let mut rest = list.clone();
            rest.next();
            if rest.peek().is_some() {
                list.next();
            }
            now
        }
        _ => Ok(Vec::new()),
    }
}

#[test]
fn a_unit_that_names_no_time_is_asked_again_after_growing_pauses() {
    let mut list = vec![status(0, 0, 4); 12];
    list.push(status(0, 0, 5));
    let done = with_unit(statuses(list), erase);
    assert_eq!(done.result, Ok(()));
    // 2, 4, 8, 16, 32, 64 and then 100 ms, six times.
    assert_eq!(done.time, Duration::from_millis(2 + 4 + 8 + 16 + 32 + 64 + 6 * 100));
}

#[test]
fn an_absurd_time_is_capped_and_reported_once() {
    let list = vec![status(0, 0xFF_FFFF, 4), status(0, 0xFF_FFFF, 4), status(0, 0, 5)];
    let done = with_unit(statuses(list), erase);
    assert_eq!(done.result, Ok(()));
    // The ceiling for an erase is 30 s, twice.
    assert_eq!(done.time, Duration::from_secs(60));
    let warnings = done.events.iter().filter(|event| matches!(event, Event::Warning { .. })).count();
    assert_eq!(warnings, 1);
    assert!(
        done.events.iter().any(|event| matches!(event, Event::Waiting { .. })),
        "a long silence has a sign of life"
    );
}

#[test]
fn a_unit_that_stays_busy_is_abandoned() {
    let done = with_unit(statuses(vec![status(0, 500, 4)]), erase);
    assert_eq!(done.result, Err(SessionError::Timeout("the unit is still busy after 60 s".into())));
    assert!(done.time < Duration::from_secs(62));
}

#[test]
fn a_time_in_an_idle_state_delays_only_the_next_status() {
    // Some units claim 50 ms in every state.
    let busy_then_idle = vec![status(0, 50, 4), status(0, 50, 5)];
    let mut list = Vec::new();
    (0..3).for_each(|_| list.extend(busy_then_idle.clone()));
    let done = with_unit(statuses(list), |session, cx| {
        session.write(AT, &[0; 16], cx)?;
        session.write(Address::new(AT.get() + 16), &[0; 16], cx)
    });
    assert_eq!(done.result, Ok(()));
    // Six statuses, a wait before all but the first.
    assert_eq!(done.time, Duration::from_millis(5 * 50));
}

#[test]
fn blocks_are_numbered_and_a_short_one_is_alone() {
    let done = with_unit(statuses(vec![status(0, 0, 5)]), |session, cx| {
        session.write(AT, &[1; 16], cx)?;
        session.write(Address::new(AT.get() + 16), &[2; 16], cx)?;
        session.write(Address::new(AT.get() + 32), &[3; 8], cx)?;
        session.write(Address::new(AT.get() + 40), &[4; 16], cx)
    });
    assert_eq!(done.result, Ok(()));
    let downloads: Vec<_> =
        done.log.iter().filter(|(request, ..)| *request == DOWNLOAD).map(|(_, v, l)| (*v, *l)).collect();
    // An address command has 5 bytes and block number 0.
    assert_eq!(downloads, [(0, 5), (2, 16), (3, 16), (0, 5), (2, 8), (0, 5), (2, 16)]);
}

#[test]
fn reading_goes_through_idle_and_back() {
    let script = |request: u8, _: u16, _: &[u8]| match request {
        GET_STATE => Ok(vec![2]),
        GET_STATUS => status(0, 0, 5),
        UPLOAD => Ok(vec![7; 16]),
        _ => Ok(Vec::new()),
    };
    let done = with_unit(script, |session, cx| {
        session.read(AT, 16, cx)?;
        session.read(Address::new(AT.get() + 16), 16, cx)?;
        erase(session, cx)
    });
    assert_eq!(done.result, Ok(()));
    let requests: Vec<u8> = done.log.iter().map(|(request, ..)| *request).collect();
    let wanted = [GET_STATE, DOWNLOAD, GET_STATUS, ABORT, UPLOAD, UPLOAD, ABORT, DOWNLOAD, GET_STATUS];
    assert_eq!(requests, wanted);
}

#[test]
fn a_refusal_comes_with_the_units_own_words_and_nothing_that_steers_a_terminal() {
    let mut refused = status(0x0B, 0, 10).unwrap();
    refused[5] = 7;
    let done = with_unit(statuses(vec![Ok(refused)]), erase);
    let said = done.result.unwrap_err().to_string();
    assert!(said.contains("errVENDOR") && said.contains("(\"n\\u{1b}o\")"), "{said}");
}

#[test]
fn short_answers_and_odd_states_are_reported() {
    for (answer, words) in [
        (Ok(vec![0; 5]), "its status has 5 bytes instead of 6"),
        (status(0, 0, 9), "after a download it is in dfuUPLOAD-IDLE"),
        (status(0, 0, 77), "after a download it is in unknown state 77"),
        (Err(TransferError::Disconnected), "the unit disconnected"),
        (Err(TransferError::Timeout), "the unit did not reply within the time limit"),
    ] {
        let said = with_unit(statuses(vec![answer]), erase).result.unwrap_err().to_string();
        assert!(said.contains(words), "{said}");
    }
    let less = |request: u8, _: u16, _: &[u8]| match request {
        GET_STATE => Ok(vec![2]),
        UPLOAD => Ok(vec![0; 15]),
        GET_STATUS => status(0, 0, 5),
        _ => Ok(Vec::new()),
    };
    let said = with_unit(less, |session, cx| session.read(AT, 16, cx)).result.unwrap_err().to_string();
    assert!(said.contains("15 of 16 bytes at 0x0A00_2400"), "{said}");
}

#[test]
fn the_way_to_idle_begins_without_starting_anything() {
    // The unit refuses DFU_GETSTATE: then DFU_GETSTATUS has to do.
    let refuses = |request: u8, _: u16, _: &[u8]| match request {
        GET_STATE => Err(TransferError::Stall),
        GET_STATUS => status(0, 0, 2),
        _ => Ok(Vec::new()),
    };
    assert_eq!(with_unit(refuses, |_, _| Ok(())).result, Ok(()));
    // An error that needs clearing twice.
    let mut cleared = 0;
    let stubborn = move |request: u8, _: u16, _: &[u8]| match request {
        GET_STATE => Ok(vec![10]),
        CLEAR_STATUS => {
            cleared += 1;
            Ok(Vec::new())
        }
        GET_STATUS if cleared >= 2 => status(0, 0, 2),
        GET_STATUS => status(0x0C, 0, 10),
        _ => Ok(Vec::new()),
    };
    let done = with_unit(stubborn, |_, _| Ok(()));
    assert_eq!(done.result, Ok(()));
    assert_eq!(done.log.iter().filter(|(request, ..)| *request == CLEAR_STATUS).count(), 2);
    for (state, words) in [(0, "application is running"), (8, "waits for a bus reset"), (42, "state 42")] {
        let odd = move |request: u8, _: u16, _: &[u8]| {
            if request == GET_STATE { Ok(vec![state]) } else { status(0, 0, state) }
        };
        let said = with_unit(odd, |_, _| Ok(())).result.unwrap_err().to_string();
        assert!(said.contains(words), "{said}");
    }
    // One that never gets there is given up.
    let never = |request: u8, _: u16, _: &[u8]| if request == GET_STATE { Ok(vec![5]) } else { Ok(Vec::new()) };
    assert!(
        with_unit(never, |_, _| Ok(()))
            .result
            .unwrap_err()
            .to_string()
            .contains("it does not reach dfuIDLE; it stays in")
    );
}

#[test]
fn a_unit_may_vanish_while_it_is_reported_to_leave() {
    for gone_at in [DOWNLOAD, GET_STATUS] {
        let mut leaving = false;
        let script = move |request: u8, _: u16, data: &[u8]| {
            leaving |= request == DOWNLOAD && data.is_empty();
            match request {
                _ if leaving && request == gone_at => Err(TransferError::Disconnected),
                GET_STATE => Ok(vec![2]),
                GET_STATUS => status(0, 0, 5),
                _ => Ok(Vec::new()),
            }
        };
        let done = with_unit(script, |session, cx| session.restart(Some(AT), cx));
        assert_eq!(done.result, Ok(()), "{gone_at}");
    }
    // But a refusal is a refusal.
    let script = |request: u8, _: u16, data: &[u8]| match request {
        GET_STATE => Ok(vec![2]),
        DOWNLOAD if data.is_empty() => Err(TransferError::Stall),
        GET_STATUS => status(0, 0, 5),
        _ => Ok(Vec::new()),
    };
    assert!(matches!(with_unit(script, |s, cx| s.restart(Some(AT), cx)).result, Err(SessionError::DfuStatus { .. })));
}

/// An application that answers DFU_DETACH, and at the bus reset leaves or stays while the system
/// reports an error.
struct Resets {
    leaves: bool,
    was_reset: bool,
}

impl UsbDevice for Resets {
    fn control_in(&mut self, _: Setup, _: u16, _: Duration) -> Answer {
        Err(TransferError::Stall)
    }

    fn control_out(&mut self, _: Setup, _: &[u8], _: Duration) -> Result<(), TransferError> {
        Ok(())
    }

    fn claim(&mut self, _: u8, _: u8) -> Result<(), TransferError> {
        Ok(())
    }

    fn wait_for_disconnect(&mut self, _: Duration) -> bool {
        self.was_reset && self.leaves
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.was_reset = true;
        Err(TransferError::Failed("invalid argument".into()))
    }
}

/// Linux reports "invalid argument" or "no such device" if a unit leaves while its port is reset.
#[test]
fn a_unit_that_leaves_while_it_is_reset_has_left() {
    let dfu = DfuFacts { interface: 0, in_dfu_mode: false, alternates: Vec::new(), functional: None };
    let left = |leaves| detach::detach(Box::new(Resets { leaves, was_reset: false }), &dfu);
    assert_eq!(left(true), Ok(()));
    assert!(left(false).is_err());
}

/// DFU_GETSTATUS waits for the time that the last reply named, whatever state that was: in
/// dfuERROR, and after DFU_CLRSTATUS. Source: DFU 1.1, section 6.1.2 (bwPollTimeout).
#[test]
fn the_status_is_not_asked_for_before_the_named_time_is_over() {
    let clock = Arc::new(VirtualClock::default());
    let asked: Arc<Mutex<Vec<Duration>>> = Arc::default();
    let (times, now) = (asked.clone(), clock.clone());
    let mut state = 10;
    let script: Script = Box::new(move |request, _, _| match request {
        GET_STATE => Ok(vec![state]),
        GET_STATUS => {
            times.lock().unwrap().push(now.now());
            status(if state == 10 { 8 } else { 0 }, 700, state)
        }
        CLEAR_STATUS => {
            state = 2;
            Ok(Vec::new())
        }
        _ => Ok(Vec::new()),
    });
    let unit = Unit { script, log: Arc::default() };
    let opening = DfuParams {
        interface: 0,
        alternate: 0,
        block_size: 16,
        size_is_known: true,
        attributes: Attributes(3),
        addressed: true,
        sectors: None,
    };
    let stop = AtomicBool::new(false);
    let mut ignore = |_: Event| {};
    let mut cx = Context::new(&*clock, &mut ignore, &stop);
    AddressedSession::open(Box::new(unit), opening, &mut cx).map(drop).unwrap();
    let asked = asked.lock().unwrap().clone();
    assert!(asked.len() >= 2, "{asked:?}");
    assert!(asked.windows(2).all(|pair| pair[1] - pair[0] >= Duration::from_millis(700)), "{asked:?}");
}
