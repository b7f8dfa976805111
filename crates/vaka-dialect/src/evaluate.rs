//! The value of an expression, computed within a budget, so that it always ends.

use std::borrow::Cow;
use std::sync::Arc;

use base64ct::{Base64, Encoding};
use thiserror::Error;

use super::cipher;
use super::compression;
use super::expression::{Binary, ChecksumScope, Expression, Function, Node, Part, Unary};
use super::types::MOST_ROUNDS;
use super::value::{Integer, MOST_BYTES, Name, Value, shortened};
use vaka_base::checksum;

/// Why an expression has no value: an error in the dialect, or an unexpected reply of the unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Fault {
    /// A name has no value yet.
    Unknown(Name),
    /// It needs a part of the frame that is not built yet.
    NotYet,
    /// Any other error, as a sentence.
    Invalid(String),
}

/// The ranges of the frame that contains an expression.
pub(super) trait Parts {
    fn bytes(&self, part: Part) -> Option<Cow<'_, [u8]>>;
    fn length(&self, part: Part) -> Option<usize>;
    fn value(&self, name: Name) -> Option<Value>;
}

/// Maximum number of steps of one evaluation, so that it terminates. Chosen by us: a loop over a
/// megabyte with a dozen operations.
const BUDGET: u64 = 16 << 20;

/// One evaluation of an expression.
pub(super) struct Evaluation<'a> {
    pub(super) values: &'a [Option<Value>],
    pub(super) parts: Option<&'a dyn Parts>,
    locals: Vec<(Name, Value)>,
    extra: Option<(Name, &'a Value)>,
    nth: Name,
    budget: u64,
}

/// A value or a frame that cannot be computed with the current bindings: a sentence without its
/// full stop.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{words}")]
pub struct EvaluationError {
    words: String,
    is_open: bool,
}

impl EvaluationError {
    pub(super) fn new(words: impl Into<String>) -> Self {
        Self { words: words.into(), is_open: false }
    }

    /// The error of a fault, in these words.
    pub(super) fn of(fault: &Fault, words: String) -> Self {
        Self { words, is_open: matches!(fault, Fault::Unknown(_)) }
    }

    /// Whether only a name has no value yet, so that it can be computed later.
    pub fn is_open(&self) -> bool {
        self.is_open
    }
}

type Evaluated<T> = Result<T, Fault>;

/// Bytes, wherever they are.
enum Held<'a> {
    Part(Cow<'a, [u8]>),
    Shared(Arc<[u8]>),
}

impl std::ops::Deref for Held<'_> {
    type Target = [u8];

    fn deref(&self) -> &[u8] {
        match self {
            Self::Part(bytes) => bytes,
            Self::Shared(bytes) => bytes,
        }
    }
}

fn wrong<T>(words: impl Into<String>) -> Evaluated<T> {
    Err(Fault::Invalid(words.into()))
}

impl<'a> Evaluation<'a> {
    pub(super) fn new(values: &'a [Option<Value>], nth: Name, parts: Option<&'a dyn Parts>) -> Self {
        Self { values, parts, locals: Vec::new(), extra: None, nth, budget: BUDGET }
    }

    /// The same evaluation with one more binding.
    pub(super) fn with_name(mut self, name: Name, value: &'a Value) -> Self {
        self.extra = Some((name, value));
        self
    }

    pub(super) fn int(&mut self, of: &Expression) -> Evaluated<i128> {
        if let Node::Value(Value::Int(number)) = &of.node {
            return Ok(*number);
        }
        match self.value(of)? {
            Value::Int(number) => Ok(number),
            _ => wrong("it is not a number"),
        }
    }

    pub(super) fn bytes(&mut self, of: &Expression) -> Evaluated<Arc<[u8]>> {
        match self.value(of)? {
            Value::Bytes(bytes) => Ok(bytes),
            _ => wrong("expected bytes"),
        }
    }

