//! Releases, by the built program: packed, signed, trusted, chosen, and brought into
//! simulated units over USB/IP.

#![allow(clippy::unwrap_used)]

mod support;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use support::{Bench, Ended, Running, assert_updated, at_terminal, firmware, root};
use vaka_sim::unit::Condition;
use vaka_sim::unit::tern::Revision;
use vaka_testkit::program;

/// A bench with keys of its own, in a folder of its own.
struct Workshop(Bench);

impl Workshop {
    fn new() -> Self {
        let shop = Self(Bench::tern_r1());
        shop.run(&["keys", "new", "skerrow"]).expect(0, &["created. Sign a release with: vaka pack … --key"]);
        shop
    }

    fn run(&self, args: &[&str]) -> Ended {
        let config = self.0.folder.path().join("config");
        Running::start(self.0.command().args(args).env("XDG_CONFIG_HOME", config).env_remove("VAKA_SHEETS")).end()
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.folder.path().join(name)
    }

    /// The demo's description of release 1.5.0, changed.
    fn describe(&self, name: &str, changes: &[(&str, &str)]) -> PathBuf {
        let folder = root().join("demo/releases");
        let mut text = fs::read_to_string(folder.join("tern-1.5.0.toml")).unwrap();
        text = text.replace("\"../", &format!("\"{}/", root().join("demo").display()));
        text = text.replace("\"tern-1.5.0.txt\"", &format!("\"{}\"", folder.join("tern-1.5.0.txt").display()));
        for (from, to) in changes {
            assert!(text.contains(from), "the description no longer holds: {from}");
            text = text.replacen(from, to, 1);
        }
        let path = self.path(name);
        fs::write(&path, text).unwrap();
        path
    }

    fn pack(&self, name: &str, changes: &[(&str, &str)], args: &[&str]) -> PathBuf {
        let description = self.describe(&format!("{name}.toml"), changes);
        let out = self.path(&format!("{name}.vaka"));
        let all = [&["pack", description.to_str().unwrap(), "--out", out.to_str().unwrap()], args].concat();
        self.run(&all).expect(0, &["fits"]);
        out
    }

    fn update(&self, release: &Path, args: &[&str]) -> Ended {
        self.run(&[&["update", release.to_str().unwrap(), "--unattended", "--variant", "r1"], args].concat())
    }

    /// The key's short name.
    fn key(&self) -> String {
        self.run(&["keys", "list"]).stdout.split_whitespace().next().unwrap().to_owned()
    }
}

const SIGNED: &[&str] = &["--key", "skerrow"];

#[test]
fn a_release_is_the_same_bytes_each_time_and_gets_into_the_unit() {
    let shop = Workshop::new();
    let (one, two) = (shop.pack("one", &[], SIGNED), shop.pack("two", &[], SIGNED));
    assert!(fs::read(&one).unwrap() == fs::read(&two).unwrap());
    shop.run(&["check", one.to_str().unwrap()])
        .expect(0, &["consistent: every image fits its variants", "skerrow", "twice as far back"]);
    let before = shop.0.memory("1-1");
    // No sheet is given: the release's own is used.
    let ended = shop.update(&one, &["--rewrite"]);
    ended.expect(0, &["Release tern 1.5.0", "signed by  skerrow", "read-back: all 20 772 written bytes", "confirmed"]);
    let image = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    assert_updated(Revision::R1, &before, &shop.0.memory("1-1"), &image);
    let journal = fs::read_to_string(shop.path("vaka/journal.jsonl")).unwrap();
    assert!(journal.contains("\"version\":\"1.5.0\"") && journal.contains("\"stages\":1"), "{journal}");
}

