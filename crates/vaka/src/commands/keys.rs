//! `vaka keys`: signing keys and trusted keys.

use vaka_core::event::ExitCode;

use super::{print_line, print_raw};
use crate::args::KeysCommand;
use crate::cli_error::Outcome;
use crate::keyring;

pub fn run(command: &KeysCommand) -> Outcome {
    match command {
        KeysCommand::New { name } => {
            let (key, private) = keyring::make(name)?;
            print_line(&format!("Key '{name}' ({key}) created. Sign a release with: vaka pack … --key {name}"));
            print_line(&format!("Export its public half for recipients: vaka keys show {name} > {name}.pub.pem"));
            print_line(&format!("Its private half is {}. Keep a backup that only you can read.", private.display()));
        }
        KeysCommand::List => list(),
        KeysCommand::Show { name } => print_raw(&keyring::public(name)?),
        KeysCommand::Trust { file, name } => {
            let trusted = keyring::trust(file, name.as_deref())?;
            print_line(&format!("Key '{}' ({}) is now trusted.", trusted.name, trusted.key));
            print_line("Confirm these digits with the owner over another channel.");
        }
        KeysCommand::Distrust { name } => {
            keyring::revoke_trust(name)?;
            print_line(&format!("Key '{name}' is no longer trusted."));
        }
    }
    Ok(ExitCode::Done)
}

fn list() {
    let all = keyring::all();
    for key in &all {
        let word = if key.is_own { "own key, trusted" } else { "trusted" };
        print_line(&format!("{}  {:<20} {word}", key.key, key.name));
    }
    if all.is_empty() {
        print_line("No keys. 'vaka keys new NAME' creates one; 'vaka keys trust FILE' trusts a publisher's key.");
    }
}
