//! Values of a sheet file with their positions.

use std::ops::Range;

use serde::Deserialize;

/// A value with its position in the file.
#[derive(Deserialize)]
#[serde(transparent)]
pub(super) struct Spanned<T>(toml::Spanned<T>);

impl<T> Spanned<T> {
    pub(super) fn new(place: Range<usize>, value: T) -> Self {
        Self(toml::Spanned::new(place, value))
    }

    pub(super) fn get_ref(&self) -> &T {
        self.0.get_ref()
    }

    pub(super) fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

/// An address or size: `0x0A00_0000`, `3072` or `"3 KiB"`.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(super) enum Number {
    Plain(i64),
    Text(String),
}
