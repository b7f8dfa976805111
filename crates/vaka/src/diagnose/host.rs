//! Checks of this machine: USB, hotplug notification, permissions.

use std::path::Path;

use vaka_base::text;
use vaka_core::event::Finding;
use vaka_core::sheet::Sheet;
use vaka_usb::system;

use crate::lock_folder::LockFolder;
use crate::private_file;
use crate::state_dir;

/// Programs that talk to every serial port that shows up, and so to units that did not
/// ask for it.
const TALKERS: [&str; 1] = ["ModemManager"];

/// Whether the machine has USB.
pub fn usb() -> Finding {
    if !cfg!(target_os = "linux") {
        let says = "port information is available on Linux only";
        return Finding::note("usb", "this machine", says)
            .remedy("'vaka help other-systems' describes the preparations on other systems.");
    }
    match system::root_hubs() {
        None => Finding::problem("usb", "this machine", "USB is not visible to this program (/sys/bus/usb is missing)")
            .remedy(
                "In a container, pass /sys/bus/usb and /dev/bus/usb into it. For remote units: --bus usbip://HOST[:PORT].",
            ),
        Some(0) => Finding::problem("usb", "this machine", "it has no USB bus")
            .remedy("In a virtual machine, add a USB controller. For remote units: --bus usbip://HOST[:PORT]."),
        Some(count) => Finding::ok(
            "usb",
            "this machine",
            format!("USB is there, {}", text::count(count, "bus").replace("buss", "buses")),
        ),
    }
}

/// Device nodes and the service that creates them.
pub fn nodes() -> Vec<Finding> {
    let mut found = Vec::new();
    if !Path::new("/dev/bus/usb").exists() {
        found.push(
            Finding::problem("nodes", "/dev/bus/usb", "the device nodes are missing, so no unit can be opened")
                .remedy("In a container, pass /dev/bus/usb into it (with cgroup access to character devices 189:*)."),
        );
    }
    if Path::new("/run/udev/control").exists() {
        found.push(Finding::ok(
            "udev",
            "this machine",
            "udev is running: it manages permissions and reports hotplug events",
        ));
    } else {
        found.push(
            Finding::note(
                "udev",
                "this machine",
                "no udevd found: permissions are not managed and the bus is polled every 25 ms",
            )
            .remedy("This is normal in a container. Elsewhere, check that systemd-udevd is running."),
        );
    }
    for name in TALKERS {
        if let Some(process) = system::processes_called(name).first() {
            found.push(
                Finding::note("serial", "this machine", format!("{name} (process {process}) probes every new serial port, and some bootloaders mistake that for commands"))
                    .remedy("Stop it during updates, or mark the units in their udev rule: ENV{ID_MM_DEVICE_IGNORE}=\"1\"."),
            );
        }
    }
    found
}

/// The available sheets.
pub fn sheets(sheets: &[Sheet]) -> Finding {
    if sheets.is_empty() {
        return Finding::note("sheets", "product sheets", "none found: units are recognized by their classes only")
            .remedy(
                "Give --sheets DIR, or create a first one from a unit: vaka sheet new --unit port=PORT --out FILE.toml",
            );
    }
    let names: Vec<&str> = sheets.iter().map(|sheet| sheet.product.id.as_str()).collect();
    Finding::ok("sheets", "product sheets", format!("{}: {}", text::count(sheets.len(), "sheet"), names.join(", ")))
}

/// Whether the journal can be written.
pub fn journal() -> Finding {
    let Some(folder) = state_dir::folder() else {
        return Finding::problem("journal", "this machine", "there is no folder for the journal")
            .remedy("Set HOME or XDG_STATE_HOME.");
    };
    let probe = folder.join(format!("probe-{}", std::process::id()));
    let written = private_file::create_folder(&folder).and_then(|()| private_file::create_new(&probe));
    let _ = std::fs::remove_file(&probe);
    match written {
        Ok(_) => Finding::ok("journal", folder.display().to_string(), "the journal can be written"),
        Err(error) => {
            Finding::problem("journal", folder.display().to_string(), format!("the journal cannot be written: {error}"))
                .remedy("Give this user access to the folder, or set XDG_STATE_HOME to another one.")
        }
    }
}

/// Which processes a lock keeps from a unit.
pub fn locks() -> Finding {
    match LockFolder::find() {
        Ok(LockFolder::Shared(folder)) => {
            let says = "the programs of all users keep off a unit that one of them uses";
            Finding::ok("locks", folder.display().to_string(), says)
        }
        Ok(LockFolder::Own { path, not_shared }) => {
            let why = not_shared.map(|why| format!(" ({why})")).unwrap_or_default();
            let says = format!("only the programs of this user keep off a unit that one of them uses{why}");
            Finding::note("locks", path.display().to_string(), says)
                .remedy("'vaka help security' tells how an administrator makes a lock folder for all users.")
        }
        Err(why) => Finding::problem("locks", "this machine", format!("units cannot be locked: {why}"))
            .remedy("Give this user a safe XDG_RUNTIME_DIR, or see 'vaka help security'."),
    }
}
