//! Units: one file for each product of the demo world.

pub mod auk;
pub mod dunlin;
pub mod firmware;
pub mod fulmar;
pub mod gannet;
pub mod heron;
pub mod petrel;
mod power;
pub mod skua;
pub mod stick;
pub mod tern;
pub mod vendor_unit;

use std::str::FromStr;
use std::time::Duration;

use crate::flash::Flash;
use crate::usb::{Answer, Bulk, Descriptors, Setup};
use vaka_base::ParseError;

/// What a person does to a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UserAction {
    /// Presses a button and keeps it down.
    Hold(String),
    /// Lets a button go.
    Release(String),
    /// Presses a button and lets it go.
    Tap(String),
    /// Pulls the cable; the power goes with it.
    Pull,
    /// Plugs the cable in.
    Plug,
    /// Takes a lead that carries no data worth the name: from now on every request fails,
    /// those with which a system enumerates a device among them.
    BadCable,
    /// Takes a good one.
    GoodCable,
}

/// Reads `hold SET`, `release SET`, `tap RESET`, `pull`, `plug`, `lead bad` or `lead good`.
impl FromStr for UserAction {
    type Err = ParseError;

    fn from_str(text: &str) -> Result<Self, ParseError> {
        let words: Vec<&str> = text.split_whitespace().collect();
        match words[..] {
            ["hold", button] => Ok(Self::Hold(button.to_uppercase())),
            ["release", button] => Ok(Self::Release(button.to_uppercase())),
            ["tap", button] => Ok(Self::Tap(button.to_uppercase())),
            ["pull"] => Ok(Self::Pull),
            ["plug"] => Ok(Self::Plug),
            ["lead", "bad"] => Ok(Self::BadCable),
            ["lead", "good"] => Ok(Self::GoodCable),
            _ => Err(ParseError::new(format!(
                "'{text}' is nothing a hand can do; it can: hold BUTTON, release BUTTON, tap BUTTON, pull, plug, lead bad, lead good"
            ))),
        }
    }
}

/// What a unit is really doing, whatever it shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Condition {
    /// Not plugged in.
    Unplugged,
    /// On its way from one mode to another.
    Starting,
    /// Its application runs.
    Application,
    /// It is in a boot mode.
    Boot,
    /// It has power and shows nothing: its firmware is damaged. Its boot mode can
    /// still be forced.
    Silent,
    /// It runs something that is not for it, or has lost its bootloader. It
    /// shows nothing and stays so until it is revived.
    Bricked,
}

/// A simulated unit for one unit.
pub trait Unit: Send {
    /// Lets time pass up to `now`.
    fn advance(&mut self, now: Duration);

    /// What it shows on the bus, if anything, with a number that is another
    /// one after each enumeration.
    fn face(&self) -> Option<(u32, &Descriptors)>;

    /// A control transfer that is no standard request.
    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer;

    /// A standard request that the unit answers itself; `None`: its face does.
    fn standard(&mut self, now: Duration, setup: Setup) -> Option<Answer> {
        let _ = (now, setup);
        None
    }

    /// A transfer on a bulk endpoint; asked again while it is busy.
    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        let _ = (now, transfer);
        Answer::Stall
    }

    /// The halt of an endpoint is ended.
    fn clear_halt(&mut self, endpoint: u8) {
        let _ = endpoint;
    }

    /// The sectors of its disk that are stored, if it has one: the truth that no
    /// transfer can bend.
    fn disk(&self) -> &[u8] {
        &[]
    }

    /// The bus is reset.
    fn bus_reset(&mut self, now: Duration);

    /// A person does something.
    fn act(&mut self, now: Duration, action: &UserAction);

    /// Its true memory.
    fn flash(&self) -> &Flash;

    /// Its true memory, to arrange a scene.
    fn flash_mut(&mut self) -> &mut Flash;

    /// What it is really doing.
    fn condition(&self) -> Condition;

    /// Brings a bricked unit back as it left the factory.
    fn revive(&mut self, now: Duration);
}
