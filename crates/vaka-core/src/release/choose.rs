//! Which of several releases is meant.

use thiserror::Error;

use super::manifest::Manifest;
use crate::version::Version;

/// Which version is wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// The newest.
    Newest,
    /// This one.
    Version(String),
    /// One of these, which ended well before; the newest of them.
    KnownGood(Vec<String>),
}

/// What is wanted of a release.
#[derive(Clone, Debug)]
pub struct Choosing<'a> {
    /// The product, where it is known.
    pub product: Option<&'a str>,
    /// For whom; all channels without one. A version that is named is taken from any.
    pub channel: Option<&'a str>,
    /// Which version.
    pub version: Wanted,
}

/// The release that is meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pick {
    /// Its place among those that were given.
    pub index: usize,
    /// The places of the others of that product, the newest first.
    pub others: Vec<usize>,
}

/// Why none is meant.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum NoneFits {
    /// There is none at all.
    #[error("there is no release")]
    Nothing,
    /// There are several products, and nothing says which is meant.
    #[error("there are releases of several products: {}", .0.join(", "))]
    Products(Vec<String>),
    /// None is on the channel.
    #[error("no release is on the channel '{wanted}'; there are: {}", .there.join(", "))]
    Channel {
        /// What was wanted.
        wanted: String,
        /// What there is: versions with their channels.
        there: Vec<String>,
    },
    /// None has the version.
    #[error("no release has the version {wanted}; there are: {}", .there.join(", "))]
    Version {
        /// What was wanted.
        wanted: String,
        /// What there is.
        there: Vec<String>,
    },
    /// None is known to be good.
    #[error("the journal knows no release of these that ended well; there are: {}", .0.join(", "))]
    KnownGood(Vec<String>),
    /// Two say that they are the same version and differ.
    #[error("two different releases say that they are version {0}")]
    Two(String),
}

/// Chooses one of several releases: of the product, on the channel, the newest or the
/// version that is wanted.
///
/// # Errors
/// [`NoneFits`], with what there is.
pub fn choose(releases: &[Manifest], wanted: &Choosing<'_>) -> Result<Pick, NoneFits> {
    let of_product = |manifest: &&Manifest| wanted.product.is_none_or(|product| manifest.product == product);
    let mut products: Vec<String> = releases.iter().filter(of_product).map(|m| m.product.clone()).collect();
    products.sort();
    products.dedup();
    match products.len() {
        0 => return Err(NoneFits::Nothing),
        1 => {}
        _ => return Err(NoneFits::Products(products)),
    }
    let mut all: Vec<usize> = (0..releases.len()).filter(|at| releases[*at].product == products[0]).collect();
    all.sort_by(|a, b| order(&releases[*b]).partial_cmp(&order(&releases[*a])).unwrap_or(std::cmp::Ordering::Equal));
    let there = || all.iter().map(|at| named(&releases[*at])).collect::<Vec<_>>();
    let on_channel = |at: &usize| wanted.channel.is_none_or(|channel| releases[*at].channel == channel);
    let is = |at: &usize, version: &str| Version::parse(version) == releases[*at].ordered();
    let fitting: Vec<usize> = match &wanted.version {
        Wanted::Version(version) => all.iter().copied().filter(|at| is(at, version)).collect(),
        Wanted::KnownGood(good) => {
            all.iter().copied().filter(|at| good.iter().any(|version| is(at, version))).collect()
        }
        Wanted::Newest => all.iter().copied().filter(on_channel).collect(),
    };
    let Some(index) = fitting.first().copied() else {
        return Err(match (&wanted.version, wanted.channel) {
            (Wanted::Version(version), _) => NoneFits::Version { wanted: version.clone(), there: there() },
            (Wanted::KnownGood(_), _) => NoneFits::KnownGood(there()),
            (Wanted::Newest, channel) => {
                NoneFits::Channel { wanted: channel.unwrap_or_default().to_owned(), there: there() }
            }
        });
    };
    let same = fitting.iter().skip(1).find(|at| releases[**at].ordered() == releases[index].ordered());
    if same.is_some_and(|at| releases[*at] != releases[index]) {
        return Err(NoneFits::Two(releases[index].version.clone()));
    }
    Ok(Pick { index, others: all.into_iter().filter(|at| *at != index).collect() })
}

fn order(manifest: &Manifest) -> (Version, &str) {
    (manifest.ordered(), &manifest.date)
}

/// `1.5.0 of 2026-10-02 (trial)`
fn named(manifest: &Manifest) -> String {
    format!("{} of {} ({})", manifest.version, manifest.date, manifest.channel)
}

impl Manifest {
    /// Version, date and channel in one line.
    pub fn in_words(&self) -> String {
        named(self)
    }
}
