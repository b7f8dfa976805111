//! The work on one input, for each fuzz target. The tests of `vaka-boot`
//! replay the seeds with the same functions.

#![allow(dead_code)] // a target uses one of them

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::time::Duration;

use vaka_boot::context::Context;
use vaka_boot::protocol::bulk_only::DiskInterface;
use vaka_boot::protocol::dfu::{self, DfuParams};
use vaka_boot::protocol::dialect::Interpreter;
use vaka_core::dfu::Attributes;
use vaka_core::memory::layout::Layout;
use vaka_core::release::archive::{self, Member};
use vaka_core::release::{MANIFEST, Release};
use vaka_core::sheet::Sheet;
use vaka_core::volume::fat::{Layout as FatLayout, SECTOR};
use vaka_dialect::{Dialect, OperationName, Value, no_files};
use vaka_image::address::{Address, Span};
use vaka_image::facts::Suffix;
use vaka_image::{Image, ReadOptions};
use vaka_sim::replay::Trace;
use vaka_sim::scene::Scene;
use vaka_usb::descriptor::{Configuration, DeviceDescriptor};
use vaka_usb::{Clock, EndpointInfo, PipeKind, Setup, TransferError, UsbDevice};

const SHEET: &str = include_str!("../demo/sheets/tern.toml");

/// A sound dialect that the input is put into, so that it comes beyond TOML.
const AROUND: [&str; 3] = [
    "dialect = 1\nname = \"f\"\n[carrier]\nkind = \"serial\"\n[geometry]\nchunk = 16\n[write]\nsend = '''",
    "'''\nreply = \"bytes\" # ",
    "\n",
];

/// Checks that segments are in ascending order, do not overlap and are inside 32 bits.
fn check_image(image: &Image) {
    assert!(image.span().end().get() <= 1 << 32);
    assert!(image.segments().windows(2).all(|pair| pair[0].span().end() < pair[1].span().start()));
}

/// The Intel HEX reader, and its writer on what was read.
pub(crate) fn hex(bytes: &[u8]) {
    if let Ok(image) = vaka_image::hex::read(bytes) {
        check_image(&image);
        assert_eq!(
            vaka_image::hex::read(&vaka_image::hex::write(&image)).map(|again| again.segments().to_vec()),
            Ok(image.segments().to_vec())
        );
    }
}

/// The S-record reader, and its writer on what was read.
pub(crate) fn srec(bytes: &[u8]) {
    if let Ok(image) = vaka_image::srec::read(bytes) {
        check_image(&image);
        assert_eq!(
            vaka_image::srec::read(&vaka_image::srec::write(&image)).map(|again| again.segments().to_vec()),
            Ok(image.segments().to_vec())
        );
    }
}

/// The ELF reader.
pub(crate) fn elf(bytes: &[u8]) {
    if let Ok(image) = vaka_image::elf::read(bytes) {
        check_image(&image);
    }
}

/// The UF2 reader, and its writer on what was read. Blocks are made whole, so that
/// the magic numbers need not be guessed.
pub(crate) fn uf2(bytes: &[u8]) {
    let mut file = Vec::new();
    for piece in bytes.chunks(96) {
        let mut block = [0; 512];
        block[..8].copy_from_slice(&[0x55, 0x46, 0x32, 0x0A, 0x57, 0x51, 0x5D, 0x9E]);
        block[508..].copy_from_slice(&[0x30, 0x6F, 0xB1, 0x0A]);
        block[8..8 + piece.len()].copy_from_slice(piece);
        file.extend_from_slice(&block);
    }
    let _ = vaka_image::uf2::read(bytes);
    for set in vaka_image::uf2::read(&file).into_iter().flat_map(|firmware| firmware.sets) {
        let image = set.image;
        check_image(&image);
        if let Some(written) = vaka_image::uf2::write(&image, Some(7)) {
            assert!(vaka_image::uf2::read(&written).is_ok());
        }
    }
}

/// The readers of DFU files. The suffix is put right, so that its CRC need not be
/// guessed.
pub(crate) fn dfu_file(bytes: &[u8]) {
    let _ = vaka_image::dfu_file::suffix(bytes);
    let mut file = bytes.to_vec();
    vaka_image::dfu_file::append_suffix(&mut file, Suffix { release: 1, product: 2, vendor: 3, version: 0x011A });
    for at in [None, Some(Address::new(0xFFFF_FF00))] {
        for set in vaka_image::read_all(&file, at).into_iter().flat_map(|firmware| firmware.sets) {
            assert!(set.image.span().end().get() <= 1 << 32);
        }
    }
}

