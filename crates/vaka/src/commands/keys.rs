//! `vaka keys`: signing keys and trusted keys.

use vaka_core::event::ExitCode;

use super::print_line;
use crate::args::KeysCommand;
use crate::cli_error::Outcome;
use crate::keyring;

pub fn run(command: &KeysCommand) -> Outcome {
    match command {
        KeysCommand::New { name } => {
            let (key, private) = keyring::make(name)?;
            print_line(&format!("Key '{name}', {key}, signs releases now: vaka pack … --key {name}"));
            print_line(&format!("Its public half, for those who get them: vaka keys show {name} > {name}.pub.pem"));
            print_line(&format!(
                "Its private half is {}. Keep a copy where nobody else can read it.",
                private.display()
            ));
        }
        KeysCommand::List => list(),
        KeysCommand::Show { name } => print_line(keyring::public(name)?.trim_end()),
        KeysCommand::Trust { file, name } => {
            let trusted = keyring::trust(file, name.as_deref())?;
            print_line(&format!("Releases that key '{}', {}, signed are trusted now.", trusted.name, trusted.key));
            print_line("Ask its owner, by another way than the file came, whether those are the digits.");
        }
        KeysCommand::Distrust { name } => {
            keyring::revoke_trust(name)?;
            print_line(&format!("Releases of key '{name}' are not trusted any more."));
        }
    }
    Ok(ExitCode::Done)
}

fn list() {
    let all = keyring::all();
    for key in &all {
        let word = if key.is_own { "own, signs and is trusted" } else { "trusted" };
        print_line(&format!("{}  {:<20} {word}", key.key, key.name));
    }
    if all.is_empty() {
        print_line("No keys. 'vaka keys new NAME' makes one; 'vaka keys trust FILE' trusts somebody's.");
    }
}
