//! JSON Schemas of the JSON output and of the product sheet.

/// The JSON Schema of a line of `--format json`, for the events of the work on units.
pub const EVENTS: &str = include_str!("events.schema.json");

/// The JSON Schema of a product sheet, for editors. A schema cannot express every rule (that
/// regions do not overlap, for example); [`Sheet::parse`](crate::sheet::Sheet::parse) checks all.
pub const PRODUCT_SHEET: &str = include_str!("product-sheet.schema.json");

#[cfg(feature = "schema")]
vaka_base::text_schema!(crate::unit::DeviceId, "DeviceId", "^([0-9a-f]{4}:[0-9a-f]{4}|can:.+)$");

/// The schemas as the types define them; a test compares them with the committed files.
#[cfg(feature = "schema")]
pub mod generate {
    use crate::event::Event;

    /// One line of an event stream: an event and its time.
    #[derive(schemars::JsonSchema)]
    #[allow(dead_code)] // only its schema is wanted
    struct Line {
        /// RFC 3339.
        time: String,
        #[serde(flatten)]
        event: Event,
    }

    /// See [`EVENTS`](super::EVENTS).
    pub fn events() -> String {
        let settings = schemars::generate::SchemaSettings::default().for_serialize();
        let schema = settings.into_generator().into_root_schema_for::<Line>();
        serde_json::to_string_pretty(&schema).unwrap_or_default() + "\n"
    }

    /// See [`PRODUCT_SHEET`](super::PRODUCT_SHEET).
    pub fn product_sheet() -> String {
        crate::sheet::product_sheet()
    }
}
