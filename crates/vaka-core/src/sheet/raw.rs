//! The sheet file, key by key, as serde reads it. Each value keeps its position for messages.
//! [`parse`](super::parse) builds the model.

use std::collections::BTreeMap;

use serde::Deserialize;

use crate::settings_transfer::FieldKind;
use vaka_image::completeness::{IntForm, OwnBytes};
use vaka_image::vectors::VectorKind;
use vaka_image::version_field::VersionForm;
use vaka_image::wrapper::ChecksumKind;

use super::raw_route::{RawProgrammer, RawRoute};
use super::raw_value::{Number, Spanned};
use crate::sheet::ids::Ids;
use crate::sheet::model::SerialPortUse;

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
    #[serde(default)]
    pub(super) stage: Vec<RawStage>,
    /// Boards that program its chips.
    #[serde(default)]
    pub(super) programmer: Vec<RawProgrammer>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawProduct {
    pub(super) id: Spanned<String>,
    pub(super) name: Spanned<String>,
    pub(super) maker: Spanned<String>,
    /// Other names that it is sold under.
    #[serde(default)]
    pub(super) also_sold_as: Vec<Spanned<String>>,
    /// Labels that do not determine the variant.
    #[serde(default)]
    pub(super) ambiguous_labels: Vec<RawAmbiguousLabel>,
    /// Other devices that the same unit shows.
    #[serde(default)]
    pub(super) companions: Vec<RawCompanion>,
    /// The serial number is the same in application and update mode.
    pub(super) stable_serial: Option<bool>,
    /// The way to its serial ports.
    #[serde(default)]
    pub(super) port: SerialPortUse,
    /// USB ids of adapters on whose CAN bus its units are nodes.
    #[serde(default)]
    pub(super) adapters: Vec<Ids>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawAmbiguousLabel {
    pub(super) place: Spanned<String>,
    pub(super) reads: Spanned<String>,
    pub(super) why: Spanned<String>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawCompanion {
    pub(super) id: Ids,
    pub(super) name: Spanned<String>,
}

/// A stage apart from ordinary updates.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawStage {
    pub(super) id: Spanned<String>,
    pub(super) name: Spanned<String>,
    /// Names of `[[variant.stage_image]]`, or `application` for the variant's own.
    pub(super) images: Spanned<Vec<Spanned<String>>>,
    pub(super) replaces_bootloader: Option<bool>,
    /// An application of this version or newer runs only on units that are past it.
    pub(super) implied_by: Option<Spanned<String>>,
    pub(super) shows: RawApplication,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawApplication {
    pub(super) id: Option<Spanned<Ids>>,
    pub(super) product: Option<Spanned<String>>,
    pub(super) maker: Option<Spanned<String>>,
    pub(super) serial: Option<Spanned<String>>,
    pub(super) release: Option<Spanned<String>>,
    pub(super) version: Option<Spanned<RawVersionSource>>,
    /// A dialect whose operation `confirm` the application answers.
    pub(super) confirm: Option<Spanned<String>>,
    pub(super) back_within: Option<Spanned<String>>,
    /// Visible signs that only the user can confirm.
    #[serde(default)]
    pub(super) see: Vec<Spanned<String>>,
}

/// The application of one variant.
#[derive(Default, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawShows {
    pub(super) id: Option<Spanned<Ids>>,
    pub(super) product: Option<Spanned<String>>,
    pub(super) maker: Option<Spanned<String>>,
    pub(super) serial: Option<Spanned<String>>,
    pub(super) release: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawPart {
    pub(super) id: Spanned<String>,
    pub(super) name: Spanned<String>,
    pub(super) version: Option<Spanned<RawVersionSource>>,
}

/// `"release-number"`, or a text file on the unit's disk.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(super) enum RawVersionSource {
    Word(RawVersionWord),
    Text(RawVersionText),
    String(RawVersionSign),
    Line(RawVersionLine),
    Told(RawVersionTold),
}

/// A value that the unit reports in a dialect.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawVersionTold {
    pub(super) told: String,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawVersionWord {
    ReleaseNumber,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawVersionText {
    pub(super) file: String,
    pub(super) after: String,
}

/// A string descriptor, with the text before the version.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawVersionSign {
    pub(super) string: RawString,
    pub(super) after: String,
}

#[derive(Clone, Copy, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawString {
    Product,
    Maker,
    Serial,
}

