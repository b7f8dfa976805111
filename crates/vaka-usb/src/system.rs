//! System information about USB devices beyond their descriptors: permissions, drivers, programs
//! that use them, and their power consumption.
//!
//! Sources: Linux, `Documentation/ABI/testing/sysfs-bus-usb` and `stable/sysfs-bus-usb`;
//! proc(5).

use std::path::{Path, PathBuf};

use crate::bus::SerialNode;
use crate::mounts::{self, Mounted};

/// The system's list of USB devices.
pub(crate) const DEVICES: &str = "/sys/bus/usb/devices";

/// A program that has a node of a unit open.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Program {
    /// Process id.
    pub process: u32,
    /// Name, as the system reports it.
    pub name: String,
    /// The open node.
    pub node: PathBuf,
}

/// The user's access to a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Access {
    /// Yes.
    Granted,
    /// Denied: the node has this owner, group and mode.
    Denied {
        /// User id of the owner.
        owner: u32,
        /// Group id.
        group: u32,
        /// Permission bits.
        mode: u32,
    },
    /// The device is listed, but its node is missing: it was not passed into the container.
    NoNode,
    /// Another failure; the system's message.
    Failed(String),
}

/// An interface of a device, and the nodes that the system created for it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InterfaceUse {
    /// bInterfaceNumber.
    pub number: u8,
    /// Whether it is the control interface of a serial port (CDC-ACM).
    pub is_serial: bool,
    /// The driver that has it, if one does.
    pub driver: Option<String>,
    /// Its serial ports and raw HID devices.
    pub nodes: Vec<PathBuf>,
    /// Its serial ports.
    pub serial_ports: Vec<PathBuf>,
}

/// System information about a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceUse {
    /// The node under `/dev/bus/usb`.
    pub node: PathBuf,
    /// The user's access.
    pub access: Access,
    /// Interfaces.
    pub interfaces: Vec<InterfaceUse>,
    /// Mounted disks.
    pub mounted: Vec<Mounted>,
    /// Programs of this user, or for root any, that have one of its nodes open.
    pub programs: Vec<Program>,
    /// Current that it requests, in mA.
    pub wants: Option<u32>,
    /// Whether its hub is powered by the bus.
    pub hub_is_bus_powered: bool,
}

/// The number of buses of this machine; `None` if it has no USB.
pub fn root_hubs() -> Option<usize> {
    let entries = std::fs::read_dir(DEVICES).ok()?;
    Some(entries.flatten().filter(|entry| entry.file_name().to_string_lossy().starts_with("usb")).count())
}

/// System information about the device at a port; `None` if there is none.
pub fn device(port: &str) -> Option<DeviceUse> {
    let folder = Path::new(DEVICES).join(port);
    let number = |name: &str| read(&folder, name)?.parse::<u32>().ok();
    let node = PathBuf::from(format!("/dev/bus/usb/{:03}/{:03}", number("busnum")?, number("devnum")?));
    let interfaces = interfaces(&folder);
    let mounted = mounts::of_device(&folder);
    let nodes = interfaces.iter().flat_map(|interface| &interface.nodes).chain([&node]);
    let programs = programs_with(&nodes.cloned().collect::<Vec<_>>());
    let hub = port.rsplit_once('.').map(|(hub, _)| Path::new(DEVICES).join(hub));
    // bmAttributes, bit 6: self-powered. Source: USB 2.0, table 9-10.
    let attributes = hub.and_then(|hub| u8::from_str_radix(&read(&hub, "bmAttributes")?, 16).ok());
    Some(DeviceUse {
        access: access(&node),
        node,
        interfaces,
        mounted,
        programs,
        wants: read(&folder, "bMaxPower").and_then(|text| text.trim_end_matches("mA").parse().ok()),
        hub_is_bus_powered: attributes.is_some_and(|attributes| attributes & 0x40 == 0),
    })
}

fn read(folder: &Path, name: &str) -> Option<String> {
    Some(std::fs::read_to_string(folder.join(name)).ok()?.trim().to_owned())
}

fn access(node: &Path) -> Access {
    match std::fs::OpenOptions::new().read(true).write(true).open(node) {
        Ok(_) => Access::Granted,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Access::NoNode,
        Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => denied(node),
        Err(error) => Access::Failed(error.to_string()),
    }
}

