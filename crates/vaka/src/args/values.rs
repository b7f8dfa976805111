//! Parsers for option values: numbers, addresses, ranges, assignments.

use vaka_core::placeholder;
use vaka_image::address::{Address, Span};
use vaka_image::facts::Suffix;

/// A 32-bit number, in hex with 0x or decimal.
pub(super) fn number(text: &str) -> Result<u32, String> {
    text.parse::<Address>().ok().and_then(Address::to_u32).ok_or_else(|| format!("'{text}' is not a 32-bit number"))
}

pub(super) fn byte(text: &str) -> Result<u8, String> {
    number(text)?.try_into().map_err(|_| format!("'{text}' is not a byte"))
}

pub(super) fn range(text: &str) -> Result<Span, String> {
    let (from, to) =
        text.split_once("..").ok_or_else(|| format!("'{text}' is not a range; write it like 0x1000..0x2000"))?;
    let span = Span::between(from.parse::<Address>()?, to.parse::<Address>()?).filter(|span| !span.is_empty());
    span.ok_or_else(|| format!("'{text}' is empty"))
}

pub(super) fn suffix(text: &str) -> Result<Suffix, String> {
    let halves: Option<Vec<u16>> = text.split(':').map(|half| u16::from_str_radix(half, 16).ok()).collect();
    match halves.as_deref() {
        Some([vendor, product]) => Ok(Suffix { release: 0xFFFF, product: *product, vendor: *vendor, version: 0x0100 }),
        Some([vendor, product, release]) => {
            Ok(Suffix { release: *release, product: *product, vendor: *vendor, version: 0x0100 })
        }
        _ => Err(format!("'{text}' is not VID:PID or VID:PID:RELEASE")),
    }
}

/// Parses an address, and rejects the placeholder addresses of guides.
pub(super) fn address(text: &str) -> Result<Address, String> {
    let address = text.parse::<Address>()?;
    placeholder::of_address(address.get()).map_or(Ok(address), Err)
}

pub(super) fn assignment(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or_else(|| format!("'{text}' is not NAME=VALUE"))?;
    placeholder::of_text(value).map_or_else(|| Ok((name.to_owned(), value.to_owned())), Err)
}

pub(super) fn fact(text: &str) -> Result<(String, String), String> {
    let (name, value) = assignment(text)?;
    match name.as_str() {
        "product" | "part" | "variant" | "version" | "build" | "built" | "" => {
            Err(format!("'{name}' cannot be a fact, because it has an option of its own"))
        }
        _ => Ok((name, value)),
    }
}
