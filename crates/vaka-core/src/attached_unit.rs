//! A unit on the bench, as a list of attached units shows it.

use serde::Serialize;

use crate::sheet::VariantId;
use crate::unit::{DeviceId, Mode};
use crate::volume::VisibleFile;
use vaka_base::version::Version;

/// An attached unit.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct AttachedUnit {
    /// Location: bus and port.
    pub unit: String,
    /// Name of the bus.
    pub bus: String,
    /// Port path on the bus.
    pub port: String,
    /// USB ids.
    pub id: DeviceId,
    /// Current mode.
    pub mode: Mode,
    /// Name of the product, if a sheet describes it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub product: Option<String>,
    /// Product string and kinds of interfaces of a device without a sheet.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// Possible variants.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub variants: Vec<VariantId>,
    /// Serial number.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub serial: Option<String>,
    /// Version of the application.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<Version>,
    /// Memory layout that the unit reports.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// Label of the disk that the unit shows.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<String>,
    /// Folder where the system has mounted that disk.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub folder: Option<String>,
    /// The file on the disk that shows the installed application; the file is missing if no
    /// application is installed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub application_file: Option<ApplicationFile>,
    /// Further files that a sheet describes and the disk has.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<VisibleFile>,
    /// The configured name of the location.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub place: Option<String>,
    /// USB speed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub speed: Option<&'static str>,
    /// Other USB devices of the same unit, each with ids and location.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub companions: Vec<String>,
    /// The withdrawal of its version, according to a catalogue.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub withdrawn: Option<WithdrawnVersion>,
    /// Violations of the USB standard in its descriptors.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<String>,
    /// The reason why the unit cannot be used.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub obstacle: Option<String>,
    /// The remedy for the obstacle.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub remedy: Option<String>,
    /// The kind of device, judged by its classes alone, if no sheet describes it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub hint: Option<&'static str>,
    /// Possible next actions.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub next: Vec<String>,
}

/// Why the version of a unit must not be used any more.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct WithdrawnVersion {
    /// The day on which it was withdrawn.
    pub date: String,
    /// The reason, for people.
    pub why: String,
    /// The folder or web address of the catalogue.
    pub from: String,
}

/// The file on a unit's disk that shows the installed application.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ApplicationFile {
    /// The file exists.
    File(VisibleFile),
    /// The file of this name is missing: no application is installed.
    Missing(String),
}
