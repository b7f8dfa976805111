//! A recorded run as simulated units: units that answer as those in a trace did.
//!
//! A replayed unit knows only the recorded requests and replies, in order. A request that is the
//! next in the record gets the recorded reply; one that occurs later in the record skips to
//! there; all others are rejected. If the record shows that the unit disconnected or returned
//! with other descriptors, it does so after about the recorded time.

use std::collections::VecDeque;
use std::time::Duration;

use thiserror::Error;
use vaka_usb::trace_format::{FORMAT, HexBytes, ListedDevice, TraceLine};

use crate::flash::Flash;
use crate::unit::{Condition, Unit, UserAction};
use crate::usb::{Answer, Bulk, DescribedInterface, Descriptors, Setup};
use crate::world::World;

/// Maximum pause: longer recorded pauses are shortened for the user.
const LONGEST_PAUSE: Duration = Duration::from_millis(500);
/// Between the last answer and a unit's leaving, so that the answer arrives.
const SHORTEST_PAUSE: Duration = Duration::from_millis(10);

/// An error in a trace.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
pub enum TraceError {
    /// The first line is not a trace header.
    #[error("this is not a trace: its first line is not a trace header")]
    Head,
    /// It has another version.
    #[error("the trace has format {0}; format 1 can be replayed")]
    Format(u32),
    /// A line in the middle is malformed.
    #[error("line {0} is malformed")]
    Line(usize),
    /// It contains no unit.
    #[error("the trace contains no opened unit")]
    Nothing,
}

/// A trace that was read: a script for each unit in it.
#[derive(Debug)]
pub struct Trace {
    scripts: Vec<(String, VecDeque<Step>)>,
    /// Whether the last line is incomplete.
    pub is_truncated: bool,
}

/// One step of a unit, with milliseconds since the start of the trace.
#[derive(Clone, Debug)]
enum Step {
    /// It is on the bus with these descriptors.
    Present(f64, Box<Descriptors>),
    /// It is not on the bus.
    Absent(f64),
    /// It received this request with this data, and replied. Without data the trace conceals it.
    Transfer(f64, Asked, Option<Vec<u8>>, Answer),
}

/// The key of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Asked {
    /// A setup packet.
    Control([u8; 8]),
    /// On the endpoint of this address.
    Pipe(u8),
}

impl Step {
    fn at(&self) -> f64 {
        match self {
            Self::Present(at, _) | Self::Absent(at) | Self::Transfer(at, ..) => *at,
        }
    }
}

impl Trace {
    /// Reads a trace. A last line that was torn off is left out.
    ///
    /// # Errors
    /// [`TraceError`].
    pub fn parse(text: &str) -> Result<Self, TraceError> {
        let lines: Vec<&str> = text.lines().collect();
        let head: Option<TraceLine> = lines.first().and_then(|line| serde_json::from_str(line).ok());
        let format = head.and_then(|head| head.trace).ok_or(TraceError::Head)?;
        if format != FORMAT {
            return Err(TraceError::Format(format));
        }
        let mut reader = Reader::default();
        let mut is_truncated = false;
        for (index, line) in lines.iter().enumerate().skip(1) {
            match serde_json::from_str(line).ok().and_then(|line| reader.take(line)) {
                Some(()) => {}
                None if index + 1 == lines.len() => is_truncated = true,
                None => return Err(TraceError::Line(index + 1)),
            }
        }
        reader.scripts.retain(|script| script.steps.iter().any(|step| matches!(step, Step::Transfer(..))));
        if reader.scripts.is_empty() {
            return Err(TraceError::Nothing);
        }
        Ok(Self {
            scripts: reader.scripts.into_iter().map(|script| (script.port, script.steps)).collect(),
            is_truncated,
        })
    }

    /// Plugs its units into a world.
    pub fn build(&self, world: &mut World) {
        for (port, steps) in &self.scripts {
            world.plug(port, Box::new(Replayed::new(steps.clone())), Vec::new());
        }
    }

