//! What an application says of itself, and what only a person can see, after the
//! restart.

#![allow(clippy::unwrap_used)]

mod support;

use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Pace;
use vaka_boot::operator::Person;
use vaka_boot::update::{self, Request};
use vaka_core::event::{After, Code, Event, Report};
use vaka_core::matching::Question;
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::gannet::Gannet;

use support::{Scene, sheet_with};

/// Somebody who says what they see, or nobody.
struct Eyes(Option<bool>, Vec<String>);

impl Person for Eyes {
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

fn run(scene: &Scene, file: &[u8], person: &mut Eyes) -> (Report, String) {
    let bench = Bench::new(vec![Arc::new(scene.bus())], &scene.sheets);
    let request = Request { wait: Duration::from_secs(5), ..Request::new(file) };
    let stop = AtomicBool::new(false);
    let mut events: Vec<Event> = Vec::new();
    let mut tell = |event| events.push(event);
    let report = update::run(&bench, &request, person, &mut Pace::new(&*scene.clock, &mut tell, &stop));
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
        (true, Some(true), Code::Done, After::Confirmed),
        (true, Some(false), Code::NotBack, After::NotBack),
        (true, None, Code::Done, After::Confirmed),
        (false, Some(true), Code::Done, After::Seen),
        (false, Some(false), Code::NotBack, After::NotBack),
        (false, None, Code::Done, After::Restarted),
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
        assert_eq!(events.contains("Nobody was asked what the unit shows"), says.is_none(), "{what}");
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
        ("{ line = \"version\", send = \"about\" }", Code::Done, "says that it is version 4.2.0"),
        ("{ line = \"release\", send = \"about\", within = \"1 s\" }", Code::NotBack, "no line with"),
        // Nobody asks, so it says nothing.
        ("{ line = \"version\", within = \"1 s\" }", Code::NotBack, "no line with"),
    ];
    for (version, code, words) in cases {
        let text = FULMAR.replacen("version = \"release-number\"", &format!("version = {version}"), 1);
        let scene =
            Scene::loaded(fulmar("F-00019"), Vec::new(), sheet_with(&text, &FULMAR_DIALECTS), FULMAR_BIN, "MAST");
        let (report, events) = run(&scene, FULMAR_BIN, &mut Eyes(None, Vec::new()));
        assert_eq!(report.code, code, "{version}: {events}");
        assert!(events.contains(words), "{version}: {events}");
        assert!(!events.contains("cannot be listened to"), "{version}: {events}");
    }
}

/// Serial numbers and release numbers that must have a form, and strings that tell the
/// version.
#[test]
fn what_the_application_says_of_itself_must_be_so() {
    let cases = [
        ("serial = \"G-*\"", Code::Done, "confirmed"),
        ("serial = \"H-*\"", Code::Refused, "serial number G-00031: the sheet's is H-*"),
        ("maker = \"Skerrow Instruments\"", Code::Done, "confirmed"),
        ("maker = \"Somebody\"", Code::Refused, "maker string"),
        ("release = \"1.0.0..1.9.9\"", Code::Done, "confirmed"),
        ("release = \"2.0.0\"", Code::Refused, "release number 1.2.0: the sheet's is 2.0.0"),
    ];
    for (line, code, words) in cases {
        let text = support::GANNET.replacen("[application]\n", &format!("[application]\n{line}\n"), 1);
        let scene = Scene::gannet(Gannet::new("G-00031"), Vec::new(), &text);
        let (report, events) = run(&scene, support::GANNET_DFU, &mut Eyes(None, Vec::new()));
        assert_eq!(report.code, code, "{line}: {events}");
        assert!(events.contains(words) || code == Code::Done && report.after == After::Confirmed, "{line}: {events}");
        scene.assert_unharmed(line);
    }
}
