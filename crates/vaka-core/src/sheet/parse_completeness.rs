//! Reads how an image proves that it is whole.

use super::SheetError;
use super::parse::{Checked, Checker};
use super::raw::{RawImageChecksum, RawImageChecksumKind, RawImageChecksumWord, RawLength};
use super::raw_value::{Number, Spanned};
use vaka_base::checksum::{CRC32, CrcParameters, CrcSum};
use vaka_image::completeness::{
    ChecksumField, ChecksumMethod, ChecksumPlace, CrcMethod, IntForm, LengthField, OwnBytes,
};

/// Checks that a field of this many bytes at an offset is inside the region.
type Inside<'i> = dyn Fn(&str, &Spanned<Number>, u64) -> Result<u64, SheetError> + 'i;

impl Checker<'_> {
    pub(super) fn length_field(&self, raw: &RawLength, inside: &Inside<'_>) -> Checked<LengthField> {
        let number =
            |key: &str, of: Option<&Spanned<Number>>, default: u64| of.map_or(Ok(default), |of| self.size(key, of));
        let unit = number("unit", raw.unit.as_ref(), 1)?;
        if let Some(given) = raw.unit.as_ref().filter(|_| unit == 0) {
            return Err(self.error(&given.span(), "unit", "must be at least one byte".into()));
        }
        Ok(LengthField {
            offset: inside("length", &raw.offset, raw.form.width())?,
            form: raw.form,
            unit,
            plus: number("plus", raw.plus.as_ref(), 0)?,
        })
    }

    pub(super) fn checksum_field(
        &self,
        given: &Spanned<RawImageChecksum>,
        inside: &Inside<'_>,
    ) -> Checked<ChecksumField> {
        let raw = given.get_ref();
        let wrong = |message: &str| self.error(&given.span(), "checksum", message.into());
        let is_digest = matches!(raw.kind, RawImageChecksumKind::Word(RawImageChecksumWord::Sha256));
        let width = match (is_digest, raw.form, &raw.bytes) {
            (true, None, bytes) => bytes.as_ref().map_or(Ok(32), |bytes| self.size("bytes", bytes))?,
            (false, Some(form), None) => form.width(),
            (true, Some(_), _) => {
                return Err(wrong("`form` does not apply to a digest; use `bytes` for its length"));
            }
            (false, None, _) => return Err(wrong("`form` is required, such as \"u32le\"")),
            (false, Some(_), Some(_)) => {
                return Err(wrong("`bytes` applies to sha256 only; `form` determines the length"));
            }
        };
        if !(1..=32).contains(&width) {
            return Err(wrong("a digest must have 1 to 32 bytes"));
        }
        let method = match &raw.kind {
            RawImageChecksumKind::Word(RawImageChecksumWord::Sha256) => ChecksumMethod::Sha256,
            RawImageChecksumKind::Word(RawImageChecksumWord::Sum) => ChecksumMethod::Sum,
            RawImageChecksumKind::Word(RawImageChecksumWord::Crc32) => {
                crc(CRC32).ok_or_else(|| wrong("too many CRCs"))?
            }
            RawImageChecksumKind::Crc(of) => crc(CrcParameters {
                width: of.width,
                polynomial: of.poly,
                start: of.init,
                reflect_in: of.reflect,
                reflect_out: of.reflect_out.unwrap_or(of.reflect),
                xor_out: of.xor_out,
            })
            .ok_or_else(|| wrong("a CRC must have 3 to 64 bits, and its values must fit into them"))?,
        };
        let place = match &raw.offset {
            Some(offset) => ChecksumPlace::Offset(inside("checksum", offset, width)?),
            None => ChecksumPlace::End,
        };
        let from = match &raw.from {
            Some(from) => inside("from", from, 0)?,
            None => 0,
        };
        let to = raw.to.as_ref().map(|to| inside("to", to, 0)).transpose()?;
        if to.is_some_and(|to| to <= from) {
            return Err(wrong("it covers no bytes: `to` must be greater than `from`"));
        }
        let little_endian = matches!(raw.form, Some(IntForm::U16le | IntForm::U24le | IntForm::U32le));
        let own = raw.own.unwrap_or(OwnBytes::LeftOut);
        Ok(ChecksumField { place, method, width, little_endian, from, to, own })
    }
}

fn crc(parameters: CrcParameters) -> Option<ChecksumMethod> {
    CrcSum::new(parameters).map(|crc| ChecksumMethod::Crc(CrcMethod(crc)))
}