    /// The ports of its units.
    pub fn ports(&self) -> impl Iterator<Item = &str> {
        self.scripts.iter().map(|(port, _)| port.as_str())
    }
}

#[derive(Default)]
struct Reader {
    scripts: Vec<Script>,
    /// Open device numbers and their scripts.
    open: Vec<(u32, usize)>,
}

struct Script {
    port: String,
    steps: VecDeque<Step>,
    shown: Option<ListedDevice>,
}

impl Reader {
    fn take(&mut self, line: TraceLine) -> Option<()> {
        let t = line.t.unwrap_or_default();
        if let Some(list) = &line.list {
            return self.list(t, list);
        }
        if let (Some(device), Some(port)) = (line.open, &line.port) {
            if line.error.is_none() {
                let at = self.script(port);
                self.open.push((device, at));
            }
            return Some(());
        }
        let device = line.device?;
        let (_, at) = *self.open.iter().find(|(number, _)| *number == device)?;
        match line.act.as_deref() {
            Some("close") => self.open.retain(|(number, _)| *number != device),
            Some("left") => {
                self.scripts[at].steps.push_back(Step::Absent(t));
                self.scripts[at].shown = None;
            }
            Some(_) => {}
            None => {
                let asked = match (&line.setup, &line.pipe) {
                    (Some(setup), _) => Asked::Control(setup.0.clone().try_into().ok()?),
                    (None, Some(pipe)) => Asked::Pipe(*pipe.0.first()?),
                    (None, None) => return None,
                };
                let answer = match line.error.as_deref() {
                    None => line.reply.map_or(Answer::Done, |reply| Answer::Data(reply.0)),
                    Some("stall") => Answer::Stall,
                    Some(_) => Answer::Silent,
                };
                let data = line.concealed.is_none().then(|| line.data.unwrap_or_default().0);
                self.scripts[at].steps.push_back(Step::Transfer(t, asked, data, answer));
                if line.error.as_deref() == Some("gone") {
                    self.scripts[at].steps.push_back(Step::Absent(t));
                    self.scripts[at].shown = None;
                }
            }
        }
        Some(())
    }

    /// Over USB/IP an open device is not listed; it has not disconnected.
    fn list(&mut self, t: f64, list: &[ListedDevice]) -> Option<()> {
        for listed in list {
            let at = self.script(&listed.port);
            let script = &mut self.scripts[at];
            if script.shown.as_ref() != Some(listed) {
                script.steps.push_back(Step::Present(t, Box::new(descriptors(listed)?)));
                script.shown = Some(listed.clone());
            }
        }
        for (at, script) in self.scripts.iter_mut().enumerate() {
            let is_open = self.open.iter().any(|(_, open)| *open == at);
            if !is_open && script.shown.is_some() && !list.iter().any(|listed| listed.port == script.port) {
                script.steps.push_back(Step::Absent(t));
                script.shown = None;
            }
        }
        Some(())
    }

    fn script(&mut self, port: &str) -> usize {
        if let Some(at) = self.scripts.iter().position(|script| script.port == port) {
            return at;
        }
        self.scripts.push(Script { port: port.to_owned(), steps: VecDeque::new(), shown: None });
        self.scripts.len() - 1
    }
}