/// A line on the serial port.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawVersionLine {
    /// Text before the version in the line.
    pub(super) line: String,
    pub(super) send: Option<String>,
    pub(super) within: Option<String>,
    /// bInterfaceNumber of the port's data, if there are several ports.
    pub(super) interface: Option<u8>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawVariant {
    pub(super) id: Spanned<String>,
    pub(super) name: Spanned<String>,
    pub(super) part: Option<Spanned<String>>,
    #[serde(default)]
    pub(super) look_at: Vec<RawLookAt>,
    /// Any file that its disk takes, in place of `flash`, `region` and `image`.
    pub(super) any_file: Option<Spanned<RawAnyFile>>,
    #[serde(default)]
    pub(super) flash: Vec<Spanned<RawZone>>,
    /// The flash is what the unit reports, up to `flash`.
    pub(super) reported_flash: Option<RawReportedFlash>,
    pub(super) ram: Option<Spanned<RawSpan>>,
    #[serde(default)]
    pub(super) region: Vec<RawRegion>,
    /// The table in flash that gives regions their places.
    pub(super) table: Option<Spanned<RawTable>>,
    pub(super) image: Option<RawImage>,
    /// Rules for further images of an ordinary update.
    #[serde(default)]
    pub(super) further_image: Vec<RawImage>,
    /// Rules for the images of stages.
    #[serde(default)]
    pub(super) stage_image: Vec<RawImage>,
    #[serde(default)]
    pub(super) facts: BTreeMap<String, Spanned<RawFact>>,
    #[serde(default)]
    pub(super) application: RawShows,
    /// The instruction if no route updates the variant.
    pub(super) instead: Option<Spanned<String>>,
}

/// A flash whose size the unit reports.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawReportedFlash {
    /// Smallest size.
    pub(super) least: Spanned<Number>,
    /// The value of `identify` with the size in bytes, on routes in a dialect.
    pub(super) told: Option<Spanned<String>>,
}

/// A file that a unit's disk takes as it is.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawAnyFile {
    /// Largest size.
    pub(super) most: Spanned<Number>,
    /// Endings of file names that are accepted; that of the route's `file` without it.
    #[serde(default)]
    pub(super) endings: Vec<Spanned<String>>,
    /// Bytes that the file has.
    #[serde(default)]
    pub(super) marks: Vec<RawMark>,
}

