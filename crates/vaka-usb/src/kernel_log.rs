//! USB events in the kernel log: attached and detached devices, and enumeration failures.
//!
//! Source: Linux, `Documentation/ABI/testing/dev-kmsg` for the form of a record; the
//! messages are those of `drivers/usb/core/hub.c`, `config.c`, `message.c` and `generic.c`.
//! They are meant for people and may change: one that is not known here is left out.

use std::io;
use std::time::Duration;

use crate::sockets;

/// Maximum age of a relevant message. Chosen by us: a few attempts of the user.
#[cfg(target_os = "linux")]
const LATELY: Duration = Duration::from_secs(60);

/// A kernel USB event at one port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KernelEvent {
    /// When, since the system started.
    pub at: Duration,
    /// The port, such as `1-2.4`.
    pub port: String,
    /// The event.
    pub says: KernelEventKind,
}

/// The kind of a kernel USB event.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum KernelEventKind {
    /// A device was attached, with idVendor and idProduct.
    Came(u16, u16),
    /// A device left.
    Left,
    /// A device could not be enumerated or configured; the kernel's message.
    Trouble(String),
    /// The port cannot supply enough power.
    Underpowered,
    /// The device would be faster on another port or hub.
    Slow,
    /// The port was switched off: too much current.
    OverCurrent,
}

/// The USB events since the system started, or since the start of the log.
///
/// # Errors
/// The user may not read the kernel log, or the system has none.
pub fn read() -> io::Result<Vec<KernelEvent>> {
    let text = text()?;
    Ok(text.lines().filter_map(note).collect())
}

/// A failure at a port in the last minute.
#[cfg(target_os = "linux")]
pub(crate) fn recent_failure(port: &str) -> Option<String> {
    let now = uptime()?;
    let notes = read().ok()?.into_iter().rev().take_while(|note| note.at + LATELY >= now);
    let mut troubles = notes.filter(|note| note.port == port).filter_map(|note| match note.says {
        KernelEventKind::Trouble(words) => Some(words),
        _ => None,
    });
    troubles.next()
}

/// Time since the system started.
#[cfg(target_os = "linux")]
pub fn uptime() -> Option<Duration> {
    let text = std::fs::read_to_string("/proc/uptime").ok()?;
    Duration::try_from_secs_f64(text.split_whitespace().next()?.parse().ok()?).ok()
}

/// Not available on this system.
#[cfg(not(target_os = "linux"))]
pub fn uptime() -> Option<Duration> {
    None
}

/// The records of the log, one line each. A read returns one record, or signals that there are no
/// more.
#[cfg(target_os = "linux")]
fn text() -> io::Result<String> {
    use std::io::Read;
    use std::os::unix::fs::OpenOptionsExt;

    /// More records than the kernel keeps by default.
    const MOST: usize = 100_000;
    let flags = i32::try_from(rustix::fs::OFlags::NONBLOCK.bits()).unwrap_or(0);
    let mut log = std::fs::OpenOptions::new()
        .read(true)
        .custom_flags(flags)
        .open("/dev/kmsg")
        .map_err(|error| io::Error::new(error.kind(), format!("/dev/kmsg: {error}")))?;
    let mut record = vec![0; 8192];
    let mut text = String::new();
    for _ in 0..MOST {
        match log.read(&mut record) {
            Ok(0) => break,
            Ok(count) => text.push_str(&String::from_utf8_lossy(&record[..count])),
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => break,
            // Records were overwritten meanwhile; the next read continues after them.
            Err(error) if error.raw_os_error() == Some(rustix::io::Errno::PIPE.raw_os_error()) => {}
            Err(error) => return Err(io::Error::new(error.kind(), format!("/dev/kmsg: {error}"))),
        }
    }
    Ok(text)
}

#[cfg(not(target_os = "linux"))]
fn text() -> io::Result<String> {
    Err(io::Error::new(io::ErrorKind::Unsupported, "the log of this system is not read"))
}

