//! `vaka catalogue`: the signed list of a folder of releases.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jiff::civil::Date;
use serde_json::json;
use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_core::event::ExitCode;
use vaka_core::release::catalogue::{
    Catalogue, CatalogueError, FILE, FORMAT, ListedRelease, MOST_BYTES, SignedCatalogue, Withdrawal,
};
use vaka_core::release::statement::WrittenStatement;

use super::{print_line, print_result};
use crate::args::{CatalogueCommand, Common, MakeCatalogue, OutputFormat, Place, Signing, Withdraw};
use crate::catalogue;
use crate::cli_error::{CliError, Outcome};
use crate::output_file::{self, Existing};
use crate::output_options::OutputOptions;
use crate::{environment, input_file, keyring, release_store};
use vaka_messages::CommandError;

pub fn run(command: &CatalogueCommand, common: &Common, setting: &OutputOptions) -> Outcome {
    match command {
        CatalogueCommand::Make(args) => make(args, setting),
        CatalogueCommand::Check { place } => check(place, common, setting),
        CatalogueCommand::Show { place } => show(place, setting),
        CatalogueCommand::Withdraw(args) => withdraw(args, setting),
    }
}

fn wrong(path: &Path, reason: impl Into<String>) -> CliError {
    CommandError::CatalogueInput { path: path.to_owned(), reason: reason.into() }.into()
}

fn invalid(place: &dyn std::fmt::Display, error: &CatalogueError) -> CliError {
    CommandError::Catalogue { place: place.to_string(), reason: error.to_string() }.into()
}

/// The present catalogue of a folder, if it has one.
fn present(folder: &Path) -> Result<Option<SignedCatalogue>, CliError> {
    let path = folder.join(FILE);
    if !path.exists() {
        return Ok(None);
    }
    let bytes = input_file::bytes(&path, MOST_BYTES).map_err(|error| CliError::file(&path, error))?;
    Catalogue::open(bytes).map(Some).map_err(|error| invalid(&folder.display(), &error))
}

fn make(args: &MakeCatalogue, setting: &OutputOptions) -> Outcome {
    let folder = &args.folder;
    let before = present(folder)?.map(|signed| signed.list);
    let mut releases = listed(folder, setting.format)?;
    let left_out = keep_withdrawals(folder, &mut releases, before.as_ref())?;
    if releases.is_empty() {
        return Err(CommandError::NoReleaseIn { path: folder.clone(), ending: release_store::ENDING }.into());
    }
    let last = before.as_ref().map_or(0, |list| list.number);
    let number = args.number.unwrap_or(last + 1);
    if number <= last {
        return Err(wrong(folder, format!("the number of a catalogue grows: the present one is {last}")));
    }
    let keys = args.statement.iter().map(|path| statement(path)).collect::<Result<Vec<_>, _>>()?;
    let keys = keys.into_iter().chain(before.map(|list| list.keys).unwrap_or_default());
    let mut list = dated(number, &args.signing, releases);
    for key in keys {
        if !list.keys.contains(&key) {
            list.keys.push(key);
        }
    }
    store(folder, &list, &args.signing)?;
    for file in left_out {
        print_result(setting.format, &json!({ "event": "left-out", "file": file }), || {
            print_line(&format!("{file}: not in the folder any more, so it is not listed."));
        });
    }
    tell(folder, &list, setting.format);
    Ok(ExitCode::Done)
}

/// An empty catalogue of today with these releases.
fn dated(number: u64, signing: &Signing, releases: Vec<ListedRelease>) -> Catalogue {
    let today = jiff::Zoned::now().date();
    let last = today.saturating_add(jiff::Span::new().days(i64::from(signing.fresh_for)));
    let (date, fresh_until) = (today.to_string(), Date::to_string(&last));
    Catalogue { catalogue: FORMAT, number, date, fresh_until, keys: Vec::new(), releases }
}

fn statement(path: &Path) -> Result<WrittenStatement, CliError> {
    let content = input_file::text(path)?;
    serde_json::from_str(&content).map_err(|error| wrong(path, text::sanitize(&error.to_string())))
}

/// The releases of a folder. Each must be whole, signed and consistent.
fn listed(folder: &Path, format: OutputFormat) -> Result<Vec<ListedRelease>, CliError> {
    let is_release = |path: &Path| path.extension().is_some_and(|ending| ending == release_store::ENDING);
    let mut releases = Vec::new();
    let mut versions: BTreeMap<(String, String, String), PathBuf> = BTreeMap::new();
    for path in input_file::in_folder(folder, &is_release)? {
        let release = release_store::read(&path)?;
        let Some(signer) = &release.signer else {
            return Err(wrong(&path, "the release is not signed; its users need a signature on each"));
        };
        let sheet = release_store::sheet(&release, &path, Vec::new())?;
        release_store::check_consistency(&release, &sheet, &path)?;
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let listed = ListedRelease::of(&release, name.clone(), environment::unit_ids(&sheet))
            .map_err(|error| wrong(&path, error.to_string()))?;
        let version = (listed.product.clone(), listed.version.clone(), listed.channel.clone());
        if let Some(other) = versions.insert(version, path.clone()) {
            let reason = format!("{} has the same product, version and channel", other.display());
            return Err(wrong(&path, reason));
        }
        if format == OutputFormat::Text {
            print_line(&format!(
                "{name}: {} {} ({}), signed by key {signer}",
                listed.product, listed.version, listed.channel
            ));
        }
        releases.push(listed);
    }
    Ok(releases)
}

