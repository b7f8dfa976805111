//! The memory layout text of a DFU interface.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_core::memory::layout::Layout;

fuzz_target!(|bytes: &[u8]| {
    if let Some(layout) = std::str::from_utf8(bytes).ok().and_then(Layout::parse) {
        assert!(layout.map.zones().iter().all(|zone| zone.span().end().get() <= 1 << 32));
    }
});
