//! One Ctrl-C ends every wait within two seconds, or the reason of the delay is said.

use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::time::{Duration, Instant};

use super::bounded::program;
use super::server::{OnRequest, Reply, device, serve};
use super::servers::{TERN, silent_list};
use crate::support::firmware;

/// Time from the signal to the end, or to a reason.
const PROMPT: Duration = Duration::from_secs(2);

/// Starts a command, interrupts it once after a while, and returns the time to its end or to the
/// line that explains the delay.
fn interrupted(server: OnRequest, args: &[&str]) -> Result<Duration, String> {
    let folder = tempfile::tempdir().unwrap();
    let bus = serve(server);
    let mut command = program(folder.path(), &[args, &["--bus", &bus]].concat());
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let (said, lines) = mpsc::channel();
    let err = child.stderr.take().unwrap();
    let reader = std::thread::spawn(move || {
        let lines = std::io::BufRead::lines(std::io::BufReader::new(err)).map_while(Result::ok);
        lines.for_each(|line| drop(said.send(line)));
    });
    std::thread::sleep(Duration::from_millis(700));
    let sent = Instant::now();
    let id = child.id().to_string();
    assert!(Command::new("kill").args(["-INT", &id]).status().unwrap().success());
    let mut all = Vec::new();
    loop {
        match lines.recv_timeout(Duration::from_secs(8).saturating_sub(sent.elapsed())) {
            Ok(line) => {
                let is_reason = line.starts_with("Not stopped yet") || line.contains("Stopping in at most");
                all.push(line);
                if is_reason {
                    break;
                }
            }
            // The streams end with the program.
            Err(mpsc::RecvTimeoutError::Disconnected) => break,
            Err(mpsc::RecvTimeoutError::Timeout) => {
                child.kill().unwrap();
                child.wait().unwrap();
                return Err(format!("neither an end nor a reason: {all:#?}"));
            }
        }
    }
    let time = sent.elapsed();
    child.kill().ok();
    child.wait().unwrap();
    reader.join().unwrap();
    Ok(time)
}

#[test]
fn one_signal_ends_every_wait_or_its_reason_is_said() {
    let image = firmware("tern-r1-1.5.0.hex");
    let image = image.to_str().unwrap();
    let silent_unit = || device(TERN, |_| Reply::Silent);
    let slow_unit = || {
        device(TERN, |_| {
            std::thread::sleep(Duration::from_secs(1));
            Reply::Data(vec![0; 255])
        })
    };
    let update: &[&str] = &["update", image, "--variant", "r1", "--wait", "30s"];
    let line: &[&str] = &["line", image, "--count", "1"];
    let cases: [(&str, OnRequest, &[&str]); 8] = [
        ("survey of a silent server", silent_list(), &["survey"]),
        ("update with a silent server", silent_list(), update),
        ("survey of a silent unit", silent_unit(), &["survey"]),
        ("update of a silent unit", silent_unit(), update),
        ("line with a silent unit", silent_unit(), line),
        ("survey of a slow unit", slow_unit(), &["survey"]),
        ("update of a slow unit", slow_unit(), update),
        ("read of a slow unit", slow_unit(), &["read", "out.bin", "--variant", "r1"]),
    ];
    std::thread::scope(|scope| {
        let running = cases.map(|(name, server, args)| (name, scope.spawn(move || interrupted(server, args))));
        for (name, running) in running {
            let time = running.join().unwrap().unwrap_or_else(|why| panic!("{name}: {why}"));
            assert!(time < PROMPT, "{name}: {time:?}");
        }
    });
}

#[test]
fn work_on_files_ends_at_once() {
    let folder = tempfile::tempdir().unwrap();
    // 60 MB of records, which take seconds to read in a build for tests.
    let record = ":10000000000102030405060708090A0B0C0D0E0F78\n";
    std::fs::write(folder.path().join("big.hex"), record.repeat(1_400_000) + ":00000001FF\n").unwrap();
    let mut child =
        program(folder.path(), &["check", "big.hex"]).stderr(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(300));
    let sent = Instant::now();
    assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    let status = child.wait().unwrap();
    assert_eq!(status.code(), Some(130));
    assert!(sent.elapsed() < PROMPT, "{:?}", sent.elapsed());
}