/// Keeps what the present catalogue says of withdrawn releases, also of those whose files are gone. Returns the other
/// files that are gone.
fn keep_withdrawals(
    folder: &Path,
    releases: &mut Vec<ListedRelease>,
    before: Option<&Catalogue>,
) -> Result<Vec<String>, CliError> {
    let mut gone = Vec::new();
    for old in before.into_iter().flat_map(|list| &list.releases) {
        let has_file = releases.iter().any(|new| new.file == old.file);
        match releases.iter_mut().find(|new| new.sha256 == old.sha256) {
            Some(new) => new.withdrawn.clone_from(&old.withdrawn),
            None if has_file && old.withdrawn.is_some() => {
                let reason = "a withdrawn release has this file name and another content; name the new file otherwise";
                return Err(wrong(&folder.join(&old.file), reason));
            }
            None if has_file => {}
            None if old.withdrawn.is_some() => releases.push(old.clone()),
            None => gone.push(old.file.clone()),
        }
    }
    releases.sort_by(|a, b| (&a.product, &a.file).cmp(&(&b.product, &b.file)));
    Ok(gone)
}

fn store(folder: &Path, list: &Catalogue, signing: &Signing) -> Result<(), CliError> {
    let key = keyring::private(&signing.key)?;
    let bytes = list.write(&key).map_err(|error| invalid(&folder.display(), &error))?;
    // The result is verified in the same way as by its users.
    Catalogue::open(bytes.clone()).map_err(|error| invalid(&folder.display(), &error))?;
    let path = folder.join(FILE);
    output_file::write(&path, Existing::Replace, &[&bytes]).map_err(|error| CliError::file(&path, error))
}

fn tell(folder: &Path, list: &Catalogue, format: OutputFormat) {
    let path = folder.join(FILE);
    let withdrawn = list.releases.iter().filter(|listed| listed.withdrawn.is_some()).count();
    let event = json!({
        "event": "catalogue",
        "file": path,
        "number": list.number,
        "date": list.date,
        "fresh_until": list.fresh_until,
        "releases": list.releases.len(),
        "withdrawn": withdrawn,
    });
    print_result(format, &event, || {
        let count = text::count(list.releases.len(), "release");
        let withdrawn = if withdrawn == 0 { String::new() } else { format!(", {withdrawn} of them withdrawn") };
        print_line(&format!("{}: catalogue {} with {count}{withdrawn}", path.display(), list.number));
        print_line(&format!(
            "Upload the folder, the catalogue last. Make it again before {}, or its users are told that it is stale.",
            list.fresh_until
        ));
    });
}

fn withdraw(args: &Withdraw, setting: &OutputOptions) -> Outcome {
    let folder = &args.folder;
    let place = folder.display().to_string();
    let before = present(folder)?.ok_or(CommandError::NoCatalogue { place })?.list;
    let mut list = dated(before.number + 1, &args.signing, before.releases);
    list.keys = before.keys;
    let is_meant = |listed: &ListedRelease| {
        args.product.as_ref().is_none_or(|product| *product == listed.product)
            && (listed.version == args.version || listed.file == args.version)
    };
    let all: Vec<String> =
        list.releases.iter().map(|listed| format!("{} {}", listed.product, listed.version)).collect();
    let withdrawal = args.why.clone().map(|why| Withdrawal { date: list.date.clone(), why });
    let mut meant: Vec<&mut ListedRelease> = list.releases.iter_mut().filter(|listed| is_meant(listed)).collect();
    match &mut meant[..] {
        [only] => only.withdrawn = withdrawal,
        [] => return Err(CommandError::NotListed { wanted: args.version.clone(), listed: all }.into()),
        _ => {
            let files: Vec<&str> = meant.iter().map(|listed| listed.file.as_str()).collect();
            return Err(CliError::usage(format!(
                "Several releases match; give the file of one: {}.",
                files.join(", ")
            )));
        }
    }
    store(folder, &list, &args.signing)?;
    tell(folder, &list, setting.format);
    Ok(ExitCode::Done)
}

/// A file, compared with the catalogue.
enum Comparison {
    AsListed,
    /// The release is withdrawn: its file may be removed, so it is not read.
    Withdrawn,
    Wrong(String),
}

impl Comparison {
    fn of(place: &Place, listed: &ListedRelease, common: &Common) -> Result<Self, CliError> {
        if listed.withdrawn.is_some() {
            return Ok(Self::Withdrawn);
        }
        match check_release(place, listed, common) {
            Ok(()) => Ok(Self::AsListed),
            Err(error) if error.code() == ExitCode::Stopped => Err(error),
            Err(error) => Ok(Self::Wrong(error.0.message)),
        }
    }
}