#[test]
fn who_signed_must_be_trusted_or_agreed_to_by_name() {
    let shop = Workshop::new();
    let before = shop.0.memory("1-1");
    let unsigned = shop.pack("unsigned", &[], &[]);
    shop.update(&unsigned, &[])
        .expect(3, &["The release is not signed, so its origin is not known", "--allow unsigned"]);
    // Another workshop's release, with an unknown key.
    let other = Workshop::new();
    let external = other.pack("external", &[], SIGNED);
    let agreement = format!("signer-{}", other.key());
    shop.update(&external, &[]).expect(3, &["The release is signed by key", &agreement]);
    shop.update(&external, &["--allow", "unsigned"]).expect(3, &["The release is signed by key"]);
    shop.update(&external, &["--plan", "--allow", &agreement]).expect(0, &["accepted by --allow"]);
    let public = other.path("config/vaka/keys/skerrow.pub.pem");
    let public = public.to_str().unwrap();
    // A key is trusted for products.
    shop.run(&["keys", "trust", public]).expect(2, &["--for <PRODUCT>"]);
    shop.run(&["keys", "trust", public, "--name", "friend", "--for", "heron"])
        .expect(0, &["is now trusted for releases of heron"]);
    let words = ["The release of 'tern' is signed by key", "trusted here only for heron", "--for tern", &agreement];
    shop.update(&external, &[]).expect(3, &words);
    shop.run(&["check", external.to_str().unwrap()]).expect(0, &["NOT TRUSTED here"]);
    shop.run(&["keys", "trust", public, "--name", "friend", "--for", "tern"]).expect(0, &["of heron, tern"]);
    shop.run(&["keys", "list"]).expect(0, &["own key, trusted for all products", "trusted for heron, tern"]);
    shop.update(&external, &["--plan"]).expect(0, &["signed by  friend"]);
    // Without its products it is trusted for none.
    let purpose = shop.path("config/vaka/trusted/friend.toml");
    let products = fs::read_to_string(&purpose).unwrap();
    fs::remove_file(&purpose).unwrap();
    shop.update(&external, &["--plan"]).expect(3, &["which is not trusted here"]);
    fs::write(&purpose, products).unwrap();
    shop.run(&["keys", "trust", public, "--for", "tern", "--name", "a b"])
        .expect(2, &["is not a valid key name: only letters, digits, '-' and"]);
    shop.run(&["keys", "distrust", "friend"]).expect(0, &[]);
    shop.update(&external, &["--plan"]).expect(3, &["The release is signed by key"]);
    // A changed release is refused, whatever is allowed.
    let mut bytes = fs::read(&external).unwrap();
    let at = bytes.len() / 2;
    bytes[at] ^= 1;
    fs::write(&external, bytes).unwrap();
    let ended = shop.update(&external, &["--allow", &agreement, "--allow", "unsigned"]);
    ended.expect(8, &["images/tern-r", "damaged", "Do not use this file; download it again from its source"]);
    assert!(shop.0.memory("1-1") == before);
}

#[test]
fn keys_and_signatures_are_those_of_openssl() {
    if !(program::is_there("openssl") && program::is_there("python3")) {
        return;
    }
    let shop = Workshop::new();
    let openssl = |args: &[&str]| {
        let done = Command::new("openssl").args(args).current_dir(shop.0.folder.path()).output().unwrap();
        assert!(done.status.success(), "{args:?}: {}", String::from_utf8_lossy(&done.stderr));
    };
    // Our key signs, theirs verifies: on what another program took out of the archive.
    let ours = shop.pack("ours", &[], SIGNED);
    let unpack = "import sys, zipfile; zipfile.ZipFile(sys.argv[1]).extractall(sys.argv[2])";
    let taken = shop.path("taken");
    let done = Command::new("python3").args(["-c", unpack]).arg(&ours).arg(&taken).status().unwrap();
    assert!(done.success());
    let verify = ["pkeyutl", "-verify", "-pubin", "-inkey", "taken/signer.pem", "-rawin"];
    openssl(&[&verify[..], &["-in", "taken/release.json", "-sigfile", "taken/release.sig"]].concat());
    openssl(&["pkey", "-in", "config/vaka/keys/skerrow.key.pem", "-pubout", "-out", "public.pem"]);
    assert_eq!(fs::read(shop.path("public.pem")).unwrap(), fs::read(taken.join("signer.pem")).unwrap());
    // Their key signs, ours verifies; and both make the same signature.
    openssl(&["genpkey", "-algorithm", "ed25519", "-out", "theirs.pem"]);
    openssl(&["pkey", "-in", "theirs.pem", "-pubout", "-out", "theirs.pub.pem"]);
    let theirs = shop.pack("theirs", &[], &["--key", "theirs.pem"]);
    shop.run(&["keys", "trust", "theirs.pub.pem", "--for", "tern"]).expect(0, &["'theirs'"]);
    shop.update(&theirs, &["--plan"]).expect(0, &["signed by  theirs"]);
    openssl(&["pkeyutl", "-sign", "-inkey", "theirs.pem", "-rawin", "-in", "taken/release.json", "-out", "their.sig"]);
    let bytes = fs::read(&theirs).unwrap();
    let signature = fs::read(shop.path("their.sig")).unwrap();
    assert!(bytes.windows(64).any(|window| window == signature));
    // A key of another kind is refused.
    openssl(&["genpkey", "-algorithm", "x25519", "-out", "other.pem"]);
    let description = shop.describe("other.toml", &[]);
    let args = ["pack", description.to_str().unwrap(), "--out", "other.vaka", "--key", "other.pem"];
    shop.run(&args).expect(8, &["it is not a private Ed25519 key in PEM (PKCS#8, 'BEGIN"]);
}

