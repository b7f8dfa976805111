//! The fields of a reply as the unit sends them.

use crate::expression::{Expression, Node};
use crate::field::{Field, Form, Meaning, Table};
use crate::model::{Dialect, Exchange};
use crate::value::{Name, Value};

/// The fields to send: a field that the host stores has the value of its name, and a status without a name
/// has its code.
pub(super) fn fields(fields: &[Field], tables: &[Table], status: Status) -> Vec<Field> {
    fields.iter().map(|own| field(own, tables, status)).collect()
}

/// The result of a request, as its reply states it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Status {
    /// It is done.
    Done,
    /// The unit is busy.
    Busy,
    /// The unit rejects it.
    Refused,
}

/// The first code of a table that means this.
fn code(table: &Table, status: Status) -> Option<Value> {
    let fits = |meaning: &Meaning| match meaning {
        Meaning::Ok => status == Status::Done,
        Meaning::Refused(_) => status == Status::Refused,
        Meaning::Busy => status == Status::Busy,
        Meaning::Nak => false,
    };
    table.codes.iter().find(|(_, meaning)| fits(meaning)).map(|(code, _)| Value::Int(*code))
}

pub(super) fn has_code(table: &Table, status: Status) -> bool {
    code(table, status).is_some()
}

fn field(field: &Field, tables: &[Table], status: Status) -> Field {
    let mut field = field.clone();
    let of = |name: Name| Expression { node: Node::Name(name), at: 0 };
    if let Form::Bits(_, parts) = &mut field.form {
        for part in parts {
            part.value = part.value.take().or_else(|| part.name.map(of));
        }
        return field;
    }
    let told = field.table.and_then(|table| code(tables.get(table)?, status));
    let told = told.map(|code| Expression { node: Node::Value(code), at: 0 });
    let other = || told.unwrap_or_else(|| nothing(&field.form));
    field.value = field.value.take().or_else(|| Some(field.name.map_or_else(other, of)));
    field
}

/// The value of a field that the host ignores.
fn nothing(form: &Form) -> Expression {
    let node = match form {
        Form::Bytes(Some(size)) | Form::HexBytes { bytes: Some(size), .. } => {
            let zero = Expression { node: Node::Value(Value::Int(0)), at: 0 };
            Node::Call(crate::expression::Function::Fill, vec![size.clone(), zero])
        }
        Form::Bytes(None) | Form::HexBytes { .. } => Node::Value(Vec::new().into()),
        _ => Node::Value(Value::Int(0)),
    };
    Expression { node, at: 0 }
}

/// A name that a reply stores, and the form and the table of its field.
pub(super) struct CapturedName<'d> {
    pub(super) name: Name,
    pub(super) form: Option<&'d Form>,
    table: Option<&'d Table>,
}

impl CapturedName<'_> {
    /// The code of a status, if the field has a table with one.
    pub(super) fn code(&self, status: Status) -> Option<Value> {
        code(self.table?, status)
    }

    /// Whether a table explains it.
    pub(super) fn is_status(&self) -> bool {
        self.table.is_some()
    }
}

/// The names that the reply of an exchange stores, without the body of an envelope.
pub(super) fn captured_names<'d>(dialect: &'d Dialect, exchange: &'d Exchange) -> Vec<CapturedName<'d>> {
    let body = dialect.envelope.body;
    let envelope = dialect.envelope.reply.iter().flatten().filter(|_| !exchange.is_received_bare());
    let mut found = Vec::new();
    for field in envelope.chain(exchange.reply.iter().flatten()) {
        let table = |index: Option<usize>| index.and_then(|index| dialect.tables.get(index));
        if let Form::Bits(_, parts) = &field.form {
            let open = parts.iter().filter(|part| part.value.is_none());
            found.extend(
                open.filter_map(|part| Some(CapturedName { name: part.name?, form: None, table: table(part.table) })),
            );
        }
        if let Some(name) = field.name.filter(|name| field.value.is_none() && Some(*name) != body) {
            found.push(CapturedName { name, form: Some(&field.form), table: table(field.table) });
        }
    }
    found
}
