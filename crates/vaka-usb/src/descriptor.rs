//! USB descriptors, parsed from untrusted devices.
//!
//! Source: USB 2.0, section 9.6. A descriptor that is shorter than its kind
//! needs is left out, a longer one is read as far as it is known; neither
//! spoils the rest.

use crate::device::{EndpointInfo, PipeKind};

/// bDescriptorType values. Source: USB 2.0, table 9-5.
pub mod kind {
    /// DEVICE
    pub const DEVICE: u8 = 1;
    /// CONFIGURATION
    pub const CONFIGURATION: u8 = 2;
    /// STRING
    pub const STRING: u8 = 3;
    /// INTERFACE
    pub const INTERFACE: u8 = 4;
    /// ENDPOINT
    pub const ENDPOINT: u8 = 5;
}

/// The device descriptor, reduced to the fields used here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DeviceDescriptor {
    /// bMaxPacketSize0.
    pub max_packet_0: u8,
    /// idVendor.
    pub vendor: u16,
    /// idProduct.
    pub product: u16,
    /// bcdDevice.
    pub release: u16,
    /// iManufacturer; 0 for none.
    pub maker_string: u8,
    /// iProduct; 0 for none.
    pub product_string: u8,
    /// iSerialNumber; 0 for none.
    pub serial_string: u8,
}

impl DeviceDescriptor {
    /// Parses the 18 bytes; `None` if there are fewer or the descriptor has another type.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let bytes: &[u8; 18] = bytes.first_chunk()?;
        let word = |at: usize| u16::from_le_bytes([bytes[at], bytes[at + 1]]);
        (bytes[1] == kind::DEVICE).then(|| Self {
            max_packet_0: bytes[7],
            vendor: word(8),
            product: word(10),
            release: word(12),
            maker_string: bytes[14],
            product_string: bytes[15],
            serial_string: bytes[16],
        })
    }
}

/// One alternate setting of one interface.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Interface {
    /// bInterfaceNumber.
    pub number: u8,
    /// bAlternateSetting.
    pub alternate: u8,
    /// bInterfaceClass.
    pub class: u8,
    /// bInterfaceSubClass.
    pub subclass: u8,
    /// bInterfaceProtocol.
    pub protocol: u8,
    /// iInterface; 0 for none.
    pub string: u8,
    /// Bulk and interrupt endpoints.
    pub pipes: Vec<EndpointInfo>,
    /// Class-specific descriptors that follow it, as raw bytes.
    pub class_descriptors: Vec<Vec<u8>>,
}

impl Interface {
    /// The bulk endpoint of a direction, if there is one.
    pub fn bulk(&self, is_in: bool) -> Option<EndpointInfo> {
        self.pipes.iter().find(|pipe| pipe.kind == PipeKind::Bulk && pipe.is_in() == is_in).copied()
    }
}

/// A configuration with its interfaces.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Configuration {
    /// bConfigurationValue.
    pub value: u8,
    /// bNumInterfaces: the declared number of interfaces.
    pub promised: u8,
    /// The interfaces in the order of the block.
    pub interfaces: Vec<Interface>,
}

impl Configuration {
    /// The number of interfaces described, each counted once for all its settings.
    pub fn described(&self) -> usize {
        let numbers: std::collections::BTreeSet<u8> =
            self.interfaces.iter().map(|interface| interface.number).collect();
        numbers.len()
    }

    /// Parses a whole configuration block. Stops at a descriptor without a length or past the
    /// end; descriptors before it count. `None` if the block does not start with a configuration
    /// descriptor.
    pub fn parse(bytes: &[u8]) -> Option<Self> {
        let head: &[u8; 9] = bytes.first_chunk()?;
        if head[1] != kind::CONFIGURATION {
            return None;
        }
        let mut interfaces: Vec<Interface> = Vec::new();
        let mut readable = true;
        for descriptor in DescriptorWalk(bytes).skip(1) {
            match descriptor[1] {
                kind::INTERFACE => {
                    let parsed = interface(descriptor);
                    // Descriptors after an unreadable interface do not belong to the interface
                    // before it.
                    readable = parsed.is_some();
                    interfaces.extend(parsed);
                }
                kind::ENDPOINT if readable => {
                    if let (Some(last), Some(pipe)) = (interfaces.last_mut(), pipe(descriptor)) {
                        last.pipes.push(pipe);
                    }
                }
                // Class-specific types. Source: USB 2.0, table 9-5 and class documents.
                0x21..=0x25 if readable => {
                    if let Some(last) = interfaces.last_mut() {
                        last.class_descriptors.push(descriptor.to_vec());
                    }
                }
                _ => {}
            }
        }
        Some(Self { value: head[5], promised: head[4], interfaces })
    }
}