/// Detection, raw binaries, and the search for a stamp.
pub(crate) fn stamp(bytes: &[u8]) {
    let options = ReadOptions { at: Some(Address::new(0x1000)), ..ReadOptions::default() };
    if let Ok(image) = vaka_image::read(bytes, options) {
        let _ = vaka_image::stamp::find(&image, Some(4));
        if let vaka_image::stamp::StampSearch::One(_) = vaka_image::stamp::find(&image, None)
            && let Ok(sealed) = vaka_image::stamp::seal(&image)
        {
            let found = vaka_image::stamp::find(&sealed, None);
            assert!(
                matches!(found, vaka_image::stamp::StampSearch::One(stamp) if stamp.seal == vaka_image::stamp::SealState::Good)
            );
        }
    }
}

/// The memory layout text of a DFU interface.
pub(crate) fn layout(bytes: &[u8]) {
    if let Some(layout) = std::str::from_utf8(bytes).ok().and_then(Layout::parse) {
        assert!(layout.map.zones().iter().all(|zone| zone.span().end().get() <= 1 << 32));
    }
}

/// A maker's own wrapper, and the product sheet that describes it: the bytes up
/// to the first zero are a sheet's end, the rest is a file.
pub(crate) fn wrapper(bytes: &[u8]) {
    let (text, file) = bytes.split_at(bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len()));
    let Ok(text) = std::str::from_utf8(text) else { return };
    let Ok(sheet) = Sheet::parse("fuzz.toml", &format!("{SHEET}{text}")) else { return };
    for wrapper in &sheet.wrappers {
        let whole = [&wrapper.magic[..], file].concat();
        for file in [file, &whole] {
            if let Some(Ok(opened)) = wrapper.unwrap(file) {
                assert!(opened.payload.len() <= file.len());
            }
        }
    }
}

/// The dialect language: whatever a file holds, it is read or refused, with line and
/// column inside the file; what was read can be shown.
pub(crate) fn dialect(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let inside = text.replace("'''", "''");
    let framed = format!("{}{inside}{}{}", AROUND[0], AROUND[1], AROUND[2]);
    let (head, tail) = inside.split_once('|').unwrap_or((&inside, "u8 x"));
    let both = format!("{}{head}'''\nreply = '''{tail}'''\n[restart]\ndo = '''{tail}'''\n", AROUND[0]);
    for text in [text, &framed, &both] {
        match Dialect::parse("f", text, &no_files) {
            Ok(dialect) => {
                let _ = dialect.rows();
            }
            Err(errors) => {
                for error in errors.0 {
                    assert!(error.line >= 1 && error.line <= text.lines().count() + 1, "{error}");
                    assert!(error.column >= 1, "{error}");
                }
            }
        }
    }
}

/// A release: the file itself, and one whose manifest and member are the input.
pub(crate) fn release(bytes: &[u8]) {
    let open = |file: Vec<u8>| {
        if let Ok(release) = Release::open(Arc::new(file), "0.1.0") {
            for name in release.manifest.members.keys() {
                assert!(release.member(name).is_ok());
            }
            let _ = release.notes();
        }
    };
    open(bytes.to_vec());
    let (manifest, member) = bytes.split_at(bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len()));
    let members = [Member { name: MANIFEST, data: manifest }, Member { name: "a.bin", data: member }];
    open(archive::write(&members));
}

/// A product sheet: the input alone, and behind a sound one.
pub(crate) fn sheet(bytes: &[u8]) {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    for text in [text, &format!("{SHEET}{text}")] {
        if let Err(errors) = Sheet::parse("f", text) {
            assert!(errors.0.iter().all(|error| error.line <= text.lines().count() + 1));
        }
    }
}

/// A scene of simulated units.
pub(crate) fn scene(bytes: &[u8]) {
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = Scene::parse(text);
    }
}

/// A recorded run.
pub(crate) fn trace(bytes: &[u8]) {
    if let Ok(text) = std::str::from_utf8(bytes) {
        let _ = Trace::parse(text);
    }
}

/// Device and configuration descriptors.
pub(crate) fn descriptor(bytes: &[u8]) {
    let _ = DeviceDescriptor::parse(bytes);
    if let Some(configuration) = Configuration::parse(bytes) {
        assert!(configuration.interfaces.len() <= bytes.len());
    }
}

