//! Catalogues, by the built program: made by a publisher, and used by another user, from folders and from web servers
//! on loopback that misbehave.

#![allow(clippy::unwrap_used)]

mod support;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use serde_json::json;
use support::{Bench, Ended, Running, firmware, root};
use vaka_core::release::catalogue::{Catalogue, Withdrawal};
use vaka_core::release::signature::PrivateKey;
use vaka_sim::unit::gannet::Gannet;
use vaka_sim::web::{Service, WebServer};
use vaka_testkit::program;

/// A publisher with a folder of releases, and a user with a unit; each has a home of its own.
struct Trade {
    bench: Bench,
    releases: PathBuf,
}

impl Trade {
    /// The Gannet's releases 1.2.0 and 1.3.0 and one of the Tern, in a catalogue that the user trusts. The unit is a
    /// Gannet with 1.2.0.
    fn new() -> Self {
        let bench = Bench::of(vec![(Box::new(Gannet::new("G-00031")), Vec::new())]);
        let releases = bench.folder.path().join("releases");
        fs::create_dir(&releases).unwrap();
        let trade = Self { bench, releases };
        trade.maker(&["keys", "new", "skerrow"]).expect(0, &[]);
        for (version, date) in [("1.2.0", "2026-06-01"), ("1.3.0", "2026-09-01")] {
            trade.pack(version, date, "");
        }
        let tern = root().join("demo/releases/tern-1.5.0.toml");
        let out = trade.releases.join("tern-1.5.0.vaka");
        let args = ["pack", tern.to_str().unwrap(), "--key", "skerrow", "--out", out.to_str().unwrap()];
        trade.maker(&args).expect(0, &[]);
        trade.make();
        let public = trade.maker(&["keys", "show", "skerrow"]).stdout;
        let key = trade.bench.file("skerrow.pub.pem", public.as_bytes());
        let trust = ["keys", "trust", key.to_str().unwrap(), "--for", "gannet"];
        trade.user(&trust).expect(0, &["trusted"]);
        trade
    }

    fn pack(&self, version: &str, date: &str, more: &str) {
        let demo = root().join("demo");
        let image = firmware(&format!("gannet-{version}.dfu"));
        let text = format!(
            "release = 1\nproduct = \"gannet\"\nversion = \"{version}\"\ndate = \"{date}\"\nchannel = \"stable\"\n{more}\n\
             sheets = [\"{}\"]\n[[stage]]\nname = \"Application\"\n[[stage.image]]\nfile = \"{}\"\nvariants = [\"g1\"]\n",
            demo.join("sheets/gannet.toml").display(),
            image.display()
        );
        let path = self.bench.file(&format!("gannet-{version}.toml"), text.as_bytes());
        let out = self.releases.join(format!("gannet-{version}.vaka"));
        let args = ["pack", path.to_str().unwrap(), "--key", "skerrow", "--out", out.to_str().unwrap(), "--replace"];
        self.maker(&args).expect(0, &["fits"]);
    }

    fn make(&self) {
        self.maker(&["catalogue", "make", self.folder(), "--key", "skerrow"]).expect(0, &["catalogue "]);
    }

    fn withdraw(&self, version: &str) {
        let args = ["catalogue", "withdraw", self.folder(), version, "--why", "stops the clock", "--key", "skerrow"];
        self.maker(&[&args[..], &["--product", "gannet"]].concat()).expect(0, &["1 of them withdrawn"]);
    }

    fn folder(&self) -> &str {
        self.releases.to_str().unwrap()
    }

    fn catalogue(&self) -> PathBuf {
        self.releases.join("releases.catalogue")
    }

    fn command(&self, home: &str, args: &[&str]) -> Command {
        let home = self.bench.folder.path().join(home);
        fs::create_dir_all(home.join("vaka")).unwrap();
        fs::write(home.join("vaka/first-use"), b"").unwrap();
        let mut command = self.bench.command();
        command.args(args).env_remove("VAKA_SHEETS").env_remove("http_proxy").env_remove("HTTP_PROXY");
        for variable in ["XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"] {
            command.env(variable, &home);
        }
        command
    }

