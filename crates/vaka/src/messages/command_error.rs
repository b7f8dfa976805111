//! The errors of commands outside of the work on a unit, with their sentences.

use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use vaka_base::size::Bytes;
use vaka_base::{duration, text};
use vaka_boot::protocol::session_error::SessionError;
use vaka_core::event::{ExitCode, FailureText};
use vaka_core::release::{Inconsistency, SelectError};
use vaka_dialect::DialectErrors;
use vaka_image::ReadError;
use vaka_image::address::Address;

/// An error of a command outside of the work on a unit. A reason is a phrase without a capital
/// and a full stop.
#[derive(Debug)]
#[allow(missing_docs)] // the names of the fields say it
pub enum CommandError {
    /// A fault of the program or of the system under it, as a whole sentence.
    Internal(String),
    /// Wrong use of an option, as a whole sentence.
    Usage(String),
    /// A file cannot be read or written.
    Io { path: PathBuf, error: io::Error },
    /// The content of a file is invalid.
    Damaged { path: PathBuf, reason: String },
    /// The same, for a file that was to be changed or converted.
    NotConverted { what: String, reason: String },
    /// An output file exists already.
    FileExists { path: PathBuf, output: OutputKind },

    /// The settings of the program are wrong.
    Config { path: PathBuf, reason: String },
    /// A product sheet is wrong; the reason names the place.
    Sheet { reason: String },
    /// A dialect is wrong.
    Dialect(DialectErrors),
    /// Two product sheets describe one product.
    SheetTwice { path: PathBuf, product: String },
    /// Two dialects have one name.
    DialectTwice { path: PathBuf, name: String },
    /// A folder has no product sheet.
    NoSheetsIn { path: PathBuf },
    /// There is no product sheet.
    NoSheets,
    /// The same, for udev rules.
    NoSheetsForRules,
    /// A CAN bus was named, and no sheet describes its nodes.
    NoNodeDialects,
    /// `--bus can:` with a name that is neither a port nor an interface.
    NoSuchCanBus { name: String },
    /// No product has this part.
    NoPart { part: String, known: Vec<String> },
    /// No sheet declares this region as transferable.
    NotTransferable { region: String },
    /// The sheet of the unit does not.
    NotTransferableHere { region: String },

    /// A firmware file is too large.
    TooLarge { path: PathBuf, limit: u64 },
    /// A firmware file cannot be read as one image.
    File { path: PathBuf, error: ReadError },
    /// A raw binary has no address; the start addresses of its possible products.
    NoAddress { path: PathBuf, error: ReadError, starts: Vec<String> },
    /// A file has several images.
    SeveralImages { path: PathBuf },
    /// The ending of an output file determines no format.
    NoFormat { path: PathBuf },
    /// The image exceeds the maximum of the format.
    ImageTooLarge,
    /// A format without addresses cannot represent gaps.
    Gaps { segments: usize, gap_bytes: u64 },
    /// A stamp cannot be found, written or sealed.
    Stamp { path: PathBuf, reason: String },
    /// The image has no stamp, and no fields for one were given.
    NoStampText { path: PathBuf },
    /// The stamp of the image has other texts.
    OtherStamp { path: PathBuf, at: Address },

