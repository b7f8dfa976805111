//! JSON Schema of what leaves as JSON, and of types that are written as text there.

/// A type that is written as text: its name in schemas, and the form of the text.
macro_rules! as_text {
    ($type:ty, $name:literal, $pattern:literal) => {
        impl schemars::JsonSchema for $type {
            fn schema_name() -> std::borrow::Cow<'static, str> {
                $name.into()
            }

            fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
                schemars::json_schema!({ "type": "string", "pattern": $pattern })
            }
        }
    };
}
use crate::event::Event;

as_text!(crate::address::Address, "Address", "^0x[0-9A-F_]+$");
as_text!(crate::unit::UsbId, "UsbId", "^[0-9a-f]{4}:[0-9a-f]{4}$");
as_text!(crate::unit::ReleaseNumber, "ReleaseNumber", "^[0-9a-f]+\\.[0-9a-f]\\.[0-9a-f]$");
as_text!(crate::version::Version, "Version", "^.+$");

/// One line of an event stream: an event, and when it was.
#[derive(schemars::JsonSchema)]
#[allow(dead_code)] // only its schema is wanted
struct Line {
    /// RFC 3339.
    time: String,
    #[serde(flatten)]
    event: Event,
}

/// The JSON Schema of a line of `--format json`, for the events of the work on units.
pub fn of_events() -> String {
    let settings = schemars::generate::SchemaSettings::default().for_serialize();
    let schema = settings.into_generator().into_root_schema_for::<Line>();
    serde_json::to_string_pretty(&schema).unwrap_or_default() + "\n"
}
