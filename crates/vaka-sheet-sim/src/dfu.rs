//! Update modes that speak DFU.

use std::ops::Range;
use std::time::Duration;

use vaka_core::unit::MemoryChoice;
use vaka_sim::bootloader::dfu::{self, Quirks};
use vaka_sim::bootloader::dfu_addressed::{DfuAddressed, Leave};
use vaka_sim::bootloader::dfu_plain::{DfuPlain, Traits};
use vaka_sim::flash::Flash;
use vaka_sim::usb::{Answer, DescribedInterface, Setup};

use crate::mode::{Exit, Mode, plain_interface};

/// wTransferSize. Chosen by us: one that is common.
pub(crate) const TRANSFER_SIZE: u16 = 1024;

/// A memory of a DFU unit: its name, and where it is.
#[derive(Clone, Debug)]
pub(crate) struct DfuMemory {
    pub(crate) name: String,
    pub(crate) span: Range<u32>,
}

/// Where the memories of a unit are among its interfaces and alternate settings.
#[derive(Clone, Debug)]
pub(crate) struct DfuPlace {
    interface: u8,
    /// The alternate setting of the first memory.
    first: u8,
}

impl DfuPlace {
    pub(crate) fn new(choice: &MemoryChoice) -> Self {
        Self { interface: choice.interface.unwrap_or(0), first: choice.alternate.unwrap_or(0) }
    }

    fn interfaces(&self, names: &[String], extra: Vec<u8>) -> Vec<DescribedInterface> {
        let others = (0..self.interface).map(|_| plain_interface("Other"));
        let before = (0..self.first).map(|number| format!("Other memory {number}"));
        let names = before.chain(names.iter().cloned()).collect();
        let dfu = DescribedInterface { class: dfu::CLASS, names, extra, bulk: Vec::new(), interrupt: Vec::new() };
        others.chain([dfu]).collect()
    }

    /// The request as if the interface were the first one; `None` for another interface.
    fn own(&self, setup: Setup) -> Option<Setup> {
        (setup.index == u16::from(self.interface)).then_some(Setup { index: 0, ..setup })
    }
}

/// DFU with memory addresses.
#[derive(Debug)]
pub(crate) struct Addressed {
    place: DfuPlace,
    layout: String,
    dfu: DfuAddressed,
}

impl Addressed {
    pub(crate) fn new(choice: &MemoryChoice, flash: &Flash) -> Self {
        let name = choice.name.clone().unwrap_or_else(|| "Flash".to_owned());
        let dfu = DfuAddressed::new(flash.base(), TRANSFER_SIZE);
        Self { place: DfuPlace::new(choice), layout: DfuAddressed::layout(&name, flash), dfu }
    }
}

impl Mode for Addressed {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        self.place.interfaces(std::slice::from_ref(&self.layout), self.dfu.functional_descriptor())
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let own = self.place.own(setup);
        own.map_or(Answer::Stall, |setup| self.dfu.control(now, flash, setup, data))
    }

    fn bus_reset(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        self.dfu.bus_reset(now, flash);
        None
    }

    fn advance(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        match self.dfu.advance(now, flash)? {
            Leave::Jump(to) => Some(Exit::Jump(to)),
            Leave::Wiped => Some(Exit::Restart),
        }
    }

    fn cut(&mut self, now: Duration, flash: &mut Flash) {
        self.dfu.cut(now, flash);
    }
}

/// Plain DFU.
#[derive(Debug)]
pub(crate) struct Plain {
    place: DfuPlace,
    names: Vec<String>,
    dfu: DfuPlain,
}

impl Plain {
    /// The first of `memories` has the application; `uploads` is whether an upload returns it.
    pub(crate) fn new(
        choice: &MemoryChoice,
        memories: Vec<DfuMemory>,
        uploads: bool,
        is_sound: impl Fn(&Flash) -> bool + Send + Sync + 'static,
    ) -> Self {
        let names = memories.iter().map(|memory| memory.name.clone()).collect();
        let spans = memories.into_iter().map(|memory| memory.span).collect();
        let traits = Traits { can_upload: uploads, tolerant: true, will_detach: false };
        let dfu = DfuPlain::new(spans, TRANSFER_SIZE, traits, Quirks::default(), is_sound);
        Self { place: DfuPlace::new(choice), names, dfu }
    }

    /// The state of a unit without a valid application.
    pub(crate) fn without_firmware(self) -> Self {
        Self { dfu: self.dfu.for_want_of_firmware(), ..self }
    }
}

/// SET_INTERFACE. Source: USB 2.0, section 9.4.10.
const SET_INTERFACE: (u8, u8) = (0x01, 11);

impl Mode for Plain {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        self.place.interfaces(&self.names, self.dfu.functional_descriptor())
    }

    fn control(&mut self, now: Duration, flash: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        let own = self.place.own(setup);
        own.map_or(Answer::Stall, |setup| self.dfu.control(now, flash, setup, data))
    }

    fn standard(&mut self, setup: Setup) -> Option<Answer> {
        let own = self.place.own(setup).filter(|setup| (setup.kind, setup.request) == SET_INTERFACE)?;
        let memory = own.value.checked_sub(self.place.first.into());
        Some(match memory.is_some_and(|memory| self.dfu.select(memory)) {
            true => Answer::Done,
            false => Answer::Stall,
        })
    }

    fn bus_reset(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        self.dfu.bus_reset(now, flash).then_some(Exit::Restart)
    }

    fn advance(&mut self, now: Duration, flash: &mut Flash) -> Option<Exit> {
        self.dfu.advance(now, flash).then_some(Exit::Restart)
    }

    fn cut(&mut self, now: Duration, flash: &mut Flash) {
        self.dfu.cut(now, flash);
    }
}
