//! Frames: a list of fields becomes bytes, and bytes become values.

use std::borrow::Cow;

use super::evaluate::{Evaluation, EvaluationError, Fault, Parts, digits};
use super::expression::{Expression, Part};
use super::field::{Field, Form, Meaning, Table};
use super::value::{Integer, Name, Names, Value, shortened};
use vaka_base::text;

/// The context for building and parsing frames.
#[derive(Clone, Copy)]
pub(super) struct EvaluationContext<'a> {
    pub(super) values: &'a [Option<Value>],
    pub(super) names: &'a Names,
    pub(super) tables: &'a [Table],
    pub(super) nth: Name,
    /// An additional binding: the body inside an envelope.
    pub(super) body: Option<(Name, &'a Value)>,
}

/// One field as transferred.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FieldView {
    /// The field as the dialect writes it.
    pub field: String,
    /// The bytes; empty if the field was absent.
    pub bytes: Vec<u8>,
    /// The decoded value, or the expected one.
    pub says: String,
    /// Whether this field does not match.
    pub is_wrong: bool,
}

/// Fields that are built in order, as far as possible.
struct FrameBuilder<'a> {
    fields: &'a [Field],
    made: Vec<Option<Vec<u8>>>,
    values: Vec<(Name, Value)>,
    at: usize,
}

impl FrameBuilder<'_> {
    fn index(&self, name: Name) -> Option<usize> {
        self.fields.iter().position(|field| field.name == Some(name))
    }

    fn range(&self, part: Part) -> Option<std::ops::Range<usize>> {
        Some(match part {
            Part::Above => 0..self.at,
            Part::Below => self.at + 1..self.fields.len(),
            Part::Fields(from, to) => self.index(from)?..self.index(to)? + 1,
        })
    }
}

impl Parts for FrameBuilder<'_> {
    fn bytes(&self, part: Part) -> Option<Cow<'_, [u8]>> {
        let made = self.made.get(self.range(part)?)?;
        let mut bytes = Vec::new();
        for one in made {
            bytes.extend_from_slice(one.as_ref()?);
        }
        Some(bytes.into())
    }

    fn length(&self, part: Part) -> Option<usize> {
        let range = self.range(part)?;
        let len = |(field, made): (&Field, &Option<Vec<u8>>)| made.as_ref().map(Vec::len).or_else(|| field.fixed_len());
        self.fields.get(range.clone())?.iter().zip(self.made.get(range)?).map(len).sum()
    }

    fn value(&self, name: Name) -> Option<Value> {
        self.values.iter().rev().find(|(known, _)| *known == name).map(|(_, value)| value.clone())
    }
}

/// A frame that is built from its beginning.
struct PartialFrame<'a> {
    fields: &'a [Field],
    bytes: Vec<u8>,
    /// The start of each field that is built or in progress.
    starts: Vec<usize>,
    values: Vec<(Name, Value)>,
}

impl Parts for PartialFrame<'_> {
    fn bytes(&self, part: Part) -> Option<Cow<'_, [u8]>> {
        match part {
            Part::Above => Some(Cow::Borrowed(&self.bytes)),
            Part::Below => None,
            Part::Fields(from, to) => {
                let index = |name: Name| self.fields.iter().position(|field| field.name == Some(name));
                let (start, end) = (*self.starts.get(index(from)?)?, *self.starts.get(index(to)? + 1)?);
                self.bytes.get(start..end).map(Cow::Borrowed)
            }
        }
    }

    fn length(&self, part: Part) -> Option<usize> {
        match part {
            Part::Above => Some(self.bytes.len()),
            Part::Below => self.fields.get(self.starts.len()..)?.iter().map(Field::fixed_len).sum(),
            Part::Fields(..) => self.bytes(part).map(|bytes| bytes.len()),
        }
    }

    fn value(&self, name: Name) -> Option<Value> {
        self.values.iter().rev().find(|(known, _)| *known == name).map(|(_, value)| value.clone())
    }
}

