//! The bench: each bus, and each unit on it that could be worked with.

use vaka_base::text;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::candidate::dfu_mode;
use vaka_boot::bench::node_bus::NodeBus;
use vaka_boot::bench::open_error::{bus_failure, open_failure};
use vaka_boot::bench::target::{self, programmer_of};
use vaka_boot::bench::unit_event;
use vaka_boot::context::Context;
use vaka_core::attached_unit::AttachedUnit;
use vaka_core::event::{Finding, Severity};
use vaka_core::unit::{Mode, ReportedProperty};
use vaka_usb::native::NativeBus;
use vaka_usb::system::{self, Access, DeviceUse};
use vaka_usb::{Bus, DeviceInfo, SystemClock};

use super::rules;
use crate::lock::Locks;
use crate::signals;

/// Maximum current in mA from a bus-powered hub. Source: USB 2.0, section 7.2.1.1.
const BUS_POWERED_HUB: u32 = 100;

/// Checks a bus and its units.
pub fn bus(bench: &Bench<'_>, bus: &dyn Bus) -> Vec<Finding> {
    match bus.list() {
        Err(error) => {
            let failure = vaka_messages::failure(&bus_failure(&error));
            vec![Finding { remedy: failure.remedy, ..Finding::problem("bus", bus.name(), failure.message) }]
        }
        Ok(devices) => {
            let units = devices.iter().filter(|device| is_unit(&unit_event::seen(bench, device), device)).count();
            let says = format!(
                "responds: {}, {} of them with a product sheet or in update mode",
                text::count(devices.len(), "device"),
                units
            );
            let mut found = match bus.empty_reason() {
                None => vec![Finding::ok("bus", bus.name(), says)],
                Some(reason) if bus.name() == NodeBus::NAME => vec![Finding::problem("bus", bus.name(), reason)],
                // The checks of the machine report why it has no USB.
                Some(_) => Vec::new(),
            };
            found.extend(devices.iter().flat_map(|device| unit(bench, bus, device)));
            found
        }
    }
}

/// Whether a sheet describes the device, or it has a DFU interface.
fn is_unit(seen: &AttachedUnit, device: &DeviceInfo) -> bool {
    seen.product.is_some() || dfu_mode(device).is_some()
}

/// Checks one unit. Devices without a sheet and without an update mode are ignored.
fn unit(bench: &Bench<'_>, bus: &dyn Bus, device: &DeviceInfo) -> Vec<Finding> {
    let seen = unit_event::seen(bench, device);
    if !is_unit(&seen, device) {
        return Vec::new();
    }
    let name = seen.product.clone().unwrap_or_else(|| "no product sheet".to_owned());
    let about = format!("{} {name} ({})", bench.place(&device.location), seen.id);
    let mut found: Vec<Finding> = Vec::new();
    if let Some(by) = Locks::wanted(&device.location) {
        found.push(
            Finding::note("lock", &about, format!("{by} uses it, or waits for it"))
                .remedy("Wait for its end; two processes never work on one unit."),
        );
    }
    if bus.name() == NativeBus::NAME
        && let Some(used) = system::device(&device.location.port)
    {
        found.extend(rights(&about, device, &used));
        found.extend(serial_ports(bench, &about, device, &used));
        found.extend(taken(&about, &used));
        found.extend(power(&about, &used));
    }
    if !found.iter().any(|finding| finding.severity == Severity::Problem) {
        found.push(answers(bench, device, &about));
    }
    // Webcams and radios have DFU interfaces too, so this is only a note.
    if seen.product.is_none() && seen.mode != Mode::Update {
        for finding in &mut found {
            finding.severity = finding.severity.min(Severity::Note);
        }
    }
    found
}

/// Checks the user's access, and finds the missing rule.
fn rights(about: &str, device: &DeviceInfo, used: &DeviceUse) -> Option<Finding> {
    let node = used.node.display();
    match &used.access {
        Access::Granted => None,
        Access::NoNode => Some(
            Finding::problem("rights", about, format!("{node} is missing"))
                .remedy("In a container, pass /dev/bus/usb into it."),
        ),
        Access::Failed(why) => Some(
            Finding::problem("rights", about, format!("{node}: {why}")).remedy("Unplug the unit and plug it in again."),
        ),
        Access::Denied { owner, group, mode } => {
            let group = rules::group(*group);
            let says = format!(
                "this user has no permission: {node} belongs to user {owner} and group {group}, mode {mode:04o}"
            );
            let remedy = match rules::naming(device.vendor, device.product) {
                None => "No udev rule names it. Create rules for the units of your sheets, then replug it: vaka setup rules | sudo tee /etc/udev/rules.d/70-vaka.rules && sudo udevadm control --reload".to_owned(),
                Some(file) if group == rules::GROUP && rules::in_group(rules::GROUP) == Some(false) => format!(
                    "{} grants access to the group {group}, which this user is not in: sudo usermod -aG {group} \"$USER\", then log in again.",
                    file.display()
                ),
                Some(file) => format!(
                    "{} names it, but was not applied: sudo udevadm control --reload, then replug the unit.",
                    file.display()
                ),
            };
            Some(Finding::problem("rights", about, says).remedy(remedy))
        }
    }
}

