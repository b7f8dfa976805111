//! Units whose descriptors, texts or DFU replies are wrong. Source of the layouts: USB 2.0, chapter
//! 9, and DFU 1.1, chapters 4 and 6.

use std::time::Duration;

use super::server::{OnRequest, Reply, Urb, device};
use super::servers::{TERN, surveyed_and_updated};

/// A unit in DFU mode that answers every request, and is nothing like its product.
#[derive(Clone)]
struct Described {
    device: Vec<u8>,
    configuration: Vec<u8>,
    /// The string descriptor of each index from 1; the last one serves all above it.
    strings: Vec<Vec<u8>>,
    /// The reply to DFU_GETSTATUS.
    status: Vec<u8>,
    /// The reply to DFU_UPLOAD.
    upload: Vec<u8>,
    /// How long each reply takes.
    delay: Duration,
}

fn string(text: &str) -> Vec<u8> {
    let units: Vec<u8> = text.encode_utf16().take(126).flat_map(u16::to_le_bytes).collect();
    [vec![u8::try_from(units.len() + 2).unwrap(), 3], units].concat()
}

impl Described {
    fn new() -> Self {
        let device = vec![18, 1, 0, 2, 0, 0, 0, 64, 0x09, 0x12, 0x02, 0, 0, 1, 1, 2, 3, 1];
        let interface = [9, 4, 0, 0, 0, 0xFE, 1, 2, 4];
        let functional = [9, 0x21, 0x0B, 0xFF, 0, 0, 4, 0x1A, 1];
        let strings = ["Skerrow Instruments", "Tern", "T1-1", "@Flash/0x0A000000/48*003Kg"].map(string).to_vec();
        let (status, upload) = (vec![0, 0, 0, 0, 2, 0], vec![0xA5; 1024]);
        let unit = Self { device, configuration: Vec::new(), strings, status, upload, delay: Duration::ZERO };
        unit.configured(1, &[&interface, &functional])
    }

    /// A configuration of these descriptors that states this number of interfaces.
    fn configured(mut self, interfaces: u8, parts: &[&[u8]]) -> Self {
        let parts = parts.concat();
        let total = u16::try_from(9 + parts.len()).unwrap().to_le_bytes();
        self.configuration = [&[9, 2, total[0], total[1], interfaces, 1, 0, 0x80, 50][..], &parts].concat();
        self
    }

    fn with(mut self, change: impl FnOnce(&mut Self)) -> Self {
        change(&mut self);
        self
    }

    /// The same text for all strings.
    fn named(self, text: &str) -> Self {
        self.with(|unit| unit.strings = vec![string(text)])
    }

    fn reply(&self, urb: &Urb) -> Reply {
        std::thread::sleep(self.delay);
        let [kind, request, index, descriptor, ..] = urb.setup;
        let bytes = match (kind, request) {
            (0x80, 6) => match (descriptor, index) {
                (1, _) => self.device.clone(),
                (2, _) => self.configuration.clone(),
                (3, 0) => vec![4, 3, 9, 4],
                (3, index) => self.strings[usize::from(index - 1).min(self.strings.len() - 1)].clone(),
                _ => return Reply::Status(-32),
            },
            (0xA1, 3) => self.status.clone(),
            (0xA1, 5) => vec![2],
            (0xA1, 2) => self.upload.clone(),
            _ if urb.endpoint != 0 => return Reply::Silent,
            _ => Vec::new(),
        };
        Reply::Data(bytes)
    }
}

