//! The state of one session: the current variable bindings. Builds the frames to send and parses
//! received ones.

use std::sync::Arc;
use std::time::Duration;

use super::carrier::MOST_COMMAND;
use super::evaluate::EvaluationError;
use super::expression::Expression;
use super::field::{Field, Meaning};
use super::frame::{EvaluationContext, FieldView, Found, Mismatch, ParseOutcome};
use super::model::{Dialect, Exchange};
use super::steps::Time;
use super::types::MOST_ROUNDS;
use super::value::{Name, Value};

/// A session's names and values.
#[derive(Clone, Debug)]
pub struct Bindings {
    dialect: Arc<Dialect>,
    values: Vec<Option<Value>>,
}

/// The classification of a received frame.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ReplyOutcome {
    /// The expected reply; the number of bytes consumed.
    Done(usize),
    /// The unit is busy; the number of bytes consumed.
    Busy(usize),
    /// The unit did not receive the frame intact; the number of bytes consumed.
    Nak(usize),
    /// The unit rejected the request, with this text.
    Refused(String),
    /// The frame is incomplete: at least this many bytes are missing.
    More(usize),
    /// The frame matches no expected form.
    Differs(Box<FrameMismatch>),
}

/// A received frame that does not match.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FrameMismatch {
    /// The exchange.
    pub exchange: String,
    /// The first mismatch, as a sentence without its full stop.
    pub words: String,
    /// All fields of the frame.
    pub fields: Vec<FieldView>,
}

/// Longest pause or deadline that a dialect can ask for. Chosen by us.
const LONGEST: Duration = Duration::from_secs(3600);

impl Bindings {
    /// A session that has not begun.
    ///
    /// # Examples
    /// ```
    /// use std::sync::Arc;
    /// use vaka_dialect::{Bindings, Dialect, Value, no_files};
    ///
    /// # let text = include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/src/templates/control.dialect.toml"));
    /// let dialect = Dialect::parse("my.dialect.toml", text, &no_files).unwrap();
    /// let dialect = Arc::new(dialect);
    /// let mut bindings = Bindings::new(dialect.clone());
    /// let address = dialect.given().address;
    /// bindings.set(address, Some(Value::Int(0x4000)));
    /// assert_eq!(bindings.get(address), Some(&Value::Int(0x4000)));
    /// ```
    pub fn new(dialect: Arc<Dialect>) -> Self {
        let values = dialect.start.clone();
        Self { dialect, values }
    }

    /// The dialect of the session.
    pub fn dialect(&self) -> &Arc<Dialect> {
        &self.dialect
    }