    fn maker(&self, args: &[&str]) -> Ended {
        Running::start(&mut self.command("maker", args)).end()
    }

    fn user(&self, args: &[&str]) -> Ended {
        Running::start(&mut self.command("user", args)).end()
    }

    fn update(&self, from: &str, args: &[&str]) -> Ended {
        self.user(&[&["update", "--from", from, "--unattended"], args].concat())
    }

    /// Signs a list that `catalogue make` would not write.
    fn sign(&self, list: &Catalogue) {
        let key = fs::read_to_string(self.bench.folder.path().join("maker/vaka/keys/skerrow.key.pem")).unwrap();
        fs::write(self.catalogue(), list.write(&PrivateKey::from_pem(&key).unwrap()).unwrap()).unwrap();
    }

    /// Whether the unit's true application is that of a version.
    fn has(&self, version: &str) -> bool {
        let image = fs::read(firmware(&format!("gannet-{version}.bin"))).unwrap();
        self.bench.memory("1-1")[0x5000..].starts_with(&image)
    }

    /// The files in the user's cache.
    fn cached(&self) -> Vec<String> {
        let folder = self.bench.folder.path().join("user/vaka/releases");
        let names = fs::read_dir(folder).into_iter().flatten().flatten();
        names.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect()
    }
}

#[test]
fn a_user_sees_the_releases_and_gets_the_newest_that_is_not_withdrawn() {
    let trade = Trade::new();
    let web = WebServer::start(&trade.releases).unwrap();
    let listed = trade.user(&["releases", "--from", &web.url()]);
    listed.expect(0, &["Catalogue 1", "1.3.0    2026-09-01  stable   g1        1-1   ", "usable"]);
    // A release on this computer tells more of the unit.
    trade
        .user(&["releases", "--from", trade.folder()])
        .expect(0, &["1.2.0    2026-06-01  stable   g1        1-1 (has it)"]);
    listed.expect(0, &["Not listed, since its signer is not trusted for it: tern", "Next: vaka update --from"]);
    assert!(!listed.stdout.contains("tern-1.5.0"), "{}", listed.stdout);
    trade.withdraw("1.2.0");
    // The catalogue tells which unit runs what must not run.
    trade.user(&["releases", "--from", &web.url()]).expect(0, &["Catalogue 2", "WITHDRAWN on", "stops the clock"]);
    let sheets = root().join("demo/sheets");
    let survey = ["survey", "--sheets", sheets.to_str().unwrap()];
    let remedy = format!("vaka update --from {} --unit port=1-1", web.url());
    trade.user(&survey).expect(0, &["WITHDRAWN: its version 1.2.0, on", "stops the clock", &remedy]);
    trade
        .update(&web.url(), &["--version", "1.2.0", "--allow", "older-version"])
        .expect(3, &["Release 1.2.0 was withdrawn", "stops the clock", "--allow withdrawn-release"]);
    assert!(trade.has("1.2.0"));
    trade
        .update(&web.url(), &[])
        .expect(0, &["Release gannet 1.3.0", "not used: gannet-1.2.0.vaka (withdrawn", "confirmed"]);
    assert!(trade.has("1.3.0"));
    trade.user(&survey).expect(0, &[]);
    // The file itself is refused too, wherever it comes from.
    let file = trade.releases.join("gannet-1.2.0.vaka");
    trade.user(&["update", file.to_str().unwrap(), "--unattended"]).expect(3, &["Release 1.2.0 was withdrawn"]);
    let consents = ["--allow", "withdrawn-release", "--allow", "older-version"];
    trade
        .user(&[&["update", file.to_str().unwrap(), "--unattended"], &consents[..]].concat())
        .expect(0, &["confirmed"]);
    assert!(trade.has("1.2.0"));
    // Nothing about unit or user was sent.
    for request in web.requests() {
        let names: Vec<&str> = request.headers.keys().map(String::as_str).collect();
        assert!(names.iter().all(|name| ["accept", "accept-encoding", "host", "range", "user-agent"].contains(name)));
        assert_eq!(request.headers["user-agent"], "vaka");
    }
}

