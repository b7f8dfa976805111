//! Access to USB devices: the instructions for a user who lacks it.

use vaka_boot::event::Event;
use vaka_boot::remedy::Remedy;
use vaka_core::sheet::Sheet;

use crate::commands::print_raw;
use crate::commands::setup::rules;

/// Whether an event reports that this user may not use a unit.
pub fn is_missing(event: &Event) -> bool {
    let is_access =
        |remedy: &Remedy| matches!(remedy, Remedy::GrantAccess { .. } | Remedy::GetAccess | Remedy::JoinGroup { .. });
    matches!(event, Event::Error(failure) if failure.remedies.iter().any(is_access))
}

/// The commands that give the user at this machine access to the units of a product. Source: udev(7).
pub fn instructions(sheet: &Sheet) -> String {
    let rules = rules(std::slice::from_ref(sheet));
    let lines: Vec<&str> = rules.lines().filter(|line| !line.is_empty() && !line.starts_with('#')).collect();
    format!(
        "\nThis user may not use the unit yet. Paste these lines into a terminal, unplug the unit, plug it in again, \
         and start this program again:\n\n\
         sudo tee /etc/udev/rules.d/70-{}.rules >/dev/null <<'END'\n{}\nEND\nsudo udevadm control --reload\n",
        sheet.product.id,
        lines.join("\n")
    )
}

/// Prints the instructions, on the systems for which they are.
pub fn print(instructions: &str) {
    if cfg!(target_os = "linux") {
        print_raw(instructions);
    }
}