#[test]
fn of_a_folder_the_newest_of_the_channel_or_the_named_version_is_taken() {
    let shop = Workshop::new();
    let folder = shop.path("shelf");
    fs::create_dir(&folder).unwrap();
    let older: &[(&str, &str)] = &[
        ("version = \"1.5.0\"", "version = \"1.4.0\""),
        ("2026-10-19", "2026-06-01"),
        ("tern-r1-1.5.0.hex", "tern-r1-1.4.0.hex"),
        ("tern-r2-1.5.0.hex", "tern-r2-1.4.0.hex"),
    ];
    let trial: &[(&str, &str)] = &[("version = \"1.5.0\"", "version = \"1.6.0\""), ("\"stable\"", "\"trial\"")];
    for (name, changes) in [("new", &[][..]), ("old", older), ("trial", trial)] {
        let made = shop.pack(name, changes, SIGNED);
        fs::rename(made, folder.join(format!("{name}.vaka"))).unwrap();
    }
    let plan = |args: &[&str]| shop.update(&folder, &[&["--plan"], args].concat());
    plan(&[]).expect(
        0,
        &["Release tern 1.5.0 of 2026-10-19 (stable)", "1.6.0 of 2026-10-19 (trial)", "1.4.0 of 2026-06-01"],
    );
    plan(&["--channel", "trial"]).expect(0, &["Release tern 1.6.0"]);
    plan(&["--version", "1.4.0"]).expect(0, &["Release tern 1.4.0"]);
    plan(&["--version", "1.3.0"]).expect(3, &["no release has the version 1.3.0", "1.4.0 of 2026-06-01 (stable)"]);
    plan(&["--version", "newest"]).expect(3, &["no release has the version newest"]);
    plan(&["--version", "1.4.0", "--known-good"]).expect(2, &["cannot be used with"]);
    plan(&["--channel", "night"]).expect(3, &["no release is on the channel 'night'"]);
    plan(&["--known-good"]).expect(3, &["none of these releases is on record as installed"]);
    shop.update(&folder.join("old.vaka"), &[]).expect(0, &["confirmed"]);
    plan(&["--known-good"]).expect(0, &["Release tern 1.4.0"]);
    plan(&["--build", "quiet"]).expect(2, &["no build 'quiet'", "Existing builds: standard"]);
    fs::create_dir(shop.path("empty")).unwrap();
    shop.update(&shop.path("empty"), &[]).expect(8, &["the folder has no release (*.vaka)"]);
}

/// Files that have the ending of releases, and cannot be used.
fn useless_releases(shop: &Workshop, folder: &Path) {
    let other = Workshop::new();
    let newest: &[(&str, &str)] = &[("version = \"1.5.0\"", "version = \"9.0.0\"")];
    for (name, made) in [
        ("unsigned", shop.pack("unsigned", newest, &[])),
        ("foreign", other.pack("foreign", newest, SIGNED)),
        ("description", shop.describe("newer.toml", newest)),
    ] {
        fs::rename(made, folder.join(format!("{name}.vaka"))).unwrap();
    }
    let whole = fs::read(folder.join("foreign.vaka")).unwrap();
    fs::write(folder.join("cut.vaka"), &whole[..whole.len() / 2]).unwrap();
    fs::write(folder.join("junk.vaka"), b"PK\x03\x04 and no more").unwrap();
    fs::write(folder.join("empty.vaka"), b"").unwrap();
    fs::create_dir(folder.join("folder.vaka")).unwrap();
    std::os::unix::fs::symlink("nowhere", folder.join("dangling.vaka")).unwrap();
    std::os::unix::fs::symlink("/dev/zero", folder.join("zero.vaka")).unwrap();
    assert!(Command::new("mkfifo").arg(folder.join("pipe.vaka")).status().unwrap().success());
    // 8 GiB without a block on the disk.
    fs::File::create(folder.join("sparse.vaka")).unwrap().set_len(8 << 30).unwrap();
}

#[test]
fn useless_files_in_a_folder_do_not_stop_a_release() {
    let shop = Workshop::new();
    let folder = shop.path("shelf");
    fs::create_dir(&folder).unwrap();
    useless_releases(&shop, &folder);
    let none = shop.update(&folder, &["--plan"]);
    none.expect(8, &["None of these releases can be used", "not used: unsigned.vaka (The release is not signed"]);
    fs::rename(shop.pack("good", &[], SIGNED), folder.join("good.vaka")).unwrap();
    let chosen = shop.update(&folder, &["--plan"]);
    chosen.expect(0, &["Release tern 1.5.0", "not used: junk.vaka (", "not used: cut.vaka (it is truncated"]);
    for name in ["unsigned", "foreign", "description", "empty", "folder", "dangling", "zero", "pipe", "sparse"] {
        assert!(chosen.stdout.contains(&format!("not used: {name}.vaka")), "{name}: {}", chosen.stdout);
    }
    // They are listed too if no usable release has the version: one of them may.
    let missing = shop.update(&folder, &["--plan", "--version", "7.0"]);
    missing
        .expect(3, &["no release has the version 7.0", "not used: junk.vaka (", "not used: cut.vaka (it is truncated"]);
    // A file that is named alone is refused with its reason.
    for (name, code, words) in [("unsigned", 3, "is not signed"), ("cut", 8, "truncated"), ("sparse", 8, "larger than")]
    {
        shop.update(&folder.join(format!("{name}.vaka")), &["--plan"]).expect(code, &[words]);
    }
}

