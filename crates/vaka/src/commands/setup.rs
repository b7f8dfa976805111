//! `vaka setup`: system integration.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use serde_json::Value;
use vaka_base::text;
use vaka_core::event::ExitCode;
use vaka_core::sheet::Sheet;

use super::{print_line, print_raw};
use crate::args::{Common, SetupCommand};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::environment;
use crate::files;
use crate::help;
use vaka_messages::CommandError;

pub fn run(command: &SetupCommand, common: &Common) -> Outcome {
    match command {
        SetupCommand::Rules { out, replace } => {
            let sheets = environment::sheets(common)?;
            if sheets.is_empty() {
                return Err(CommandError::NoSheetsForRules.into());
            }
            give(
                &rules(&sheets),
                out.as_deref(),
                *replace,
                "As root, copy it to /etc/udev/rules.d, run 'udevadm control --reload' and replug the units.",
            )
        }
        SetupCommand::Completions { shell, out, replace } => {
            let mut text = Vec::new();
            let shells = clap_complete::env::Shells::builtins();
            let known = shells.completer(&shell.to_string());
            let completer = known.ok_or_else(|| CliError::internal("this shell has no completions"))?;
            // The script runs the program, which knows the units and sheets at that moment.
            let written = completer.write_registration("COMPLETE", "vaka", "vaka", "vaka", &mut text);
            written.map_err(|error| CliError::internal(error.to_string()))?;
            give(
                &String::from_utf8_lossy(&text),
                out.as_deref(),
                *replace,
                "Copy it to the completion folder of your shell.",
            )
        }
        SetupCommand::Events => {
            print_raw(&event_schema().map_err(|error| CliError::internal(error.to_string()))?);
            Ok(ExitCode::Done)
        }
        SetupCommand::Manual { out } => {
            std::fs::create_dir_all(out).map_err(|error| CliError::file(out, error))?;
            clap_mangen::generate_to(help::command_line(), out).map_err(|error| CliError::file(out, error))?;
            print_line(&format!(
                "{}: manual pages written; 'man -l {}/vaka.1' shows the first.",
                out.display(),
                out.display()
            ));
            Ok(ExitCode::Done)
        }
    }
}

/// The JSON Schema of all events: those of the work on units and those of results.
fn event_schema() -> serde_json::Result<String> {
    let mut all: Value = serde_json::from_str(vaka_core::schema::EVENTS)?;
    let mut results: Value = serde_json::from_str(RESULTS)?;
    if let (Some(all), Some(results)) = (all["oneOf"].as_array_mut(), results["oneOf"].as_array_mut()) {
        all.append(results);
    }
    serde_json::to_string_pretty(&all)
}

/// The JSON Schema of the events that this program adds.
const RESULTS: &str = include_str!("../../../../docs/formats/results.schema.json");

fn give(text: &str, out: Option<&Path>, replace: bool, next: &str) -> Outcome {
    match out {
        None => print_raw(text),
        Some(path) => {
            files::store(path, replace, &[text.as_bytes()])?;
            print_line(&format!("{}: written. {next}", path.display()));
        }
    }
    Ok(ExitCode::Done)
}

/// Rules for the serial ports of a unit: access as for the unit, and ModemManager leaves them alone.
/// Source: ModemManager's documentation of its udev tags.
fn port_rules(vendor: &str, product: &str) -> String {
    let ids =
        |attributes: &str| format!("{attributes}{{idVendor}}==\"{vendor}\", {attributes}{{idProduct}}==\"{product}\"");
    format!(
        "SUBSYSTEM==\"tty\", {}, MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\"\nSUBSYSTEM==\"usb\", {}, ENV{{ID_MM_DEVICE_IGNORE}}=\"1\"\n",
        ids("ATTRS"),
        ids("ATTR")
    )
}

/// udev rules for the units of these sheets only: they grant access to the user at the machine
/// and to the group plugdev. Source: udev(7).
pub fn rules(sheets: &[Sheet]) -> String {
    let mut lines: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut with_port: BTreeSet<String> = BTreeSet::new();
    for sheet in sheets {
        for (ids, what) in environment::all_ids(sheet) {
            let programmer = sheet.programmers.iter().find(|programmer| programmer.id == *ids);
            let has_port =
                programmer.map_or_else(|| sheet.has_serial_port(), |programmer| programmer.has_serial_port());
            for pattern in environment::patterns(ids) {
                with_port.extend(has_port.then(|| pattern.clone()));
                let names = lines.entry(pattern).or_default();
                let name = text::visible(&format!("{}, {what}", sheet.product.name));
                if !names.contains(&name) {
                    names.push(name);
                }
            }
        }
    }
    let mut text =
        "# Rules for the units of these product sheets, by 'vaka setup rules'. For /etc/udev/rules.d/70-vaka.rules\n"
            .to_owned();
    for (pattern, names) in lines {
        let (vendor, product) = pattern.split_once(':').unwrap_or((&pattern, "????"));
        text += &format!(
            "\n# {}\nSUBSYSTEM==\"usb\", ATTR{{idVendor}}==\"{vendor}\", ATTR{{idProduct}}==\"{product}\", MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\"\n",
            names.join("; ")
        );
        if with_port.contains(&pattern) {
            text += &port_rules(vendor, product);
        }
    }
    text
}
