//! The source of values that a dialect asks the user for.

use vaka_dialect::Secret;
use vaka_usb::DeviceInfo;

/// Supplies the values that a dialect asks the user for.
pub trait SecretSource: Send + Sync {
    /// The value for a unit.
    ///
    /// # Errors
    /// A sentence: the value was not supplied, or has another form. It does not contain the value.
    fn secret(&self, secret: &Secret, unit: Option<&DeviceInfo>) -> Result<Vec<u8>, String>;
}