#[test]
fn an_old_catalogue_is_refused_and_a_stale_one_is_reported() {
    let trade = Trade::new();
    let first = fs::read(trade.catalogue()).unwrap();
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["Catalogue 1"]);
    trade.withdraw("1.3.0");
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["Catalogue 2"]);
    let second = fs::read(trade.catalogue()).unwrap();
    fs::write(trade.catalogue(), &first).unwrap();
    let words = ["The catalogue is an old one: it has number 1, and number 2 of", "Nothing was changed in any unit"];
    trade.user(&["releases", "--from", trade.folder()]).expect(3, &words[..1]);
    trade.update(trade.folder(), &[]).expect(3, &words);
    assert!(trade.has("1.2.0"));
    // Another catalogue with the same number: the publisher lost the first, or signed two.
    fs::remove_file(trade.catalogue()).unwrap();
    let args = ["catalogue", "make", trade.folder(), "--key", "skerrow", "--number", "2"];
    trade.maker(&args).expect(0, &[]);
    trade.update(trade.folder(), &[]).expect(3, &["differs from the one with the same number 2"]);
    trade
        .maker(&["catalogue", "make", trade.folder(), "--key", "skerrow", "--number", "2"])
        .expect(8, &["the number of a catalogue grows: the present one is 2"]);
    fs::write(trade.catalogue(), &second).unwrap();
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["Catalogue 2"]);
    // A damaged memory does not count as an empty one.
    let memory = trade.bench.folder.path().join("user/vaka/catalogues.json");
    let seen = fs::read(&memory).unwrap();
    fs::write(&memory, b"[{").unwrap();
    trade
        .user(&["releases", "--from", trade.folder()])
        .expect(8, &["catalogues.json", "It tells which catalogues are old"]);
    fs::write(&memory, seen).unwrap();
    // A changed catalogue is refused wherever it was changed.
    for at in [100, second.len() / 2, second.len() - 30] {
        let mut changed = second.clone();
        changed[at] ^= 1;
        fs::write(trade.catalogue(), changed).unwrap();
        trade.update(trade.folder(), &[]).expect(8, &["the catalogue cannot be used"]);
    }
}

#[test]
fn commands_that_run_at_once_remember_all_their_catalogues() {
    let trade = Trade::new();
    let list = Catalogue::open(fs::read(trade.catalogue()).unwrap()).unwrap().list;
    let memory = trade.bench.folder.path().join("user/vaka/catalogues.json");
    let folders: Vec<String> = (0..8)
        .map(|number| {
            let name = format!("maker-{number}");
            trade.maker(&["keys", "new", &name]).expect(0, &[]);
            let public = trade.bench.file(&name, trade.maker(&["keys", "show", &name]).stdout.as_bytes());
            trade.user(&["keys", "trust", public.to_str().unwrap(), "--for", "gannet"]).expect(0, &[]);
            let private = trade.bench.folder.path().join(format!("maker/vaka/keys/{name}.key.pem"));
            let key = PrivateKey::from_pem(&fs::read_to_string(private).unwrap()).unwrap();
            let folder = trade.bench.folder.path().join(format!("of-{name}"));
            fs::create_dir(&folder).unwrap();
            fs::write(folder.join("releases.catalogue"), list.write(&key).unwrap()).unwrap();
            folder.to_str().unwrap().to_owned()
        })
        .collect();
    for _ in 0..5 {
        fs::remove_file(&memory).ok();
        let start = |folder: &String| Running::start(&mut trade.command("user", &["releases", "--from", folder]));
        let running: Vec<Running> = folders.iter().map(start).collect();
        for command in running {
            command.end().expect(0, &["Catalogue 1"]);
        }
        let seen: serde_json::Value = serde_json::from_slice(&fs::read(&memory).unwrap()).unwrap();
        assert_eq!(seen.as_array().unwrap().len(), folders.len());
    }
}

