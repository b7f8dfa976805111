//! The device side of USB: descriptors and standard requests.

/// The reply of a device to a transfer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answer {
    /// Data to the host.
    Data(Vec<u8>),
    /// Accepted.
    Done,
    /// Refused.
    Stall,
    /// No reply at all.
    Silent,
    /// Busy (NAK): the transfer waits.
    Busy,
}

/// A transfer on a bulk endpoint.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bulk<'a> {
    /// To the host, at most this many bytes.
    In(u8, usize),
    /// To the unit.
    Out(u8, &'a [u8]),
}

impl Bulk<'_> {
    /// bEndpointAddress.
    pub fn endpoint(self) -> u8 {
        match self {
            Self::In(number, _) => number | 0x80,
            Self::Out(number, _) => number,
        }
    }
}

/// A decoded setup packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Setup {
    /// bmRequestType.
    pub kind: u8,
    /// bRequest.
    pub request: u8,
    /// wValue.
    pub value: u16,
    /// wIndex.
    pub index: u16,
    /// wLength.
    pub length: u16,
}

impl Setup {
    /// Decodes the eight bytes on the bus.
    pub fn parse(bytes: [u8; 8]) -> Self {
        let word = |at: usize| u16::from_le_bytes([bytes[at], bytes[at + 1]]);
        Self { kind: bytes[0], request: bytes[1], value: word(2), index: word(4), length: word(6) }
    }

    /// The eight bytes on the bus.
    pub fn bytes(self) -> [u8; 8] {
        let [v0, v1] = self.value.to_le_bytes();
        let [i0, i1] = self.index.to_le_bytes();
        let [l0, l1] = self.length.to_le_bytes();
        [self.kind, self.request, v0, v1, i0, i1, l0, l1]
    }

    /// Whether it is a standard request, neither class nor vendor.
    pub fn is_standard(self) -> bool {
        self.kind & 0x60 == 0
    }
}

/// Class, subclass and protocol of an interface, and its descriptors.
#[derive(Clone, Debug)]
pub struct DescribedInterface {
    /// Class, subclass, protocol.
    pub class: [u8; 3],
    /// Names, one for each alternate setting.
    pub names: Vec<String>,
    /// Class-specific descriptors after the last setting.
    pub extra: Vec<u8>,
    /// Addresses of its bulk endpoints, with packets of 64 bytes.
    pub bulk: Vec<u8>,
    /// Addresses of its interrupt endpoints, with packets of 64 bytes each
    /// millisecond.
    pub interrupt: Vec<u8>,
}

/// The descriptors of a unit in one mode.
#[derive(Clone, Debug)]
pub struct Descriptors {
    vendor: u16,
    product: u16,
    release: u16,
    interfaces: Vec<DescribedInterface>,
    /// Index 1 is the first.
    strings: Vec<String>,
}

impl Descriptors {
    /// A face with these ids, texts (maker, product, serial number) and interfaces.
    pub fn new(ids: (u16, u16), release: u16, texts: [&str; 3], interfaces: Vec<DescribedInterface>) -> Self {
        let mut strings: Vec<String> = texts.iter().map(|text| (*text).to_owned()).collect();
        strings.extend(interfaces.iter().flat_map(|interface| interface.names.iter().cloned()));
        Self { vendor: ids.0, product: ids.1, release, interfaces, strings }
    }

    /// idVendor, idProduct and bcdDevice.
    pub fn ids(&self) -> (u16, u16, u16) {
        (self.vendor, self.product, self.release)
    }

    /// Class, subclass and protocol of each interface.
    pub fn classes(&self) -> impl Iterator<Item = [u8; 3]> + '_ {
        self.interfaces.iter().map(|interface| interface.class)
    }

    /// Answers a standard request.
    pub fn standard(&self, setup: Setup) -> Answer {
        match (setup.kind, setup.request) {
            // GET_DESCRIPTOR
            (0x80, 6) => match self.descriptor(setup.value) {
                Some(mut bytes) => {
                    bytes.truncate(usize::from(setup.length));
                    Answer::Data(bytes)
                }
                None => Answer::Stall,
            },
            // GET_STATUS, GET_CONFIGURATION, GET_INTERFACE
            (0x80..=0x82, 0) => Answer::Data(vec![0, 0]),
            (0x80, 8) => Answer::Data(vec![1]),
            (0x81, 10) => Answer::Data(vec![0]),
            // CLEAR_FEATURE of an endpoint, SET_CONFIGURATION, SET_INTERFACE
            (0x02, 1) if setup.value == 0 => Answer::Done,
            (0x00, 9) if setup.value <= 1 => Answer::Done,
            (0x01, 11) if self.has_setting(setup.index, setup.value) => Answer::Done,
            _ => Answer::Stall,
        }
    }

    fn has_setting(&self, interface: u16, alternate: u16) -> bool {
        self.interfaces
            .get(usize::from(interface))
            .is_some_and(|found| usize::from(alternate) < found.names.len().max(1))
    }

    fn descriptor(&self, value: u16) -> Option<Vec<u8>> {
        let [index, kind] = value.to_le_bytes();
        match kind {
            1 => Some(self.device_descriptor()),
            2 if index == 0 => Some(self.configuration_descriptor()),
            3 if index == 0 => Some(vec![4, 3, 0x09, 0x04]),
            3 => string_descriptor(self.strings.get(usize::from(index) - 1)?),
            _ => None,
        }
    }

    fn device_descriptor(&self) -> Vec<u8> {
        let mut bytes = vec![18, 1, 0x00, 0x02, 0, 0, 0, 64];
        for word in [self.vendor, self.product, self.release] {
            bytes.extend_from_slice(&word.to_le_bytes());
        }
        bytes.extend_from_slice(&[1, 2, 3, 1]);
        bytes
    }

    #[allow(clippy::cast_possible_truncation)] // a handful of interfaces
    fn configuration_descriptor(&self) -> Vec<u8> {
        let mut bytes = vec![9, 2, 0, 0, self.interfaces.len() as u8, 1, 0, 0x80, 50];
        // Strings 1 to 3 are maker, product and serial number.
        let mut name = 4;
        for (number, interface) in (0..).zip(&self.interfaces) {
            let [class, subclass, protocol] = interface.class;
            for alternate in 0..interface.names.len().max(1) as u8 {
                let string = if interface.names.is_empty() { 0 } else { name };
                let pipes = (interface.bulk.len() + interface.interrupt.len()) as u8;
                bytes.extend_from_slice(&[9, 4, number, alternate, pipes, class, subclass, protocol, string]);
                name += u8::from(string != 0);
            }
            bytes.extend_from_slice(&interface.extra);
            interface.bulk.iter().for_each(|address| bytes.extend_from_slice(&[7, 5, *address, 2, 64, 0, 0]));
            interface.interrupt.iter().for_each(|address| bytes.extend_from_slice(&[7, 5, *address, 3, 64, 0, 1]));
        }
        let total = bytes.len() as u16;
        bytes[2..4].copy_from_slice(&total.to_le_bytes());
        bytes
    }
}

fn string_descriptor(text: &str) -> Option<Vec<u8>> {
    let units: Vec<u8> = text.encode_utf16().take(126).flat_map(u16::to_le_bytes).collect();
    let mut bytes = vec![u8::try_from(units.len() + 2).ok()?, 3];
    bytes.extend(units);
    Some(bytes)
}