/// The value of a fact.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(super) enum RawFact {
    Number(i64),
    Truth(bool),
    Text(String),
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawLookAt {
    pub(super) place: Spanned<String>,
    pub(super) reads: Spanned<String>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawZone {
    pub(super) start: Spanned<Number>,
    pub(super) sectors: Spanned<u32>,
    pub(super) size: Spanned<Number>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawSpan {
    pub(super) start: Spanned<Number>,
    pub(super) size: Spanned<Number>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawRegion {
    pub(super) name: Spanned<String>,
    pub(super) start: Spanned<Number>,
    pub(super) size: Spanned<Number>,
    pub(super) transferable: Option<RawTransferable>,
    /// Permitted operations; both by default.
    pub(super) allows: Option<Spanned<Vec<RawAllowed>>>,
}

/// A table of regions in flash.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawTable {
    /// The region that holds it.
    pub(super) region: Spanned<String>,
    /// Bytes before the first entry; 0 without it.
    pub(super) header: Option<Spanned<Number>>,
    /// Bytes of an entry.
    pub(super) entry: Spanned<Number>,
    /// First bytes of each entry, as hex pairs.
    pub(super) magic: Option<Spanned<String>>,
    pub(super) name: RawTextPlace,
    pub(super) address: RawHeaderInt,
    pub(super) size: RawHeaderInt,
    /// Added to each address; 0 without it.
    pub(super) base: Option<Spanned<Number>>,
    /// Bytes in one unit of address and size; 1 without it.
    pub(super) unit: Option<Spanned<Number>>,
}

/// A text of a fixed length.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawTextPlace {
    pub(super) offset: Spanned<Number>,
    pub(super) length: Spanned<Number>,
}

#[derive(Clone, Copy, Deserialize, PartialEq, Eq)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawAllowed {
    Read,
    Write,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawTransferable {
    #[serde(default)]
    pub(super) fields: Vec<RawField>,
    pub(super) checksum: Option<RawRegionChecksum>,
    pub(super) memory: Option<Spanned<String>>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawField {
    pub(super) name: Spanned<String>,
    pub(super) offset: Spanned<Number>,
    pub(super) length: Spanned<Number>,
    pub(super) kind: FieldKind,
    pub(super) meaning: Spanned<String>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawRegionChecksum {
    pub(super) offset: Spanned<Number>,
    pub(super) kind: ChecksumKind,
    pub(super) over: Spanned<Number>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawImage {
    /// Name of a stage's image.
    pub(super) name: Option<Spanned<String>>,
    /// Whether every update has it; by default true for [variant.image] and false for a further image.
    pub(super) required: Option<Spanned<bool>>,
    pub(super) region: Spanned<String>,
    pub(super) binary_at: Option<Spanned<Number>>,
    pub(super) vectors: Option<VectorKind>,
    #[serde(default)]
    pub(super) marks: Vec<RawMark>,
    /// Only the bootloader understands the image, which has a header of a [[wrapper]].
    #[serde(default)]
    pub(super) opaque: bool,
    /// Bytes of the header.
    #[serde(default)]
    pub(super) header_marks: Vec<RawMark>,
    pub(super) version: Option<Spanned<RawVersion>>,
    pub(super) stamp: Option<RawPlace>,
    pub(super) minimum_version: Option<Spanned<RawMinimumVersion>>,
    /// The field in which the image stores its length.
    pub(super) length: Option<RawLength>,
    /// The checksum that the image stores.
    pub(super) checksum: Option<Spanned<RawImageChecksum>>,
}

/// The field in which an image stores its length.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawLength {
    /// Offset from the start of the image.
    pub(super) offset: Spanned<Number>,
    pub(super) form: IntForm,
    /// Bytes in one unit of it; 1 without it.
    pub(super) unit: Option<Spanned<Number>>,
    /// Bytes of the image that it does not count; 0 without it.
    pub(super) plus: Option<Spanned<Number>>,
}

/// The checksum that an image stores.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawImageChecksum {
    /// Offset from the start of the image; by default the end of the image.
    pub(super) offset: Option<Spanned<Number>>,
    pub(super) kind: RawImageChecksumKind,
    /// Encoding of a checksum other than SHA-256.
    pub(super) form: Option<IntForm>,
    /// Number of bytes of the digest in the image; 32 by default. For SHA-256 only.
    pub(super) bytes: Option<Spanned<Number>>,
    /// The first byte that is covered, from the start of the image; 0 without it.
    pub(super) from: Option<Spanned<Number>>,
    /// End of the covered range; by default the checksum at the end, else the end of the image.
    pub(super) to: Option<Spanned<Number>>,
    /// How the bytes of the checksum itself are counted.
    pub(super) own: Option<OwnBytes>,
}

/// The method of computing a checksum.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(super) enum RawImageChecksumKind {
    Word(RawImageChecksumWord),
    Crc(RawCrc),
}

#[derive(Clone, Copy, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(super) enum RawImageChecksumWord {
    /// The CRC-32 that zip uses.
    Crc32,
    /// The sum of all bytes.
    Sum,
    Sha256,
}

