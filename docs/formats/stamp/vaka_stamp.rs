//! The Vaka stamp, layout 1, for firmware in Rust. See docs/formats/stamp.md.
//! No dependency; works without the standard library.

/// A stamp as it stands in flash. `N` is the length of the text, with a zero
/// byte behind each entry and one more at its end, and a multiple of 4.
#[repr(C, align(4))]
pub struct VakaStamp<const N: usize> {
    magic: [u8; 8],
    layout: u16,
    size: u16,
    start: u32,
    length: u32,
    digest: [u8; 32],
    text: [u8; N],
}

impl<const N: usize> VakaStamp<N> {
    /// A stamp for an image that starts at `start`.
    pub const fn new(start: u32, text: &[u8]) -> Self {
        assert!(N % 4 == 0 && N > text.len() && N <= 4044);
        let mut padded = [0; N];
        let mut index = 0;
        while index < text.len() {
            padded[index] = text[index];
            index += 1;
        }
        let size = 52 + N as u16;
        Self { magic: *b"VakaStmp", layout: 1, size, start, length: 0, digest: [0; 32], text: padded }
    }
}
