//! The keys of routes and their entry, as serde reads them.

use std::collections::BTreeMap;

use serde::Deserialize;

use super::raw_value::{Number, Spanned};
use crate::sheet::ids::Ids;
use crate::sheet::manual_step::{BusEvent, UndoPhase};
use crate::sheet::route::{ExitMethod, WriteOrder};

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawRoute {
    pub(super) kind: Spanned<RawRouteKind>,
    /// Required, except over a CAN bus.
    pub(super) id: Option<Spanned<Ids>>,
    pub(super) product: Option<Spanned<String>>,
    pub(super) maker: Option<Spanned<String>>,
    pub(super) serial: Option<Spanned<String>>,
    pub(super) release: Option<Spanned<String>>,
    /// The stage that it belongs to; without this it is for ordinary updates.
    pub(super) stage: Option<Spanned<String>>,
    pub(super) documented: Option<Spanned<String>>,
    pub(super) variants: Option<Vec<Spanned<String>>>,
    pub(super) memory: Option<Spanned<String>>,
    pub(super) interface: Option<u8>,
    pub(super) alternate: Option<u8>,
    pub(super) upload: Option<Spanned<RawUpload>>,
    /// Regions that it writes; required unless it takes a file as it is.
    pub(super) writes: Option<Spanned<Vec<Spanned<String>>>>,
    pub(super) restart_at: Option<Spanned<Number>>,
    pub(super) takes: Option<Spanned<RawTakes>>,
    pub(super) family: Option<Spanned<Number>>,
    pub(super) board_id: Option<Spanned<String>>,
    pub(super) label: Option<Spanned<OneOrMore>>,
    pub(super) application_file: Option<Spanned<String>>,
    pub(super) file: Option<Spanned<String>>,
    pub(super) order: Option<Spanned<WriteOrder>>,
    pub(super) remove_first: Option<Spanned<bool>>,
    pub(super) eject_after: Option<Spanned<bool>>,
    pub(super) result: Option<Spanned<RawResult>>,
    pub(super) leave: Option<Spanned<ExitMethod>>,
    pub(super) dialect: Option<Spanned<String>>,
    /// The `name` of a [[programmer]].
    pub(super) programmer: Option<Spanned<String>>,
    /// Values of the dialect's parameters.
    pub(super) with: Option<Spanned<BTreeMap<String, RawTold>>>,
    /// Files with the values that the dialect asks for, in the folder of the sheet.
    pub(super) secrets: Option<Spanned<BTreeMap<String, Spanned<String>>>>,
    pub(super) tells: Option<Spanned<BTreeMap<String, RawTold>>>,
    /// The reported property that selects one of the regions in `writes`.
    pub(super) slot: Option<Spanned<String>>,
    pub(super) listens: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) entry: Vec<Spanned<RawEntryStep>>,
    #[serde(default)]
    pub(super) recovery: Vec<Spanned<RawEntryStep>>,
}

/// A board that programs the chips of units through their pins.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawProgrammer {
    /// Short name, for routes and `--unit programmer=NAME`.
    pub(super) name: Spanned<String>,
    pub(super) about: Spanned<String>,
    pub(super) id: Spanned<Ids>,
    pub(super) dialect: Spanned<String>,
    /// Values of the dialect's parameters.
    pub(super) with: Option<Spanned<BTreeMap<String, RawTold>>>,
    /// Files with the values that the dialect asks for, in the folder of the sheet.
    pub(super) secrets: Option<Spanned<BTreeMap<String, Spanned<String>>>>,
    /// The manual steps that wire it to a unit.
    #[serde(default)]
    pub(super) wiring: Vec<Spanned<RawEntryStep>>,
}

/// A property that a unit reports: a number or a text.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(super) enum RawTold {
    Number(i64),
    Text(String),
}

/// The content that an upload from a plain DFU unit returns.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawUpload {
    Image,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawRouteKind {
    Dfu,
    PlainDfu,
    Volume,
    Dialect,
    Programmer,
}

/// The medium that a disk supports.
#[derive(Clone, Copy, Deserialize, PartialEq, Eq)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawTakes {
    Uf2,
    Hex,
    Binary,
    File,
}

/// One or several allowed labels of a disk.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(super) enum OneOrMore {
    One(String),
    More(Vec<String>),
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawResult {
    pub(super) file: Spanned<String>,
    pub(super) success: Spanned<String>,
    pub(super) failure: Spanned<String>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawSignal {
    DfuDetach,
    Eject,
    Dialect,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawEntryStep {
    pub(super) signal: Option<RawSignal>,
    pub(super) dialect: Option<Spanned<String>>,
    /// Values of the dialect's parameters.
    pub(super) with: Option<Spanned<BTreeMap<String, RawTold>>>,
    /// Files with the values that the dialect asks for, in the folder of the sheet.
    pub(super) secrets: Option<Spanned<BTreeMap<String, Spanned<String>>>>,
    pub(super) id: Option<Spanned<String>>,
    #[serde(rename = "do")]
    pub(super) action: Option<Spanned<String>>,
    pub(super) why: Option<Spanned<String>>,
    pub(super) see: Option<Spanned<String>>,
    pub(super) only_if: Option<Spanned<String>>,
    pub(super) advised: Option<bool>,
    pub(super) held: Option<Spanned<bool>>,
    /// File name of a picture, for guides.
    pub(super) picture: Option<Spanned<String>>,
    pub(super) documented: Option<Spanned<String>>,
    pub(super) shows: Option<BusEvent>,
    pub(super) mistakes: Option<RawMistakes>,
    pub(super) undo: Option<Spanned<RawUndo>>,
}

/// Probable mistakes, by what the bus shows instead of the expected event.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawMistakes {
    pub(super) application: Option<Spanned<String>>,
    pub(super) nothing: Option<Spanned<String>>,
    pub(super) other: Option<Spanned<String>>,
}

/// The undo of a manual step.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawUndo {
    #[serde(rename = "do")]
    pub(super) action: Spanned<String>,
    #[serde(default)]
    pub(super) when: UndoPhase,
    #[serde(default)]
    pub(super) after: Vec<Spanned<String>>,
    pub(super) shows: Option<BusEvent>,
}
