//! Words of the language that choose among ways of working.

use serde::Deserialize;

/// What an erase takes at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EraseBy {
    /// One sector.
    Page,
    /// Sectors that lie together.
    Range,
    /// All that the route writes.
    All,
}

/// What a unit erases by itself when it is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Erases {
    /// The sectors that the image covers.
    Covered,
    /// All that the route writes.
    Everything,
}

/// In which order chunks are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Order {
    /// From the lowest address on.
    #[default]
    Ascending,
    /// From the highest address down.
    Descending,
    /// As ascending, but the lowest chunk last: an update that breaks off leaves no
    /// application that would start.
    FirstLast,
}

/// Of what the unit computes a checksum.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChecksumScope {
    /// Of each stretch that was written.
    #[default]
    Written,
    /// Of each chunk.
    Chunk,
    /// Of all of the region that the image is for; what the image does not fill is
    /// erased.
    Region,
}