/// The layout of a FAT volume, its label and its free space. The input is a whole disk.
pub(crate) fn volume(bytes: &[u8]) {
    let sector = |at: u64| -> [u8; SECTOR] {
        let from = usize::try_from(at).unwrap_or(usize::MAX).saturating_mul(SECTOR).min(bytes.len());
        let mut sector = [0; SECTOR];
        let len = (bytes.len() - from).min(SECTOR);
        sector[..len].copy_from_slice(&bytes[from..from + len]);
        sector
    };
    let mut first = sector(0);
    first[11..13].copy_from_slice(&[0, 2]);
    first[510..].copy_from_slice(&[0x55, 0xAA]);
    let _ = vaka_core::volume::fat::volume(&first, 1 << 20);
    if let Ok(layout) = FatLayout::parse(&first, 1 << 20) {
        let mut reads = 0;
        let _ = layout.label(&mut |at| {
            reads += 1;
            Ok::<_, ()>(sector(at))
        });
        assert!(reads <= 512, "{reads} reads for a label");
        let free = layout.free_run(bytes);
        assert!(free.end <= layout.sectors);
    }
}

/// Every kind of carrier and of framing, with all that reads answers.
const DIALECTS: [&str; 10] = [
    include_str!("../demo/sheets/dunlin.dialect.toml"),
    include_str!("../demo/sheets/auk.dialect.toml"),
    include_str!("../demo/sheets/avocet.dialect.toml"),
    include_str!("../demo/sheets/fulmar.dialect.toml"),
    include_str!("../demo/sheets/skua.dialect.toml"),
    include_str!("../crates/vaka-dialect/src/templates/serial.dialect.toml"),
    include_str!("../crates/vaka-dialect/src/templates/pipes.dialect.toml"),
    "dialect = 1\nname = 'c'\n[carrier]\nkind = 'pipes'\n[framing]\nkind = 'cobs'\n[geometry]\nchunk = 'size'\nstream = true\n[identify]\nsend = '1'\nreply = \"u8 size, bytes(size) x, bits16be(a:3, _:12, c:1), hex(4) h, dec d, '\\n', bytes rest\"\ntells = { a = 'fold(s = 0, b in x by 3: s * 31 + le(b) & 0xFFFF)' }\n[write]\nerases = true\ndo = \"each size of data { identify_again }\"\n[exchange.identify_again]\nreply = 'u8 n, bytes(n * n) _'\n[checksum]\nsend = '2'\nreply = 'i24be v'\nunit = 'v'\nimage = 'rounds(min(v, 9), a = 1: a * v)'\n[restart]\nsend = '3'",
    "dialect = 1\nname = 'm'\n[carrier]\nkind = 'serial'\njunk = 9\n[framing]\nkind = 'markers'\nstart = \"x'02'\"\nend = \"x'03'\"\nescape = 16\n[geometry]\nchunk = 8\nstream = true\n[sync]\nsend = '1'\nreply = \"bytes(1) k, hexbytes(2) z if k == 'z', u8 s if k != 'z'\"\n[start]\ns = 1\n[table.t]\n0 = 'ok'\n1 = 'busy'\n[write]\nerases = true\nsend = '2'\nreply = 'u8 in t'\nrefused = [\"'e', dec n\", 'u8 = 9']\nbusy = 'u8 = 7'\n[read]\ndo = \"until s == 0 every s ms within 9 s { more }\"\nresult = 'fill(length, 0)'\n[exchange.more]\nsend = '3'\nreply = 'u8 s'\noptional = true\n[restart]\nsend = '4'",
    "dialect = 1\nname = 'r'\n[carrier]\nkind = 'pipes'\n[geometry]\nchunk = 16\nstream = true\n[table.t]\n0 = 'ok'\n1 = 'busy'\n2 = 'nak'\n[exchange.state]\nin = { request = 1 }\nreply = 'u8 in t, u16le n'\n[exchange.drop]\nout = { request = 2 }\n[recover]\ndo = 'drop'\nat_start = true\n[sync]\nsend = ''\nreply = 'u8 in t, bytes _'\n[write]\nerases = true\nsend = 'bytes data'\nreply = 'u8 in t'\nnak = ['u8 = 9', \"'again'\"]\nthen = 'state; let k = random(16); expect len(k) == 16 else \"no\"'\n[read]\nsend = '1'\nreply = 'bytes(length) data, u8 = sum(data) & 0xFF'\n[restart]\ndo = 'alternate 0; bus_reset; raw \"x\"'\n",
];

