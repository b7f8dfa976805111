//! The firmware files of an update, as the user names them: `FILE`, or `PLACE=FILE` with the region or
//! the address of a raw binary.

use std::path::{Path, PathBuf};

use vaka_boot::update::Request;
use vaka_core::input::InputFile;
use vaka_core::sheet::Sheet;
use vaka_image::ReadOptions;
use vaka_image::address::Address;

use crate::args::Common;
use crate::attempt;
use crate::cli_error::CliError;
use crate::environment;
use crate::input_file;
use crate::journal::StartRecord;
use vaka_messages::CommandError;

/// The files as they were read.
pub struct ReadFiles(Vec<ReadFile>);

struct ReadFile {
    path: PathBuf,
    bytes: Vec<u8>,
    /// Options for the content, without an address that a header gives.
    options: ReadOptions,
    region: Option<String>,
}

/// The files of an update.
pub struct UpdateFiles(Vec<(InputFile, ReadFile)>);

/// Where a raw binary begins.
enum Place {
    Region(String),
    Address(Address),
}

impl ReadFiles {
    /// Reads the files. `options` select an image of the only file.
    ///
    /// # Errors
    /// A file cannot be read, or options for one file are given with several.
    pub fn read(args: &[PathBuf], options: ReadOptions) -> Result<Self, CliError> {
        let is_several = args.len() > 1;
        if is_several && (options.at.is_some() || options.family.is_some() || options.target.is_some()) {
            let text = "--at, --from-family and --from-target apply to a single file. Write PLACE=FILE for each raw binary, with a region or an address.";
            return Err(CommandError::Usage(text.to_owned()).into());
        }
        let one = |arg: &PathBuf| {
            let (place, path) = placed(arg);
            let (region, at) = match place {
                Some(Place::Region(name)) => (Some(name), None),
                Some(Place::Address(at)) => (None, Some(at)),
                None => (None, None),
            };
            let options = ReadOptions { at: at.or(options.at), ..options };
            Ok(ReadFile { bytes: input_file::firmware(&path)?, path, options, region })
        };
        args.iter().map(one).collect::<Result<_, CliError>>().map(Self)
    }

    /// The files without the makers' wrappers.
    ///
    /// # Errors
    /// A wrapper is damaged.
    pub fn opened(self, sheets: &[Sheet], common: &Common) -> Result<UpdateFiles, CliError> {
        let one = |read: ReadFile| {
            let mut options = read.options;
            let opened = environment::unwrapped(&read.path, &read.bytes, sheets, &mut options)?;
            let file = environment::file_of(&opened, &read.path, sheets, common);
            let name = read.path.file_name().map(|name| name.to_string_lossy().into_owned());
            Ok((InputFile { file, name, options, region: read.region.clone() }, read))
        };
        self.0.into_iter().map(one).collect::<Result<_, CliError>>().map(UpdateFiles)
    }
}

impl UpdateFiles {
    /// A request with these files.
    pub fn requested<'r>(&self, request: Request<'r>) -> Request<'r> {
        Request { files: self.0.iter().map(|(input, _)| input.clone()).collect(), ..request }
    }

    /// The start record of an attempt.
    pub fn begun(&self, common: &Common) -> StartRecord {
        let record = |(input, read): &(InputFile, ReadFile)| {
            let content = attempt::content(&input.file, read.options);
            attempt::file(&read.path, &read.bytes, content.as_ref())
        };
        let mut records = self.0.iter().map(record);
        attempt::begun(records.next().unwrap_or_default(), records.collect(), common)
    }
}

/// The path in an argument.
pub fn path(arg: &Path) -> PathBuf {
    placed(arg).1
}

/// The place and the path of an argument. A file whose own name has the form of one needs none.
fn placed(arg: &Path) -> (Option<Place>, PathBuf) {
    let plain = || (None, arg.to_owned());
    let Some((place, path)) = arg.to_str().and_then(|text| text.split_once('=')).filter(|_| !arg.exists()) else {
        return plain();
    };
    let is_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    match place.parse::<Address>() {
        Ok(at) => (Some(Place::Address(at)), path.into()),
        Err(_) if !place.is_empty() && place.chars().all(is_name) => {
            (Some(Place::Region(place.to_owned())), path.into())
        }
        Err(_) => plain(),
    }
}
