//! `vaka keys`: signing keys and trusted keys.

use serde_json::json;
use vaka_core::event::ExitCode;
use vaka_core::release::signature::{PrivateKey, PublicKey};
use vaka_core::release::statement::{Said, WrittenStatement};

use super::{print_line, print_raw, print_result};
use crate::args::{KeysCommand, OutputFormat, StatementArgs};
use crate::cli_error::{CliError, Outcome};
use crate::files;
use crate::keyring::{self, TrustedKey};

pub fn run(command: &KeysCommand, format: OutputFormat) -> Outcome {
    match command {
        KeysCommand::New { name } => {
            let (key, private) = keyring::make(name)?;
            let event =
                json!({ "event": "key", "state": "created", "name": name, "key": key.to_string(), "file": private });
            print_result(format, &event, || {
                print_line(&format!("Key '{name}' ({key}) created. Sign a release with: vaka pack … --key {name}"));
                print_line(&format!("Export its public half for recipients: vaka keys show {name} > {name}.pub.pem"));
                print_line(&format!(
                    "Its private half is {}. Keep a backup that only you can read.",
                    private.display()
                ));
            });
        }
        KeysCommand::List => list(format)?,
        KeysCommand::Show { name } => print_raw(&keyring::public(name)?),
        KeysCommand::Trust { file, products, name, until } => {
            let until = until.map(|day| day.to_string());
            let trusted = keyring::trust(file, name.as_deref(), products, until.as_deref())?;
            let products = trusted.products.clone().unwrap_or_default();
            let event = json!({ "event": "key", "state": "trusted", "name": trusted.name, "key": trusted.key.to_string(), "products": products });
            print_result(format, &event, || {
                print_line(&format!(
                    "Key '{}' ({}) is now trusted for releases of {}.",
                    trusted.name,
                    trusted.key,
                    products.join(", ")
                ));
                print_line("Confirm these digits with the owner over another channel.");
            });
        }
        KeysCommand::Revoke { name, key, statement } => {
            let signer = keyring::private(name)?;
            let about = key.as_deref().map_or(Ok(signer.public()), keyring::public_in)?;
            let written = sign(&about, &Said::Revoked, &signer, &statement.why)?;
            store(name, &written, statement, format)?;
        }
        KeysCommand::Replace { name, by, statement } => {
            let signer = keyring::private(name)?;
            let said = Said::ReplacedBy(keyring::public_in(by)?);
            let written = sign(&signer.public(), &said, &signer, &statement.why)?;
            store(name, &written, statement, format)?;
        }
        KeysCommand::Distrust { name } => {
            keyring::revoke_trust(name)?;
            let event = json!({ "event": "key", "state": "distrusted", "name": name });
            print_result(format, &event, || print_line(&format!("Removed the trust in key '{name}'.")));
        }
    }
    Ok(ExitCode::Done)
}

/// The purpose of a key, in words.
fn purpose(key: &TrustedKey) -> String {
    if let Some(said) = &key.revoked {
        return format!("REVOKED since {}: {}", said.date, said.why);
    }
    let until = key
        .until
        .as_ref()
        .map(|until| if key.is_valid() { format!(", until {until}") } else { format!(", EXPIRED after {until}") });
    let purpose = match &key.products {
        None => "own key, trusted for all products".to_owned(),
        Some(products) if products.is_empty() => "trusted for no product".to_owned(),
        Some(products) => format!("trusted for {}", products.join(", ")),
    };
    purpose + &until.unwrap_or_default()
}

/// Signs a statement of today.
fn sign(about: &PublicKey, said: &Said, signer: &PrivateKey, why: &str) -> Result<WrittenStatement, CliError> {
    let written = WrittenStatement::sign(about, said, &keyring::today(), why, signer);
    written.verify().map_err(|error| CliError::usage(format!("The statement is not valid: {error}.")))?;
    Ok(written)
}

/// Writes a statement to a file.
fn store(name: &str, written: &WrittenStatement, args: &StatementArgs, format: OutputFormat) -> Result<(), CliError> {
    let text = serde_json::to_string_pretty(written).map_err(|error| CliError::internal(error.to_string()))?;
    files::store_new(&args.out, &(text + "\n"))?;
    let about = PublicKey::from_hex(&written.about).map(|key| key.to_string()).unwrap_or_default();
    let state = if written.replaced_by.is_none() { "revoked" } else { "replaced" };
    let event = json!({ "event": "key", "state": state, "name": name, "key": about, "file": args.out });
    print_result(format, &event, || {
        print_line(&format!("{}: states that key {about} is {state}.", args.out.display()));
        print_line("Name the file in 'keys' of the next release descriptions; 'vaka help release' explains it.");
    });
    Ok(())
}

fn list(format: OutputFormat) -> Result<(), CliError> {
    let all = keyring::all()?;
    for key in &all {
        let state = match (&key.revoked, key.is_own()) {
            (Some(_), _) => "revoked",
            (None, true) => "own",
            (None, false) => "trusted",
        };
        let mut event = json!({ "event": "key", "state": state, "name": key.name, "key": key.key.to_string() });
        if let Some(products) = &key.products {
            event["products"] = json!(products);
        }
        if let Some(until) = &key.until {
            event["until"] = json!(until);
        }
        print_result(format, &event, || {
            let word = purpose(key);
            print_line(&format!("{}  {:<20} {word}", key.key, key.name));
        });
    }
    if all.is_empty() && format == OutputFormat::Text {
        print_line(
            "No keys. 'vaka keys new NAME' creates one; 'vaka keys trust FILE --for PRODUCT' trusts a publisher's key.",
        );
    }
    Ok(())
}
