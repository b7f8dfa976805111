//! Each rule of the dialect language by itself, as tables. Expected values were worked out by hand,
//! or stand in a standard or in the public catalogue of CRCs.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::sync::Arc;

use vaka_dialect::{Bindings, Callee, Dialect, OperationName, ReplyOutcome, Step, Value, no_files};

const BEGIN: &str =
    "dialect = 1\nname = \"l\"\n[carrier]\nkind = \"pipes\"\n[names]\nn = 0x1234\nb = \"x'01 02 03 FF'\"\n";

fn parse(text: &str) -> Result<Dialect, String> {
    Dialect::parse("l", text, &no_files).map_err(|errors| errors.to_string())
}

/// The value of an expression, with `n` = 0x1234 and `b` = 01 02 03 FF.
fn value(expression: &str) -> Result<Value, String> {
    let crcs = "[crc.xmodem]\nwidth = 16\npoly = 0x1021\n\
                [crc.modbus]\nwidth = 16\npoly = 0x8005\ninit = 0xFFFF\nreflect = true\n\
                [crc.smbus]\nwidth = 8\npoly = 0x07\n\
                [crc.usb]\nwidth = 5\npoly = 0x05\ninit = 0x1F\nreflect = true\nxor_out = 0x1F\n\
                [crc.umts]\nwidth = 12\npoly = 0x80F\nreflect_out = true\n\
                [crc.hdlc]\nwidth = 32\npoly = 0x04C11DB7\ninit = 0xFFFFFFFF\nreflect = true\nxor_out = 0xFFFFFFFF\n";
    let text =
        format!("{BEGIN}{crcs}[identify]\nsend = \"1\"\nreply = \"u8 _\"\ntells = {{ e = '''{expression}''' }}\n");
    let dialect = parse(&text)?;
    let tell = dialect.operation(OperationName::Identify).unwrap().tells[0].value.clone();
    Bindings::new(Arc::new(dialect)).value(&tell).map_err(|error| error.to_string())
}

#[test]
fn operators_and_functions_that_give_numbers() {
    let cases: &[(&str, i128)] = &[
        ("5 | 3", 7),
        ("5 & 3", 1),
        ("5 ^ 3", 6),
        ("1 << 0", 1),
        ("1 << 63", 1 << 63),
        ("256 >> 4", 16),
        ("-1 >> 1", -1),
        ("1 >> 63", 0),
        ("7 - 5", 2),
        ("7 * 6", 42),
        ("7 / 2", 3),
        ("8 / 2", 4),
        ("-8 / 2", -4),
        ("-1 / 2", -1),
        ("7 % 4", 3),
        ("-8 % 4", 0),
        ("-1 % 4", 3),
        ("~5", -6),
        ("~-1", 0),
        ("- -5", 5),
        ("~~5", 5),
        ("2 + 3 << 1", 10),
        ("1 | 2 ^ 3 & 6", 1),
        ("12 & 10 ^ 1", 9),
        ("20 / 2 * 5", 50),
        ("20 - 2 + 5", 23),
        ("min(5, 3)", 3),
        ("min(3, 5)", 3),
        ("max(5, 3)", 5),
        ("max(3, 5)", 5),
        ("len('')", 0),
        ("len(b ++ b)", 8),
        ("sum('')", 0),
        ("xor('')", 0),
        ("xor(slice(b, 0, 3))", 0),
        ("byte(b, 0)", 1),
        ("byte(b, 3)", 255),
        ("le(x'01 02 03 04 05 06 07 08')", 0x0807_0605_0403_0201),
        ("be(x'01 02 03 04 05 06 07 08')", 0x0102_0304_0506_0708),
        ("le(x'FF')", 255),
        ("read_hex('00ff')", 255),
        ("read_hex('FFFFFFFFFFFFFFFF')", 0xFFFF_FFFF_FFFF_FFFF),
        ("read_dec('18446744073709551615')", 18_446_744_073_709_551_615),
        ("rounds(0, a = 5: a + 1)", 5),
        ("rounds(1, a = 5: a + 1)", 6),
        ("rounds(3, a = 0: a + nth)", 3),
        ("fold(a = 0, w in b by 3: a * 10 + len(w))", 31),
        ("fold(a = 0, w in b by 9: a * 10 + len(w))", 4),
        ("fold(a = 9, x in '': 0)", 9),
        ("1 == 1 ? 2 == 3 ? 4 : 5 : 6", 5),
        ("1 == 2 ? 3 : 1 == 1 ? 4 : 5", 4),
        // The check values of the catalogue: of the text 123456789.
        ("xmodem('123456789')", 0x31C3),
        ("modbus('123456789')", 0x4B37),
        ("smbus('123456789')", 0xF4),
        ("usb('123456789')", 0x19),
        ("umts('123456789')", 0xDAF),
        ("hdlc('123456789')", 0xCBF4_3926),
        ("crc32('')", 0),
    ];
    for (expression, wanted) in cases {
        assert_eq!(value(expression), Ok(Value::Int(*wanted)), "{expression}");
    }
}

#[test]
fn comparisons_and_their_joins() {
    let cases: &[(&str, bool)] = &[
        ("2 == 2", true),
        ("2 == 3", false),
        ("2 != 2", false),
        ("2 != 3", true),
        ("1 < 2", true),
        ("2 < 2", false),
        ("3 < 2", false),
        ("1 <= 2", true),
        ("2 <= 2", true),
        ("3 <= 2", false),
        ("3 > 2", true),
        ("2 > 2", false),
        ("1 > 2", false),
        ("3 >= 2", true),
        ("2 >= 2", true),
        ("1 >= 2", false),
        ("'ab' == 'ab'", true),
        ("'ab' == 'ac'", false),
        ("'ab' != 'abc'", true),
        ("1 == 1 and 2 == 2", true),
        ("1 == 1 and 2 == 3", false),
        ("1 == 2 and 2 == 2", false),
        ("1 == 1 or 2 == 3", true),
        ("1 == 2 or 2 == 2", true),
        ("1 == 2 or 2 == 3", false),
        ("not (1 == 2)", true),
        ("not (1 == 1)", false),
        ("not (1 == 2) and 1 == 1", true),
        ("1 == 2 and 1 == 2 or 1 == 1", true),
        ("1 == 1 or 1 == 1 and 1 == 2", true),
        ("5 & 4 == 4", true),
    ];
    for (expression, wanted) in cases {
        let choice = format!("{expression} ? 1 : 0");
        assert_eq!(value(&choice), Ok(Value::Int(i128::from(*wanted))), "{expression}");
    }
}