#[test]
fn a_stale_catalogue_is_reported_at_every_use() {
    let trade = Trade::new();
    let mut list = Catalogue::open(fs::read(trade.catalogue()).unwrap()).unwrap().list;
    (list.date, list.fresh_until) = ("2026-01-10".to_owned(), "2026-02-10".to_owned());
    trade.sign(&list);
    let words =
        ["The catalogue of 2026-01-10 is stale: it was made to last until 2026-02-10", "withdrawals may be hidden"];
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &words);
    trade.update(trade.folder(), &["--plan"]).expect(0, &words);
    trade
        .maker(&["catalogue", "check", trade.folder()])
        .expect(8, &["so it is STALE", "WRONG: stale: it was made to last until 2026-02-10"]);
    let event = &trade.user(&["releases", "--from", trade.folder(), "--format", "json"]).events()[1];
    assert_eq!((&event["release"]["version"], &event["catalogue"]["stale"]), (&json!("1.3.0"), &json!(true)));
}

#[test]
fn a_server_that_misbehaves_gives_no_wrong_file_and_loses_none() {
    let trade = Trade::new();
    let web = WebServer::start(&trade.releases).unwrap();
    let file = "/gannet-1.3.0.vaka";
    let plan = |service: Service, code: i32, words: &[&str]| {
        web.set(file, service);
        trade.update(&web.url(), &["--plan"]).expect(code, words);
    };
    plan(Service::Status(404), 9, &["gannet-1.3.0.vaka: the server has no such file (status 404)"]);
    plan(Service::Status(503), 9, &["the server answers with status 503"]);
    plan(Service::Changed, 9, &["the SHA-256 of the downloaded file is not that of the catalogue"]);
    plan(Service::Shortened(1000), 9, &["bytes, and the catalogue lists"]);
    plan(Service::Endless, 9, &["the server sends more than"]);
    plan(Service::Redirect("https://127.0.0.1:1/x".into()), 9, &["refers to 'https://127.0.0.1:1/x', which is not"]);
    plan(Service::Redirect(file.into()), 9, &["which is not followed"]);
    assert!(trade.cached().is_empty(), "{:?}", trade.cached());
    assert!(trade.has("1.2.0"));
    plan(Service::Silent(0), 9, &["the server sent nothing for 20 s"]);
    // A transfer that is cut off is continued five times, and by the next run.
    plan(
        Service::Cut(100),
        9,
        &["the transfer was cut off", "the transferred part is kept", "continues where it ended"],
    );
    let part = trade.cached();
    assert!(matches!(&part[..], [part] if part.ends_with(".part")), "{part:?}");
    let before = web.requests().len();
    plan(Service::Cut(9000), 0, &["Release gannet 1.3.0"]);
    let ranges: Vec<String> =
        web.requests()[before..].iter().filter_map(|request| request.headers.get("range").cloned()).collect();
    assert_eq!(ranges[..2], ["bytes=600-", "bytes=9600-"]);
    // It is in the cache now: the server is asked only for the catalogue.
    let before = web.requests().len();
    plan(Service::Status(404), 0, &["Release gannet 1.3.0"]);
    assert_eq!(web.requests().len(), before + 1);
}