#[test]
fn known_good_is_the_release_that_was_installed_and_no_other_of_its_version() {
    let shop = Workshop::new();
    let folder = shop.path("shelf");
    fs::create_dir(&folder).unwrap();
    // Two releases of one version; only the first was ever installed.
    let installed = shop.pack("installed", &[], SIGNED);
    let other = shop.pack("other", &[("2026-10-19", "2026-10-20")], SIGNED);
    shop.update(&installed, &[]).expect(0, &["confirmed"]);
    fs::rename(other, folder.join("other.vaka")).unwrap();
    shop.update(&folder, &["--plan", "--known-good"]).expect(3, &["none of these releases is on record"]);
    fs::rename(&installed, folder.join("installed.vaka")).unwrap();
    shop.update(&folder, &["--plan", "--known-good"]).expect(0, &["Release tern 1.5.0 of 2026-10-19"]);
}

/// The newest release of an earlier day, on its channel; a day is a date.
#[test]
fn a_release_of_an_earlier_day_is_selected() {
    let shop = Workshop::new();
    let folder = shop.path("shelf");
    fs::create_dir(&folder).unwrap();
    for (name, day, version, channel) in [
        ("spring", "2026-03-01", "1.5.0+spring.1", "stable"),
        ("summer", "2026-07-14", "1.5.0+summer.2", "stable"),
        ("trial", "2026-06-30", "1.5.0+trial.3", "trial"),
    ] {
        let changes = [
            ("2026-10-19", day),
            ("version = \"1.5.0\"", &format!("version = \"{version}\"")[..]),
            ("channel = \"stable\"", &format!("channel = \"{channel}\"")[..]),
        ];
        fs::rename(shop.pack(name, &changes, SIGNED), folder.join(format!("{name}.vaka"))).unwrap();
    }
    for (options, code, words) in [
        (&["--before", "2026-07-14"][..], 0, "1.5.0+spring.1 of 2026-03-01"),
        (&["--before", "2026-07-15"], 0, "1.5.0+summer.2 of 2026-07-14"),
        (&["--before", "2026-12-31", "--channel", "trial"], 0, "1.5.0+trial.3 of 2026-06-30"),
        (
            &["--before", "2026-03-01"],
            3,
            "no release is older than 2026-03-01; available: 1.5.0+trial.3 of 2026-06-30 (trial)",
        ),
        (&["--before", "March"], 2, "invalid value 'March' for '--before <DATE>'"),
        (&["--before", "2026-07-14", "--version", "1.5.0"], 2, "cannot be used with"),
    ] {
        shop.update(&folder, &[&["--plan"], options].concat()).expect(code, &[words]);
    }
}

/// A publisher and a recipient who trusts the publisher's key for the Tern.
fn publisher_and_recipient() -> (Workshop, Workshop) {
    let (publisher, recipient) = (Workshop::new(), Workshop::new());
    let public = publisher.path("config/vaka/keys/skerrow.pub.pem");
    recipient.run(&["keys", "trust", public.to_str().unwrap(), "--name", "friend", "--for", "tern"]).expect(0, &[]);
    (publisher, recipient)
}

/// The lines of a description that carry a statement.
fn with_statement(file: &str) -> String {
    format!("channel = \"stable\"\nkeys = [\"{file}\"]")
}

#[test]
fn a_revoked_key_is_refused_for_ever_once_its_statement_has_come() {
    let (publisher, recipient) = publisher_and_recipient();
    let old = publisher.pack("old", &[], SIGNED);
    recipient.update(&old, &["--plan"]).expect(0, &["signed by  friend"]);
    publisher
        .run(&["keys", "revoke", "skerrow", "--why", "the laptop was stolen", "--out", "revoked.json"])
        .expect(0, &[]);
    publisher.run(&["keys", "new", "second"]).expect(0, &[]);
    let carries: &str = &with_statement("revoked.json");
    let newer = publisher.pack("newer", &[("channel = \"stable\"", carries)], &["--key", "second"]);
    recipient.run(&["check", newer.to_str().unwrap()]).expect(0, &["states", "is revoked since", "stolen"]);
    // The release itself is by an unknown key; its statement counts nevertheless.
    recipient.update(&newer, &["--plan"]).expect(3, &["is revoked since", "the laptop was stolen", "not trusted here"]);
    let refused = recipient.update(&old, &["--plan", "--allow", &format!("signer-{}", publisher.key())]);
    refused.expect(3, &["is revoked since", "the laptop was stolen", "another key"]);
    recipient.run(&["keys", "list"]).expect(0, &["REVOKED since"]);
    let public = publisher.path("config/vaka/keys/skerrow.pub.pem");
    let public = public.to_str().unwrap();
    recipient.run(&["keys", "distrust", "friend"]).expect(0, &[]);
    recipient.run(&["keys", "trust", public, "--for", "tern", "--name", "again"]).expect(3, &["is revoked since"]);
}

