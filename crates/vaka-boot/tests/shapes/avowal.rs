//! # Avowal: an application that tests itself
//!
//! An application with a vendor interface. The request 0x70 (in) gives "OK", the state of its self-test
//! and its version in packed decimal (u16le). The state is 0 as long as the test runs, 1 if it passed,
//! and 2 if it failed. Until 200 ms after its start the application answers nothing.

use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use vaka_sim::unit::vendor_unit::AppModel;
use vaka_sim::usb::{Answer, DescribedInterface, Setup};

use super::pipes;

pub const DIALECT: &str = r#"
dialect = 1
name = "avowal"
[carrier]
kind = "control"
[table.test]
0 = "busy"
1 = "ok"
2 = "the self-test failed"
[recover]
do = "reset"
[exchange.reset]
out = { request = 0x71 }
[confirm]
in = { request = 0x70 }
reply = "'OK', u8 in test, u16le version"
tells = { version = "version" }
within = "2 s"
total = "4 s"
"#;

/// Requests that applications got and that are the bootloader's.
pub static STRAY: AtomicU32 = AtomicU32::new(0);

#[derive(Debug)]
pub struct Avowal {
    pub version: u16,
    /// The state after the test; none for an application that answers nothing.
    pub result: Option<u8>,
    pub asked_first: Option<Duration>,
}

impl AppModel for Avowal {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        pipes("Readings", &[], &[])
    }

    fn control(&mut self, now: Duration, setup: Setup, _: &[u8]) -> Answer {
        STRAY.fetch_add(u32::from(setup.request == 0x71), Ordering::Relaxed);
        let Some(result) = self.result.filter(|_| (setup.kind, setup.request) == (0xC0, 0x70)) else {
            return Answer::Stall;
        };
        let first = *self.asked_first.get_or_insert(now);
        if now < first + Duration::from_millis(200) {
            return Answer::Stall;
        }
        let state = if now < first + Duration::from_millis(600) { 0 } else { result };
        Answer::Data([b"OK", &[state][..], &self.version.to_le_bytes()].concat())
    }

    fn leaves_at(&self) -> Option<Duration> {
        None
    }
}