#[test]
fn a_part_of_another_file_is_not_continued() {
    let trade = Trade::new();
    let web = WebServer::start(&trade.releases).unwrap();
    let file = "/gannet-1.3.0.vaka";
    for service in [Service::WithoutRanges, Service::Proper, Service::Redirect("/elsewhere/gannet-1.3.0.vaka".into())] {
        let _ = fs::remove_dir_all(trade.bench.folder.path().join("user/vaka/releases"));
        fs::create_dir_all(trade.releases.join("elsewhere")).unwrap();
        fs::copy(trade.releases.join("gannet-1.3.0.vaka"), trade.releases.join("elsewhere/gannet-1.3.0.vaka")).unwrap();
        web.set("/elsewhere/gannet-1.3.0.vaka", Service::Cut(9000));
        let folder = trade.bench.folder.path().join("user/vaka/releases");
        fs::create_dir_all(&folder).unwrap();
        let whole = fs::read(trade.releases.join("gannet-1.3.0.vaka")).unwrap();
        let name = format!("gannet-1.3.0-{}.vaka.part", &sha256(&trade.releases.join("gannet-1.3.0.vaka"))[..16]);
        fs::write(folder.join(name), vec![0xAA; whole.len() / 2]).unwrap();
        web.set(file, service.clone());
        trade.update(&web.url(), &["--plan"]).expect(0, &["Release gannet 1.3.0"]);
        let cached = trade.cached();
        assert_eq!(cached.len(), 1, "{service:?}: {cached:?}");
        assert!(fs::read(folder.join(&cached[0])).unwrap() == whole, "{service:?}");
    }
}

/// The digest that `sha256sum` prints.
fn sha256(path: &Path) -> String {
    let done = Command::new("sha256sum").arg(path).output().unwrap();
    String::from_utf8(done.stdout).unwrap().split(' ').next().unwrap().to_owned()
}

#[test]
fn without_a_network_the_last_catalogue_and_the_cached_releases_are_used() {
    let trade = Trade::new();
    let web = WebServer::start(&trade.releases).unwrap();
    let url = web.url();
    trade.update(&url, &["--plan"]).expect(0, &[]);
    drop(web);
    let words = ["the server cannot be reached", "The catalogue of the last download is used", "Release gannet 1.3.0"];
    trade.update(&url, &["--plan"]).expect(0, &words);
    // A release that was never downloaded is not there.
    trade
        .update(&url, &["--plan", "--version", "1.2.0"])
        .expect(9, &["gannet-1.2.0.vaka: the server cannot be reached"]);
    let other = trade.user(&["releases", "--from", "http://127.0.0.1:9/none"]);
    other.expect(9, &["http://127.0.0.1:9/none/releases.catalogue: the server cannot be reached", "Check the address"]);
}

#[test]
fn a_catalogue_from_a_server_is_checked_before_it_is_used() {
    let trade = Trade::new();
    let web = WebServer::start(&trade.releases).unwrap();
    let list = "/releases.catalogue";
    for (service, code, words) in [
        (Service::Status(404), 8, "no catalogue (releases.catalogue) was found"),
        (Service::Endless, 9, "the server sends more than 4 MiB"),
        (Service::Changed, 8, "the catalogue cannot be used"),
        (Service::Shortened(10), 8, "the catalogue cannot be used"),
        (Service::Redirect("file:///etc/passwd".into()), 9, "refers to 'file:///etc/passwd', which is not followed"),
    ] {
        web.set(list, service.clone());
        trade.user(&["releases", "--from", &web.url()]).expect(code, &[words]);
    }
    web.set(list, Service::Proper);
    if program::is_there("gzip") {
        let file = fs::File::open(trade.catalogue()).unwrap();
        let packed = Command::new("gzip").arg("-c").stdin(Stdio::from(file)).output().unwrap();
        web.set(list, Service::Gzip(packed.stdout));
        trade.user(&["releases", "--from", &web.url()]).expect(0, &["Catalogue 1"]);
    }
    // The key is trusted for products.
    trade.user(&["keys", "distrust", "skerrow"]).expect(0, &[]);
    web.set(list, Service::Proper);
    trade.update(&web.url(), &[]).expect(3, &["The catalogue is signed by key", "--for gannet", "--allow signer-"]);
    for bad in ["ftp://127.0.0.1/", "http://user@127.0.0.1/"] {
        trade.user(&["releases", "--from", bad]).expect(2, &["invalid value"]);
    }
}