#[test]
fn statements_that_cannot_be_read_are_no_consent() {
    let (publisher, recipient) = publisher_and_recipient();
    let good = publisher.pack("good", &[], SIGNED);
    let statements = recipient.path("config/vaka/trusted/statements.json");
    for damaged in ["", "[", "{}", "[{\"about\": \"00\"}]", &"[]".repeat(200_000)] {
        fs::write(&statements, damaged).unwrap();
        recipient.update(&good, &["--plan"]).expect(8, &["statements.json"]);
        recipient.run(&["keys", "list"]).expect(8, &["statements.json"]);
        assert_eq!(fs::read_to_string(&statements).unwrap(), damaged, "nothing is lost");
    }
    fs::remove_file(&statements).unwrap();
    recipient.update(&good, &["--plan"]).expect(0, &["signed by  friend"]);
}

#[test]
fn statements_about_unknown_keys_are_not_stored() {
    let (publisher, recipient) = publisher_and_recipient();
    let stranger = Workshop::new();
    stranger.run(&["keys", "revoke", "skerrow", "--why", "of no interest here", "--out", "own.json"]).expect(0, &[]);
    fs::copy(stranger.path("own.json"), publisher.path("own.json")).unwrap();
    let carries: &str = &with_statement("own.json");
    let release = publisher.pack("carrier", &[("channel = \"stable\"", carries)], SIGNED);
    let taken = recipient.update(&release, &["--plan", "--quiet"]);
    assert!(taken.expect(0, &[]).stderr.is_empty(), "{}", taken.stderr);
    assert!(!recipient.path("config/vaka/trusted/statements.json").exists());
    // A statement about a known key is told, also where one line is wanted.
    publisher.run(&["keys", "revoke", "skerrow", "--why", "lost", "--out", "lost.json"]).expect(0, &[]);
    publisher.run(&["keys", "new", "second"]).expect(0, &[]);
    let carries: &str = &with_statement("lost.json");
    let release = publisher.pack("lost", &[("channel = \"stable\"", carries)], &["--key", "second"]);
    recipient.update(&release, &["--plan", "--quiet"]).expect(3, &["is revoked since"]);
}

#[test]
fn a_key_is_replaced_by_its_own_signature_only() {
    let (publisher, recipient) = publisher_and_recipient();
    let stranger = Workshop::new();
    publisher.run(&["keys", "new", "second"]).expect(0, &[]);
    let second = publisher.path("config/vaka/keys/second.pub.pem");
    let replace = ["keys", "replace", "skerrow", "--by", second.to_str().unwrap(), "--why", "a new laptop", "--out"];
    publisher.run(&[&replace[..], &["replaced.json"]].concat()).expect(0, &["is replaced"]);
    // A changed statement is not packed.
    let text = fs::read_to_string(publisher.path("replaced.json")).unwrap();
    fs::write(publisher.path("forged.json"), text.replace("a new laptop", "my laptop")).unwrap();
    let forged: &str = &with_statement("forged.json");
    let description = publisher.describe("forged.toml", &[("channel = \"stable\"", forged)]);
    publisher
        .run(&["pack", description.to_str().unwrap(), "--out", "f.vaka"])
        .expect(8, &["its signature does not match"]);
    // The release by the new key brings the statement of the old one.
    let carries: &str = &with_statement("replaced.json");
    let newer = publisher.pack("newer", &[("channel = \"stable\"", carries)], &["--key", "second"]);
    let taken = recipient.update(&newer, &["--plan"]);
    taken.expect(0, &["replaces key 'friend'", "for tern", "signed by  friend-2 "]);
    let again = recipient.update(&newer, &["--plan"]);
    assert!(!again.stderr.contains("replaces key"), "{}", again.stderr);
    // A second successor of the same key is not taken, and stops nothing.
    let third = ["keys", "replace", "skerrow", "--by", "strangers.pem", "--why", "me too", "--out", "third.json"];
    fs::copy(stranger.path("config/vaka/keys/skerrow.pub.pem"), publisher.path("strangers.pem")).unwrap();
    publisher.run(&third).expect(0, &[]);
    let carries: &str = &with_statement("third.json");
    let later = publisher.pack("later", &[("channel = \"stable\"", carries)], &["--key", "second"]);
    let later = recipient.update(&later, &["--plan"]);
    later.expect(0, &["signed by  friend-2 "]);
    assert!(!later.stderr.contains("replaces key"), "{}", later.stderr);
    // Where the old key is not trusted, the statement has no effect.
    stranger.update(&newer, &["--plan"]).expect(3, &["not trusted here"]);
}

