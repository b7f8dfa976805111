//! Detection of placeholder values that were copied from an example without replacing them.

/// Placeholder words in guides. Chosen by us from common usage.
const WORDS: [&str; 14] = [
    "fill in",
    "fill me in",
    "fixme",
    "todo",
    "tbd",
    "change me",
    "changeme",
    "change-me",
    "replace me",
    "replace-me",
    "placeholder",
    "your value",
    "your value here",
    "example",
];

/// USB ids that guides use as placeholders.
const IDS: [&str; 12] = [
    "1234:5678",
    "1234:abcd",
    "abcd:1234",
    "0123:4567",
    "dead:beef",
    "cafe:babe",
    "ffff:ffff",
    "0000:0000",
    "0:0",
    "vid:pid",
    "vvvv:pppp",
    "xxxx:yyyy",
];

/// Addresses and numbers that are written to be seen, not to be used.
const ADDRESSES: [u64; 7] = [0xDEAD_BEEF, 0xCAFE_BABE, 0xBAAD_F00D, 0xFEED_FACE, 0x1234_5678, 0x8765_4321, 0xFFFF_FFFF];

fn refusal(text: &str) -> String {
    format!("'{text}' is a placeholder from an example; replace it with the real value")
}

/// Explains why a text is a placeholder: `FILL IN`, `<serial>`, `XXXX`. Returns `None` otherwise.
pub fn of_text(text: &str) -> Option<String> {
    let plain = text.trim().to_lowercase();
    let is_word = WORDS.contains(&plain.as_str()) || WORDS[..2].iter().any(|word| plain.starts_with(word));
    let is_bracketed = plain.len() > 2 && plain.starts_with('<') && plain.ends_with('>');
    let is_crossed = plain.len() > 2 && plain.chars().all(|c| c == 'x' || c == '?' || c == '-');
    let is_crossed = is_crossed && plain.contains(['x', '?']);
    (is_word || is_bracketed || is_crossed).then(|| refusal(text))
}

/// Explains why a USB id is a placeholder.
///
/// # Examples
/// ```
/// use vaka_core::placeholder::of_id;
///
/// assert!(of_id("VID:PID").is_some(), "an example that was not replaced");
/// assert!(of_id("1209:0002").is_none());
/// ```
pub fn of_id(text: &str) -> Option<String> {
    let plain = text.trim().to_lowercase();
    IDS.contains(&plain.as_str()).then(|| refusal(text)).or_else(|| of_text(text))
}

/// Explains why an address is a placeholder.
pub fn of_address(address: u64) -> Option<String> {
    ADDRESSES.contains(&address).then(|| refusal(&format!("0x{address:08X}")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_examples_leave_open_is_known_and_what_products_have_is_not() {
        for text in ["FILL IN", "fill in the maker", "<serial>", "XXXX", "xx-xx", "TODO", "Example", "???"] {
            assert!(of_text(text).is_some(), "{text}");
        }
        for text in ["Tern tide gauge", "X1", "T1-00217", "-", "Todor's buoy", "<3", "An example of care", "x"] {
            assert!(of_text(text).is_none(), "{text}");
        }
        assert!(of_id("1234:5678").is_some() && of_id("VID:PID").is_some() && of_id("1209:0001").is_none());
        assert!(of_address(0xDEAD_BEEF).is_some() && of_address(0x0A00_2400).is_none());
    }
}