#[test]
fn a_proxy_of_the_environment_is_used() {
    let trade = Trade::new();
    let web = WebServer::start(&trade.releases).unwrap();
    let proxy = WebServer::start(&trade.releases).unwrap();
    let mut command = trade.command("user", &["releases", "--from", "http://skerrow.example/"]);
    command.env("http_proxy", proxy.url()).env_remove("no_proxy").env_remove("NO_PROXY");
    Running::start(&mut command).end().expect(9, &["skerrow.example"]);
    assert!(web.requests().is_empty());
}

#[test]
fn a_server_with_tls_is_used_if_its_certificate_is_trusted() {
    if !program::is_there("openssl") {
        return;
    }
    let trade = Trade::new();
    let pem = |name: &str| trade.bench.folder.path().join(name);
    let done = Command::new("openssl")
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=localhost"])
        .args(["-addext", "subjectAltName=DNS:localhost", "-addext", "basicConstraints=critical,CA:FALSE"])
        .args([Path::new("-keyout"), &pem("web.key"), Path::new("-out"), &pem("web.pem")])
        .stderr(Stdio::null())
        .status();
    assert!(done.unwrap().success());
    let mut server = Command::new("openssl")
        .args(["s_server", "-accept", "127.0.0.1:0", "-WWW", "-cert"])
        .args([&pem("web.pem"), Path::new("-key"), &pem("web.key")])
        .current_dir(&trade.releases)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(server.stdout.take().unwrap()));
    let accept = lines.find_map(|line| line.unwrap().strip_prefix("ACCEPT 127.0.0.1:").map(str::to_owned)).unwrap();
    let url = format!("https://localhost:{}/", accept.trim());
    let plan = |certificate: Option<PathBuf>| {
        let mut command = trade.command("user", &["update", "--from", &url, "--unattended", "--plan"]);
        command.env_remove("SSL_CERT_FILE");
        if let Some(path) = certificate {
            command.env("SSL_CERT_FILE", path);
        }
        Running::start(&mut command).end()
    };
    let untrusted = plan(None);
    let trusted = plan(Some(pem("web.pem")));
    let none = plan(Some(pem("web.key")));
    server.kill().unwrap();
    server.wait().unwrap();
    untrusted.expect(9, &["the server cannot be reached", "certificate"]);
    trusted.expect(0, &["Release gannet 1.3.0"]);
    none.expect(9, &["it has no certificate"]);
}