    fn context(&self) -> EvaluationContext<'_> {
        let Dialect { names, tables, given, .. } = &*self.dialect;
        EvaluationContext { values: &self.values, names, tables, nth: given.nth, body: None }
    }

    /// Sets the value of a name; returns the previous value.
    pub fn set(&mut self, name: Name, value: Option<Value>) -> Option<Value> {
        self.values.get_mut(usize::from(name.0)).and_then(|slot| std::mem::replace(slot, value))
    }

    /// All values.
    pub(crate) fn values(&self) -> &[Option<Value>] {
        &self.values
    }

    /// The value of a name.
    pub fn get(&self, name: Name) -> Option<&Value> {
        self.values.get(usize::from(name.0))?.as_ref()
    }

    /// The value of an expression.
    ///
    /// # Errors
    /// A number is too large; a name has no value.
    pub fn value(&self, of: &Expression) -> Result<Value, EvaluationError> {
        self.context().value(of)
    }

    /// The value of an expression that is a number.
    ///
    /// # Errors
    /// The same as for [`value`](Self::value).
    pub fn int(&self, of: &Expression) -> Result<i128, EvaluationError> {
        self.context().int(of)
    }

    /// The number of iterations of a `repeat`; at most the checker's limit.
    ///
    /// # Errors
    /// The same as for [`value`](Self::value).
    pub fn rounds(&self, of: &Expression) -> Result<i128, EvaluationError> {
        self.int(of).map(|rounds| rounds.clamp(0, MOST_ROUNDS))
    }

    /// The value of an expression that is a length or a count.
    ///
    /// # Errors
    /// The same as for [`value`](Self::value).
    pub fn size(&self, of: &Expression) -> Result<usize, EvaluationError> {
        self.context().size(of)
    }

    /// The value of an expression that is a comparison.
    ///
    /// # Errors
    /// The same as for [`value`](Self::value).
    pub fn truth(&self, of: &Expression) -> Result<bool, EvaluationError> {
        self.context().truth(of)
    }

    /// The value of an expression that is bytes.
    ///
    /// # Errors
    /// The same as for [`value`](Self::value).
    pub fn bytes(&self, of: &Expression) -> Result<Arc<[u8]>, EvaluationError> {
        match self.value(of)? {
            Value::Bytes(bytes) => Ok(bytes),
            other => Err(EvaluationError::new(format!("expected bytes, found {other}"))),
        }
    }

    /// A duration of at most one hour.
    ///
    /// # Errors
    /// The same as for [`value`](Self::value).
    pub fn time(&self, of: &Time) -> Result<Duration, EvaluationError> {
        let units = u64::try_from(self.int(&of.value)?.max(0)).unwrap_or(u64::MAX);
        Ok(Duration::from_micros(units.saturating_mul(of.unit_us)).min(LONGEST))
    }

    /// The frame of an exchange in its envelope; empty if the exchange sends only a request.
    ///
    /// # Errors
    /// A field cannot be computed; the error names it.
    ///
    /// # Examples
    /// ```
    /// use std::sync::Arc;
    /// use vaka_dialect::{Bindings, Dialect, Value, no_files};
    ///
    /// # let text = include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/src/templates/control.dialect.toml"));
    /// let dialect = Dialect::parse("my.dialect.toml", text, &no_files).unwrap();
    /// let dialect = Arc::new(dialect);
    /// let mut bindings = Bindings::new(dialect.clone());
    /// bindings.set(dialect.given().data, Some(vec![1, 2, 3].into()));
    /// // The exchange "put" sends the bytes that are written.
    /// let put = (0..).map(|number| dialect.exchange(number)).find(|exchange| exchange.name == "put").unwrap();
    /// assert_eq!(bindings.request(put), Ok(vec![1, 2, 3]));
    /// # let _ = Value::Int(0);
    /// ```
    pub fn request(&self, exchange: &Exchange) -> Result<Vec<u8>, EvaluationError> {
        let Some(fields) = &exchange.send else { return Ok(Vec::new()) };
        let body = self.context().emit(fields)?;
        let frame = match (&self.dialect.envelope.send, self.dialect.envelope.body) {
            (Some(envelope), Some(name)) if !exchange.is_sent_bare() => self.enveloped(envelope, name, body)?,
            _ => body,
        };
        match self.dialect.largest {
            Some(largest) if frame.len() > largest && !exchange.sends_aside() => {
                Err(EvaluationError::new(format!("the frame has {} bytes; the unit accepts {largest}", frame.len())))
            }
            _ => Ok(frame),
        }
    }

    fn enveloped(&self, envelope: &[Field], name: Name, body: Vec<u8>) -> Result<Vec<u8>, EvaluationError> {
        EvaluationContext { body: Some((name, &body.into())), ..self.context() }.emit(envelope)
    }

    /// The SCSI command block of an exchange, if it has one: 1 to 16 bytes.
    ///
    /// # Errors
    /// A field cannot be computed, or the block has another length.
    pub fn command(&self, exchange: &Exchange) -> Result<Option<Vec<u8>>, EvaluationError> {
        let Some(fields) = &exchange.command else { return Ok(None) };
        let block = self.context().emit(fields)?;
        match block.len() {
            1..=MOST_COMMAND => Ok(Some(block)),
            len => Err(EvaluationError::new(format!("a command block has 1 to {MOST_COMMAND} bytes, not {len}"))),
        }
    }

    /// The command block and the frame that is sent, field by field.
    pub fn view_request(&self, exchange: &Exchange) -> Vec<FieldView> {
        let command = exchange.command.as_ref().map(|fields| self.context().view_sent(fields));
        command.into_iter().flatten().chain(self.view_sent_frame(exchange)).collect()
    }

    fn view_sent_frame(&self, exchange: &Exchange) -> Vec<FieldView> {
        let Some(fields) = &exchange.send else { return Vec::new() };
        let inner = self.context().view_sent(fields);
        let views = match (&self.dialect.envelope.send, self.dialect.envelope.body) {
            (Some(envelope), Some(name)) if !exchange.is_sent_bare() => {
                let body: Value = inner.iter().flat_map(|view| view.bytes.clone()).collect::<Vec<_>>().into();
                let outer = EvaluationContext { body: Some((name, &body)), ..self.context() }.view_sent(envelope);
                self.unfolded(envelope, name, outer, inner)
            }
            _ => inner,
        };
        concealed(exchange, views)
    }

    /// The fields of an envelope, with the fields of the body in place of its name.
    fn unfolded(&self, envelope: &[Field], name: Name, outer: Vec<FieldView>, inner: Vec<FieldView>) -> Vec<FieldView> {
        let is_body = |view: &FieldView| {
            envelope.iter().any(|field| field.name == Some(name) && field.text == view.field)
                || envelope.iter().any(|field| field.text == view.field && field.is_just(name))
        };
        let mut inner = Some(inner);
        outer
            .into_iter()
            .flat_map(|view| if is_body(&view) { inner.take().unwrap_or_default() } else { vec![view] })
            .collect()
    }

    /// Whether bytes after a reply are padding.
    fn is_padded(&self, exchange: &Exchange) -> bool {
        self.dialect.carrier.pads_replies() && !exchange.receives_aside()
    }

    /// Parses a received frame of an exchange and stores what it captures. `whole` means that
    /// `input` is exactly one frame; otherwise more bytes may follow.
    pub fn answer(&mut self, exchange: &Exchange, input: &[u8], whole: bool) -> ReplyOutcome {
        let padded = self.is_padded(exchange);
        let dialect = self.dialect.clone();
        let envelope =
            dialect.envelope.reply.as_ref().zip(dialect.envelope.body).filter(|_| !exchange.is_received_bare());
        let Some((envelope, name)) = envelope else { return self.inner_answer(exchange, input, whole, padded) };
        let found = match self.context().read(envelope, input, whole, padded) {
            ParseOutcome::Match(found) => found,
            ParseOutcome::More(more) => return ReplyOutcome::More(more),
            ParseOutcome::Differs(mismatch) => {
                let fields = self.context().view_received(envelope, input, padded);
                return ReplyOutcome::Differs(Box::new(self.trouble(exchange, envelope, &mismatch, fields)));
            }
        };
        if let Some(meaning) = &found.meaning {
            return told(meaning, found.used);
        }
        let Found { used, mut values, .. } = found;
        let Some(at) = values.iter().rposition(|(known, _)| *known == name) else { return ReplyOutcome::More(1) };
        let (_, Value::Bytes(body)) = values.remove(at) else { return ReplyOutcome::More(1) };
        let around = values.into_iter().filter(|(known, _)| *known != name);
        let before: Vec<(Name, Option<Value>)> =
            around.map(|(known, value)| (known, self.set(known, Some(value)))).collect();
        let answer = match self.inner_answer(exchange, &body, true, padded) {
            ReplyOutcome::Done(_) => ReplyOutcome::Done(used),
            ReplyOutcome::Busy(_) => ReplyOutcome::Busy(used),
            ReplyOutcome::Nak(_) => ReplyOutcome::Nak(used),
            other => other,
        };
        if matches!(answer, ReplyOutcome::Differs(_)) {
            before.into_iter().rev().for_each(|(known, value)| drop(self.set(known, value)));
        }
        answer
    }

    fn keep(&mut self, values: impl IntoIterator<Item = (Name, Value)>) {
        for (name, value) in values {
            self.set(name, Some(value));
        }
    }

    /// The meaning of the sense data of a failed SCSI command, and what it captures: its key, code and
    /// qualifier. [`ReplyOutcome::Differs`] if the exchange does not describe them.
    pub fn sense(&mut self, exchange: &Exchange, sense: [u8; 3]) -> ReplyOutcome {
        self.matched(exchange, failures(exchange), (&sense, true, false))
    }

    /// Tries the reply, then the patterns of a busy unit, of a frame that was not received intact, and
    /// of a rejection. The latter describe the sense data of a SCSI command, not its data.
    fn inner_answer(&mut self, exchange: &Exchange, input: &[u8], whole: bool, padded: bool) -> ReplyOutcome {
        let reply = exchange.reply.iter().map(|fields| (fields, None));
        match exchange.command {
            Some(_) => self.matched(exchange, reply, (input, whole, padded)),
            None => self.matched(exchange, reply.chain(failures(exchange)), (input, whole, padded)),
        }
    }

    /// Tries patterns on received bytes.
    fn matched<'e>(
        &mut self,
        exchange: &Exchange,
        patterns: impl Iterator<Item = (&'e Vec<Field>, Option<Meaning>)>,
        (input, whole, padded): (&[u8], bool, bool),
    ) -> ReplyOutcome {
        let mut more = None;
        let mut first = None;
        for (fields, means) in patterns {
            match self.context().read(fields, input, whole, padded) {
                ParseOutcome::Match(Found { used, values, meaning }) => {
                    let means = match (means, meaning) {
                        (Some(Meaning::Refused(_)), None) => Some(Meaning::Refused(self.said(fields, &values))),
                        (_, Some(told)) => Some(told),
                        (means, None) => means,
                    };
                    self.keep(values);
                    return means.map_or(ReplyOutcome::Done(used), |means| told(&means, used));
                }
                ParseOutcome::More(missing) => more = Some(more.map_or(missing, |least: usize| least.min(missing))),
                ParseOutcome::Differs(mismatch) => {
                    first.get_or_insert((fields, mismatch));
                }
            }
        }
        if let Some(more) = more {
            return ReplyOutcome::More(more);
        }
        let trouble = match first {
            Some((fields, mismatch)) => {
                let views = self.context().view_received(fields, input, padded);
                self.trouble(exchange, fields, &mismatch, views)
            }
            None => FrameMismatch {
                exchange: exchange.name.clone(),
                words: "no reply was expected".into(),
                fields: Vec::new(),
            },
        };
        ReplyOutcome::Differs(Box::new(trouble))
    }

    /// The text of a rejection that no table explains.
    fn said(&self, fields: &[Field], values: &[(Name, Value)]) -> String {
        let told: Vec<String> = values
            .iter()
            .filter(|(name, _)| fields.iter().any(|field| field.name == Some(*name)))
            .filter(|(name, _)| !self.dialect.tainted.contains(name))
            .map(|(name, value)| format!("{} {value}", self.dialect.names.text(*name)))
            .collect();
        if told.is_empty() { "no reason given".to_owned() } else { told.join(", ") }
    }

    fn trouble(
        &self,
        exchange: &Exchange,
        fields: &[Field],
        mismatch: &Mismatch,
        views: Vec<FieldView>,
    ) -> FrameMismatch {
        let Mismatch { field, at, expected, .. } = mismatch;
        let found = views.iter().find(|view| view.is_wrong).map_or_else(
            || "nothing".to_owned(),
            |view| if view.bytes.is_empty() { "nothing".to_owned() } else { super::value::shortened(&view.bytes) },
        );
        let words = match fields.get(*field) {
            _ if exchange.is_secret => format!("at byte {at}: another value than expected; both are concealed"),
            Some(field) => format!("at byte {at}, {field}: expected {expected}; received {found}"),
            None => format!("at byte {at}: expected {expected}: {found}"),
        };
        FrameMismatch { exchange: exchange.name.clone(), words, fields: concealed(exchange, views) }
    }

    /// The received frame, field by field, according to the pattern that matches best.
    pub fn view_answer(&self, exchange: &Exchange, input: &[u8]) -> Vec<FieldView> {
        concealed(exchange, self.view_received(exchange, input))
    }

    fn view_received(&self, exchange: &Exchange, input: &[u8]) -> Vec<FieldView> {
        let padded = self.is_padded(exchange);
        let envelope = self
            .dialect
            .envelope
            .reply
            .as_ref()
            .zip(self.dialect.envelope.body)
            .filter(|_| !exchange.is_received_bare());
        let Some((envelope, name)) = envelope else { return self.view_inner(exchange, input, padded) };
        let outer = self.context().view_received(envelope, input, padded);
        let ParseOutcome::Match(found) = self.context().read(envelope, input, true, padded) else { return outer };
        let body = found.values.iter().rev().find(|(known, _)| *known == name).map(|(_, value)| value.clone());
        let Some(Value::Bytes(body)) = body else { return outer };
        let mut with = self.clone();
        with.keep(found.values);
        self.unfolded(envelope, name, outer, with.view_inner(exchange, &body, padded))
    }

    fn view_inner(&self, exchange: &Exchange, input: &[u8], padded: bool) -> Vec<FieldView> {
        let all = exchange.reply.iter().chain(&exchange.busy).chain(&exchange.nak).chain(&exchange.refused);
        let fits =
            |fields: &&Vec<Field>| matches!(self.context().read(fields, input, true, padded), ParseOutcome::Match(_));
        let fields = all.clone().find(fits).or(exchange.reply.as_ref());
        fields.map_or_else(Vec::new, |fields| self.context().view_received(fields, input, padded))
    }

    /// The length of an exchange's reply in bytes, if it is known in advance.
    pub fn reply_length(&self, exchange: &Exchange) -> Option<usize> {
        let inner = self.length_of(exchange.reply.as_ref()?);
        let envelope = self
            .dialect
            .envelope
            .reply
            .as_ref()
            .zip(self.dialect.envelope.body)
            .filter(|_| !exchange.is_received_bare());
        let Some((envelope, name)) = envelope else { return inner };
        let around = envelope.iter().map(|field| match field.name == Some(name) {
            true => field.fixed_len().or(inner),
            false => field.fixed_len(),
        });
        around.sum()
    }

    /// Whether the reply of an exchange has no end of its own: its last field takes all bytes.
    pub fn is_reply_open(&self, exchange: &Exchange) -> bool {
        let envelope = self.dialect.envelope.reply.as_ref().filter(|_| !exchange.is_received_bare());
        let last = envelope.or(exchange.reply.as_ref()).and_then(|fields| fields.last());
        last.is_some_and(Field::is_open)
    }

    fn length_of(&self, fields: &[Field]) -> Option<usize> {
        let context = self.context();
        let len = |field: &Field| {
            field.fixed_len().or_else(|| {
                let size = context.size(field.form.size()?).ok()?;
                field.only_if.is_none().then_some(size)
            })
        };
        fields.iter().map(len).sum()
    }
}