    /// No release can be selected. `not_used`: files of the folder that were not considered, as text.
    NoReleaseSelected { error: SelectError, not_used: Vec<String> },
    /// A folder has no release.
    NoReleaseIn { path: PathBuf, ending: &'static str },
    /// No release in a folder can be used; the reason for each.
    NoUsableRelease { reasons: Vec<String> },
    /// A release is damaged.
    Release { path: PathBuf, reason: String },
    /// A release is not signed.
    Unsigned { consent: String },
    /// A release or a catalogue is signed with a key that is not trusted.
    UnknownSigner {
        file: SignedFile,
        key: String,
        consent: String,
        /// The product of the release.
        product: String,
        /// The products for which the key is trusted.
        products: Vec<String>,
    },
    /// The accepted statements about keys cannot be read.
    Statements { path: PathBuf, reason: String },
    /// A key is revoked.
    RevokedKey { key: String, date: String, why: String },
    /// A release may be installed only up to a day.
    ExpiredRelease { day: String, consent: String },
    /// A release is withdrawn.
    WithdrawnRelease { version: String, date: String, why: String, consent: String },
    /// A place has no catalogue.
    NoCatalogue { place: String },
    /// A catalogue is invalid.
    Catalogue { place: String, reason: String },
    /// A newer catalogue was seen before.
    OldCatalogue { number: u64, newest: u64, date: String },
    /// Another catalogue with the same number was seen before.
    TwoCatalogues { number: u64 },
    /// The catalogues that were seen cannot be read.
    SeenCatalogues { path: PathBuf, reason: String },
    /// A file differs from its entry in the catalogue.
    Listed { path: PathBuf, reason: String },
    /// A file was not downloaded; `kept`: the bytes that are kept for the next run.
    Download { url: String, reason: String, kept: u64, stopped: bool },
    /// A folder of releases cannot be listed in a catalogue.
    CatalogueInput { path: PathBuf, reason: String },
    /// A catalogue has no such release.
    NotListed { wanted: String, listed: Vec<String> },
    /// A folder has no image of an earlier day that fits.
    NoImageBefore { path: PathBuf, day: String, left_out: Vec<String> },
    /// Two images of a folder have the same time.
    SameDate { paths: [String; 2] },
    /// An updater cannot be used, or cannot be made.
    Updater { reason: String },
    /// A program cannot take a release.
    UpdaterProgram { path: PathBuf, reason: &'static str },
    /// The release of an updater needs what its users do not have.
    UpdaterRelease { path: PathBuf, reason: String },
    /// The user did not accept the losses of an update.
    LossesNotAccepted,
    /// A release has no sheet of its product.
    NoSheetInRelease { path: PathBuf, product: String },
    /// The parts of a release do not fit each other.
    Inconsistent { path: PathBuf, found: Vec<Inconsistency> },
    /// The same, for a release that is packed.
    PackInconsistent(Vec<Inconsistency>),
    /// The description of a release is wrong.
    PackInput { path: PathBuf, reason: String },
    /// A release has no such build.
    NoBuild { wanted: String, builds: Vec<String> },

    /// A key of this name exists already.
    KeyExists { path: PathBuf },
    /// A file is not a key.
    Key { path: PathBuf, reason: String },
    /// No key has this name.
    NoKey { name: String },
    /// Another key is trusted under this name.
    OtherKeyTrusted { name: String },
    /// No key is trusted under this name.
    NotTrusted { name: String },

    /// The demo has no such example.
    NoExample { name: String },
    /// `vaka help` has no such topic or command.
    NoTopic { name: String },
    /// The journal cannot be written.
    Journal { reason: String },
    /// The journal has no such attempt.
    NoAttempt { id: String },
    /// An attempt did not read back all of the content.
    NotReadBack,
    /// Only a bootloader understands the content of a file.
    Opaque { path: PathBuf },
    /// Typed steps of a dialect cannot be parsed.
    Steps { text: String, reason: String },
    /// Typed steps may erase or write.
    MayChange { text: String },
    /// A typed exchange failed.
    Exchange { place: String, error: SessionError },
    /// A recorded run cannot be replayed with a dialect.
    Replay { path: PathBuf, reason: String },
    /// The simulator cannot listen.
    Listen { address: SocketAddr, error: io::Error },
    /// A scene of the simulator is wrong.
    Scene { name: String, reason: String },
    /// A guide cannot be made.
    Guide { path: PathBuf, reason: String },

    /// A serial port cannot be used.
    Port { place: String, error: SessionError },
    /// A unit has no serial port.
    NoPort { place: String },
    /// A line did not come in time.
    NoLine { words: String, waited: Duration },
    /// There is no such unit.
    NoUnit,
    /// Several units fit.
    SeveralUnits { count: usize },
    /// Neither the unit nor a sheet describes its memory.
    MemoryUnknown,
    /// Two readings of one unit differ.
    ReadingsDiffer { turn: u32, bytes: u64, from: Address },
    /// None of the addresses of a file can be read from the unit.
    NothingReadable,
    /// The content of a region is not sound.
    NotSound { region: String, reason: String },
    /// A file of settings is of another product.
    OtherProduct { path: PathBuf, of: String, unit: String },
    /// The content of a file of settings is not sound.
    SettingsNotSound { path: PathBuf, reason: String },
    /// The unit's own values cannot be kept; the names of those that must be given.
    ValuesNeeded { reason: String, names: Vec<String> },
    /// The settings cannot be merged.
    NotMerged { path: PathBuf, reason: String },
    /// A file is not one of saved settings.
    NoSettings { path: PathBuf, reason: String },
}

/// A file with a signature.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SignedFile {
    /// A release.
    Release,
    /// A catalogue.
    Catalogue,
}

impl SignedFile {
    fn as_str(self) -> &'static str {
        match self {
            Self::Release => "release",
            Self::Catalogue => "catalogue",
        }
    }
}

