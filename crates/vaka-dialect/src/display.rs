//! A readable view of a dialect: operation by operation, frame by frame.

use super::model::{Dialect, Exchange, OperationName, RequestForm};
use super::steps::Step;
use crate::steps::Callee;

/// One row of the table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The operation, on its first line only.
    pub operation: String,
    /// The action: the sender of a frame, or the step.
    pub step: String,
    /// The fields of the frame, or the step as written.
    pub fields: String,
}

/// All rows.
pub type Rows = Vec<Row>;

impl Dialect {
    /// Every operation with its steps and frames.
    pub fn rows(&self) -> Rows {
        let mut rows = Vec::new();
        for name in OperationName::ALL {
            let Some(operation) = self.operation(name) else { continue };
            let from = rows.len();
            self.step_rows(&operation.steps, 0, &mut rows);
            if let Some(first) = rows.get_mut(from) {
                first.operation = name.word().to_owned();
            }
            if let Some(collection) = &operation.collection {
                rows.push(row(0, "node", self.written(collection.node.at)));
            }
            for tell in &operation.tells {
                rows.push(row(0, "tells", format!("{} = {}", tell.name, self.written(tell.value.at))));
            }
            if let Some(checksum) = &operation.checksum {
                let (unit, image) = (self.written(checksum.unit.at), self.written(checksum.image.at));
                rows.push(row(0, "compare", format!("the unit's {unit} with the image's {image}")));
            }
            if let Some(protected) = &operation.protected {
                rows.push(row(0, "protected", format!("if {}", self.written(protected.at))));
            }
        }
        rows
    }

    /// An expression as written in the file, up to the end of its line.
    fn written(&self, at: usize) -> String {
        let rest = self.text.get(at..).unwrap_or_default().lines().next().unwrap_or_default();
        let before = self.text[..at].rsplit('\n').next().unwrap_or_default();
        // A number outside of quotes ends where the next key begins.
        let in_quotes = before.matches('"').count() % 2 == 1 || !before.contains('=');
        let ends: &[char] = if in_quotes { &['"', '}', '#'] } else { &[',', '"', '}', '#'] };
        let end = rest.find(ends).unwrap_or(rest.len());
        rest[..end].trim_end_matches([',', ' ', '\'']).to_owned()
    }

    fn step_rows(&self, steps: &[Step], depth: usize, rows: &mut Rows) {
        for step in steps {
            let (words, body): (String, &[Step]) = match step {
                Step::Call { target, .. } => {
                    match target.callee() {
                        Some(Callee::Exchange(number)) => self.exchange_rows(self.exchange(number), depth, rows),
                        Some(Callee::Steps(number)) => {
                            rows.push(row(depth, "steps", target.name.clone()));
                            self.step_rows(self.named_steps(number), depth + 1, rows);
                        }
                        None => {}
                    }
                    continue;
                }
                Step::Let(name, value) => {
                    rows.push(row(depth, "let", format!("{} = {}", self.name_text(*name), self.written(value.at))));
                    continue;
                }
                Step::Random(name, size) => {
                    let size = self.written(size.at);
                    rows.push(row(depth, "let", format!("{} = random({size}", self.name_text(*name))));
                    continue;
                }
                Step::If { condition, yes, no } => {
                    rows.push(row(depth, "if", before_block(&self.written(condition.at)).to_owned()));
                    self.step_rows(yes, depth + 1, rows);
                    if !no.is_empty() {
                        rows.push(row(depth, "else", String::new()));
                        self.step_rows(no, depth + 1, rows);
                    }
                    continue;
                }
                Step::Wait(time) => (format!("wait {}", self.written(time.value.at)), &[]),
                Step::Each { size, body, .. } => (format!("each {}", self.written(size.at)), body),
                Step::Repeat { count, body } => (format!("repeat {}", self.written(count.at)), body),
                Step::Until { done, body, .. } => (format!("until {}", self.written(done.at)), body),
                Step::Expect(condition, sentence) => {
                    rows.push(row(
                        depth,
                        "expect",
                        format!(
                            "{} ({sentence})",
                            self.written(condition.at).split(" else").next().unwrap_or_default()
                        ),
                    ));
                    continue;
                }
                Step::Fail(sentence) => (format!("fail: {sentence}"), &[]),
                Step::Line(line, _) => (format!("line {} bit/s", line.baud), &[]),
                Step::Signals { dtr, rts, .. } => {
                    let word = |name: &str, on: &Option<bool>| {
                        on.map(|on| format!("{name} {}", if on { "on" } else { "off" }))
                    };
                    ([word("DTR", dtr), word("RTS", rts)].into_iter().flatten().collect::<Vec<_>>().join(", "), &[])
                }
                Step::Break(time, _) => (format!("break {}", self.written(time.value.at)), &[]),
                Step::Raw(bytes, _) => (format!("raw {}", self.written(bytes.at)), &[]),
                Step::Alternate(number, _) => (format!("alternate setting {number}"), &[]),
                Step::BusReset => ("reset of the port".to_owned(), &[]),
                Step::Drain => ("discard incoming data".to_owned(), &[]),
                Step::Leaves(_) => ("the unit disconnects".to_owned(), &[]),
                Step::ComesBack(_) => ("the unit disconnects and returns".to_owned(), &[]),
            };
            let (first, rest) = words.split_once(' ').unwrap_or((&words, ""));
            rows.push(row(depth, first, before_block(rest).to_owned()));
            self.step_rows(body, depth + 1, rows);
        }
    }