#[test]
fn only_its_owner_or_a_key_for_the_same_product_revokes_a_key() {
    let (publisher, recipient) = publisher_and_recipient();
    let stranger = Workshop::new();
    let victim = publisher.path("config/vaka/keys/skerrow.pub.pem");
    let revoke =
        ["keys", "revoke", "skerrow", "--key", victim.to_str().unwrap(), "--why", "a lie", "--out", "lie.json"];
    stranger.run(&revoke).expect(0, &["is revoked"]);
    let carries: &str = &with_statement("lie.json");
    let lie = stranger.pack("lie", &[("channel = \"stable\"", carries)], SIGNED);
    recipient.update(&lie, &["--plan"]).expect(3, &["not trusted here"]);
    let good = publisher.pack("good", &[], SIGNED);
    recipient.update(&good, &["--plan"]).expect(0, &["signed by  friend"]);
    // A key that is trusted for the same product can.
    let public = stranger.path("config/vaka/keys/skerrow.pub.pem");
    recipient.run(&["keys", "trust", public.to_str().unwrap(), "--name", "second", "--for", "tern"]).expect(0, &[]);
    recipient.update(&lie, &["--plan"]).expect(0, &["is revoked since", "a lie"]);
    recipient.update(&good, &["--plan"]).expect(3, &["is revoked since"]);
}

#[test]
fn releases_and_keys_expire() {
    let (publisher, recipient) = publisher_and_recipient();
    let until = |day: &str| format!("channel = \"stable\"\nexpires = \"{day}\"");
    let (past, future): (&str, &str) = (&until("2026-01-31"), &until("2999-01-31"));
    let expired = publisher.pack("expired", &[("channel = \"stable\"", past)], SIGNED);
    recipient.update(&expired, &["--plan"]).expect(3, &["only up to 2026-01-31", "--allow expired-release"]);
    recipient.update(&expired, &["--plan", "--allow", "expired-release"]).expect(0, &["signed by  friend"]);
    let good = publisher.pack("good", &[("channel = \"stable\"", future)], SIGNED);
    recipient.update(&good, &["--plan"]).expect(0, &["signed by  friend"]);
    let public = publisher.path("config/vaka/keys/skerrow.pub.pem");
    let trust = ["keys", "trust", public.to_str().unwrap(), "--name", "friend", "--for", "tern", "--until"];
    recipient.run(&[&trust[..], &["2026-01-31"]].concat()).expect(0, &[]);
    recipient.run(&["keys", "list"]).expect(0, &["EXPIRED after 2026-01-31"]);
    recipient.update(&good, &["--plan"]).expect(3, &["signed by key"]);
    recipient.run(&[&trust[..], &["2026-02-30"]].concat()).expect(2, &["--until"]);
    // Trust for another product does not lift the limit.
    recipient.run(&["keys", "trust", public.to_str().unwrap(), "--name", "friend", "--for", "heron"]).expect(0, &[]);
    recipient.update(&good, &["--plan"]).expect(3, &["signed by key"]);
    recipient.run(&[&trust[..], &["2999-01-31"]].concat()).expect(0, &[]);
    recipient.update(&good, &["--plan"]).expect(0, &["signed by  friend"]);
}

/// A sheet without the places of versions: neither the unit nor its images tell one.
fn without_versions(shop: &Workshop) -> PathBuf {
    let sheet = fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let lines = sheet
        .lines()
        .filter(|line| !line.starts_with("version = "))
        .map(|line| line.replace(", version = \"release-number\"", ""));
    let path = shop.path("tern.toml");
    fs::write(&path, lines.collect::<Vec<_>>().join("\n")).unwrap();
    path
}

#[test]
fn an_older_release_needs_consent_even_if_the_unit_cannot_tell_its_version() {
    let shop = Workshop::new();
    let sheet = without_versions(&shop);
    let own: &str = &format!("\"{}\"", sheet.display());
    let given: &str = &format!("\"{}\"", root().join("demo/sheets/tern.toml").display());
    let of = |name: &str, version: &str| {
        let version = format!("version = \"{version}\"");
        shop.pack(name, &[(given, own), ("version = \"1.5.0\"", &version)], SIGNED)
    };
    let (newer, older) = (of("newer", "3.0.0"), of("older", "2.0.0"));
    shop.update(&newer, &["--rewrite"]).expect(0, &["read-back"]);
    // The same unit is found in update mode later.
    let again = Bench::tern_r1();
    let before = again.memory("1-1");
    let run = |args: &[&str]| {
        let mut update = again.command();
        update.args(["update", older.to_str().unwrap(), "--unattended", "--variant", "r1", "--rewrite"]).args(args);
        update.env("XDG_CONFIG_HOME", shop.path("config")).env("XDG_STATE_HOME", shop.0.folder.path());
        Running::start(update.env_remove("VAKA_SHEETS")).end()
    };
    run(&[]).expect(3, &["older than the unit's 3.0.0", "--allow older-version"]);
    assert!(again.memory("1-1") == before);
    run(&["--allow", "older-version"]).expect(0, &["read-back"]);
}