impl EvaluationContext<'_> {
    fn error(&self, fault: Fault) -> EvaluationError {
        EvaluationError::of(&fault.clone(), self.words(fault))
    }

    fn words(&self, fault: Fault) -> String {
        match fault {
            Fault::Unknown(name) => format!("'{}' has no value yet", self.names.text(name)),
            Fault::NotYet => "it requires a part of the frame that does not exist".to_owned(),
            Fault::Invalid(words) => words,
        }
    }

    fn evaluation<'s>(&'s self, parts: Option<&'s dyn Parts>) -> Evaluation<'s> {
        let evaluation = Evaluation::new(self.values, self.nth, parts);
        match self.body {
            Some((name, value)) => evaluation.with_name(name, value),
            None => evaluation,
        }
    }

    pub(super) fn int(&self, of: &Expression) -> Result<i128, EvaluationError> {
        self.evaluation(None).int(of).map_err(|fault| self.error(fault))
    }

    pub(super) fn size(&self, of: &Expression) -> Result<usize, EvaluationError> {
        self.evaluation(None).size(of).map_err(|fault| self.error(fault))
    }

    pub(super) fn truth(&self, of: &Expression) -> Result<bool, EvaluationError> {
        self.evaluation(None).truth(of).map_err(|fault| self.error(fault))
    }

    pub(super) fn value(&self, of: &Expression) -> Result<Value, EvaluationError> {
        self.evaluation(None).value(of).map_err(|fault| self.error(fault))
    }

    /// Builds a frame.
    pub(super) fn emit(&self, fields: &[Field]) -> Result<Vec<u8>, EvaluationError> {
        // Most frames do not refer to later fields.
        match self.emit_straight(fields) {
            Some(frame) => Ok(frame),
            None => Ok(self.emit_parts(fields)?.concat()),
        }
    }

    /// Builds a frame in one pass; `None` if a field refers to a later one.
    fn emit_straight(&self, fields: &[Field]) -> Option<Vec<u8>> {
        let mut so_far = PartialFrame {
            fields,
            bytes: Vec::with_capacity(64),
            starts: Vec::with_capacity(fields.len() + 1),
            values: Vec::new(),
        };
        let (mut made, mut values) = (Vec::with_capacity(64), Vec::new());
        for field in fields {
            so_far.starts.push(so_far.bytes.len());
            if let Some(constant) = &field.constant {
                so_far.bytes.extend_from_slice(constant);
                continue;
            }
            made.clear();
            self.emit_field(field, &so_far, &mut made, &mut values).ok()?;
            so_far.bytes.extend_from_slice(&made);
            so_far.values.append(&mut values);
        }
        Some(so_far.bytes)
    }

    /// Builds a frame field by field.
    pub(super) fn emit_parts(&self, fields: &[Field]) -> Result<Vec<Vec<u8>>, EvaluationError> {
        self.try_emit(fields)
            .map_err(|(field, fault)| EvaluationError::of(&fault.clone(), format!("{field}: {}", self.words(fault))))
    }

    /// A field that waits for itself, so that the frame can never be built.
    pub(super) fn circular<'f>(&self, fields: &'f [Field]) -> Option<&'f Field> {
        match self.try_emit(fields) {
            Err((field, Fault::NotYet)) => Some(field),
            _ => None,
        }
    }

    fn try_emit<'f>(&self, fields: &'f [Field]) -> Result<Vec<Vec<u8>>, (&'f Field, Fault)> {
        let mut making = FrameBuilder { fields, made: vec![None; fields.len()], values: Vec::new(), at: 0 };
        loop {
            let mut progress = false;
            let mut open = None;
            for (index, field) in fields.iter().enumerate() {
                if making.made[index].is_some() {
                    continue;
                }
                making.at = index;
                let (mut bytes, mut values) = (Vec::new(), Vec::new());
                match self.emit_field(field, &making, &mut bytes, &mut values) {
                    Ok(()) => {
                        making.made[index] = Some(bytes);
                        making.values.append(&mut values);
                        progress = true;
                    }
                    Err(Fault::NotYet) => open = Some((field, Fault::NotYet)),
                    // The name may be bound by a later field.
                    Err(Fault::Unknown(name)) if making.index(name).is_some_and(|at| making.made[at].is_none()) => {
                        open = Some((field, Fault::Unknown(name)));
                    }
                    Err(fault) => return Err((field, fault)),
                }
            }
            match open {
                None => return Ok(making.made.into_iter().flatten().collect()),
                Some((field, fault)) if !progress => return Err((field, fault)),
                Some(_) => {}
            }
        }
    }

    /// Appends the bytes of a field, and binds its name if it has a new one.
    fn emit_field(
        &self,
        field: &Field,
        making: &dyn Parts,
        out: &mut Vec<u8>,
        values: &mut Vec<(Name, Value)>,
    ) -> Result<(), Fault> {
        let mut evaluation = self.evaluation(Some(making));
        if let Some(condition) = &field.only_if
            && !evaluation.truth(condition)?
        {
            return Ok(());
        }
        let value = field.value.as_ref();
        // A field that only sends a variable binds nothing.
        let name = field.name.filter(|name| !field.is_just(*name));
        let wrong = |words: String| Err(Fault::Invalid(words));
        match &field.form {
            Form::Integer(form) => {
                let number = evaluation.int(value.ok_or(Fault::NotYet)?)?;
                values.extend(name.map(|name| (name, Value::Int(number))));
                if !form.emit_to(number, out) {
                    return wrong(format!("{number} (0x{number:X}) does not fit {form}"));
                }
            }
            Form::Bits(form, parts) => {
                let mut number = 0_i128;
                for part in parts {
                    let bits = part.value.as_ref().map_or(Ok(0), |value| evaluation.int(value))?;
                    if bits < 0 || bits >> part.bits != 0 {
                        return wrong(format!("{bits} does not fit {} bits", part.bits));
                    }
                    number = number << part.bits | bits;
                    values.extend(part.name.map(|name| (name, Value::Int(bits))));
                }
                Integer { signed: false, ..*form }.emit_to(number, out);
            }
            Form::Bytes(size) | Form::HexBytes { bytes: size, .. } => {
                let bytes = evaluation.bytes(value.ok_or(Fault::NotYet)?)?;
                if let Some(size) = size {
                    let wanted = evaluation.size(size)?;
                    if bytes.len() != wanted {
                        return wrong(format!("it has {wanted} bytes, but there are {}", bytes.len()));
                    }
                }
                values.extend(name.map(|name| (name, Value::Bytes(bytes.clone()))));
                match field.form {
                    Form::HexBytes { lower: true, .. } => out.extend(vaka_base::text::hex(&bytes).into_bytes()),
                    Form::HexBytes { .. } => out.extend(vaka_base::text::hex(&bytes).to_uppercase().into_bytes()),
                    _ => out.extend_from_slice(&bytes),
                }
            }
            Form::Hex { digits, .. } | Form::Dec { digits } => {
                let number = evaluation.int(value.ok_or(Fault::NotYet)?)?;
                let width = digits.as_ref().map(|digits| evaluation.size(digits)).transpose()?;
                values.extend(field.name.map(|name| (name, Value::Int(number))));
                let width_or_none = width.unwrap_or(0).min(64);
                let text = match field.form {
                    Form::Hex { lower: false, .. } => format!("{number:0width_or_none$X}"),
                    Form::Hex { .. } => format!("{number:0width_or_none$x}"),
                    _ => format!("{number:0width_or_none$}"),
                };
                if number < 0 || width.is_some_and(|width| text.len() > width) {
                    return wrong(format!("{number} does not fit into the digits"));
                }
                out.extend(text.into_bytes());
            }
            Form::Pad(size) => {
                let with = value.map_or(Ok(0), |value| evaluation.int(value))?;
                let with = u8::try_from(with).map_err(|_| Fault::Invalid(format!("{with} is not a byte")))?;
                out.resize(out.len() + evaluation.size(size)?, with);
            }
            Form::PadTo(size) => {
                let with = value.map_or(Ok(0), |value| evaluation.int(value))?;
                let with = u8::try_from(with).map_err(|_| Fault::Invalid(format!("{with} is not a byte")))?;
                let wanted = evaluation.size(size)?;
                let above = making.length(Part::Above).ok_or(Fault::NotYet)?;
                let below = making.length(Part::Below).ok_or(Fault::NotYet)?;
                match wanted.checked_sub(above + below) {
                    Some(left) => out.resize(out.len() + left, with),
                    None => return wrong(format!("the frame has more than {wanted} bytes without any padding")),
                }
            }
        }
        Ok(())
    }

    /// The bytes of a field as readable text.
    fn says(&self, form: &Form, bytes: &[u8]) -> String {
        let (Form::Bits(integer, parts), Some(Value::Int(number))) = (form, meaning_of(form, bytes)) else {
            return meaning_of(form, bytes).map_or_else(String::new, |value| value.to_string());
        };
        let mut left = u32::try_from(integer.bytes * 8).unwrap_or(64);
        let told = parts.iter().filter_map(|part| {
            left -= part.bits;
            let bits = number >> left & ((1 << part.bits) - 1);
            part.name.map(|name| format!("{} {}", self.names.text(name), Value::Int(bits)))
        });
        told.collect::<Vec<_>>().join(", ")
    }

    /// A frame that is sent, field by field.
    pub(super) fn view_sent(&self, fields: &[Field]) -> Vec<FieldView> {
        let Ok(parts) = self.emit_parts(fields) else { return Vec::new() };
        let view = |(field, bytes): (&Field, Vec<u8>)| {
            let says = self.says(&field.form, &bytes);
            FieldView { field: field.text.clone(), bytes, says, is_wrong: false }
        };
        fields.iter().zip(parts).map(view).collect()
    }
}

