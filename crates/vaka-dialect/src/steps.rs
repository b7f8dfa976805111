//! Steps of an operation. Every loop is bounded by data, a number or a time, and recursion is not
//! possible.

use super::carrier::LineSetting;
use super::expression::{Expression, RANDOM, Reader, is_reserved};
use super::lexer::{Parsed, Problem, Token};
use super::value::Name;

/// A duration: an expression and its unit in microseconds.
#[derive(Clone, Debug)]
pub struct Time {
    pub(super) value: Expression,
    pub(super) unit_us: u64,
}

impl Step {
    /// Resolves the calls of the step and of the steps inside it.
    pub(super) fn resolve(&mut self, find: &dyn Fn(&Target) -> Option<Callee>, lost: &mut Vec<Target>) {
        match self {
            Self::Call { target, .. } => {
                target.callee = find(target);
                if target.callee.is_none() {
                    lost.push(target.clone());
                }
            }
            Self::If { yes, no, .. } => yes.iter_mut().chain(no).for_each(|step| step.resolve(find, lost)),
            Self::Each { body, .. } | Self::Repeat { body, .. } | Self::Until { body, .. } => {
                body.iter_mut().for_each(|step| step.resolve(find, lost));
            }
            _ => {}
        }
    }
}

/// The target of a call.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Callee {
    /// An exchange, by its number.
    Exchange(usize),
    /// Named steps, by their number.
    Steps(usize),
}

/// A called exchange or group of steps, resolved by name after parsing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    /// The name.
    pub name: String,
    pub(super) at: usize,
    pub(super) callee: Option<Callee>,
}

impl Target {
    /// The resolved target; always present in a checked dialect.
    pub fn callee(&self) -> Option<Callee> {
        self.callee
    }
}

/// One step. See `docs/formats/dialect.md`.
#[derive(Clone, Debug)]
#[allow(missing_docs)] // as specified
pub enum Step {
    /// Calls an exchange or a group of steps, with arguments.
    Call {
        target: Target,
        given: Vec<(Name, Expression)>,
    },
    Let(Name, Expression),
    /// Gives a name this many random bytes.
    Random(Name, Expression),
    Wait(Time),
    If {
        condition: Expression,
        yes: Vec<Step>,
        no: Vec<Step>,
    },
    /// Iterates over pieces of this many bytes.
    Each {
        size: Expression,
        of: Expression,
        body: Vec<Step>,
        at: usize,
    },
    Repeat {
        count: Expression,
        body: Vec<Step>,
    },
    /// Repeats until a condition is true.
    Until {
        done: Expression,
        every: Option<Time>,
        within: Time,
        body: Vec<Step>,
        at: usize,
    },
    Expect(Expression, String),
    Fail(String),
    Line(LineSetting, usize),
    /// Control lines of a serial port.
    Signals {
        dtr: Option<bool>,
        rts: Option<bool>,
        at: usize,
    },
    /// Holds a serial line in its break state for a time.
    Break(Time, usize),
    /// Sends bytes without framing and envelope, and expects no reply.
    Raw(Expression, usize),
    /// Selects an alternate setting of the carrier's interface.
    Alternate(u8, usize),
    /// Resets the unit's port on the bus.
    BusReset,
    /// Discards pending input.
    Drain,
    /// Waits until the unit has left.
    Leaves(Time),
    /// Waits until the unit has left and is back on its port.
    ComesBack(Time),
}

/// Largest number of random bytes of one step. Chosen by us: four times the longest nonce in use.
pub const MOST_RANDOM: usize = 256;

/// Keywords that start a step.
pub(super) const STEP_WORDS: &[&str] = &[
    "let",
    "wait",
    "if",
    "else",
    "each",
    "repeat",
    "until",
    "expect",
    "fail",
    "line",
    "dtr",
    "rts",
    "break",
    "raw",
    "alternate",
    "bus_reset",
    "drain",
    "leaves",
    "comes_back",
];

