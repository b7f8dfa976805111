//! Updaters: the program with a release in its own file, alone in an empty folder with an empty home.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::Command;

use support::{Bench, Ended, Running, assert_updated, at_terminal, firmware, root};
use vaka_sim::unit::heron::Heron;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_testkit::program;

/// A maker with a key, who packs releases.
struct Maker(tempfile::TempDir);

impl Maker {
    fn new() -> Self {
        let maker = Self(tempfile::tempdir().unwrap());
        maker.run(&["keys", "new", "skerrow"]).expect(0, &[]);
        maker
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn text(&self, name: &str) -> String {
        self.path(name).to_str().unwrap().to_owned()
    }

    fn run(&self, args: &[&str]) -> Ended {
        Running::start(support::program().args(args).env("XDG_CONFIG_HOME", self.path("config"))).end()
    }

    /// A release of the Tern, and an updater with it. `extra` is added to the description.
    fn updater(&self, extra: &str) -> PathBuf {
        let text = fs::read_to_string(root().join("demo/releases/tern-1.5.0.toml")).unwrap();
        let text = text.replace("\"../", &format!("\"{}/demo/", root().display()));
        let notes = root().join("demo/releases/tern-1.5.0.txt");
        let text = text.replace("\"tern-1.5.0.txt\"", &format!("\"{}\"", notes.display()));
        fs::write(self.path("tern.toml"), text.replace("sheets = [", &format!("{extra}\nsheets = ["))).unwrap();
        let [description, release, updater] = ["tern.toml", "tern.vaka", "tern-update"].map(|name| self.text(name));
        self.run(&["pack", &description, "--key", "skerrow", "--out", &release, "--updater", &updater])
            .expect(0, &["release tern 1.5.0", "updater with this release", "Its users need nothing else"]);
        updater.into()
    }
}

/// Someone who has the updater and nothing else.
struct User<'a> {
    bench: &'a Bench,
    /// A folder with the updater only.
    folder: tempfile::TempDir,
    home: tempfile::TempDir,
}

impl<'a> User<'a> {
    fn with(bench: &'a Bench, updater: &Path) -> Self {
        let user = Self { bench, folder: tempfile::tempdir().unwrap(), home: tempfile::tempdir().unwrap() };
        fs::copy(updater, user.file()).unwrap();
        user
    }

    fn file(&self) -> PathBuf {
        self.folder.path().join("tern-update")
    }

    /// Nothing of this environment but the bus of the simulated units.
    fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(self.file());
        command.args(args).current_dir(self.folder.path()).env_clear();
        command.env("HOME", self.home.path()).env("PATH", std::env::var_os("PATH").unwrap_or_default());
        command.env("VAKA_BUS", self.bench.bus());
        command
    }

    fn run(&self, args: &[&str]) -> Ended {
        Running::start(&mut self.command(args)).end()
    }

    /// All files that the user has now.
    fn files(&self) -> Vec<String> {
        let mut found = Vec::new();
        let mut folders = vec![self.folder.path().to_owned(), self.home.path().to_owned()];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder).unwrap().flatten() {
                match entry.path() {
                    path if path.is_dir() => folders.push(path),
                    path => found.push(path.file_name().unwrap().to_str().unwrap().to_owned()),
                }
            }
        }
        found.sort();
        found
    }
}

