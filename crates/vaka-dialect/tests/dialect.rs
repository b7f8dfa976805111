//! The dialect language: what is found wrong and where, and what its expressions and
//! frames come to. Expected numbers were worked out by hand or stand in a standard.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Arc;

use proptest::prelude::*;
use support::exchange_of;
use vaka_dialect::{Bindings, Dialect, DialectError, OperationName, ReplyOutcome, no_files};

const SOUND: &str = r#"dialect = 1
name = "sample"

[carrier]
kind = "serial"
largest = 64

[crc.mine]
width = 16
poly = 0x1021

[names]
MAGIC = 0x5AA5

[start]
count = 0

[table.status]
0x00 = "ok"
0x01 = "busy"
0x02 = "no such place"

[geometry]
chunk = 32

[exchange.ask]
send = "0x20, u16le = MAGIC"
reply = "0x21, u8 size, bytes(size) text, u8 = sum(above) & 0xFF"

[exchange.state]
send = "0x22"
reply = "u8 in status"

[sync]
do = "ask"

[erase]
by = "page"
send = "0x23, u32be address"
reply = "u8 in status"

[write]
do = '''
    each 8 of data { put(at = address + place) }
    state
'''

[exchange.put]
send = '''
    0x24
    u32be at
    u8 = len(piece)
    bytes piece
    u16be = mine(above)
'''

[read]
send = "0x25, u32be address, u8 = length"
reply = "bytes(length) data"

[restart]
send = "0x26"
"#;

fn errors(text: &str) -> Vec<DialectError> {
    Dialect::parse("a.toml", text, &no_files).map(|_| ()).expect_err("it was taken for sound").0
}

fn sound(text: &str) -> Dialect {
    Dialect::parse("a.toml", text, &no_files).unwrap_or_else(|errors| panic!("{errors}"))
}

#[test]
fn a_check_that_the_unit_has_no_part_in_is_none() {
    let checked = |unit: &str| {
        let checksum =
            format!("[checksum]\nsend = \"0x27\"\nreply = \"u32le found\"\nunit = \"{unit}\"\nimage = \"sum(data)\"\n");
        SOUND.replacen("[restart]", &(checksum + "[restart]"), 1)
    };
    sound(&checked("found"));
    sound(&checked("found - length"));
    for unit in ["sum(data)", "MAGIC * length", "7"] {
        let found = errors(&checked(unit));
        assert!(
            found.iter().any(|error| error.message.contains("no part of this comes from the unit, so checking it")),
            "{found:?}"
        );
    }
}

