//! Links, pipes and open folders that other users of the machine may have prepared; and the modes
//! of the files that this program writes.

#![allow(clippy::unwrap_used)] // a panic in a test is its message
#![cfg(unix)]

mod support;

use std::fs;
use std::os::unix::fs::{FileTypeExt, MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Command, Stdio};

use support::{Bench, Ended, Running, firmware, program};

fn mode(path: impl AsRef<Path>) -> u32 {
    fs::metadata(path).unwrap().mode() & 0o7777
}

fn set_mode(path: impl AsRef<Path>, mode: u32) {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
}

/// The lock file of the first unit of a bench, for a runtime folder.
fn lock_name(bench: &Bench) -> String {
    let location = format!("{}/1-1", bench.bus());
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '-' | '.') { c } else { '_' };
    format!("{}.lock", location.chars().map(plain).collect::<String>())
}

/// Reads the settings of the bench's Tern, with this runtime folder.
fn read(bench: &Bench, runtime: &Path, out: &str) -> Ended {
    let mut command = bench.command();
    command.env("XDG_RUNTIME_DIR", runtime).env("TMPDIR", bench.folder.path().join("tmp"));
    Running::start(command.args(["read", out, "--variant", "r1", "--region", "settings", "--replace"])).end()
}

#[test]
fn a_prepared_lock_file_is_neither_followed_nor_truncated() {
    let bench = Bench::tern_r1();
    let runtime = bench.folder.path().join("runtime");
    let locks = runtime.join("vaka");
    fs::create_dir(&runtime).unwrap();
    set_mode(&runtime, 0o700);
    fs::create_dir(&locks).unwrap();
    let lock = locks.join(lock_name(&bench));
    let victim = bench.file("victim", b"what the user wants to keep");
    type Prepare<'a> = (&'a str, &'a dyn Fn());
    let prepared: [Prepare<'_>; 4] = [
        ("a link", &|| symlink(&victim, &lock).unwrap()),
        ("a link to a file that does not exist", &|| symlink(bench.folder.path().join("new"), &lock).unwrap()),
        ("a hard link", &|| fs::hard_link(&victim, &lock).unwrap()),
        ("a folder", &|| fs::create_dir(&lock).unwrap()),
    ];
    for (what, prepare) in prepared {
        prepare();
        read(&bench, &runtime, "out.bin").expect(0, &["The unit is not locked (", "lock"]);
        assert_eq!(fs::read(&victim).unwrap(), b"what the user wants to keep", "{what}");
        assert!(!bench.folder.path().join("new").exists(), "{what}");
        if lock.is_dir() { fs::remove_dir(&lock).unwrap() } else { fs::remove_file(&lock).unwrap() }
    }
    assert!(Command::new("mkfifo").arg(&lock).status().unwrap().success());
    read(&bench, &runtime, "out.bin").expect(0, &["is not locked", "not a regular file"]);
    fs::remove_file(&lock).unwrap();

    // Once it is gone, the unit is locked, and one user is told once what that excludes.
    read(&bench, &runtime, "out.bin").expect(0, &["Other users of this machine are not kept from this unit"]);
    let second = read(&bench, &runtime, "out.bin");
    assert!(!second.stderr.contains("Other users"), "{}", second.stderr);
    assert_eq!((mode(&lock), mode(&locks)), (0o600, 0o700));
}

#[test]
fn a_runtime_folder_that_is_not_safe_is_not_used() {
    let bench = Bench::tern_r1();
    let tmp = bench.folder.path().join("tmp");
    fs::create_dir(&tmp).unwrap();
    let runtime = bench.folder.path().join("runtime");
    fs::create_dir(&runtime).unwrap();
    set_mode(&runtime, 0o777);
    read(&bench, &runtime, "out.bin").expect(0, &[]);
    assert!(!runtime.join("vaka").exists());

    // A folder of this user under the temporary one serves; a link to one does not.
    let user = fs::metadata(&tmp).unwrap().uid();
    let own = tmp.join(format!("vaka-locks-{user}"));
    if !Path::new(&format!("/run/user/{user}")).is_dir() {
        assert!(own.join(lock_name(&bench)).is_file());
        let elsewhere = bench.folder.path().join("elsewhere");
        fs::rename(&own, &elsewhere).unwrap();
        symlink(&elsewhere, &own).unwrap();
        read(&bench, &runtime, "out.bin").expect(0, &["The unit is not locked (", "not a directory"]);
    }
}

