//! A bench of simulated units, served over USB/IP on loopback, and the built program.

#![allow(dead_code, unreachable_pub, clippy::print_stderr)] // each test file uses its part; a skip is told

pub mod knot;

use std::io::{BufRead, BufReader, Read};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::mpsc;
use std::time::{Duration, Instant};

use serde_json::Value;
use vaka_sim::fault::Fault;
use vaka_sim::server::Server;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Unit};
use vaka_sim::world::{LogEntry, lock};
use vaka_sim::{SharedWorld, World};
use vaka_usb::SystemClock;

/// No command of a test takes longer than this.
const DEADLINE: Duration = Duration::from_secs(60);

/// A file of the demo firmware, as the compiler and `objcopy` made it.
pub fn firmware(name: &str) -> PathBuf {
    vaka_testkit::demo::firmware(name)
}

pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A world of simulated units behind a server, and a temporary folder.
pub struct Bench {
    pub world: SharedWorld,
    server: Server,
    pub folder: tempfile::TempDir,
}

impl Bench {
    /// Units at ports 1-1, 1-2, … with what goes wrong with each.
    pub fn new(units: Vec<(Tern, Vec<Fault>)>) -> Self {
        let boxed = |(unit, faults)| (Box::new(unit) as Box<dyn Unit>, faults);
        Self::of(units.into_iter().map(boxed).collect())
    }

    /// The same with units of any kind.
    pub fn of(units: Vec<(Box<dyn Unit>, Vec<Fault>)>) -> Self {
        let mut world = World::new(Arc::new(SystemClock));
        for (number, (unit, faults)) in (1..).zip(units) {
            world.plug(&format!("1-{number}"), unit, faults);
        }
        let world = world.shared();
        let server = Server::start(world.clone(), ([127, 0, 0, 1], 0).into()).unwrap();
        let folder = tempfile::tempdir().unwrap();
        // This user was told before that a lock excludes no other users.
        std::fs::create_dir(folder.path().join("vaka")).unwrap();
        std::fs::write(folder.path().join("vaka/first-use"), b"").unwrap();
        Self { world, server, folder }
    }

    /// One Tern r1, found in update mode.
    pub fn tern_r1() -> Self {
        Self::new(vec![(Tern::in_boot_mode(Revision::R1, "T1-00217"), Vec::new())])
    }

    /// The same, with faults.
    pub fn faulty_r1(faults: Vec<Fault>) -> Self {
        Self::new(vec![(Tern::in_boot_mode(Revision::R1, "T1-00217"), faults)])
    }

    pub fn bus(&self) -> String {
        self.server.bus()
    }

    /// Writes a file into the temporary folder.
    pub fn file(&self, name: &str, content: &[u8]) -> PathBuf {
        let path = self.folder.path().join(name);
        std::fs::write(&path, content).unwrap();
        path
    }

    /// A demo sheet without what would prove that an image is whole, for images that are
    /// unsound on purpose; its path.
    pub fn sheet_without_proofs(&self, name: &str) -> String {
        let sheet = std::fs::read_to_string(root().join("demo/sheets").join(name)).unwrap();
        let proves = |line: &&str| !line.starts_with("length = ") && !line.starts_with("checksum = ");
        let lines: Vec<&str> = sheet.lines().filter(proves).collect();
        self.file(name, lines.join("\n").as_bytes()).to_str().unwrap().to_owned()
    }

    /// The whole true memory of the unit at a port.
    pub fn memory(&self, port: &str) -> Vec<u8> {
        lock(&self.world).unit(port).unwrap().flash().bytes().to_vec()
    }

    /// The true condition of a unit, once it has started.
    pub fn condition(&self, port: &str) -> Condition {
        let end = Instant::now() + Duration::from_secs(5);
        loop {
            let condition = lock(&self.world).unit(port).unwrap().condition();
            if condition != Condition::Starting || Instant::now() > end {
                return condition;
            }
            std::thread::yield_now();
        }
    }

    pub fn log(&self, port: &str) -> Vec<LogEntry> {
        lock(&self.world).log(port).to_vec()
    }

    /// The program on this bench with the demo sheets.
    pub fn command(&self) -> Command {
        let mut command = program();
        command.env("VAKA_BUS", self.bus()).env("VAKA_SHEETS", root().join("demo/sheets"));
        command.env("XDG_RUNTIME_DIR", self.folder.path()).env("XDG_STATE_HOME", self.folder.path());
        command.current_dir(self.folder.path());
        command
    }

    /// Runs a command line and waits for its end.
    pub fn run(&self, args: &[&str]) -> Ended {
        Running::start(self.command().args(args)).end()
    }

    /// Updates the unit with a file, and writes all of it, whatever is there.
    pub fn update(&self, file: &Path, args: &[&str]) -> Ended {
        let command = [&["--rewrite"], args].concat();
        Running::start(self.command().arg("update").arg(file).args(["--wait", "5s"]).args(command)).end()
    }
}

