//! HID reports.

use toml::Spanned;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::{RawCarrier, RawReport};

/// HID reports.
#[derive(Clone, Debug)]
pub struct Hid {
    /// bInterfaceNumber; the first HID interface without it.
    pub interface: Option<u8>,
    /// The report type that sends frames.
    pub send: Report,
    /// The report type that carries replies.
    pub reply: Report,
    /// The report id, if the device uses report ids.
    pub report: Option<u8>,
    /// Bytes in a report that is sent, without its id.
    pub length: usize,
    /// Bytes in an input report, without its id.
    pub reply_length: usize,
    /// The padding byte of reports.
    pub fill: u8,
}

/// A kind of HID report.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // the standard's names
pub enum Report {
    Output,
    Input,
    Feature,
}

pub(super) static KIND: CarrierKind = CarrierKind {
    name: "hid",
    description: "HID reports",
    template: include_str!("../templates/hid.dialect.toml"),
    framing: Framing::Transfer,
    is_stream: false,
    has_line: false,
    has_requests: false,
    has_settings: false,
    pads_replies: true,
    explains_dfu_status: false,
    fetches_replies: |raw| raw.reply.as_ref().is_some_and(|reply| *reply.get_ref() == RawReport::Feature),
};

impl Hid {
    pub(super) fn frame_limit(&self) -> Option<(usize, &'static str)> {
        Some((self.length, "a report"))
    }
}

pub(super) fn check(raw: &Spanned<RawCarrier>, problems: &mut Vec<Problem>) -> Option<Hid> {
    let given = raw.get_ref();
    let mut wrong = |at: usize, message: &str| problems.push(Problem::new(at, message));
    let report = |report: &Option<Spanned<RawReport>>, other: Report| {
        report.as_ref().map_or(other, |report| match report.get_ref() {
            RawReport::Output => Report::Output,
            RawReport::Input => Report::Input,
            RawReport::Feature => Report::Feature,
        })
    };
    let (send, reply) = (report(&given.send, Report::Output), report(&given.reply, Report::Input));
    if let Some(found) = given.send.as_ref().filter(|_| send == Report::Input) {
        wrong(
            found.span().start,
            "frames must be sent as \"output\" or \"feature\"; an input report comes from the unit",
        );
    }
    if let Some(found) = given.reply.as_ref().filter(|_| reply == Report::Output) {
        wrong(found.span().start, "replies must be \"input\" or \"feature\"; an output report goes to the unit");
    }
    let Some(length) = &given.length else {
        wrong(given.kind.span().start, "`length` is required: bytes in a report, without its id");
        return None;
    };
    let reply_length = given.reply_length.as_ref().unwrap_or(length);
    for length in [length, reply_length] {
        if !(1..=4096).contains(length.get_ref()) {
            wrong(length.span().start, "a report must have 1 to 4096 bytes");
        }
    }
    if let Some(report) = given.report.as_ref().filter(|report| *report.get_ref() == 0) {
        wrong(report.span().start, "report ids start at 1; omit this if reports have no id");
    }
    Some(Hid {
        interface: given.interface,
        send,
        reply,
        report: given.report.as_ref().map(|report| *report.get_ref()),
        length: *length.get_ref() as usize,
        reply_length: *reply_length.get_ref() as usize,
        fill: given.fill.as_ref().map_or(0, |fill| *fill.get_ref()),
    })
}
