//! Solves an expression for the names in it: their values follow from the value that was received.

use std::collections::{BTreeMap, BTreeSet};

use crate::cipher::Way;
use crate::evaluate::Evaluation;
use crate::expression::{Binary, ChecksumScope, Expression, Function, Node, Part, Unary};
use crate::value::{Name, Value};

/// The values that are known while a frame is parsed.
#[derive(Clone, Debug)]
pub(super) struct Solver {
    /// Values of names; those that only the host knows are absent until a frame has them.
    values: Vec<Option<Value>>,
    /// Names that never change.
    fixed: BTreeSet<Name>,
    /// Names that got their value from this frame.
    pub(super) found: BTreeSet<Name>,
    /// Names of which only the length is known: their value is zeros.
    lengths: BTreeSet<Name>,
    /// The bits that are known of a number of which only parts were received: their mask.
    partial: BTreeMap<Name, i128>,
    /// Numbers count modulo this, below a mask or a remainder.
    modulus: Option<i128>,
    nth: Name,
    /// Bytes after the field that is parsed, if a field has their number.
    pub(super) below: Option<usize>,
}

impl Solver {
    pub(super) fn new(values: Vec<Option<Value>>, fixed: BTreeSet<Name>, nth: Name) -> Self {
        Self {
            values,
            fixed,
            found: BTreeSet::new(),
            lengths: BTreeSet::new(),
            partial: BTreeMap::new(),
            modulus: None,
            nth,
            below: None,
        }
    }

    /// All values: those that were known, and those that were found.
    pub(super) fn values(&self) -> Vec<Option<Value>> {
        let mut values = self.values.clone();
        self.lengths.iter().for_each(|name| values[usize::from(name.0)] = None);
        values
    }

    /// The value of a name.
    pub(super) fn get(&self, name: Name) -> Option<&Value> {
        self.values.get(usize::from(name.0))?.as_ref().filter(|_| !self.lengths.contains(&name))
    }

    /// Forgets the value of a name, and returns it.
    pub(super) fn take(&mut self, name: Name) -> Option<Value> {
        self.found.remove(&name);
        self.partial.remove(&name);
        self.values.get_mut(usize::from(name.0))?.take()
    }

    /// The value of an expression, if all names in it are known.
    pub(super) fn value(&self, of: &Expression) -> Option<Value> {
        if needs_more_than_length(of, &self.lengths) {
            return None;
        }
        Evaluation::new(&self.values, self.nth, None).value(of).ok()
    }

    pub(super) fn int(&self, of: &Expression) -> Option<i128> {
        match self.value(of)? {
            Value::Int(number) => Some(number),
            _ => None,
        }
    }

    pub(super) fn size(&self, of: &Expression) -> Option<usize> {
        usize::try_from(self.int(of)?).ok()
    }

    pub(super) fn truth(&self, of: &Expression) -> Option<bool> {
        match self.value(of)? {
            Value::Truth(truth) => Some(truth),
            _ => None,
        }
    }

    /// The number of bytes of an expression, although its value may be unknown.
    pub(super) fn length(&self, of: &Expression) -> Option<usize> {
        match (&of.node, self.value(of)) {
            (_, Some(Value::Bytes(bytes))) => Some(bytes.len()),
            (Node::Name(name), _) => match self.values.get(usize::from(name.0))? {
                Some(Value::Bytes(bytes)) => Some(bytes.len()),
                _ => None,
            },
            (Node::Map { over: ChecksumScope { bytes, by: None }, .. }, _) => self.length(bytes),
            (Node::Call(Function::Number(form), _), _) => Some(form.bytes),
            (Node::Call(Function::Reverse, given), _) => self.length(given.first()?),
            (Node::Call(Function::Pad, given), _) => {
                let (own, wanted) = (self.length(given.first()?)?, self.size(given.get(1)?)?);
                Some(own.max(wanted))
            }
            (Node::Binary(Binary::Join, a, b), _) => Some(self.length(a)? + self.length(b)?),
            _ => None,
        }
    }

    /// Gives a name a value; false if it has another one.
    pub(super) fn bind(&mut self, name: Name, value: Value) -> bool {
        let value = match (value, self.modulus) {
            (Value::Int(number), Some(modulus)) => Value::Int(number.rem_euclid(modulus)),
            (value, _) => value,
        };
        if let (true, Value::Int(number)) = (self.partial.contains_key(&name), &value) {
            return self.bind_bits(Bits { name, mask: ALL_BITS, shift: 0 }, *number);
        }
        let Some(slot) = self.values.get_mut(usize::from(name.0)) else { return false };
        let is_settled = self.fixed.contains(&name) || (self.found.contains(&name) && !self.lengths.contains(&name));
        if is_settled && slot.is_some() {
            return *slot == Some(value);
        }
        *slot = Some(value);
        self.lengths.remove(&name);
        self.found.insert(name);
        true
    }

