//! A unit that was opened, with what it says of itself, and the way from there to
//! a session: over its DFU interface or its disk.

use vaka_core::dfu::Attributes;
use vaka_core::memory::SectorMap;
use vaka_core::plan::DialectCapabilities;
use vaka_core::sheet::{Route, RouteKind, UpdateMedium, Variant, VolumeRoute};
use vaka_core::unit::MemoryChoice;
use vaka_usb::UsbDevice;

use crate::context::Context;
use crate::protocol::dfu;
use crate::protocol::dialect::{self, Talk};
use crate::protocol::identity::Identity;
use crate::protocol::session::{Session, SessionError};
use crate::protocol::volume::{self, Disk};

/// An open unit.
pub struct Connection {
    /// What it says of itself.
    pub identity: Identity,
    /// What is held of it.
    pub(crate) link: Link,
}

/// What is held of an open unit.
pub(crate) enum Link {
    /// The device.
    Device(Box<dyn UsbDevice>),
    /// Its disk.
    Disk(Box<dyn Disk>),
    /// It is spoken to in a dialect.
    Dialect(Box<Talk>),
}

/// How a session is opened on a unit, and what is known of it before.
#[derive(Clone, Debug)]
pub enum Opening {
    /// Over its DFU interface.
    Dfu(dfu::Opening),
    /// Over its disk.
    Volume(VolumeRoute),
    /// In a dialect.
    Dialect(Box<dialect::Opening>),
}

impl Opening {
    /// The sectors that the unit reports.
    pub fn sectors(&self) -> Option<&SectorMap> {
        match self {
            Self::Dfu(opening) => opening.sectors.as_ref(),
            Self::Volume(_) | Self::Dialect(_) => None,
        }
    }

    /// What its dialect offers.
    pub fn offer(&self) -> Option<DialectCapabilities> {
        match self {
            Self::Dialect(opening) => Some(opening.offer),
            _ => None,
        }
    }

    /// Most bytes in one block.
    pub fn block_size(&self) -> u32 {
        match self {
            Self::Dfu(opening) => u32::from(opening.block_size),
            Self::Volume(route) => volume::chunk(route),
            Self::Dialect(opening) => opening.chunk,
        }
    }

    /// What its functional descriptor says.
    pub fn attributes(&self) -> Option<Attributes> {
        match self {
            Self::Dfu(opening) => Some(opening.attributes),
            Self::Volume(_) | Self::Dialect(_) => None,
        }
    }
}

impl Connection {
    /// How a route is taken on this unit; `None` if it lacks what the route needs.
    pub fn opening(&self, route: &Route, variant: Option<&Variant>) -> Option<Opening> {
        match (&route.kind, &self.link) {
            (RouteKind::Dialect(dialect), Link::Dialect(talk)) if talk.dialect() == &dialect.dialect => {
                dialect::Opening::of(talk, route, variant).map(Box::new).map(Opening::Dialect)
            }
            (RouteKind::Volume(volume), Link::Disk(_)) => Some(Opening::Volume(volume.clone())),
            (RouteKind::Dfu { .. } | RouteKind::PlainDfu { .. }, Link::Device(_)) => {
                self.identity.opening(route).map(Opening::Dfu)
            }
            _ => None,
        }
    }

    /// How to open the only memory that a choice leaves, where no sheet says.
    pub fn only_opening(&self, choice: &MemoryChoice) -> Option<Opening> {
        self.identity.only_opening(choice).map(Opening::Dfu)
    }

    /// Whether the unit can give back what it holds, by this route.
    pub fn can_read(&self, opening: &Opening) -> bool {
        match opening {
            Opening::Dfu(dfu) => dfu.attributes.can_upload(),
            Opening::Dialect(opening) => opening.can_read,
            Opening::Volume(route) => match (&route.takes, &route.present) {
                (_, None) => false,
                // It is there once an application is.
                (UpdateMedium::File(_), Some(_)) => true,
                (UpdateMedium::Uf2 { .. }, Some(name)) => {
                    self.identity.facts.volume.as_ref().is_some_and(|disk| disk.file(name).is_some())
                }
            },
        }
    }

    /// Opens the session.
    ///
    /// # Errors
    /// The unit cannot be worked with that way.
    pub fn open(self, opening: Opening, cx: &mut Context<'_>) -> Result<Box<dyn Session>, SessionError> {
        match (opening, self.link) {
            (Opening::Dfu(opening), Link::Device(device)) => dfu::open(device, opening, cx),
            (Opening::Volume(route), Link::Disk(disk)) => Ok(volume::session(disk, &route)),
            (Opening::Dialect(opening), Link::Dialect(talk)) => dialect::session(*talk, *opening, cx),
            _ => Err(SessionError::Misbehaved("it has not what the route needs".into())),
        }
    }
}
