//! Selection of one of several releases.

use thiserror::Error;

use super::catalogue::ListedRelease;
use super::manifest::Manifest;
use super::release_error::ReleaseError;
use super::release_file::Release;
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
    /// Product id.
    pub product: &'a str,
    /// Version.
    pub version: &'a str,
    /// Date, such as `2026-11-23`.
    pub date: &'a str,
    /// Channel.
    pub channel: &'a str,
    /// Its file.
    pub file: CandidateFile<'a>,
}

/// The file of a release to choose from.
#[derive(Clone, Copy, Debug)]
pub enum CandidateFile<'a> {
    /// One that was read.
    Read(&'a Release),
    /// One that is listed with this SHA-256, as lower-case hex digits.
    Listed(&'a str),
}

impl<'a> CandidateFile<'a> {
    fn sha256(self) -> Result<&'a str, SelectError> {
        match self {
            Self::Read(release) => Ok(release.sha256()?),
            Self::Listed(sha256) => Ok(sha256),
        }
    }
}

impl<'a> Candidate<'a> {
    /// A release that was read.
    pub fn of(release: &'a Release) -> Self {
        let Manifest { product, version, date, channel, .. } = &release.manifest;
        Self { product, version, date, channel, file: CandidateFile::Read(release) }
    }

    /// A release of a catalogue.
    pub fn listed(listed: &'a ListedRelease) -> Self {
        let ListedRelease { product, version, date, channel, sha256, .. } = listed;
        Self { product, version, date, channel, file: CandidateFile::Listed(sha256) }
    }

    /// The version in comparable form.
    pub fn ordered(&self) -> Version {
        Version::parse(self.version)
    }

    /// `1.5.0 of 2026-10-02 (trial)`
    pub fn in_words(&self) -> String {
        format!("{} of {} ({})", self.version, self.date, self.channel)
    }
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
    /// A release cannot be read again.
    #[error(transparent)]
    Unreadable(#[from] ReleaseError),
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
    let of_product = |release: &&Candidate<'_>| wanted.product.is_none_or(|product| release.product == product);
    let mut products: Vec<String> =
        releases.iter().filter(of_product).map(|release| release.product.to_owned()).collect();
    products.sort();
    products.dedup();
    match products.len() {
        0 => return Err(SelectError::Nothing),
        1 => {}
        _ => return Err(SelectError::Products(products)),
    }
    let mut all: Vec<usize> = (0..releases.len()).filter(|at| releases[*at].product == products[0]).collect();
    all.sort_by(|a, b| order(&releases[*b]).partial_cmp(&order(&releases[*a])).unwrap_or(std::cmp::Ordering::Equal));
    let there = || all.iter().map(|at| releases[*at].in_words()).collect::<Vec<_>>();
    let has_stable = all.iter().any(|at| releases[*at].channel == STABLE);
    let channel = wanted.channel.or(has_stable.then_some(STABLE));
    let on_channel = |at: &usize| channel.is_none_or(|channel| releases[*at].channel == channel);
    let is = |at: &usize, version: &str| Version::parse(version) == releases[*at].ordered();
    let fitting: Vec<usize> = match &wanted.version {
        VersionSelector::Version(version) => all.iter().copied().filter(|at| is(at, version)).collect(),
        VersionSelector::KnownGood(good) => {
            let mut fitting = Vec::new();
            for at in &all {
                let sha256 = releases[*at].file.sha256()?;
                if good.iter().any(|good| good == sha256) {
                    fitting.push(*at);
                }
            }
            fitting
        }
        // Dates in this form have the order of their texts.
        VersionSelector::Before(day) => {
            let is_older = |at: &usize| releases[*at].date < day.as_str();
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
    let same = fitting.iter().skip(1).find(|at| releases[**at].ordered() == releases[index].ordered());
    if let Some(at) = same
        && releases[*at].file.sha256()? != releases[index].file.sha256()?
    {
        return Err(SelectError::Two(releases[index].version.to_owned()));
    }
    Ok(Selection { index, others: all.into_iter().filter(|at| *at != index).collect() })
}

fn order<'a>(release: &Candidate<'a>) -> (Version, &'a str) {
    (release.ordered(), release.date)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A release whose digest is its version.
    fn release<'a>(product: &'a str, version: &'a str, channel: &'a str) -> Candidate<'a> {
        Candidate { product, version, date: "2026-11-02", channel, file: CandidateFile::Listed(version) }
    }

    #[test]
    fn the_newest_of_a_channel_is_meant_or_the_version_that_is_named() {
        let all = [
            release("tern", "1.9.0", "stable"),
            release("tern", "1.10.0", "stable"),
            release("tern", "2.0.0", "trial"),
            release("tern", "1.10.0-rc1", "stable"),
        ];
        let pick = |channel, version| {
            choose(&all, &ReleaseQuery { product: None, channel, version })
                .map(|pick| all[pick.index].version.to_owned())
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
        let trials = [release("tern", "2.0.0", "trial"), release("tern", "2.1.0", "night")];
        let newest = ReleaseQuery { product: None, channel: None, version: VersionSelector::Newest };
        assert_eq!(choose(&trials, &newest).unwrap(), Selection { index: 1, others: vec![0] });
    }

    #[test]
    fn several_products_and_two_of_one_version_are_no_choice() {
        let all = [release("tern", "1.0", "stable"), release("heron", "1.0", "stable")];
        let any = ReleaseQuery { product: None, channel: None, version: VersionSelector::Newest };
        assert!(matches!(choose(&all, &any), Err(SelectError::Products(_))));
        let heron = ReleaseQuery { product: Some("heron"), ..any.clone() };
        assert_eq!(choose(&all, &heron).unwrap(), Selection { index: 1, others: vec![] });
        let mut twins = [release("tern", "1.0", "stable"), release("tern", "1.0", "stable")];
        assert!(choose(&twins, &any).is_ok());
        twins[1].file = CandidateFile::Listed("another");
        assert!(matches!(choose(&twins, &any), Err(SelectError::Two(_))));
        assert_eq!(choose(&[], &any), Err(SelectError::Nothing));
    }
}