/// Each case changes the sound dialect in one place. What is wrong begins with the text
/// between the brackets of the change.
#[test]
#[allow(clippy::too_many_lines)] // a table
fn what_is_wrong_is_found_with_line_and_column() {
    let cases: &[(&str, &str, &str)] = &[
        ("dialect = 1", "dialect = [9]", "format 1"),
        ("name = \"sample\"", "name = [\"Sample\"]", "only lowercase letters"),
        ("kind = \"serial\"", "kind = [\"parallel\"]", "found \"parallel\""),
        ("largest = 64", "[lenght] = 64", "`lenght` is not a known key; did you mean `length`?"),
        ("largest = 64", "report = [1]", "applies only to a carrier of kind \"hid\""),
        // Names.
        ("u16le = MAGIC", "u16le = [MAGICK]", "'MAGICK' is not known here"),
        ("at = address + place", "at = [adress] + place", "'adress' is not known here"),
        ("u8 in status\"\n\n[sync]", "u8 in [state]\"\n\n[sync]", "no [table.state]"),
        ("do = \"ask\"", "do = \"[ask_it]\"", "unknown exchange or group of steps 'ask_it'"),
        ("mine(above)", "[yours](above)", "'yours' is not a function"),
        ("MAGIC = 0x5AA5", "[len] = 0x5AA5", "is a reserved word"),
        // Widths.
        ("u16le = MAGIC", "u8 = [MAGIC]", "u8 can represent 0 to 255; 23205 (0x5AA5) does not fit"),
        ("0x20, u16le", "[0x120], u16le", "for 288 give its form"),
        ("0x21, u8 size", "0x21, [u16] size", "u16le or u16be"),
        ("0x21, u8 size", "0x21, [u7] size", "is not a field type; types"),
        ("0x21, u8 size", "0x21, [bits8](size:7)", "bits are in no part; name them _"),
        ("0x21, u8 size", "0x21, [bits8](size:9)", "its parts have 9 bits"),
        ("bytes piece", "bytes(4) = [x'01 02 03']", "the field has 4 bytes, but the value has 3"),
        ("bytes piece", "hex(2) = [256]", "more than 2 digits"),
        // Lengths.
        (
            "bytes piece\n",
            "[bytes(60)] = fill(60, 0)\n",
            "the frame has 66 bytes, but a frame for this unit can have 64",
        ),
        ("chunk = 32", "chunk = [0]", "1 to 1048576"),
        // Types.
        ("u8 = len(piece)", "u8 = [piece]", "expected a number, found bytes"),
        ("each 8 of data", "each 8 of [address]", "expected bytes, found a number"),
        ("state\n'''", "if [count] { state }\n'''", "expected a comparison such as x != 0, found"),
        ("sum(above) & 0xFF", "sum([5]) & 0xFF", "expected bytes, found a number"),
        ("sum(above) & 0xFF", "size / [0]", "division by 0"),
        // Parts.
        ("sum(above)", "sum([head]..size)", "this frame has no field 'head'"),
        (
            "0x21, u8 size, bytes(size) text, u8 = sum(above)",
            "0x21, u8 size, bytes(size) text, u8 = sum([text]..size)",
            "this range is empty: its end is before its start",
        ),
        ("bytes(size) text, u8", "bytes([more]) text, u8 more, u8", "'more' is not known here"),
        // Built-in names cannot be replaced, and a check needs the unit.
        ("0x21, u8 size", "0x21, [u8 length]", "'length' is a built-in name"),
        ("bytes(size) text, u8", "[bytes(size) data], u8", "'data' is a built-in name"),
        ("state\n'''", "let address = [count]\n'''", "'address' is a built-in name"),
        // Endless loops.
        ("state\n'''", "again\n'''\n[steps.again]\ndo = \"again\"", "infinite recursion: again → again"),
        ("state\n'''", "until count == 1 [{] state }\n'''", "a time limit is required, such as within 5 s"),
        ("state\n'''", "until count == 1 within 1 s { }\n'''", "the loop has no steps, so its condition never changes"),
        ("state\n'''", "repeat [70000] { state }\n'''", "at most 65536"),
        ("state\n'''", "let count = rounds([99999], a = 1: a + 1)\n'''", "at most 65536"),
        // Ways that may not have run.
        ("state\n'''", "if count == 1 { let more = 2 }\n    let count = [more]\n'''", "may have no value here"),
        ("do = \"ask\"", "do = \"dtr [maybe]\"", "on or off"),
        // The language's own form.
        ("u8 = len(piece)", "u8 = len([,])", "a number, a name or a text"),
        ("u8 = len(piece)", "u8 = [len](piece, 1)", "len takes bytes"),
        ("u8 = len(piece)", "u8 = 1 [1]", "',' or a line break"),
        ("u8 = len(piece)", "u8 = [0x]", "is not a number"),
        ("u8 = len(piece)", "u8 = [']abc", "unterminated text"),
        ("by = \"page\"", "by = [\"sector\"]", "found \"sector\""),
        ("send = \"0x26\"", "send = \"0x26\"\nby = [\"all\"]", "`by` applies only to [erase]"),
        ("send = \"0x26\"", "send = \"0x26\"\ndo = [\"state\"]", "an operation requires either `do` or an exchange of"),
        ("[exchange.state]", "[exchange.wait]", "is a reserved word"),
        (
            "width = 16\npoly = 0x1021",
            "width = 16\npoly = 0x11021",
            "a CRC must have a width of 3 to 64 bits, and poly",
        ),
    ];
    for (from, to, words) in cases {
        assert!(SOUND.contains(from), "the dialect no longer holds: {from}");
        // The brackets around what is at fault, but for those of lists.
        let marked = to.find('[').filter(|at| !to[*at..].starts_with("[9]") && !to.contains("\n[steps"));
        let plain = match (marked, to.contains("[exchange")) {
            (Some(at), false) => {
                let end = to[at..].find(']').unwrap() + at;
                format!("{}{}{}", &to[..at], &to[at + 1..end], &to[end + 1..])
            }
            _ => (*to).to_owned(),
        };
        let plain = if to.contains("[9]") { "dialect = 9".to_owned() } else { plain };
        let text = SOUND.replacen(from, &plain, 1);
        let found = errors(&text);
        let hit = found.iter().find(|error| error.message.contains(words));
        let hit = hit.unwrap_or_else(|| panic!("{to}: {found:?}"));
        let Some(at) = marked.filter(|_| !to.contains("[exchange")) else { continue };
        let place = SOUND.find(from).unwrap() + at;
        let line = text[..place].matches('\n').count() + 1;
        let column = text[..place].rsplit('\n').next().unwrap().chars().count() + 1;
        // Of a text in quotes the first letter, or the quote before it.
        let near = hit.column == column || hit.column == column + 1;
        assert!(hit.line == line && near, "{to}: {hit} instead of {line}:{column}");
    }
}