/// Names that loops bind for their current item.
pub(super) const PIECE: &str = "piece";
/// The offset of the piece in the whole.
pub(super) const PLACE: &str = "place";

const STEPS: &str = "the name of an exchange or of steps, or let, wait, if, each, repeat, until, expect, fail, line, dtr, rts, break, raw, alternate, bus_reset, drain, leaves or comes_back";

impl Reader<'_> {
    /// Parses all steps up to the end or a closing brace.
    pub(super) fn steps(&mut self) -> Parsed<Vec<Step>> {
        let mut steps = Vec::new();
        self.words.skip_separators(";");
        while !matches!(self.words.peek(), Token::End | Token::Sign("}")) {
            steps.push(self.step()?);
            let at_end = matches!(self.words.peek(), Token::End | Token::Sign("}"));
            if !self.words.skip_separators(";") && !at_end {
                return Err(self.words.unexpected("';' or a line break"));
            }
        }
        Ok(steps)
    }

    /// Steps for a whole text.
    pub(super) fn script(&mut self) -> Parsed<Vec<Step>> {
        let steps = self.steps()?;
        match self.words.peek() {
            Token::End if steps.is_empty() => Err(self.words.unexpected(STEPS)),
            Token::End => Ok(steps),
            _ => Err(self.words.unexpected("a step")),
        }
    }

    fn block(&mut self) -> Parsed<Vec<Step>> {
        self.depth += 1;
        if self.depth > 32 {
            return Err(Problem::new(self.words.at(), "the nesting is too deep"));
        }
        self.words.skip_separators(";");
        self.words.expect("{")?;
        let steps = self.steps()?;
        self.words.expect("}")?;
        self.depth -= 1;
        Ok(steps)
    }

    fn step(&mut self) -> Parsed<Step> {
        let (word, at) = self.words.name(STEPS)?;
        match word.as_str() {
            "let" => {
                let (name, place) = self.words.name("a name")?;
                if is_reserved(&name) {
                    return Err(Problem::new(place, format!("'{name}' is a reserved word")));
                }
                self.words.expect("=")?;
                let name = self.names.number(&name);
                if !self.words.takes_word(RANDOM) {
                    return Ok(Step::Let(name, self.expression()?));
                }
                self.words.expect("(")?;
                let size = self.expression()?;
                self.words.expect(")")?;
                Ok(Step::Random(name, size))
            }
            "wait" => Ok(Step::Wait(self.time()?)),
            "if" => {
                let condition = self.expression()?;
                let yes = self.block()?;
                let no = if self.words.takes_word("else") { self.block()? } else { Vec::new() };
                Ok(Step::If { condition, yes, no })
            }
            "each" => {
                let size = self.expression()?;
                self.words.expect_word("of")?;
                let of = self.expression()?;
                Ok(Step::Each { size, of, body: self.block()?, at })
            }
            "repeat" => {
                let count = self.expression()?;
                Ok(Step::Repeat { count, body: self.block()? })
            }
            "until" => {
                let done = self.expression()?;
                let every = if self.words.takes_word("every") { Some(self.time()?) } else { None };
                if !self.words.is_word("within") {
                    return Err(Problem::new(self.words.at(), "a time limit is required, such as within 5 s"));
                }
                self.words.take();
                let within = self.time()?;
                Ok(Step::Until { done, every, within, body: self.block()?, at })
            }
            "expect" => {
                let condition = self.expression()?;
                self.words.expect_word("else")?;
                Ok(Step::Expect(condition, self.sentence()?))
            }
            "fail" => Ok(Step::Fail(self.sentence()?)),
            "line" => self.line(at),
            "dtr" | "rts" => self.signals(&word, at),
            "break" => Ok(Step::Break(self.time()?, at)),
            "raw" => Ok(Step::Raw(self.expression()?, at)),
            "alternate" => match self.words.take() {
                Token::Number(number) if (0..=255).contains(&number) => {
                    Ok(Step::Alternate(u8::try_from(number).unwrap_or(0), at))
                }
                _ => Err(Problem::new(at, "expected the number of the setting after alternate, such as alternate 1")),
            },
            "bus_reset" => Ok(Step::BusReset),
            "drain" => Ok(Step::Drain),
            "leaves" => {
                self.words.expect_word("within")?;
                Ok(Step::Leaves(self.time()?))
            }
            "comes_back" => {
                self.words.expect_word("within")?;
                Ok(Step::ComesBack(self.time()?))
            }
            _ => {
                let given = self.given()?;
                Ok(Step::Call { target: Target { name: word, at, callee: None }, given })
            }
        }
    }

    /// Parses optional arguments: `(at = address + place, word = piece)`.
    fn given(&mut self) -> Parsed<Vec<(Name, Expression)>> {
        let mut given = Vec::new();
        if !self.words.takes("(") {
            return Ok(given);
        }
        while !self.words.takes(")") {
            if !given.is_empty() {
                self.words.expect(",")?;
            }
            let (name, place) = self.words.name("a name")?;
            if is_reserved(&name) {
                return Err(Problem::new(place, format!("'{name}' is a reserved word")));
            }
            self.words.expect("=")?;
            given.push((self.names.number(&name), self.expression()?));
        }
        Ok(given)
    }

    /// `20 ms`, `pause * 2 ms`.
    pub(super) fn time(&mut self) -> Parsed<Time> {
        let value = self.expression()?;
        let unit_us = match self.words.peek() {
            Token::Name(unit) if unit == "us" => 1,
            Token::Name(unit) if unit == "ms" => 1_000,
            Token::Name(unit) if unit == "s" => 1_000_000,
            _ => return Err(self.words.unexpected("a unit of time: us, ms or s")),
        };
        self.words.take();
        Ok(Time { value, unit_us })
    }

    fn sentence(&mut self) -> Parsed<String> {
        let at = self.words.at();
        match self.words.take() {
            Token::Bytes(bytes) => {
                let text = String::from_utf8_lossy(&bytes).into_owned();
                match vaka_base::text::sanitize(&text) == text && !text.is_empty() {
                    true => Ok(text),
                    false => Err(Problem::new(at, "a sentence must not be empty or have control characters")),
                }
            }
            _ => Err(Problem::new(at, "a sentence in quotes that describes the failure")),
        }
    }

    /// `line 115200` or `line 9600 "8E1"`.
    fn line(&mut self, at: usize) -> Parsed<Step> {
        let Token::Number(baud) = self.words.take() else {
            return Err(Problem::new(at, "expected the bit rate after line, such as line 115200"));
        };
        let form = match self.words.peek().clone() {
            Token::Bytes(form) => {
                self.words.take();
                String::from_utf8_lossy(&form).into_owned()
            }
            _ => "8N1".to_owned(),
        };
        let setting = LineSetting::parse(baud, &form);
        setting.map(|setting| Step::Line(setting, at)).ok_or_else(|| {
            Problem::new(at, "expected line 115200 or line 9600 '8E1' (data bits 5 to 8; N, O or E; 1 or 2)")
        })
    }

    /// `dtr on`, `rts off`, `dtr on rts off`.
    fn signals(&mut self, first: &str, at: usize) -> Parsed<Step> {
        let state = |this: &mut Self| {
            if this.words.takes_word("on") {
                Ok(true)
            } else if this.words.takes_word("off") {
                Ok(false)
            } else {
                Err(this.words.unexpected("on or off"))
            }
        };
        let on = state(self)?;
        let (mut dtr, mut rts) = if first == "dtr" { (Some(on), None) } else { (None, Some(on)) };
        if dtr.is_some() && self.words.takes_word("rts") {
            rts = Some(state(self)?);
        } else if rts.is_some() && self.words.takes_word("dtr") {
            dtr = Some(state(self)?);
        }
        Ok(Step::Signals { dtr, rts, at })
    }
}
