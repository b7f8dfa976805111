//! Steps that are typed instead of being part of a dialect, and whether they may change a unit.

use std::collections::{BTreeMap, BTreeSet};

use super::expression::{Expression, Reader};
use super::lexer::{Source, TokenStream};
use super::model::{Dialect, OperationName};
use super::steps::{Callee, Step};
use super::taint::MOST_DEPTH;
use super::value::Name;

/// Typed steps.
#[derive(Clone, Debug)]
pub enum Script {
    /// An operation with its arguments.
    Operation(OperationName, Vec<(Name, Expression)>),
    /// Other steps.
    Steps(Vec<Step>),
}

impl Dialect {
    /// Parses typed steps, such as `read(address = 0x100, length = 16)` or `status; wait 20 ms`. They
    /// may use only names of the dialect.
    ///
    /// # Errors
    /// A sentence with the column.
    pub fn script(&self, text: &str) -> Result<Script, String> {
        let (quoted, crcs) = (format!("'{text}'"), BTreeMap::new());
        let said = |problem: super::lexer::Problem| format!("column {}: {}", problem.at.max(1), problem.message);
        let words = TokenStream::new(&Source::new(&quoted, &(0..quoted.len()), text)).map_err(said)?;
        let mut names = self.names.clone();
        let mut reader = Reader { words, names: &mut names, crcs: &crcs, depth: 0, operators: 0 };
        let mut steps = reader.script().map_err(said)?;
        if names.len() > self.names.len() {
            let unknown = names.text(Name(u16::try_from(self.names.len()).unwrap_or(u16::MAX))).to_owned();
            return Err(format!("'{unknown}' is not a name of this dialect"));
        }
        if let [Step::Call { target, given }] = &steps[..]
            && let Some(name) = OperationName::parse(&target.name)
        {
            return match self.operation(name) {
                Some(_) => Ok(Script::Operation(name, given.clone())),
                None => Err(format!("this dialect has no operation '{}'", name.word())),
            };
        }
        let mut lost = Vec::new();
        let exchange = |name: &str| self.exchanges.iter().position(|exchange| exchange.name == name);
        let named = |name: &str| self.steps.iter().position(|(known, _)| known == name);
        for step in &mut steps {
            let find = |target: &super::steps::Target| {
                exchange(&target.name).map(Callee::Exchange).or_else(|| named(&target.name).map(Callee::Steps))
            };
            step.resolve(&find, &mut lost);
        }
        match lost.first() {
            Some(target) => Err(format!("column {}: unknown exchange or group of steps '{}'", target.at, target.name)),
            None => Ok(Script::Steps(steps)),
        }
    }

    /// The exchanges and named steps that can be typed.
    pub fn callable(&self) -> impl Iterator<Item = &str> {
        let exchanges = self.exchanges.iter().map(|exchange| exchange.name.as_str());
        let own = exchanges.filter(|name| OperationName::parse(name).is_none());
        own.chain(self.steps.iter().map(|(name, _)| name.as_str()))
    }

    /// Whether typed steps may erase or write: everything but the operations that do not, and the
    /// exchanges that those send, without other values.
    pub fn may_change(&self, script: &Script) -> bool {
        match script {
            Script::Operation(name, _) => changes(*name),
            Script::Steps(steps) => {
                let mut harmless = BTreeSet::new();
                let all = self.operations.iter().filter(|(name, _)| !changes(**name));
                all.for_each(|(_, operation)| self.sent_by(&operation.steps, &mut harmless, 0));
                steps.iter().any(|step| self.step_may_change(step, &harmless, 0))
            }
        }
    }

    /// Collects the exchanges that steps call without values.
    fn sent_by(&self, steps: &[Step], found: &mut BTreeSet<usize>, depth: usize) {
        for step in steps.iter().filter(|_| depth < MOST_DEPTH) {
            match step {
                Step::Call { target, given } => match target.callee() {
                    Some(Callee::Exchange(number)) if given.is_empty() => drop(found.insert(number)),
                    Some(Callee::Steps(number)) => self.sent_by(self.named_steps(number), found, depth + 1),
                    _ => {}
                },
                Step::If { yes, no, .. } => [yes, no].into_iter().for_each(|of| self.sent_by(of, found, depth + 1)),
                Step::Each { body, .. } | Step::Repeat { body, .. } | Step::Until { body, .. } => {
                    self.sent_by(body, found, depth + 1);
                }
                _ => {}
            }
        }
    }

    fn step_may_change(&self, step: &Step, harmless: &BTreeSet<usize>, depth: usize) -> bool {
        let any = |steps: &[Step]| steps.iter().any(|step| self.step_may_change(step, harmless, depth + 1));
        match step {
            _ if depth > MOST_DEPTH => true,
            Step::Call { target, given } => match target.callee() {
                Some(Callee::Exchange(number)) => !given.is_empty() || !harmless.contains(&number),
                Some(Callee::Steps(number)) => !given.is_empty() || any(self.named_steps(number)),
                None => true,
            },
            Step::If { yes, no, .. } => any(yes) || any(no),
            Step::Each { body, .. } | Step::Repeat { body, .. } | Step::Until { body, .. } => any(body),
            // A name may decide what an exchange does.
            Step::Let(..) | Step::Random(..) | Step::Raw(..) => true,
            _ => false,
        }
    }
}

/// Whether an operation may change the memory of a unit.
fn changes(name: OperationName) -> bool {
    use OperationName as N;
    matches!(name, N::Helper | N::Unprotect | N::Erase | N::Begin | N::Write | N::End)
}