/// The built program, with nothing of the caller's settings.
pub fn program() -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_vaka"));
    command
        .env_remove("COLUMNS")
        .env_remove("VAKA_BUS")
        .env_remove("VAKA_SHEETS")
        .env("XDG_CONFIG_HOME", "/nonexistent")
        .env("XDG_STATE_HOME", "/nonexistent");
    command
}

/// The same command in a terminal of its own, by `script` of util-linux. Ask with
/// [`has`] whether that is there.
pub fn at_terminal(command: &Command) -> Command {
    let words: Vec<String> = [command.get_program()]
        .into_iter()
        .chain(command.get_args())
        .map(|word| format!("'{}'", word.to_str().unwrap()))
        .collect();
    let mut script = Command::new("script");
    // With `exec` the shell is not between the terminal and the program: some shells end by Ctrl-C themselves.
    script.args(["--quiet", "--return", "--command", &format!("exec {}", words.join(" ")), "/dev/null"]);
    for (name, value) in command.get_envs() {
        match value {
            Some(value) => script.env(name, value),
            None => script.env_remove(name),
        };
    }
    if let Some(folder) = command.get_current_dir() {
        script.current_dir(folder);
    }
    script.env("TERM", "dumb");
    script
}

/// How a command ended.
pub struct Ended {
    pub code: i32,
    pub stdout: String,
    pub stderr: String,
}

impl Ended {
    /// Checks the exit status and that all words were said somewhere.
    #[track_caller]
    pub fn expect(&self, code: i32, words: &[&str]) -> &Self {
        let all = format!("{}\n--- standard error ---\n{}", self.stdout, self.stderr);
        assert_eq!(self.code, code, "{all}");
        for word in words {
            assert!(all.contains(word), "'{word}' is not in:\n{all}");
        }
        self
    }

    /// Standard output as JSON Lines.
    #[track_caller]
    pub fn events(&self) -> Vec<Value> {
        let line = |line| serde_json::from_str(line).unwrap_or_else(|error| panic!("{error}: {line}"));
        self.stdout.lines().map(line).collect()
    }

    /// The last event, which is the result.
    #[track_caller]
    pub fn result(&self) -> Value {
        let last = self.events().pop().expect("at least one event");
        assert_eq!(last["event"], "result", "{}", self.stdout);
        last
    }
}

/// A command under way, with its output as it comes: up to a line end each, or as much as there is.
pub struct Running {
    child: Child,
    output: mpsc::Receiver<(Stream, String)>,
    seen: Vec<(Stream, String)>,
    /// By stream: the text after the last line end or the last text that was waited for.
    open: [String; 2],
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stream {
    Out,
    Err,
}

impl Running {
    pub fn start(command: &mut Command) -> Self {
        let mut child = command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the program starts");
        let (sender, output) = mpsc::channel();
        forward(Stream::Out, child.stdout.take().unwrap(), sender.clone());
        forward(Stream::Err, child.stderr.take().unwrap(), sender);
        Self { child, output, seen: Vec::new(), open: Default::default() }
    }

    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Ends it at once, with no chance to tidy up.
    pub fn kill(mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }

    /// Its standard input.
    pub fn stdin(&mut self) -> &mut std::process::ChildStdin {
        self.child.stdin.as_mut().unwrap()
    }

    /// Waits for a line that contains `words`.
    #[track_caller]
    pub fn wait_for(&mut self, words: &str) -> String {
        self.wait_until(words, |text| text.ends_with('\n') && text.contains(words)).trim_end().to_owned()
    }

    /// Waits for a prompt: text that contains `words`, ends with a blank and has no line end yet.
    /// An answer typed before the prompt is echoed into the output before it.
    #[track_caller]
    pub fn wait_for_prompt(&mut self, words: &str) {
        self.wait_until(words, |text| text.ends_with(' ') && text.contains(words));
    }

    /// Reads output until the unread text of one stream, up to its next line end, satisfies `is_it`.
    #[track_caller]
    fn wait_until(&mut self, words: &str, is_it: impl Fn(&str) -> bool) -> String {
        let end = Instant::now() + DEADLINE;
        loop {
            let left = end.saturating_duration_since(Instant::now());
            let Ok((stream, text)) = self.output.recv_timeout(left) else {
                panic!("'{words}' never came; the output is: {:#?}", self.seen);
            };
            self.seen.push((stream, text.clone()));
            let open = &mut self.open[stream as usize];
            open.push_str(&text);
            let found = is_it(open);
            if found || text.ends_with('\n') {
                let line = std::mem::take(open);
                if found {
                    return line;
                }
            }
        }
    }

    /// Whether the output so far contains `words`.
    pub fn has_said(&mut self, words: &str) -> bool {
        self.seen.extend(self.output.try_iter());
        [Stream::Out, Stream::Err].into_iter().any(|stream| self.all(stream).contains(words))
    }

    fn all(&self, stream: Stream) -> String {
        let texts = self.seen.iter().filter(|(from, _)| *from == stream);
        texts.map(|(_, text)| text.replace("\r\n", "\n")).collect()
    }