#[test]
fn the_journal_has_the_digest_of_the_release_that_was_used() {
    let shop = Workshop::new();
    let release = shop.pack("one", &[], SIGNED);
    let digest = text_digest(&release);
    let mut update = shop.0.command();
    update.args(["update", release.to_str().unwrap(), "--unattended", "--variant", "r1", "--rewrite"]);
    update.env("XDG_CONFIG_HOME", shop.path("config")).env_remove("VAKA_SHEETS");
    let mut running = Running::start(&mut update);
    running.wait_for("signed by");
    // Another file takes its place while the update runs.
    fs::write(shop.path("later"), b"another file").unwrap();
    fs::rename(shop.path("later"), &release).unwrap();
    running.end().expect(0, &["confirmed"]);
    let journal = fs::read_to_string(shop.path("vaka/journal.jsonl")).unwrap();
    assert!(journal.contains(&format!("\"sha256\":\"{digest}\"")), "{journal}");
}

/// The digest of a file, by another program.
fn text_digest(file: &Path) -> String {
    let output = Command::new("sha256sum").arg(file).output().unwrap();
    String::from_utf8(output.stdout).unwrap().split(' ').next().unwrap().to_owned()
}

#[test]
fn what_would_not_fit_is_not_packed() {
    let shop = Workshop::new();
    type Row<'a> = (&'a [(&'a str, &'a str)], i32, &'a str);
    let cases: [Row<'_>; 9] = [
        (&[("variants = [\"r1\"]", "variants = [\"r1\", \"r2\"]")], 8, "two images for variant r2, build standard"),
        (&[("tern-r1-1.5.0.hex", "tern-r2-1.4.0.hex")], 3, "does not fit variant 'r1'"),
        (&[("crystal = \"8 MHz\"", "crystal = \"16 MHz\"")], 3, "is for crystal 16 MHz; the product sheet has 8 MHz"),
        (&[("file = ", "fle = ")], 8, "line 14, key `fle`: is not a known key; did you mean `file`?"),
        (&[("tern-r1-1.5.0.hex", "tern-r1-9.hex")], 8, "tern-r1-9.hex: No such file"),
        (&[("release = 1", "release = 2")], 8, "release = 2 is not supported"),
        (&[("product = \"tern\"", "product = \"heron\"")], 8, "no product sheet of 'heron'"),
        (&[("channel = \"stable\"", "channel = \"FILL IN\"")], 8, "an invalid channel: 'FILL IN'"),
        (&[("date = \"2026-10-19\"", "date = \"2026-10-32\"")], 8, "'2026-10-32'"),
    ];
    for (changes, code, words) in cases {
        let description = shop.describe("wrong.toml", changes);
        let ended = shop.run(&["pack", description.to_str().unwrap(), "--out", "wrong.vaka", "--replace"]);
        ended.expect(code, &[words]);
        assert_eq!(shop.path("wrong.vaka").exists(), code == 0, "{words}");
        let _ = fs::remove_file(shop.path("wrong.vaka"));
    }
}

/// The maker's sheet changed since: what the release says of the crystal is not so any
/// more. Nothing is touched, whoever signed it; nor with a stamp that says so.
#[test]
fn a_fact_that_differs_refuses() {
    let shop = Workshop::new();
    let release = shop.pack("wrong", &[], SIGNED);
    let sheet = fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let sheet = shop.0.file("tern.toml", sheet.replace("crystal = \"8 MHz\"", "crystal = \"16 MHz\"").as_bytes());
    let sheets = ["--sheets", sheet.to_str().unwrap()];
    let before = shop.0.memory("1-1");
    shop.update(&release, &sheets).expect(3, &["is for crystal 8 MHz; the product sheet has 16 MHz"]);
    let r1 = firmware("tern-r1-1.5.0.hex");
    shop.run(&["stamp", r1.to_str().unwrap(), "s.hex", "--fact", "crystal=8000000"]).expect(0, &[]);
    let stamped = shop.path("s.hex");
    shop.update(&stamped, &sheets).expect(3, &["CONFLICT: r1's crystal is 16 MHz", "crystal 8000000"]);
    assert!(shop.0.memory("1-1") == before);
    assert_eq!(shop.0.condition("1-1"), Condition::Boot);
}