    /// Notes the length of a name with an unknown value.
    fn bind_length(&mut self, name: Name, length: i128) -> bool {
        let Ok(length) = usize::try_from(length) else { return false };
        if length > crate::value::MOST_BYTES {
            return false;
        }
        match self.get(name).filter(|_| self.found.contains(&name)) {
            Some(Value::Bytes(bytes)) => bytes.len() == length,
            _ => {
                if let Some(slot) = self.values.get_mut(usize::from(name.0)) {
                    *slot = Some(vec![0; length].into());
                }
                self.lengths.insert(name);
                true
            }
        }
    }

    /// Finds the values of the names in an expression from its received value. False if it cannot have that value; an
    /// expression that cannot be solved can.
    pub(super) fn solve(&mut self, of: &Expression, target: &Value) -> bool {
        if let Node::Name(name) = &of.node {
            return self.bind(*name, target.clone());
        }
        if let (Some(bits), Value::Int(number)) = (self.bits_of(of), target)
            && self.is_open(bits.name)
        {
            return self.bind_bits(bits, *number);
        }
        if let Some(known) = self.value(of) {
            return known == *target;
        }
        match (&of.node, target) {
            (Node::Unary(Unary::Minus, of), Value::Int(number)) => self.solve(of, &Value::Int(-number)),
            (Node::Unary(Unary::Invert, of), Value::Int(number)) => self.solve(of, &Value::Int(!number)),
            (Node::Binary(operator, left, right), _) => self.solve_binary(*operator, left, right, target),
            (Node::Choice(parts), _) => {
                let [condition, yes, no] = &**parts;
                match self.truth(condition) {
                    Some(true) => self.solve(yes, target),
                    Some(false) => self.solve(no, target),
                    None => true,
                }
            }
            (Node::Call(function, given), _) => self.solve_call(function, given, target),
            (Node::Map { item, over: ChecksumScope { bytes, by: None }, each }, Value::Bytes(made)) => {
                match self.unmapped(*item, each, made) {
                    Some(found) => self.solve(bytes, &found.into()),
                    None => false,
                }
            }
            _ => true,
        }
    }

    /// Whether the value of a name is unknown, or known in part.
    fn is_open(&self, name: Name) -> bool {
        self.get(name).is_none() || self.partial.contains_key(&name)
    }

    /// The bits of a name that an expression is: `address & 0xFFFF`, `address >> 16`, `address / 256 % 256`.
    fn bits_of(&self, of: &Expression) -> Option<Bits> {
        let Node::Binary(operator, left, right) = &of.node else {
            let Node::Name(name) = &of.node else { return None };
            return Some(Bits { name: *name, mask: ALL_BITS, shift: 0 });
        };
        let (bits, number) = (self.bits_of(left)?, self.int(right)?);
        let shift = |by: u32| {
            let shift = bits.shift + by;
            Bits { mask: bits.mask >> shift << shift, shift, ..bits }
        };
        // A mask counts from the lowest bit that is left.
        let masked = |mask: i128| Bits { mask: bits.mask & mask.checked_shl(bits.shift).unwrap_or(0), ..bits };
        let power = || u64::try_from(number).ok().filter(|number| number.is_power_of_two()).map(u64::trailing_zeros);
        match operator {
            Binary::BitAnd if number >= 0 => Some(masked(number)),
            Binary::Remainder if power().is_some() => Some(masked(number - 1)),
            Binary::Right => u32::try_from(number).ok().filter(|by| bits.shift + by < 64).map(shift),
            Binary::Divide => power().filter(|by| bits.shift + by < 64).map(shift),
            _ => None,
        }
    }

    /// Notes some bits of a name; false if they contradict those that are known.
    fn bind_bits(&mut self, Bits { name, mask, shift }: Bits, number: i128) -> bool {
        let told = number << shift;
        if told & !mask != 0 {
            return false;
        }
        let before = self.partial.get(&name).copied().unwrap_or(0);
        let known = match self.values.get(usize::from(name.0)) {
            Some(Some(Value::Int(known))) if before != 0 => *known,
            _ => 0,
        };
        if (known ^ told) & before & mask != 0 {
            return false;
        }
        if let Some(slot) = self.values.get_mut(usize::from(name.0)) {
            *slot = Some(Value::Int(known & before | told));
        }
        self.found.insert(name);
        self.partial.insert(name, before | mask);
        true
    }

