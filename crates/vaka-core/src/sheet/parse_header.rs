//! Headers in front of images, and the versions that images and headers store.

use super::parse::{Checked, Checker, hex_bytes};
use super::raw::{RawHeaderInt, RawImage, RawVersion, RawWrapper};
use super::raw_value::{Number, Spanned};
use vaka_base::text;
use vaka_image::completeness::IntForm;
use vaka_image::version_field::{VersionField, VersionForm, VersionPlace};
use vaka_image::wrapper::Wrapper;

impl Checker<'_> {
    /// A maker's header.
    pub(super) fn wrapper(&self, raw: &RawWrapper) -> Checked<Wrapper> {
        let magic = hex_bytes(raw.magic.get_ref()).ok_or_else(|| {
            let message = "write bytes as hex pairs, like \"53 4B 57 31\"".into();
            self.error(&raw.magic.span(), "magic", message)
        })?;
        let header = self.size("header", &raw.header)?;
        let header =
            usize::try_from(header).ok().filter(|len| (magic.len()..=65536).contains(len)).ok_or_else(|| {
                let message = "must be at least as long as the magic, and at most 64 KiB".into();
                self.error(&raw.header.span(), "header", message)
            })?;
        let inside = |offset: &Spanned<Number>, len: usize| {
            let at = usize::try_from(self.size("offset", offset)?).unwrap_or(usize::MAX);
            match at.checked_add(len) {
                Some(end) if at >= magic.len() && end <= header => Ok(at),
                _ => Err(self.error(&offset.span(), "offset", "is outside the header, or inside its magic".into())),
            }
        };
        let in_header = |offset: &Spanned<Number>, len: u64| {
            inside(offset, usize::try_from(len).unwrap_or(usize::MAX)).map(|at| at as u64)
        };
        let number = |offset: &Spanned<Number>, form: Option<IntForm>| {
            let form = form.unwrap_or(IntForm::U32le);
            Ok((inside(offset, usize::try_from(form.width()).unwrap_or(8))?, form))
        };
        let place = |raw: &Option<RawHeaderInt>| raw.as_ref().map(|at| number(&at.offset, at.form)).transpose();
        let checksum = raw.checksum.as_ref().map(|raw| {
            let (at, form) = number(&raw.offset, raw.form)?;
            Ok((at, form, raw.kind))
        });
        Ok(Wrapper {
            name: self.words("name", &raw.name)?,
            length: place(&raw.length)?,
            start: place(&raw.start)?,
            version: raw.version.as_ref().map(|version| self.version_field(version, &in_header)).transpose()?,
            checksum: checksum.transpose()?,
            is_opaque: raw.opaque,
            header,
            magic,
        })
    }

    /// Keys that look into an image do not apply to an opaque one; header marks apply to no other.
    pub(super) fn opaque_keys(&self, raw: &RawImage) -> Checked<()> {
        let wrong = |key: &str, message: &str| Err(self.error(&raw.region.span(), key, message.to_owned()));
        match raw.opaque {
            true if raw.vectors.is_some() || raw.length.is_some() || raw.checksum.is_some() || raw.stamp.is_some() => {
                wrong("opaque", "an opaque image has no `vectors`, `length`, `checksum` or `stamp` that can be read")
            }
            false if !raw.header_marks.is_empty() => wrong("header_marks", "applies only with `opaque = true`"),
            _ => Ok(()),
        }
    }

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
