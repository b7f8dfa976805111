//! The application's own report, and signs that only a user can see, after the
//! restart.

#![allow(clippy::unwrap_used)]

mod support;

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::operator::Operator;
use vaka_boot::update::{self, Request};
use vaka_core::event::{ExitCode, Report, RestartState};
use vaka_core::matching::Question;
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::gannet::Gannet;

use support::{Scene, sheet_with};

/// An operator who answers questions about visible signs, or none.
struct Eyes(Option<bool>, Vec<String>);

impl Operator for Eyes {
    fn read_label(&mut self, _: &Question) -> Option<String> {
        None
    }

    fn is_there(&self) -> bool {
        self.0.is_some()
    }

    fn sees(&mut self, what: &[String]) -> Option<bool> {
        self.1.extend_from_slice(what);
        self.0
    }
}

fn run(scene: &Scene, file: &[u8], operator: &mut Eyes) -> (Report, String) {
    let bench = Bench::new(vec![Arc::new(scene.bus())], &scene.sheets);
    let request = Request { wait: Duration::from_secs(5), ..Request::new(file) };
    let stop = AtomicBool::new(false);
    let mut events: Vec<Event> = Vec::new();
    let mut tell = |event| events.push(event);
    let report = update::run(&bench, &request, operator, &mut Context::new(&*scene.clock, &mut tell, &stop));
    (report, format!("{events:?}"))
}

const AUK: &str = include_str!("../../../demo/sheets/auk.toml");
const AUK_DIALECTS: [&str; 2] =
    [include_str!("../../../demo/sheets/auk.dialect.toml"), include_str!("../../../demo/sheets/auk-call.dialect.toml")];
const AUK_HEX: &[u8] = include_bytes!("../../../demo/firmware/out/auk-2.1.0.hex");

#[test]
fn a_person_says_whether_the_light_is_as_it_should_be() {
    // (does the sheet know its ids, what is said, exit status, how it ended)
    let cases = [
        (true, Some(true), ExitCode::Done, RestartState::Confirmed),
        (true, Some(false), ExitCode::NotBack, RestartState::NotBack),
        (true, None, ExitCode::Done, RestartState::Confirmed),
        (false, Some(true), ExitCode::Done, RestartState::Seen),
        (false, Some(false), ExitCode::NotBack, RestartState::NotBack),
        (false, None, ExitCode::Done, RestartState::Restarted),
    ];
    for (has_id, says, code, after) in cases {
        let mut text = AUK.to_owned();
        if !has_id {
            let lines = "id = \"1209:000b\"\nproduct = \"Auk harbour light\"\nversion = \"release-number\"\n";
            assert!(text.contains(lines));
            text = text.replacen(lines, "", 1);
        }
        let unit = if has_id { auk("A-00044") } else { auk("A-00044").in_boot_mode() };
        let scene = Scene::loaded(unit, Vec::new(), sheet_with(&text, &AUK_DIALECTS), AUK_HEX, "KEY");
        let mut eyes = Eyes(says, Vec::new());
        let (report, events) = run(&scene, AUK_HEX, &mut eyes);
        let what = format!("{has_id} {says:?}: {events}");
        assert_eq!((report.code, report.after), (code, after), "{what}");
        assert_eq!(eyes.1, ["the lamp fades in and out, once in four seconds"], "{what}");
        assert_eq!(events.contains("NotAsked"), says.is_none(), "{what}");
        scene.assert_unharmed(&what);
    }
}

const FULMAR: &str = include_str!("../../../demo/sheets/fulmar.toml");
const FULMAR_DIALECTS: [&str; 2] = [
    include_str!("../../../demo/sheets/fulmar.dialect.toml"),
    include_str!("../../../demo/sheets/fulmar-call.dialect.toml"),
];
const FULMAR_BIN: &[u8] = include_bytes!("../../../demo/firmware/out/fulmar-4.2.0.bin");

#[test]
fn a_version_may_be_told_on_the_serial_port() {
    let cases = [
        ("{ line = \"version\", send = \"about\" }", ExitCode::Done, "and reports version 4.2.0"),
        ("{ line = \"release\", send = \"about\", within = \"1 s\" }", ExitCode::NotBack, "no line with"),
        // Without a query it sends nothing.
        ("{ line = \"version\", within = \"1 s\" }", ExitCode::NotBack, "no line with"),
    ];
    for (version, code, words) in cases {
        let text = FULMAR.replacen("version = \"release-number\"", &format!("version = {version}"), 1);
        let scene =
            Scene::loaded(fulmar("F-00019"), Vec::new(), sheet_with(&text, &FULMAR_DIALECTS), FULMAR_BIN, "MAST");
        let (report, events) = run(&scene, FULMAR_BIN, &mut Eyes(None, Vec::new()));
        assert_eq!(report.code, code, "{version}: {events}");
        assert!(events.contains(words), "{version}: {events}");
        assert!(!events.contains("SerialPort("), "{version}: {events}");
    }
}

/// Serial numbers and release numbers that must have a form, and strings that tell the
/// version.
#[test]
fn what_the_application_says_of_itself_must_be_so() {
    let cases = [
        ("serial = \"G-*\"", ExitCode::Done, "confirmed"),
        ("serial = \"H-*\"", ExitCode::Refused, r#"says: "G-00031", means: "the sheet's is H-*""#),
        ("maker = \"Skerrow Instruments\"", ExitCode::Done, "confirmed"),
        ("maker = \"Other\"", ExitCode::Refused, "MakerString"),
        ("release = \"1.0.0..1.9.9\"", ExitCode::Done, "confirmed"),
        ("release = \"2.0.0\"", ExitCode::Refused, r#"says: "1.2.0", means: "the sheet's is 2.0.0""#),
    ];
    for (line, code, words) in cases {
        let text = support::GANNET.replacen("[application]\n", &format!("[application]\n{line}\n"), 1);
        let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), &text);
        let (report, events) = run(&scene, support::GANNET_DFU, &mut Eyes(None, Vec::new()));
        assert_eq!(report.code, code, "{line}: {events}");
        assert!(
            events.contains(words) || code == ExitCode::Done && report.after == RestartState::Confirmed,
            "{line}: {events}"
        );
        scene.assert_unharmed(line);
    }
}
