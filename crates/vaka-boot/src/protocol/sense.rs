//! Why a SCSI command failed.

use std::fmt;

/// Why a command failed: sense key, ASC, ASCQ. Source: SPC, sense data.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sense(pub u8, pub u8, pub u8);

impl Sense {
    /// A failure without a reason.
    pub(in crate::protocol) const NONE: Self = Self(0, 0, 0);

    /// Parses the fixed format (70h, 71h) and the descriptor format (72h, 73h).
    pub(in crate::protocol) fn parse(bytes: &[u8]) -> Option<Self> {
        match bytes.first()? & 0x7F {
            0x70 | 0x71 => {
                let at = |index: usize| bytes.get(index).copied().unwrap_or(0);
                Some(Self(bytes.get(2)? & 0x0F, at(12), at(13)))
            }
            0x72 | 0x73 => Some(Self(bytes.get(1)? & 0x0F, *bytes.get(2)?, *bytes.get(3)?)),
            _ => None,
        }
    }

    /// The reason in words.
    fn words(self) -> &'static str {
        match self {
            Self(0, ..) => "it failed without a reason",
            Self(2, 0x3A, _) => "no medium: its disk is ejected",
            Self(2, 0x04, 0x03) => "it waits for the user",
            Self(2, ..) => "it is not ready",
            Self(3, 0x0C, _) => "it could not write",
            Self(3, ..) => "it could not read or write its medium",
            Self(4, ..) => "a hardware error of the unit",
            Self(5, 0x20, _) => "it does not support the command",
            Self(5, 0x21, _) => "the address is beyond its end",
            Self(5, 0x53, _) => "removal is prevented",
            Self(5, ..) => "it rejects the command",
            Self(7, 0x27, _) => "it is write-protected",
            _ => "it failed",
        }
    }

    /// The numbers, as data sheets print them.
    pub(in crate::protocol) fn code(self) -> String {
        let Self(key, asc, ascq) = self;
        format!("sense {key:X}/{asc:02X}/{ascq:02X}")
    }
}

impl fmt::Display for Sense {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ({})", self.words(), self.code())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sense_is_read_in_both_formats() {
        let fixed = [0x70, 0, 7, 0, 0, 0, 0, 10, 0, 0, 0, 0, 0x27, 0, 0, 0, 0, 0];
        assert_eq!(Sense::parse(&fixed), Some(Sense(7, 0x27, 0)));
        assert_eq!(Sense::parse(&[0xF2, 0x26, 0x28, 1]), Some(Sense(6, 0x28, 1)));
        assert_eq!(Sense::parse(&fixed[..4]), Some(Sense(7, 0, 0)));
        assert_eq!(Sense::parse(&[0x12]), None);
        assert_eq!(Sense::parse(&[]), None);
        assert_eq!(Sense(7, 0x27, 0).to_string(), "it is write-protected (sense 7/27/00)");
    }
}