    fn exchange_rows(&self, exchange: &Exchange, depth: usize, rows: &mut Rows) {
        let join =
            |fields: &[super::field::Field]| fields.iter().map(ToString::to_string).collect::<Vec<_>>().join(" | ");
        let request = |form: &RequestForm, way: &str| {
            let class = ["standard", "class", "vendor"][usize::from(form.class)];
            let part = |name: &str, of: &Option<crate::expression::Expression>| {
                of.as_ref().map(|of| format!(", {name} {}", self.written(of.at))).unwrap_or_default()
            };
            let (value, index) = (part("value", &form.value), part("index", &form.index));
            format!("[{class} request {way} {}{value}{index}]", self.written(form.request.at))
        };
        if exchange.sends() {
            let setup = exchange.control.out.as_ref().map(|form| request(form, "out"));
            let fields = exchange.send.as_ref().map(|fields| join(fields));
            let command = exchange.command.as_ref().map(|fields| format!("[command {}]", join(fields)));
            let words: Vec<String> = setup.into_iter().chain(command).chain(fields).collect();
            rows.push(row(depth, &format!("{} →", exchange.name), words.join(" ")));
        }
        if let Some(fields) = &exchange.reply {
            let setup = exchange.control.back.as_ref().map(|form| request(form, "in"));
            let words: Vec<String> = setup.into_iter().chain([join(fields)]).collect();
            rows.push(row(depth, "  ← expected", words.join(" ")));
        }
        for fields in &exchange.nak {
            rows.push(row(depth, "  ← nak", join(fields)));
        }
        for fields in &exchange.busy {
            rows.push(row(depth, "  ← busy", join(fields)));
        }
        for fields in &exchange.refused {
            rows.push(row(depth, "  ← refused", join(fields)));
        }
    }

    /// The fields around every frame, if there is an envelope.
    pub fn envelope_rows(&self) -> Rows {
        let join =
            |fields: &Vec<super::field::Field>| fields.iter().map(ToString::to_string).collect::<Vec<_>>().join(" | ");
        let sent = self.envelope.send.as_ref().map(|fields| row(0, "→", join(fields)));
        let came = self.envelope.reply.as_ref().map(|fields| row(0, "←", join(fields)));
        sent.into_iter().chain(came).collect()
    }
}

/// A line of the file up to the block that it opens.
fn before_block(line: &str) -> &str {
    line.split(" {").next().unwrap_or_default().trim_end_matches(['{', ' '])
}

fn row(depth: usize, step: &str, fields: String) -> Row {
    Row { operation: String::new(), step: format!("{}{step}", "  ".repeat(depth)), fields }
}
