//! The ids of all consents.

/// Installs an older version than the unit has.
pub const OLDER_VERSION: &str = "older-version";
/// Installs a release that is not for updates from the unit's version.
pub const SKIPPED_VERSION: &str = "skipped-version";
/// Updates a unit that no product sheet describes.
pub const NO_SHEET: &str = "no-sheet";
/// Writes a file without a UF2 family to a disk that requires one.
pub const NO_FAMILY: &str = "no-family";
/// Uses a DFU file without its suffix.
pub const NO_SUFFIX: &str = "no-suffix";
/// Uses a DFU file whose suffix names another release of the unit.
pub const OTHER_RELEASE: &str = "other-release";
/// Updates a unit that reports more memory than its variant has.
pub const LARGER_MEMORY: &str = "larger-memory";
/// Uses a file whose name ends otherwise than expected.
pub const OTHER_ENDING: &str = "other-ending";
/// Updates a unit whose table of regions could not be read.
pub const UNREAD_TABLE: &str = "unread-table";
/// Installs a table that moves regions without their content.
pub const MOVED_REGIONS: &str = "moved-regions";
/// Erases everything on a unit without a product sheet.
pub const LOSE_EVERYTHING: &str = "lose-everything";
/// Erases flash that is in no region of the product sheet.
pub const LOSE_UNNAMED: &str = "lose-unnamed";
/// Erases content beside the image that cannot be read and preserved.
pub const LOSE_REST: &str = "lose-rest-of-sectors";
/// Lifts a read protection, which erases the unit.
pub const UNPROTECT: &str = "unprotect";
/// Installs a release without a signature.
pub const UNSIGNED: &str = "unsigned";
/// Installs a release that its publisher has withdrawn.
pub const WITHDRAWN_RELEASE: &str = "withdrawn-release";
/// Installs a release after its last day.
pub const EXPIRED_RELEASE: &str = "expired-release";

/// Sends exchanges of a dialect that may erase or write.
pub const CHANGE_UNIT: &str = "change-unit";

/// Each id with the risk that it accepts. Ids in capitals stand for names of regions, losses of a
/// release, and keys.
pub const CONSENTS: [(&str, &str); 20] = [
    (OLDER_VERSION, "install an older version than the unit has"),
    (SKIPPED_VERSION, "install a release that is not for updates from the unit's version"),
    (NO_SHEET, "update a unit that no product sheet describes"),
    (NO_FAMILY, "write a file that names no UF2 family"),
    (NO_SUFFIX, "use a .dfu file without its suffix, which may be truncated"),
    (OTHER_RELEASE, "use a .dfu file that names another release of the unit"),
    (LARGER_MEMORY, "update a unit that reports more memory than its variant has"),
    (OTHER_ENDING, "use a file whose name ends otherwise than the sheet expects"),
    (UNREAD_TABLE, "update a unit whose table of regions could not be read"),
    (MOVED_REGIONS, "install a table that moves regions without their content"),
    ("lose-NAME", "lose this region, or what the release states under this name"),
    (LOSE_UNNAMED, "lose flash that is in no region of the product sheet"),
    (LOSE_REST, "lose the content beside the image, which cannot be read"),
    (LOSE_EVERYTHING, "lose everything on a unit without a product sheet"),
    (UNPROTECT, "lift the read protection, which erases the unit"),
    (UNSIGNED, "install a release without a signature"),
    (WITHDRAWN_RELEASE, "install a release that its publisher has withdrawn"),
    (EXPIRED_RELEASE, "install a release after the last day that it states"),
    (CHANGE_UNIT, "send exchanges of a dialect that may erase or write"),
    ("signer-KEY", "install a release signed with this unknown key"),
];
