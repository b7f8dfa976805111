//! Steps and whole dialects: what is known of names, what is shown, and what a dialect can do.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Arc;

use support::{BEGIN, parse};
use vaka_dialect::{Bindings, OperationName, Step};

/// Names that are bound after steps that may not run, or run several times. `c` has a
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
        // Arguments of a call are visible in the call only.
        ("put(c = 300)", "u8 can represent 0 to 255; 300 (0x12C) does not fit"),
        ("put(c = b)", "expected a number, found bytes"),
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

/// Steps may be nested 32 deep; the depth counts only what is open.
#[test]
fn steps_are_nested_to_a_limit() {
    let nested = |depth: usize| format!("{}fail 'no'{}", "if n == 1 { ".repeat(depth), " }".repeat(depth));
    let restart = |steps: &str| parse(&format!("{BEGIN}[restart]\ndo = '''\n{steps}\n'''\n"));
    assert!(restart(&nested(32)).is_ok());
    assert!(restart(&nested(33)).unwrap_err().contains("the nesting is too deep"));
    assert!(restart(&vec![nested(20); 5].join("\n")).is_ok());
    assert!(restart("").unwrap_err().contains("step"));
    assert!(restart("# nothing").is_err());
}

/// Named steps may call each other in a chain of limited length.
#[test]
fn named_steps_call_each_other_to_a_limit() {
    let chain = |len: usize| {
        let steps: String = (1..len).map(|n| format!("[steps.s{n}]\ndo = \"s{}\"\n", n + 1)).collect();
        parse(&format!("{BEGIN}[restart]\ndo = \"s1\"\n{steps}[steps.s{len}]\ndo = \"wait 1 ms\"\n"))
    };
    assert!(chain(32).is_ok());
    assert!(chain(33).unwrap_err().to_string().contains("more than 32 named steps call each other in a row"));
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

/// The capabilities of a dialect, from its sections.
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
    for (value, wanted) in
        [("true", Some(Erases::FirstWrite)), ("\"everything\"", Some(Erases::Everything)), ("false", None)]
    {
        assert_eq!(with(&covered.replace("\"covered\"", value)).erases_itself(), wanted);
    }
    let begins = "[begin]\nsend = \"1\"\nerases = true\n";
    assert_eq!(with(begins).erases_itself(), Some(Erases::Everything));
    let wrong = format!("{BEGIN}{}", begins.replace("true", "\"first-write\""));
    assert!(parse(&wrong).unwrap_err().to_string().contains("\"first-write\" applies only to [write]"));
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
        "discard|incoming data",
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

/// Frames that can never be made, replies without an end, and names that only another operation sets, are
/// found before anything is sent.
#[test]
fn what_can_never_work_is_found_before_the_first_erase() {
    let serial = "dialect = 1\nname = \"x\"\n[carrier]\nkind = \"serial\"\n[geometry]\nchunk = 4\nstream = true\n";
    let sync = "[sync]\nsend = \"1\"\nreply = \"2\"\n";
    let circular = "the field depends on itself through the others";
    let endless = "this field has no end";
    let cases = [
        (format!("{sync}[restart]\nsend = \"1, pad_to(8), 2, pad_to(16)\"\n"), circular),
        (format!("{sync}[restart]\nsend = \"u8 = sum(below) & 0xFF, u8 = sum(above) & 0xFF\"\n"), circular),
        (format!("{sync}[restart]\nsend = \"1, pad_to(8), u8 = sum(above) & 0xFF\"\n"), ""),
        ("[sync]\nsend = \"1\"\nreply = \"2, bytes rest\"\n".to_owned(), endless),
        ("[sync]\nsend = \"1\"\nreply = \"2, bytes rest, 0x0D\"\n".to_owned(), ""),
        ("[sync]\nsend = \"1\"\nreply = \"2, bytes rest\"\n[framing]\nkind = \"cobs\"\n".to_owned(), ""),
        (
            "[envelope]\nreply = \"1, bytes body, u8 = sum(above) & 0xFF\"\n[sync]\nsend = \"1\"\nreply = \"2\"\n"
                .to_owned(),
            endless,
        ),
        (
            format!("{sync}[write]\nsend = \"bytes data\"\nreply = \"u8 tag\"\n[end]\nsend = \"u8 = tag\"\n"),
            "'tag' is not known here",
        ),
    ];
    for (sections, wanted) in cases {
        let found = parse(&format!("{serial}{sections}")).err().unwrap_or_default();
        assert!(found.contains(wanted) && found.is_empty() == wanted.is_empty(), "{sections}: {found}");
    }
}

/// An address that [geometry] bounds fits into a small field without a warning.
#[test]
fn geometry_bounds_the_addresses() {
    let warnings = |window: &str| {
        let text = format!(
            "{BEGIN}[geometry]\nchunk = 4\nread_chunk = 8\n{window}[write]\nsend = \"u16le address, bytes data\"\nerases = true\n\
             [read]\nsend = \"u16le address, u8 length\"\nreply = \"bytes(length) data\"\n[restart]\nsend = \"1\"\n"
        );
        parse(&text).unwrap().warnings.iter().map(|warning| warning.message.clone()).collect::<Vec<_>>()
    };
    assert!(warnings("").iter().any(|warning| warning.contains("u16le can represent 65535")), "{:?}", warnings(""));
    assert_eq!(warnings("start = 0x1000\nsize = 0xF000\n"), Vec::<String>::new());
    assert!(!warnings("start = 0x1000\nsize = 0x1_0000\n").is_empty());
}

/// Secrets are followed through other names; wrong ones are found with
/// such values.
#[test]
fn secrets_are_followed_through_names() {
    let text = format!(
        "{BEGIN}[ask]\ncode = \"the code\"\nkey = {{ question = \"the key\", form = \"hex\", size = 2 }}\n[start]\ns = \"''\"\n\
         [exchange.plain]\nsend = \"1\"\n[exchange.sealed]\nsend = \"bytes = s\"\n[enter]\ndo = \"plain\"\n\
         [unlock]\ndo = \"let s = sha256(code ++ key); sealed\"\n[restart]\ndo = \"plain; sealed\"\n"
    );
    let dialect = parse(&text).unwrap();
    let needs =
        [OperationName::Enter, OperationName::Unlock, OperationName::Restart].map(|name| dialect.needs_secret(name));
    assert_eq!(needs, [false, true, true]);
    let sealed = |name: &str| (0..).map(|number| dialect.exchange(number)).find(|exchange| exchange.name == name);
    assert!(sealed("sealed").unwrap().is_secret && !sealed("plain").unwrap().is_secret);
    let [code, key] = &dialect.secrets[..] else { panic!("{:?}", dialect.secrets) };
    assert_eq!((code.parse(" TIDE\n"), key.parse("0a 0B")), (Ok(b"TIDE".to_vec()), Ok(vec![10, 11])));
    for (secret, given, words) in [
        (code, " \n", "it is empty"),
        (key, "0a", "it must have 2 bytes, and has 1"),
        (key, "0x0a0b", "pairs of hex digits"),
    ] {
        assert!(secret.parse(given).unwrap_err().contains(words), "{given}");
    }
    for (from, to, words) in [
        ("\"plain\"\n[unlock]", "\"sealed; let s = code\"\n[unlock]", ""),
        (
            "[unlock]",
            "[identify]\nsend = \"bytes = code\"\nreply = \"u8 n\"\ntells = { n = \"n\" }\n[unlock]",
            "'code' is not known here",
        ),
        ("code = \"the code\"", "n = \"the code\"", "'n' occurs twice"),
        ("\"the code\"", "\" \"", "the question must not be empty"),
    ] {
        let found = parse(&text.replacen(from, to, 1)).err().unwrap_or_default();
        assert!(found.contains(words) && found.is_empty() == words.is_empty(), "{to}: {found}");
    }
    let setup = text.replace("[carrier]\nkind = \"pipes\"", "[carrier]\nkind = \"control\"");
    let setup = setup
        .replace("[exchange.plain]\nsend = \"1\"", "[exchange.plain]\nout = { request = 1, value = \"byte(s, 0)\" }");
    let setup = setup.replace("send = \"bytes = s\"", "out = { request = 2 }\nsend = \"bytes = s\"");
    assert!(parse(&setup).unwrap_err().contains("cannot be part of a setup packet"));
}