#[test]
fn all_errors_are_reported_at_once() {
    let text = SOUND.replace("MAGIC\"", "MAGICK\"").replace("u8 in status\"\n\n[sync]", "u8 in stat\"\n\n[sync]");
    let found = errors(&text);
    assert_eq!(found.len(), 2, "{found:?}");
    assert!(found[0].line < found[1].line);
}

#[test]
fn what_is_missing_is_a_warning() {
    let cases: &[(&str, &str, &str)] = &[
        (
            "[read]\nsend = \"0x25, u32be address, u8 = length\"\nreply = \"bytes(length) data\"\n",
            "",
            "no verification: without [read] and [checksum] a",
        ),
        (
            "[erase]\nby = \"page\"\nsend = \"0x23, u32be address\"\nreply = \"u8 in status\"\n",
            "",
            "[erase] is missing; if the unit erases by itself",
        ),
        ("[restart]\nsend = \"0x26\"\n", "", "[restart] is missing, so the user has to unplug the"),
        ("[sync]\ndo = \"ask\"\n", "", "no [sync]"),
        ("do = \"ask\"", "do = \"state\"", "exchange 'ask' is not used"),
        ("u32be at\n", "u16be at\n", "limit it, such as x & 0xFFFF"),
    ];
    assert!(sound(SOUND).warnings.is_empty(), "{:?}", sound(SOUND).warnings);
    for (from, to, words) in cases {
        assert!(SOUND.contains(from), "the dialect no longer holds: {from}");
        let warnings = sound(&SOUND.replacen(from, to, 1)).warnings;
        assert!(warnings.iter().any(|warning| warning.message.contains(words)), "{words}: {warnings:?}");
    }
}

fn one(send: &str, reply: &str) -> Dialect {
    sound(&format!(
        "dialect = 1\nname = \"o\"\n[carrier]\nkind = \"pipes\"\n[table.code]\n0 = \"ok\"\n1 = \"busy\"\n2 = \"no such page\"\n\
         [names]\nn = 7\nb = \"x'0A 0B 0C'\"\n[enter]\nsend = '''{send}'''\nreply = '''{reply}'''\n"
    ))
}

