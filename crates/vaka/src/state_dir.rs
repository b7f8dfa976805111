//! The user's state folder, and names in it.

use std::path::PathBuf;

use etcetera::BaseStrategy;

/// This program's part of it; none on a system without one.
pub fn folder() -> Option<PathBuf> {
    Some(etcetera::choose_base_strategy().ok()?.state_dir()?.join("vaka"))
}

/// A portable file name made from the name of a unit or location.
pub fn file_name(of: &str, ending: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || matches!(c, '-' | '.') { c } else { '_' };
    let name: String = of.chars().map(plain).take(200).collect();
    format!("{name}.{ending}")
}