#[test]
fn functions_that_give_bytes() {
    let cases: &[(&str, &[u8])] = &[
        ("slice(b, 1, 2)", &[2, 3]),
        ("slice(b, 0, 4)", &[1, 2, 3, 0xFF]),
        ("slice(b, 4, 0)", &[]),
        ("pad(b, 6, 0xEE)", &[1, 2, 3, 0xFF, 0xEE, 0xEE]),
        ("pad(b, 4, 0)", &[1, 2, 3, 0xFF]),
        ("fill(3, 7)", &[7, 7, 7]),
        ("fill(0, 7)", &[]),
        ("reverse(b)", &[0xFF, 3, 2, 1]),
        ("map(x in b: nth)", &[0, 1, 2, 3]),
        ("map(x in b: u16be(x))", &[0, 1, 0, 2, 0, 3, 0, 0xFF]),
        ("map(w in b by 3: reverse(w))", &[3, 2, 1, 0xFF]),
        ("map(w in b by 1: w ++ w)", &[1, 1, 2, 2, 3, 3, 0xFF, 0xFF]),
        ("fold(s = '', x in b: u8(x) ++ s)", &[0xFF, 3, 2, 1]),
        ("u8(255) ++ u8(0)", &[0xFF, 0]),
        ("i8(-128) ++ i8(127)", &[0x80, 0x7F]),
        ("i16be(-2) ++ i16le(-2)", &[0xFF, 0xFE, 0xFE, 0xFF]),
        ("u32le(0x01020304) ++ u32be(0x01020304)", &[4, 3, 2, 1, 1, 2, 3, 4]),
        ("u64be(1) ++ u64le(1)", &[0, 0, 0, 0, 0, 0, 0, 1, 1, 0, 0, 0, 0, 0, 0, 0]),
        ("u24le(0x010203)", &[3, 2, 1]),
        ("hex(255, 4)", b"00FF"),
        ("hex(0)", b"0"),
        ("lower_hex(171, 2)", b"ab"),
        ("lower_hex(0xFACE)", b"face"),
        ("dec(0)", b"0"),
        ("dec(12345, 5)", b"12345"),
        ("dec(7, 3)", b"007"),
        // The digits are the least number of them.
        ("dec(100, 2)", b"100"),
        ("hex(256, 2)", b"100"),
        ("\"two\" ++ ' \\'q\\''", b"two 'q'"),
        ("x'0a0B  0C'", &[10, 11, 12]),
    ];
    for (expression, wanted) in cases {
        assert_eq!(value(expression), Ok(Value::from(wanted.to_vec())), "{expression}");
    }
}

#[test]
fn values_that_there_are_not() {
    let cases: &[(&str, &str)] = &[
        ("byte(b, n - 4661)", "no length"),
        ("slice(b, 0, 5)", "no 5 bytes"),
        ("slice(b, n, 1)", "no 1 bytes"),
        ("1 << (n - 4661)", "bits to shift"),
        ("1 >> (n - 4660 + 64)", "bits to shift"),
        ("n % (n - 4660)", "divides by 0"),
        ("u8(n)", "does not fit"),
        ("i8(128 + n - 4660)", "does not fit"),
        ("i8(-129 + n - 4660)", "does not fit"),
        ("u8(n - 4661)", "does not fit"),
        ("dec(n - 4661)", "cannot be written so"),
        ("read_hex('')", "is no number"),
        ("read_hex('0g')", "is no number"),
        ("read_dec('')", "is no number"),
        ("read_dec('-1')", "is no number"),
        ("fill(1, n)", "never is one"),
        ("fill(n - 4661, 0)", "no length"),
        ("map(x in b: x + 300)", "never is one"),
        ("map(w in b by n - 4660: w)", ""),
        ("be(fill(n, 0))", "at most 8 bytes"),
        ("rounds(126, a = 1: a * 2) * 4", "too large"),
    ];
    for (expression, words) in cases {
        let error = value(expression).expect_err(expression);
        assert!(error.contains(words), "{expression}: {error}");
    }
}

/// Expressions may be nested 64 deep, in brackets and in signs, and the depth counts only what is
/// open.
#[test]
fn expressions_are_nested_to_a_limit() {
    let brackets = |depth: usize| format!("{}1{}", "(".repeat(depth), ")".repeat(depth));
    let signs = |depth: usize| format!("{}1", "~".repeat(depth));
    assert_eq!(value(&brackets(63)), Ok(Value::Int(1)));
    assert!(value(&brackets(64)).unwrap_err().contains("nested too deeply"));
    assert_eq!(value(&signs(62)), Ok(Value::Int(1)));
    assert_eq!(value(&signs(63)), Ok(Value::Int(-2)));
    assert!(value(&signs(64)).unwrap_err().contains("nested too deeply"));
    let many = vec![brackets(60); 5].join(" + ");
    assert_eq!(value(&many), Ok(Value::Int(5)));
    let many = vec![signs(60); 5].join(" + ");
    assert_eq!(value(&many), Ok(Value::Int(5)));
}

