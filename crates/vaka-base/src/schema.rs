//! JSON Schema of types that are written as text.

/// Implements `schemars::JsonSchema` for a type that serde writes as text: the type, its
/// name in schemas, and the pattern of the text.
#[macro_export]
macro_rules! text_schema {
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

text_schema!(crate::version::ReleaseNumber, "ReleaseNumber", "^[0-9a-f]+\\.[0-9a-f]\\.[0-9a-f]$");
text_schema!(crate::version::Version, "Version", "^.+$");