#[test]
fn an_updater_alone_updates_its_unit_and_leaves_only_the_journal() {
    let (bench, maker) = (Bench::tern_r1(), Maker::new());
    let user = User::with(&bench, &maker.updater(""));
    let before = bench.memory("1-1");
    user.run(&["--help"]).expect(0, &["Updates one Tern tide gauge to version 1.5.0", "--plan", "5min"]);
    user.run(&["--version"]).expect(0, &["tern 1.5.0 (Vaka"]);
    user.run(&["update"]).expect(2, &["unexpected argument"]);
    user.run(&["--unattended"]).expect(3, &["no label was given", "--variant r1 or --variant r2"]);
    user.run(&["--variant", "r1", "--plan"]).expect(0, &["Plan for r1", "Plan only; nothing was done."]);
    assert!(bench.memory("1-1") == before);
    let words = [
        "Tern tide gauge: update to version 1.5.0",
        "The history reaches twice as far back.",
        "The update is installed and runs.",
        "Tern tide gauge r1, serial number T1-00217",
        "1.5.0, as the unit reports",
        "all 20 772 bytes were read back from the unit and are equal to the update",
    ];
    user.run(&["--variant", "r1"]).expect(0, &words);
    let image = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &image);
    let files = user.files();
    assert!(files.iter().all(|name| ["tern-update", "journal.jsonl", "first-use"].contains(&&**name)), "{files:?}");
    let json = user.run(&["--variant", "r1", "--format", "json", "--plan"]);
    assert_eq!(json.result()["outcome"], "planned", "{}", json.stdout);
}

/// Without options, at a terminal: it asks for the label, and before it takes something away.
#[test]
fn a_user_at_a_terminal_gives_no_options() {
    if !program::is_there("script") {
        return;
    }
    let (bench, maker) = (Bench::tern_r1(), Maker::new());
    let loss = r#"loses = [{ id = "history", what = "the levels of the last month" }]"#;
    let user = User::with(&bench, &maker.updater(loss));
    let before = bench.memory("1-1");
    let mut running = Running::start(&mut at_terminal(&user.command(&[])));
    running.wait_for("Takes away the levels of the last month");
    running.wait_for_prompt("Continue? yes or no:");
    running.stdin().write_all(b"no\n").unwrap();
    running.end().expect(3, &["The update was not accepted.", "Nothing was changed in any unit."]);
    assert!(bench.memory("1-1") == before);
    let mut running = Running::start(&mut at_terminal(&user.command(&[])));
    running.wait_for_prompt("Continue? yes or no:");
    running.stdin().write_all(b"yes\n").unwrap();
    running.wait_for_prompt("Type the variant or the label text");
    running.stdin().write_all(b"r1\n").unwrap();
    running.end().expect(0, &["The update is installed and runs.", "as the unit reports"]);
    let image = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    assert_updated(Revision::R1, &before, &bench.memory("1-1"), &image);
}

/// The places of changes: the program, its place for the release, the release, and the end.
#[test]
fn with_one_byte_changed_anywhere_an_updater_refuses() {
    let (bench, maker) = (Bench::tern_r1(), Maker::new());
    let updater = maker.updater("");
    let (whole, release) = (fs::read(&updater).unwrap(), fs::read(maker.path("tern.vaka")).unwrap());
    let user = User::with(&bench, &updater);
    let before = bench.memory("1-1");
    let start = whole.len() - release.len();
    let mark = b"\xF7vaka: place for a release";
    let place = whole.windows(mark.len()).position(|window| window == mark).unwrap();
    let middle = start + release.len() / 2;
    let at: Vec<usize> = [place, place + 31, place + 32, place + 40, place + 47, place + 48, place + 56, place + 87]
        .into_iter()
        .chain([start - 1, start, start + 40, middle, whole.len() - 23, whole.len() - 1])
        .collect();
    let refuses = |changed: &[u8], words: &str, what: &str| {
        fs::write(user.file(), changed).unwrap();
        let ended = user.run(&["--variant", "r1"]);
        assert_eq!(ended.code, 8, "{what}: {} {}", ended.stdout, ended.stderr);
        ended.expect(
            8,
            &["This updater cannot be used", words, "Nothing was changed in any unit", "Get the file again"],
        );
        assert!(bench.memory("1-1") == before && bench.log("1-1").is_empty(), "{what}");
    };
    for at in at {
        let mut changed = whole.clone();
        changed[at] ^= 0x10;
        refuses(&changed, "", &format!("byte {at}"));
    }
    refuses(&whole[..middle], "in place of", "a copy that was cut");
    refuses(&whole[..start], "in place of", "a copy without the release");
    refuses(&[&whole[..], b"\n"].concat(), "in place of", "a copy with one byte more");
    // In the code or the tables of the program a change may also crash it, or the system refuses to start it.
    for part in 0..8 {
        let at = part * start / 8 + 5;
        let mut changed = whole.clone();
        changed[at] ^= 0x10;
        fs::write(user.file(), &changed).unwrap();
        let ended = user.command(&["--variant", "r1"]).output();
        assert!(ended.is_err() || bench.log("1-1").is_empty(), "byte {at}");
        assert!(bench.memory("1-1") == before, "byte {at}");
    }
    fs::write(user.file(), &whole).unwrap();
    user.run(&["--variant", "r1"]).expect(0, &["The update is installed and runs."]);
}