/// A value that never fits its field is refused; one that can be too large is warned of. What can
/// only be too small, or is written in digits or bits, is found when the frame is made. `x` is a
/// byte that the unit reports, `y` a signed one, `z` 16 bits, `t` bytes.
#[test]
#[allow(clippy::too_many_lines)] // a table
fn a_value_that_does_not_fit_its_field_is_refused_or_warned_of() {
    let cases: &[(&str, &str)] = &[
        ("u8 = 0", "fine"),
        ("u8 = 255", "fine"),
        ("u8 = 256", "refused"),
        ("u8 = -1", "refused"),
        ("i8 = -128", "fine"),
        ("i8 = 127", "fine"),
        ("i8 = -129", "refused"),
        ("i8 = 128", "refused"),
        ("u8 = x", "fine"),
        ("i8 = x", "warned"),
        ("i8 = y", "fine"),
        ("u8 = y", "fine"),
        ("i16le = y * 256", "fine"),
        ("u8 = x + 1", "warned"),
        ("u8 = x - 1", "fine"),
        ("i16le = x - 1", "fine"),
        ("u8 = x + 256", "refused"),
        ("u8 = x - 256", "refused"),
        ("u8 = -x", "fine"),
        ("i16le = -x", "fine"),
        ("u8 = x * 2", "warned"),
        ("u16le = x * 257", "fine"),
        ("u16le = x * 258", "warned"),
        ("i16le = x * -128", "fine"),
        ("i16le = x * -129", "fine"),
        ("u8 = x / 2", "fine"),
        ("u8 = (x + 1) / 2", "fine"),
        ("u8 = x * 2 / 2", "fine"),
        ("u8 = (x * 2 + 2) / 2", "warned"),
        ("u8 = x % 10", "fine"),
        ("u8 = n % x", "fine"),
        ("u8 = x & 0x0F", "fine"),
        ("u8 = z & 0xFF", "fine"),
        ("u8 = z & 0x1FF", "warned"),
        ("u8 = ~x & 0xFF", "fine"),
        ("u8 = ~x", "refused"),
        ("u8 = x | 0x80", "fine"),
        ("u8 = x | 0x100", "warned"),
        ("u8 = x ^ 0xFF", "fine"),
        ("u16le = x ^ 0x8000", "fine"),
        ("u8 = y & 0x0F", "fine"),
        ("u8 = 0x0F & y", "fine"),
        ("u8 = y & 0x1FF", "warned"),
        ("u8 = 0x1FF & y", "warned"),
        ("u8 = z & x", "fine"),
        ("u8 = x | 3", "fine"),
        ("u8 = z | x", "warned"),
        ("u16le = z | x", "fine"),
        ("u16le = z ^ x", "fine"),
        ("u8 = z ^ x", "warned"),
        ("u8 = y | 1", "fine"),
        ("u8 = z % 256", "fine"),
        ("u8 = z % 257", "warned"),
        ("u8 = x % 1000", "fine"),
        ("u8 = z / 256", "fine"),
        ("u8 = z / 255", "warned"),
        ("u8 = z / (x + 1)", "warned"),
        ("u8 = z / (x + 256)", "fine"),
        ("u8 = y / 2", "fine"),
        ("u8 = 7 / 0", "refused"),
        ("u8 = 7 % 0", "refused"),
        ("u8 = x >> 1", "fine"),
        ("u8 = z >> 8", "fine"),
        ("u8 = z >> 7", "warned"),
        ("u8 = x << 1", "warned"),
        ("u16le = x << 8", "fine"),
        ("u16le = x << 9", "warned"),
        ("u8 = min(x, 300)", "fine"),
        ("u8 = min(z, 255)", "fine"),
        ("u8 = max(x, 255)", "fine"),
        ("u8 = max(x, 256)", "refused"),
        ("u8 = min(x, -1)", "refused"),
        ("u8 = x == 1 ? 3 : 4", "fine"),
        ("u8 = x == 1 ? 3 : 400", "warned"),
        ("u8 = x == 1 ? 300 : 400", "refused"),
        ("u8 = byte(t, 0)", "fine"),
        ("u8 = len(b)", "fine"),
        ("u8 = sum(b)", "fine"),
        ("u8 = xor(t)", "fine"),
        ("u16le = le(slice(t, 0, 2))", "fine"),
        ("u8 = le(slice(t, 0, 2))", "warned"),
        ("u32le = crc32(t)", "fine"),
        ("u16le = crc32(t)", "warned"),
        ("u8 = read_hex(slice(t, 0, 2))", "fine"),
        ("u8 = fold(a = 0, e in t: e)", "fine"),
        ("bits8(a:4 = x & 15, c:4 = 3)", "fine"),
        ("bits8(a:4 = x, c:4 = 3)", "fine"),
        ("bits8(a:4 = 16, c:4 = 3)", "refused"),
        ("bits8(a:4 = 15, c:4 = 0)", "fine"),
        ("bits8(a:4 = -1, c:4 = 0)", "refused"),
        // Parts of a bit field of the unit: three bits, and five.
        ("u8 = v * 36", "fine"),
        ("u8 = v * 37", "warned"),
        ("u8 = w * 8", "fine"),
        ("u8 = w * 9", "warned"),
        ("hex(2) = x", "fine"),
        ("hex(2) = x + 1", "fine"),
        ("hex(2) = 256", "refused"),
        ("dec(3) = x", "fine"),
        ("dec(2) = x", "fine"),
        ("dec(2) = 99", "fine"),
        ("dec(2) = 100", "refused"),
        ("dec = y", "fine"),
        ("dec = -1", "refused"),
        ("bytes(4) = b", "fine"),
        ("bytes(3) = b", "refused"),
        ("bytes(5) = b", "refused"),
        ("pad(2) = 255", "fine"),
        ("pad(2) = 256", "refused"),
        ("pad(2) = x + 1", "fine"),
    ];
    for (field, wanted) in cases {
        let text = format!(
            "{BEGIN}[identify]\nsend = \"1\"\nreply = \"bits8(v:3, w:5), u8 x, i8 y, u16le z, bytes t\"\ntells = {{ x = \"x\" }}\n\
             [restart]\nsend = '''{field}, u8 = x, i8 = y, u16le = z, bytes t'''\n"
        );
        let found = match parse(&text) {
            Err(error) => {
                assert!(error.contains("line 13"), "{field}: {error}");
                "refused"
            }
            Ok(dialect) => match dialect.warnings.iter().any(|warning| warning.line == 13) {
                true => "warned",
                false => "fine",
            },
        };
        assert_eq!(found, *wanted, "{field}: {:?}", parse(&text).map(|dialect| dialect.warnings));
    }
}

