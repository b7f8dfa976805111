//! Ports of different speeds that are one socket.
//!
//! Source: Linux, `Documentation/ABI/testing/sysfs-bus-usb`, `peer` of a port: "a link to
//! the port with which it shares a connector".

use std::path::{Path, PathBuf};

/// Whether two ports share a connector, according to the system's device list in `devices`.
#[cfg_attr(not(target_os = "linux"), allow(dead_code))] // only Linux tells
pub(crate) fn are_peers(devices: &Path, one: &str, other: &str) -> bool {
    folder(devices, one).is_some_and(|port| {
        let peer = std::fs::read_link(port.join("peer")).ok();
        let name = peer.as_deref().and_then(Path::file_name).and_then(|name| name.to_str());
        name.and_then(port_of).as_deref() == Some(other)
    })
}

/// The folder of a port: that of its hub's interface, and in it the port by its number.
/// `1-2` is port 2 of the root hub `usb1`, `1-2.4` port 4 of the hub at `1-2`.
fn folder(devices: &Path, port: &str) -> Option<PathBuf> {
    let (hub, interface, name) = match port.rsplit_once('.') {
        Some((hub, number)) => (hub.to_owned(), format!("{hub}:1.0"), format!("{hub}-port{number}")),
        None => {
            let (bus, number) = port.split_once('-')?;
            (format!("usb{bus}"), format!("{bus}-0:1.0"), format!("usb{bus}-port{number}"))
        }
    };
    Some(devices.join(hub).join(interface).join(name))
}

/// `usb2-port2` is the port `2-2`, `2-2-port4` the port `2-2.4`.
pub(crate) fn port_of(name: &str) -> Option<String> {
    let (hub, number) = name.split_once("-port")?;
    Some(port_below(hub.strip_prefix("usb"), hub, number))
}

/// A port of a hub, or of the bus if the hub is its root.
pub(crate) fn port_below(root_of: Option<&str>, hub: &str, number: &str) -> String {
    match root_of {
        Some(bus) => format!("{bus}-{number}"),
        None => format!("{hub}.{number}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_socket_has_a_port_for_each_speed() {
        let root = std::env::temp_dir().join(format!("vaka-sockets-{}", std::process::id()));
        let (high, fast) = (root.join("usb1/1-0:1.0/usb1-port2"), root.join("usb2/2-0:1.0/usb2-port3"));
        let below = root.join("1-2/1-2:1.0/1-2-port4");
        for folder in [&high, &fast, &below] {
            std::fs::create_dir_all(folder).unwrap();
        }
        let link = |from: &Path, to: &str| std::os::unix::fs::symlink(to, from.join("peer")).unwrap();
        link(&high, "../../../usb2/2-0:1.0/usb2-port3");
        link(&fast, "../../../usb1/1-0:1.0/usb1-port2");
        link(&below, "../../../2-3/2-3:1.0/2-3-port4");
        assert!(are_peers(&root, "1-2", "2-3") && are_peers(&root, "2-3", "1-2"));
        assert!(are_peers(&root, "1-2.4", "2-3.4"));
        for (one, other) in [("1-2", "2-2"), ("1-3", "2-3"), ("1-2.4", "2-3"), ("nonsense", "2-3"), ("", "")] {
            assert!(!are_peers(&root, one, other), "{one} {other}");
        }
        std::fs::remove_dir_all(&root).unwrap();
    }
}
