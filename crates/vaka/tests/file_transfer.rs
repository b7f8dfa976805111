//! Updates by file transfer protocols that are open standards. The receiver is a program that is
//! not ours, from the Debian package `lrzsz`; the unit programs what that program received.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdout, Command, Stdio};
use std::sync::mpsc::{self, Receiver};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use support::knot::{END, START};
use support::{Bench, knot};
use vaka_sim::flash::Flash;
use vaka_sim::unit::Condition;
use vaka_sim::unit::vendor_unit::{Loader, VendorUnit, acm};
use vaka_sim::usb::{Answer, Bulk, DescribedInterface, Setup};
use vaka_testkit::program;

/// A bootloader that receives a file with a program of this machine.
#[derive(Debug)]
struct Receiving {
    /// The program and its options; the file's name is last for protocols that do not send one.
    command: &'static [&'static str],
    folder: PathBuf,
    child: Option<(Child, Receiver<Vec<u8>>)>,
    pending: Vec<u8>,
    line: acm::SerialLine,
    /// In every transfer to the unit whose number is a multiple of this, one byte is changed; 0 for none.
    damage: usize,
    transfers: usize,
    /// Whether the host sent the end of everything.
    is_ending: bool,
    leaves_at: Option<Duration>,
    log: Arc<Mutex<String>>,
}

/// The output of a program, as it comes.
fn pieces(mut output: ChildStdout) -> Receiver<Vec<u8>> {
    let (sender, receiver) = mpsc::channel();
    std::thread::spawn(move || {
        let mut buffer = [0; 64];
        while let Ok(count @ 1..) = output.read(&mut buffer)
            && sender.send(buffer[..count].to_vec()).is_ok()
        {}
    });
    receiver
}

impl Receiving {
    /// Starts the program at the first transfer.
    fn child(&mut self) -> &mut (Child, Receiver<Vec<u8>>) {
        let Self { command, folder, child, .. } = self;
        child.get_or_insert_with(|| {
            let mut receive = Command::new(command[0]);
            receive.args(&command[1..]).current_dir(folder).stdin(Stdio::piped()).stdout(Stdio::piped());
            let mut child = receive.stderr(Stdio::null()).spawn().unwrap();
            let receiver = pieces(child.stdout.take().unwrap());
            (child, receiver)
        })
    }

    /// Programs the received file and starts it, once the program has ended.
    fn finish(&mut self, now: Duration, flash: &mut Flash) {
        if self.leaves_at.is_some() || !self.is_ending || !self.pending.is_empty() {
            return;
        }
        let (child, output) = self.child();
        // The end of its output is that of the program.
        if let Ok(bytes) = output.recv_timeout(Duration::from_secs(5)) {
            return self.pending.extend(bytes);
        }
        child.wait().unwrap();
        let received = fs::read_dir(&self.folder).unwrap().flatten().next();
        let Some(bytes) = received.map(|file| fs::read(file.path()).unwrap()) else { return };
        if bytes.len() > (END - START) as usize {
            return;
        }
        (START..END).step_by(256).for_each(|at| flash.erase(at..at + 256));
        flash.program(START, &bytes);
        // Its last acknowledgement is still on the way.
        self.leaves_at = Some(now + Duration::from_millis(300));
    }
}