/// The frame that `[restart]` sends, after `[identify]` set `x` to 7 and `t` to AA BB.
fn sent(fields: &str) -> Result<Vec<u8>, String> {
    let text = format!(
        "{BEGIN}[start]\nx = 7\nt = \"x'AA BB'\"\n[identify]\nsend = \"1\"\nreply = \"u8 v\"\ntells = {{ v = \"v\" }}\n\
         [restart]\nsend = '''{fields}'''\n"
    );
    let dialect = Arc::new(parse(&text)?);
    let exchange = exchange_of(&dialect, OperationName::Restart);
    Bindings::new(dialect.clone()).request(dialect.exchange(exchange)).map_err(|error| error.to_string())
}

/// The exchange of an operation that is one.
fn exchange_of(dialect: &Dialect, name: OperationName) -> usize {
    match &dialect.operation(name).unwrap().steps[0] {
        Step::Call { target, .. } => match target.callee() {
            Some(Callee::Exchange(number)) => number,
            other => panic!("{other:?}"),
        },
        other => panic!("{other:?}"),
    }
}

#[test]
fn every_form_of_field_is_sent() {
    let cases: &[(&str, &[u8])] = &[
        ("0x5A", &[0x5A]),
        ("0, 255", &[0, 255]),
        ("'two', x'0D 0A'", b"two\r\n"),
        ("u8 x, u16le x, u16be x, u24be x", &[7, 7, 0, 0, 7, 0, 0, 7]),
        ("i8 = -x, i16be = -x", &[0xF9, 0xFF, 0xF9]),
        ("u64le = 0x0102030405060708", &[8, 7, 6, 5, 4, 3, 2, 1]),
        ("bits8(a:1 = 1, _:3, c:4 = x)", &[0x87]),
        ("bits16be(a:4 = 5, c:12 = 0x234)", &[0x52, 0x34]),
        ("bits16le(a:4 = 5, c:12 = 0x234)", &[0x34, 0x52]),
        ("bytes t", &[0xAA, 0xBB]),
        ("bytes(2) t", &[0xAA, 0xBB]),
        ("bytes = t ++ t", &[0xAA, 0xBB, 0xAA, 0xBB]),
        ("hex(4) x, hex = 255, lower_hex(2) = 0xAB", b"0007FFab"),
        ("dec(3) x, dec x, dec = 1000", b"00771000"),
        ("hexbytes t, hexbytes(2) t, lower_hexbytes t", b"AABBAABBaabb"),
        ("u8 x, pad(2), pad(1) = 0xEE", &[7, 0, 0, 0xEE]),
        ("u8 x, pad_to(4)", &[7, 0, 0, 0]),
        ("u8 x, pad_to(3) = 9, u8 x", &[7, 9, 7]),
        ("bytes t, pad_to(2)", &[0xAA, 0xBB]),
        // Conditions.
        ("u8 = 1 if x == 7, u8 = 2 if x != 7, u8 = 3", &[1, 3]),
        ("'a' if x > 7, 'b' if x > 6", b"b"),
        // Lengths and checksums of what comes later, and of named parts.
        ("u16be = len(below), bytes t, u8 x", &[0, 3, 0xAA, 0xBB, 7]),
        ("u8 = sum(below) & 0xFF, u8 = len(above), u8 x", &[8, 1, 7]),
        ("u8 one = 1, u8 two = 2, u8 three = 3, u8 = sum(one..two), u8 = sum(two..three)", &[1, 2, 3, 3, 5]),
        ("u8 = sum(one..two), u8 one = 1, u8 two = 2", &[3, 1, 2]),
        ("u8 = one + two, u8 one = 1, u8 two = one * 4", &[5, 1, 4]),
        ("bytes t, u8 = xor(above), u8 = xor(above)", &[0xAA, 0xBB, 0x11, 0]),
        // Comments and new lines.
        ("\n  u8 x  # the value\n  0x10\n", &[7, 0x10]),
    ];
    for (fields, wanted) in cases {
        assert_eq!(sent(fields).as_deref(), Ok(*wanted), "{fields}");
    }
}

#[test]
fn frames_that_cannot_be_made_say_which_field() {
    let cases: &[(&str, &str)] = &[
        ("bytes(3) t", "bytes(3) t: it has 3 bytes, and there are 2"),
        ("u8 = x - 8", "u8 = x - 8: "),
        ("bits8(a:4 = x + 9, c:4 = 0)", "does not fit"),
        ("hex(1) = x + 9", "digits"),
        ("dec(1) = x + 3", "digits"),
        ("bytes t, pad_to(1)", "pad_to(1)"),
        ("pad(x - 8)", "no length"),
        ("u8 = len(below) if x == 7, bytes(x - 8) t", "no length"),
        ("u8 a = c, u8 c = a", "has no value yet"),
    ];
    for (fields, words) in cases {
        let error = sent(fields).expect_err(fields);
        assert!(error.contains(words), "{fields}: {error}");
    }
}

/// What the session makes of a reply, in one line; `all` says that nothing more can come.
fn answered(reply: &str, input: &[u8], all: bool) -> String {
    let text = format!(
        "{BEGIN}[start]\nx = 7\n[table.code]\n0 = \"ok\"\n1 = \"busy\"\n2 = \"no such page\"\n\
         [restart]\nsend = \"1\"\nreply = '''{reply}'''\n"
    );
    let dialect = Arc::new(parse(&text).unwrap_or_else(|errors| panic!("{reply}: {errors}")));
    let exchange = exchange_of(&dialect, OperationName::Restart);
    let exchange = dialect.exchange(exchange);
    match Bindings::new(dialect.clone()).answer(exchange, input, all) {
        ReplyOutcome::Done(used) => {
            let mut bindings = Bindings::new(dialect.clone());
            bindings.answer(exchange, input, all);
            let shown = bindings.view_answer(exchange, &input[..used]);
            let says: Vec<&str> = shown.iter().map(|view| view.says.as_str()).filter(|says| !says.is_empty()).collect();
            format!("done {used}: {}", says.join("; "))
        }
        ReplyOutcome::More(bytes) => format!("more {bytes}"),
        ReplyOutcome::Busy(used) => format!("busy {used}"),
        ReplyOutcome::Refused(words) => format!("refused: {words}"),
        ReplyOutcome::Differs(mismatch) => format!("differs {}", mismatch.words),
    }
}

