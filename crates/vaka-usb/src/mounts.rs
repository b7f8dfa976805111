//! The mounted disks of a unit, and their folders.
//!
//! Source: proc(5), `/proc/PID/mountinfo`; Linux, `Documentation/ABI` for
//! `/sys/bus/usb` and `/sys/block`.

use std::path::{Path, PathBuf};

/// A disk of a unit that the system shows as a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mounted {
    /// The folder.
    pub folder: PathBuf,
    /// The block device, such as `/dev/sdb1`.
    pub node: PathBuf,
    /// Whether it is mounted read-only.
    pub read_only: bool,
}

/// One line of the mount table, reduced to the fields used here.
#[derive(Debug, PartialEq, Eq)]
struct MountLine {
    device: String,
    folder: PathBuf,
    read_only: bool,
}

/// The mounted disks of the device that the system lists at `device`, a folder
/// of `/sys/bus/usb/devices`.
pub(crate) fn of_device(device: &Path) -> Vec<Mounted> {
    let blocks = block_devices(device);
    if blocks.is_empty() {
        return Vec::new();
    }
    let table = std::fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let lines: Vec<MountLine> = table.lines().filter_map(line).collect();
    let of_block = |(number, name): &(String, String)| {
        let found = lines.iter().find(|line| line.device == *number)?;
        let node = Path::new("/dev").join(name);
        Some(Mounted { folder: found.folder.clone(), node, read_only: found.read_only })
    };
    blocks.iter().filter_map(of_block).collect()
}

/// `36 35 8:17 / /media/disk rw,nosuid - vfat /dev/sdb1 rw`: the third field is the device, the
/// fifth the folder, the sixth its options; the options of the file system are last. Blanks in
/// names are written in octal.
fn line(text: &str) -> Option<MountLine> {
    let fields: Vec<&str> = text.split(' ').collect();
    let (device, folder, options) = (fields.get(2)?, fields.get(4)?, fields.get(5)?);
    let is_ro = |options: &str| options.split(',').any(|option| option == "ro");
    let read_only = is_ro(options) || fields.last().is_some_and(|last| is_ro(last));
    Some(MountLine { device: (*device).to_owned(), folder: unescape(folder).into(), read_only })
}

fn unescape(text: &str) -> String {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let [first, behind @ ..] = rest {
        let octal = behind.get(..3).filter(|_| *first == b'\\').and_then(|digits| std::str::from_utf8(digits).ok());
        match octal.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => (bytes.push(byte), rest = &behind[3..]),
            None => (bytes.push(*first), rest = behind),
        };
    }
    String::from_utf8_lossy(&bytes).into_owned()
}

/// Number (`8:17`) and name of every block device and partition below a USB
/// device: `DEVICE:1.N/hostH/targetT/H:0:0:L/block/sdX/sdXN`.
fn block_devices(device: &Path) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut open: Vec<(PathBuf, u32)> = vec![(device.to_owned(), 0)];
    while let Some((folder, depth)) = open.pop() {
        for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
            let leads_on = match depth {
                0 => name.contains(':'),
                1 => name.starts_with("host"),
                2 => name.starts_with("target"),
                3 => name.contains(':'),
                4 => name == "block",
                5 => true,
                6 => entry.path().join("partition").exists(),
                _ => false,
            };
            if !(is_folder && leads_on) {
                continue;
            }
            if depth >= 5
                && let Ok(number) = std::fs::read_to_string(entry.path().join("dev"))
            {
                found.push((number.trim().to_owned(), name));
            }
            open.push((entry.path(), depth + 1));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_the_mount_table_are_read() {
        let found =
            line("36 35 8:17 / /media/mate/HERON\\040DISK rw,nosuid shared:1 - vfat /dev/sdb1 rw,fmask=0022").unwrap();
        let folder = PathBuf::from("/media/mate/HERON DISK");
        assert_eq!(found, MountLine { device: "8:17".into(), folder, read_only: false });
        assert!(line("36 35 8:17 / /mnt ro,nosuid - vfat /dev/sdb1 rw").unwrap().read_only);
        assert!(line("36 35 8:17 / /mnt rw - vfat /dev/sdb1 ro,errors=remount-ro").unwrap().read_only);
        assert_eq!(line("36 35"), None);
        assert_eq!(unescape("a\\134b\\04"), "a\\b\\04");
    }

    #[test]
    fn block_devices_are_found_below_a_usb_device() {
        let root = std::env::temp_dir().join(format!("vaka-mounts-{}", std::process::id()));
        let disk = root.join("1-1/1-1:1.1/host3/target3:0:0/3:0:0:0/block/sdb");
        std::fs::create_dir_all(disk.join("sdb1")).unwrap();
        std::fs::create_dir_all(disk.join("queue")).unwrap();
        std::fs::write(disk.join("dev"), "8:16\n").unwrap();
        std::fs::write(disk.join("sdb1/dev"), "8:17\n").unwrap();
        std::fs::write(disk.join("sdb1/partition"), "1\n").unwrap();
        let mut found = block_devices(&root.join("1-1"));
        found.sort();
        std::fs::remove_dir_all(&root).unwrap();
        assert_eq!(found, [("8:16".to_owned(), "sdb".to_owned()), ("8:17".to_owned(), "sdb1".to_owned())]);
    }
}
