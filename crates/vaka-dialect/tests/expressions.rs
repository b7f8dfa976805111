//! Expressions of the dialect language, as tables. Expected values were worked out by hand, or stand in a standard or in
//! the public catalogue of CRCs.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Arc;

use support::{BEGIN, parse};
use vaka_dialect::{Bindings, OperationName, Value};

/// The value of an expression, with `n` = 0x1234 and `b` = 01 02 03 FF.
fn value(expression: &str) -> Result<Value, String> {
    let crcs = "[crc.ccitt]\nwidth = 16\npoly = 0x1021\ninit = 0xFFFF\n\
                [crc.xmodem]\nwidth = 16\npoly = 0x1021\n\
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
        ("byte(b, n - 4661)", "-1 is not a valid length"),
        ("slice(b, 0, 5)", "no 5 bytes"),
        ("slice(b, n, 1)", "no 1 bytes"),
        ("1 << (n - 4661)", "is not a valid shift"),
        ("1 >> (n - 4660 + 64)", "is not a valid shift"),
        ("n % (n - 4660)", "division by 0"),
        ("u8(n)", "does not fit"),
        ("i8(128 + n - 4660)", "does not fit"),
        ("i8(-129 + n - 4660)", "does not fit"),
        ("u8(n - 4661)", "does not fit"),
        ("dec(n - 4661)", "cannot be written in this form"),
        ("read_hex('')", "is not a number"),
        ("read_hex('0g')", "is not a number"),
        ("read_dec('')", "is not a number"),
        ("read_dec('-1')", "is not a number"),
        ("fill(1, n)", "byte"),
        ("fill(n - 4661, 0)", "-1 is not a valid length"),
        ("map(x in b: x + 300)", "byte"),
        ("map(w in b by n - 4660: w)", "at least one byte"),
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
    assert!(value(&brackets(64)).unwrap_err().contains("the nesting is too deep"));
    assert_eq!(value(&signs(62)), Ok(Value::Int(1)));
    assert_eq!(value(&signs(63)), Ok(Value::Int(-2)));
    assert!(value(&signs(64)).unwrap_err().contains("the nesting is too deep"));
    let many = vec![brackets(60); 5].join(" + ");
    assert_eq!(value(&many), Ok(Value::Int(5)));
    let many = vec![signs(60); 5].join(" + ");
    assert_eq!(value(&many), Ok(Value::Int(5)));
}