/// Whether the bytes are the whole reply, or its beginning; or both give the same.
const WHOLE: &[bool] = &[true];
const BEGUN: &[bool] = &[false];
const EITHER: &[bool] = &[true, false];

#[test]
#[allow(clippy::too_many_lines)] // a table
fn every_form_of_field_is_received() {
    #[rustfmt::skip]
    let cases: &[(&str, &[u8], &[bool], &str)] = &[
        ("0x5A", &[90], EITHER, "done 1: 90 (0x5A)"),
        ("0x5A", &[91], EITHER, "differs at byte 0, 0x5A: expected 90 (0x5A); received 5B"),
        ("u8 v", &[], WHOLE, "differs at byte 0, u8 v: expected 1 bytes more than the 0 that came; received nothing"),
        ("u8 v", &[], BEGUN, "more 1"),
        ("u8 v", &[7], EITHER, "done 1: 7"),
        ("u8 v", &[7, 8], WHOLE, "differs at byte 1: expected nothing more, and 1 more came: 08"),
        ("u8 v", &[7, 8], BEGUN, "done 1: 7"),
        ("u16le v, u16be w, u24be _", &[1, 2, 1, 2, 0, 0, 0], EITHER, "done 7: 513 (0x201); 258 (0x102); 0"),
        ("i16le v", &[254, 255], EITHER, "done 2: -2"),
        ("i16be v", &[128, 0], EITHER, "done 2: -32768"),
        ("u8 v = x", &[7], EITHER, "done 1: 7"),
        ("u8 v = x", &[8], EITHER, "differs at byte 0, u8 v = x: expected 7; received 08"),
        ("bits8(v:1, _:3, w:4)", &[149], EITHER, "done 1: v 1, w 5"),
        ("bits16le(v:4, w:12)", &[52, 82], EITHER, "done 2: v 5, w 564 (0x234)"),
        ("bits8(v:4 = 5, w:4)", &[97], EITHER, "differs at byte 0, bits8(v:4 = 5, w:4): expected 5 in a part of 4 bits, not 6; received 61"),
        ("bits8(v:4 in code, w:4)", &[33], EITHER, "refused: no such page"),
        ("bytes v", &[], WHOLE, "done 0: nothing"),
        ("bytes v", &[], BEGUN, "more 1"),
        ("bytes v, 0x0D", &[1, 2, 13], EITHER, "done 3: 01 02; 13 (0xD)"),
        ("bytes v, 0x0D", &[1, 2], WHOLE, "differs at byte 0, bytes v: expected 0D at its end; received 01 02"),
        ("bytes v, 0x0D", &[1, 2], BEGUN, "more 1"),
        ("bytes(2) v, u8 w", &[1, 2, 3], EITHER, "done 3: 01 02; 3"),
        ("bytes(x - 5) v", &[1, 2], EITHER, "done 2: 01 02"),
        ("bytes = x'01 02'", &[1, 2], EITHER, "done 2: 01 02"),
        ("bytes = x'01 02'", &[1, 3], EITHER, "differs at byte 0, bytes = x'01 02': expected 01 02; received 01 03"),
        ("hex(4) v", &[48, 48, 102, 70], EITHER, "done 4: 255 (0xFF)"),
        ("hex v, ','", &[49, 70, 44], EITHER, "done 3: 31 (0x1F); \",\""),
        ("hex v, ','", &[44], EITHER, "differs at byte 0, hex v: expected digits; received 2C"),
        ("dec(3) v", &[48, 52, 50], EITHER, "done 3: 42 (0x2A)"),
        ("dec(3) v", &[48, 52, 120], EITHER, "differs at byte 0, dec(3) v: expected decimal digits; received 30 34 78"),
        ("dec v, ' '", &[52, 50, 32], EITHER, "done 3: 42 (0x2A); \" \""),
        ("hexbytes(2) v", &[48, 97, 70, 70], EITHER, "done 4: 0A FF"),
        ("hexbytes v, '.'", &[48, 97, 70, 70, 46], EITHER, "done 5: 0A FF; \".\""),
        ("hexbytes v, '.'", &[48, 97, 70, 46], EITHER, "differs at byte 0, hexbytes v: expected pairs of hex digits; received 30 61 46"),
        ("u8 v, pad(2), u8 w", &[1, 9, 9, 2], EITHER, "done 4: 1; 2"),
        ("u8 v, pad_to(4)", &[1, 9, 9, 9], EITHER, "done 4: 1"),
        ("u8 v, pad_to(4)", &[1, 9, 9], WHOLE, "differs at byte 1, pad_to(4): expected 1 bytes more than the 2 that came; received 09 09"),
        ("u8 v, pad_to(4)", &[1, 9, 9], BEGUN, "more 1"),
        ("u8 v if x == 7, u8 w if x == 8", &[1], EITHER, "done 1: 1"),
        ("u8 v, u16be w if v == 1, u8 z", &[1, 0, 2, 3], EITHER, "done 4: 1; 2; 3"),
        ("u8 v, u16be w if v == 1, u8 z", &[0, 3], EITHER, "done 2: 0; 3"),
        ("u8 in code, u8 v", &[0, 9], EITHER, "done 2: 0: ok; 9"),
        ("u8 in code, u8 v", &[1], EITHER, "busy 1"),
        ("u8 in code, u8 v", &[2], EITHER, "refused: no such page"),
        ("u8 in code, u8 v", &[3, 9], EITHER, "refused: status 3 (0x03), which the dialect's table 'code' does not name"),
        ("u8 v, bytes(v) w, u8 = sum(w) & 0xFF", &[2, 3, 4, 7], EITHER, "done 4: 2; 03 04; 7"),
        ("u8 v, bytes(v) w, u8 = sum(w) & 0xFF", &[2, 3, 4, 8], EITHER, "differs at byte 3, u8 = sum(w) & 0xFF: expected 7; received 08"),
        ("u8 = len(below), bytes v", &[2, 3, 4], WHOLE, "done 3: 2; 03 04"),
        ("u8 = len(below), bytes v", &[2, 3, 4], BEGUN, "more 1"),
        ("u8 a, u8 b2, u16be = a + b2, u8 = xor(a..b2)", &[1, 2, 0, 3, 3], EITHER, "done 5: 1; 2; 3; 3"),
        ("u8 a, u8 b2, u16be = a + b2, u8 = xor(a..b2)", &[1, 2, 0, 3, 4], EITHER, "differs at byte 4, u8 = xor(a..b2): expected 3; received 04"),
    ];
    for (reply, input, ends, wanted) in cases {
        for all in *ends {
            assert_eq!(answered(reply, input, *all), *wanted, "{reply} {input:?} {all}");
        }
    }
}

