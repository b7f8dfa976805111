//! What a release says of an image in it.

use crate::sheet::Fact;

/// The word of a release about one of its images. The signature makes it its maker's.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Claim {
    /// The product's id.
    pub product: String,
    /// The release's version.
    pub version: String,
    /// The build, where there are several.
    pub build: Option<String>,
    /// The variants that the image is for.
    pub variants: Vec<String>,
    /// What must agree.
    pub facts: Vec<Fact>,
    /// What is lost by it: a name for the agreement, and what it is.
    pub losses: Vec<(String, String)>,
}
