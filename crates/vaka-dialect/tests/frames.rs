//! Frames of the dialect language, as tables: what is sent, what is received, and what fits. Expected
//! bytes were worked out by hand.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::Arc;

use support::{BEGIN, exchange_of, parse};
use vaka_dialect::{Bindings, Dialect, OperationName, ReplyOutcome, Value};

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
        ("bytes(3) t", "bytes(3) t: it has 3 bytes, but there are 2"),
        ("u8 = x - 8", "u8 = x - 8: "),
        ("bits8(a:4 = x + 9, c:4 = 0)", "does not fit"),
        ("hex(1) = x + 9", "digits"),
        ("dec(1) = x + 3", "digits"),
        ("bytes t, pad_to(1)", "pad_to(1)"),
        ("pad(x - 8)", "-1 is not a valid length"),
        ("u8 = len(below) if x == 7, bytes(x - 8) t", "-1 is not a valid length"),
        ("u8 a = c, u8 c = a", "has no value yet"),
    ];
    for (fields, words) in cases {
        let error = sent(fields).expect_err(fields);
        assert!(error.contains(words), "{fields}: {error}");
    }
}

/// The session's reading of a reply, in one line; with `all`, no more bytes follow.
fn answered(reply: &str, input: &[u8], all: bool) -> String {
    let text = format!(
        "{BEGIN}[start]\nx = 7\n[table.code]\n0 = \"ok\"\n1 = \"busy\"\n2 = \"no such page\"\n3 = \"nak\"\n\
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
        ReplyOutcome::Nak(used) => format!("nak {used}"),
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
        ("u8 v", &[], WHOLE, "differs at byte 0, u8 v: expected 1 byte here, but the frame ends after 0; received nothing"),
        ("u8 v", &[], BEGUN, "more 1"),
        ("u8 v", &[7], EITHER, "done 1: 7"),
        ("u8 v", &[7, 8], WHOLE, "differs at byte 1: expected the end of the frame, found 1 more byte: 08"),
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
        ("u8 v, pad_to(4)", &[1, 9, 9], WHOLE, "differs at byte 1, pad_to(4): expected 3 bytes here, but the frame ends after 2; received 09 09"),
        ("u8 v, pad_to(4)", &[1, 9, 9], BEGUN, "more 1"),
        ("u8 v if x == 7, u8 w if x == 8", &[1], EITHER, "done 1: 1"),
        ("u8 v, u16be w if v == 1, u8 z", &[1, 0, 2, 3], EITHER, "done 4: 1; 2; 3"),
        ("u8 v, u16be w if v == 1, u8 z", &[0, 3], EITHER, "done 2: 0; 3"),
        ("u8 in code, u8 v", &[0, 9], EITHER, "done 2: 0: ok; 9"),
        ("u8 in code, u8 v", &[1], EITHER, "busy 1"),
        ("u8 in code, u8 v", &[2], EITHER, "refused: no such page"),
        ("u8 in code, u8 v", &[3], EITHER, "nak 1"),
        ("u8 in code, u8 v", &[4, 9], EITHER, "refused: status 4 (0x04), which is not in the dialect's table 'code'"),
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
        ("send = \"0x55, u8 x\"", "an envelope requires the field `bytes body` for the"),
        ("send = \"0x55, bytes body\"\nreply = \"0xAA\"", "an envelope requires the field `bytes body` for the"),
    ] {
        let error = parse(&text(envelope, "")).expect_err(envelope);
        assert!(error.contains(words), "{envelope}: {error}");
    }
    assert!(parse(&text("send = \"0x55, bytes body\"", "")).is_ok());
}

