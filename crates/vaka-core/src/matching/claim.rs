//! The statements of a release about its images.

use crate::sheet::Fact;

/// The statements of a release about one of its images. The signature attributes them to the
/// signer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Claim {
    /// The product's id.
    pub product: String,
    /// The release's version.
    pub version: String,
    /// The oldest version of a unit that the release may update.
    pub updates_from: Option<String>,
    /// The build, if the release has several.
    pub build: Option<String>,
    /// The variants that the image is for.
    pub variants: Vec<String>,
    /// The facts that must agree.
    pub facts: Vec<Fact>,
    /// The losses: consent id and description.
    pub losses: Vec<(String, String)>,
}