/// The value of a field's bytes, if the bytes alone determine it.
fn meaning_of(form: &Form, bytes: &[u8]) -> Option<Value> {
    match form {
        Form::Integer(integer) | Form::Bits(integer, _) if bytes.len() == integer.bytes => {
            Some(Value::Int(integer.read(bytes)))
        }
        Form::Hex { .. } => digits(bytes, 16).ok().map(Value::Int),
        Form::Dec { .. } => digits(bytes, 10).ok().map(Value::Int),
        Form::HexBytes { .. } => vaka_base::text::parse_hex(bytes).map(Value::from),
        Form::Bytes(_) => Some(bytes.to_vec().into()),
        _ => None,
    }
}

/// The result of parsing a frame.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum ParseOutcome {
    /// The frame matches.
    Match(Found),
    /// At least this many bytes are missing.
    More(usize),
    /// The frame does not match.
    Differs(Mismatch),
}

/// The content of a matching frame.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Found {
    /// Number of bytes consumed.
    pub(super) used: usize,
    pub(super) values: Vec<(Name, Value)>,
    /// The meaning according to its tables, unless it is success.
    pub(super) meaning: Option<Meaning>,
}

/// Why a frame does not match.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Mismatch {
    /// Index of the field; the number of fields if there are extra bytes.
    pub(super) field: usize,
    /// Bytes before it.
    pub(super) at: usize,
    /// The expected value as text.
    pub(super) expected: String,
    /// Number of bytes that do not match.
    pub(super) len: usize,
}