/// A CRC by its parameters, as catalogues list them.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawCrc {
    /// Bits: 3 to 32.
    pub(super) width: u8,
    pub(super) poly: u64,
    /// Initial register value; 0 by default.
    #[serde(default)]
    pub(super) init: u64,
    /// Whether the bits of each input byte are reflected.
    #[serde(default)]
    pub(super) reflect: bool,
    /// Whether the result is reflected; as `reflect` if absent.
    pub(super) reflect_out: Option<bool>,
    /// Value that the result is XORed with; 0 by default.
    #[serde(default)]
    pub(super) xor_out: u64,
}

/// The minimum version.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(untagged)]
pub(super) enum RawMinimumVersion {
    Version(String),
    Explained { version: String, why: String },
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawMark {
    pub(super) offset: Spanned<Number>,
    pub(super) text: Option<Spanned<String>>,
    pub(super) bytes: Option<Spanned<String>>,
    pub(super) meaning: Spanned<String>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawPlace {
    pub(super) offset: Spanned<Number>,
}

/// The version that an image or a header stores.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawVersion {
    pub(super) offset: Option<Spanned<Number>>,
    /// The text before it; bytes as `0x` and hex digits.
    pub(super) after: Option<String>,
    #[serde(default)]
    pub(super) form: VersionForm,
    pub(super) count: Option<usize>,
    #[serde(default)]
    pub(super) reversed: bool,
    pub(super) length: Option<usize>,
}

#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawWrapper {
    pub(super) name: Spanned<String>,
    pub(super) magic: Spanned<String>,
    pub(super) header: Spanned<Number>,
    pub(super) length: Option<RawHeaderInt>,
    pub(super) start: Option<RawHeaderInt>,
    pub(super) version: Option<Spanned<RawVersion>>,
    pub(super) checksum: Option<RawHeaderChecksum>,
    /// Only the bootloader understands the payload.
    #[serde(default)]
    pub(super) opaque: bool,
}

/// A number in a header.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawHeaderInt {
    pub(super) offset: Spanned<Number>,
    pub(super) form: Option<IntForm>,
}

/// A checksum in a header.
#[derive(Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub(super) struct RawHeaderChecksum {
    pub(super) offset: Spanned<Number>,
    pub(super) form: Option<IntForm>,
    pub(super) kind: ChecksumKind,
}

#[cfg(feature = "schema")]
pub(crate) mod schema {
    use std::borrow::Cow;

    use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};

    use super::RawSheet;
    use crate::sheet::ids::Ids;
    use crate::sheet::raw_value::Spanned;

    /// See [`PRODUCT_SHEET`](crate::schema::PRODUCT_SHEET). The prefix of the file's own types is removed.
    pub(crate) fn product_sheet() -> String {
        let schema = schemars::schema_for!(RawSheet);
        serde_json::to_string_pretty(&schema).unwrap_or_default().replace("Raw", "") + "\n"
    }

    impl<T: JsonSchema> JsonSchema for Spanned<T> {
        fn inline_schema() -> bool {
            true
        }

        fn schema_name() -> Cow<'static, str> {
            T::schema_name()
        }

        fn json_schema(generator: &mut SchemaGenerator) -> Schema {
            generator.subschema_for::<T>()
        }
    }

    impl JsonSchema for Ids {
        fn schema_name() -> Cow<'static, str> {
            "Ids".into()
        }

        fn json_schema(_: &mut SchemaGenerator) -> Schema {
            let one = r"^[0-9A-Fa-f]{1,4}:[0-9A-Fa-f?]{1,4}$";
            json_schema!({
                "description": "USB ids like 1209:0002, with ? for any digit; or a list of them",
                "oneOf": [
                    { "type": "string", "pattern": one },
                    { "type": "array", "minItems": 1, "items": { "type": "string", "pattern": one } },
                ]
            })
        }
    }
}
