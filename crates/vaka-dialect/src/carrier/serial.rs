//! A serial port by the CDC-ACM class.

use toml::Spanned;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::RawCarrier;
use crate::steps::LineSetting;

/// A serial port by the CDC-ACM class.
#[derive(Clone, Debug)]
pub struct Serial {
    /// bInterfaceNumber of its data interface; the first without it.
    pub interface: Option<u8>,
    /// How its line is set; left as it is without it.
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
            problems.push(Problem::new(form.span().start, "say with `baud` how fast the line is"));
        }
        return None;
    };
    let form = given.form.as_ref().map_or("8N1", |form| form.get_ref().as_str());
    let line = LineSetting::parse(i128::from(*baud.get_ref()), form);
    if line.is_none() {
        let span = given.form.as_ref().map_or(baud.span(), Spanned::span);
        problems.push(Problem::new(span.start, "a line has a speed above 0 and a form like \"8N1\" or \"7E2\""));
    }
    line
}