/// How an output file that is there already can be avoided.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OutputKind {
    /// It can be replaced.
    Replaceable,
    /// Another name must be given.
    New,
    /// The same, for the trace of a run.
    Trace,
}

impl CommandError {
    /// The exit status.
    #[allow(clippy::too_many_lines)] // a table
    pub fn code(&self) -> ExitCode {
        use ExitCode as X;
        match self {
            Self::Internal(_) => X::Internal,
            Self::Usage(_) | Self::NoPart { .. } | Self::NoFormat { .. } | Self::NoBuild { .. } => X::Usage,
            Self::NoExample { .. } | Self::NoTopic { .. } | Self::MemoryUnknown => X::Usage,
            Self::Steps { .. } => X::Usage,
            Self::Opaque { .. } => X::Refused,
            Self::MayChange { .. } | Self::Exchange { error: SessionError::SecretMissing { .. }, .. } => X::Refused,
            Self::Exchange { error: SessionError::Busy(_), .. } => X::Access,
            Self::Exchange { .. } => X::Transfer,
            Self::Download { stopped: true, .. } => X::Stopped,
            Self::Download { .. } => X::Access,
            Self::Journal { .. } | Self::Listen { .. } | Self::Port { .. } => X::Access,
            Self::NoAttempt { .. } | Self::NoLine { .. } | Self::NoUnit => X::NoUnit,
            Self::ReadingsDiffer { .. } => X::Differs,
            Self::File { error: ReadError::NoAddress | ReadError::Several(_) | ReadError::NotThere(_), .. } => {
                X::Refused
            }
            Self::FileExists { .. }
            | Self::NoSheets
            | Self::NoSheetsForRules
            | Self::NoNodeDialects
            | Self::NoSuchCanBus { .. }
            | Self::NotTransferable { .. }
            | Self::NotTransferableHere { .. }
            | Self::NoAddress { .. }
            | Self::SeveralImages { .. }
            | Self::Gaps { .. }
            | Self::NoStampText { .. }
            | Self::OtherStamp { .. }
            | Self::NoReleaseSelected { .. }
            | Self::Unsigned { .. }
            | Self::UnknownSigner { .. }
            | Self::RevokedKey { .. }
            | Self::ExpiredRelease { .. }
            | Self::WithdrawnRelease { .. }
            | Self::OldCatalogue { .. }
            | Self::TwoCatalogues { .. }
            | Self::NotListed { .. }
            | Self::Inconsistent { .. }
            | Self::PackInconsistent(_)
            | Self::UpdaterRelease { .. }
            | Self::LossesNotAccepted
            | Self::NoImageBefore { .. }
            | Self::SameDate { .. }
            | Self::NotReadBack
            | Self::NoPort { .. }
            | Self::SeveralUnits { .. }
            | Self::NothingReadable
            | Self::OtherProduct { .. }
            | Self::ValuesNeeded { .. }
            | Self::NotMerged { .. } => X::Refused,
            Self::Io { .. }
            | Self::Damaged { .. }
            | Self::NotConverted { .. }
            | Self::Config { .. }
            | Self::Sheet { .. }
            | Self::Dialect(_)
            | Self::SheetTwice { .. }
            | Self::DialectTwice { .. }
            | Self::NoSheetsIn { .. }
            | Self::TooLarge { .. }
            | Self::File { .. }
            | Self::ImageTooLarge
            | Self::Stamp { .. }
            | Self::Release { .. }
            | Self::NoReleaseIn { .. }
            | Self::NoUsableRelease { .. }
            | Self::NoCatalogue { .. }
            | Self::Catalogue { .. }
            | Self::SeenCatalogues { .. }
            | Self::Listed { .. }
            | Self::CatalogueInput { .. }
            | Self::NoSheetInRelease { .. }
            | Self::PackInput { .. }
            | Self::Updater { .. }
            | Self::UpdaterProgram { .. }
            | Self::KeyExists { .. }
            | Self::Key { .. }
            | Self::Statements { .. }
            | Self::NoKey { .. }
            | Self::OtherKeyTrusted { .. }
            | Self::NotTrusted { .. }
            | Self::Replay { .. }
            | Self::Scene { .. }
            | Self::Guide { .. }
            | Self::NotSound { .. }
            | Self::SettingsNotSound { .. }
            | Self::NoSettings { .. } => X::File,
        }
    }

