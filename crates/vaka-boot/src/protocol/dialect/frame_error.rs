//! A frame that does not match its dialect, as an error and as an event.

use vaka_base::text;
use vaka_core::event::FrameField;
use vaka_dialect::{Exchange, FieldView, FrameMismatch};

use crate::event::Event;
use crate::protocol::session_error::SessionError;

/// The error for received bytes that differ from the expected echo.
pub(super) fn not_an_echo(exchange: &Exchange, sent: &[u8], came: &[u8]) -> SessionError {
    let cut = |bytes: &[u8]| text::hex_pairs(&bytes[..bytes.len().min(16)]);
    let (words, bytes) = match exchange.is_secret {
        true => ("expected an echo; both are concealed".to_owned(), Vec::new()),
        false => (format!("expected an echo of {}; received {}", cut(sent), cut(came)), came.to_vec()),
    };
    let field = FieldView { field: "(echo)".into(), bytes, says: "expected an echo".into(), is_wrong: true };
    SessionError::Frame(Box::new(FrameMismatch { exchange: exchange.name.clone(), words, fields: vec![field] }))
}

/// A frame that does not match, as an event.
pub(super) fn frame_event(trouble: &FrameMismatch) -> Event {
    let field = |view: &FieldView| FrameField {
        field: view.field.clone(),
        bytes: text::hex_pairs(&view.bytes),
        meaning: text::sanitize(&view.says),
        is_mismatch: view.is_wrong,
    };
    Event::Frame {
        exchange: trouble.exchange.clone(),
        problem: text::sanitize(&trouble.words),
        fields: trouble.fields.iter().map(field).collect(),
    }
}