/// The user's access to a serial port, which is not opened: that would raise its control lines.
#[cfg(target_os = "linux")]
pub fn port_access(node: &Path) -> Access {
    use rustix::fs::Access as Wanted;
    use rustix::io::Errno;
    match rustix::fs::access(node, Wanted::READ_OK | Wanted::WRITE_OK) {
        Ok(()) => Access::Granted,
        Err(Errno::NOENT) => Access::NoNode,
        Err(Errno::ACCESS) => denied(node),
        Err(error) => Access::Failed(error.to_string()),
    }
}

/// The user's access to a serial port.
#[cfg(not(target_os = "linux"))]
pub fn port_access(_: &Path) -> Access {
    Access::Failed("serial ports of the system are used on Linux only".to_owned())
}

#[cfg(unix)]
fn denied(node: &Path) -> Access {
    use std::os::unix::fs::MetadataExt;
    match std::fs::metadata(node) {
        Ok(about) => Access::Denied { owner: about.uid(), group: about.gid(), mode: about.mode() & 0o777 },
        Err(error) => Access::Failed(error.to_string()),
    }
}

#[cfg(not(unix))]
fn denied(_: &Path) -> Access {
    Access::Failed("this user has no permission".to_owned())
}

/// The interfaces of a device: its folders `PORT:CONFIGURATION.NUMBER`.
pub(crate) fn interfaces(device: &Path) -> Vec<InterfaceUse> {
    let mut found = Vec::new();
    for folder in folders(device).into_iter().filter(|folder| name(folder).contains(':')) {
        let Some(number) = read(&folder, "bInterfaceNumber").and_then(|text| u8::from_str_radix(&text, 16).ok()) else {
            continue;
        };
        let driver = std::fs::read_link(folder.join("driver")).ok().map(|link| name(&link));
        // Communication class, abstract control model. Source: CDC 1.2, table 12 and 16.
        let is = |name: &str, code: &str| read(&folder, name).as_deref() == Some(code);
        let is_serial = is("bInterfaceClass", "02") && is("bInterfaceSubClass", "02");
        found.push(InterfaceUse {
            number,
            is_serial,
            driver,
            nodes: nodes(&folder),
            serial_ports: serial_ports(&folder),
        });
    }
    found.sort_by_key(|interface| interface.number);
    found
}

fn folders(of: &Path) -> Vec<PathBuf> {
    std::fs::read_dir(of).into_iter().flatten().flatten().map(|entry| entry.path()).collect()
}