    fn solve_binary(&mut self, operator: Binary, left: &Expression, right: &Expression, target: &Value) -> bool {
        match (self.value(left), self.value(right), target) {
            (None, Some(Value::Bytes(right)), Value::Bytes(all)) if operator == Binary::Join => {
                all.strip_suffix(&right[..]).is_some_and(|rest| self.solve(left, &rest.to_vec().into()))
            }
            (Some(Value::Bytes(left)), None, Value::Bytes(all)) if operator == Binary::Join => {
                all.strip_prefix(&left[..]).is_some_and(|rest| self.solve(right, &rest.to_vec().into()))
            }
            (None, None, Value::Bytes(all)) if operator == Binary::Join => {
                let own = self.length(left).or_else(|| all.len().checked_sub(self.length(right)?));
                let parts = own.and_then(|own| all.split_at_checked(own)).map(|(a, b)| (a.to_vec(), b.to_vec()));
                parts.is_none_or(|(a, b)| self.solve(left, &a.into()) && self.solve(right, &b.into()))
            }
            (None, Some(Value::Int(right)), Value::Int(target)) => match left_operand(operator, right, *target) {
                Some(found) => {
                    let outer = self.modulus;
                    self.modulus = modulus(operator, right).or(outer);
                    let is_solved = self.solve(left, &Value::Int(found));
                    self.modulus = outer;
                    is_solved
                }
                None => true,
            },
            (Some(Value::Int(known)), None, Value::Int(target)) => match right_operand(operator, known, *target) {
                Some(found) => self.solve(right, &Value::Int(found)),
                None => true,
            },
            _ => true,
        }
    }

    fn solve_call(&mut self, function: &Function, given: &[Expression], target: &Value) -> bool {
        use Function as F;
        let Some(first) = given.first() else { return true };
        let of_bytes =
            |solver: &mut Self, bytes: Option<Vec<u8>>| bytes.is_none_or(|bytes| solver.solve(first, &bytes.into()));
        match (function, target) {
            (F::Len, Value::Int(length)) => self.solve_length(first, *length),
            (F::Number(form), Value::Bytes(bytes)) if bytes.len() == form.bytes => {
                self.solve(first, &Value::Int(form.read(bytes)))
            }
            (F::Hex | F::LowerHex, Value::Bytes(bytes)) => self.solve_digits(first, bytes, 16),
            (F::Dec, Value::Bytes(bytes)) => self.solve_digits(first, bytes, 10),
            (F::Reverse, Value::Bytes(bytes)) => of_bytes(self, Some(bytes.iter().rev().copied().collect())),
            (F::Pad, Value::Bytes(bytes)) => of_bytes(self, Some(bytes.to_vec())),
            (F::Base64 | F::Deflate | F::Zlib, Value::Bytes(_)) => {
                let inverse = if let F::Base64 = function { F::ReadBase64 } else { F::Inflate };
                let given = vec![value_expression(unwrapped(function, target), first.at)];
                let plain = self.value(&Expression { node: Node::Call(inverse, given), at: first.at });
                plain.is_some_and(|plain| self.solve(first, &plain))
            }
            (F::AesEcb(Way::Encrypt), Value::Bytes(_)) => self.decrypted(F::AesEcb(Way::Decrypt), given, target),
            (F::AesCbc(Way::Encrypt), Value::Bytes(_)) => self.decrypted(F::AesCbc(Way::Decrypt), given, target),
            _ => true,
        }
    }

    /// Solves the last argument of a cipher, if its keys are known.
    fn decrypted(&mut self, inverse: Function, given: &[Expression], target: &Value) -> bool {
        let Some((last, keys)) = given.split_last() else { return true };
        let given = keys.iter().cloned().chain([value_expression(target.clone(), last.at)]).collect();
        match self.value(&Expression { node: Node::Call(inverse, given), at: last.at }) {
            Some(plain) => self.solve(last, &plain),
            None => true,
        }
    }

