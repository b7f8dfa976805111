//! An open unit with its description, and the routes from there to a session: over its DFU
//! interface, its disk or a dialect.

use vaka_core::dfu::Attributes;
use vaka_core::memory::SectorMap;
use vaka_core::plan::DialectCapabilities;
use vaka_core::sheet::{Route, RouteKind, UpdateMedium, Variant, VolumeRoute};
use vaka_core::unit::MemoryChoice;
use vaka_usb::UsbDevice;

use crate::context::Context;
use crate::protocol::dfu::{self, DfuParams};
use crate::protocol::dialect::{self, DialectParams, Interpreter};
use crate::protocol::identity::Identity;
use crate::protocol::session::Session;
use crate::protocol::session_error::SessionError;
use crate::protocol::volume::{self, Disk};

/// An open unit.
pub struct Connection {
    /// Descriptors, strings and disk content as read.
    pub identity: Identity,
    /// The transport.
    pub(crate) transport: OpenTransport,
}

/// The transport of an open unit.
pub(crate) enum OpenTransport {
    /// The USB device.
    Device(Box<dyn UsbDevice>),
    /// The disk.
    Disk(Box<dyn Disk>),
    /// A dialect in which the unit replied.
    Dialect(Box<Interpreter>),
    /// None: the user has no rights to the USB device, but to a serial port of the system, which is not
    /// opened just to identify the unit.
    Listed,
}

/// A connection with the route that uses it. Route and connection match by construction: only
/// [`Connection::by_route`] and [`Connection::by_only_memory`] create one.
pub struct RoutedConnection(Routed);

enum Routed {
    Dfu { device: Box<dyn UsbDevice>, params: DfuParams },
    Volume { disk: Box<dyn Disk>, route: VolumeRoute, can_read: bool },
    Dialect { talk: Box<Interpreter>, params: Box<DialectParams> },
}

impl Connection {
    /// Selects a route of this variant; `None` if the unit lacks the interface that the route
    /// requires.
    pub fn by_route(self, route: &Route, variant: Option<&Variant>) -> Option<RoutedConnection> {
        let Self { identity, transport } = self;
        let routed = match (&route.kind, transport) {
            (RouteKind::Dialect(dialect), OpenTransport::Dialect(talk)) if talk.dialect() == &dialect.dialect => {
                let params = DialectParams::of(&talk, route, variant).map(Box::new)?;
                Routed::Dialect { talk, params }
            }
            (RouteKind::Volume(volume), OpenTransport::Disk(disk)) => {
                let can_read = shows_application(&identity, volume);
                Routed::Volume { disk, route: volume.clone(), can_read }
            }
            (RouteKind::Dfu { .. } | RouteKind::PlainDfu { .. }, OpenTransport::Device(device)) => {
                Routed::Dfu { device, params: identity.params(route)? }
            }
            _ => return None,
        };
        Some(RoutedConnection(routed))
    }

    /// Selects the only memory that matches, for a unit without a sheet; `None` if none or
    /// several match.
    pub fn by_only_memory(self, choice: &MemoryChoice) -> Option<RoutedConnection> {
        let params = self.identity.only_params(choice)?;
        let OpenTransport::Device(device) = self.transport else { return None };
        Some(RoutedConnection(Routed::Dfu { device, params }))
    }
}

/// Whether a disk shows the installed application.
fn shows_application(identity: &Identity, route: &VolumeRoute) -> bool {
    match (&route.takes, &route.application_file) {
        (_, None) => false,
        // The file exists only if an application is installed.
        (UpdateMedium::File(_), Some(_)) => true,
        (UpdateMedium::Uf2 { .. }, Some(name)) => {
            identity.facts.volume.as_ref().is_some_and(|disk| disk.file(name).is_some())
        }
    }
}

impl RoutedConnection {
    /// The sectors that the unit reports.
    pub fn sectors(&self) -> Option<&SectorMap> {
        match &self.0 {
            Routed::Dfu { params, .. } => params.sectors.as_ref(),
            Routed::Volume { .. } | Routed::Dialect { .. } => None,
        }
    }

    /// The capabilities of the dialect.
    pub fn offer(&self) -> Option<DialectCapabilities> {
        match &self.0 {
            Routed::Dialect { params, .. } => Some(params.offer),
            Routed::Dfu { .. } | Routed::Volume { .. } => None,
        }
    }

    /// Maximum size of a block in bytes.
    pub fn block_size(&self) -> u32 {
        match &self.0 {
            Routed::Dfu { params, .. } => u32::from(params.block_size),
            Routed::Volume { route, .. } => volume::chunk(route),
            Routed::Dialect { params, .. } => params.chunk,
        }
    }

    /// Attributes of the functional descriptor.
    pub fn attributes(&self) -> Option<Attributes> {
        match &self.0 {
            Routed::Dfu { params, .. } => Some(params.attributes),
            Routed::Volume { .. } | Routed::Dialect { .. } => None,
        }
    }

    /// Whether the content of the unit can be read.
    pub fn can_read(&self) -> bool {
        match &self.0 {
            Routed::Dfu { params, .. } => params.attributes.can_upload(),
            Routed::Volume { can_read, .. } => *can_read,
            Routed::Dialect { params, .. } => params.can_read,
        }
    }

    /// The device and its DFU interface, if that is the route.
    pub(crate) fn into_dfu(self) -> Option<(Box<dyn UsbDevice>, DfuParams)> {
        match self.0 {
            Routed::Dfu { device, params } => Some((device, params)),
            Routed::Volume { .. } | Routed::Dialect { .. } => None,
        }
    }

    /// Opens the session.
    ///
    /// # Errors
    /// The unit cannot be worked with that way.
    pub fn open(self, cx: &mut Context<'_>) -> Result<Box<dyn Session>, SessionError> {
        match self.0 {
            Routed::Dfu { device, params } => dfu::open(device, params, cx),
            Routed::Volume { disk, route, .. } => Ok(volume::session(disk, &route)),
            Routed::Dialect { talk, params } => dialect::session(*talk, *params, cx),
        }
    }
}