/// The limits of a carrier.
#[test]
fn a_frame_fits_its_carrier() {
    let hid = "kind = \"hid\"\nlength = 8";
    let control = "kind = \"control\"";
    let pipes = "kind = \"pipes\"";
    const SCSI: &str = "kind = \"scsi\"";
    let cases: &[(&str, &str, &str)] = &[
        (hid, "send = \"bytes(8) = fill(8, 1)\"", ""),
        (hid, "send = \"bytes(9) = fill(9, 1)\"", "9 bytes"),
        ("kind = \"pipes\"\nlargest = 8", "send = \"bytes(8) = fill(8, 1)\"", ""),
        ("kind = \"pipes\"\nlargest = 8", "send = \"bytes(9) = fill(9, 1)\"", "the frame has 9 bytes"),
        (control, "out = { request = 0xFF, value = 0xFFFF, index = 0xFFFF }", ""),
        (control, "out = { request = 0x100 }", "this can represent 0 to 255"),
        (control, "out = { request = 1, value = 0x10000 }", "this can represent 0 to 65535"),
        (control, "out = { request = 1, index = 0x10000 }", "this can represent 0 to 65535"),
        (control, "out = { request = 1, value = \"-1\" }", "this can represent 0 to 65535"),
        (pipes, "out = { request = 1 }", ""),
        (pipes, "out = { request = 0x100 }", "this can represent 0 to 255"),
        (pipes, "in = { request = 1 }\nreply = \"u8 _\"\npipe_out = 2\nsend = \"1\"", ""),
        (pipes, "out = { request = 1 }\npipe_out = 2", "by a control request or by a pipe, not by both"),
        (pipes, "reply = \"u8 _\"\npipe_in = 0x83", ""),
        (pipes, "reply = \"u8 _\"\npipe_in = 0x03", "an endpoint to the host must have an address of 0x80 or above"),
        (pipes, "send = \"1\"\npipe_out = 0x83", "an endpoint to the unit must have an address below 0x80"),
        (control, "out = { request = 1 }\npipe_out = 2", "applies only to a carrier of kind \"pipes\""),
        (pipes, "reply = \"1\"\nnak = \"2\"", "`nak` requires `send`"),
        (pipes, "send = \"1\"\nnak = \"2\"", "this requires a `reply`"),
        (pipes, "send = \"1\"\nat_start = true", "`at_start` applies only to [recover]"),
        (pipes, "send = \"\"", ""),
        (pipes, "do = \"alternate 1; bus_reset; raw x'55'\"", ""),
        (pipes, "do = \"break 20 ms\"", "this applies only to a serial carrier"),
        ("kind = \"serial\"", "do = \"break 20 ms; raw x'55 55'\"", ""),
        ("kind = \"serial\"", "do = \"alternate 1\"", "this applies only to pipes"),
        (control, "do = \"raw x'55'\"", "this applies only to a serial carrier and to pipes"),
        (SCSI, "command = \"0xD0\"", ""),
        (SCSI, "command = \"bytes(16) = fill(16, 1)\"", ""),
        (SCSI, "command = \"bytes(17) = fill(17, 1)\"", "a command block can have 16"),
        (SCSI, "command = \"0xD0\"\nsend = \"bytes(600) = fill(600, 1)\"", ""),
        (SCSI, "command = \"0xD0\"\nreply = \"u8 _\"", ""),
        (SCSI, "command = \"0xD0\"\nreply = \"bytes _\"", "give the last field a size"),
        (SCSI, "command = \"0xD0\"\nsend = \"1\"\nreply = \"u8 _\"", "one direction: `send` or `reply`"),
        (SCSI, "send = \"1\"", "`command` is required"),
        (SCSI, "reply = \"u8 _\"", "`command` is required"),
        (SCSI, "out = { request = 1 }\nsend = \"1\"", ""),
        (SCSI, "command = \"0xD0\"\nin = { request = 1 }\nreply = \"bytes _\"", ""),
        (SCSI, "command = \"0xD0\"\nrefused = \"5, u8 _, u8 _\"\nbusy = \"2, 4, 1\"", ""),
        (SCSI, "command = \"0xD0\"\nsend = \"1\"\nnak = \"2\"", "`nak` does not apply to SCSI commands"),
        (SCSI, "command = \"0xD0\"\nsend = \"1\"\necho = true", "`echo` does not apply to SCSI commands"),
        ("kind = \"scsi\"\nlun = 16", "command = \"0xD0\"", "a logical unit is 0 to 15"),
        (pipes, "command = \"0xD0\"", "`command` applies only to a carrier of kind \"scsi\""),
        ("kind = \"pipes\"\nlun = 1", "send = \"1\"", "`lun` applies only to a carrier of kind \"scsi\""),
    ];
    for (carrier, restart, words) in cases {
        let text = format!("dialect = 1\nname = \"l\"\n[carrier]\n{carrier}\n[restart]\n{restart}\n");
        let found = parse(&text).err().unwrap_or_default();
        assert!(found.contains(words) && found.is_empty() == words.is_empty(), "{carrier} {restart}: {found}");
    }
}

