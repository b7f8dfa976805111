//! `vaka pack`: a release from a description.

use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::Deserialize;
use serde_json::json;
use vaka_base::document;
use vaka_base::size::Bytes;
use vaka_base::text;
use vaka_core::event::ExitCode;
use vaka_core::release::manifest::{Entry, ExternalStep, FORMAT, File, Loss, Manifest, STANDARD, Stage};
use vaka_core::release::statement::WrittenStatement;
use vaka_core::release::{Release, inconsistencies};
use vaka_image::address::Address;

use super::{print_line, print_result};
use crate::args::Pack;
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::files;
use crate::input_file;
use crate::origin;
use crate::output_options::OutputOptions;
use crate::{keyring, output_file, release_store, updater};
use vaka_messages::CommandError;

/// The description file of a release.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Description {
    release: u32,
    product: String,
    version: String,
    date: String,
    channel: String,
    expires: Option<String>,
    /// Files of statements about keys.
    #[serde(default)]
    keys: Vec<PathBuf>,
    needs_vaka: Option<String>,
    updates_from: Option<String>,
    /// A text file.
    notes: Option<PathBuf>,
    sheets: Vec<PathBuf>,
    #[serde(default)]
    loses: Vec<Loss>,
    #[serde(default)]
    stage: Vec<RawStage>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawStage {
    name: String,
    stage: Option<String>,
    external: Option<ExternalStep>,
    #[serde(default)]
    image: Vec<RawImage>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawImage {
    file: Option<PathBuf>,
    /// Start address of a raw binary.
    at: Option<Address>,
    /// The region at whose start a raw binary begins.
    region: Option<String>,
    /// Several files in place of `file`, each with an address.
    #[serde(default)]
    files: Vec<RawFile>,
    part: Option<String>,
    variants: Vec<String>,
    build: Option<String>,
    #[serde(default)]
    facts: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawFile {
    file: PathBuf,
    at: Option<Address>,
    region: Option<String>,
}

pub fn run(args: &Pack, setting: &OutputOptions) -> Outcome {
    if let Some(updater) = &args.updater {
        files::may_store(updater, args.replace)?;
    }
    let is_packed = release_store::is_release(&args.description);
    let packed = if is_packed { existing(args)? } else { pack(args)? };
    // Nothing is written unless all can be made.
    let updater = args.updater.as_ref().map(|path| Ok::<_, CliError>((path, updater(args, &packed)?))).transpose()?;
    if !is_packed {
        files::store(&packed.path, args.replace, &[&packed.bytes])?;
    }
    if let Some((path, bytes)) = &updater {
        files::store(path, args.replace, &[bytes])?;
        output_file::make_executable(path).map_err(|error| CliError::file(path, error))?;
    }
    let updater = updater.map(|(path, bytes)| (path, bytes.len()));
    let signer = packed.release.signer.as_ref().map(ToString::to_string);
    let manifest = &packed.release.manifest;
    let event = json!({
        "event": "packed",
        "file": packed.path,
        "product": manifest.product,
        "version": manifest.version,
        "channel": manifest.channel,
        "size": packed.bytes.len(),
        "signer": signer,
        "updater": updater.map(|(path, _)| path),
        "updater_size": updater.map(|(_, size)| size),
    });
    print_result(setting.format, &event, || {
        tell(&packed.path, &packed.release, packed.bytes.len());
        if let Some((path, size)) = updater {
            print_line(&format!("{}: updater with this release, {}", path.display(), Bytes(size as u64)));
            print_line(
                "Its users need nothing else: they start it and follow it. Give them its SHA-256 by another way.",
            );
        }
    });
    Ok(ExitCode::Done)
}

/// A release, with its file.
struct Packed {
    path: PathBuf,
    release: Release,
    bytes: Vec<u8>,
}

/// A release that was packed before.
fn existing(args: &Pack) -> Result<Packed, CliError> {
    let path = args.description.clone();
    if args.updater.is_none() || args.out.is_some() || args.key.is_some() {
        let reason = "this is a release already; --updater FILE makes an updater of it, and it stays as it is";
        return Err(wrong(&path, reason));
    }
    let bytes = input_file::firmware(&path)?;
    let release = opened(&path, &bytes)?;
    let sheet = release_store::sheet(&release, &path, Vec::new())?;
    release_store::check_consistency(&release, &sheet, &path)?;
    Ok(Packed { path, release, bytes })
}

fn opened(path: &Path, bytes: &[u8]) -> Result<Release, CliError> {
    Release::open(Arc::new(bytes.to_vec()), origin::VERSION).map_err(|error| wrong(path, &error.to_string()))
}

/// The updater with a release. Its users have no keys and no other programs.
fn updater(args: &Pack, packed: &Packed) -> Result<Vec<u8>, CliError> {
    let unusable = |reason: String| CommandError::UpdaterRelease { path: packed.path.clone(), reason };
    if packed.release.signer.is_none() {
        return Err(unusable("an updater needs a signed release: --key KEY signs it".to_owned()).into());
    }
    let mut stages = packed.release.manifest.stages.iter();
    if let Some(external) = stages.find_map(|stage| stage.external.as_ref()) {
        let reason = format!("its users do not have the program '{}', which a stage needs", external.tool);
        return Err(unusable(reason).into());
    }
    let (from, program) = match &args.program {
        Some(from) => (from.clone(), input_file::firmware(from)?),
        None => {
            let internal = |error: std::io::Error| CliError::internal(format!("This program cannot be read: {error}."));
            let (from, mut file) = updater::this_program().map_err(internal)?;
            let mut program = Vec::new();
            file.read_to_end(&mut program).map_err(internal)?;
            (from, program)
        }
    };
    let filled = updater::filled(program, &packed.bytes);
    filled.map_err(|reason| CommandError::UpdaterProgram { path: from, reason }.into())
}

/// Packs a release as its description says.
fn pack(args: &Pack) -> Result<Packed, CliError> {
    let path = &args.description;
    let described = input_file::text(path)?;
    let description: Description =
        document::read(&described).map_err(|errors| wrong(path, &document::by_line(&described, &errors)))?;
    if description.release != FORMAT {
        return Err(wrong(
            path,
            &format!("release = {} is not supported; this Vaka writes format {FORMAT}", description.release),
        ));
    }
    let out = args.out.clone().unwrap_or_else(|| {
        PathBuf::from(format!("{}-{}.{}", description.product, description.version, release_store::ENDING))
    });
    files::may_store(&out, args.replace)?;
    let key = args.key.as_deref().map(keyring::private).transpose()?;
    let mut packing = Packing { folder: path.parent().unwrap_or(Path::new("")), members: BTreeMap::new() };
    let manifest = packing.manifest(description)?;
    let refused = |error: vaka_core::release::ReleaseError| wrong(path, &error.to_string());
    let bytes = Release::write(manifest, &packing.members, key.as_ref()).map_err(refused)?;
    // The result is verified in the same way as by its recipients.
    let release = opened(path, &bytes)?;
    let sheet = release_store::sheet(&release, &out, Vec::new())?;
    let found = inconsistencies(&release, &sheet);
    if !found.is_empty() {
        return Err(CommandError::PackInconsistent(found).into());
    }
    Ok(Packed { path: out, release, bytes })
}

fn tell(out: &Path, release: &Release, size: usize) {
    let manifest = &release.manifest;
    let by = release.signer.as_ref().map_or("NOT SIGNED".to_owned(), |key| format!("signed by key {key}"));
    print_line(&format!(
        "{}: release {} {} ({}), {}, {by}",
        out.display(),
        manifest.product,
        manifest.version,
        manifest.channel,
        Bytes(size as u64)
    ));
    for (number, stage) in (1..).zip(&manifest.stages) {
        for entry in &stage.images {
            let files: Vec<&str> = entry.files.iter().map(|file| file.file.as_str()).collect();
            let by = stage.external.as_ref().map(|external| format!(", by {}", external.tool)).unwrap_or_default();
            let build = if entry.build == STANDARD { String::new() } else { format!(", build {}", entry.build) };
            print_line(&format!(
                "  stage {number}, {}: {} for {}{build}{by}: fits",
                stage.name,
                files.join(" and "),
                entry.variants.join(", ")
            ));
        }
    }
    if release.signer.is_none() {
        print_line("Recipients must explicitly accept an unsigned release; --key NAME signs it.");
    }
}

struct Packing<'a> {
    folder: &'a Path,
    members: BTreeMap<String, Vec<u8>>,
}

impl Packing<'_> {
    fn manifest(&mut self, raw: Description) -> Result<Manifest, CliError> {
        let notes = raw.notes.as_ref().map(|path| self.add("", path)).transpose()?;
        let sheets = raw.sheets.iter().map(|path| self.add("sheets/", path)).collect::<Result<Vec<_>, _>>()?;
        let keys = raw.keys.iter().map(|path| self.statement(path)).collect::<Result<Vec<_>, _>>()?;
        let stages = raw.stage.into_iter().map(|stage| self.stage(stage)).collect::<Result<Vec<_>, _>>()?;
        Ok(Manifest {
            release: FORMAT,
            product: raw.product,
            version: raw.version,
            date: raw.date,
            channel: raw.channel,
            expires: raw.expires,
            keys,
            needs_vaka: raw.needs_vaka,
            updates_from: raw.updates_from,
            notes,
            loses: raw.loses,
            sheets,
            stages,
            members: BTreeMap::new(),
        })
    }

    /// A statement about a key, as `vaka keys revoke` writes it.
    fn statement(&self, path: &Path) -> Result<WrittenStatement, CliError> {
        let path = self.folder.join(path);
        let text = input_file::text(&path)?;
        serde_json::from_str(&text).map_err(|error| wrong(&path, &text::sanitize(&error.to_string())))
    }

    fn stage(&mut self, raw: RawStage) -> Result<Stage, CliError> {
        let images = raw.image.into_iter().map(|image| self.entry(image)).collect::<Result<Vec<_>, _>>()?;
        Ok(Stage { name: raw.name, stage: raw.stage, external: raw.external, images })
    }

    fn entry(&mut self, raw: RawImage) -> Result<Entry, CliError> {
        if raw.file.is_none() && (raw.at.is_some() || raw.region.is_some()) {
            return Err(wrong(
                self.folder,
                "`at` and `region` of an image belong to `file`; of `files`, each has its own",
            ));
        }
        let one = raw.file.map(|file| RawFile { file, at: raw.at, region: raw.region });
        let files = one.into_iter().chain(raw.files);
        let file = |raw: RawFile| {
            Ok::<_, CliError>(File { file: self.add("images/", &raw.file)?, at: raw.at, region: raw.region })
        };
        Ok(Entry {
            part: raw.part,
            variants: raw.variants,
            build: raw.build.unwrap_or_else(|| STANDARD.to_owned()),
            files: files.map(file).collect::<Result<_, _>>()?,
            facts: raw.facts,
        })
    }

    /// Adds a file under its own name. Two different files must not have the same name.
    fn add(&mut self, folder: &str, path: &Path) -> Result<String, CliError> {
        let from = self.folder.join(path);
        let bytes = input_file::firmware(&from)?;
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let name = format!("{folder}{name}");
        match self.members.get(&name) {
            Some(other) if *other != bytes => {
                Err(wrong(&from, "another file in this release has the same name and different content"))
            }
            _ => {
                self.members.insert(name.clone(), bytes);
                Ok(name)
            }
        }
    }
}

fn wrong(path: &Path, what: &str) -> CliError {
    CommandError::PackInput { path: path.to_owned(), reason: what.to_owned() }.into()
}
