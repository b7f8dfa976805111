//! Finds what depends on a value that the user supplies. Such bytes are sent to the unit and appear
//! nowhere else: a frame that depends on one is concealed in traces and views.

use std::collections::BTreeSet;

use super::field::{Field, Form};
use super::model::{Dialect, Exchange, OperationName};
use super::steps::{Callee, Step};
use super::value::Name;

/// Marks every exchange and every raw step whose bytes depend on a secret.
pub(super) fn mark(dialect: &mut Dialect) {
    let tainted = tainted(dialect);
    if tainted.is_empty() {
        return;
    }
    let of_envelope = [&dialect.envelope.send, &dialect.envelope.reply];
    let all = of_envelope.into_iter().flatten().flatten().any(|field| depends(field, &tainted));
    for exchange in &mut dialect.exchanges {
        exchange.is_secret = (all && !exchange.bare) || fields(exchange).any(|field| depends(field, &tainted));
    }
    dialect.tainted = tainted;
}

/// The position of a secret in the command block of an exchange.
pub(super) fn secret_in_command(exchange: &Exchange, tainted: &BTreeSet<Name>) -> Option<usize> {
    exchange.command.iter().flatten().find(|field| depends(field, tainted)).map(|field| field.at)
}

/// The fields whose bytes may show a value.
fn fields(exchange: &Exchange) -> impl Iterator<Item = &Field> {
    let patterns = exchange.refused.iter().chain(&exchange.busy).chain(&exchange.nak);
    exchange.send.iter().chain(&exchange.reply).chain(patterns).flatten()
}

/// The secrets, and every name that is computed from one.
fn tainted(dialect: &Dialect) -> BTreeSet<Name> {
    let mut tainted: BTreeSet<Name> = dialect.secrets.iter().map(|secret| secret.name).collect();
    let before = |tainted: &BTreeSet<Name>| tainted.len();
    while !tainted.is_empty() {
        let count = before(&tainted);
        let of_operations = dialect.operations.values().map(|operation| &operation.steps);
        let of_exchanges = dialect.exchanges.iter().map(|exchange| &exchange.then);
        let of_steps = dialect.steps.iter().map(|(_, steps)| steps);
        for steps in of_operations.chain(of_exchanges).chain(of_steps).chain([&dialect.envelope.then]) {
            spread(steps, &mut tainted);
        }
        for exchange in &dialect.exchanges {
            let named = fields(exchange).filter(|field| depends(field, &tainted)).filter_map(|field| field.name);
            let named: Vec<Name> = named.collect();
            tainted.extend(named);
        }
        if before(&tainted) == count {
            break;
        }
    }
    tainted
}

fn spread(steps: &[Step], tainted: &mut BTreeSet<Name>) {
    for step in steps {
        match step {
            Step::Let(name, value) if value.mentions(tainted) => drop(tainted.insert(*name)),
            Step::Call { given, .. } => {
                let names = given.iter().filter(|(_, value)| value.mentions(tainted)).map(|(name, _)| *name);
                let names: Vec<Name> = names.collect();
                tainted.extend(names);
            }
            Step::If { yes, no, .. } => {
                spread(yes, tainted);
                spread(no, tainted);
            }
            Step::Each { body, .. } | Step::Repeat { body, .. } | Step::Until { body, .. } => spread(body, tainted),
            _ => {}
        }
    }
}

fn depends(field: &Field, tainted: &BTreeSet<Name>) -> bool {
    let of_bits = match &field.form {
        Form::Bits(_, bits) => &bits[..],
        _ => &[],
    };
    let values = of_bits.iter().filter_map(|bit| bit.value.as_ref()).chain(&field.value);
    let names = of_bits.iter().filter_map(|bit| bit.name).chain(field.name);
    names.into_iter().any(|name| tainted.contains(&name)) || values.into_iter().any(|value| value.mentions(tainted))
}

impl Dialect {
    /// Whether an operation depends on a value that the user supplies.
    pub fn needs_secret(&self, name: OperationName) -> bool {
        self.operation(name).is_some_and(|operation| self.any_secret(&operation.steps, 0))
    }

    fn any_secret(&self, steps: &[Step], depth: usize) -> bool {
        let any = |steps: &[Step]| self.any_secret(steps, depth + 1);
        steps.iter().any(|step| match step {
            // A checked dialect is not recursive.
            _ if depth > MOST_DEPTH => true,
            Step::Let(_, of) | Step::Raw(of, _) => self.is_secret(of),
            Step::Call { target, given } => {
                given.iter().any(|(_, of)| self.is_secret(of))
                    || match target.callee() {
                        Some(Callee::Exchange(number)) => {
                            let exchange = self.exchange(number);
                            exchange.is_secret || any(&exchange.then)
                        }
                        Some(Callee::Steps(number)) => any(self.named_steps(number)),
                        None => false,
                    }
            }
            Step::If { condition, yes, no } => self.is_secret(condition) || any(yes) || any(no),
            Step::Expect(condition, _) => self.is_secret(condition),
            Step::Each { of, body, .. } => self.is_secret(of) || any(body),
            Step::Repeat { body, .. } | Step::Until { body, .. } => any(body),
            _ => false,
        })
    }
}

/// Nesting that is followed. Chosen by us: more than a checked dialect has.
pub(crate) const MOST_DEPTH: usize = 64;
