//! Keywords that select a mode of operation.

use serde::Deserialize;

/// The granularity of an erase.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EraseBy {
    /// One sector.
    Page,
    /// Sectors that lie together.
    Range,
    /// Everything that the route writes.
    All,
}

/// The range that a unit erases by itself when it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Erases {
    /// All sectors from the first to the last byte of the image, at once.
    Covered,
    /// A sector when the first chunk of a session falls into it.
    FirstWrite,
    /// Everything that the route writes.
    Everything,
}

/// The order in which chunks are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// Ascending addresses.
    #[default]
    Ascending,
    /// Descending addresses.
    Descending,
    /// Ascending, but the lowest chunk last: an interrupted update leaves no application that
    /// would start.
    FirstLast,
}

/// The scope of a checksum that the unit computes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChecksumScope {
    /// Each contiguous range that was written.
    #[default]
    Written,
    /// Each chunk.
    Chunk,
    /// The whole region of the image; the rest of it is erased.
    Region,
}