fn units() -> Vec<(&'static str, Described)> {
    let base = Described::new;
    let interface: &[u8] = &[9, 4, 0, 0, 0, 0xFE, 1, 2, 4];
    let functional: &[u8] = &[9, 0x21, 0x0B, 0xFF, 0, 0, 4, 0x1A, 1];
    let alternates: Vec<u8> = (0..=254u8).flat_map(|n| [9, 4, 0, n, 0, 0xFE, 1, 2, 4]).collect();
    let numbers: Vec<u8> = (0..=254u8).flat_map(|n| [9, 4, n, 0, 0, 0xFE, 1, 2, 4]).collect();
    let device =
        |change: &[(usize, u8)]| base().with(|unit| change.iter().for_each(|(at, value)| unit.device[*at] = *value));
    let configuration = |change: &[(usize, u8)]| {
        base().with(|unit| change.iter().for_each(|(at, value)| unit.configuration[*at] = *value))
    };
    let status = |bytes: &[u8]| base().with(|unit| unit.status = bytes.to_vec());
    vec![
        ("a sound unit with other content", base()),
        ("a device descriptor of no length", device(&[(0, 0)])),
        ("a device descriptor of 255 bytes", device(&[(0, 255)])),
        ("a device descriptor of another kind", device(&[(1, 9)])),
        ("a device descriptor of 8 bytes", base().with(|unit| unit.device.truncate(8))),
        ("packets of no bytes", device(&[(7, 0)])),
        ("no configurations", device(&[(17, 0)])),
        ("other ids than listed", device(&[(8, 0xFF), (10, 0xFF)])),
        ("a configuration of no length", configuration(&[(2, 0), (3, 0)])),
        ("a configuration of one byte", configuration(&[(2, 1), (3, 0)])),
        ("a configuration of 64 KiB", configuration(&[(2, 0xFF), (3, 0xFF)])),
        ("an interface of no length", configuration(&[(9, 0)])),
        ("an interface of one byte", configuration(&[(9, 1)])),
        ("an interface beyond the end", configuration(&[(9, 255)])),
        ("a functional descriptor of no length", configuration(&[(18, 0)])),
        ("a functional descriptor beyond the end", configuration(&[(18, 200)])),
        ("no interfaces", base().configured(0, &[])),
        ("255 interfaces that are not there", base().configured(255, &[interface, functional])),
        ("255 interfaces", base().configured(255, &[&numbers, functional])),
        ("255 alternate settings", base().configured(1, &[&alternates, functional])),
        ("a functional descriptor first", base().configured(1, &[functional, interface])),
        ("no functional descriptor", base().configured(1, &[interface])),
        ("blocks of no bytes", configuration(&[(23, 0), (24, 0)])),
        ("blocks of 64 KiB", configuration(&[(23, 0xFF), (24, 0xFF)])),
        ("endpoints without an interface", base().configured(1, &[&[7, 5, 0x81, 2, 64, 0, 0], interface, functional])),
        ("texts that steer the terminal", base().named("\u{1b}[2J\u{7}\u{9b}31m\u{202e}\r\n\u{e0041}")),
        ("texts of half a character", base().with(|unit| unit.strings = vec![vec![6, 3, 0x00, 0xD8, 0x41, 0]])),
        ("texts of no length", base().with(|unit| unit.strings = vec![vec![0, 3]])),
        ("texts of another kind", base().with(|unit| unit.strings = vec![vec![4, 9, 65, 0]])),
        ("texts that are longer than stated", base().with(|unit| unit.strings = vec![vec![4, 3, 65, 0, 66, 0, 67, 0]])),
        ("the longest texts", base().named(&"W".repeat(126))),
        ("a memory of 4 GiB", base().named("@Flash/0x00000000/999*999Mg")),
        ("a memory that wraps", base().named("@Flash/0xFFFFFFFF/999*999Mg")),
        ("sectors of no bytes", base().named("@Flash/0x0A000000/999*000Kg")),
        ("a hundred memories", base().named(&format!("@F{}", "/0x0/1*1Kg".repeat(12)))),
        ("a memory without an end", base().named("@Flash/0x0A000000/48*003K")),
        ("a pause of five hours", status(&[0, 0xFF, 0xFF, 0xFF, 2, 0])),
        ("an unknown state", status(&[0, 0, 0, 0, 99, 0])),
        ("an unknown error", status(&[99, 0, 0, 0, 10, 0])),
        ("an error without an end", status(&[3, 0, 0, 0, 10, 0])),
        ("busy for ever", status(&[0, 1, 0, 0, 4, 0])),
        ("a status of one byte", status(&[0])),
        ("no status", status(&[])),
        ("its own reason without an end", status(&[11, 0, 0, 0, 10, 9])),
        ("reads of no bytes", base().with(|unit| unit.upload = Vec::new())),
        ("reads of one byte", base().with(|unit| unit.upload = vec![1])),
        ("each reply after a second", base().with(|unit| unit.delay = Duration::from_secs(1))),
        (
            "texts after a second",
            base().configured(1, &[&alternates, functional]).with(|unit| unit.delay = Duration::from_millis(400)),
        ),
    ]
}

/// Units that stop replying at some kind of request.
fn silent_units() -> Vec<(&'static str, OnRequest)> {
    let when = |is_silent: fn(&Urb) -> bool| {
        let unit = Described::new();
        device(TERN, move |urb| if is_silent(urb) { Reply::Silent } else { unit.reply(urb) })
    };
    vec![
        ("silent about texts", when(|urb| urb.setup[1] == 6 && urb.setup[3] == 3)),
        ("silent about its configuration", when(|urb| urb.setup[1] == 6 && urb.setup[3] == 2)),
        ("silent about its serial number", when(|urb| urb.setup[1] == 6 && urb.setup[2..4] == [3, 3])),
        ("silent in DFU", when(|urb| urb.setup[0] & 0x60 == 0x20)),
        ("silent in reads", when(|urb| urb.setup[..2] == [0xA1, 2])),
    ]
}

#[test]
fn no_unit_stops_a_command_or_is_believed() {
    let described = units().into_iter().map(|(name, unit)| (name, device(TERN, move |urb| unit.reply(urb))));
    surveyed_and_updated(described.chain(silent_units()), &[0], &[3, 4, 5, 6, 9], &["--plan"]);
}