    /// The error in sentences: cause, state of files and units, next action.
    pub fn text(&self) -> FailureText {
        let failure = FailureText::new(self.code(), self.message());
        FailureText { state: self.state().map(str::to_owned), remedy: self.remedy(), ..failure }
    }

    #[allow(clippy::too_many_lines)] // a table
    fn message(&self) -> String {
        let of = |path: &PathBuf, reason: &dyn std::fmt::Display| format!("{}: {reason}.", path.display());
        match self {
            Self::Internal(sentence) | Self::Usage(sentence) => sentence.clone(),
            Self::Io { path, error } => of(path, error),
            Self::Damaged { path, reason }
            | Self::Config { path, reason }
            | Self::Stamp { path, reason }
            | Self::Release { path, reason }
            | Self::PackInput { path, reason }
            | Self::Key { path, reason }
            | Self::Statements { path, reason }
            | Self::SeenCatalogues { path, reason }
            | Self::Listed { path, reason }
            | Self::CatalogueInput { path, reason }
            | Self::Replay { path, reason }
            | Self::SettingsNotSound { path, reason }
            | Self::NotMerged { path, reason }
            | Self::NoSettings { path, reason } => of(path, reason),
            Self::Guide { path, reason } | Self::UpdaterRelease { path, reason } => of(path, reason),
            Self::NoImageBefore { path, day, left_out } => {
                let rest =
                    if left_out.is_empty() { String::new() } else { format!("; not used: {}", left_out.join(", ")) };
                format!("{}: the folder has no image from before {day} that fits{rest}.", path.display())
            }
            Self::SameDate { paths: [one, other] } => format!("{one} and {other} have the same time."),
            Self::Updater { reason } => format!("This updater cannot be used: {reason}."),
            Self::UpdaterProgram { path, reason } => of(path, reason),
            Self::LossesNotAccepted => "The update was not accepted.".to_owned(),
            Self::NotConverted { what, reason } | Self::Scene { name: what, reason } => format!("{what}: {reason}."),
            Self::Opaque { path } => {
                format!("The content of {} is for the bootloader alone, so it cannot be compared.", path.display())
            }
            Self::Steps { text, reason } => format!("'{}': {reason}.", text::sanitize(text)),
            Self::MayChange { text } => {
                format!("'{}' may erase or write, so it was not sent.", text::sanitize(text))
            }
            Self::Exchange { place, error } => format!("The unit at {place}: {error}."),
            Self::FileExists { path, .. } => format!("{} already exists.", path.display()),

            Self::Sheet { reason } => format!("{reason}."),
            Self::Dialect(errors) => format!("{errors}."),
            Self::SheetTwice { path, product } => {
                format!("{}: another sheet describes the product '{product}'.", path.display())
            }
            Self::DialectTwice { path, name } => format!("{}: another dialect has the name '{name}'.", path.display()),
            Self::NoSheetsIn { path } => format!("{}: the folder has no product sheet (*.toml).", path.display()),
            Self::NoSheets => "No product sheet was found, so the image cannot be matched to a unit.".to_owned(),
            Self::NoNodeDialects => {
                "No product sheet describes nodes of a CAN bus, so no frame is sent on it.".to_owned()
            }
            Self::NoSuchCanBus { name } => format!("'can:{}' is not a CAN bus.", text::sanitize(name)),
            Self::NoSheetsForRules => "No product sheet was found, so there are no ids for a rule.".to_owned(),
            Self::NoPart { part, .. } => format!("No product sheet has a part '{}'.", text::sanitize(part)),
            Self::NotTransferable { region } => {
                format!("No product sheet declares region '{}' as transferable.", text::sanitize(region))
            }
            Self::NotTransferableHere { region } => {
                format!("The product sheet does not declare region '{}' as transferable.", text::sanitize(region))
            }

            Self::TooLarge { path, limit } => {
                format!("{}: the file is larger than {}, so it is not read.", path.display(), Bytes(*limit))
            }
            Self::File { path, error } | Self::NoAddress { path, error, .. } => of(path, error),
            Self::SeveralImages { path } => format!("{}: the file has several images.", path.display()),
            Self::NoFormat { path } => format!("{}: the extension does not determine a format.", path.display()),
            Self::ImageTooLarge => "The image is too large for that format.".to_owned(),
            Self::Gaps { segments, gap_bytes } => format!(
                "The image has {} with {} of gaps, which a binary cannot represent.",
                text::count(*segments, "segment"),
                Bytes(*gap_bytes)
            ),
            Self::NoStampText { path } => {
                format!("{}: the image has no stamp, and no fields for a new one were given.", path.display())
            }
            Self::OtherStamp { path, at } => {
                format!("{}: the stamp at {at} has other fields.", path.display())
            }

            Self::NoReleaseSelected { error, not_used } => {
                let not_used = not_used.iter().map(|file| format!("\n  {file}"));
                format!("No release can be selected: {error}.{}", not_used.collect::<String>())
            }
            Self::NoReleaseIn { path, ending } => {
                format!("{}: the folder has no release (*.{ending}).", path.display())
            }
            Self::NoUsableRelease { reasons } => {
                format!("None of these releases can be used:\n  {}", reasons.join("\n  "))
            }
            Self::Unsigned { .. } => "The release is not signed, so its origin is not known.".to_owned(),
            Self::UnknownSigner { file, key, products, .. } if products.is_empty() => {
                format!("The {} is signed by key {key}, which is not trusted here.", file.as_str())
            }
            Self::UnknownSigner { file, key, product, products, .. } => format!(
                "The {} of '{product}' is signed by key {key}, which is trusted here only for {}.",
                file.as_str(),
                products.join(", ")
            ),
            Self::WithdrawnRelease { version, date, why, .. } => {
                format!("Release {version} was withdrawn by its publisher on {date}: {why}.")
            }
            Self::NoCatalogue { place } => format!("{place}: no catalogue (releases.catalogue) was found."),
            Self::Catalogue { place, reason } => format!("{place}: the catalogue cannot be used: {reason}."),
            Self::OldCatalogue { number, newest, date } => {
                format!(
                    "The catalogue is an old one: it has number {number}, and number {newest} of {date} was seen here."
                )
            }
            Self::TwoCatalogues { number } => {
                format!("The catalogue differs from the one with the same number {number} that was seen here.")
            }
            Self::Download { stopped: true, url, .. } => format!("{url}: the download was stopped."),
            Self::Download { url, reason, .. } => format!("{url}: {reason}."),
            Self::NotListed { wanted, listed } => {
                format!("The catalogue has no release {}; listed: {}.", text::sanitize(wanted), listed.join(", "))
            }
            Self::RevokedKey { key, date, why } => format!("Key {key} is revoked since {date}: {why}."),
            Self::ExpiredRelease { day, .. } => format!("The release may be installed only up to {day}."),
            Self::NoSheetInRelease { path, product } => {
                format!("{}: the release has no product sheet of '{product}'.", path.display())
            }
            Self::Inconsistent { path, found } => {
                let more = if found.len() > 1 { format!(" ({} more)", found.len() - 1) } else { String::new() };
                let first = found.first().map(ToString::to_string).unwrap_or_default();
                format!("{}: the release is inconsistent: {first}{more}.", path.display())
            }
            Self::PackInconsistent(found) => {
                let list: Vec<String> = found.iter().map(ToString::to_string).collect();
                format!("The release is inconsistent: {}.", list.join(". "))
            }
            Self::NoBuild { wanted, .. } => format!("The release has no build '{}'.", text::sanitize(wanted)),

            Self::KeyExists { path } => format!("{}: a key of this name already exists.", path.display()),
            Self::NoKey { name } => format!("There is no key '{}' here.", text::sanitize(name)),
            Self::OtherKeyTrusted { name } => format!("Another key is already trusted as '{name}'."),
            Self::NotTrusted { name } => format!("No key is trusted as '{name}'."),

            Self::NoExample { name } => format!("There is no example '{name}'."),
            Self::NoTopic { name } => format!("There is no topic or command '{}'.", text::sanitize(name)),
            Self::Journal { reason } => format!("The journal cannot be written: {reason}."),
            Self::NoAttempt { id } => format!("The journal has no attempt '{}'.", text::sanitize(id)),
            Self::NotReadBack => "This attempt did not read back all of the content.".to_owned(),
            Self::Listen { address, error } => format!("Cannot listen on {address}: {error}."),

            Self::Port { place, error } => format!("The port of the unit at {place} cannot be used: {error}."),
            Self::NoPort { place } => format!("The unit at {place} has no serial port (CDC-ACM)."),
            Self::NoLine { words, waited } => {
                format!("No line with '{}' was printed within {}.", text::sanitize(words), duration::words(*waited))
            }
            Self::NoUnit => "No such unit is connected.".to_owned(),
            Self::SeveralUnits { count } => format!("{count} units match."),
            Self::MemoryUnknown => "The unit does not report its memory, and no product sheet describes it.".to_owned(),
            Self::ReadingsDiffer { turn, bytes, from } => {
                let count = text::count(usize::try_from(*bytes).unwrap_or(usize::MAX), "byte");
                format!("Reading {turn} differs from the first in {count}, from {from} on.")
            }
            Self::NothingReadable => "None of the file's addresses can be read from this unit.".to_owned(),
            Self::NotSound { region, reason } => {
                format!("The content of region '{region}' in the unit is invalid: {reason}.")
            }
            Self::OtherProduct { path, of, unit } => {
                format!("{} is from a {}; the unit is a {unit}.", path.display(), text::sanitize(of))
            }
            Self::ValuesNeeded { reason, .. } => {
                format!("The content of the unit is invalid ({reason}), so its per-unit fields cannot be kept.")
            }
        }
    }

