//! Frames of a CAN bus, each a frame of its own or a message of ISO-TP.

use std::time::Duration;

use toml::Spanned;
use vaka_base::duration;

use super::kind::CarrierKind;
use crate::framing::Framing;
use crate::lexer::Problem;
use crate::raw::{RawCarrier, RawTransport};

/// Frames of a CAN bus.
#[derive(Clone, Debug)]
pub struct Can {
    /// Bits per second.
    pub bit_rate: u32,
    /// Bits per second in the data of FD frames; without it all frames are classic.
    pub data_rate: Option<u32>,
    /// Whether identifiers have 29 bits, not 11.
    pub is_extended: bool,
    /// The form of longer messages; `None`: each frame is a message.
    pub iso_tp: Option<IsoTp>,
    /// The byte that fills frames up to eight bytes or the next length that exists.
    pub padding: Option<u8>,
}

/// The flow control that is sent to a unit. Source: ISO 15765-2, section 9.6.5.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct IsoTp {
    /// Frames until the next flow control; 0: all of them.
    pub block: u8,
    /// Time between two frames.
    pub separation: Duration,
}

pub(super) static KIND: CarrierKind = CarrierKind {
    name: "can",
    description: "frames of a CAN bus",
    template: include_str!("../templates/can.dialect.toml"),
    framing: Framing::Transfer,
    is_stream: false,
    has_line: false,
    has_requests: false,
    has_settings: false,
    pads_replies: false,
    explains_dfu_status: false,
    fetches_replies: |_| false,
};

/// Data bytes of a classic frame and of an FD frame. Source: ISO 11898-1.
const CLASSIC: usize = 8;
const FD: usize = 64;

/// Largest bit rates. Source: ISO 11898-2 (classic), and the fastest transceivers of CiA 601-4 (data).
const MOST_RATE: u32 = 1_000_000;
const MOST_DATA_RATE: u32 = 8_000_000;

impl Can {
    pub(super) fn frame_limit(&self) -> Option<(usize, &'static str)> {
        match (self.iso_tp, self.data_rate) {
            (Some(_), _) => None,
            (None, Some(_)) => Some((FD, "an FD frame")),
            (None, None) => Some((CLASSIC, "a CAN frame")),
        }
    }
}

pub(super) fn check(raw: &Spanned<RawCarrier>, problems: &mut Vec<Problem>) -> Option<Can> {
    let given = raw.get_ref();
    let mut rate = |given: &Option<Spanned<u32>>, most: u32| {
        let rate = given.as_ref()?;
        let fits = (10_000..=most).contains(rate.get_ref());
        if !fits {
            problems.push(Problem::new(rate.span().start, format!("a bit rate is 10000 to {most}")));
        }
        fits.then_some(*rate.get_ref())
    };
    let (bit_rate, data_rate) = (rate(&given.bit_rate, MOST_RATE), rate(&given.data_rate, MOST_DATA_RATE));
    if given.bit_rate.is_none() {
        problems.push(Problem::new(raw.span().start, "`bit_rate` is required, such as bit_rate = 500000"));
    }
    let is_iso_tp = given.transport.as_ref().is_some_and(|found| *found.get_ref() == RawTransport::IsoTp);
    let own = [given.block_size.as_ref().map(Spanned::span), given.separation.as_ref().map(Spanned::span)];
    for span in own.into_iter().flatten().filter(|_| !is_iso_tp) {
        problems.push(Problem::new(span.start, "this applies only to `transport = \"iso-tp\"`"));
    }
    let separation = given.separation.as_ref().map_or(Ok(Duration::ZERO), |time| {
        let most = Duration::from_millis(127);
        let wrong = || Problem::new(time.span().start, "expected a time of at most 127 ms, such as \"2 ms\"");
        duration::parse(time.get_ref()).ok().filter(|time| *time <= most).ok_or_else(wrong)
    });
    let separation = separation.map_err(|problem| problems.push(problem)).ok()?;
    let block = given.block_size.as_ref().map_or(0, |block| *block.get_ref());
    Some(Can {
        bit_rate: bit_rate?,
        data_rate,
        is_extended: given.extended.as_ref().is_some_and(|on| *on.get_ref()),
        iso_tp: is_iso_tp.then_some(IsoTp { block, separation }),
        padding: given.padding.as_ref().map(|byte| *byte.get_ref()),
    })
}