/// The patterns of a command describe its sense data, not its data, and its block is made when it is sent.
#[test]
fn a_command_is_made_and_its_sense_data_is_matched() {
    let text = "dialect = 1\nname = \"l\"\n[carrier]\nkind = \"scsi\"\n[table.code]\n0x21 = \"outside\"\n\
                [start]\na = 3\n[identify]\ncommand = \"0xD1, u16be = a, pad_to(a)\"\n\
                reply = \"u8 a, u8 _, u8 _\"\ntells = { a = \"a\" }\nbusy = \"2, 4, u8 _\"\n\
                refused = [\"5, u8 x in code, u8 _\", \"9, u8 code, u8 _\"]\n[restart]\ncommand = \"0xDA, u8 = a\"\n";
    let dialect = Arc::new(parse(text).unwrap());
    let exchange = dialect.exchange(exchange_of(&dialect, OperationName::Identify));
    let mut bindings = Bindings::new(dialect.clone());
    assert_eq!(bindings.command(exchange).unwrap(), Some(vec![0xD1, 0, 3]));
    let captured = dialect.captured_by(exchange);
    let a = captured.into_iter().find(|name| dialect.name_text(*name) == "a").unwrap();
    bindings.set(a, Some(Value::Int(17)));
    let error = bindings.command(exchange).unwrap_err().to_string();
    assert!(error.contains("1 to 16 bytes, not 17"), "{error}");
    assert!(matches!(bindings.answer(exchange, &[2, 4, 1], true), ReplyOutcome::Done(3)), "data is not sense data");
    assert_eq!(bindings.sense(exchange, [2, 4, 1]), ReplyOutcome::Busy(3));
    assert_eq!(bindings.sense(exchange, [5, 0x21, 0]), ReplyOutcome::Refused("outside".into()));
    assert_eq!(bindings.sense(exchange, [9, 0x80, 0]), ReplyOutcome::Refused("code 128 (0x80)".into()));
    assert!(matches!(bindings.sense(exchange, [3, 0, 0]), ReplyOutcome::Differs(_)));
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
    assert_eq!(request(8).unwrap_err(), "the frame has 9 bytes; the unit accepts 8");
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
fn a_refusal_without_a_table_is_reported_by_its_values() {
    let (dialect, number) = exchange("reply = \"'OK'\"\nrefused = \"'NO', u8 why, u8 place\"\nbusy = \"'..'\"");
    let answer = |input: &[u8]| Bindings::new(dialect.clone()).answer(dialect.exchange(number), input, true);
    assert_eq!(answer(b"OK"), ReplyOutcome::Done(2));
    assert_eq!(answer(b".."), ReplyOutcome::Busy(2));
    assert_eq!(answer(b"NO\x07\x02"), ReplyOutcome::Refused("why 7, place 2".into()));
    assert!(matches!(answer(b"??"), ReplyOutcome::Differs(_)));
    let (dialect, number) = exchange("reply = \"'OK'\"\nrefused = \"'NO'\"");
    let answer = Bindings::new(dialect.clone()).answer(dialect.exchange(number), b"NO", true);
    assert_eq!(answer, ReplyOutcome::Refused("no reason given".into()));
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
