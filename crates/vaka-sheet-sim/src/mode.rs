//! The modes of a unit: interfaces that answer transfers and act on its flash.

use std::fmt::Debug;
use std::time::Duration;

use vaka_sim::can::{CanFrame, Fate, Rates};
use vaka_sim::flash::Flash;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};

/// How a mode ends by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// The unit restarts.
    Restart,
    /// The unit jumps to this address.
    Jump(u32),
    /// The application leaves for the update mode of this route.
    Enter(usize),
}

/// The device side of one mode.
pub(crate) trait Mode: Send + Debug {
    /// The interfaces.
    fn interfaces(&self) -> Vec<DescribedInterface>;

    /// A class or vendor request.
    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let _ = (now, flash, setup, data);
        Answer::Stall
    }

    /// A transfer on a pipe; repeated while the unit is busy.
    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        let _ = (now, flash, transfer);
        Answer::Stall
    }

    /// A standard request that it answers itself.
    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        let _ = setup;
        None
    }

    /// The halt of an endpoint is ended.
    fn clear_halt(&mut self, endpoint: u8) {
        let _ = endpoint;
    }

    /// The bus is reset.
    fn bus_reset(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        let _ = (now, flash);
        None
    }

    /// Advances time.
    fn advance(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        let _ = (now, flash);
        None
    }

    /// The power fails: the operation in progress is half done.
    fn cut(&mut self, now: Duration, flash: &mut Flash) {
        let _ = (now, flash);
    }

    /// The result of an installation, for the unit's result file.
    fn result(&self) -> Option<&str> {
        None
    }

    /// The content of its disk, if it has one.
    fn disk(&self) -> &[u8] {
        &[]
    }

    /// Whether the unit is a node of a CAN bus, and does not appear on USB.
    fn is_node(&self) -> bool {
        self.rates().is_some()
    }

    /// The bit rates of the node, if it is one.
    fn rates(&self) -> Option<Rates> {
        None
    }

    /// The fate of the frame that the node sent.
    fn frame_sent(&mut self, fate: Fate) {
        let _ = fate;
    }

    /// The frame that the node sends next, and when it is ready.
    fn next_frame(&self) -> Option<(Duration, CanFrame)> {
        None
    }

    /// A frame of another node.
    fn hear(&mut self, at: Duration, flash: &mut Flash, frame: &CanFrame) {
        let _ = (at, flash, frame);
    }

    /// Whether the host has asked for something: then a bootloader that listens for a time stays.
    fn was_asked(&self) -> bool {
        true
    }
}

/// An interface without a function that the host uses.
pub(crate) fn plain_interface(name: &str) -> DescribedInterface {
    DescribedInterface {
        class: [0xFF, 0, 0],
        names: vec![name.to_owned()],
        extra: Vec::new(),
        bulk: Vec::new(),
        interrupt: Vec::new(),
    }
}