/// A frame that is being read.
struct FrameParser<'a> {
    fields: &'a [Field],
    input: &'a [u8],
    /// The start of each field, and the end of the last one.
    starts: Vec<usize>,
    /// Whether all fields are parsed: then later fields are known.
    complete: bool,
    at: usize,
    values: Vec<(Name, Value)>,
}

impl Parts for FrameParser<'_> {
    fn bytes(&self, part: Part) -> Option<Cow<'_, [u8]>> {
        let index = |name: Name| self.fields.iter().position(|field| field.name == Some(name));
        let end = |index: usize| self.starts.get(index + 1).copied();
        let range = match part {
            Part::Above => 0..*self.starts.get(self.at)?,
            Part::Below if self.complete => end(self.at)?..*self.starts.last()?,
            Part::Below => return None,
            Part::Fields(from, to) => *self.starts.get(index(from)?)?..end(index(to)?)?,
        };
        self.input.get(range).map(Cow::Borrowed)
    }

    fn length(&self, part: Part) -> Option<usize> {
        if let (Part::Below, false) = (part, self.complete) {
            return None;
        }
        self.bytes(part).map(|bytes| bytes.len())
    }

    fn value(&self, name: Name) -> Option<Value> {
        self.values.iter().rev().find(|(known, _)| *known == name).map(|(_, value)| value.clone())
    }
}

