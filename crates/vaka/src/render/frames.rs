//! Frames of a dialect, field by field.

use serde_json::json;
use vaka_base::text;
use vaka_boot::protocol::dialect::TracedFrame;

/// A frame as an event, with all its fields.
pub fn frame_event(operation: &str, seen: &TracedFrame) -> serde_json::Value {
    let fields = seen.fields.iter().map(|field| {
        let bytes = text::hex(&field.bytes);
        json!({ "field": field.field, "bytes": bytes, "meaning": field.says, "is_mismatch": field.is_wrong })
    });
    let fields: Vec<serde_json::Value> = fields.collect();
    json!({
        "event": "traced-frame",
        "operation": operation,
        "exchange": seen.exchange,
        "sent": seen.sent,
        "request": seen.setup.map(|setup| json!({
            "type": setup.kind, "request": setup.request, "value": setup.value, "index": setup.index,
        })),
        "fields": fields,
        "problem": seen.trouble,
    })
}

/// The rows of a frame in a table: operation, frame, field, bytes and meaning.
pub fn frame_rows(operation: &mut String, seen: &TracedFrame, rows: &mut Vec<Vec<String>>) {
    let mut frame = format!("{} {}", seen.exchange, if seen.sent { "→" } else { "←" });
    if let Some(setup) = &seen.setup {
        let bytes = text::hex_pairs(&setup.bytes(0)[..6]);
        let says = format!("request 0x{:02X}, value {}, index {}", setup.request, setup.value, setup.index);
        rows.push(vec![std::mem::take(operation), std::mem::take(&mut frame), "(setup)".into(), bytes, says]);
    }
    for field in &seen.fields {
        let shown = match &field.bytes[..] {
            bytes if bytes.len() > 16 => format!("{} … ({} bytes)", text::hex_pairs(&bytes[..12]), bytes.len()),
            bytes => text::hex_pairs(bytes),
        };
        let says = if field.is_wrong { format!("WRONG: {}", field.says) } else { field.says.clone() };
        rows.push(vec![
            std::mem::take(operation),
            std::mem::take(&mut frame),
            field.field.clone(),
            shown,
            text::sanitize(&says),
        ]);
    }
    if seen.fields.is_empty() && seen.setup.is_none() {
        rows.push(vec![std::mem::take(operation), frame, "(no data)".into(), String::new(), String::new()]);
    }
    if let Some(trouble) = &seen.trouble {
        rows.push(vec![String::new(), String::new(), String::new(), String::new(), text::sanitize(trouble)]);
    }
}
