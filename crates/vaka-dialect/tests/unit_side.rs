//! The unit finds in a frame what the host put into it.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::sync::Arc;

use vaka_dialect::unit_side::{Arrival, Receipt, Status, UnitSide};
use vaka_dialect::{Bindings, Dialect, OperationName, Value, no_files};

/// A dialect with a write of these fields.
fn dialect(send: &str, more: &str) -> Arc<Dialect> {
    let text = format!(
        "dialect = 1\nname = \"x\"\n[carrier]\nkind = \"serial\"\n[names]\nKEY = \"x'00112233445566778899AABBCCDDEEFF'\"\n\
         [geometry]\nchunk = 16\n{more}\n[write]\nsend = '''{send}'''\nreply = \"0\"\n"
    );
    Arc::new(Dialect::parse("x.dialect.toml", &text, &no_files).unwrap_or_else(|error| panic!("{send}: {error}")))
}

/// Frames whose fields hide address and data in every way that can be undone.
const FRAMES: [&str; 16] = [
    "0x23, u32le address, u8 = len(data), bytes data",
    "0x23, u32be = address / 2, u8 = len(data) + 3, bytes data, u16le = crc32(above) & 0xFFFF",
    "u8 = len(below), 0x23, u32be address, bytes data, u8 = -sum(above) & 0xFF",
    "'W', hex(8) = address, ' ', hexbytes = data, '\\r\\n'",
    "'W', dec = address, ',', dec(3) = len(data), ',', bytes data, ';'",
    "0x23, u16le = address & 0xFFFF, u16le = address >> 16, u8 = len(data), bytes data",
    "0x23, u8 = address >> 24, u8 = address >> 16 & 0xFF, u16be = address % 65536, bytes(16) = data",
    "0x23, u32le = address ^ 0x5A5A5A5A, u8 = len(data), bytes = map(b in data: b ^ 0x33)",
    "0x23, u32le = ~address & 0xFFFFFFFF, u8 = len(data), bytes = map(b in data: b + nth & 0xFF)",
    "0x23, u32le address, bytes(24) = base64(data)",
    "0x23, u32le address, bytes(16) = aes_ecb_encrypt(KEY, data)",
    "0x23, u32le address, bytes(16) = aes_cbc_encrypt(KEY, KEY, data)",
    "0x23, bytes = u32be(address) ++ data ++ 'END'",
    "0x23, u32le address, bytes(16) = reverse(data), u32le = crc32(data)",
    "0x23, bits32be(top:8 = address >> 24, low:24 = address & 0xFFFFFF), bytes(16) data",
    "0x23, u32le = 0x1000 - address & 0xFFFFFFFF, u16le = len(data) * 2, bytes data, pad(3), 0x55",
];

#[test]
fn what_the_host_sends_is_found_and_a_changed_byte_is_not_taken_for_it() {
    let mut state = 11_u32;
    // Numbers of a simple generator, so that a failure repeats.
    let mut random = |most: u32| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 4) % most
    };
    for send in FRAMES {
        // These have no length of their own on a stream.
        let is_whole = send.contains("bytes = u32be");
        let dialect = dialect(send, "");
        let given = dialect.given();
        let write = (0..).map(|number| dialect.exchange(number)).find(|exchange| exchange.name == "write").unwrap();
        let has_sum = ["crc32(above)", "sum(above)"].iter().any(|sum| send.contains(sum));
        for _ in 0..20 {
            let address = i128::from(random(0x0FFF_FFFF) & !1);
            let data: Vec<u8> = (0..16).map(|_| random(256).to_le_bytes()[0]).collect();
            let mut host = Bindings::new(dialect.clone());
            host.set(given.address, Some(Value::Int(address)));
            host.set(given.data, Some(data.clone().into()));
            let frame = host.request(write).unwrap();
            let mut unit = UnitSide::new(dialect.clone(), |_| true);
            // On a stream the frame has no end; every shorter beginning waits for more.
            if !is_whole {
                let cut = Arrival { bytes: &frame[..frame.len() - 1], ..Arrival::default() };
                assert!(matches!(unit.receive(cut), Receipt::More(_)), "{send}: {frame:02X?}");
            }
            let arrival = Arrival { bytes: &frame, is_whole, ..Arrival::default() };
            let Receipt::Request(request) = unit.receive(arrival) else { panic!("{send}: {frame:02X?}") };
            assert!(request.is_only(OperationName::Write) && request.used == frame.len(), "{send}");
            assert_eq!((unit.int(given.address), unit.bytes(given.data)), (Some(address), Some(data)), "{send}");
            assert_eq!(unit.reply(request.exchange, Status::Done), Some(vec![0]));
            if has_sum {
                let mut changed = frame.clone();
                let at = random(u32::try_from(frame.len()).unwrap()) as usize;
                changed[at] ^= 0x10;
                let arrival = Arrival { bytes: &changed, is_whole: true, ..Arrival::default() };
                assert!(!matches!(unit.receive(arrival), Receipt::Request(_)), "{send}: byte {at} of {changed:02X?}");
            }
        }
    }
}

/// A value that only the unit knows is named if the dialect uses it, and stated in `[simulate]`.
#[test]
fn values_that_only_the_unit_knows_are_named() {
    let identify = "[identify]\nsend = \"0x10\"\nreply = \"u16le page, u16le other, bytes(4) nonce\"\ntells = { other = \"other\" }\n";
    let open = |more: &str| {
        let dialect =
            dialect("0x23, u16le = address / page, bytes(16) data, bytes(4) = nonce", &format!("{identify}{more}"));
        let mut unit = UnitSide::new(dialect.clone(), |_| true);
        dialect.simulation.values.iter().for_each(|(name, value)| unit.set(*name, value.clone()));
        let names: Vec<String> = unit.open_names().iter().map(|name| dialect.name_text(*name).to_owned()).collect();
        let Receipt::Request(request) = unit.receive(Arrival { bytes: &[0x10], ..Arrival::default() }) else {
            panic!()
        };
        (names, unit.reply(request.exchange, Status::Done).unwrap())
    };
    assert_eq!(open(""), (vec!["page".to_owned()], vec![0; 8]));
    let stated = "[simulate]\nvalues = { page = 256, nonce = \"x'01020304'\" }\n";
    assert_eq!(open(stated), (Vec::new(), vec![0, 1, 0, 0, 1, 2, 3, 4]));
    let wrong = |section: &str| {
        let text = format!(
            "dialect = 1\nname = \"x\"\n[carrier]\nkind = \"serial\"\n{section}\n[sync]\nsend = \"1\"\nreply = \"u8 a\"\n"
        );
        Dialect::parse("x", &text, &no_files).unwrap_err().to_string()
    };
    assert!(wrong("[simulate]\nvalues = { b = 1 }").contains("'b' is not a name that a reply sets"));
    assert!(wrong("[simulate]\nvalues = { a = \"1 == 1\" }").contains("expected a number or bytes"));
    assert!(wrong("[simulate]\nerase = \"fast\"").contains("fast"));
}