#[test]
fn an_updater_leaves_other_products_alone() {
    let maker = Maker::new();
    let heron = Bench::of(vec![(Box::new(Heron::new("H-00301")), Vec::new())]);
    let user = User::with(&heron, &maker.updater(""));
    let before = heron.memory("1-1");
    user.run(&["--variant", "r1", "--wait", "1s"]).expect(4, &["Tern tide gauge"]);
    assert!(heron.memory("1-1") == before);
    // A key that is known here as revoked is not trusted.
    let bench = Bench::new(vec![(Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new())]);
    let user = User::with(&bench, &maker.path("tern-update"));
    let revoked = maker.path("revoked.json");
    maker.run(&["keys", "revoke", "skerrow", "--why", "stolen", "--out", revoked.to_str().unwrap()]).expect(0, &[]);
    let trusted = user.home.path().join(".config/vaka/trusted");
    fs::create_dir_all(&trusted).unwrap();
    let statement = fs::read_to_string(revoked).unwrap();
    fs::write(trusted.join("statements.json"), format!("[{statement}]")).unwrap();
    user.run(&["--variant", "r1"]).expect(3, &["is revoked since", "stolen"]);
}

#[test]
fn an_updater_is_made_only_of_what_its_users_can_use() {
    let maker = Maker::new();
    maker.updater("");
    let [updater, release, description, out, one] =
        ["tern-update", "tern.vaka", "tern.toml", "out", "one.vaka"].map(|name| maker.text(name));
    let pack = |args: &[&str]| maker.run(&[&["pack"], args].concat());
    pack(&[&description, "--out", &one, "--updater", &out])
        .expect(3, &["an updater needs a signed release", "Nothing was written."]);
    assert!(!Path::new(&one).exists());
    pack(&[&release]).expect(8, &["this is a release already"]);
    pack(&[&release, "--updater", &out, "--key", "skerrow"]).expect(8, &["it stays as it is"]);
    pack(&[&release, "--updater", &out, "--program", &updater]).expect(8, &["it already contains a release"]);
    pack(&[&release, "--updater", &out, "--program", &description]).expect(8, &["it has no place for a release"]);
    pack(&[&release, "--program", &updater]).expect(2, &["--updater"]);
    pack(&[&release, "--updater", &updater]).expect(3, &["already exists", "--replace"]);
    assert!(!Path::new(&out).exists(), "nothing was written");
    pack(&[&release, "--updater", &out]).expect(0, &[]);
    assert!(fs::read(&out).unwrap() == fs::read(&updater).unwrap(), "the same input gives the same bytes");
    let text = fs::read_to_string(&description).unwrap();
    let external = "name = \"Application\"\nexternal = { tool = \"a laboratory burner\", do = \"Burn it.\" }";
    fs::write(&description, text.replace("name = \"Application\"", external)).unwrap();
    pack(&[&description, "--key", "skerrow", "--out", &one, "--replace", "--updater", &out, "--replace"])
        .expect(2, &["--replace"]);
    pack(&[&description, "--key", "skerrow", "--out", &one, "--updater", &out, "--replace"])
        .expect(3, &["do not have the program 'a laboratory burner'"]);
}