#[test]
fn an_unlocked_unit_is_a_warning_in_json_too() {
    let bench = Bench::tern_r1();
    let runtime = bench.folder.path().join("runtime");
    fs::create_dir_all(runtime.join("vaka").join(lock_name(&bench))).unwrap();
    set_mode(&runtime, 0o700);
    let mut command = bench.command();
    command.env("XDG_RUNTIME_DIR", &runtime).args([
        "read",
        "out.bin",
        "--variant",
        "r1",
        "--region",
        "settings",
        "--format",
        "json",
    ]);
    let ended = Running::start(&mut command).end();
    let warned = ended.expect(0, &[]).events().iter().any(|event| {
        event["event"] == "warning" && event["text"].as_str().is_some_and(|text| text.contains("is not locked"))
    });
    assert!(warned, "{}", ended.stdout);
}

/// Runs a command line in a folder with a umask.
fn with_umask(umask: &str, bench: &Bench, line: &str) -> Ended {
    let program = bench.command();
    let mut shell = Command::new("sh");
    for (name, value) in program.get_envs() {
        value.map(|value| shell.env(name, value));
    }
    let command = format!("umask {umask}; exec '{}' {line}", env!("CARGO_BIN_EXE_vaka"));
    Running::start(shell.args(["-c", &command]).current_dir(bench.folder.path())).end()
}

#[test]
fn written_files_have_the_mode_that_the_user_chose() {
    let bench = Bench::tern_r1();
    let folder = bench.folder.path();
    fs::copy(firmware("tern-r1-1.5.0.hex"), folder.join("in.hex")).unwrap();
    for (umask, expected) in [("022", 0o644), ("077", 0o600), ("007", 0o660)] {
        for (out, line) in [
            ("a.bin", "convert in.hex a.bin"),
            ("b.bin", "read b.bin --variant r1 --region settings"),
            ("c.csv", "journal --csv c.csv"),
            ("d.toml", "dialect new --carrier pipes --out d.toml"),
        ] {
            with_umask(umask, &bench, line).expect(0, &[]);
            assert_eq!(mode(folder.join(out)), expected, "umask {umask}: {line}");
            fs::remove_file(folder.join(out)).unwrap();
        }
    }
    // A new file has the mode of the one that it replaces, without set-user-id.
    for (before, after) in [(0o640, 0o640), (0o604, 0o604), (0o4755, 0o755)] {
        fs::write(folder.join("a.bin"), b"old").unwrap();
        set_mode(folder.join("a.bin"), before);
        with_umask("077", &bench, "convert in.hex a.bin --replace").expect(0, &[]);
        assert_eq!(mode(folder.join("a.bin")), after);
    }
}

#[test]
fn what_is_recorded_is_for_its_user_only() {
    let bench = Bench::tern_r1();
    let state = bench.folder.path().join("vaka");
    set_mode(&state, 0o755);
    let image = firmware("tern-r1-1.5.0.hex");
    let line = format!("update '{}' --variant r1 --wait 5s --trace trace.jsonl", image.display());
    with_umask("000", &bench, &line).expect(0, &[]);
    with_umask("000", &bench, &format!("check '{}'", image.display())).expect(0, &[]);
    assert_eq!(mode(&state), 0o700);
    for file in ["vaka/journal.jsonl", "vaka/seen", "trace.jsonl"] {
        assert_eq!(mode(bench.folder.path().join(file)), 0o600, "{file}");
    }
    // A journal that is a link to another file is not written.
    let victim = bench.file("victim", b"keep\n");
    let bench = Bench::tern_r1();
    symlink(&victim, bench.folder.path().join("vaka/journal.jsonl")).unwrap();
    let line = format!("update '{}' --variant r1 --wait 5s", image.display());
    with_umask("022", &bench, &line).expect(0, &["The journal cannot be written", "this is a link"]);
    assert_eq!(fs::read(&victim).unwrap(), b"keep\n");
}

