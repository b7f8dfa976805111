//! Tells the program its origin: the commit and the target.
//!
//! Only release builds name the commit, since a debug build would otherwise be compiled again for each commit.

use std::path::Path;
use std::process::Command;

fn main() {
    let target = std::env::var("TARGET").unwrap_or_default();
    let is_release = std::env::var("PROFILE").is_ok_and(|profile| profile == "release");
    let commit = if is_release { commit() } else { "debug build".to_owned() };
    println!("cargo::rustc-env=VAKA_BUILD={commit}, {target}");
    println!("cargo::rerun-if-changed=build.rs");
}

/// The commit of this source, with a mark if it was changed since.
fn commit() -> String {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let git = |args: &[&str]| {
        let output =
            Command::new("git").arg("-C").arg(&root).args(args).output().ok().filter(|out| out.status.success());
        output.map(|output| String::from_utf8_lossy(&output.stdout).trim().to_owned())
    };
    // Source that was copied into another repository has not its commit.
    let is_own = git(&["rev-parse", "--show-toplevel"])
        .is_some_and(|top| Path::new(&top).canonicalize().ok() == root.canonicalize().ok());
    let described = git(&["describe", "--always", "--exclude=*", "--abbrev=12", "--dirty= with changes"]);
    let Some(commit) = described.filter(|_| is_own) else { return "no commit".to_owned() };
    for file in ["HEAD", "logs/HEAD", "index"] {
        if let Some(path) = git(&["rev-parse", "--git-path", file]) {
            println!("cargo::rerun-if-changed={}", root.join(path).display());
        }
    }
    for path in ["crates", "docs", "demo", "Cargo.toml", "Cargo.lock"] {
        println!("cargo::rerun-if-changed={}", root.join(path).display());
    }
    format!("commit {commit}")
}
