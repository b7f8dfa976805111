//! The description that a unit gives of itself.

use std::path::{Path, PathBuf};

use vaka_base::text;
use vaka_base::version::ReleaseNumber;
use vaka_core::dfu::{self, Attributes, FunctionalDescriptor, VERSION_ADDRESSED};
use vaka_core::memory::layout::Layout;
use vaka_core::sheet::{Route, RouteKind};
use vaka_core::unit::{
    DeviceId, DfuAlternate, DfuFacts, DfuMemory, MemoryChoice, NodeKind, PropertyValue, ReportedProperty, UnitFacts,
    UsbId,
};
use vaka_usb::descriptor::{Configuration, Interface};
use vaka_usb::strings::{self, Patience, StringReader};
use vaka_usb::{Behind, Clock, DeviceInfo, NodeValue, TransferError, UsbDevice};

use crate::protocol::bulk_only::DiskInterface;
use crate::protocol::dfu::DfuParams;

/// The data read from an open device.
#[derive(Clone, Debug)]
pub struct Identity {
    /// The facts for matching.
    pub facts: UnitFacts,
    /// Violations of the USB standard, one sentence each.
    pub oddities: Vec<String>,
    /// Usable mass-storage interfaces.
    pub disks: Vec<DiskInterface>,
    /// The serial port of the system through which the device was read, if it was.
    pub node: Option<PathBuf>,
    /// The substitute for a missing transfer size.
    packet_size: u8,
}

impl Identity {
    /// The description from the bus enumeration alone, for a device that cannot be opened.
    pub fn listed(device: &DeviceInfo) -> Self {
        Self { facts: from_list(device), oddities: Vec::new(), disks: Vec::new(), node: None, packet_size: 0 }
    }

    /// Whether the device itself was read; otherwise only the bus enumeration is known.
    pub fn was_read(&self) -> bool {
        self.packet_size != 0
    }

    /// The session parameters for the memory that a route writes; `None` if the unit has no such
    /// memory.
    pub fn params(&self, route: &Route) -> Option<DfuParams> {
        let memories = self.facts.memories(&route.kind.memory());
        let holds = |memory: &&DfuMemory<'_>| {
            let layout = memory.alternate.layout.as_ref();
            layout.is_some_and(|layout| route.writes.iter().all(|r| layout.map.sectors_in(r.span).is_some()))
        };
        let addressed = matches!(route.kind, RouteKind::Dfu { .. });
        let memory = match addressed {
            // If there are several memories, use the one that covers the route's regions.
            true => memories.iter().find(holds).or(memories.first())?,
            false => memories.first()?,
        };
        Some(self.params_of(memory, addressed))
    }

    /// The parameters for the only memory that matches, for a unit without a sheet.
    pub fn only_params(&self, choice: &MemoryChoice) -> Option<DfuParams> {
        let memories = self.facts.memories(choice);
        let told: Vec<_> = memories.iter().filter(|memory| memory.alternate.layout.is_some()).collect();
        match (&memories[..], &told[..]) {
            ([only], _) => Some(self.params_of(only, only.is_addressed())),
            (_, [only]) => Some(self.params_of(only, true)),
            _ => None,
        }
    }

    /// The parameters for the first memory that matches, to send numbered blocks.
    pub fn first_params(&self, choice: &MemoryChoice) -> Option<DfuParams> {
        let memories = self.facts.memories(choice);
        memories.first().map(|memory| self.params_of(memory, false))
    }

    fn params_of(&self, memory: &DfuMemory<'_>, addressed: bool) -> DfuParams {
        let functional = memory.interface.functional;
        let size = functional.map_or(0, |found| found.transfer_size);
        DfuParams {
            interface: memory.interface.interface,
            alternate: memory.alternate.number,
            block_size: if size == 0 { u16::from(self.packet_size.max(8)) } else { size },
            size_is_known: size != 0,
            attributes: functional.map_or(UNKNOWN_ATTRIBUTES, |found| found.attributes),
            addressed,
            sectors: memory.alternate.layout.as_ref().map(|layout| layout.map.clone()),
        }
    }
}

