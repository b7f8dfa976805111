//! `vaka keys`: who signs, and who is trusted.

use vaka_core::event::ExitCode;

use super::say;
use crate::args::KeysCommand;
use crate::cli_error::Outcome;
use crate::keyring;

pub fn run(command: &KeysCommand) -> Outcome {
    match command {
        KeysCommand::New { name } => {
            let (key, private) = keyring::make(name)?;
            say(&format!("Key '{name}', {key}, signs releases now: vaka pack … --key {name}"));
            say(&format!("Its public half, for those who get them: vaka keys show {name} > {name}.pub.pem"));
            say(&format!("Its private half is {}. Keep a copy where nobody else can read it.", private.display()));
        }
        KeysCommand::List => list(),
        KeysCommand::Show { name } => say(keyring::public(name)?.trim_end()),
        KeysCommand::Trust { file, name } => {
            let trusted = keyring::trust(file, name.as_deref())?;
            say(&format!("Releases that key '{}', {}, signed are trusted now.", trusted.name, trusted.key));
            say("Ask its owner, by another way than the file came, whether those are the digits.");
        }
        KeysCommand::Distrust { name } => {
            keyring::distrust(name)?;
            say(&format!("Releases of key '{name}' are not trusted any more."));
        }
    }
    Ok(ExitCode::Done)
}

fn list() {
    let all = keyring::all();
    for key in &all {
        let word = if key.is_own { "own, signs and is trusted" } else { "trusted" };
        say(&format!("{}  {:<20} {word}", key.key, key.name));
    }
    if all.is_empty() {
        say("No keys. 'vaka keys new NAME' makes one; 'vaka keys trust FILE' trusts somebody's.");
    }
}
