//! `vaka guide`: how to update a product, for people who do not know this program.

use std::collections::BTreeMap;
use std::path::Path;

use base64ct::{Base64, Encoding};
use vaka_core::event::ExitCode;
use vaka_core::release::Release;
use vaka_core::sheet::Sheet;

use super::print_raw;
use crate::args::{Common, Guide};
use crate::cli_error::{CliError, Outcome};
use crate::environment::announce;
use crate::guide::{Content, Subject, markdown, page, plain};
use crate::{files, input_file, release_store, simulated};
use vaka_messages::CommandError;

/// Largest picture in bytes.
const MOST_PICTURE: u64 = 8 << 20;

/// The formats of pictures: the first bytes and the media type.
const PICTURES: [(&[u8], &str); 3] =
    [(b"\x89PNG\r\n\x1a\n", "image/png"), (b"\xFF\xD8\xFF", "image/jpeg"), (b"GIF8", "image/gif")];

/// The form of a guide.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    Page,
    Markdown,
    Plain,
}

pub fn run(args: &Guide, common: &Common) -> Outcome {
    let form = args.out.as_deref().map_or(Ok(Form::Plain), form)?;
    if let Some(out) = &args.out {
        files::may_store(out, args.replace)?;
    }
    let release = release_store::is_release(&args.file).then(|| release_store::read(&args.file)).transpose()?;
    if let Some(release) = &release {
        release_store::build(release, &args.build)?;
    }
    let content = content(args, common, release.as_ref())?;
    let text = match form {
        Form::Page => page(&content, &pictures(args, &content)?),
        Form::Markdown => markdown(&content),
        Form::Plain => plain(&content),
    };
    match &args.out {
        Some(out) => {
            files::store(out, args.replace, &[text.as_bytes()])?;
            announce(common, format!("Guide: {}", out.display()));
        }
        None => print_raw(&text),
    }
    Ok(ExitCode::Done)
}

fn form(out: &Path) -> Result<Form, CliError> {
    match out.extension().and_then(|extension| extension.to_str()) {
        Some("html" | "htm") => Ok(Form::Page),
        Some("md") => Ok(Form::Markdown),
        Some("txt") => Ok(Form::Plain),
        _ => {
            Err(CommandError::Usage(format!("--out {}: the extension must be .html, .md or .txt", out.display()))
                .into())
        }
    }
}

fn content(args: &Guide, common: &Common, release: Option<&Release>) -> Result<Content, CliError> {
    let of_release = |release| release_store::sheet(release, &args.file, Vec::new());
    let sheet: Sheet = match release {
        Some(release) => of_release(release)?,
        None => simulated::sheet(&args.file).map(|sheet| Sheet::clone(&sheet))?,
    };
    let file = args.file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let variant = common.variant.as_deref();
    let subject = Subject { sheet: &sheet, file: &file, release, build: &args.build, variant };
    Content::new(&subject).ok_or_else(|| {
        let reason = format!("there is nothing for the variant '{}'", variant.unwrap_or_default());
        CommandError::Guide { path: args.file.clone(), reason }.into()
    })
}

/// The pictures as `data:` addresses by file name.
fn pictures(args: &Guide, content: &Content) -> Result<BTreeMap<String, String>, CliError> {
    let folder = args.pictures.as_deref().or(args.file.parent()).unwrap_or(Path::new(""));
    let one = |name: &str| {
        let path = folder.join(name);
        let bytes = input_file::bytes(&path, MOST_PICTURE).map_err(|error| CliError::file(&path, error))?;
        let format = PICTURES.iter().find(|(start, _)| bytes.starts_with(start));
        let (_, media) = format.ok_or_else(|| CommandError::Guide {
            path,
            reason: "the picture is neither PNG nor JPEG nor GIF".to_owned(),
        })?;
        Ok((name.to_owned(), format!("data:{media};base64,{}", Base64::encode_string(&bytes))))
    };
    content.pictures().map(one).collect()
}
