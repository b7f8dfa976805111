//! Makes the frames of a session before the unit is changed, so that a frame that cannot be made fails
//! before the first erase. What depends on a reply is not known yet, and is left out.

use vaka_dialect::{Bindings, Callee, EvaluationError, Expression, Name, OperationName, Step, Target, Value};

use crate::protocol::session_error::SessionError;

/// Rounds of a `repeat` that are followed. Chosen by us: a later round differs only in its number.
const MOST_ROUNDS: i128 = 64;

/// A session without its unit.
pub(super) struct Rehearsal {
    memory: Bindings,
}

impl Rehearsal {
    /// A rehearsal that begins with these values.
    pub(super) fn new(memory: Bindings) -> Self {
        Self { memory }
    }

    /// Makes the frames of an operation.
    ///
    /// # Errors
    /// A frame or a value cannot be made, or the dialect ends the operation with these values.
    pub(super) fn run(&mut self, name: OperationName, given: Vec<(Name, Value)>) -> Result<(), SessionError> {
        let dialect = self.memory.dialect().clone();
        let Some(operation) = dialect.operation(name) else { return Ok(()) };
        for (key, value) in given {
            self.memory.set(key, Some(value));
        }
        self.steps(&operation.steps, name)
    }

    fn steps(&mut self, steps: &[Step], name: OperationName) -> Result<(), SessionError> {
        steps.iter().try_for_each(|step| self.step(step, name))
    }

    fn step(&mut self, step: &Step, name: OperationName) -> Result<(), SessionError> {
        match step {
            Step::Call { target, given } => self.call(target, given, name),
            Step::Let(key, of) => {
                let value = known(self.memory.value(of), name.word())?;
                self.memory.set(*key, value);
                Ok(())
            }
            Step::Random(key, _) => {
                self.memory.set(*key, None);
                Ok(())
            }
            Step::If { condition, yes, no } => match known(self.memory.truth(condition), name.word())? {
                Some(true) => self.steps(yes, name),
                Some(false) => self.steps(no, name),
                None => {
                    self.forget(yes);
                    self.forget(no);
                    Ok(())
                }
            },
            Step::Each { size, of, body, .. } => self.each(size, of, body, name),
            Step::Repeat { count, body } => match known(self.memory.rounds(count), name.word())? {
                Some(count) => {
                    let nth = self.memory.dialect().given().nth;
                    let before = self.memory.get(nth).cloned();
                    for round in 0..count.min(MOST_ROUNDS) {
                        self.memory.set(nth, Some(Value::Int(round)));
                        self.steps(body, name)?;
                    }
                    self.memory.set(nth, before);
                    if count > MOST_ROUNDS {
                        self.forget(body);
                    }
                    Ok(())
                }
                None => {
                    self.forget(body);
                    Ok(())
                }
            },
            // How often it runs depends on the unit.
            Step::Until { body, .. } => {
                self.steps(body, name)?;
                self.forget(body);
                Ok(())
            }
            Step::Expect(condition, sentence) => match known(self.memory.truth(condition), name.word())? {
                Some(false) => Err(SessionError::dialect(name.word(), sentence)),
                _ => Ok(()),
            },
            Step::Fail(sentence) => Err(SessionError::dialect(name.word(), sentence)),
            Step::Raw(of, _) => known(self.memory.bytes(of), name.word()).map(drop),
            _ => Ok(()),
        }
    }

    fn each(
        &mut self,
        size: &Expression,
        of: &Expression,
        body: &[Step],
        name: OperationName,
    ) -> Result<(), SessionError> {
        let sizes = known(self.memory.size(size), name.word())?.filter(|size| *size > 0);
        let bytes = known(self.memory.bytes(of), name.word())?;
        let Some((size, bytes)) = sizes.zip(bytes) else {
            self.forget(body);
            return Ok(());
        };
        let given = self.memory.dialect().given();
        let names = [given.piece, given.place, given.nth];
        let before = names.map(|name| self.memory.get(name).cloned());
        for (index, piece) in bytes.chunks(size).enumerate() {
            self.memory.set(given.piece, Some(piece.to_vec().into()));
            self.memory.set(given.place, Some(Value::Int((index * size) as i128)));
            self.memory.set(given.nth, Some(Value::Int(index as i128)));
            self.steps(body, name)?;
        }
        for (name, value) in names.into_iter().zip(before) {
            self.memory.set(name, value);
        }
        Ok(())
    }

    fn call(&mut self, target: &Target, given: &[(Name, Expression)], name: OperationName) -> Result<(), SessionError> {
        let mut before = Vec::new();
        for (key, of) in given {
            before.push((*key, known(self.memory.value(of), name.word())?));
        }
        for (key, value) in &mut before {
            *value = self.memory.set(*key, value.take());
        }
        let dialect = self.memory.dialect().clone();
        let done = match target.callee() {
            Some(Callee::Exchange(number)) => {
                let exchange = dialect.exchange(number);
                known(self.memory.request(exchange), &exchange.name)?;
                for name in dialect.captured_by(exchange) {
                    self.memory.set(name, None);
                }
                self.steps(&exchange.then, name).and_then(|()| self.steps(dialect.after_each(), name))
            }
            Some(Callee::Steps(number)) => self.steps(dialect.named_steps(number), name),
            None => Ok(()),
        };
        for (key, value) in before {
            self.memory.set(key, value);
        }
        done
    }

    /// Forgets every name that steps set, because it is not known whether they run.
    fn forget(&mut self, steps: &[Step]) {
        let dialect = self.memory.dialect().clone();
        for step in steps {
            match step {
                Step::Let(name, _) | Step::Random(name, _) => drop(self.memory.set(*name, None)),
                Step::Call { target, .. } => match target.callee() {
                    Some(Callee::Exchange(number)) => {
                        let exchange = dialect.exchange(number);
                        for name in dialect.captured_by(exchange) {
                            self.memory.set(name, None);
                        }
                        self.forget(&exchange.then);
                        self.forget(dialect.after_each());
                    }
                    Some(Callee::Steps(number)) => self.forget(dialect.named_steps(number)),
                    None => {}
                },
                Step::If { yes, no, .. } => {
                    self.forget(yes);
                    self.forget(no);
                }
                Step::Each { body, .. } | Step::Repeat { body, .. } | Step::Until { body, .. } => self.forget(body),
                _ => {}
            }
        }
    }
}

/// A value; `None` if it depends on a name that has no value yet.
fn known<T>(found: Result<T, EvaluationError>, exchange: &str) -> Result<Option<T>, SessionError> {
    match found {
        Ok(value) => Ok(Some(value)),
        Err(error) if error.is_open() => Ok(None),
        Err(error) => Err(SessionError::dialect(exchange, error)),
    }
}