    /// Evaluates an expression to bytes, borrowed if possible.
    fn held(&mut self, of: &Expression) -> Evaluated<Held<'a>> {
        match &of.node {
            Node::Part(part) => self.parts.and_then(|parts| parts.bytes(*part)).map(Held::Part).ok_or(Fault::NotYet),
            _ => self.bytes(of).map(Held::Shared),
        }
    }

    pub(super) fn truth(&mut self, of: &Expression) -> Evaluated<bool> {
        match self.value(of)? {
            Value::Truth(truth) => Ok(truth),
            _ => wrong("expected a comparison"),
        }
    }

    /// A length or a count.
    pub(super) fn size(&mut self, of: &Expression) -> Evaluated<usize> {
        let number = self.int(of)?;
        match usize::try_from(number) {
            Ok(size) if size <= MOST_BYTES => Ok(size),
            _ => wrong(format!("{number} is not a valid length")),
        }
    }

    #[inline]
    fn spend(&mut self, steps: u64) -> Evaluated<()> {
        self.budget = self
            .budget
            .checked_sub(steps)
            .ok_or_else(|| Fault::Invalid("the evaluation takes too many steps".into()))?;
        Ok(())
    }

    fn name(&self, name: Name) -> Evaluated<Value> {
        if let Some((_, value)) = self.locals.iter().rev().find(|(local, _)| *local == name) {
            return Ok(value.clone());
        }
        if let Some((_, value)) = self.extra.filter(|(extra, _)| *extra == name) {
            return Ok(value.clone());
        }
        if let Some(value) = self.parts.and_then(|parts| parts.value(name)) {
            return Ok(value);
        }
        self.values.get(usize::from(name.0)).cloned().flatten().ok_or(Fault::Unknown(name))
    }

    pub(super) fn value(&mut self, of: &Expression) -> Evaluated<Value> {
        self.spend(1)?;
        match &of.node {
            Node::Value(value) => Ok(value.clone()),
            Node::Name(name) => self.name(*name),
            Node::Part(part) => {
                let bytes = self.parts.and_then(|parts| parts.bytes(*part)).ok_or(Fault::NotYet)?;
                self.spend(bytes.len() as u64 / 16)?;
                Ok(Value::Bytes(bytes.into()))
            }
            Node::Unary(operator, of) => match operator {
                Unary::Not => Ok(Value::Truth(!self.truth(of)?)),
                Unary::Invert => Ok(Value::Int(!self.int(of)?)),
                Unary::Minus => self.int(of)?.checked_neg().map(Value::Int).ok_or_else(too_large),
            },
            Node::Binary(operator, left, right) => self.binary(*operator, left, right),
            Node::Choice(parts) => {
                let [condition, yes, no] = &**parts;
                let chosen = if self.truth(condition)? { yes } else { no };
                self.value(chosen)
            }
            Node::Call(function, given) => self.call(function, given),
            Node::Map { item, over, each } => {
                let mut made = Vec::new();
                self.over(over, |this, nth, piece| {
                    match this.with(&[(*item, piece), (this.nth, nth)], each)? {
                        Value::Int(number) => made.push(byte(number)?),
                        Value::Bytes(bytes) => made.extend_from_slice(&bytes),
                        Value::Truth(_) => return wrong("it is not a number"),
                    }
                    if made.len() > MOST_BYTES { wrong("the result is too long") } else { Ok(()) }
                })?;
                Ok(made.into())
            }
            Node::Fold { state, from, item, over, each } => {
                let mut now = self.value(from)?;
                self.over(over, |this, nth, piece| {
                    now = this.with(&[(*item, piece), (*state, now.clone()), (this.nth, nth)], each)?;
                    Ok(())
                })?;
                Ok(now)
            }
            Node::Rounds { count, state, from, each } => {
                let mut now = self.value(from)?;
                for round in 0..self.int(count)?.clamp(0, MOST_ROUNDS) {
                    now = self.with(&[(*state, now.clone()), (self.nth, Value::Int(round))], each)?;
                }
                Ok(now)
            }
        }
    }

    fn with(&mut self, locals: &[(Name, Value)], each: &Expression) -> Evaluated<Value> {
        let before = self.locals.len();
        self.locals.extend_from_slice(locals);
        let value = self.value(each);
        self.locals.truncate(before);
        value
    }

    fn over(
        &mut self,
        over: &ChecksumScope,
        mut each: impl FnMut(&mut Self, Value, Value) -> Evaluated<()>,
    ) -> Evaluated<()> {
        let bytes = self.bytes(&over.bytes)?;
        let size = over.by.as_ref().map(|by| self.size(by)).transpose()?;
        match size {
            None => {
                for (nth, byte) in (0..).zip(bytes.iter()) {
                    each(self, Value::Int(nth), Value::Int(i128::from(*byte)))?;
                }
            }
            Some(0) => return wrong("a piece must have at least one byte"),
            Some(size) => {
                for (nth, piece) in (0..).zip(bytes.chunks(size)) {
                    self.spend(piece.len() as u64 / 16)?;
                    each(self, Value::Int(nth), piece.to_vec().into())?;
                }
            }
        }
        Ok(())
    }

    fn binary(&mut self, operator: Binary, left: &Expression, right: &Expression) -> Evaluated<Value> {
        use Binary as B;
        match operator {
            B::Or => return Ok(Value::Truth(self.truth(left)? || self.truth(right)?)),
            B::And => return Ok(Value::Truth(self.truth(left)? && self.truth(right)?)),
            B::Equal => return Ok(Value::Truth(self.value(left)? == self.value(right)?)),
            B::Unequal => return Ok(Value::Truth(self.value(left)? != self.value(right)?)),
            B::Join => {
                let (left, right) = (self.bytes(left)?, self.bytes(right)?);
                if left.len() + right.len() > MOST_BYTES {
                    return wrong("the result is too long");
                }
                self.spend((left.len() + right.len()) as u64 / 16)?;
                return Ok([&left[..], &right[..]].concat().into());
            }
            _ => {}
        }
        let (a, b) = (self.int(left)?, self.int(right)?);
        let shift = |b: i128| u32::try_from(b).ok().filter(|b| *b < 64);
        let number = match operator {
            B::Less => return Ok(Value::Truth(a < b)),
            B::LessOrEqual => return Ok(Value::Truth(a <= b)),
            B::More => return Ok(Value::Truth(a > b)),
            B::MoreOrEqual => return Ok(Value::Truth(a >= b)),
            B::BitOr => Some(a | b),
            B::BitXor => Some(a ^ b),
            B::BitAnd => Some(a & b),
            B::Left => match shift(b) {
                Some(b) => a.checked_mul(1 << b),
                None => return wrong(format!("{b} is not a valid shift")),
            },
            B::Right => match shift(b) {
                Some(b) => Some(a >> b),
                None => return wrong(format!("{b} is not a valid shift")),
            },
            B::Add => a.checked_add(b),
            B::Subtract => a.checked_sub(b),
            B::Multiply => a.checked_mul(b),
            B::Divide | B::Remainder if b == 0 => return wrong("it divides by 0"),
            B::Divide => a.checked_div_euclid(b),
            _ => a.checked_rem_euclid(b),
        };
        number.map(Value::Int).ok_or_else(too_large)
    }

    fn call(&mut self, function: &Function, given: &[Expression]) -> Evaluated<Value> {
        use Function as F;
        if let (F::Len, [Expression { node: Node::Part(part), .. }]) = (function, given) {
            let length = self.parts.and_then(|parts| parts.length(*part)).ok_or(Fault::NotYet)?;
            return Ok(Value::Int(length as i128));
        }
        match function {
            F::HmacSha1 | F::HmacSha256 | F::AesCmac | F::AesEcb(_) | F::AesCbc(_) => {
                return self.call_with_key(function, given);
            }
            F::Min | F::Max | F::Fill | F::Hex | F::LowerHex | F::Dec | F::Number(_) => {
                return self.call_on_number(function, given);
            }
            _ => {}
        }
        let bytes = self.held(&given[0])?;
        self.spend(bytes.len() as u64 / 16)?;
        Ok(match function {
            F::Len => Value::Int(bytes.len() as i128),
            F::Sum => Value::Int(bytes.iter().map(|byte| i128::from(*byte)).sum()),
            F::Xor => Value::Int(i128::from(bytes.iter().fold(0, |sum, byte| sum ^ byte))),
            F::Crc32 => Value::Int(i128::from(checksum::crc32(&bytes))),
            F::Crc(crc) => Value::Int(i128::from(crc.of(&bytes))),
            F::Md5 => checksum::md5(&bytes).into(),
            F::Sha1 => cipher::sha1(&bytes).into(),
            F::Sha256 => checksum::sha256(&*bytes).to_vec().into(),
            F::Deflate | F::Zlib | F::Inflate | F::Runs => return self.compressed(function, &bytes),
            F::Base64 => Base64::encode_string(&bytes).into_bytes().into(),
            F::ReadBase64 => match std::str::from_utf8(&bytes).ok().and_then(|text| Base64::decode_vec(text).ok()) {
                Some(bytes) => bytes.into(),
                None => return wrong(format!("{} is not base64", shortened(&bytes))),
            },
            F::Byte => {
                let index = self.size(&given[1])?;
                match bytes.get(index) {
                    Some(byte) => Value::Int(i128::from(*byte)),
                    None => return wrong(format!("there is no byte {index} in {}", bytes.len())),
                }
            }
            F::Slice => {
                let (from, len) = (self.size(&given[1])?, self.size(&given[2])?);
                match bytes.get(from..from.saturating_add(len)) {
                    Some(slice) => slice.to_vec().into(),
                    None => return wrong(format!("there are no {len} bytes at {from} in {}", bytes.len())),
                }
            }
            F::Le | F::Be if bytes.len() > 8 => return wrong("a number may have at most 8 bytes"),
            F::Le | F::Be => {
                let form = Integer { bytes: bytes.len(), big: matches!(function, F::Be), signed: false };
                Value::Int(if bytes.is_empty() { 0 } else { form.read(&bytes) })
            }
            F::Pad => {
                let (to, with) = (self.size(&given[1])?, byte(self.int(&given[2])?)?);
                let mut bytes = bytes.to_vec();
                bytes.resize(to.max(bytes.len()), with);
                bytes.into()
            }
            F::Reverse => bytes.iter().rev().copied().collect::<Vec<_>>().into(),
            F::ReadHex => Value::Int(digits(&bytes, 16)?),
            _ => Value::Int(digits(&bytes, 10)?),
        })
    }

    fn compressed(&mut self, function: &Function, bytes: &[u8]) -> Evaluated<Value> {
        // A byte takes about as long as two steps.
        self.spend(bytes.len() as u64 * 2)?;
        let made = match function {
            Function::Deflate => compression::deflate(bytes),
            Function::Zlib => compression::zlib(bytes),
            Function::Runs => compression::runs(bytes),
            _ => match compression::inflate(bytes, MOST_BYTES) {
                Some(content) => content,
                None => return wrong(format!("{} is not deflated", shortened(bytes))),
            },
        };
        self.spend(made.len() as u64 / 16)?;
        Ok(made.into())
    }

    /// A function of a key and bytes: the last argument is the bytes.
    fn call_with_key(&mut self, function: &Function, given: &[Expression]) -> Evaluated<Value> {
        use Function as F;
        let (key, bytes) = (self.bytes(&given[0])?, self.held(&given[given.len() - 1])?);
        // A block takes about as long as this many steps.
        self.spend(bytes.len() as u64 / 2)?;
        let computed = match function {
            F::HmacSha1 => cipher::hmac_sha1(&key, &bytes),
            F::HmacSha256 => cipher::hmac_sha256(&key, &bytes),
            F::AesCmac => cipher::aes_cmac(&key, &bytes),
            F::AesEcb(way) => cipher::aes_ecb(*way, &key, &bytes),
            F::AesCbc(way) => cipher::aes_cbc(*way, &key, &self.bytes(&given[1])?, &bytes),
            _ => Err("this is not a function of a key"),
        };
        computed.map(Value::from).map_err(|words| Fault::Invalid(words.to_owned()))
    }

    fn call_on_number(&mut self, function: &Function, given: &[Expression]) -> Evaluated<Value> {
        use Function as F;
        let number = self.int(&given[0])?;
        let width = match (function, given) {
            (F::Hex | F::LowerHex | F::Dec, [_, width]) => self.size(width)?,
            _ => 0,
        };
        if number < 0 && width == 0 && matches!(function, F::Hex | F::LowerHex | F::Dec) || width > 64 {
            return wrong(format!("{number} cannot be written in this form"));
        }
        Ok(match function {
            F::Min => Value::Int(number.min(self.int(&given[1])?)),
            F::Max => Value::Int(number.max(self.int(&given[1])?)),
            F::Fill => {
                let (size, with) = (self.size(&given[0])?, byte(self.int(&given[1])?)?);
                vec![with; size].into()
            }
            F::Hex => format!("{number:0width$X}").into_bytes().into(),
            F::LowerHex => format!("{number:0width$x}").into_bytes().into(),
            F::Dec => format!("{number:0width$}").into_bytes().into(),
            F::Number(form) => match form.emit(number) {
                Some(bytes) => bytes.into(),
                None => return wrong(format!("{number} does not fit {form}")),
            },
            _ => return wrong("it is not a number"),
        })
    }
}

fn too_large() -> Fault {
    Fault::Invalid("the number is too large".into())
}

fn byte(number: i128) -> Evaluated<u8> {
    u8::try_from(number).map_err(|_| Fault::Invalid(format!("{number} is not a byte")))
}

/// Parses digits into a number of at most 64 bits.
pub(super) fn digits(bytes: &[u8], base: u32) -> Evaluated<i128> {
    let text = std::str::from_utf8(bytes).unwrap_or_default();
    let plain = !text.is_empty() && text.chars().all(|c| c.is_digit(base));
    let number = plain.then(|| u64::from_str_radix(text, base).ok()).flatten();
    number.map(i128::from).ok_or_else(|| Fault::Invalid(format!("{} is not a number", shortened(bytes))))
}
