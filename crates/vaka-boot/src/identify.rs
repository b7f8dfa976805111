//! What a unit says of itself.

use vaka_core::dfu::{self, FunctionalDescriptor, VERSION_ADDRESSED};
use vaka_core::memory::layout::Layout;
use vaka_core::text;
use vaka_core::unit::{DfuAlternate, DfuFacts, ReleaseNumber, UnitFacts, UsbId};
use vaka_usb::descriptor::{Configuration, Interface};
use vaka_usb::strings::{self, Strings};
use vaka_usb::{DeviceInfo, TransferError, UsbDevice};

use crate::dfu::Opening;

/// What was read from an open device.
#[derive(Clone, Debug)]
pub struct Identity {
    /// What matching looks at.
    pub facts: UnitFacts,
    /// What is odd about it, each a sentence.
    pub oddities: Vec<String>,
    interface: Option<u8>,
    /// What is used where the unit names no transfer size.
    packet_size: u8,
}

impl Identity {
    /// How to open a DFU session on the memory of this name (or on the first
    /// that tells a layout); `None` if there is none.
    pub fn dfu_opening(&self, memory: Option<&str>) -> Option<Opening> {
        let dfu = self.facts.dfu.as_ref()?;
        let alternate = dfu.alternate(memory)?;
        let block_size = if dfu.transfer_size == 0 { u16::from(self.packet_size.max(8)) } else { dfu.transfer_size };
        Some(Opening {
            interface: self.interface?,
            alternate: alternate.number,
            block_size,
            can_upload: dfu.can_upload,
            sectors: alternate.layout.as_ref().map(|layout| layout.map.clone()),
        })
    }
}

/// What the list alone tells, without opening the device.
pub fn from_list(device: &DeviceInfo) -> UnitFacts {
    UnitFacts {
        id: UsbId { vendor: device.vendor, product: device.product },
        release: ReleaseNumber(device.release),
        maker: None,
        product: None,
        serial: None,
        dfu: None,
    }
}

/// Reads descriptors and strings of an open device. Changes nothing in it.
///
/// # Errors
/// The device is gone, or its descriptors cannot be read at all.
pub fn identify(device: &mut dyn UsbDevice) -> Result<Identity, TransferError> {
    let descriptor = strings::device_descriptor(device)?;
    let configuration = strings::configuration(device)?;
    let texts = Strings::of(device)?;
    let mut text = |index: u8| Ok(texts.get(device, index)?.map(|found| text::tame(&found)).filter(|t| !t.is_empty()));
    let maker = text(descriptor.maker_string)?;
    let product = text(descriptor.product_string)?;
    let serial = text(descriptor.serial_string)?;
    let mut oddities = Vec::new();
    let interface = dfu_interface(&configuration);
    let facts = match interface {
        Some(number) => Some(dfu_facts(number, &configuration, &mut text, &mut oddities)?),
        None => None,
    };
    Ok(Identity {
        facts: UnitFacts {
            id: UsbId { vendor: descriptor.vendor, product: descriptor.product },
            release: ReleaseNumber(descriptor.release),
            maker,
            product,
            serial,
            dfu: facts,
        },
        oddities,
        interface,
        packet_size: descriptor.max_packet_0,
    })
}

/// The number of the DFU interface: the one in DFU mode, else the run-time one.
fn dfu_interface(configuration: &Configuration) -> Option<u8> {
    let of = |protocol: u8| {
        let fits = |i: &&Interface| (i.class, i.subclass, i.protocol) == (dfu::CLASS, dfu::SUBCLASS, protocol);
        configuration.interfaces.iter().find(fits).map(|interface| interface.number)
    };
    of(dfu::PROTOCOL_DFU_MODE).or_else(|| of(dfu::PROTOCOL_RUN_TIME))
}

fn dfu_facts(
    number: u8,
    configuration: &Configuration,
    text: &mut dyn FnMut(u8) -> Result<Option<String>, TransferError>,
    oddities: &mut Vec<String>,
) -> Result<DfuFacts, TransferError> {
    let settings: Vec<&Interface> = configuration.interfaces.iter().filter(|i| i.number == number).collect();
    // It may follow each alternate setting or only one of them.
    let descriptors = settings.iter().flat_map(|setting| &setting.class_descriptors);
    let functional = FunctionalDescriptor::find(descriptors.map(Vec::as_slice));
    let mut alternates = Vec::new();
    for setting in &settings {
        let name = text(setting.string)?;
        let layout = name.as_deref().and_then(Layout::parse);
        if let Some(layout) = &layout {
            oddities
                .extend(layout.oddities.iter().map(|oddity| format!("memory layout \"{}\": {oddity}", layout.name)));
        }
        alternates.push(DfuAlternate { number: setting.alternate, name, layout });
    }
    match functional {
        None => oddities.push("it has no DFU functional descriptor; blocks of the smallest size are used".into()),
        Some(found) if found.transfer_size == 0 => {
            oddities.push("its transfer size is 0; blocks of the smallest size are used".into());
        }
        Some(found) if found.version != VERSION_ADDRESSED && alternates.iter().any(|a| a.layout.is_some()) => {
            oddities.push(format!("it tells a memory layout, but its DFU version is {:04x}", found.version));
        }
        Some(_) => {}
    }
    Ok(DfuFacts {
        in_dfu_mode: settings.iter().any(|setting| setting.protocol == dfu::PROTOCOL_DFU_MODE),
        alternates,
        transfer_size: functional.map_or(0, |found| found.transfer_size),
        can_upload: functional.is_some_and(|found| found.attributes.can_upload()),
    })
}
