//! Selection of one of several releases.

use thiserror::Error;

use super::manifest::Manifest;
use vaka_base::version::Version;

/// The default channel.
pub const STABLE: &str = "stable";

/// The requested version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum VersionSelector {
    /// The newest.
    Newest,
    /// This one.
    Version(String),
    /// The newest that is older than this day, in the form of a manifest: `2026-03-01`.
    Before(String),
    /// The newest of the releases with these digests, which were installed successfully before.
    KnownGood(Vec<String>),
}

/// A release to choose from.
#[derive(Clone, Copy, Debug)]
pub struct Candidate<'a> {
    /// Its manifest.
    pub manifest: &'a Manifest,
    /// SHA-256 of its file, as lower-case hex digits.
    pub sha256: &'a str,
}

/// The requested release.
#[derive(Clone, Debug)]
pub struct ReleaseQuery<'a> {
    /// The product, if known.
    pub product: Option<&'a str>,
    /// The channel. Without one, releases on the channel `stable` if there are any, else all. An
    /// explicit version is selected from any channel.
    pub channel: Option<&'a str>,
    /// The version.
    pub version: VersionSelector,
}

/// The selected release.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Selection {
    /// Index in the given list.
    pub index: usize,
    /// The places of the others of that product, the newest first.
    pub others: Vec<usize>,
}

/// Why no release is selected.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum SelectError {
    /// There is no release.
    #[error("there is no release")]
    Nothing,
    /// There are releases of several products, and none was named.
    #[error("there are releases of several products: {}", .0.join(", "))]
    Products(Vec<String>),
    /// None is on the channel.
    #[error("no release is on the channel '{wanted}'; available: {}", .there.join(", "))]
    Channel {
        /// The request.
        wanted: String,
        /// The available versions with their channels.
        there: Vec<String>,
    },
    /// None has the version.
    #[error("no release has the version {wanted}; available: {}", .there.join(", "))]
    Version {
        /// The request.
        wanted: String,
        /// The available versions.
        there: Vec<String>,
    },
    /// None is older than the day.
    #[error("no release is older than {wanted}; available: {}", .there.join(", "))]
    Before {
        /// The request.
        wanted: String,
        /// The available versions with their dates.
        there: Vec<String>,
    },
    /// No release is known to be good.
    #[error("none of these releases is on record as installed successfully; available: {}", .0.join(", "))]
    KnownGood(Vec<String>),
    /// Two different releases have the same version.
    #[error("two different releases have the version {0}")]
    Two(String),
}

