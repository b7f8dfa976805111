//! Events as JSON Lines on standard output, with their time.

use serde::Serialize;
use vaka_core::event::Event;

use super::{Renderer, wrap};

/// Writes JSON Lines.
pub struct Json;

#[derive(Serialize)]
struct Stamped<'a, T> {
    time: jiff::Timestamp,
    #[serde(flatten)]
    event: &'a T,
}

/// Writes one value as a line. A closed pipe must not abort the update.
pub fn line<T: Serialize>(value: &T) {
    let stamped = Stamped { time: jiff::Timestamp::now(), event: value };
    let text = serde_json::to_string(&stamped)
        .unwrap_or_else(|error| format!("{{\"event\":\"error\",\"message\":\"{error}\"}}"));
    wrap::write_raw(&format!("{text}\n"));
}

impl Renderer for Json {
    fn event(&mut self, event: Event) {
        line(&event);
    }
}
