//! A device as an event, without opening it.

use vaka_base::text;
use vaka_base::version::Version;
use vaka_core::attached_unit::AttachedUnit;
use vaka_core::sheet::{Sheet, VersionSource};
use vaka_core::unit::{DeviceId, Mode};
use vaka_usb::{DeviceInfo, InterfaceClass, Speed};

use crate::bench::buses::Bench;
use crate::bench::candidate::dfu_mode;
use crate::bench::target::programmer_of;
use crate::protocol::identity;

/// A unit as an event.
pub fn seen(bench: &Bench<'_>, device: &DeviceInfo) -> AttachedUnit {
    let candidate = bench.recognise(device);
    let facts = identity::from_list(device);
    let sheet = candidate.as_ref().and_then(|candidate| candidate.sheets.first().copied());
    let by_class = dfu_mode(device).filter(|mode| *mode == Mode::Update).unwrap_or(Mode::Unknown);
    let mode = candidate.as_ref().map_or(by_class, |candidate| candidate.mode);
    // If the application itself exposes the update disk, the application is running.
    let runs = sheet.is_some_and(|sheet| sheet.runs(facts.id));
    let is_between = sheet.is_some_and(|sheet| sheet.comes_back.as_ref().is_some_and(|after| after.is(facts.id)));
    let mode = match runs {
        // A device left between two stages is in neither application nor update mode.
        true if is_between => Mode::Unknown,
        true => Mode::Application,
        false => mode,
    };
    // Nothing is known of a chip before its programmer is asked.
    let target = programmer_of(bench, device).map(|programmer| programmer.about.clone());
    let mode = if target.is_some() { Mode::Unknown } else { mode };
    let companion = companion(bench, facts.id);
    let is_described = sheet.is_some() || companion.is_some();
    let variants = candidate
        .as_ref()
        .zip(sheet)
        .filter(|_| target.is_none())
        .map(|(candidate, sheet)| candidate.variants_of(sheet));
    AttachedUnit {
        unit: bench.place(&device.location),
        bus: device.location.bus.clone(),
        port: text::sanitize(&device.location.port),
        id: facts.id,
        mode,
        product: target.or_else(|| sheet.map(|sheet| sheet.product.name.clone())).or(companion),
        description: (!is_described).then(|| description(device)).flatten(),
        variants: variants.unwrap_or_default().iter().map(|variant| variant.id.clone()).collect(),
        serial: device.serial.as_deref().map(text::sanitize).filter(|_| !is_described),
        version: sheet
            .filter(|_| runs)
            .filter(|sheet| sheet.after().version == VersionSource::ReleaseNumber)
            .map(|_| facts.release.into())
            .or_else(|| told_version(sheet.filter(|_| runs)?, device)),
        layout: None,
        disk: None,
        folder: None,
        application_file: None,
        files: Vec::new(),
        place: bench.place_name(&device.location).map(text::sanitize),
        speed: speed(device),
        companions: Vec::new(),
        withdrawn: None,
        warnings: Vec::new(),
        obstacle: None,
        remedy: None,
        hint: (!is_described).then(|| hint(device)).flatten(),
        next: Vec::new(),
    }
}

/// The version that a node told when it was discovered.
fn told_version(sheet: &Sheet, device: &DeviceInfo) -> Option<Version> {
    device.node.as_ref()?;
    sheet.application.version.of(&identity::from_list(device))
}

/// The description of a companion device, an adapter or a programmer.
fn companion(bench: &Bench<'_>, id: DeviceId) -> Option<String> {
    let of = |sheet: &Sheet| {
        let companion = sheet.product.companions.iter().find(|companion| companion.id.is(id));
        let is_adapter = || sheet.product.adapters.iter().any(|ids| ids.is(id));
        let programmer = || sheet.programmers.iter().find(|programmer| programmer.id.is(id));
        let name = companion
            .map(|companion| companion.name.as_str())
            .or_else(|| is_adapter().then_some("CAN adapter"))
            .or_else(|| programmer().map(|programmer| programmer.about.as_str()))?;
        Some(format!("{}: {name}", sheet.product.name))
    };
    bench.sheets().iter().find_map(of)
}

/// Product string and kinds of interfaces: `"Bench lamp", HID and serial port`.
fn description(device: &DeviceInfo) -> Option<String> {
    let mut kinds: Vec<&str> = Vec::new();
    for kind in device.interfaces.iter().filter_map(kind_of_interface) {
        if !kinds.contains(&kind) {
            kinds.push(kind);
        }
    }
    let name = device.product_text.as_deref().map(|name| format!("\"{}\"", text::sanitize(name)));
    let parts: Vec<String> = name.into_iter().chain((!kinds.is_empty()).then(|| kinds.join(" and "))).collect();
    (!parts.is_empty()).then(|| parts.join(", "))
}

/// The kind of an interface. Source: usb.org, Defined Class Codes; DFU 1.1, section 4.1.1 for
/// DFU.
fn kind_of_interface(interface: &InterfaceClass) -> Option<&'static str> {
    Some(match (interface.class, interface.subclass) {
        (0x01, _) => "audio",
        (0x02, _) => "serial port",
        (0x03, _) => "HID",
        (0x06, _) => "camera",
        (0x07, _) => "printer",
        (0x08, _) => "disk",
        (0x09, _) => "hub",
        (0x0E, _) => "video",
        (0xE0, _) => "wireless",
        (0xFE, 0x01) => "DFU",
        (0xFF, _) => "vendor class",
        _ => return None,
    })
}

/// The speed of a device. Source: USB 2.0, section 5.3; USB 3.2, section 3.1.
fn speed(device: &DeviceInfo) -> Option<&'static str> {
    Some(match device.speed {
        Speed::Low => "1.5 Mbit/s",
        Speed::Full => "12 Mbit/s",
        Speed::High => "480 Mbit/s",
        Speed::Super => "5 Gbit/s",
        Speed::SuperPlus => "10 Gbit/s",
        Speed::Unknown => return None,
    })
}

/// The probable kind of a device without a sheet. Class codes: the list by usb.org.
fn hint(device: &DeviceInfo) -> Option<&'static str> {
    let is_disk = |i: &InterfaceClass| identity::is_disk(i.class, i.subclass, i.protocol);
    match dfu_mode(device) {
        Some(Mode::Update) => Some("has an interface in DFU mode: this is an update mode"),
        Some(_) => Some("its application has a DFU interface, by which it may enter update mode"),
        None if matches!(&device.interfaces[..], [only] if is_disk(only)) => {
            Some("shows only a disk: a USB stick or an update mode; a product sheet can tell")
        }
        // A mouse, a webcam and many a bootloader have interfaces of their makers' own.
        None => None,
    }
}
