//! The udev rules file that grants access to a unit. Source: udev(7).

use std::path::{Path, PathBuf};

use nix::unistd::{self, Gid, Group};
use vaka_base::pattern;

/// The folders of udev rules; a file in an earlier folder hides one of the same name in a later
/// one.
const FOLDERS: [&str; 4] = ["/etc/udev/rules.d", "/run/udev/rules.d", "/usr/lib/udev/rules.d", "/lib/udev/rules.d"];

/// The group in the rules.
pub const GROUP: &str = "plugdev";

/// The first rules file that names a device's ids and grants access.
pub fn naming(vendor: u16, product: u16) -> Option<PathBuf> {
    naming_in(&FOLDERS.map(Path::new), vendor, product)
}

fn naming_in(folders: &[&Path], vendor: u16, product: u16) -> Option<PathBuf> {
    for folder in folders {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).collect();
        files.retain(|file| file.extension().is_some_and(|ending| ending == "rules"));
        files.sort();
        let names = |file: &PathBuf| {
            std::fs::read_to_string(file).is_ok_and(|text| text.lines().any(|line| gives(line, vendor, product)))
        };
        if let Some(file) = files.into_iter().find(names) {
            return Some(file);
        }
    }
    None
}

/// Whether a rule matches a device's ids and grants access.
fn gives(line: &str, vendor: u16, product: u16) -> bool {
    let line = line.trim();
    let gives_rights = ["MODE", "GROUP", "uaccess"].iter().any(|word| line.contains(word));
    if line.starts_with('#') || !gives_rights {
        return false;
    }
    let matches = |key: &str, id: u16| {
        let behind = line.split(&format!("{{{key}}}==\"")).nth(1).and_then(|rest| rest.split('"').next());
        behind.map(|pattern| {
            pattern.split('|').any(|one| pattern::matches(&one.to_ascii_lowercase(), &format!("{id:04x}")))
        })
    };
    matches("idVendor", vendor) == Some(true) && matches("idProduct", product) != Some(false)
}

/// Whether this process belongs to a group; `None` if unknown.
pub fn in_group(name: &str) -> Option<bool> {
    let group = Group::from_name(name).ok()??.gid;
    let own = unistd::getgroups().ok()?;
    Some(unistd::getegid() == group || own.contains(&group))
}

/// The name of a group, or its number if it has none.
pub fn group(id: u32) -> String {
    let group = Group::from_gid(Gid::from_raw(id)).ok().flatten();
    group.map_or_else(|| id.to_string(), |group| group.name)
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;

    #[test]
    fn the_file_with_a_rule_for_a_unit_is_found() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        write("10-a.rules", "# ATTR{idVendor}==\"1209\", MODE=\"0660\"\nATTR{idVendor}==\"1209\", ENV{X}=\"1\"\n");
        // A default rule that grants an ordinary user nothing.
        write("05-default.rules", "SUBSYSTEM==\"usb\", ENV{DEVTYPE}==\"usb_device\", MODE=\"0664\"\n");
        write(
            "60-b.rules",
            "SUBSYSTEM==\"usb\", ATTR{idVendor}==\"1209\", ATTR{idProduct}==\"000?\", TAG+=\"uaccess\"\n",
        );
        write("70-c.rules", "ATTRS{idVendor}==\"1A2B|1209\", MODE=\"0666\"\n");
        write("80-d.rulez", "ATTR{idVendor}==\"0001\", MODE=\"0666\"\n");
        let found = |vendor, product| {
            let path = naming_in(&[Path::new("/nowhere"), folder.path()], vendor, product)?;
            Some(path.file_name().unwrap().to_string_lossy().into_owned())
        };
        assert_eq!(found(0x1209, 0x0002).as_deref(), Some("60-b.rules"));
        assert_eq!(found(0x1209, 0x0012).as_deref(), Some("70-c.rules"));
        assert_eq!(found(0x1a2b, 0x0001).as_deref(), Some("70-c.rules"));
        assert_eq!(found(0x0001, 0x0002), None);
    }
}