/// The patterns of everything but the expected reply, with their meanings.
fn failures(exchange: &Exchange) -> impl Iterator<Item = (&Vec<Field>, Option<Meaning>)> {
    let busy = exchange.busy.iter().map(|fields| (fields, Some(Meaning::Busy)));
    let nak = exchange.nak.iter().map(|fields| (fields, Some(Meaning::Nak)));
    let refused = exchange.refused.iter().map(|fields| (fields, Some(Meaning::Refused(String::new()))));
    busy.chain(nak).chain(refused)
}

/// The fields of a frame; without their content if it depends on a secret.
fn concealed(exchange: &Exchange, mut views: Vec<FieldView>) -> Vec<FieldView> {
    for view in views.iter_mut().filter(|_| exchange.is_secret) {
        let says = format!("concealed ({})", vaka_base::text::count(view.bytes.len(), "byte"));
        (view.bytes, view.says) = (Vec::new(), says);
    }
    views
}

fn told(meaning: &Meaning, used: usize) -> ReplyOutcome {
    match meaning {
        Meaning::Ok => ReplyOutcome::Done(used),
        Meaning::Busy => ReplyOutcome::Busy(used),
        Meaning::Nak => ReplyOutcome::Nak(used),
        Meaning::Refused(words) => ReplyOutcome::Refused(words.clone()),
    }
}