#[test]
fn a_publisher_finds_what_is_wrong_before_the_users_do() {
    let trade = Trade::new();
    trade.maker(&["catalogue", "check", trade.folder()]).expect(0, &["gannet-1.3.0.vaka: as listed"]);
    trade
        .maker(&["catalogue", "show", trade.folder()])
        .expect(0, &["gannet 1.3.0 of 2026-09-01, channel stable", "1209:0004"]);
    // The file changes after the catalogue was made.
    trade.pack("1.3.0", "2026-09-02", "");
    let wrong = trade.maker(&["catalogue", "check", trade.folder()]);
    wrong.expect(8, &["gannet-1.3.0.vaka: WRONG", "not that of the catalogue", "gannet-1.2.0.vaka: as listed"]);
    trade.update(trade.folder(), &[]).expect(8, &["the SHA-256 of the file is not that of the catalogue"]);
    assert!(trade.has("1.2.0"));
    trade.make();
    trade.maker(&["catalogue", "check", trade.folder()]).expect(0, &["catalogue 2"]);
    // A withdrawn release is remembered without its file; another one is left out.
    trade.withdraw("1.2.0");
    fs::remove_file(trade.releases.join("gannet-1.2.0.vaka")).unwrap();
    fs::remove_file(trade.releases.join("tern-1.5.0.vaka")).unwrap();
    let made = trade.maker(&["catalogue", "make", trade.folder(), "--key", "skerrow"]);
    made.expect(
        0,
        &["tern-1.5.0.vaka: not in the folder any more", "catalogue 4 with 2 releases, 1 of them withdrawn"],
    );
    trade
        .maker(&["catalogue", "check", trade.folder()])
        .expect(0, &["gannet-1.2.0.vaka: withdrawn, so its file is not read"]);
    // A new release under the name of a withdrawn one would make users forget the withdrawal.
    trade.pack("1.2.0", "2026-06-02", "");
    trade
        .maker(&["catalogue", "make", trade.folder(), "--key", "skerrow"])
        .expect(8, &["a withdrawn release has this file name and another content", "No catalogue was written"]);
    fs::remove_file(trade.releases.join("gannet-1.2.0.vaka")).unwrap();
    // A web server is asked again, whatever was downloaded before.
    let web = WebServer::start(&trade.releases).unwrap();
    trade.maker(&["catalogue", "check", &web.url()]).expect(0, &["gannet-1.3.0.vaka: as listed"]);
    web.set("/gannet-1.3.0.vaka", Service::Changed);
    trade.maker(&["catalogue", "check", &web.url()]).expect(8, &["gannet-1.3.0.vaka: WRONG"]);
    web.set("/releases.catalogue", Service::Status(503));
    trade.maker(&["catalogue", "check", &web.url()]).expect(9, &["the server answers with status 503"]);
    drop(web);
    let lift = ["catalogue", "withdraw", trade.folder(), "gannet-1.2.0.vaka", "--lift", "--key", "skerrow"];
    trade.maker(&lift).expect(0, &["catalogue 5 with 2 releases"]);
    trade
        .maker(&["catalogue", "withdraw", trade.folder(), "9.9", "--why", "x", "--key", "skerrow"])
        .expect(3, &["The catalogue has no release 9.9; listed: gannet 1.2.0, gannet 1.3.0"]);
    // Two of one version, and an unsigned one.
    fs::copy(trade.releases.join("gannet-1.3.0.vaka"), trade.releases.join("twin.vaka")).unwrap();
    trade
        .maker(&["catalogue", "make", trade.folder(), "--key", "skerrow"])
        .expect(8, &["has the same product, version and channel", "No catalogue was written"]);
    let tern = root().join("demo/releases/tern-1.5.0.toml");
    let twin = trade.releases.join("twin.vaka");
    let args = ["pack", tern.to_str().unwrap(), "--replace", "--out", twin.to_str().unwrap()];
    trade.maker(&args).expect(0, &["NOT SIGNED"]);
    trade.maker(&["catalogue", "make", trade.folder(), "--key", "skerrow"]).expect(8, &["the release is not signed"]);
    let empty = trade.bench.folder.path().join("empty");
    fs::create_dir(&empty).unwrap();
    trade.maker(&["catalogue", "make", empty.to_str().unwrap(), "--key", "skerrow"]).expect(8, &["has no release"]);
    trade.update(empty.to_str().unwrap(), &[]).expect(8, &["no catalogue (releases.catalogue) was found"]);
}

/// A publisher of one product does not decide about the releases of another one, and a key that is trusted no more
/// decides nothing.
#[test]
fn a_withdrawal_counts_for_the_product_of_a_trusted_key_only() {
    let trade = Trade::new();
    let mut list = Catalogue::open(fs::read(trade.catalogue()).unwrap()).unwrap().list;
    let tern = trade.releases.join("tern-1.5.0.vaka");
    list.releases[0].sha256 = sha256(&tern);
    list.releases[0].withdrawn = Some(Withdrawal { date: list.date.clone(), why: "not mine".into() });
    list.releases[1].withdrawn = Some(Withdrawal { date: list.date.clone(), why: "mine".into() });
    trade.sign(&list);
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["WITHDRAWN on"]);
    let key = trade.maker(&["keys", "list"]).stdout.split_whitespace().next().unwrap().to_owned();
    let consent = format!("signer-{key}");
    let update = |file: &Path| {
        trade.user(&["update", file.to_str().unwrap(), "--unattended", "--plan", "--wait", "0", "--allow", &consent])
    };
    update(&tern).expect(4, &["Release tern 1.5.0"]);
    let gannet = trade.releases.join("gannet-1.3.0.vaka");
    update(&gannet).expect(3, &["Release 1.3.0 was withdrawn", "mine"]);
    trade.user(&["keys", "distrust", "skerrow"]).expect(0, &[]);
    update(&gannet).expect(0, &["Release gannet 1.3.0"]);
}

