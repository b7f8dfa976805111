//! The steps into update mode.

use std::fmt;
use std::sync::Arc;

use serde::Serialize;

use crate::sheet::manual_step::ManualStep;
use vaka_dialect::Dialect;

/// One step of the entry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub enum EntryStep {
    /// A manual step.
    Manual(Box<ManualStep>),
    /// The host does it.
    Signal(Signal),
}

impl EntryStep {
    /// The dialect of a signal, if it is one in a dialect.
    pub fn dialect(&self) -> Option<&Dialect> {
        match self {
            Self::Signal(Signal::Dialect { dialect }) => Some(dialect),
            Self::Signal(_) | Self::Manual(_) => None,
        }
    }
}

/// A signal with which the host brings a unit into update mode.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(tag = "signal", rename_all = "kebab-case")]
pub enum Signal {
    /// DFU_DETACH to the application's run-time interface, and a bus reset if the unit waits for
    /// one.
    DfuDetach,
    /// The disk that the application shows is ejected.
    Eject,
    /// The `enter` operation of a dialect.
    Dialect {
        /// The dialect.
        #[serde(serialize_with = "by_name")]
        #[cfg_attr(feature = "schema", schemars(with = "String"))]
        dialect: Arc<Dialect>,
    },
}

fn by_name<S: serde::Serializer>(dialect: &Arc<Dialect>, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(&dialect.name)
}

impl fmt::Display for Signal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::DfuDetach => f.write_str("request a detach from the application (DFU_DETACH)"),
            Self::Eject => f.write_str("eject the disk that the application shows"),
            Self::Dialect { dialect } => write!(f, "request update mode in dialect {}", dialect.name),
        }
    }
}