/// What the checker knows of names after steps that may not run, or run several times. `c` has a
/// value in `[start]`, `d` has none.
#[test]
fn names_are_known_on_every_way_or_not_at_all() {
    let maybe = "'d' may have no value here";
    let cases: &[(&str, &str)] = &[
        ("put", ""),
        ("let c = 300\nput", ""),
        ("if n == 1 { let d = 1 } else { let d = 2 }\nuse_d", ""),
        ("if n == 1 { let d = 1 }\nuse_d", maybe),
        ("if n == 1 { let d = 1\nuse_d }", ""),
        ("if n == 1 { use_d } else { let d = 1 }", "'d' is not known here"),
        ("if n == 1 { put } else { let d = 1\nuse_d }\nuse_d", maybe),
        ("repeat 2 { let d = 1 }\nuse_d", maybe),
        ("repeat 2 { use_d\nlet d = 1 }", "'d' is not known here"),
        ("repeat 2 { let d = nth\nuse_d }", ""),
        // The body of `until` runs at least once.
        ("until n == 1 within 1 s { let d = 1\nput }\nuse_d", ""),
        ("each 2 of b { let d = place }\nuse_d", maybe),
        ("each 2 of b { let d = place\nuse_d }", ""),
        ("each 2 of b { let c = len(piece)\nput }", ""),
        ("let d = nth", "'nth' is not known here"),
        ("let d = piece", "'piece' is not known here"),
        // What a call gives counts in the call alone.
        ("put(c = 300)", "u8 holds 0 to 255; 300 (0x12C) does not fit"),
        ("put(c = b)", "bytes stands where a number is needed"),
        ("put(d = 3)", ""),
        ("use_d(d = 3)", ""),
        ("use_d(d = 3)\nuse_d", "'d' is not known here"),
        ("expect c == 0 else 'no'\nput", ""),
        ("fail 'always'", ""),
        ("wait 1 s\nput", ""),
        ("if n == 1 { fail 'no' } else { let d = 1 }\nuse_d", maybe),
    ];
    for (steps, wanted) in cases {
        let text = format!(
            "{BEGIN}[start]\nc = 0\n[exchange.put]\nsend = \"u8 = c\"\n[exchange.use_d]\nsend = \"u8 = d\"\n\
             [restart]\ndo = '''\n{steps}\n'''\n"
        );
        let found = parse(&text).err().unwrap_or_default();
        assert!(found.contains(wanted) && found.is_empty() == wanted.is_empty(), "{steps:?}: {found}");
    }
}

/// The tables that `vaka dialect show` prints, of every template and of the demo's dialects, in
/// `shown.txt`. `VAKA_WRITE_TABLES=1` rewrites it.
#[test]
fn a_dialect_is_shown_as_it_works() {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/sheets");
    let read = |name: &str| std::fs::read_to_string(format!("{demo}/{name}.dialect.toml")).unwrap();
    let mut all: Vec<(String, String)> =
        vaka_dialect::carrier::KINDS.iter().map(|kind| (kind.name.to_owned(), kind.template.to_owned())).collect();
    all.extend(["auk", "dunlin", "fulmar", "skua"].map(|name| (name.to_owned(), read(name))));
    let mut text = String::new();
    for (name, source) in all {
        let dialect = parse(&source).unwrap_or_else(|errors| panic!("{name}: {errors}"));
        text += &format!("{name}: {:?}, {:?}\n", dialect.carrier, dialect.framing);
        for row in dialect.envelope_rows().iter().chain(&dialect.rows()) {
            text += format!("  {:<12} {:<44} {}", row.operation, row.step, row.fields).trim_end();
            text += "\n";
        }
    }
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/shown.txt");
    if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let known = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(text == known, "tests/shown.txt is another table now; rewrite it and read what changed:\n{text}");
}

/// A frame in its envelope is sent whole, and shown as it is sent.
#[test]
fn an_envelope_surrounds_each_frame() {
    let text = |envelope: &str, more: &str| {
        format!("{BEGIN}[envelope]\n{envelope}\n[restart]\nsend = \"0x26, u16be = n\"\nreply = \"u8 v\"\n{more}")
    };
    let both = "send = \"0x55, u16le = len(body), bytes body, u8 = sum(body) & 0xFF\"\n\
                reply = \"0xAA, u8 size, bytes(size) body, u8 = xor(above)\"";
    let dialect = Arc::new(parse(&text(both, "")).unwrap());
    let exchange = dialect.exchange(exchange_of(&dialect, OperationName::Restart));
    let mut bindings = Bindings::new(dialect.clone());
    // 0x26 + 0x12 + 0x34 = 0x6C.
    let frame = [0x55, 3, 0, 0x26, 0x12, 0x34, 0x6C];
    assert_eq!(bindings.request(exchange).as_deref(), Ok(&frame[..]));
    let shown: Vec<u8> = bindings.view_request(exchange).into_iter().flat_map(|view| view.bytes).collect();
    assert_eq!(shown, frame);
    assert_eq!(bindings.answer(exchange, &[0xAA, 1, 9, 0xAA ^ 1 ^ 9], true), ReplyOutcome::Done(4));
    assert!(matches!(bindings.answer(exchange, &[0xAA, 1, 9, 0], true), ReplyOutcome::Differs(_)));
    let bare = Arc::new(parse(&text(both, "bare = true\n")).unwrap());
    let exchange = bare.exchange(exchange_of(&bare, OperationName::Restart));
    assert_eq!(Bindings::new(bare.clone()).request(exchange).as_deref(), Ok(&[0x26, 0x12, 0x34][..]));
    for (envelope, words) in [
        ("send = \"0x55, u8 x\"", "one field of an envelope is the frame inside it"),
        ("send = \"0x55, bytes body\"\nreply = \"0xAA\"", "one field of an envelope is the frame inside it"),
    ] {
        let error = parse(&text(envelope, "")).expect_err(envelope);
        assert!(error.contains(words), "{envelope}: {error}");
    }
    assert!(parse(&text("send = \"0x55, bytes body\"", "")).is_ok());
}

