//! The place in this program for a release. `vaka pack --updater` fills it in a copy of the program and
//! appends the release, so that one file is both.
//!
//! The place is a static, so that a copy that was cut, lengthened or changed still knows that it is more than
//! the program alone: a mark at the end of a file would be lost with the end. See `docs/formats/updater.md`.

use std::fs::File;
use std::hint::black_box;
use std::io::{self, Read};
use std::path::Path;

use memchr::memmem;
use vaka_base::checksum::{Sha256, sha256};

/// The mark by which a place is found in the file of a program.
const MARK: usize = 32;
/// Offset of the SHA-256 in the place.
const DIGEST: usize = MARK + 24;
const DIGEST_LEN: usize = 32;
/// Length of the place.
pub const LEN: usize = DIGEST + DIGEST_LEN;

/// The place. Nothing else in the program may hold its mark, so there is no constant for it.
#[used]
static PLACE: [u8; LEN] = {
    let mark: &[u8; MARK] = b"\xF7vaka: place for a release, v1\n\x00";
    let mut place = [0; LEN];
    let mut at = 0;
    while at < MARK {
        place[at] = mark[at];
        at += 1;
    }
    place
};

/// The place as it is in the running program; the compiler must not assume that it is empty.
fn own() -> &'static [u8; LEN] {
    black_box(&PLACE)
}

/// The content of a filled place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place {
    /// Offset of the place in the file.
    at: u64,
    /// Size of the program, which is the offset of the release.
    pub program: u64,
    /// Size of the release.
    pub release: u64,
    /// SHA-256 of the file with zeros in place of this digest.
    digest: [u8; DIGEST_LEN],
}

impl Place {
    /// The place of the running program, if it is filled.
    pub fn of_this_program() -> Option<Self> {
        Self::parse(own())
    }

    fn parse(place: &[u8; LEN]) -> Option<Self> {
        let number = |index: usize| {
            let at = MARK + 8 * index;
            place[at..at + 8].iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte))
        };
        let mut digest = [0; DIGEST_LEN];
        digest.copy_from_slice(&place[DIGEST..]);
        let is_filled = place[MARK..].iter().any(|byte| *byte != 0);
        is_filled.then(|| Self { at: number(0), program: number(1), release: number(2), digest })
    }

    fn bytes(&self) -> Vec<u8> {
        let numbers = [self.at, self.program, self.release].map(u64::to_le_bytes);
        [&own()[..MARK], numbers.as_flattened(), &self.digest].concat()
    }

    /// Checks every byte of the file of the running program.
    ///
    /// # Errors
    /// The file differs from the one that was written, in words; or it cannot be read.
    pub fn check(&self, file: &mut File) -> io::Result<()> {
        let size = file.metadata()?.len();
        let written = self.program.saturating_add(self.release);
        if size != written {
            return Err(io::Error::other(format!("it has {size} bytes in place of {written}")));
        }
        let mut left = Blanked { inner: file, at: 0, blank: self.at.saturating_add(DIGEST as u64) };
        let mut hash = Sha256::default();
        let mut piece = vec![0; 1 << 16];
        loop {
            match left.read(&mut piece)? {
                0 => break,
                read => hash.update(&piece[..read]),
            }
        }
        match hash.finish() == self.digest {
            true => Ok(()),
            false => Err(io::Error::other("its content is not the one that was written")),
        }
    }
}

/// A file with zeros in place of the digest.
struct Blanked<R> {
    inner: R,
    at: u64,
    blank: u64,
}

impl<R: Read> Read for Blanked<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        let end = self.at + read as u64;
        let in_piece = |at: u64| usize::try_from(at.clamp(self.at, end) - self.at).unwrap_or(read);
        let blank = in_piece(self.blank)..in_piece(self.blank.saturating_add(DIGEST_LEN as u64));
        buffer[blank].fill(0);
        self.at = end;
        Ok(read)
    }
}

/// A program with a release.
///
/// # Errors
/// The program has no place for a release, or it is filled.
pub fn filled(mut program: Vec<u8>, release: &[u8]) -> Result<Vec<u8>, &'static str> {
    let mut found = memmem::find_iter(&program, &own()[..MARK]);
    let (first, second) = (found.next(), found.next());
    let at = match (first, second) {
        (Some(at), None) if at + LEN <= program.len() => at,
        (None, _) => return Err("it is not this program, or an earlier version of it: it has no place for a release"),
        _ => return Err("its place for a release is not unique"),
    };
    if program[at + MARK..at + LEN].iter().any(|byte| *byte != 0) {
        return Err("it already contains a release");
    }
    let mut place =
        Place { at: at as u64, program: program.len() as u64, release: release.len() as u64, digest: [0; DIGEST_LEN] };
    program[at..at + LEN].copy_from_slice(&place.bytes());
    program.extend_from_slice(release);
    place.digest.copy_from_slice(&sha256(&program));
    program[at + DIGEST..at + LEN].copy_from_slice(&place.digest);
    Ok(program)
}

/// The file of the running program, opened.
///
/// # Errors
/// It is not known, or cannot be opened.
pub fn this_program() -> io::Result<(std::path::PathBuf, File)> {
    let path = std::env::current_exe()?;
    // On Linux this is the running file itself, also after another one took its name.
    let running = Path::new("/proc/self/exe");
    let file = File::open(running).or_else(|_| File::open(&path))?;
    Ok((path, file))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_filled_once_and_every_changed_byte_is_noticed() {
        let program = [b"\x7FELF code ", &own()[..], b" more code"].concat();
        let whole = filled(program.clone(), b"PK release").unwrap();
        assert_eq!(&whole[program.len()..], b"PK release");
        assert_eq!(filled(whole.clone(), b"x"), Err("it already contains a release"));
        assert!(filled(b"no place".to_vec(), b"x").unwrap_err().contains("no place for a release"));
        assert!(filled([&program[..], own()].concat(), b"x").unwrap_err().contains("not unique"));
        let check = |bytes: &[u8]| {
            let (mut file, place) = (tempfile::tempfile().unwrap(), &whole[10..10 + LEN]);
            io::Write::write_all(&mut file, bytes).unwrap();
            io::Seek::rewind(&mut file).unwrap();
            Place::parse(place.try_into().unwrap()).unwrap().check(&mut file)
        };
        check(&whole).unwrap();
        // The digest is compared with the one in memory, so its bytes in the file do not count.
        let digest = 10 + DIGEST..10 + LEN;
        for at in (0..whole.len()).filter(|at| !digest.contains(at)) {
            let mut changed = whole.clone();
            changed[at] ^= 0x40;
            assert!(check(&changed).is_err(), "byte {at}");
        }
        assert!(check(&whole[..whole.len() - 1]).unwrap_err().to_string().contains("in place of"));
    }

    #[test]
    fn this_program_is_no_updater() {
        assert_eq!(Place::of_this_program(), None);
    }
}