/// `6,1234,5678901,-;usb 1-2: USB disconnect, device number 7`: priority, number, time in
/// microseconds, flags, and the message.
fn note(line: &str) -> Option<KernelEvent> {
    let (head, message) = line.split_once(';')?;
    let at = Duration::from_micros(head.split(',').nth(2)?.parse().ok()?);
    let (who, what) = message.strip_prefix("usb ").or_else(|| message.strip_prefix("hub "))?.split_once(": ")?;
    let port = port_of(who, what)?;
    let has = |words: &str| what.contains(words);
    let troubles = [
        "device descriptor read",
        "device not accepting address",
        "device not responding to setup address",
        "unable to enumerate USB device",
        "Cannot enable",
        "can't read configurations",
        "unable to read config",
        "can't set config",
        "unable to get BOS descriptor",
        "config index",
    ];
    let says = if has("USB disconnect") {
        KernelEventKind::Left
    } else if what.starts_with("New USB device found") {
        KernelEventKind::Came(id(what, "idVendor=")?, id(what, "idProduct=")?)
    } else if has("insufficient available bus power") {
        KernelEventKind::Underpowered
    } else if has("not running at top speed") {
        KernelEventKind::Slow
    } else if has("over-current") {
        KernelEventKind::OverCurrent
    } else if troubles.iter().any(|words| has(words)) {
        KernelEventKind::Trouble(what.trim_end().to_owned())
    } else {
        return None;
    };
    Some(KernelEvent { at, port, says })
}

/// The hex digits after a word.
fn id(what: &str, word: &str) -> Option<u16> {
    u16::from_str_radix(what.split(word).nth(1)?.get(..4)?, 16).ok()
}

/// The port that is spoken of: `1-2`, `usb1-port2`, `1-2-port4`, or a hub's interface
/// with `port 4` in the message.
fn port_of(who: &str, what: &str) -> Option<String> {
    if let Some(port) = sockets::port_of(who) {
        return Some(port);
    }
    let Some((hub, _)) = who.split_once(':') else { return who.contains('-').then(|| who.to_owned()) };
    let number = what.split("port ").nth(1)?.split(|c: char| !c.is_ascii_digit()).next()?;
    Some(sockets::port_below(hub.strip_suffix("-0"), hub, number))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_of_the_kernel_are_read() {
        let trouble = |words: &str| KernelEventKind::Trouble(words.to_owned());
        let cases = [
            (
                "6,812,5000000,-;usb 1-2: New USB device found, idVendor=1209, idProduct=000d, bcdDevice= 4.10",
                "1-2",
                KernelEventKind::Came(0x1209, 0x000D),
            ),
            ("6,813,5000000,-;usb 1-2.4: USB disconnect, device number 7", "1-2.4", KernelEventKind::Left),
            (
                "3,814,5000000,-;usb 1-2: device descriptor read/64, error -71",
                "1-2",
                trouble("device descriptor read/64, error -71"),
            ),
            (
                "3,815,5000000,-;usb usb1-port2: unable to enumerate USB device",
                "1-2",
                trouble("unable to enumerate USB device"),
            ),
            (
                "3,816,5000000,-;usb 1-2-port4: Cannot enable. Maybe the USB cable is bad?",
                "1-2.4",
                trouble("Cannot enable. Maybe the USB cable is bad?"),
            ),
            (
                "4,817,5000000,-;usb 1-2: rejected 1 configuration due to insufficient available bus power",
                "1-2",
                KernelEventKind::Underpowered,
            ),
            (
                "6,818,5000000,-;usb 1-2: not running at top speed; connect to a high speed hub",
                "1-2",
                KernelEventKind::Slow,
            ),
            ("4,819,5000000,c;usb usb1-port3: over-current condition", "1-3", KernelEventKind::OverCurrent),
            ("4,820,5000000,-;hub 1-0:1.0: over-current change on port 3", "1-3", KernelEventKind::OverCurrent),
            ("4,821,5000000,-;hub 1-2:1.0: over-current change on port 1", "1-2.1", KernelEventKind::OverCurrent),
        ];
        for (line, port, says) in cases {
            let wanted = KernelEvent { at: Duration::from_secs(5), port: port.to_owned(), says };
            assert_eq!(note(line), Some(wanted), "{line}");
        }
        for other in [
            "",
            "6,1,2,-;usb 1-2: Product: Tern tide gauge",
            "6,1,2,-;usb 1-2: new full-speed USB device number 8 using xhci_hcd",
            "6,1,2,-;usb 1-2: New USB device found, idVendor=12, idProduct=",
            "6,1,2,-;usb: nothing",
            " SUBSYSTEM=usb",
            "6,1;usb 1-2: USB disconnect",
            "6,1,2,-;usbcore: registered new interface driver usbfs",
            "6,1,2,-;hub 1-0:1.0: over-current change",
        ] {
            assert_eq!(note(other), None, "{other}");
        }
    }
}