#[test]
fn frames_are_made_whatever_order_their_fields_need() {
    let cases: &[(&str, &[u8])] = &[
        ("u8 = len(below), u16be = n, bytes b", &[5, 0, 7, 10, 11, 12]),
        ("u8 = sum(kind..body) & 0xFF, u8 kind = 3, bytes body = b", &[36, 3, 10, 11, 12]),
        ("u8 = crc & 0xFF, u8 crc = 5, u8 = crc + 1", &[5, 5, 6]),
        ("bits16le(a:4 = 9, _:4, c:8 = n)", &[0x07, 0x90]),
        ("bytes b, pad_to(6) = 0xEE, u8 = xor(above)", &[10, 11, 12, 0xEE, 0xEE, 0x0D]),
        ("bytes b, pad(-len(above) % 4)", &[10, 11, 12, 0]),
        ("hex(4) = n, ' ', dec = 42, lower_hexbytes = b", b"0007 420a0b0c"),
        ("i16le = -2, u8 = 1 if n == 7, u8 = 2 if n == 8", &[0xFE, 0xFF, 1]),
    ];
    for (send, wanted) in cases {
        let dialect = Arc::new(one(send, "u8 _"));
        let exchange = dialect.exchange(exchange_of(&dialect, OperationName::Enter)).clone();
        let memory = Bindings::new(dialect);
        assert_eq!(memory.request(&exchange).as_deref(), Ok(*wanted), "{send}");
        let shown: Vec<u8> = memory.view_request(&exchange).into_iter().flat_map(|view| view.bytes).collect();
        assert_eq!(shown, *wanted, "{send}: what is shown is what is sent");
    }
}

#[test]
fn replies_are_read_or_the_first_wrong_field_is_named() {
    let cases: &[(&str, &[u8], Result<&str, &str>)] = &[
        ("0x5A, u16be x", &[0x5A, 1, 2], Ok("x 258 (0x102)")),
        ("0x5A, u16be x", &[0x5B, 1, 2], Err("at byte 0, 0x5A: expected 90 (0x5A); received 5B")),
        ("0x5A, u16be x", &[0x5A, 1], Err("at byte 1, u16be x: expected 2 bytes here, but the frame ends after 1")),
        ("0x5A, u16be x", &[0x5A, 1, 2, 3], Err("expected the end of the frame, found 1 more byte")),
        ("u8 n2, bytes(n2) x, u8 = sum(above)", &[2, 5, 6, 13], Ok("x 05 06")),
        ("u8 n2, bytes(n2) x, u8 = sum(above)", &[2, 5, 6, 14], Err("expected 13 (0xD); received 0E")),
        ("u8 = sum(below), bytes x", &[9, 4, 5], Ok("x 04 05")),
        ("u8 = sum(below), bytes x", &[9, 4, 6], Err("expected 10 (0xA); received 09")),
        ("bytes x, u16le = crc32(x) & 0xFFFF", b"123456789\x26\x39", Ok("x \"123456789\"")),
        ("'v', dec x, '.', dec _", b"v17.4", Ok("x 17 (0x11)")),
        ("'v', dec x, '.', dec _", b"v.4", Err("expected digits")),
        ("bytes x, '\\r'", b"name\r", Ok("x \"name\"")),
        ("bits8(x:1, _:3, y:4 = 3), u8 _", &[0x83, 0], Ok("x x 1, y 3")),
        ("bits8(x:1, _:3, y:4 = 3), u8 _", &[0x84, 0], Err("3 in a part of 4 bits, not 4")),
        ("i8 x", &[0xFE], Ok("x -2")),
        ("hexbytes(2) x", b"0aFf", Ok("x 0A FF")),
        ("hexbytes(2) x", b"0g00", Err("expected pairs of hex digits")),
        ("u8 k, u8 x if k == 1, u16le x if k == 2", &[2, 1, 1], Ok("x 257 (0x101)")),
    ];
    for (reply, input, wanted) in cases {
        let dialect = Arc::new(one("1", reply));
        let number = exchange_of(&dialect, OperationName::Enter);
        let mut memory = Bindings::new(dialect.clone());
        let answer = memory.answer(dialect.exchange(number), input, true);
        match (wanted, answer) {
            (Ok(wanted), ReplyOutcome::Done(used)) => {
                assert_eq!(used, input.len());
                let (name, value) = wanted.split_once(' ').unwrap();
                let found = memory.view_answer(dialect.exchange(number), input);
                assert!(found.iter().any(|view| view.says == value), "{reply}: {name} {value} in {found:?}");
            }
            (Err(wanted), ReplyOutcome::Differs(trouble)) => {
                assert!(trouble.words.contains(wanted), "{reply}: {}", trouble.words);
                assert!(trouble.fields.iter().any(|view| view.is_wrong), "{reply}: {:?}", trouble.fields);
            }
            (wanted, answer) => panic!("{reply}: {answer:?} instead of {wanted:?}"),
        }
    }
}