/// The state of each release, and the next command, are what an update would do.
#[test]
fn the_list_says_what_an_update_would_do() {
    let trade = Trade::new();
    let mut list = Catalogue::open(fs::read(trade.catalogue()).unwrap()).unwrap().list;
    let mut listed = |change: &dyn Fn(&mut Catalogue)| {
        list.number += 1;
        let mut changed = list.clone();
        change(&mut changed);
        trade.sign(&changed);
        trade.user(&["releases", "--from", trade.folder()]).expect(0, &["Catalogue"]).stdout.clone()
    };
    let next = format!("Next: vaka update --from {} --unit port=1-1", trade.folder());
    let newer = listed(&|list| list.releases[1].needs_vaka = Some("99.0".into()));
    assert!(newer.contains("requires Vaka 99.0") && !newer.contains("Next:"), "{newer}");
    let expired = listed(&|list| list.releases[1].expires = Some("2020-01-01".into()));
    assert!(expired.contains("expired after 2020-01-01") && !expired.contains("Next:"), "{expired}");
    assert!(listed(&|_| {}).contains(&next));
    trade.update(trade.folder(), &[]).expect(0, &["confirmed"]);
    assert!(!listed(&|_| {}).contains("Next:"), "the unit has the newest");
    // The only remedy for a withdrawn version may be an older one.
    let withdrawal = Withdrawal { date: "2026-11-30".into(), why: "stops the clock".into() };
    let withdrawn = listed(&|list| list.releases[1].withdrawn = Some(withdrawal.clone()));
    assert!(withdrawn.contains(&next), "{withdrawn}");
}

#[test]
fn a_release_that_skips_versions_needs_the_one_between() {
    let trade = Trade::new();
    trade.pack("1.3.0", "2026-09-01", "updates_from = \"1.2.5\"");
    trade.make();
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["1-1 (has 1.2.0; first 1.2.5)"]);
    let words = ["updates from 1.2.5 on", "first install a release between them", "--allow skipped-version"];
    trade.update(trade.folder(), &[]).expect(3, &words);
    assert!(trade.has("1.2.0"));
    trade.update(trade.folder(), &["--allow", "skipped-version"]).expect(0, &["confirmed"]);
    assert!(trade.has("1.3.0"));
}

#[test]
fn a_replaced_key_continues_the_numbers_of_the_first() {
    let trade = Trade::new();
    trade.withdraw("1.2.0");
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["Catalogue 2"]);
    trade.maker(&["keys", "new", "second"]).expect(0, &[]);
    let public = trade.maker(&["keys", "show", "second"]).stdout;
    let second = trade.bench.file("second.pub.pem", public.as_bytes());
    let statement = trade.bench.folder.path().join("replaced.json");
    let (second, statement) = (second.to_str().unwrap(), statement.to_str().unwrap());
    let replace = ["keys", "replace", "skerrow", "--by", second, "--why", "a new laptop", "--out", statement];
    trade.maker(&replace).expect(0, &[]);
    let make = ["catalogue", "make", trade.folder(), "--key", "skerrow", "--statement", statement];
    trade.maker(&make).expect(0, &["catalogue 3"]);
    let third = fs::read(trade.catalogue()).unwrap();
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["replaces key 'skerrow'", "Catalogue 3"]);
    trade.maker(&["catalogue", "make", trade.folder(), "--key", "second"]).expect(0, &["catalogue 4"]);
    trade.user(&["releases", "--from", trade.folder()]).expect(0, &["Catalogue 4"]);
    // The last catalogue of the first key is old now.
    fs::write(trade.catalogue(), third).unwrap();
    trade.user(&["releases", "--from", trade.folder()]).expect(3, &["it has number 3, and number 4 of"]);
}