    fn solve_length(&mut self, of: &Expression, length: i128) -> bool {
        match &of.node {
            Node::Name(name) => self.bind_length(*name, length),
            Node::Part(Part::Below) => {
                self.below = usize::try_from(length).ok();
                self.below.is_some()
            }
            Node::Map { over: ChecksumScope { bytes, by: None }, .. } => self.solve_length(bytes, length),
            Node::Binary(Binary::Join, a, b) => match (self.length(a), self.length(b)) {
                (Some(known), None) => self.solve_length(b, length - known as i128),
                (None, Some(known)) => self.solve_length(a, length - known as i128),
                _ => true,
            },
            _ => true,
        }
    }

    fn solve_digits(&mut self, of: &Expression, text: &[u8], radix: u32) -> bool {
        let number = std::str::from_utf8(text).ok().and_then(|text| i128::from_str_radix(text, radix).ok());
        number.is_some_and(|number| self.solve(of, &Value::Int(number)))
    }

    /// The bytes of which each was mapped to one byte; `None` if there are none.
    fn unmapped(&self, item: Name, each: &Expression, made: &[u8]) -> Option<Vec<u8>> {
        let mut values = self.values.clone();
        let mut find = |at: usize, wanted: u8| {
            let is_it = |byte: &u8| {
                values[usize::from(item.0)] = Some(Value::Int((*byte).into()));
                values[usize::from(self.nth.0)] = Some(Value::Int(at as i128));
                let mapped = Evaluation::new(&values, self.nth, None).int(each);
                mapped.is_ok_and(|mapped| mapped == i128::from(wanted))
            };
            (0..=u8::MAX).find(is_it)
        };
        made.iter().enumerate().map(|(at, byte)| find(at, *byte)).collect()
    }
}

/// All bits of a number that a dialect sends: 64.
const ALL_BITS: i128 = (1 << 64) - 1;

/// Some bits of the value of a name.
#[derive(Clone, Copy)]
struct Bits {
    name: Name,
    /// The bits, at their places in the value.
    mask: i128,
    /// The place of the lowest bit of the expression.
    shift: u32,
}

/// The content that the inverse function takes: zlib has two bytes before its data and four after it.
/// Source: RFC 1950, section 2.2.
fn unwrapped(function: &Function, target: &Value) -> Value {
    match (function, target) {
        (Function::Zlib, Value::Bytes(bytes)) if bytes.len() >= 6 => bytes[2..bytes.len() - 4].to_vec().into(),
        _ => target.clone(),
    }
}

fn value_expression(value: Value, at: usize) -> Expression {
    Expression { node: Node::Value(value), at }
}

/// The modulus of numbers below a mask of the lowest bits, or a remainder.
fn modulus(operator: Binary, right: i128) -> Option<i128> {
    match operator {
        Binary::BitAnd if right > 0 && (right & (right + 1)) == 0 => Some(right + 1),
        Binary::Remainder if right > 0 => Some(right),
        _ => None,
    }
}

/// The left operand of an operation with this result; of several that fit, the one that the right operand
/// leaves unchanged.
fn left_operand(operator: Binary, right: i128, result: i128) -> Option<i128> {
    let shift = || u32::try_from(right).ok().filter(|bits| *bits < 64);
    match operator {
        Binary::Add => result.checked_sub(right),
        Binary::Subtract => result.checked_add(right),
        Binary::Multiply => (right != 0 && result % right == 0).then(|| result / right),
        Binary::Divide => result.checked_mul(right),
        Binary::Remainder | Binary::BitAnd => Some(result),
        Binary::BitOr => Some(result & !right),
        Binary::BitXor => Some(result ^ right),
        Binary::Left => shift().map(|bits| result >> bits),
        Binary::Right => shift().and_then(|bits| result.checked_mul(1 << bits)),
        _ => None,
    }
}

/// The same for the right operand.
fn right_operand(operator: Binary, left: i128, result: i128) -> Option<i128> {
    match operator {
        Binary::Subtract => left.checked_sub(result),
        Binary::Add | Binary::Multiply | Binary::BitAnd | Binary::BitOr | Binary::BitXor => {
            left_operand(operator, left, result)
        }
        _ => None,
    }
}

/// Whether an expression uses one of these names for more than its length.
fn needs_more_than_length(of: &Expression, names: &BTreeSet<Name>) -> bool {
    let needs = |of: &Expression| needs_more_than_length(of, names);
    match &of.node {
        _ if names.is_empty() => false,
        Node::Call(Function::Len, given) if matches!(given[..], [Expression { node: Node::Name(_), .. }]) => false,
        Node::Unary(_, of) => needs(of),
        Node::Binary(_, a, b) => needs(a) || needs(b),
        Node::Call(_, given) => given.iter().any(needs),
        _ => of.mentions(names),
    }
}
