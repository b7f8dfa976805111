//! `vaka keys`: signing keys and trusted keys.

use serde_json::json;
use vaka_core::event::ExitCode;

use super::{print_line, print_raw, print_result};
use crate::args::{KeysCommand, OutputFormat};
use crate::cli_error::Outcome;
use crate::keyring;

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
        KeysCommand::List => list(format),
        KeysCommand::Show { name } => print_raw(&keyring::public(name)?),
        KeysCommand::Trust { file, products, name } => {
            let trusted = keyring::trust(file, name.as_deref(), products)?;
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
        KeysCommand::Distrust { name } => {
            keyring::revoke_trust(name)?;
            let event = json!({ "event": "key", "state": "distrusted", "name": name });
            print_result(format, &event, || print_line(&format!("Removed the trust in key '{name}'.")));
        }
    }
    Ok(ExitCode::Done)
}

fn list(format: OutputFormat) {
    let all = keyring::all();
    for key in &all {
        let state = if key.is_own() { "own" } else { "trusted" };
        let mut event = json!({ "event": "key", "state": state, "name": key.name, "key": key.key.to_string() });
        if let Some(products) = &key.products {
            event["products"] = json!(products);
        }
        print_result(format, &event, || {
            let word = match &key.products {
                None => "own key, trusted for all products".to_owned(),
                Some(products) if products.is_empty() => "trusted for no product".to_owned(),
                Some(products) => format!("trusted for {}", products.join(", ")),
            };
            print_line(&format!("{}  {:<20} {word}", key.key, key.name));
        });
    }
    if all.is_empty() && format == OutputFormat::Text {
        print_line(
            "No keys. 'vaka keys new NAME' creates one; 'vaka keys trust FILE --for PRODUCT' trusts a publisher's key.",
        );
    }
}
