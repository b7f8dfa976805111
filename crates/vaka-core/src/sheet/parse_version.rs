//! Versions that images and headers store.

use super::parse::{Checked, Checker};
use super::raw::{Number, RawVersion, Spanned};
use vaka_base::text;
use vaka_image::version_field::{VersionField, VersionForm, VersionPlace};

impl Checker<'_> {
    /// A version field; `inside` checks an offset and a length.
    pub(super) fn version_field(
        &self,
        raw: &Spanned<RawVersion>,
        inside: &dyn Fn(&Spanned<Number>, u64) -> Checked<u64>,
    ) -> Checked<VersionField> {
        let RawVersion { offset, after, form, count, reversed, length } = raw.get_ref();
        let wrong = |message: &str| Err(self.error(&raw.span(), "version", message.to_owned()));
        let has_numbers = matches!(form, VersionForm::Bytes | VersionForm::WordsLe | VersionForm::WordsBe);
        if (count.is_some() || *reversed) && !has_numbers {
            return wrong("`count` and `reversed` apply only to \"bytes\", \"words-le\" and \"words-be\"");
        }
        if length.is_some() && *form != VersionForm::Text {
            return wrong("`length` applies only to \"text\"");
        }
        if !count.is_none_or(|count| (1..=4).contains(&count)) || !length.is_none_or(|len| (1..=64).contains(&len)) {
            return wrong("`count` must be 1 to 4, and `length` 1 to 64");
        }
        let count = count.unwrap_or(3);
        let place = match (offset, after) {
            (Some(_), None) => VersionPlace::Offset(0),
            (None, Some(after)) => match marker(after) {
                Some(marker) => VersionPlace::After(marker),
                None => return wrong("`after` must be a text, or pairs of hex digits after 0x"),
            },
            _ => return wrong("either `offset` or `after` is required"),
        };
        let mut field = VersionField { place, form: *form, count, reversed: *reversed, length: *length };
        if let Some(offset) = offset {
            // The end of a text without a length is not known.
            let least = if *form == VersionForm::Text { length.unwrap_or(1) } else { field.width() };
            field.place = VersionPlace::Offset(inside(offset, least as u64)?);
        }
        Ok(field)
    }
}

fn marker(text: &str) -> Option<Vec<u8>> {
    let bytes = match text.strip_prefix("0x") {
        Some(digits) => text::parse_hex(digits.as_bytes())?,
        None => text.as_bytes().to_vec(),
    };
    (!bytes.is_empty()).then_some(bytes)
}