/// Assumed attributes of a unit without a functional descriptor: downloading works. Reading is
/// not attempted.
const UNKNOWN_ATTRIBUTES: Attributes = Attributes(1);

/// The USB ids of a device, the kind of a node, or the programmer of a target, from the bus's list.
pub fn id_of(device: &DeviceInfo) -> DeviceId {
    let usb = DeviceId::Usb(UsbId { vendor: device.vendor, product: device.product });
    let Some((node, kind)) = device.node.as_ref().and_then(|node| Some((node, NodeKind::new(&node.kind)?))) else {
        return usb;
    };
    match node.behind {
        Behind::Adapter => DeviceId::Node(kind),
        Behind::Programmer => DeviceId::Target(kind),
    }
}

fn reported((name, value): &(String, NodeValue)) -> ReportedProperty {
    let value = match value {
        NodeValue::Number(number) => PropertyValue::Number(*number),
        NodeValue::Text(text) => PropertyValue::Text(text::sanitize(text)),
    };
    ReportedProperty { name: name.clone(), value }
}

/// The facts that the bus lists of a device, without opening it.
pub fn from_list(device: &DeviceInfo) -> UnitFacts {
    let text = |found: &Option<String>| found.as_deref().map(text::sanitize).filter(|found| !found.trim().is_empty());
    UnitFacts {
        product: text(&device.product_text),
        serial: text(&device.serial),
        told: device.node.iter().flat_map(|node| &node.told).map(reported).collect(),
        ..UnitFacts::listed(id_of(device), ReleaseNumber(device.release))
    }
}

/// Reads descriptors and strings of an open device. Changes nothing in it.
///
/// # Errors
/// The device is gone, or its descriptors cannot be read at all.
pub fn identify(device: &mut dyn UsbDevice, clock: &dyn Clock) -> Result<Identity, TransferError> {
    let mut patience = Patience::new(clock);
    let descriptor = strings::device_descriptor(device, &mut patience)?;
    let configuration = strings::configuration(device, &mut patience)?;
    let language = StringReader::of(device, &mut patience)?;
    let mut texts = Texts { language, patience };
    let mut oddities = Vec::new();
    let (promised, described) = (usize::from(configuration.promised), configuration.described());
    if promised != described {
        let promised = text::count(promised, "interface");
        oddities.push(format!("its configuration descriptor declares {promised}, but describes {described}"));
    }
    let mut dfu = Vec::new();
    for number in dfu_interfaces(&configuration) {
        dfu.push(dfu_facts(number, &configuration, device, &mut texts, &mut oddities)?);
    }
    Ok(Identity {
        facts: UnitFacts {
            id: UsbId { vendor: descriptor.vendor, product: descriptor.product }.into(),
            release: ReleaseNumber(descriptor.release),
            maker: texts.read(device, descriptor.maker_string)?,
            product: texts.read(device, descriptor.product_string)?,
            serial: texts.read(device, descriptor.serial_string)?,
            dfu,
            volume: None,
            told: Vec::new(),
            lines: Vec::new(),
        },
        oddities,
        disks: disks(&configuration),
        node: device.node().map(Path::to_owned),
        packet_size: descriptor.max_packet_0,
    })
}

/// Reads the strings of one unit, in the time that it has for all of them.
struct Texts<'c> {
    language: StringReader,
    patience: Patience<'c>,
}

impl Texts<'_> {
    fn read(&mut self, device: &mut dyn UsbDevice, index: u8) -> Result<Option<String>, TransferError> {
        let found = self.language.get(device, index, &mut self.patience)?;
        Ok(found.map(|found| text::sanitize(&found)).filter(|text| !text.is_empty()))
    }
}