    /// Waits for its end; kills it at the deadline.
    pub fn end(mut self) -> Ended {
        drop(self.child.stdin.take());
        let end = Instant::now() + DEADLINE;
        // Both streams end when the program does.
        while let Ok(text) = self.output.recv_timeout(end.saturating_duration_since(Instant::now())) {
            self.seen.push(text);
        }
        if Instant::now() >= end {
            self.child.kill().ok();
            panic!("still running after {DEADLINE:?}: {:#?}", self.seen);
        }
        let code = self.child.wait().unwrap().code().unwrap_or(-1);
        Ended { code, stdout: self.all(Stream::Out), stderr: self.all(Stream::Err) }
    }
}

fn forward(stream: Stream, from: impl Read + Send + 'static, to: mpsc::Sender<(Stream, String)>) {
    std::thread::spawn(move || {
        let mut from = BufReader::new(from);
        let mut bytes = Vec::new();
        while let Ok(part) = from.fill_buf() {
            let count = part.iter().position(|&byte| byte == b'\n').map_or(part.len(), |end| end + 1);
            if count == 0 {
                return;
            }
            bytes.extend_from_slice(&part[..count]);
            from.consume(count);
            // A character may come in two parts.
            let Ok(text) = std::str::from_utf8(&bytes) else { continue };
            if to.send((stream, text.to_owned())).is_err() {
                return;
            }
            bytes.clear();
        }
    });
}

/// The bytes of a memory image at a range of addresses.
pub fn at(memory: &[u8], range: Range<u32>) -> &[u8] {
    const BASE: u32 = 0x0A00_0000;
    &memory[(range.start - BASE) as usize..(range.end - BASE) as usize]
}

/// Checks the memory of a Tern: `image` stands at the start of the application
/// region, the rest of the touched sectors is erased, all else is as before.
#[track_caller]
pub fn assert_updated(revision: Revision, before: &[u8], after: &[u8], image: &[u8]) {
    let region = Tern::application_region(revision);
    let sector = match revision {
        Revision::R1 => 3 * 1024,
        Revision::R2 => 6 * 1024,
    };
    let len = u32::try_from(image.len()).unwrap();
    let touched = len.next_multiple_of(sector);
    assert_eq!(at(after, region.start..region.start + len), image, "the image");
    assert!(
        at(after, region.start + len..region.start + touched).iter().all(|byte| *byte == 0xFF),
        "the last sector's rest"
    );
    for (name, range) in [
        ("bootloader", Tern::bootloader_region(revision)),
        ("application beyond the image", region.start + touched..region.end),
        ("settings", Tern::settings_region(revision)),
    ] {
        assert_eq!(at(after, range.clone()), at(before, range), "{name}");
    }
}

/// Does what a guide says: writes its files, serves its simulated units, runs its commands,
/// each unchanged. Returns the folder of the work, which is the
/// folder of sheets too if that is wanted.
#[track_caller]
pub fn follow_guide(name: &str, sheets_here: bool) -> tempfile::TempDir {
    let guide = std::fs::read_to_string(root().join("docs/guides").join(name)).unwrap();
    let temporary = tempfile::tempdir().unwrap();
    let folder = temporary.path();
    let mut bus = None;
    let mut commands = 0;
    for block in guide.split("\n```").skip(1).step_by(2) {
        let (info, body) = block.split_once('\n').unwrap();
        if let Some(name) = info.strip_prefix("toml file=") {
            let path = folder.join(name);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, body).unwrap();
            continue;
        }
        if info == "sh terminal=2" {
            let args: Vec<&str> = body.trim().split(' ').skip(1).collect();
            let mut simulator = Running::start(program().args(args).current_dir(folder));
            let line = simulator.wait_for("Simulated units at usbip://127.0.0.1:");
            bus = Some((line.rsplit(' ').next().unwrap().to_owned(), simulator));
            continue;
        }
        // Part of a file, shown only.
        if info == "toml" {
            continue;
        }
        assert_eq!(info, "sh", "{block}");
        for line in body.lines() {
            let wanted = line.split_once("# exit status ").map_or(0, |(_, code)| code.trim().parse().unwrap());
            let path = Path::new(env!("CARGO_BIN_EXE_vaka")).parent().unwrap();
            let path = format!("{}:{}", path.display(), std::env::var("PATH").unwrap());
            let mut shell = Command::new("sh");
            shell.args(["-c", line]).current_dir(folder).env("PATH", path).env("VAKA", root()).stdin(Stdio::null());
            shell.env("XDG_STATE_HOME", folder).env("XDG_RUNTIME_DIR", folder);
            shell.env("XDG_CONFIG_HOME", folder.join("config")).env_remove("VAKA_SHEETS");
            if sheets_here {
                shell.env("VAKA_SHEETS", folder);
            }
            if let Some((bus, _)) = &bus {
                shell.env("VAKA_BUS", bus);
            }
            let ended = Running::start(&mut shell).end();
            assert_eq!(ended.code, wanted, "{line}\n{}\n{}", ended.stdout, ended.stderr);
            commands += 1;
        }
    }
    assert!(commands > 10, "only {commands} commands were found");
    if let Some((_, simulator)) = bus {
        simulator.kill();
    }
    temporary
}