#[test]
fn an_output_path_is_written_through_and_stays_what_it_is() {
    let bench = Bench::tern_r1();
    let folder = bench.folder.path();
    fs::copy(firmware("tern-r1-1.5.0.hex"), folder.join("in.hex")).unwrap();
    let expected = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    let run = |line: &str| Running::start(bench.command().args(line.split(' '))).end();

    // A link to a file is kept: its target is replaced if that is wanted.
    fs::create_dir(folder.join("other")).unwrap();
    fs::write(folder.join("other/target.bin"), b"old").unwrap();
    symlink("other/target.bin", folder.join("link.bin")).unwrap();
    run("convert in.hex link.bin").expect(3, &["already exists"]);
    assert_eq!(fs::read(folder.join("other/target.bin")).unwrap(), b"old");
    run("convert in.hex link.bin --replace").expect(0, &[]);
    assert!(fs::symlink_metadata(folder.join("link.bin")).unwrap().is_symlink());
    assert_eq!(fs::read(folder.join("other/target.bin")).unwrap(), expected);

    // A link to nothing creates what it names.
    symlink("other/new.bin", folder.join("new.bin")).unwrap();
    run("convert in.hex new.bin").expect(0, &[]);
    assert!(fs::symlink_metadata(folder.join("new.bin")).unwrap().is_symlink());
    assert_eq!(fs::read(folder.join("other/new.bin")).unwrap(), expected);

    // A device stays one.
    run("convert in.hex /dev/null --to bin").expect(0, &[]);
    assert!(fs::metadata("/dev/null").unwrap().file_type().is_char_device());

    // Through a pipe with a name.
    assert!(Command::new("mkfifo").arg(folder.join("pipe")).status().unwrap().success());
    let reader = Command::new("cat").arg(folder.join("pipe")).stdout(Stdio::piped()).spawn().unwrap();
    run("convert in.hex pipe --to bin").expect(0, &[]);
    assert_eq!(reader.wait_with_output().unwrap().stdout, expected);
    assert!(fs::symlink_metadata(folder.join("pipe")).unwrap().file_type().is_fifo());
}

#[test]
fn standard_output_has_the_content_and_nothing_else() {
    let bench = Bench::tern_r1();
    let folder = bench.folder.path();
    fs::copy(firmware("tern-r1-1.5.0.hex"), folder.join("in.hex")).unwrap();
    let expected = fs::read(firmware("tern-r1-1.5.0.bin")).unwrap();
    for format in [&["--format", "json"][..], &[]] {
        // Into a pipe.
        let mut command = bench.command();
        let piped = command.args(["convert", "in.hex", "/dev/stdout", "--to", "bin"]).args(format).output().unwrap();
        assert_eq!(piped.stdout, expected);
        assert!(String::from_utf8_lossy(&piped.stderr).contains("/dev/stdout"));
        // Into a file, and after what it has.
        let file = fs::File::create(folder.join("all")).unwrap();
        std::io::Write::write_all(&mut &file, b"before").unwrap();
        let mut command = bench.command();
        command
            .args(["read", "/dev/stdout", "--to", "bin", "--variant", "r1", "--region", "settings"])
            .args(format)
            .stdout(file);
        assert!(command.status().unwrap().success());
        let all = fs::read(folder.join("all")).unwrap();
        assert_eq!(all.len(), 6 + 3 * 1024, "the settings of the Tern have 3 KiB");
        assert!(all.starts_with(b"before"));
    }
}

#[test]
fn a_full_device_is_an_error() {
    if !Path::new("/dev/full").exists() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let mut command = program();
    command.current_dir(&folder).arg("convert").arg(firmware("tern-r1-1.5.0.hex")).args(["/dev/full", "--to", "bin"]);
    Running::start(&mut command).end().expect(8, &["/dev/full: ", "No space left"]);
}