fn name(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// Serial ports and raw HID devices that the system created for an interface.
pub(crate) fn nodes(interface: &Path) -> Vec<PathBuf> {
    let raw = folders(interface).into_iter().flat_map(|below| folders(&below.join("hidraw")));
    let mut nodes: Vec<PathBuf> = raw.map(|path| in_dev(&path)).chain(serial_ports(interface)).collect();
    nodes.sort();
    nodes
}

/// Serial ports of an interface: those of CDC-ACM are directly in it, those of bridge chips below a
/// folder with the name of the port.
pub(crate) fn serial_ports(interface: &Path) -> Vec<PathBuf> {
    let bridged = folders(interface).into_iter().filter(|below| name(below) != "tty").map(|below| below.join("tty"));
    let mut nodes: Vec<PathBuf> = [interface.join("tty")]
        .into_iter()
        .chain(bridged)
        .flat_map(|ttys| folders(&ttys))
        .map(|path| in_dev(&path))
        .collect();
    nodes.sort();
    nodes
}

fn in_dev(path: &Path) -> PathBuf {
    Path::new("/dev").join(name(path))
}

/// The serial ports of the device in a folder. The data of CDC-ACM is on the interface that follows its
/// control interface.
pub(crate) fn serial_nodes(device: &Path) -> Vec<SerialNode> {
    let of = |found: InterfaceUse| {
        let interface = if found.is_serial { found.number + 1 } else { found.number };
        let driver = found.driver.unwrap_or_default();
        found.serial_ports.into_iter().map(move |node| SerialNode { interface, node, driver: driver.clone() })
    };
    interfaces(device).into_iter().flat_map(of).collect()
}

/// The network interfaces of the device in a folder.
pub(crate) fn network_interfaces(device: &Path) -> Vec<String> {
    let interfaces = folders(device).into_iter().filter(|folder| name(folder).contains(':'));
    let mut names: Vec<String> =
        interfaces.flat_map(|interface| folders(&interface.join("net"))).map(|path| name(&path)).collect();
    names.sort();
    names
}

/// A text that the system read from a device.
pub(crate) fn attribute(device: &Path, name: &str) -> Option<String> {
    read(device, name).filter(|text| !text.is_empty())
}

/// Programs of this user, or for root any, that have one of these files open; not this
/// one.
pub(crate) fn programs_with(nodes: &[PathBuf]) -> Vec<Program> {
    let mut found = Vec::new();
    for folder in folders(Path::new("/proc")) {
        let Ok(process) = name(&folder).parse::<u32>() else { continue };
        if process == std::process::id() {
            continue;
        }
        let mut open = folders(&folder.join("fd")).into_iter().filter_map(|file| std::fs::read_link(file).ok());
        if let Some(node) = open.find(|node| nodes.contains(node)) {
            let name = read(&folder, "comm").unwrap_or_default();
            found.push(Program { process, name, node });
        }
    }
    found.sort_by_key(|program| program.process);
    found
}

/// The name of a group. Source: group(5).
pub(crate) fn group_name(id: u32) -> Option<String> {
    let groups = std::fs::read_to_string("/etc/group").ok()?;
    let is_it = |line: &&str| line.split(':').nth(2) == Some(&id.to_string());
    groups.lines().find(is_it)?.split(':').next().map(str::to_owned)
}

/// The processes of this name, of all users.
pub fn processes_called(wanted: &str) -> Vec<u32> {
    let processes = folders(Path::new("/proc")).into_iter().filter_map(|folder| {
        let process = name(&folder).parse::<u32>().ok()?;
        (read(&folder, "comm")? == wanted).then_some(process)
    });
    processes.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every system has this group. Source: Linux Standard Base, users and groups.
    #[cfg(unix)]
    #[test]
    fn a_group_has_a_name() {
        assert_eq!(group_name(0).as_deref(), Some("root"));
        assert_eq!(group_name(u32::MAX), None);
    }

    #[test]
    fn what_the_system_made_of_an_interface_is_found() {
        let root = tempfile::tempdir().unwrap();
        let device = root.path().join("1-2");
        let port = device.join("1-2:1.0");
        std::fs::create_dir_all(port.join("tty/ttyACM0")).unwrap();
        let hid = device.join("1-2:1.2/0003:1209:000B.0001/hidraw/hidraw3");
        std::fs::create_dir_all(&hid).unwrap();
        let bridge = device.join("1-2:1.3");
        std::fs::create_dir_all(bridge.join("ttyUSB1/tty/ttyUSB1")).unwrap();
        std::fs::write(bridge.join("bInterfaceNumber"), "03\n").unwrap();
        std::fs::write(port.join("bInterfaceClass"), "02\n").unwrap();
        std::fs::write(port.join("bInterfaceSubClass"), "02\n").unwrap();
        std::fs::write(port.join("bInterfaceNumber"), "00\n").unwrap();
        std::fs::write(device.join("1-2:1.2/bInterfaceNumber"), "02\n").unwrap();
        #[cfg(unix)]
        std::os::unix::fs::symlink("../../../../bus/usb/drivers/cdc_acm", port.join("driver")).unwrap();
        let found = interfaces(&device);
        assert_eq!(found.len(), 3);
        assert_eq!((found[0].number, found[0].driver.as_deref()), (0, Some("cdc_acm")));
        assert_eq!(found[0].nodes, [PathBuf::from("/dev/ttyACM0")]);
        assert_eq!((found[1].number, found[1].driver.as_deref()), (2, None));
        assert_eq!(found[1].nodes, [PathBuf::from("/dev/hidraw3")]);
        assert_eq!(found[2].nodes, [PathBuf::from("/dev/ttyUSB1")]);
        std::fs::create_dir_all(bridge.join("net/can0")).unwrap();
        assert_eq!(network_interfaces(&device), ["can0"]);
        let ports: Vec<(u8, PathBuf)> =
            serial_nodes(&device).into_iter().map(|one| (one.interface, one.node)).collect();
        assert_eq!(ports, [(1, PathBuf::from("/dev/ttyACM0")), (3, PathBuf::from("/dev/ttyUSB1"))]);
    }

    /// This test's own process is left out, a child of it is found.
    #[cfg(target_os = "linux")]
    #[test]
    fn who_has_a_file_open_is_named() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let path = std::fs::canonicalize(file.path()).unwrap();
        assert_eq!(programs_with(std::slice::from_ref(&path)), []);
        let open = std::fs::File::open(&path).unwrap();
        let mut child = std::process::Command::new("sleep").arg("60").stdin(open).spawn().unwrap();
        let found = programs_with(std::slice::from_ref(&path));
        child.kill().unwrap();
        child.wait().unwrap();
        assert_eq!(found, [Program { process: child.id(), name: "sleep".into(), node: path }]);
    }
}