#[test]
fn tables_say_what_codes_mean() {
    let dialect = Arc::new(one("1", "u8 in code, u8 x"));
    let exchange = dialect.exchange(exchange_of(&dialect, OperationName::Enter));
    let answer = |bytes: &[u8]| Bindings::new(dialect.clone()).answer(exchange, bytes, true);
    assert_eq!(answer(&[0, 9]), ReplyOutcome::Done(2));
    assert_eq!(answer(&[1]), ReplyOutcome::Busy(1));
    // Steps after a refusal may be missing.
    assert_eq!(answer(&[2]), ReplyOutcome::Refused("no such page".into()));
    let ReplyOutcome::Refused(words) = answer(&[0x77]) else { panic!() };
    assert!(words.contains("119 (0x77)") && words.contains("which is not in the dialect's table 'code'"), "{words}");
}

proptest! {
    /// Bytes built by a list of fields are parsed by the same list; any shorter part
    /// of it is not taken for the whole, and no other bytes are.
    #[test]
    fn frames_are_read_as_they_were_made(
        number in any::<u16>(),
        body in proptest::collection::vec(any::<u8>(), 0..40),
        cut in 0usize..60,
        flip in 0usize..480,
    ) {
        let hex: String = body.iter().map(|byte| format!("{byte:02X}")).collect();
        let fields = |way: bool| {
            let (value, data) = if way { (format!("= {number}"), format!("= x'{hex}'")) } else { ("x".into(), "y".into()) };
            format!("0xA5, u16be {value}, u8 size = len({}), bytes(size) {data}, u32le = crc32(above)", if way { format!("x'{hex}'") } else { "y".into() })
        };
        let dialect = Arc::new(one(&fields(true), &fields(false)));
        let exchange = dialect.exchange(exchange_of(&dialect, OperationName::Enter));
        let mut memory = Bindings::new(dialect.clone());
        let frame = memory.request(exchange).unwrap();
        prop_assert_eq!(memory.answer(exchange, &frame, true), ReplyOutcome::Done(frame.len()));
        let mut behind = frame.clone();
        behind.push(7);
        prop_assert_eq!(memory.answer(exchange, &behind, false), ReplyOutcome::Done(frame.len()));
        let partial = memory.answer(exchange, &frame[..cut % frame.len()], false);
        prop_assert!(matches!(partial, ReplyOutcome::More(_)), "{:?}", partial);
        let mut other = frame.clone();
        other[flip / 8 % frame.len()] ^= 1 << (flip % 8);
        let bent = memory.answer(exchange, &other, true);
        prop_assert!(matches!(bent, ReplyOutcome::Differs(_)), "{:?}", bent);
    }

    /// Whatever comes is read or refused, and shown in full.
    #[test]
    fn any_text_is_printed_in_full(input in proptest::collection::vec(any::<u8>(), 0..50)) {
        let dialect = Arc::new(one("1", "u8 n2, bits16be(a:4, _:12), bytes(n2) t, hex h, ',', bytes rest, u8 = xor(above)"));
        let exchange = dialect.exchange(exchange_of(&dialect, OperationName::Enter));
        let mut memory = Bindings::new(dialect.clone());
        let shown: Vec<u8> = memory.view_answer(exchange, &input).into_iter().flat_map(|view| view.bytes).collect();
        prop_assert!(shown == input, "{:?}", shown);
        let _ = memory.answer(exchange, &input, false);
    }
}

/// The template of each carrier is valid, without warnings, and names its carrier.
#[test]
fn templates_are_valid() {
    for kind in vaka_dialect::carrier::KINDS {
        let dialect = Dialect::parse(kind.name, kind.template, &no_files).unwrap_or_else(|errors| panic!("{errors}"));
        assert!(dialect.warnings.is_empty(), "{}: {:?}", kind.name, dialect.warnings);
        assert_eq!(dialect.carrier.kind().name, kind.name);
    }
}