/// Class, subclass and protocol of bulk-only mass storage with SCSI commands, and
/// the other subclasses of it that are met. Source: *USB Mass Storage Class,
/// Overview*, sections 2 and 3.
pub(crate) fn is_disk(class: u8, subclass: u8, protocol: u8) -> bool {
    class == 8 && matches!(subclass, 1 | 2 | 4 | 5 | 6) && protocol == 0x50
}

fn disks(configuration: &Configuration) -> Vec<DiskInterface> {
    let settings = configuration.interfaces.iter();
    settings.filter_map(disk_interface).collect()
}

/// A mass-storage interface with both of its endpoints.
pub(crate) fn disk_interface(i: &Interface) -> Option<DiskInterface> {
    let is_disk = i.alternate == 0 && is_disk(i.class, i.subclass, i.protocol);
    let disk = || Some(DiskInterface { number: i.number, data_in: i.bulk(true)?, data_out: i.bulk(false)? });
    is_disk.then(disk)?
}

/// The numbers of the DFU interfaces, each once.
fn dfu_interfaces(configuration: &Configuration) -> Vec<u8> {
    let is_dfu = |i: &&Interface| (i.class, i.subclass) == (dfu::CLASS, dfu::SUBCLASS);
    let mut numbers: Vec<u8> = configuration.interfaces.iter().filter(is_dfu).map(|i| i.number).collect();
    numbers.sort_unstable();
    numbers.dedup();
    numbers
}

fn dfu_facts(
    number: u8,
    configuration: &Configuration,
    device: &mut dyn UsbDevice,
    texts: &mut Texts<'_>,
    oddities: &mut Vec<String>,
) -> Result<DfuFacts, TransferError> {
    let settings: Vec<&Interface> = configuration.interfaces.iter().filter(|i| i.number == number).collect();
    let in_dfu_mode = settings.iter().any(|setting| setting.protocol == dfu::PROTOCOL_DFU_MODE);
    let functional = functional_descriptor(number, &settings, device, &mut texts.patience)?;
    let mut alternates = Vec::new();
    for setting in &settings {
        let name = texts.read(device, setting.string)?;
        let layout = name.as_deref().and_then(Layout::parse);
        if let Some(layout) = &layout {
            oddities
                .extend(layout.oddities.iter().map(|oddity| format!("memory layout \"{}\": {oddity}", layout.name)));
        }
        alternates.push(DfuAlternate { number: setting.alternate, name, layout });
    }
    match functional {
        None if in_dfu_mode => {
            oddities.push("it has no DFU functional descriptor; the smallest block size is used".into());
        }
        Some(found) if in_dfu_mode && found.transfer_size == 0 => {
            oddities.push("its transfer size is 0; the smallest block size is used".into());
        }
        Some(found) if found.version != VERSION_ADDRESSED && alternates.iter().any(|a| a.layout.is_some()) => {
            oddities.push(format!("it reports a memory layout, but its DFU version is {:04x}", found.version));
        }
        _ => {}
    }
    Ok(DfuFacts { interface: number, in_dfu_mode, alternates, functional })
}

/// The functional descriptor. It may follow each alternate setting or only one of them; if it
/// follows none, it is requested from the unit, which many units reject.
fn functional_descriptor(
    number: u8,
    settings: &[&Interface],
    device: &mut dyn UsbDevice,
    patience: &mut Patience<'_>,
) -> Result<Option<FunctionalDescriptor>, TransferError> {
    let descriptors = settings.iter().flat_map(|setting| &setting.class_descriptors);
    if let Some(found) = FunctionalDescriptor::find(descriptors.map(Vec::as_slice)) {
        return Ok(Some(found));
    }
    match strings::class_descriptor(device, dfu::DESCRIPTOR_TYPE, number, patience) {
        Ok(bytes) => Ok(FunctionalDescriptor::parse(&bytes)),
        Err(TransferError::Disconnected) => Err(TransferError::Disconnected),
        Err(_) => Ok(None),
    }
}