/// What a carrier can take.
#[test]
fn a_frame_fits_its_carrier() {
    let hid = "kind = \"hid\"\nlength = 8";
    let control = "kind = \"control\"";
    let cases: &[(&str, &str, &str)] = &[
        (hid, "send = \"bytes(8) = fill(8, 1)\"", ""),
        (hid, "send = \"bytes(9) = fill(9, 1)\"", "9 bytes"),
        ("kind = \"pipes\"\nlargest = 8", "send = \"bytes(8) = fill(8, 1)\"", ""),
        ("kind = \"pipes\"\nlargest = 8", "send = \"bytes(9) = fill(9, 1)\"", "the frame has 9 bytes"),
        (control, "out = { request = 0xFF, value = 0xFFFF, index = 0xFFFF }", ""),
        (control, "out = { request = 0x100 }", "this holds 0 to 255"),
        (control, "out = { request = 1, value = 0x10000 }", "this holds 0 to 65535"),
        (control, "out = { request = 1, index = 0x10000 }", "this holds 0 to 65535"),
        (control, "out = { request = 1, value = \"-1\" }", "this holds 0 to 65535"),
        ("kind = \"pipes\"", "out = { request = 1 }", "`out` is a key of control transfers"),
    ];
    for (carrier, restart, words) in cases {
        let text = format!("dialect = 1\nname = \"l\"\n[carrier]\n{carrier}\n[restart]\n{restart}\n");
        let found = parse(&text).err().unwrap_or_default();
        assert!(found.contains(words) && found.is_empty() == words.is_empty(), "{carrier} {restart}: {found}");
    }
}

/// Steps may be nested 32 deep; the depth counts only what is open.
#[test]
fn steps_are_nested_to_a_limit() {
    let nested = |depth: usize| format!("{}fail 'no'{}", "if n == 1 { ".repeat(depth), " }".repeat(depth));
    let restart = |steps: &str| parse(&format!("{BEGIN}[restart]\ndo = '''\n{steps}\n'''\n"));
    assert!(restart(&nested(32)).is_ok());
    assert!(restart(&nested(33)).unwrap_err().contains("nested too deeply"));
    assert!(restart(&vec![nested(20); 5].join("\n")).is_ok());
    assert!(restart("").unwrap_err().contains("step"));
    assert!(restart("# nothing").is_err());
}

#[test]
fn times_have_units() {
    use std::time::Duration;
    for (time, wanted) in [
        ("5 us", Some(Duration::from_micros(5))),
        ("5 ms", Some(Duration::from_millis(5))),
        ("5 s", Some(Duration::from_secs(5))),
        ("n * 2 ms", Some(Duration::from_millis(0x2468))),
        ("-5 s", Some(Duration::ZERO)),
        // An hour at the most.
        ("7200 s", Some(Duration::from_secs(3600))),
        ("5 min", None),
        ("5", None),
    ] {
        let parsed = parse(&format!("{BEGIN}[restart]\ndo = '''wait {time}'''\n"));
        let found = parsed.ok().map(|dialect| {
            let dialect = Arc::new(dialect);
            match &dialect.operation(OperationName::Restart).unwrap().steps[0] {
                Step::Wait(time) => Bindings::new(dialect.clone()).time(time).unwrap(),
                other => panic!("{other:?}"),
            }
        });
        assert_eq!(found, wanted, "{time}");
    }
}

/// A frame whose length shows only when it is made may still be too long for the unit.
#[test]
fn a_frame_that_turns_out_too_long_is_not_sent() {
    let request = |bytes: usize| {
        let text = format!(
            "dialect = 1\nname = \"l\"\n[carrier]\nkind = \"pipes\"\nlargest = 8\n[start]\nt = \"fill({bytes}, 1)\"\n\
             [identify]\nsend = \"1\"\nreply = \"bytes t\"\ntells = {{ t = \"t\" }}\n[restart]\nsend = \"1, bytes t\"\n"
        );
        let dialect = Arc::new(parse(&text).unwrap());
        let exchange = dialect.exchange(exchange_of(&dialect, OperationName::Restart));
        Bindings::new(dialect.clone()).request(exchange).map_err(|error| error.to_string())
    };
    assert_eq!(request(7).unwrap().len(), 8);
    assert_eq!(request(8).unwrap_err(), "the frame has 9 bytes, and the unit takes 8");
}

/// A dialect with one exchange, and the bindings for it.
fn exchange(lines: &str) -> (Arc<Dialect>, usize) {
    let text = format!("{BEGIN}[start]\nsize = 4\n[restart]\nsend = \"1\"\n{lines}\n");
    let dialect = Arc::new(parse(&text).unwrap_or_else(|errors| panic!("{lines}: {errors}")));
    let number = exchange_of(&dialect, OperationName::Restart);
    (dialect, number)
}