    fn state(&self) -> Option<&'static str> {
        Some(match self {
            Self::FileExists { output: OutputKind::Trace, .. } => "Nothing was done.",
            Self::FileExists { .. }
            | Self::NotConverted { .. }
            | Self::Stamp { .. }
            | Self::PackInconsistent(_)
            | Self::PackInput { .. }
            | Self::UpdaterProgram { .. }
            | Self::UpdaterRelease { .. }
            | Self::NotSound { .. } => "Nothing was written.",
            Self::Download { kept: 0, .. } => "Nothing was changed in any unit.",
            Self::Download { .. } => "Nothing was changed in any unit; the transferred part is kept.",
            Self::CatalogueInput { .. } => "No catalogue was written.",
            Self::NoReleaseSelected { .. }
            | Self::Unsigned { .. }
            | Self::UnknownSigner { .. }
            | Self::RevokedKey { .. }
            | Self::WithdrawnRelease { .. }
            | Self::Catalogue { .. }
            | Self::OldCatalogue { .. }
            | Self::TwoCatalogues { .. }
            | Self::Listed { .. }
            | Self::ExpiredRelease { .. }
            | Self::Inconsistent { .. }
            | Self::Updater { .. }
            | Self::LossesNotAccepted
            | Self::NoSettings { .. } => "Nothing was changed in any unit.",
            Self::Release { .. } => "Nothing in it was used.",
            Self::Journal { .. } => "No unit was touched.",
            Self::ReadingsDiffer { .. } => "Nothing was written to a file, and nothing changed in the unit.",
            Self::NoPort { .. }
            | Self::OtherProduct { .. }
            | Self::SettingsNotSound { .. }
            | Self::ValuesNeeded { .. }
            | Self::NotMerged { .. } => "Nothing was changed in the unit.",
            _ => return None,
        })
    }

    #[allow(clippy::too_many_lines)] // a table
    fn remedy(&self) -> Option<String> {
        let sentence = match self {
            Self::Usage(_) => "'vaka help' lists the options.",
            Self::Io { .. } => "Check the path and your permissions.",
            Self::FileExists { output: OutputKind::Replaceable, .. } => "Use --replace to overwrite it.",
            Self::FileExists { output: OutputKind::New, .. } => "Name another file.",
            Self::FileExists { output: OutputKind::Trace, .. } => "Name another file for the trace.",

            Self::Config { .. } => "'vaka help config' describes it.",
            Self::Sheet { .. } => "'vaka help sheet' describes every key.",
            Self::Dialect(_) => "'vaka help dialect' describes the language.",
            Self::SheetTwice { .. } | Self::DialectTwice { .. } => "Keep one of them in the folder.",
            Self::NoSheets => {
                "Give --sheets DIR. For a DFU unit without a product sheet, '--allow no-sheet --plan' shows the possible plan."
            }
            Self::NoSheetsForRules => "Give --sheets DIR. A rule for all devices would grant too much access.",
            Self::NoPart { known, .. } if known.is_empty() => "No product has parts.",
            Self::NoPart { known, .. } => return Some(format!("Existing parts: {}.", known.join(", "))),
            Self::NotTransferable { .. } | Self::NotTransferableHere { .. } => {
                "Add `[variant.region.transferable]` to it; see 'vaka help sheet'."
            }

            Self::File { error: ReadError::NoAddress, .. } => "Give --at ADDRESS.",
            Self::File { error: ReadError::Several(_) | ReadError::NotThere(_), .. } | Self::SeveralImages { .. } => {
                "Choose one with --from-family ID or --from-target N."
            }
            Self::NoAddress { starts, .. } => return Some(format!("Give --at ADDRESS. {}", starts.join("; "))),
            Self::NoFormat { .. } => "Give --to bin, hex, srec, uf2, dfu or dfu-addressed.",
            Self::Gaps { .. } => "Fill them, such as with --fill 0xFF, or cut the image with --range.",
            Self::NoStampText { .. } => "Give --product, --for, --version and so on to append one.",
            Self::OtherStamp { .. } => {
                "Omit the fields to seal the existing stamp, or change it where the firmware is built."
            }

            Self::NoReleaseSelected { .. } => {
                "Select one with --version V, --before DATE, --known-good or --channel NAME, or give its file."
            }
            Self::NoReleaseIn { .. } => "Give a firmware file, a release, or a folder of releases.",
            Self::NoUsableRelease { .. } => "Give the file of one release to see how it can be used.",
            Self::Release { .. } => "Do not use this file; download it again from its source.",
            Self::Unsigned { consent } => {
                return Some(format!("Ask for a signed release. To use it anyway: --allow {consent}."));
            }
            Self::UnknownSigner { consent, product, .. } => {
                return Some(format!(
                    "If the publisher confirms that this is their key: vaka keys trust FILE --for {product}. To use it anyway: --allow {consent}."
                ));
            }
            Self::WithdrawnRelease { consent, .. } => {
                return Some(format!("Use another release. To use it anyway: --allow {consent}."));
            }
            Self::NoCatalogue { .. } => "'vaka catalogue make DIR' makes one; 'vaka help catalogue' explains it.",
            Self::Catalogue { .. } => "Ask its publisher; 'vaka help catalogue' describes the file.",
            Self::OldCatalogue { .. } => {
                "A server may hide newer releases or withdrawals. Get the newest catalogue from its publisher."
            }
            Self::TwoCatalogues { .. } => "Ask its publisher: a changed catalogue must have a higher number.",
            Self::SeenCatalogues { .. } => {
                "It tells which catalogues are old, so none is used without it. Restore it, or delete it if you accept any catalogue once."
            }
            Self::Listed { .. } => "Do not use this file; get it again from its publisher.",
            Self::Download { kept: 0, .. } => "Check the address and the connection.",
            Self::Download { .. } => "The same command continues where it ended.",
            Self::CatalogueInput { .. } => "'vaka help catalogue' describes it.",
            Self::Statements { .. } => {
                "It tells which keys are revoked, so no release is used without it. Restore it, or delete it and review 'vaka keys list'."
            }
            Self::RevokedKey { .. } => "Ask the publisher for a release that is signed by another key.",
            Self::ExpiredRelease { consent, .. } => {
                return Some(format!("Ask for a newer release. To use it anyway: --allow {consent}."));
            }
            Self::NoSheetInRelease { .. } => "Give --sheets DIR.",
            Self::Inconsistent { .. } => "'vaka check FILE' lists all inconsistencies; ask for a corrected release.",
            Self::PackInconsistent(_) => {
                "Use the images that were built for these variants, or correct the description or the product sheet."
            }
            Self::PackInput { .. } => "'vaka help release' describes every key.",
            Self::SameDate { .. } => "Give the file itself.",
            Self::Updater { .. } => "Get the file again from the place where you found it.",
            Self::UpdaterProgram { .. } => "Give the program file of this version of Vaka, as it was built.",
            Self::NoBuild { builds, .. } => return Some(format!("Existing builds: {}.", builds.join(", "))),

            Self::KeyExists { .. } => "Choose another name; an overwritten key cannot be recovered.",
            Self::Key { .. } => {
                "'vaka keys new NAME' creates a key pair; so does 'openssl genpkey -algorithm ed25519'."
            }
            Self::NoKey { .. } | Self::NotTrusted { .. } => "'vaka keys list' lists the keys.",
            Self::OtherKeyTrusted { .. } => "Give this one another name with --name.",

            Self::NoExample { .. } => "'vaka demo --list' lists them.",
            Self::NoTopic { .. } => "'vaka help' lists the topics and commands.",
            Self::Journal { .. } => "Give this user a writable state folder (XDG_STATE_HOME).",
            Self::NoAttempt { .. } => "'vaka journal' lists them.",
            Self::NotReadBack => "Only content that was read back can be attested.",
            Self::Opaque { .. } => "'vaka check' shows what its header says.",
            Self::Steps { .. } => "'vaka dialect show' lists the operations and exchanges.",
            Self::MayChange { .. } => "Allow it with --allow change-unit; a wrong exchange can make the unit unusable.",
            Self::Exchange { error: SessionError::SecretMissing { name, .. }, .. } => {
                return Some(format!("Give a file with it: --secret {name}=FILE; or run the command at a terminal."));
            }
            Self::Exchange { error: SessionError::Dialect { .. }, .. } => {
                "A value may come from an operation that runs before, such as identify."
            }
            Self::Exchange { .. } => "'--trace FILE' records what was transferred.",
            Self::Replay { .. } => "Record one with: vaka update FILE --trace RUN.trace",

            Self::Port { .. } => "'vaka diagnose' shows the program that uses it or the missing permission.",
            Self::NoPort { .. } => "'vaka survey' describes it.",
            Self::NoLine { .. } => "--within allows more time; the lines received are above.",
            Self::NoUnit => "'vaka survey' lists the connected units.",
            Self::SeveralUnits { .. } => "Choose one with --unit port=…; 'vaka survey' lists them.",
            Self::MemoryUnknown => "Give --range A..B.",
            Self::ReadingsDiffer { .. } => {
                "Try another cable and port; if it fails again, the unit's memory is failing."
            }
            Self::NothingReadable => "Compare them with the memory in 'vaka survey'.",
            Self::NotSound { .. } => "'vaka read --region' reads it unchecked.",
            Self::SettingsNotSound { .. } => "Use another file: this one is invalid.",
            Self::ValuesNeeded { names, .. } => {
                let options: Vec<String> = names.iter().map(|name| format!("--set {name}=VALUE")).collect();
                return Some(format!("Give them: {}.", options.join(" ")));
            }
            _ => return None,
        };
        Some(sentence.to_owned())
    }
}