fn interface(bytes: &[u8]) -> Option<Interface> {
    let &[_, _, number, alternate, _, class, subclass, protocol, string, ..] = bytes else { return None };
    let (pipes, class_descriptors) = (Vec::new(), Vec::new());
    Some(Interface { number, alternate, class, subclass, protocol, string, pipes, class_descriptors })
}

/// Source: USB 2.0, table 9-13.
fn pipe(bytes: &[u8]) -> Option<EndpointInfo> {
    let &[_, _, address, attributes, low, high, interval, ..] = bytes else { return None };
    let kind = match attributes & 3 {
        2 => PipeKind::Bulk,
        3 => PipeKind::Interrupt,
        _ => return None,
    };
    let packet = (u16::from_le_bytes([low, high]) & 0x7FF).max(1);
    Some(EndpointInfo { address, kind, interval, packet })
}

/// Steps from descriptor to descriptor by bLength; each has at least 2 bytes.
struct DescriptorWalk<'a>(&'a [u8]);

impl<'a> Iterator for DescriptorWalk<'a> {
    type Item = &'a [u8];

    fn next(&mut self) -> Option<&'a [u8]> {
        let len = usize::from(*self.0.first()?);
        let (descriptor, rest) = (len >= 2).then(|| self.0.split_at_checked(len)).flatten()?;
        self.0 = rest;
        Some(descriptor)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Two alternate settings of a DFU interface; the functional descriptor follows the last one
    /// only, as on many devices.
    const DFU: [u8; 36] = [
        9, 2, 36, 0, 1, 1, 0, 0xC0, 50, //
        9, 4, 0, 0, 0, 0xFE, 1, 2, 4, //
        9, 4, 0, 1, 0, 0xFE, 1, 2, 5, //
        9, 0x21, 0x0B, 0xFF, 0, 0, 4, 0x1A, 1,
    ];

    #[test]
    fn interfaces_and_what_follows_them() {
        let configuration = Configuration::parse(&DFU).unwrap();
        assert_eq!(configuration.value, 1);
        let settings: Vec<_> = configuration.interfaces.iter().map(|i| (i.alternate, i.string)).collect();
        assert_eq!(settings, [(0, 4), (1, 5)]);
        assert_eq!(configuration.interfaces[1].class_descriptors, [&DFU[27..]]);
    }

    #[test]
    fn a_broken_descriptor_does_not_spoil_the_rest() {
        let mut short = DFU;
        short[9] = 5; // the first interface now ends after 5 bytes, the walk goes astray there
        assert_eq!(Configuration::parse(&short).unwrap().interfaces, []);
        assert_eq!(Configuration::parse(&DFU[..30]).unwrap().interfaces.len(), 2);
        let mut endless = DFU;
        endless[18] = 0;
        assert_eq!(Configuration::parse(&endless).unwrap().interfaces.len(), 1);
        assert_eq!(Configuration::parse(&DFU[9..]), None);
        for len in 0..9 {
            assert_eq!(Configuration::parse(&DFU[..len]), None);
        }
    }

    #[test]
    fn bulk_endpoints_are_found_by_their_direction() {
        // A mass-storage interface with two bulk endpoints and one for interrupts.
        let bytes = [
            9, 2, 39, 0, 1, 1, 0, 0x80, 50, 9, 4, 0, 0, 3, 8, 6, 0x50, 0, //
            7, 5, 0x82, 3, 8, 0, 10, 7, 5, 0x81, 2, 64, 0, 0, 7, 5, 0x02, 2, 0, 0x0A, 0,
        ];
        let interface = &Configuration::parse(&bytes).unwrap().interfaces[0];
        let found = |is_in| interface.bulk(is_in).map(|pipe| (pipe.address, pipe.packet));
        assert_eq!((found(true), found(false)), (Some((0x81, 64)), Some((0x02, 512))));
        assert_eq!(interface.pipes.len(), 3);
    }

    #[test]
    fn a_device_descriptor_has_18_bytes() {
        let bytes = [18, 1, 0, 2, 0, 0, 0, 64, 0x09, 0x12, 2, 0, 0x50, 1, 1, 2, 3, 1];
        let device = DeviceDescriptor::parse(&bytes).unwrap();
        assert_eq!((device.vendor, device.product, device.release), (0x1209, 2, 0x0150));
        assert_eq!(DeviceDescriptor::parse(&bytes[..17]), None);
    }

    proptest! {
        #[test]
        fn anything_at_all_is_survived(bytes in proptest::collection::vec(any::<u8>(), 0..200), at in 0usize..36, value: u8) {
            let _ = Configuration::parse(&bytes);
            let mut near = DFU;
            near[at] = value;
            let _ = Configuration::parse(&near);
        }
    }
}
