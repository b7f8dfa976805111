//! Units: one file for each product of the demo world.

pub mod auk;
pub mod avocet;
pub mod can_adapter;
pub mod dunlin;
pub mod firmware;
pub mod fulmar;
pub mod gannet;
pub mod heron;
pub mod linnet;
pub mod petrel;
pub mod power;
pub mod skua;
pub mod stick;
pub mod tern;
pub mod turnstone;
pub mod vendor_unit;

use std::str::FromStr;
use std::time::Duration;

use crate::can::CanMember;
use crate::flash::Flash;
use crate::pins::{Pins, Probe, Wiring};
use crate::usb::{Answer, Bulk, Descriptors, Setup};
use vaka_base::ParseError;

/// An action of the user on a unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum UserAction {
    /// Presses a button and holds it.
    Hold(String),
    /// Releases a button.
    Release(String),
    /// Presses and releases a button.
    Tap(String),
    /// Pulls the cable; the power goes with it.
    Pull,
    /// Plugs the cable in.
    Plug,
    /// Uses a cable without working data lines: from now on every request fails, including those
    /// of enumeration.
    BadCable,
    /// Uses a good cable.
    GoodCable,
    /// Wires a programmer to its unit.
    Wire(Wiring),
    /// Carries out a manual step, by its name.
    Do(String),
    /// Undoes a manual step.
    Undo(String),
    /// Carries out a manual step wrongly.
    Slip(String, Slip),
}

/// The effect of a manual step that went wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Slip {
    /// The application starts again.
    Application,
    /// Nothing is on the bus any more.
    Nothing,
    /// Another device is on the port.
    Other,
}

/// Parses `hold SET`, `release SET`, `tap RESET`, `pull`, `plug`, `cable bad`, `cable good`, `wire right`,
/// `wire crossed`, `wire off`, `do STEP`, `undo STEP`, or `slip STEP` with `application`, `nothing` or `other`.
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
            ["cable", "bad"] => Ok(Self::BadCable),
            ["cable", "good"] => Ok(Self::GoodCable),
            ["wire", "right"] => Ok(Self::Wire(Wiring::Right)),
            ["wire", "crossed"] => Ok(Self::Wire(Wiring::Crossed)),
            ["wire", "off"] => Ok(Self::Wire(Wiring::Off)),
            ["do", step] => Ok(Self::Do(step.to_owned())),
            ["undo", step] => Ok(Self::Undo(step.to_owned())),
            ["slip", step, "application"] => Ok(Self::Slip(step.to_owned(), Slip::Application)),
            ["slip", step, "nothing"] => Ok(Self::Slip(step.to_owned(), Slip::Nothing)),
            ["slip", step, "other"] => Ok(Self::Slip(step.to_owned(), Slip::Other)),
            _ => Err(ParseError::new(format!(
                "'{text}' is not an action; the actions are: hold BUTTON, release BUTTON, tap BUTTON, pull, plug, cable bad, cable good, wire right, wire crossed, wire off, do STEP, undo STEP, slip STEP application, slip STEP nothing, slip STEP other"
            ))),
        }
    }
}

/// The true condition of a unit, regardless of what it shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Condition {
    /// Not plugged in.
    Unplugged,
    /// On its way from one mode to another.
    Starting,
    /// The application runs.
    Application,
    /// In a boot mode.
    Boot,
    /// Powered but not on the bus: its firmware is damaged. Its boot mode can still be forced.
    Silent,
    /// It runs firmware that is not for it, or has lost its bootloader. It stays off the bus
    /// until it is revived.
    Bricked,
}

/// A simulated unit for one unit.
pub trait Unit: Send {
    /// Advances time to `now`.
    fn advance(&mut self, now: Duration);

    /// The descriptors on the bus, if any, with a number that changes with every enumeration.
    fn descriptors(&self) -> Option<(u32, &Descriptors)>;

    /// A control transfer other than a standard request.
    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer;

    /// A standard request that the unit answers itself; `None`: its face does.
    fn standard(&mut self, now: Duration, setup: Setup) -> Option<Answer> {
        let _ = (now, setup);
        None
    }

    /// A transfer on a bulk endpoint; repeated while the unit is busy.
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

    /// The names of its manual steps, for `do`, `undo` and `slip`.
    fn manual_steps(&self) -> Vec<String> {
        Vec::new()
    }

    /// The unit as a member of a CAN bus, if it is one.
    fn can(&mut self) -> Option<&mut dyn CanMember> {
        None
    }

    /// The pins of its chip, if a programmer can reach them.
    fn pins(&mut self) -> Option<&mut dyn Pins> {
        None
    }

    /// The unit as a programmer, if it is one.
    fn probe(&mut self) -> Option<&mut dyn Probe> {
        None
    }

    /// The bus is reset.
    fn bus_reset(&mut self, now: Duration);

    /// The user acts on the unit.
    fn act(&mut self, now: Duration, action: &UserAction);

    /// The true memory.
    fn flash(&self) -> &Flash;

    /// The true memory, for preparing a scene.
    fn flash_mut(&mut self) -> &mut Flash;

    /// The true condition.
    fn condition(&self) -> Condition;

    /// Restores a bricked unit to factory state.
    fn revive(&mut self, now: Duration);
}
