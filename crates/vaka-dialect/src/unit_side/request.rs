//! Parses a frame that the host sends.

use crate::expression::{Expression, Node};
use crate::field::{Field, Form};
use crate::value::{Name, Value};

use super::solve::Solver;

/// The result of parsing a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum RequestMatch {
    /// It matches; the number of bytes.
    Match(usize),
    /// At least this many bytes are missing.
    More(usize),
    /// It is another frame.
    Differs,
}

/// How the bytes arrived.
#[derive(Clone, Copy, Debug)]
pub(super) struct Input<'a> {
    pub(super) bytes: &'a [u8],
    /// Whether they are exactly one frame.
    pub(super) is_whole: bool,
    /// Whether padding may follow.
    pub(super) is_padded: bool,
}

/// The end of a field.
enum End {
    At(usize),
    More(usize),
    Unknown,
}

/// Parses the fields of a frame, and finds the values in it.
pub(super) fn parse(solver: &mut Solver, fields: &[Field], input: Input<'_>) -> RequestMatch {
    let mut at = 0;
    for (index, field) in fields.iter().enumerate() {
        if field.only_if.as_ref().is_some_and(|condition| solver.truth(condition) == Some(false)) {
            continue;
        }
        let end = match end(solver, fields, index, (at, input)) {
            End::At(end) if end <= input.bytes.len() => end,
            End::At(end) if !input.is_whole => return RequestMatch::More(end - input.bytes.len()),
            End::More(more) if !input.is_whole => return RequestMatch::More(more),
            End::At(_) | End::More(_) | End::Unknown => return RequestMatch::Differs,
        };
        if !take(solver, field, &input.bytes[at..end]) {
            return RequestMatch::Differs;
        }
        if let Some(below) = solver.below.take() {
            let total = end + below;
            let rest = Input { bytes: input.bytes.get(..total).unwrap_or(input.bytes), is_whole: true, ..input };
            return match total.checked_sub(input.bytes.len()) {
                Some(missing) if missing > 0 => RequestMatch::More(missing),
                _ => match parse(solver, &fields[index + 1..], Input { bytes: &rest.bytes[end..], ..rest }) {
                    RequestMatch::Match(used) => RequestMatch::Match(end + used),
                    other => other,
                },
            };
        }
        at = end;
    }
    match input.is_whole && !input.is_padded && at < input.bytes.len() {
        true => RequestMatch::Differs,
        false => RequestMatch::Match(at),
    }
}

/// The number of bytes of the fields after one, if it is known.
fn tail(solver: &Solver, fields: &[Field]) -> Option<usize> {
    let size = |field: &Field| field.fixed_len().or_else(|| sized(solver, field));
    fields.iter().map(size).sum()
}

fn sized(solver: &Solver, field: &Field) -> Option<usize> {
    let size = solver.size(field.form.size()?)?;
    match field.form {
        Form::HexBytes { .. } => Some(size * 2),
        Form::PadTo(_) => None,
        _ => Some(size),
    }
}

fn end(solver: &Solver, fields: &[Field], index: usize, (start, input): (usize, Input<'_>)) -> End {
    let field = &fields[index];
    let rest = &input.bytes[start..];
    if let Some(len) = field.fixed_len().or_else(|| sized(solver, field)) {
        return End::At(start + len);
    }
    let digits = |is_digit: fn(&u8) -> bool| match rest.iter().position(|byte| !is_digit(byte)) {
        Some(len) => End::At(start + len),
        None if input.is_whole => End::At(input.bytes.len()),
        None => End::More(1),
    };
    match &field.form {
        Form::Integer(form) | Form::Bits(form, _) => End::At(start + form.bytes),
        Form::PadTo(to) => match (solver.size(to), tail(solver, &fields[index + 1..])) {
            (Some(to), Some(tail)) => End::At(to.saturating_sub(tail).max(start)),
            _ => End::Unknown,
        },
        Form::Hex { .. } => digits(u8::is_ascii_hexdigit),
        Form::Dec { .. } => digits(u8::is_ascii_digit),
        Form::Bytes(_) | Form::HexBytes { .. } => {
            let factor = if matches!(field.form, Form::HexBytes { .. }) { 2 } else { 1 };
            if let Some(len) = field.value.as_ref().and_then(|value| solver.length(value)) {
                return End::At(start + len * factor);
            }
            open_end(solver, &fields[index + 1..], (start, input))
        }
        Form::Pad(_) => End::Unknown,
    }
}

/// The end of a field without a length: before the next constant, or before fields of known length.
fn open_end(solver: &Solver, behind: &[Field], (start, input): (usize, Input<'_>)) -> End {
    let rest = &input.bytes[start..];
    if let Some(mark) = behind.first().and_then(Field::literal).filter(|mark| !mark.is_empty()) {
        return match rest.windows(mark.len()).position(|window| window == mark) {
            Some(len) => End::At(start + len),
            None if input.is_whole => End::Unknown,
            None => End::More(1),
        };
    }
    // Padding is parsed as part of the field.
    if let [Field { form: Form::PadTo(to), .. }, behind @ ..] = behind
        && let (Some(to), Some(tail)) = (solver.size(to), tail(solver, behind))
    {
        return End::At(to.saturating_sub(tail).max(start));
    }
    match tail(solver, behind) {
        _ if !input.is_whole => End::More(1),
        Some(tail) if start + tail <= input.bytes.len() => End::At(input.bytes.len() - tail),
        _ => End::Unknown,
    }
}

/// Finds the values in a field; false if it is another one.
fn take(solver: &mut Solver, field: &Field, bytes: &[u8]) -> bool {
    let number = |radix| std::str::from_utf8(bytes).ok().and_then(|text| i128::from_str_radix(text, radix).ok());
    let value = match &field.form {
        Form::Pad(_) | Form::PadTo(_) => return true,
        Form::Integer(form) => Some(Value::Int(form.read(bytes))),
        Form::Bits(form, parts) => {
            let (number, mut left) = (form.read(bytes), u32::try_from(form.bytes * 8).unwrap_or(64));
            return parts.iter().all(|part| {
                left -= part.bits;
                let bits = Value::Int(number >> left & ((1 << part.bits) - 1));
                found(solver, part.value.as_ref(), part.name, bits)
            });
        }
        Form::Bytes(_) => Some(bytes.to_vec().into()),
        Form::HexBytes { .. } => vaka_base::text::parse_hex(bytes).map(Value::from),
        Form::Hex { .. } => number(16).map(Value::Int),
        Form::Dec { .. } => number(10).map(Value::Int),
    };
    value.is_some_and(|value| found(solver, field.value.as_ref(), field.name, value))
}

fn found(solver: &mut Solver, of: Option<&Expression>, name: Option<Name>, value: Value) -> bool {
    let is_solved = of.is_none_or(|of| solver.solve(of, &value));
    let names_itself = |name: Name| of.is_some_and(|of| matches!(of.node, Node::Name(found) if found == name));
    is_solved && name.filter(|name| !names_itself(*name)).is_none_or(|name| solver.bind(name, value))
}
