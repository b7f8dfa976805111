//! The dialect language: whatever a file holds, it is read or refused, with line and
//! column inside the file; what was read can be shown.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vaka_dialect::Dialect;

/// A sound dialect that the input is put into, so that it comes beyond TOML.
const AROUND: [&str; 3] = [
    "dialect = 1\nname = \"f\"\n[carrier]\nkind = \"serial\"\n[geometry]\nchunk = 16\n[write]\nsend = '''",
    "'''\nreply = \"bytes\" # ",
    "\n",
];

fuzz_target!(|bytes: &[u8]| {
    let Ok(text) = std::str::from_utf8(bytes) else { return };
    let nothing = |_: &str| Err("no files here".to_owned());
    let inside = text.replace("'''", "''");
    let framed = format!("{}{inside}{}{}", AROUND[0], AROUND[1], AROUND[2]);
    let (head, tail) = inside.split_once('|').unwrap_or((&inside, "u8 x"));
    let both = format!("{}{head}'''\nreply = '''{tail}'''\n[restart]\ndo = '''{tail}'''\n", AROUND[0]);
    for text in [text, &framed, &both] {
        match Dialect::parse("f", text, &nothing) {
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
});