/// Selects one of several releases: of the product, on the channel, the newest or the requested
/// version.
///
/// # Errors
/// [`SelectError`], with the available releases.
pub fn choose(releases: &[Candidate<'_>], wanted: &ReleaseQuery<'_>) -> Result<Selection, SelectError> {
    let of_product = |manifest: &&Manifest| wanted.product.is_none_or(|product| manifest.product == product);
    let mut products: Vec<String> =
        releases.iter().map(|release| release.manifest).filter(of_product).map(|m| m.product.clone()).collect();
    products.sort();
    products.dedup();
    match products.len() {
        0 => return Err(SelectError::Nothing),
        1 => {}
        _ => return Err(SelectError::Products(products)),
    }
    let mut all: Vec<usize> = (0..releases.len()).filter(|at| releases[*at].manifest.product == products[0]).collect();
    all.sort_by(|a, b| {
        order(releases[*b].manifest).partial_cmp(&order(releases[*a].manifest)).unwrap_or(std::cmp::Ordering::Equal)
    });
    let there = || all.iter().map(|at| named(releases[*at].manifest)).collect::<Vec<_>>();
    let has_stable = all.iter().any(|at| releases[*at].manifest.channel == STABLE);
    let channel = wanted.channel.or(has_stable.then_some(STABLE));
    let on_channel = |at: &usize| channel.is_none_or(|channel| releases[*at].manifest.channel == channel);
    let is = |at: &usize, version: &str| Version::parse(version) == releases[*at].manifest.ordered();
    let fitting: Vec<usize> = match &wanted.version {
        VersionSelector::Version(version) => all.iter().copied().filter(|at| is(at, version)).collect(),
        VersionSelector::KnownGood(good) => {
            all.iter().copied().filter(|at| good.iter().any(|sha256| sha256 == releases[*at].sha256)).collect()
        }
        // Dates in this form have the order of their texts.
        VersionSelector::Before(day) => {
            let is_older = |at: &usize| releases[*at].manifest.date.as_str() < day.as_str();
            all.iter().copied().filter(on_channel).filter(is_older).collect()
        }
        VersionSelector::Newest => all.iter().copied().filter(on_channel).collect(),
    };
    let Some(index) = fitting.first().copied() else {
        return Err(match (&wanted.version, wanted.channel) {
            (VersionSelector::Version(version), _) => SelectError::Version { wanted: version.clone(), there: there() },
            (VersionSelector::KnownGood(_), _) => SelectError::KnownGood(there()),
            (VersionSelector::Before(day), _) => SelectError::Before { wanted: day.clone(), there: there() },
            (VersionSelector::Newest, channel) => {
                SelectError::Channel { wanted: channel.unwrap_or_default().to_owned(), there: there() }
            }
        });
    };
    let same =
        fitting.iter().skip(1).find(|at| releases[**at].manifest.ordered() == releases[index].manifest.ordered());
    if same.is_some_and(|at| releases[*at].manifest != releases[index].manifest) {
        return Err(SelectError::Two(releases[index].manifest.version.clone()));
    }
    Ok(Selection { index, others: all.into_iter().filter(|at| *at != index).collect() })
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

#[cfg(test)]
mod tests {
    use super::*;

    fn manifest(product: &str, version: &str, channel: &str) -> Manifest {
        let (product, version, channel) = (product.to_owned(), version.to_owned(), channel.to_owned());
        let (notes, needs_vaka, expires) = (None, None, None);
        let keys = Vec::new();
        let (loses, sheets, stages, members) = Default::default();
        let date = "2026-11-02".to_owned();
        Manifest {
            release: 1,
            product,
            version,
            date,
            channel,
            expires,
            keys,
            needs_vaka,
            notes,
            loses,
            sheets,
            stages,
            members,
        }
    }

    /// Chooses among releases whose digest is their version.
    fn choose_of(all: &[Manifest], query: &ReleaseQuery<'_>) -> Result<Selection, SelectError> {
        let candidates: Vec<Candidate<'_>> =
            all.iter().map(|manifest| Candidate { manifest, sha256: &manifest.version }).collect();
        choose(&candidates, query)
    }

    #[test]
    fn the_newest_of_a_channel_is_meant_or_the_version_that_is_named() {
        let all = [
            manifest("tern", "1.9.0", "stable"),
            manifest("tern", "1.10.0", "stable"),
            manifest("tern", "2.0.0", "trial"),
            manifest("tern", "1.10.0-rc1", "stable"),
        ];
        let pick = |channel, version| {
            choose_of(&all, &ReleaseQuery { product: None, channel, version })
                .map(|pick| all[pick.index].version.clone())
        };
        let named = |version: &str| VersionSelector::Version(version.to_owned());
        assert_eq!(pick(None, VersionSelector::Newest).unwrap(), "1.10.0");
        assert_eq!(pick(Some("trial"), VersionSelector::Newest).unwrap(), "2.0.0");
        assert_eq!(pick(None, named("2.0")).unwrap(), "2.0.0");
        let good = |versions: &[&str]| VersionSelector::KnownGood(versions.iter().map(|v| (*v).to_owned()).collect());
        assert_eq!(pick(None, good(&["1.9.0", "0.1"])).unwrap(), "1.9.0");
        assert_eq!(pick(None, good(&["1.9.0", "2.0.0"])).unwrap(), "2.0.0");
        assert!(matches!(pick(None, good(&[])), Err(SelectError::KnownGood(_))));
        assert!(matches!(pick(Some("night"), VersionSelector::Newest), Err(SelectError::Channel { .. })));
        assert!(matches!(pick(None, named("3.0")), Err(SelectError::Version { .. })));
        // Without a stable one, every channel counts.
        let trials = [manifest("tern", "2.0.0", "trial"), manifest("tern", "2.1.0", "night")];
        let newest = ReleaseQuery { product: None, channel: None, version: VersionSelector::Newest };
        assert_eq!(choose_of(&trials, &newest).unwrap(), Selection { index: 1, others: vec![0] });
    }

    #[test]
    fn several_products_and_two_of_one_version_are_no_choice() {
        let all = [manifest("tern", "1.0", "stable"), manifest("heron", "1.0", "stable")];
        let any = ReleaseQuery { product: None, channel: None, version: VersionSelector::Newest };
        assert!(matches!(choose_of(&all, &any), Err(SelectError::Products(_))));
        let heron = ReleaseQuery { product: Some("heron"), ..any.clone() };
        assert_eq!(choose_of(&all, &heron).unwrap(), Selection { index: 1, others: vec![] });
        let mut twins = [manifest("tern", "1.0", "stable"), manifest("tern", "1.0", "stable")];
        assert!(choose_of(&twins, &any).is_ok());
        twins[1].loses.push(super::super::manifest::Loss { id: "a".into(), what: "b".into() });
        assert!(matches!(choose_of(&twins, &any), Err(SelectError::Two(_))));
        assert_eq!(choose_of(&[], &any), Err(SelectError::Nothing));
    }
}