/// Rules of single keys, each in a dialect of a few lines.
#[test]
fn each_key_has_its_rule() {
    const PIPES: &str = "kind = \"pipes\"";
    const HID: &str = "kind = \"hid\"\nlength = 8";
    let cases: &[(&str, &str, &str)] = &[
        (PIPES, "[restart]\nsend = \"1\"\nreply = \"2\"\ntries = 100", ""),
        (PIPES, "[restart]\nsend = \"1\"\nreply = \"2\"\ntries = 101", "1 to 100"),
        (PIPES, "[restart]\nsend = \"1\"\nreply = \"2\"\ntries = 0", "1 to 100"),
        (PIPES, "[restart]\nsend = \"1\"\nvia = \"feature\"", "only to a carrier of kind \"hid\""),
        (HID, "[restart]\nsend = \"1\"\nvia = \"feature\"", ""),
        (HID, "[restart]\nsend = \"1\"\nvia = \"status\"", "only to a carrier of kind \"dfu\""),
        ("kind = \"hid\"\nlength = 8\nreply = \"input\"", "[restart]\nsend = \"1\"", ""),
        (
            "kind = \"hid\"\nlength = 8\nreply = \"output\"",
            "[restart]\nsend = \"1\"",
            "an output report goes to the unit",
        ),
        (
            "kind = \"hid\"\nlength = 8\nsend = \"input\"",
            "[restart]\nsend = \"1\"",
            "an input report comes from the unit",
        ),
        (PIPES, "[restart]\nsend = \"bytes(0x1000001) = '1'\"", "at most 16777216 bytes, not 16777217"),
        (PIPES, "[restart]\nsend = \"hex(0xFFFFFFFFFFFFFFFF) = 1\"", "at most 16777216 bytes"),
        (PIPES, "[restart]\nsend = \"1\"\nreply = \"hexbytes(0xFFFFFFFFFFFFFFFF) x\"", "at most 16777216 bytes"),
        (PIPES, "[table.one_two]\n0 = \"ok\"\n[restart]\nsend = \"1\"\nreply = \"u8 in one_two\"", ""),
        (PIPES, "[table._one]\n0 = \"ok\"\n[restart]\nsend = \"1\"\nreply = \"u8 in _one\"", ""),
        (PIPES, "[table.1one]\n0 = \"ok\"\n[restart]\nsend = \"1\"", "may contain only letters, digits and '_'"),
        (PIPES, "[table.one-two]\n0 = \"ok\"\n[restart]\nsend = \"1\"", "may contain only letters, digits and '_'"),
        (PIPES, "[table.one]\n0 = \"\"\n[restart]\nsend = \"1\"", "expected its meaning"),
        (PIPES, "[table.one]\n0 = \"a\\u0007\"\n[restart]\nsend = \"1\"", "expected its meaning"),
        (PIPES, "[restart]\ndo = \"each 0 of fill(8, 1) { wait 1 ms }\"", "a piece must have at least one byte"),
        (PIPES, "[restart]\ndo = \"each 1 of fill(8, 1) { wait 1 ms }\"", ""),
        (PIPES, "[helper]\nfile = \"missing.bin\"\naddress = 0\n[restart]\nsend = \"1\"", "missing.bin"),
    ];
    for (carrier, rest, words) in cases {
        let text = format!("dialect = 1\nname = \"k\"\n[carrier]\n{carrier}\n{rest}\n");
        let found = support::parse(&text).err().unwrap_or_default();
        assert!(found.contains(words) && found.is_empty() == words.is_empty(), "{carrier}\n{rest}: {found}");
    }
}

#[test]
fn a_table_names_the_statuses_of_dfu() {
    let table = "[table.dfu_status]\n0 = \"ok\"\n0x0B = \"page is locked\"\n";
    let dialect = sound(&SOUND.replacen("[geometry]", &format!("{table}\n[geometry]"), 1));
    assert_eq!(dialect.dfu_status(0x0B).as_deref(), Some("page is locked"));
    assert_eq!(dialect.dfu_status(0).as_deref(), Some("no error"));
    assert_eq!((dialect.dfu_status(1), sound(SOUND).dfu_status(0)), (None, None));
}
