//! The sheet's file, key by key, as serde fills it. Each value remembers where it
//! stood, for messages. [`parse`](super::parse) makes the model of it.

use std::collections::BTreeMap;

use serde::Deserialize;
use toml::Spanned;

use crate::carry::FieldKind;
use crate::image::vectors::VectorKind;
use crate::image::wrapper::ChecksumKind;
use crate::unit::UsbId;

use super::{Leave, WriteOrder};

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSheet {
    pub(super) sheet: Spanned<u32>,
    pub(super) product: RawProduct,
    pub(super) application: RawApplication,
    #[serde(default)]
    pub(super) part: Vec<RawPart>,
    #[serde(default)]
    pub(super) variant: Vec<RawVariant>,
    #[serde(default)]
    pub(super) route: Vec<RawRoute>,
    #[serde(default)]
    pub(super) wrapper: Vec<RawWrapper>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawProduct {
    pub(super) id: Spanned<String>,
    pub(super) name: Spanned<String>,
    pub(super) maker: Spanned<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawApplication {
    pub(super) id: UsbId,
    pub(super) product: Option<Spanned<String>>,
    pub(super) version: Option<Spanned<RawVersionSource>>,
    pub(super) back_within: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawPart {
    pub(super) id: Spanned<String>,
    pub(super) name: Spanned<String>,
    pub(super) version: Option<Spanned<RawVersionSource>>,
}

/// `"release-number"`, or a text file on the unit's disk.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum RawVersionSource {
    Word(RawVersionWord),
    Text(RawVersionText),
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawVersionWord {
    ReleaseNumber,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawVersionText {
    pub(super) file: String,
    pub(super) after: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawVariant {
    pub(super) id: Spanned<String>,
    pub(super) name: Spanned<String>,
    pub(super) part: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) look_at: Vec<RawLookAt>,
    pub(super) flash: Vec<Spanned<RawZone>>,
    pub(super) ram: Option<Spanned<RawSpan>>,
    #[serde(default)]
    pub(super) region: Vec<RawRegion>,
    pub(super) image: RawImage,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawLookAt {
    pub(super) place: Spanned<String>,
    pub(super) reads: Spanned<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawZone {
    pub(super) start: Spanned<Number>,
    pub(super) sectors: Spanned<u32>,
    pub(super) size: Spanned<Number>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawSpan {
    pub(super) start: Spanned<Number>,
    pub(super) size: Spanned<Number>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawRegion {
    pub(super) name: Spanned<String>,
    pub(super) start: Spanned<Number>,
    pub(super) size: Spanned<Number>,
    pub(super) carried: Option<RawCarried>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawCarried {
    #[serde(default)]
    pub(super) fields: Vec<RawField>,
    pub(super) checksum: Option<RawRegionChecksum>,
    pub(super) memory: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawField {
    pub(super) name: Spanned<String>,
    pub(super) offset: Spanned<Number>,
    pub(super) length: Spanned<Number>,
    pub(super) kind: FieldKind,
    pub(super) meaning: Spanned<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawRegionChecksum {
    pub(super) offset: Spanned<Number>,
    pub(super) kind: ChecksumKind,
    pub(super) over: Spanned<Number>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawImage {
    pub(super) region: Spanned<String>,
    pub(super) binary_at: Option<Spanned<Number>>,
    pub(super) vectors: Option<VectorKind>,
    #[serde(default)]
    pub(super) marks: Vec<RawMark>,
    pub(super) version: Option<RawPlace>,
    pub(super) stamp: Option<RawPlace>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawMark {
    pub(super) offset: Spanned<Number>,
    pub(super) text: Option<Spanned<String>>,
    pub(super) bytes: Option<Spanned<String>>,
    pub(super) meaning: Spanned<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawPlace {
    pub(super) offset: Spanned<Number>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawWrapper {
    pub(super) name: Spanned<String>,
    pub(super) magic: Spanned<String>,
    pub(super) header: Spanned<Number>,
    pub(super) length: Option<RawPlace>,
    pub(super) start: Option<RawPlace>,
    pub(super) version: Option<RawPlace>,
    pub(super) checksum: Option<RawChecksum>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawChecksum {
    pub(super) offset: Spanned<Number>,
    pub(super) kind: ChecksumKind,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawRoute {
    pub(super) kind: Spanned<RawRouteKind>,
    pub(super) id: UsbId,
    pub(super) variants: Option<Vec<Spanned<String>>>,
    pub(super) memory: Option<Spanned<String>>,
    pub(super) interface: Option<u8>,
    pub(super) alternate: Option<u8>,
    pub(super) upload: Option<Spanned<RawUpload>>,
    pub(super) writes: Spanned<Vec<Spanned<String>>>,
    pub(super) restart_at: Option<Spanned<Number>>,
    pub(super) takes: Option<Spanned<RawTakes>>,
    pub(super) family: Option<Spanned<Number>>,
    pub(super) board_id: Option<Spanned<String>>,
    pub(super) label: Option<Spanned<OneOrMore>>,
    pub(super) present: Option<Spanned<String>>,
    pub(super) file: Option<Spanned<String>>,
    pub(super) order: Option<Spanned<WriteOrder>>,
    pub(super) remove_first: Option<Spanned<bool>>,
    pub(super) eject_after: Option<Spanned<bool>>,
    pub(super) result: Option<Spanned<RawResult>>,
    pub(super) leave: Option<Spanned<Leave>>,
    pub(super) dialect: Option<Spanned<String>>,
    pub(super) tells: Option<Spanned<BTreeMap<String, RawTold>>>,
    pub(super) listens: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) entry: Vec<Spanned<RawEntryStep>>,
    #[serde(default)]
    pub(super) recovery: Vec<Spanned<RawEntryStep>>,
}

/// What a unit tells of itself: a number or a text.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum RawTold {
    Number(i64),
    Text(String),
}

/// What an upload from a plain DFU unit gives.
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawUpload {
    Image,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawRouteKind {
    Dfu,
    PlainDfu,
    Volume,
    Dialect,
}

/// What a disk takes.
#[derive(Clone, Copy, Deserialize, PartialEq, Eq)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawTakes {
    Uf2,
    Hex,
    Binary,
}

/// A disk's label, or several that it may have.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum OneOrMore {
    One(String),
    More(Vec<String>),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawResult {
    pub(super) file: Spanned<String>,
    pub(super) success: Spanned<String>,
    pub(super) failure: Spanned<String>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawSignal {
    DfuDetach,
    Dialect,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct RawEntryStep {
    pub(super) signal: Option<RawSignal>,
    pub(super) dialect: Option<Spanned<String>>,
    #[serde(rename = "do")]
    pub(super) action: Option<Spanned<String>>,
    pub(super) why: Option<Spanned<String>>,
    pub(super) see: Option<Spanned<String>>,
}

/// An address or size: `0x0A00_0000`, `3072` or `"3 KiB"`.
#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum Number {
    Plain(i64),
    Text(String),
}