fn descriptors(listed: &ListedDevice) -> Option<Descriptors> {
    let (vendor, product) = listed.id.split_once(':')?;
    let half = |text: &str| u16::from_str_radix(text, 16).ok();
    let interface = |class: &HexBytes| {
        let class = class.0.clone().try_into().ok()?;
        Some(DescribedInterface {
            class,
            names: Vec::new(),
            extra: Vec::new(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        })
    };
    let interfaces = listed.interfaces.iter().map(interface).collect::<Option<Vec<_>>>()?;
    Some(Descriptors::new((half(vendor)?, half(product)?), half(&listed.release)?, ["", "", ""], interfaces))
}

/// A unit that answers from a script.
struct Replayed {
    steps: VecDeque<Step>,
    shown: Option<Box<Descriptors>>,
    enumeration: u32,
    /// The time of the last step, here and in the trace.
    last: (Duration, f64),
    flash: Flash,
}

impl Replayed {
    fn new(steps: VecDeque<Step>) -> Self {
        let flash = Flash::new(0, 1, 1);
        let mut unit = Self { steps, shown: None, enumeration: 0, last: (Duration::ZERO, 0.0), flash };
        // The initial descriptors.
        while matches!(unit.steps.front(), Some(Step::Present(..))) && unit.shown.is_none() {
            unit.next_presence(Duration::ZERO);
        }
        unit
    }

    fn next_presence(&mut self, now: Duration) {
        let Some(step) = self.steps.pop_front() else { return };
        self.last = (now, step.at());
        match step {
            Step::Present(_, descriptors) => {
                self.enumeration += 1;
                self.shown = Some(descriptors);
            }
            _ => self.shown = None,
        }
    }

    /// The recorded answer to a request.
    fn answer(&mut self, now: Duration, asked: Asked, data: &[u8]) -> Answer {
        // Up to the next change of its descriptors.
        let here = self.steps.iter().take_while(|step| matches!(step, Step::Transfer(..)));
        let fits = |step: &Step| match step {
            Step::Transfer(_, was, sent, _) => *was == asked && sent.as_ref().is_none_or(|sent| sent == data),
            _ => false,
        };
        // A rewritten file has another time in its directory entry.
        let alike = |step: &Step| match step {
            Step::Transfer(_, was, Some(sent), _) => *was == asked && sent.len() == data.len(),
            _ => false,
        };
        let is_pipe = matches!(asked, Asked::Pipe(_));
        let found = here.clone().position(fits).or_else(|| here.clone().position(alike).filter(|_| is_pipe));
        let Some(at) = found else {
            // The requests of a claim and of clearing a halt are not recorded separately.
            let sets = |setup: [u8; 8]| matches!(setup[..2], [0x01, 11] | [0x00, 9] | [0x02, 1]);
            return match asked {
                Asked::Control(setup) if sets(setup) => Answer::Done,
                Asked::Control(_) => Answer::Stall,
                Asked::Pipe(_) => Answer::Silent,
            };
        };
        self.steps.drain(..at);
        match self.steps.pop_front() {
            Some(Step::Transfer(t, _, _, answer)) => {
                self.last = (now, t);
                answer
            }
            _ => Answer::Stall,
        }
    }
}

impl Unit for Replayed {
    fn advance(&mut self, now: Duration) {
        if let Some(step @ (Step::Present(..) | Step::Absent(_))) = self.steps.front() {
            let recorded = Duration::try_from_secs_f64((step.at() - self.last.1).max(0.0) / 1000.0).unwrap_or_default();
            if now >= self.last.0 + recorded.clamp(SHORTEST_PAUSE, LONGEST_PAUSE) {
                self.next_presence(now);
            }
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.shown.as_deref().map(|descriptors| (self.enumeration, descriptors))
    }

    fn standard(&mut self, now: Duration, setup: Setup) -> Option<Answer> {
        Some(self.answer(now, Asked::Control(setup.bytes()), &[]))
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        self.answer(now, Asked::Control(setup.bytes()), data)
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        let data = match transfer {
            Bulk::In(..) => &[],
            Bulk::Out(_, data) => data,
        };
        self.answer(now, Asked::Pipe(transfer.endpoint()), data)
    }

    fn bus_reset(&mut self, _: Duration) {}

    fn act(&mut self, _: Duration, _: &UserAction) {}

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        if self.shown.is_some() { Condition::Boot } else { Condition::Unplugged }
    }

    fn revive(&mut self, _: Duration) {}
}