/// Both boards are in it: which one is taken depends on what is read on the board, and
/// that on what the unit shows.
#[test]
fn the_board_in_hand_decides_which_image_is_taken() {
    let shop = Workshop::new();
    let release = shop.pack("both", &[], SIGNED);
    let release = release.to_str().unwrap();
    let before = shop.0.memory("1-1");
    shop.run(&["update", release, "--unattended"]).expect(3, &["--variant r1 or --variant r2"]);
    let other = shop.run(&["update", release, "--unattended", "--variant", "OYS-240"]);
    other.expect(3, &["this is Tern r2", "CONFLICT: r2 has 40 sectors of 6 KiB"]);
    shop.run(&["check", release, "--unit", "1-1", "--variant", "r1"]).expect(0, &["The image fits r1", "for r1"]);
    assert!(shop.0.memory("1-1") == before);
    let json = shop.run(&["update", release, "--unattended", "--variant", "SKI-TERN R1; OYS-144", "--format", "json"]);
    assert_eq!(json.result()["variant"], "r1");
    assert_eq!(json.events()[0]["event"], "release");
}

/// From an unknown board to a signed release, as the guide says it.
#[test]
fn the_guide_does_what_it_says() {
    let folder = support::follow_guide("your-product.md", false);
    assert!(folder.path().join("gauge-1.5.0.vaka").is_file());
}

#[test]
fn an_alternative_build_is_chosen_shown_and_recorded() {
    let shop = Workshop::new();
    let quiet = format!(
        "facts = {{ crystal = \"12 MHz\" }}\n\n[[stage.image]]\nfile = \"{}\"\nvariants = [\"r1\"]\nbuild = \"quiet\"\n",
        firmware("tern-r1-1.4.0.hex").display()
    );
    let release = shop.pack("builds", &[("facts = { crystal = \"12 MHz\" }", &quiet)], SIGNED);
    shop.run(&["check", release.to_str().unwrap()]).expect(0, &["r1 [standard]", "r1 [quiet]"]);
    shop.update(&release, &["--plan"]).expect(0, &["build standard", "builds     quiet"]);
    let before = shop.0.memory("1-1");
    let ended = shop.update(&release, &["--build", "quiet", "--rewrite", "-v"]);
    ended.expect(0, &["build quiet", "release        tern 1.5.0, build quiet", "confirmed"]);
    let image = fs::read(firmware("tern-r1-1.4.0.bin")).unwrap();
    assert_updated(Revision::R1, &before, &shop.0.memory("1-1"), &image);
    let journal = fs::read_to_string(shop.path("vaka/journal.jsonl")).unwrap();
    assert!(journal.contains("\"build\":\"quiet\""), "{journal}");
}

/// The second stage is another tool's: the checked file is put where it was wanted, the
/// step is shown, and the operator reports the result.
#[test]
fn a_file_is_handed_out_for_another_tool() {
    if !program::is_there("script") {
        return;
    }
    let shop = Workshop::new();
    let external = "facts = { crystal = \"12 MHz\" }\n\n[[stage]]\nname = \"Radio\"\n\
                   external = { tool = \"the radio's loader\", do = \"Load the file into the radio.\", see = \"Its lamp blinks.\" }\n\
                   [[stage.image]]\nfile = \"radio.bin\"\nat = \"0x0A002400\"\nvariants = [\"r1\", \"r2\"]\n";
    shop.0.file("radio.bin", b"firmware of another chip");
    let release = shop.pack("radio", &[("facts = { crystal = \"12 MHz\" }", external)], SIGNED);
    let before = shop.0.memory("1-1");
    let ended = shop.update(&release, &[]);
    ended.expect(3, &["Stage 'Radio' is an external step", "Nothing was changed in the unit"]);
    assert!(shop.0.memory("1-1") == before);
    fs::create_dir(shop.path("out")).unwrap();
    for (answer, code) in [("no", 5), ("yes", 0)] {
        use std::io::Write;
        let mut command = shop.0.command();
        command.arg("update").arg(&release).args(["--variant", "r1", "--export-dir", "out", "--rewrite"]);
        command.env("XDG_CONFIG_HOME", shop.path("config")).env_remove("VAKA_SHEETS");
        let mut running = Running::start(&mut at_terminal(&command));
        running.wait_for("Load the file into the radio.");
        assert_eq!(fs::read(shop.path("out/radio.bin")).unwrap(), b"firmware of another chip");
        running.wait_for_prompt("yes or no:");
        writeln!(running.stdin(), "{answer}").unwrap();
        let ended = running.end();
        ended.expect(code, &["For the radio's loader", "stage 2 of 2"]);
        if code == 5 {
            // It runs its application now; back into boot mode for the second time.
            use vaka_sim::unit::UserAction;
            for hand in
                [UserAction::Hold("SET".into()), UserAction::Tap("RESET".into()), UserAction::Release("SET".into())]
            {
                vaka_sim::world::lock(&shop.0.world).act("1-1", &hand);
            }
            assert_eq!(shop.0.condition("1-1"), Condition::Boot);
        }
    }
    let journal = fs::read_to_string(shop.path("vaka/journal.jsonl")).unwrap();
    assert_eq!(journal.lines().filter(|line| line.contains("\"stage\":2,\"stages\":2")).count(), 2, "{journal}");
}
