//! The places where the operations of a dialect send a frame, and what is known there.

use crate::expression::{Expression, Node};
use crate::model::{Dialect, OperationName};
use crate::steps::{Callee, Step};
use crate::taint::MOST_DEPTH;
use crate::value::Name;

/// One call of an exchange.
#[derive(Clone, Debug)]
pub(super) struct CallSite {
    pub(super) operation: OperationName,
    pub(super) exchange: usize,
    /// The values that names have at the call, the last one first.
    pub(super) equations: Vec<(Name, Expression)>,
    /// The bytes that are sent in pieces, inside `each`.
    pub(super) pieces_of: Option<Name>,
    /// Its place among the calls of its operation.
    pub(super) place: usize,
}

/// All calls, in the order in which the operations run.
pub(super) fn all(dialect: &Dialect) -> Vec<CallSite> {
    let mut sites = Vec::new();
    for operation in OperationName::ALL {
        let Some(found) = dialect.operation(operation) else { continue };
        let mut walk = Walk { dialect, operation, sites: Vec::new() };
        walk.steps(&found.steps, &Vec::new(), None, 0);
        sites.append(&mut walk.sites);
    }
    sites
}

struct Walk<'d> {
    dialect: &'d Dialect,
    operation: OperationName,
    sites: Vec<CallSite>,
}

impl Walk<'_> {
    fn steps(&mut self, steps: &[Step], known: &[(Name, Expression)], pieces_of: Option<Name>, depth: usize) {
        // A checked dialect is not recursive.
        if depth > MOST_DEPTH {
            return;
        }
        let mut known = known.to_vec();
        for step in steps {
            match step {
                Step::Let(name, value) => known.push((*name, value.clone())),
                Step::Call { target, given } => {
                    let mut inside = known.clone();
                    inside.extend(given.iter().cloned());
                    match target.callee() {
                        Some(Callee::Exchange(exchange)) => self.add(exchange, &inside, pieces_of),
                        Some(Callee::Steps(number)) => {
                            self.steps(self.dialect.named_steps(number), &inside, pieces_of, depth + 1);
                        }
                        None => {}
                    }
                }
                Step::If { yes, no, .. } => {
                    self.steps(yes, &known, pieces_of, depth + 1);
                    self.steps(no, &known, pieces_of, depth + 1);
                }
                Step::Each { of, body, .. } => {
                    let name = if let Node::Name(name) = &of.node { Some(*name) } else { None };
                    self.steps(body, &known, name, depth + 1);
                }
                Step::Repeat { body, .. } | Step::Until { body, .. } => {
                    self.steps(body, &known, pieces_of, depth + 1);
                }
                _ => {}
            }
        }
    }

    fn add(&mut self, exchange: usize, known: &[(Name, Expression)], pieces_of: Option<Name>) {
        let equations = known.iter().rev().cloned().collect();
        let place = self.sites.len();
        self.sites.push(CallSite { operation: self.operation, exchange, equations, pieces_of, place });
    }
}
