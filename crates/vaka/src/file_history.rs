//! The history of checked files: a line for each content, in the state folder. Nothing depends on
//! it, and its errors are ignored.

use std::io::Write;
use std::path::PathBuf;

use crate::private_file;
use crate::state_dir;

/// A content that was seen before.
pub struct PreviousSighting {
    /// When, RFC 3339.
    pub time: String,
    /// The file's name then.
    pub name: String,
}

fn file() -> Option<PathBuf> {
    Some(state_dir::folder()?.join("seen"))
}

/// Returns when these bytes were first seen; records them if they are new.
pub fn look_up(sha256: &str, name: &str) -> Option<PreviousSighting> {
    let path = file()?;
    let known = std::fs::read_to_string(&path).unwrap_or_default();
    for line in known.lines() {
        let mut fields = line.splitn(3, ' ');
        if fields.next() == Some(sha256) {
            let (time, name) = (fields.next()?.to_owned(), fields.next()?.to_owned());
            return Some(PreviousSighting { time, name: vaka_base::text::sanitize(&name) });
        }
    }
    private_file::create_folder(path.parent()?).ok()?;
    let mut out = private_file::open_to_append(&path).ok()?;
    let now = jiff::Timestamp::now().round(jiff::Unit::Second).ok()?;
    // A single write, so that the lines of two programs do not mix.
    out.write_all(format!("{sha256} {now} {}\n", vaka_base::text::sanitize(name)).as_bytes()).ok()?;
    None
}
