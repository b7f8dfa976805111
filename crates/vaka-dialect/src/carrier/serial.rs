//! A serial port by the CDC-ACM class.

use toml::Spanned;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::RawCarrier;

/// The settings of a serial line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineSetting {
    /// Bits per second.
    pub baud: u32,
    /// Data bits: 5 to 8.
    pub data_bits: u8,
    /// bParityType: 0 none, 1 odd, 2 even. Source: PSTN subclass of CDC 1.2, table 17.
    pub parity: u8,
    /// bCharFormat: 0 one stop bit, 2 two stop bits. Source: as above.
    pub stop: u8,
}

impl LineSetting {
    /// Reads `8N1`, `7E2` and the like.
    pub(crate) fn parse(baud: i128, form: &str) -> Option<Self> {
        let [data, parity, stop] = form.as_bytes() else { return None };
        let data_bits = (b'5'..=b'8').contains(data).then(|| data - b'0')?;
        let parity = match parity {
            b'N' => 0,
            b'O' => 1,
            b'E' => 2,
            _ => return None,
        };
        let stop = match stop {
            b'1' => 0,
            b'2' => 2,
            _ => return None,
        };
        let baud = u32::try_from(baud).ok().filter(|baud| *baud > 0)?;
        Some(Self { baud, data_bits, parity, stop })
    }
}

/// A serial port by the CDC-ACM class.
#[derive(Clone, Debug)]
pub struct Serial {
    /// bInterfaceNumber of its data interface; the first without it.
    pub interface: Option<u8>,
    /// The line settings; the line is not configured without them.
    pub line: Option<LineSetting>,
    /// DTR at the start.
    pub dtr: bool,
    /// RTS at the start.
    pub rts: bool,
}

pub(super) static KIND: CarrierKind = CarrierKind {
    name: "serial",
    description: "serial port (CDC-ACM)",
    template: include_str!("../templates/serial.dialect.toml"),
    framing: Framing::None,
    is_stream: true,
    has_line: true,
    has_requests: false,
    has_settings: false,
    pads_replies: false,
    explains_dfu_status: false,
    fetches_replies: |_| false,
};

impl Serial {
    pub(super) fn frame_limit(&self) -> Option<(usize, &'static str)> {
        None
    }
}

pub(super) fn check(raw: &Spanned<RawCarrier>, problems: &mut Vec<Problem>) -> Option<Serial> {
    let given = raw.get_ref();
    let on = |signal: &Option<Spanned<bool>>| signal.as_ref().is_none_or(|on| *on.get_ref());
    let (dtr, rts) = (on(&given.dtr), on(&given.rts));
    Some(Serial { interface: given.interface, line: line(given, problems), dtr, rts })
}

/// The speed and the form of the line; `None` without both, and for wrong ones.
fn line(given: &RawCarrier, problems: &mut Vec<Problem>) -> Option<LineSetting> {
    let Some(baud) = &given.baud else {
        if let Some(form) = &given.form {
            problems.push(Problem::new(form.span().start, "`baud` is required"));
        }
        return None;
    };
    let form = given.form.as_ref().map_or("8N1", |form| form.get_ref().as_str());
    let line = LineSetting::parse(i128::from(*baud.get_ref()), form);
    if line.is_none() {
        let span = given.form.as_ref().map_or(baud.span(), Spanned::span);
        problems.push(Problem::new(span.start, "a line requires a speed above 0 and a format like \"8N1\" or \"7E2\""));
    }
    line
}