#[derive(Clone, Default)]
struct Fast(Arc<AtomicU64>);

impl Clock for Fast {
    fn now(&self) -> Duration {
        Duration::from_micros(self.0.load(Ordering::Relaxed))
    }

    fn sleep(&self, time: Duration) {
        self.0.fetch_add(u64::try_from(time.as_micros()).unwrap_or(1), Ordering::Relaxed);
    }
}

/// Answers with what the input holds; then with nothing.
struct Hostile {
    bytes: Vec<u8>,
    at: Arc<AtomicUsize>,
    repeated: u64,
    clock: Fast,
    descriptor: Vec<u8>,
}

impl Hostile {
    fn new(bytes: &[u8], clock: &Fast) -> Self {
        Self {
            bytes: bytes.to_vec(),
            at: Arc::default(),
            repeated: 0,
            clock: clock.clone(),
            descriptor: descriptor_of_all(),
        }
    }

    fn next(&mut self, most: usize, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        // Any transfer takes some time.
        self.clock.sleep(Duration::from_micros(50));
        let at = self.at.load(Ordering::Relaxed);
        let Some(head) = self.bytes.get(at).copied() else {
            self.clock.sleep(timeout);
            return Err(TransferError::Timeout);
        };
        self.at.store(at + 1, Ordering::Relaxed);
        match head {
            0xFF => Err(TransferError::Stall),
            0xFE => {
                self.clock.sleep(timeout);
                Err(TransferError::Timeout)
            }
            0xFD => Err(TransferError::Disconnected),
            // The same again, for ever: a unit that never stops. Each repetition takes longer, so that a
            // time limit of minutes ends it after thousands of transfers, not millions.
            0xFC => {
                self.repeated += 1;
                self.clock.sleep(Duration::from_micros(50 * self.repeated));
                self.at.store(at, Ordering::Relaxed);
                Ok(vec![self.bytes.get(at + 1).copied().unwrap_or(7); most.min(9)])
            }
            len => {
                let from = at + 1;
                let to = (from + usize::from(len)).min(self.bytes.len());
                self.at.store(to, Ordering::Relaxed);
                Ok(self.bytes[from..to].iter().copied().take(most).collect())
            }
        }
    }
}

impl UsbDevice for Hostile {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        match (setup.kind, setup.request, setup.value >> 8) {
            (0x80, 6, 1) => Ok(vec![18, 1, 0, 2, 0, 0, 0, 64, 9, 18, 1, 0, 0, 1, 0, 0, 0, 1]),
            (0x80, 6, 2) => Ok(self.descriptor[..self.descriptor.len().min(usize::from(length))].to_vec()),
            (0x80, 6, _) => Err(TransferError::Stall),
            _ => self.next(usize::from(length), timeout),
        }
    }

    fn control_out(&mut self, _: Setup, _: &[u8], _: Duration) -> Result<(), TransferError> {
        self.clock.sleep(Duration::from_micros(50));
        Ok(())
    }

    fn claim(&mut self, _: u8, _: u8) -> Result<(), TransferError> {
        Ok(())
    }

    fn read_endpoint(&mut self, _: EndpointInfo, length: usize, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        self.next(length, timeout)
    }

    fn write_endpoint(&mut self, _: EndpointInfo, _: &[u8], _: Duration) -> Result<(), TransferError> {
        self.clock.sleep(Duration::from_micros(50));
        Ok(())
    }

    fn clear_halt(&mut self, _: EndpointInfo) -> Result<(), TransferError> {
        Ok(())
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.clock.sleep(within);
        false
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        Ok(())
    }
}

/// One interface of each class that a carrier looks for.
fn descriptor_of_all() -> Vec<u8> {
    let mut bytes = vec![9, 2, 0, 0, 4, 1, 0, 0x80, 50];
    for (number, class) in [[3, 0, 0], [2, 2, 0], [0x0A, 0, 0], [0xFE, 1, 2]].iter().enumerate() {
        bytes.extend([9, 4, number.to_le_bytes()[0], 0, 2, class[0], class[1], class[2], 0]);
        match class[0] {
            0xFE => bytes.extend([9, 0x21, 7, 0, 0, 0, 1, 0x10, 1]),
            3 => bytes.extend([7, 5, 0x81, 3, 64, 0, 1, 7, 5, 0x01, 3, 64, 0, 1]),
            0x0A => bytes.extend([7, 5, 0x82, 2, 64, 0, 0, 7, 5, 0x02, 2, 64, 0, 0]),
            _ => {}
        }
    }
    let total = u16::try_from(bytes.len()).unwrap_or_default().to_le_bytes();
    bytes[2..4].copy_from_slice(&total);
    bytes
}

