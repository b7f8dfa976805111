//! Which files were looked at before: a line for each content, in the user's
//! state folder. Only a help; nothing depends on it, and no fault of it stops
//! anything.

use std::io::Write;
use std::path::PathBuf;

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

/// When these bytes were first seen, if they were; else notes them down.
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
    std::fs::create_dir_all(path.parent()?).ok()?;
    let mut out = std::fs::OpenOptions::new().append(true).create(true).open(path).ok()?;
    let now = jiff::Timestamp::now().round(jiff::Unit::Second).ok()?;
    // One write, so that two programs do not mix their lines.
    out.write_all(format!("{sha256} {now} {}\n", vaka_base::text::sanitize(name)).as_bytes()).ok()?;
    None
}