/// Checks the user's access to the serial ports of a unit that is spoken to on one.
fn serial_ports(bench: &Bench<'_>, about: &str, device: &DeviceInfo, used: &DeviceUse) -> Vec<Finding> {
    let is_spoken_to =
        bench.recognise(device).is_some_and(|known| known.sheets.iter().any(|one| one.has_serial_port()));
    let ports = used.interfaces.iter().flat_map(|interface| &interface.serial_ports);
    let ports = ports.filter(|_| is_spoken_to);
    ports.map(|node| serial_port(about, &node.display().to_string(), &system::port_access(node))).collect()
}

fn serial_port(about: &str, node: &str, access: &Access) -> Finding {
    match access {
        Access::Granted => Finding::ok("serial", about, format!("this user may use its serial port {node}")),
        Access::Denied { group, mode, .. } => {
            let group = rules::group(*group);
            let says = format!(
                "this user may not use its serial port {node}, which belongs to group {group}, mode {mode:04o}"
            );
            // With rights to the USB device the port is not needed.
            Finding::note("serial", about, says).remedy(format!(
                "Needed only without rights to the USB device, or for a bridge chip: sudo usermod -aG {group} \"$USER\", then log in again."
            ))
        }
        Access::NoNode => Finding::note("serial", about, format!("{node} is missing"))
            .remedy("In a container, pass the serial port into it."),
        Access::Failed(why) => {
            Finding::note("serial", about, format!("{node}: {why}")).remedy("Unplug the unit and plug it in again.")
        }
    }
}

/// Checks drivers and programs that use it.
fn taken(about: &str, used: &DeviceUse) -> Vec<Finding> {
    let mut found = Vec::new();
    for program in &used.programs {
        let (name, node) = (text::sanitize(&program.name), program.node.display());
        let says = format!("program '{name}', process {}, has {node} open", program.process);
        found.push(
            Finding::problem("held", about, says)
                .remedy(format!("Close that program, or end it: kill {}", program.process)),
        );
    }
    for disk in &used.mounted {
        let mode = if disk.read_only { ", read-only" } else { "" };
        let says = format!("its disk is mounted at {}{mode}", disk.folder.display());
        let finding = match disk.read_only {
            true => Finding::problem("mounted", about, says)
                .remedy("Mount it writable, or unmount it so that Vaka accesses the disk directly."),
            false => Finding::note("mounted", about, says)
                .remedy("No action is required: the disk is used through that folder."),
        };
        found.push(finding);
    }
    let drivers =
        used.interfaces.iter().filter(|interface| interface.driver.as_deref().is_some_and(|driver| driver != "usbfs"));
    for interface in drivers {
        let nodes: Vec<String> = interface.nodes.iter().map(|node| node.display().to_string()).collect();
        let nodes = if nodes.is_empty() { String::new() } else { format!(" ({})", nodes.join(", ")) };
        let driver = interface.driver.as_deref().unwrap_or_default();
        let says = format!(
            "the system's driver {driver} uses interface {}{nodes}; it is detached during the work",
            interface.number
        );
        found.push(Finding::ok("driver", about, says));
    }
    found
}

fn power(about: &str, used: &DeviceUse) -> Option<Finding> {
    let wants = used.wants.filter(|wants| used.hub_is_bus_powered && *wants > BUS_POWERED_HUB)?;
    let says = format!("it requests {wants} mA from a bus-powered hub, which supplies {BUS_POWERED_HUB} mA per port");
    Some(
        Finding::note("power", about, says)
            .remedy("If it disconnects during an erase or write, use a port of the machine or a self-powered hub."),
    )
}

/// Checks whether it replies to requests.
fn answers(bench: &Bench<'_>, device: &DeviceInfo, about: &str) -> Finding {
    let known = bench.recognise(device).or_else(|| bench.undescribed(device));
    let Some(candidate) = known else { return Finding::ok("unit", about, "is listed; it was not opened") };
    let mut quiet = |_| {};
    let mut cx = Context::new(&SystemClock, &mut quiet, signals::flag());
    if programmer_of(bench, device).is_some() {
        return match target::ask(bench, device, &mut cx) {
            Ok(told) => Finding::ok("unit", about, format!("reaches a chip: {}", told_text(&told))),
            Err(failure) => {
                let failure = vaka_messages::failure(&failure);
                Finding { remedy: failure.remedy, ..Finding::problem("unit", about, failure.message) }
            }
        };
    }
    if !bench.can_probe(&candidate) {
        return Finding::ok(
            "unit",
            about,
            "is listed; it was not opened, because closing it would end its update mode",
        );
    }
    match bench.look(device, &mut cx) {
        Ok(opened) => match &opened.identity.oddities[..] {
            [] => Finding::ok("unit", about, "can be opened and identified"),
            odd => Finding::note("unit", about, odd.join("; ")),
        },
        Err(error) => {
            let failure = vaka_messages::failure(&open_failure(&error, &bench.place(&device.location)));
            Finding { remedy: failure.remedy, ..Finding::problem("unit", about, failure.message) }
        }
    }
}

/// The properties of a chip that a programmer read.
fn told_text(told: &[ReportedProperty]) -> String {
    let told: Vec<String> = told.iter().map(|one| format!("{} {}", one.name, one.value)).collect();
    told.join(", ")
}