/// A chain of operators becomes a tree as deep as the chain is long.
#[test]
fn an_expression_has_a_limited_number_of_operators() {
    let sum = |operators: usize| format!("1{}", "+1".repeat(operators));
    assert_eq!(value(&sum(256)), Ok(Value::Int(257)));
    for long in [sum(257), sum(100_000), "1?1:".repeat(50_000) + "1", format!("({}) * ({})", sum(128), sum(128))] {
        assert!(value(&long).unwrap_err().contains("the expression has more than 256 operators"));
    }
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

#[test]
fn expressions_come_to_what_was_worked_out_by_hand() {
    let numbers: &[(&str, i128)] = &[
        ("1 + 2 * 3", 7),
        ("(1 + 2) * 3", 9),
        ("10 - 4 - 3", 3),
        ("1 << 4 | 1", 17),
        ("n & 0xFF == 0x34 ? 5 : 6", 5),
        ("6 ^ 3 & 1", 7),
        ("~0 & 0xFF", 255),
        ("-1 & 0xFFFF", 0xFFFF),
        ("-7 / 2", -4),
        ("-7 % 4", 1),
        ("0b1010 + 1_000", 1010),
        ("len(b) + byte(b, 3)", 259),
        ("sum(b)", 1 + 2 + 3 + 255),
        ("-sum(b) & 0xFF", 0xFB),
        ("xor(b)", 0xFF),
        ("le(slice(b, 0, 2))", 0x0201),
        ("be(b)", 0x0102_03FF),
        ("min(3, n) + max(3, n)", 3 + 0x1234),
        ("fold(a = 7, x in b: a * 10 + x)", 71_485),
        ("fold(a = 0, w in b by 2: a + le(w))", 0x0201 + 0xFF03),
        ("fold(a = 0, x in b: a + x * nth)", 2 + 2 * 3 + 3 * 255),
        ("rounds(5, a = 1: a * 2)", 32),
        ("rounds(4, a = 0: a * 10 + nth)", 123),
        // The check value of CRC-16 with this polynomial and start, from the public catalogue.
        ("ccitt('123456789')", 0x29B1),
        ("crc32('123456789')", 0xCBF4_3926),
        ("read_hex('00fF')", 255),
        ("read_dec('0042')", 42),
        ("not (1 == 2) and 'a' == x'61' ? 1 : 0", 1),
    ];
    for (expression, wanted) in numbers {
        assert_eq!(value(expression), Ok(Value::Int(*wanted)), "{expression}");
    }
    let bytes: &[(&str, &[u8])] = &[
        ("b ++ 'A' ++ x'00'", b"\x01\x02\x03\xFFA\0"),
        ("u16le(n) ++ u24be(n) ++ i8(-2)", &[0x34, 0x12, 0, 0x12, 0x34, 0xFE]),
        ("map(x in b: x ^ 0x55)", &[0x54, 0x57, 0x56, 0xAA]),
        ("map(w in b by 2: reverse(w))", &[2, 1, 0xFF, 3]),
        ("pad('ab', 4, 0x20) ++ fill(2, 9)", b"ab  \x09\x09"),
        ("hex(n, 6) ++ lower_hex(255, 2) ++ dec(7, 3) ++ hex(10)", b"001234ff007A"),
        // Of the empty text and of "abc", as RFC 1321 and FIPS 180 print them.
        ("slice(md5(''), 0, 4)", &[0xD4, 0x1D, 0x8C, 0xD9]),
        ("slice(sha256('abc'), 28, 4)", &[0xF2, 0x00, 0x15, 0xAD]),
        ("'\\r\\n\\t\\0\\x7F\\\\'", b"\r\n\t\0\x7F\\"),
    ];
    for (expression, wanted) in bytes {
        assert_eq!(value(expression), Ok(Value::from(wanted.to_vec())), "{expression}");
    }
}

#[test]
fn expressions_end_and_say_why_they_have_no_value() {
    for (expression, words) in [
        ("byte(b, 4)", "no byte 4"),
        ("slice(b, 2, 3)", "no 3 bytes"),
        ("1 << (n - 0x1234 + 64)", "is not a valid shift"),
        ("n / (n - 0x1234)", "division by 0"),
        ("rounds(200, a = 3: a * a)", "too large"),
        ("rounds(65536, a = 0: a + sum(fill(65536, 1)))", "too many steps"),
        ("rounds(60, a = b: a ++ a)", "too"),
        ("fill(99999999, 0)", "99999999 is not a valid length"),
        ("u8(n)", "does not fit"),
        ("read_dec('4x')", "is not a number"),
        ("le(fill(9, 0))", "at most 8 bytes"),
    ] {
        let error = value(expression).unwrap_err();
        assert!(error.contains(words), "{expression}: {error}");
    }
}

/// Vectors from the standards that define the functions.
#[test]
fn keys_and_ciphers_give_the_values_of_their_standards() {
    let cases: &[(&str, &str)] = &[
        // FIPS 180, the message "abc".
        ("sha1('abc')", "A9993E364706816ABA3E25717850C26C9CD0D89D"),
        // RFC 2202, section 3, and RFC 4231, section 4.3: test case 2.
        ("hmac_sha1('Jefe', 'what do ya want for nothing?')", "EFFCDF6AE5EB2FA2D27416D5F184DF9C259A7C79"),
        (
            "hmac_sha256('Jefe', 'what do ya want for nothing?')",
            "5BDCC146BF60754E6A042426089575C75A003F089D2739839DEC58B964EC3843",
        ),
        // RFC 4493, section 4: examples 1 and 2.
        ("aes_cmac(x'2B7E151628AED2A6ABF7158809CF4F3C', '')", "BB1D6929E95937287FA37D129B756746"),
        (
            "aes_cmac(x'2B7E151628AED2A6ABF7158809CF4F3C', x'6BC1BEE22E409F96E93D7E117393172A')",
            "070A16B46B4D4144F79BDD9DD04A287C",
        ),
        // NIST SP 800-38B, appendix D.3, example 10.
        (
            "aes_cmac(x'603DEB1015CA71BE2B73AEF0857D77811F352C073B6108D72D9810A30914DFF4', x'6BC1BEE22E409F96E93D7E117393172A')",
            "28A7023F452E8F82BD4BF28D8C37C35C",
        ),
        // NIST SP 800-38A, appendix F.1.1, F.1.5 and F.2.1: the first block.
        (
            "aes_ecb_encrypt(x'2B7E151628AED2A6ABF7158809CF4F3C', x'6BC1BEE22E409F96E93D7E117393172A')",
            "3AD77BB40D7A3660A89ECAF32466EF97",
        ),
        (
            "aes_ecb_encrypt(x'603DEB1015CA71BE2B73AEF0857D77811F352C073B6108D72D9810A30914DFF4', x'6BC1BEE22E409F96E93D7E117393172A')",
            "F3EED1BDB5D2A03C064B5A7E3DB181F8",
        ),
        (
            "aes_cbc_encrypt(x'2B7E151628AED2A6ABF7158809CF4F3C', x'000102030405060708090A0B0C0D0E0F', x'6BC1BEE22E409F96E93D7E117393172A')",
            "7649ABAC8119B246CEE98E9B12E9197D",
        ),
        // RFC 1951, section 3.2.4: a stored block of no bytes, and one of three. RFC 1950, section 2.2.
        ("inflate(x'01 00 00 FF FF')", ""),
        ("inflate(x'01 03 00 FC FF 61 62 63')", "616263"),
        ("slice(zlib('abc'), len(zlib('abc')) - 4, 4)", "024D0127"),
        ("runs(x'05 05 05 00 09')", "030501000109"),
        ("runs(fill(300, 7))", "FF072D07"),
        ("runs('')", ""),
        // RFC 4648, section 10.
        ("base64('foobar')", "5A6D3976596D4679"),
        ("read_base64('Zm9vYg==')", "666F6F62"),
    ];
    for (expression, wanted) in cases {
        let wanted = vaka_base::text::parse_hex(wanted.as_bytes()).unwrap();
        assert_eq!(value(expression), Ok(Value::Bytes(wanted.into())), "{expression}");
    }
    assert_eq!(value("inflate(deflate(fill(5000, 3) ++ b)) == fill(5000, 3) ++ b"), Ok(Value::Truth(true)));
    assert_eq!(value("len(deflate(fill(5000, 3))) < 50"), Ok(Value::Truth(true)));
    for mode in ["aes_ecb", "aes_cbc"] {
        let start = if mode == "aes_cbc" { "fill(16, 9), " } else { "" };
        for key in ["fill(16, 7)", "fill(32, 7)"] {
            let closed = format!("{mode}_encrypt({key}, {start}fill(48, 5))");
            assert_eq!(
                value(&format!("{mode}_decrypt({key}, {start}{closed}) == fill(48, 5)")),
                Ok(Value::Truth(true))
            );
        }
    }
}

#[test]
fn keys_and_ciphers_refuse_other_lengths() {
    let cases: &[(&str, &str)] = &[
        ("aes_cmac(fill(15, 1), '')", "a key of AES has 16 or 32 bytes, not 15"),
        ("aes_cmac(fill(24, 1), '')", "a key of AES has 16 or 32 bytes, not 24"),
        ("aes_ecb_encrypt(fill(16, 1), fill(17, 1))", "blocks of 16 bytes, but this has 17; pad it first"),
        ("aes_cbc_decrypt(fill(16, 1), fill(8, 1), fill(16, 1))", "the initial value has 16 bytes, not 8"),
        // Lengths that show only when the value is computed.
        ("aes_ecb_decrypt(b ++ read_base64('AQ=='), fill(16, 1))", "a key of AES has 16 or 32 bytes"),
        ("aes_ecb_encrypt(fill(16, 1), read_base64('AQ=='))", "AES works on blocks of 16 bytes"),
        ("aes_cbc_encrypt(fill(32, 1), read_base64('AQ=='), fill(16, 1))", "the initial value has 16 bytes"),
        ("read_base64('Zg')", "is not base64"),
        ("read_base64('%')", "is not base64"),
        ("inflate('abc')", "is not deflated"),
        ("random(16)", "random bytes need a step of their own: let name = random(16)"),
    ];
    for (expression, wanted) in cases {
        let error = value(expression).unwrap_err();
        assert!(error.contains(wanted), "{expression}: {error}");
    }
}