/// The end of a variable field.
enum End {
    At(usize),
    /// This many more bytes are needed.
    More(usize),
    Wrong(String),
}

impl EvaluationContext<'_> {
    /// Parses a frame from the start of `input`. `whole` means that `input` is exactly one frame;
    /// `padded` means that padding may follow.
    pub(super) fn read(&self, fields: &[Field], input: &[u8], whole: bool, padded: bool) -> ParseOutcome {
        let mut taking = FrameParser {
            fields,
            input,
            starts: Vec::with_capacity(fields.len() + 1),
            complete: false,
            at: 0,
            values: Vec::with_capacity(fields.len()),
        };
        taking.starts.push(0);
        let mut late = Vec::new();
        for (index, field) in fields.iter().enumerate() {
            taking.at = index;
            let start = taking.starts[index];
            let differs = |expected: String, len: usize| {
                ParseOutcome::Differs(Mismatch { field: index, at: start, expected, len })
            };
            match self.is_there(field, &taking) {
                Ok(true) => {}
                Ok(false) => {
                    taking.starts.push(start);
                    continue;
                }
                Err(words) => return differs(words, 0),
            }
            let end = match self.end(index, &taking, whole) {
                End::At(end) => end,
                End::More(more) if !whole => return ParseOutcome::More(more),
                End::More(more) => {
                    let left = input.len() - start;
                    return differs(
                        format!("{} here, but the frame ends after {left}", text::count(left + more, "byte")),
                        left,
                    );
                }
                End::Wrong(words) => return differs(words, input.len() - start),
            };
            taking.starts.push(end);
            let bytes = &input[start..end];
            match self.take(field, bytes, &mut taking) {
                Ok(None) => {}
                Ok(Some(meaning)) => {
                    let (used, values) = (end, taking.values);
                    return ParseOutcome::Match(Found { used, values, meaning: Some(meaning) });
                }
                Err(Some(expected)) => return differs(expected, bytes.len()),
                Err(None) => late.push(index),
            }
        }
        let used = taking.starts[fields.len()];
        if whole && !padded && used < input.len() {
            let len = input.len() - used;
            let expected = format!("the end of the frame, found {}", text::count(len, "more byte"));
            return ParseOutcome::Differs(Mismatch { field: fields.len(), at: used, expected, len });
        }
        taking.complete = true;
        for index in late {
            taking.at = index;
            let (start, end) = (taking.starts[index], taking.starts[index + 1]);
            if let Err(expected) = self.take(&fields[index], &input[start..end], &mut taking) {
                let expected = expected.unwrap_or_else(|| "a computable value".to_owned());
                return ParseOutcome::Differs(Mismatch { field: index, at: start, expected, len: end - start });
            }
        }
        ParseOutcome::Match(Found { used, values: taking.values, meaning: None })
    }

    fn is_there(&self, field: &Field, taking: &FrameParser<'_>) -> Result<bool, String> {
        let Some(condition) = &field.only_if else { return Ok(true) };
        self.evaluation(Some(taking)).truth(condition).map_err(|fault| self.words(fault))
    }

    /// The end of the field that starts at the current position.
    fn end(&self, index: usize, taking: &FrameParser<'_>, whole: bool) -> End {
        let (field, input) = (&taking.fields[index], taking.input);
        let start = taking.starts[index];
        let sized = |len: usize| match start.checked_add(len) {
            Some(end) if end <= input.len() => End::At(end),
            Some(end) => End::More(end - input.len()),
            None => End::Wrong("a valid length".to_owned()),
        };
        let size = field.form.size().map(|size| self.evaluation(Some(taking)).size(size));
        let size = match size.transpose() {
            Ok(size) => size,
            Err(fault) => return End::Wrong(self.words(fault)),
        };
        match (&field.form, size) {
            (Form::Integer(form) | Form::Bits(form, _), _) => sized(form.bytes),
            (Form::PadTo(_), Some(to)) => {
                let behind: Option<usize> = taking.fields[index + 1..].iter().map(Field::fixed_len).sum();
                sized(to.saturating_sub(start + behind.unwrap_or(0)))
            }
            (Form::HexBytes { .. }, Some(len)) => sized(len.saturating_mul(2)),
            (_, Some(len)) => sized(len),
            (Form::Hex { .. }, None) => self.digits_end(start, taking, whole, |byte| byte.is_ascii_hexdigit()),
            (Form::Dec { .. }, None) => self.digits_end(start, taking, whole, |byte| byte.is_ascii_digit()),
            (_, None) => self.open_end(index, taking, whole),
        }
    }

    /// A field of digits extends as far as there are digits.
    fn digits_end(&self, start: usize, taking: &FrameParser<'_>, whole: bool, is_digit: impl Fn(&u8) -> bool) -> End {
        let rest = &taking.input[start..];
        match rest.iter().position(|byte| !is_digit(byte)) {
            Some(0) => End::Wrong("digits".to_owned()),
            Some(len) => End::At(start + len),
            None if !whole => End::More(1),
            None if rest.is_empty() => End::Wrong("digits".to_owned()),
            None => End::At(taking.input.len()),
        }
    }

    /// A field without a length: a constant value or the next constant field determines its end.
    fn open_end(&self, index: usize, taking: &FrameParser<'_>, whole: bool) -> End {
        let (field, input) = (&taking.fields[index], taking.input);
        let start = taking.starts[index];
        if let Some(value) = &field.value
            && let Ok(bytes) = self.evaluation(Some(taking)).bytes(value)
        {
            let len = if matches!(field.form, Form::HexBytes { .. }) { bytes.len() * 2 } else { bytes.len() };
            return match start + len {
                end if end <= input.len() => End::At(end),
                // A mismatch in the bytes received so far is reported at once.
                end if input[start..] == bytes[..input.len() - start] || len != bytes.len() => {
                    End::More(end - input.len())
                }
                _ => End::Wrong(Value::Bytes(bytes).to_string()),
            };
        }
        let behind = &taking.fields[index + 1..];
        if let Some(mark) = behind.first().and_then(Field::literal).filter(|mark| !mark.is_empty()) {
            return match input[start..].windows(mark.len()).position(|window| window == mark) {
                Some(len) => End::At(start + len),
                None if whole => End::Wrong(format!("{} at its end", shortened(&mark))),
                None => End::More(1),
            };
        }
        let fixed: Option<usize> = behind.iter().map(Field::fixed_len).sum();
        match fixed {
            _ if !whole => End::More(1),
            Some(fixed) if start + fixed <= input.len() => End::At(input.len() - fixed),
            Some(fixed) => End::More(start + fixed - input.len()),
            None => End::Wrong("later fields of known length".to_owned()),
        }
    }

    /// Binds the value of a field. `Err(None)` means that the value can only be checked later.
    fn take(
        &self,
        field: &Field,
        bytes: &[u8],
        taking: &mut FrameParser<'_>,
    ) -> Result<Option<Meaning>, Option<String>> {
        if field.constant.as_ref().is_some_and(|constant| constant[..] == *bytes) {
            return Ok(None);
        }
        let mut meaning = None;
        let value = match &field.form {
            Form::Pad(_) | Form::PadTo(_) => return Ok(None),
            Form::Integer(form) => Value::Int(form.read(bytes)),
            Form::Bits(form, parts) => {
                let number = form.read(bytes);
                let mut left = u32::try_from(form.bytes * 8).unwrap_or(64);
                for part in parts {
                    left -= part.bits;
                    let bits = number >> left & ((1 << part.bits) - 1);
                    taking.values.extend(part.name.map(|name| (name, Value::Int(bits))));
                    let wanted = part.value.as_ref().map(|value| self.evaluation(Some(taking)).int(value));
                    let wanted = wanted.transpose().map_err(|fault| Some(self.words(fault)))?;
                    if let Some(wanted) = wanted.filter(|wanted| *wanted != bits) {
                        return Err(Some(format!("{wanted} in a part of {} bits, not {bits}", part.bits)));
                    }
                    meaning = meaning.or(part.table.map(|table| self.tables[table].meaning(bits)));
                }
                Value::Int(number)
            }
            Form::Bytes(_) => Value::Bytes(bytes.into()),
            Form::HexBytes { .. } => match vaka_base::text::parse_hex(bytes) {
                Some(found) => found.into(),
                None => return Err(Some("pairs of hex digits".to_owned())),
            },
            Form::Hex { .. } => Value::Int(digits(bytes, 16).map_err(|_| Some("hex digits".to_owned()))?),
            Form::Dec { .. } => Value::Int(digits(bytes, 10).map_err(|_| Some("decimal digits".to_owned()))?),
        };
        if let Some(wanted) = &field.value {
            match self.evaluation(Some(taking)).value(wanted) {
                Ok(wanted) if wanted == value => {}
                Ok(wanted) => return Err(Some(wanted.to_string())),
                Err(Fault::NotYet) if !taking.complete => {
                    taking.values.extend(field.name.map(|name| (name, value)));
                    return Err(None);
                }
                Err(Fault::Unknown(name))
                    if !taking.complete && taking.fields.iter().any(|field| field.name == Some(name)) =>
                {
                    taking.values.extend(field.name.map(|name| (name, value)));
                    return Err(None);
                }
                Err(fault) => return Err(Some(self.words(fault))),
            }
        }
        if let (Some(table), Value::Int(code)) = (field.table, &value) {
            meaning = Some(self.tables[table].meaning(*code));
        }
        taking.values.extend(field.name.map(|name| (name, value)));
        Ok(meaning.filter(|meaning| *meaning != Meaning::Ok))
    }

    /// A received frame, field by field, with the mismatch.
    pub(super) fn view_received(&self, fields: &[Field], input: &[u8], padded: bool) -> Vec<FieldView> {
        let reading = self.read(fields, input, true, padded);
        let mismatch = match &reading {
            ParseOutcome::Differs(mismatch) => Some(mismatch),
            _ => None,
        };
        let mut taking = FrameParser { fields, input, starts: vec![0], complete: false, at: 0, values: Vec::new() };
        let mut views = Vec::new();
        for (index, field) in fields.iter().enumerate() {
            taking.at = index;
            let start = taking.starts[index];
            let wrong = mismatch.filter(|mismatch| mismatch.field == index);
            if !self.is_there(field, &taking).unwrap_or(false) {
                taking.starts.push(start);
                continue;
            }
            let end = match self.end(index, &taking, true) {
                End::At(end) => end,
                End::More(_) | End::Wrong(_) => input.len(),
            };
            taking.starts.push(end);
            let bytes = input[start.min(end)..end].to_vec();
            let found = self.says(&field.form, &bytes);
            let _ = self.take(field, &bytes, &mut taking);
            let told = field.table.and_then(|table| match meaning_of(&field.form, &bytes)? {
                Value::Int(code) => Some(self.tables[table].meaning(code)),
                _ => None,
            });
            let says = match (wrong, told) {
                (Some(wrong), _) => format!("expected {}; received {found}", wrong.expected),
                (None, Some(Meaning::Refused(sentence))) => format!("{found}: {sentence}"),
                (None, Some(Meaning::Busy)) => format!("{found}: busy"),
                (None, Some(Meaning::Nak)) => format!("{found}: send again"),
                (None, Some(Meaning::Ok)) => format!("{found}: ok"),
                (None, None) => found,
            };
            views.push(FieldView { field: field.text.clone(), bytes, says, is_wrong: wrong.is_some() });
            if wrong.is_some() {
                break;
            }
        }
        let used = taking.starts.last().copied().unwrap_or(0);
        if used < input.len() {
            let is_wrong = mismatch.is_some();
            let says = if mismatch.is_some_and(|wrong| wrong.field == fields.len()) {
                "expected nothing more".to_owned()
            } else {
                "not looked at".to_owned()
            };
            let field = if padded && !is_wrong { "(padding)" } else { "(the rest)" };
            let wrong = mismatch.is_some_and(|wrong| wrong.field == fields.len());
            views.push(FieldView { field: field.to_owned(), bytes: input[used..].to_vec(), says, is_wrong: wrong });
        }
        views
    }
}