/// Waits of all operations of an engine on one unit, at most. Chosen by us: far above what a sound
/// unit needs.
const MOST_TIME: Duration = Duration::from_secs(3600);

fn against(bytes: &[u8], work: impl FnOnce(Box<dyn UsbDevice>, &mut Context<'_>)) {
    let clock = Fast::default();
    let (mut quiet, never) = (|_| {}, AtomicBool::new(false));
    let mut cx = Context::new(&clock, &mut quiet, &never);
    let device = Hostile::new(bytes, &clock);
    work(Box::new(device), &mut cx);
    assert!(clock.now() < MOST_TIME, "{:?}", clock.now());
}

/// The DFU engines against a hostile unit: every call ends, and none believes it for ever.
pub(crate) fn dfu_engine(bytes: &[u8]) {
    let Some((flags, bytes)) = bytes.split_first() else { return };
    against(bytes, |device, cx| {
        let params = DfuParams {
            interface: 0,
            alternate: 0,
            block_size: 64,
            size_is_known: flags & 2 != 0,
            attributes: Attributes(flags >> 2),
            addressed: flags & 1 != 0,
            sectors: None,
        };
        let Ok(mut session) = dfu::open(device, params, cx) else { return };
        let at = Address::new(0x0800_0000);
        let _ = session.protection(at, cx);
        if let Some(sector) = Span::new(at, 1024) {
            let _ = session.erase(sector, cx);
        }
        let _ = session.write(at, &[7; 64], cx);
        let _ = session.finish(cx);
        let _ = session.read(at, 64, cx);
        session.rest(cx);
        let _ = session.restart(None, cx);
    });
}

/// The disk engine against a hostile unit.
pub(crate) fn disk_engine(bytes: &[u8]) {
    let pipe = |address| EndpointInfo { address, kind: PipeKind::Bulk, interval: 0, packet: 64 };
    let interface = DiskInterface { number: 0, data_in: pipe(0x81), data_out: pipe(0x02) };
    against(bytes, |device, cx| {
        let opened = vaka_boot::protocol::volume::open(device, &[interface], &|_| true, cx);
        let Ok((mut disk, _)) = opened else { return };
        let _ = disk.read_file("A.TXT", &|_| false, cx);
        if disk.begin_blocks(2, cx).is_ok() {
            let _ = disk.write_blocks(&[7; 1024], cx);
        }
        let _ = disk.eject(cx);
    });
}

/// The dialect engine against a hostile unit: whatever it answers, every operation ends
/// by its deadline, and nothing panics.
pub(crate) fn dialect_engine(bytes: &[u8]) {
    let Some((which, bytes)) = bytes.split_first() else { return };
    let text = DIALECTS[usize::from(*which) % DIALECTS.len()];
    let dialect = Arc::new(Dialect::parse("f", text, &no_files).unwrap_or_else(|errors| panic!("{errors}")));
    let clock = Fast::default();
    let (mut quiet, never) = (|_| {}, AtomicBool::new(false));
    let mut cx = Context::new(&clock, &mut quiet, &never);
    let device = Hostile::new(bytes, &clock);
    let Ok(mut talk) = Interpreter::open(Box::new(device), dialect.clone(), None, &mut cx) else { return };
    let names = dialect.given();
    talk.give(vec![
        (names.origin, Value::Int(0)),
        (names.region_start, Value::Int(0)),
        (names.region_size, Value::Int(4096)),
    ]);
    for name in OperationName::ALL {
        let began = clock.now();
        let given = vec![
            (names.address, Value::Int(256)),
            (names.length, Value::Int(16)),
            (names.data, vec![7; 16].into()),
            (names.index, Value::Int(1)),
            (names.chunks, Value::Int(3)),
            (names.last, Value::Int(0)),
        ];
        let _ = talk.run(name, given, &mut cx);
        // The longest deadline of an operation, and what one last exchange may add.
        assert!(
            clock.now() - began < Duration::from_secs(400),
            "{name:?} of {} took {:?}",
            dialect.name,
            clock.now() - began
        );
    }
}