fn check(place: &Place, common: &Common, setting: &OutputOptions) -> Outcome {
    let signed = catalogue::read(place)?;
    let list = &signed.list;
    let mut found = Vec::new();
    if list.is_stale(&keyring::today()) {
        let fault = format!("stale: it was made to last until {}", list.fresh_until);
        found.push((FILE, Comparison::Wrong(fault)));
    }
    for listed in &list.releases {
        found.push((listed.file.as_str(), Comparison::of(place, listed, common)?));
    }
    if setting.format == OutputFormat::Text {
        describe(place, &signed)?;
    }
    for (file, comparison) in &found {
        let (state, fault) = match comparison {
            Comparison::AsListed => ("as-listed", None),
            Comparison::Withdrawn => ("withdrawn", None),
            Comparison::Wrong(fault) => ("wrong", Some(fault)),
        };
        let event = json!({ "event": "catalogue-check", "file": file, "state": state, "fault": fault });
        print_result(setting.format, &event, || match comparison {
            Comparison::AsListed => print_line(&format!("  {file}: as listed")),
            Comparison::Withdrawn => print_line(&format!("  {file}: withdrawn, so its file is not read")),
            Comparison::Wrong(fault) => print_line(&format!("  {file}: WRONG: {fault}")),
        });
    }
    let is_wrong = found.iter().any(|(_, comparison)| matches!(comparison, Comparison::Wrong(_)));
    Ok(if is_wrong { ExitCode::File } else { ExitCode::Done })
}

/// Checks that a release is the listed one.
fn check_release(place: &Place, listed: &ListedRelease, common: &Common) -> Result<(), CliError> {
    let path = catalogue::obtain_now(place, listed, common)?;
    let release = release_store::read(&path)?;
    let sheet = release_store::sheet(&release, &path, Vec::new())?;
    let reason = match ListedRelease::of(&release, listed.file.clone(), environment::unit_ids(&sheet)) {
        Ok(stated) if stated == *listed => return Ok(()),
        Ok(_) => "the release states other things than the catalogue".to_owned(),
        Err(error) => error.to_string(),
    };
    Err(CommandError::Listed { path, reason }.into())
}

/// Prints the catalogue in one block.
fn describe(place: &Place, signed: &SignedCatalogue) -> Result<(), CliError> {
    let SignedCatalogue { list, signer, .. } = signed;
    let known = keyring::all()?.into_iter().find(|known| known.key == *signer);
    let trust = match &known {
        Some(known) if known.revoked.is_some() => "REVOKED".to_owned(),
        Some(known) => {
            let (yes, no): (Vec<&str>, Vec<&str>) =
                list.products().into_iter().partition(|product| known.is_for(product));
            let no = if no.is_empty() { String::new() } else { format!("; NOT TRUSTED for {}", no.join(", ")) };
            let yes = if yes.is_empty() { String::new() } else { format!(", trusted for {}", yes.join(", ")) };
            format!("{}{yes}{no}", known.name)
        }
        None => "NOT TRUSTED here".to_owned(),
    };
    print_line(&format!("{place}: catalogue {} of {}", list.number, list.date));
    print_line(&format!("  signed by key {signer} ({trust}); the signature is valid"));
    let stale = if list.is_stale(&keyring::today()) { ", so it is STALE" } else { "" };
    print_line(&format!("  complete until {}{stale}", list.fresh_until));
    Ok(())
}

fn show(place: &Place, setting: &OutputOptions) -> Outcome {
    let signed = catalogue::read(place)?;
    let event = json!({ "event": "catalogue-list", "from": place.to_string(), "list": signed.list, "signer": signed.signer.to_string() });
    if setting.format == OutputFormat::Json {
        print_result(setting.format, &event, || {});
        return Ok(ExitCode::Done);
    }
    describe(place, &signed)?;
    signed.list.releases.iter().for_each(print_release);
    Ok(ExitCode::Done)
}

fn print_release(listed: &ListedRelease) {
    let ListedRelease { product, version, date, channel, file, .. } = listed;
    print_line(&format!("\n{product} {version} of {date}, channel {channel}: {file}, {}", Bytes(listed.size)));
    let line = |name: &str, value: &str| print_line(&format!("  {name:<10}{value}"));
    if let Some(withdrawn) = &listed.withdrawn {
        line("WITHDRAWN", &format!("on {}: {}", withdrawn.date, withdrawn.why));
    }
    line("variants", &listed.variants.join(", "));
    line("ids", &listed.ids.join(", "));
    if let Some(oldest) = &listed.updates_from {
        line("updates", &format!("units of version {oldest} and newer"));
    }
    if let Some(needs) = &listed.needs_vaka {
        line("needs", &format!("Vaka {needs} or newer"));
    }
    if let Some(expires) = &listed.expires {
        line("expires", &format!("after {expires}"));
    }
    for loss in &listed.loses {
        line("loses", &format!("{} (--allow lose-{})", loss.what, loss.id));
    }
    for (index, note) in listed.notes.iter().enumerate() {
        line(if index == 0 { "notes" } else { "" }, note);
    }
    line("SHA-256", &listed.sha256);
}
