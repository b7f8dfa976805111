//! Nodes of a CAN bus: each answers a discovery with its unique id.

use std::time::Duration;

use vaka_base::text;
use vaka_can::CanError;
use vaka_core::unit::ReportedProperty;
use vaka_dialect::{Bindings, Callee, Exchange, FieldView, Name, OperationName, ReplyOutcome, Step, Value};
use vaka_usb::NodeInfo;

use super::carrier::Transfer;
use super::interpreter::{Interpreter, QUIET, TracedFrame};
use crate::context::Context;
use crate::protocol::session_error::SessionError;

/// A node that answered.
#[derive(Clone, Debug)]
pub struct FoundNode {
    /// Unique id, in hex digits.
    pub id: String,
    /// The properties that it reported.
    pub told: Vec<ReportedProperty>,
    /// All values of its answer.
    memory: Bindings,
}

/// Time for a frame to get on the bus. Chosen by us: many times what a busy bus needs.
const SEND_TIME: Duration = Duration::from_millis(500);

/// Nodes that are collected at most. Source: ISO 11898-2 allows far fewer on one line.
const MOST_NODES: usize = 256;

impl Interpreter {
    /// Asks all nodes for their unique ids, and collects the answers for the time of the dialect. Nodes
    /// that answer with the same id are all returned.
    ///
    /// # Errors
    /// The bus fails. A bus without any other node is empty.
    pub fn discover(&mut self, cx: &mut Context<'_>) -> Result<Vec<FoundNode>, SessionError> {
        self.discover_for(None, cx)
    }

    /// As [`discover`](Self::discover), for one node that the trace records. If an id answers twice, asks
    /// again, for twice the time: a late answer to the discovery before is not a second node.
    fn discover_for(&mut self, node: Option<Value>, cx: &mut Context<'_>) -> Result<Vec<FoundNode>, SessionError> {
        let found = self.collect(node.clone(), 1, cx)?;
        let is_shared = |(at, one): (usize, &FoundNode)| found[..at].iter().any(|other| other.id == one.id);
        if found.iter().enumerate().any(is_shared) { self.collect(node, 2, cx) } else { Ok(found) }
    }

    /// One request, and the answers to it in a multiple of the dialect's time.
    fn collect(
        &mut self,
        node: Option<Value>,
        times: u32,
        cx: &mut Context<'_>,
    ) -> Result<Vec<FoundNode>, SessionError> {
        let dialect = self.dialect().clone();
        let Some(operation) = dialect.operation(OperationName::Discover) else { return Ok(Vec::new()) };
        let (Some(collection), Some(exchange)) = (&operation.collection, own_exchange(&operation.steps)) else {
            return Ok(Vec::new());
        };
        let exchange = dialect.exchange(exchange);
        let given: Vec<(Name, Value)> = node.into_iter().map(|node| (dialect.given().node, node)).collect();
        self.wire.note(&dialect, OperationName::Discover.word(), &given);
        let time = self.time(&collection.time)? * times;
        if exchange.sends() {
            let frame = self.memory.request(exchange).map_err(|error| SessionError::dialect(&exchange.name, error))?;
            let timeout = time.max(SEND_TIME);
            self.show_discovery(exchange, true, |memory| memory.view_request(exchange));
            self.wire.send(&Transfer { exchange, memory: &self.memory, timeout }, &frame, cx)?;
            match self.wire.flush(timeout, cx) {
                Err(SessionError::Can(CanError::NotAcknowledged)) => return Ok(Vec::new()),
                done => done?,
            }
        }
        // The time begins when the request is on the bus: the way to the adapter may be slow. So may the
        // way back, so each answer leaves time for another.
        let mut until = cx.now() + time;
        let mut found = Vec::new();
        while found.len() < MOST_NODES && !cx.stop_requested() {
            let timeout = until.saturating_sub(cx.now());
            match self.wire.receive(&Transfer { exchange, memory: &self.memory, timeout }, 0, cx) {
                Ok(answer) => {
                    self.show_discovery(exchange, false, |memory| memory.view_answer(exchange, &answer));
                    found.extend(self.node_of(exchange, &answer)?);
                    until = until.max(cx.now() + QUIET);
                }
                Err(SessionError::Timeout(_) | SessionError::Can(CanError::NotAcknowledged)) => break,
                // Answers of several frames collide.
                Err(SessionError::Can(CanError::IsoTp(_))) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(found)
    }

    /// Passes a frame of a discovery to the watcher.
    fn show_discovery(&mut self, exchange: &Exchange, sent: bool, view: impl Fn(&Bindings) -> Vec<FieldView>) {
        if self.watcher.is_none() {
            return;
        }
        let (operation, exchange) = (OperationName::Discover, exchange.name.clone());
        let fields = view(&self.memory);
        self.show(TracedFrame { operation, exchange, sent, setup: None, fields, trouble: None });
    }

    /// The node that sent an answer; `None` if the bytes are no answer.
    fn node_of(&self, exchange: &Exchange, answer: &[u8]) -> Result<Option<FoundNode>, SessionError> {
        let dialect = self.dialect().clone();
        let Some(operation) = dialect.operation(OperationName::Discover) else { return Ok(None) };
        let Some(collection) = &operation.collection else { return Ok(None) };
        let wrong = |error| SessionError::dialect(OperationName::Discover.word(), error);
        let mut memory = self.memory.clone();
        let received = self.wire.received_id().map(|id| Value::Int(id.into()));
        memory.set(dialect.given().received_id, received);
        let ReplyOutcome::Done(_) = memory.answer(exchange, answer, true) else { return Ok(None) };
        let id = memory.bytes(&collection.node).map_err(wrong)?;
        let told = operation.tells.iter().map(|tell| {
            let value = memory.value(&tell.value)?;
            Ok(ReportedProperty { name: tell.name.clone(), value: (&value).into() })
        });
        let told = told.collect::<Result<Vec<_>, _>>().map_err(wrong)?;
        memory.set(dialect.given().node, Some(Value::Bytes(id.clone())));
        Ok(Some(FoundNode { id: text::hex(&id), told, memory }))
    }

    /// Speaks to one node from now on; returns what it reported.
    ///
    /// # Errors
    /// It does not answer, or two nodes answer with its unique id.
    pub fn at_node(&mut self, node: &NodeInfo, cx: &mut Context<'_>) -> Result<Vec<ReportedProperty>, SessionError> {
        let dialect = self.dialect().clone();
        if dialect.operation(OperationName::Discover).is_none() {
            let id = text::parse_hex(node.id.as_bytes()).map(Value::from);
            self.memory.set(dialect.given().node, id);
            return Ok(Vec::new());
        }
        let mut found = self.discover_for(text::parse_hex(node.id.as_bytes()).map(Value::from), cx)?;
        found.retain(|other| other.id == node.id);
        match found.len() {
            0 => Err(SessionError::Disconnected),
            1 => {
                let FoundNode { told, memory, .. } = found.remove(0);
                self.memory = memory;
                Ok(told)
            }
            count => Err(SessionError::SharedNodeId { id: node.id.clone(), count }),
        }
    }
}

/// The exchange that is an operation's own.
fn own_exchange(steps: &[Step]) -> Option<usize> {
    match steps {
        [Step::Call { target, .. }] => match target.callee() {
            Some(Callee::Exchange(number)) => Some(number),
            _ => None,
        },
        _ => None,
    }
}
