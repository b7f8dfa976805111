//! Compressed bytes, as the language offers them.

use miniz_oxide::deflate::{compress_to_vec, compress_to_vec_zlib};
use miniz_oxide::inflate::decompress_to_vec_with_limit;

/// The effort of a compression, 0 to 10. Chosen by us: the usual best of programs for zip.
const LEVEL: u8 = 9;

/// Longest run, as its length is one byte.
const LONGEST_RUN: usize = 255;

/// Deflated bytes without a frame. Source: RFC 1951.
pub(crate) fn deflate(bytes: &[u8]) -> Vec<u8> {
    compress_to_vec(bytes, LEVEL)
}

/// Deflated bytes with a header and a check. Source: RFC 1950.
pub(crate) fn zlib(bytes: &[u8]) -> Vec<u8> {
    compress_to_vec_zlib(bytes, LEVEL)
}

/// The content of deflated bytes; `None` if they are damaged or have more than `most` bytes.
pub(crate) fn inflate(bytes: &[u8], most: usize) -> Option<Vec<u8>> {
    decompress_to_vec_with_limit(bytes, most).ok()
}

/// The runs of equal bytes: for each run its length, 1 to 255, and the byte.
pub(crate) fn runs(bytes: &[u8]) -> Vec<u8> {
    let equal = bytes.chunk_by(|a, b| a == b).flat_map(|run| run.chunks(LONGEST_RUN));
    equal.flat_map(|run| [u8::try_from(run.len()).unwrap_or(u8::MAX), run[0]]).collect()
}