impl Drop for Receiving {
    fn drop(&mut self) {
        if let Some((child, _)) = &mut self.child {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

impl Loader for Receiving {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        acm::interfaces("Receiver")
    }

    fn control(&mut self, _: Duration, _: &mut Flash, setup: Setup, data: &[u8]) -> Answer {
        self.line.control(setup, data).unwrap_or(Answer::Stall)
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        let answer = match transfer {
            Bulk::Out(2, data) => {
                self.transfers += 1;
                let is_batch = self.command[0] == "rb";
                self.is_ending |= if is_batch { data.starts_with(&[1, 0, 0xFF, 0]) } else { data == [4] };
                let mut data = data.to_vec();
                if self.damage > 0 && self.transfers.is_multiple_of(self.damage) && data.len() > 20 {
                    data[10] ^= 0x40;
                    self.log.lock().unwrap_or_else(PoisonError::into_inner).push('d');
                }
                // A receiver that has ended takes nothing more.
                let _ = self.child().0.stdin.as_mut().unwrap().write_all(&data);
                Answer::Done
            }
            Bulk::In(2, length) => {
                while let Ok(bytes) = self.child().1.try_recv() {
                    self.pending.extend(bytes);
                }
                match self.pending.len().min(length).min(64) {
                    0 => Answer::Busy,
                    count => Answer::Data(self.pending.drain(..count).collect()),
                }
            }
            Bulk::In(3, _) => Answer::Busy,
            _ => Answer::Stall,
        };
        self.finish(now, flash);
        answer
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}

/// A unit whose bootloader receives with this command into `folder`.
fn unit(command: &'static [&'static str], folder: &Path, damage: usize, log: &Arc<Mutex<String>>) -> VendorUnit {
    let (folder, log) = (folder.to_owned(), log.clone());
    let loader = Box::new(move || -> Box<dyn Loader> {
        let (folder, line, log) = (folder.clone(), acm::SerialLine::default(), log.clone());
        let (child, pending) = (None, Vec::new());
        Box::new(Receiving {
            command,
            folder,
            child,
            pending,
            line,
            damage,
            transfers: 0,
            is_ending: false,
            leaves_at: None,
            log,
        })
    });
    knot::unit(loader)
}

/// Updates a unit with a ready dialect; its memory must hold the image.
fn transfers(protocol: &str, command: &'static [&'static str], len: usize, damage: usize) {
    let received = tempfile::tempdir().unwrap();
    let log = Arc::default();
    let bench = Bench::of(vec![(Box::new(unit(command, received.path(), damage, &log)), Vec::new())]);
    let sheets = bench.folder.path().join("sheets");
    fs::create_dir(&sheets).unwrap();
    let dialect = sheets.join(format!("{protocol}.dialect.toml"));
    bench.run(&["dialect", "new", "--protocol", protocol, "--out", dialect.to_str().unwrap()]).expect(0, &[]);
    bench.file("sheets/knot.toml", knot::SHEET.replace("NAME", protocol).as_bytes());
    let image = knot::application(len, 0x0110);
    let file = bench.file("knot-1.1.0.bin", &image);
    let mut command = bench.command();
    command.env("VAKA_SHEETS", &sheets).arg("update").arg(&file);
    let ended = support::Running::start(command.args(["--variant", "k1", "--wait", "10s"])).end();
    ended.expect(0, &["accepted", "confirmed"]);
    assert!(knot::holds(&bench, &image), "{protocol}, {len} bytes");
    assert_eq!(bench.condition("1-1"), Condition::Application);
    let damaged = log.lock().unwrap().len();
    assert!(damage == 0 || damaged > 0, "{protocol}: no block was damaged");
}

#[test]
fn ready_dialects_send_to_another_program() {
    if !program::is_there("rx") {
        return;
    }
    let sum: &[&str] = &["rx", "received.bin"];
    let crc: &[&str] = &["rx", "-c", "received.bin"];
    let batch: &[&str] = &["rb"];
    // A receiver waits for seconds where something is damaged, so all run at once.
    let cases = [
        ("xmodem", sum, 1500, 0),
        ("xmodem", sum, 4096, 5),
        ("xmodem-crc", crc, 5000, 0),
        ("xmodem-crc", crc, 5000, 4),
        // More than 256 blocks: their number begins again at 0.
        ("xmodem-crc", crc, 40_000, 0),
        ("xmodem-1k", crc, 20_001, 0),
        ("xmodem-1k", crc, 20_001, 3),
        ("ymodem", batch, 20_001, 0),
        ("ymodem", batch, 1024, 0),
        ("ymodem", batch, 20_001, 4),
    ];
    std::thread::scope(|scope| {
        for (protocol, command, len, damage) in cases {
            scope.spawn(move || transfers(protocol, command, len, damage));
        }
    });
}