/// A unit may refuse with a frame of its own; without a table its values are the reason.
#[test]
fn a_refusal_without_a_table_is_told_by_its_values() {
    let (dialect, number) = exchange("reply = \"'OK'\"\nrefused = \"'NO', u8 why, u8 place\"\nbusy = \"'..'\"");
    let answer = |input: &[u8]| Bindings::new(dialect.clone()).answer(dialect.exchange(number), input, true);
    assert_eq!(answer(b"OK"), ReplyOutcome::Done(2));
    assert_eq!(answer(b".."), ReplyOutcome::Busy(2));
    assert_eq!(answer(b"NO\x07\x02"), ReplyOutcome::Refused("why 7, place 2".into()));
    assert!(matches!(answer(b"??"), ReplyOutcome::Differs(_)));
    let (dialect, number) = exchange("reply = \"'OK'\"\nrefused = \"'NO'\"");
    let answer = Bindings::new(dialect.clone()).answer(dialect.exchange(number), b"NO", true);
    assert_eq!(answer, ReplyOutcome::Refused("it gave no reason".into()));
}

#[test]
fn the_length_of_a_reply_is_known_before_it_comes_or_not() {
    for (reply, wanted) in [
        ("u8 v", Some(1)),
        ("u8 v, u16le w, bytes(3) z", Some(6)),
        ("u8 v, bytes(size) z", Some(5)),
        ("u8 v, bytes(v) z", None),
        ("u8 v, bytes z", None),
        ("bits16le(v:4, w:12), pad(2)", Some(4)),
        ("hex(4) v, 'x', hexbytes(2) w", Some(9)),
        ("u8 v, u8 w if v == 1", None),
    ] {
        let (dialect, number) = exchange(&format!("reply = \"{reply}\""));
        let found = Bindings::new(dialect.clone()).reply_length(dialect.exchange(number));
        assert_eq!(found, wanted, "{reply}");
    }
    let envelope = |around: &str, more: &str| {
        let text = format!(
            "{BEGIN}[envelope]\nsend = \"bytes body\"\nreply = \"{around}\"\n[restart]\nsend = \"1\"\nreply = \"u16le v\"\n{more}"
        );
        let dialect = Arc::new(parse(&text).unwrap());
        let number = exchange_of(&dialect, OperationName::Restart);
        Bindings::new(dialect.clone()).reply_length(dialect.exchange(number))
    };
    assert_eq!(envelope("0xAA, bytes body, u16le = sum(body)", ""), Some(5));
    assert_eq!(envelope("0xAA, bytes(9) body, u16le = sum(body)", ""), Some(12));
    assert_eq!(envelope("0xAA, bytes body, u16le = sum(body)", "bare = true\n"), Some(2));
}

/// A field is shown as it stands in the file, in one line and without comments.
#[test]
fn a_field_is_shown_as_it_is_written() {
    let text = format!(
        "{BEGIN}[restart]\nsend = '''\n  u8 = len(\n    below   # all of it\n  ),\n  \"a)b\" , u16be = n # the end\n'''\n"
    );
    let dialect = parse(&text).unwrap();
    let rows = dialect.rows();
    assert_eq!(rows[0].fields, "u8 = len( below ) | \"a)b\" | u16be = n");
}

/// What a dialect as a whole can do, from its sections.
#[test]
fn a_dialect_tells_what_it_can_do() {
    use vaka_dialect::{EraseBy, Erases};
    let with = |sections: &str| parse(&format!("{BEGIN}{sections}[restart]\nsend = \"1\"\n")).unwrap();
    let geometry =
        |lines: &str| with(&format!("[geometry]\nchunk = 4\n{lines}[write]\nsend = \"u32le address, bytes data\"\n"));
    assert_eq!(geometry("start = 0x100\nsize = 0x40\n").window(), Some((0x100, 0x40)));
    assert_eq!(geometry("size = 0x40\n").window(), Some((0, 0x40)));
    assert_eq!(geometry("start = 0x100\n").window(), None);
    assert_eq!(geometry("start = 0x100\nsize = \"n\"\n").window(), None);
    assert_eq!(geometry("").window(), None);
    let plain = with("");
    assert!(!plain.can_read() && plain.erases_by().is_none() && plain.checksum().is_none());
    assert_eq!(plain.erases_itself(), None);
    let reads = with("[geometry]\nchunk = 4\n[read]\nsend = \"1, u32le address\"\nreply = \"bytes(length) data\"\n");
    assert!(reads.can_read());
    let erase = with("[erase]\nby = \"all\"\nsend = \"1\"\n");
    assert_eq!(erase.erases_by(), Some(EraseBy::All));
    assert_eq!(geometry("").erases_itself(), None);
    let covered = "[geometry]\nchunk = 4\n[write]\nsend = \"u32le address, bytes data\"\nerases = \"covered\"\n";
    assert_eq!(with(covered).erases_itself(), Some(Erases::Covered));
}

/// Every kind of step, as `vaka dialect show` prints it; steps inside others are indented.
#[test]
fn every_kind_of_step_is_shown() {
    let text = "dialect = 1\nname = \"l\"\n[carrier]\nkind = \"serial\"\n[start]\nc = 0\n[exchange.put]\nsend = \"u8 = c\"\n\
                [steps.twice]\ndo = \"put; put\"\n[restart]\ndo = '''\n\
                line 9600\ndtr on\nrts off\ndrain\nlet c = c + 1 & 0xFF\n\
                repeat 2 {\n  each 4 of fill(8, 1) {\n    if c == 1 { twice } else { wait 5 ms }\n  }\n}\n\
                until c == 1 within 1 s { put }\nexpect c == 1 else 'it is not one'\nfail 'always'\n'''\n";
    let dialect = parse(text).unwrap_or_else(|errors| panic!("{errors}"));
    let shown: Vec<String> = dialect.rows().iter().map(|row| format!("{}|{}", row.step, row.fields)).collect();
    let wanted = [
        "line|9600 bit/s",
        "DTR|on",
        "RTS|off",
        "throw|away what comes",
        "let|c = c + 1 & 0xFF",
        "repeat|2",
        "  each|4 of fill(8, 1)",
        "    if|c == 1",
        "      steps|twice",
        "        put →|u8 = c",
        "        put →|u8 = c",
        "    else|",
        "      wait|5 ms",
        "until|c == 1 within 1 s",
        "  put →|u8 = c",
        "expect|c == 1 (it is not one)",
        "fail:|always",
    ];
    assert_eq!(shown, wanted);
}
