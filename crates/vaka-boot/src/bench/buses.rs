//! The bench: all units on the given buses.

use std::any::Any;
use std::collections::{BTreeMap, HashMap};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use vaka_base::text;
use vaka_core::sheet::{Route, RouteKind, SerialPortUse, Sheet};
use vaka_core::unit::{DeviceId, Mode, UnitFacts};
use vaka_core::volume::VolumeFacts;
use vaka_dialect::{Carrier, Dialect};
use vaka_usb::system::{self, Access};
use vaka_usb::{Bus, BusError, DeviceInfo, Location, SystemClock, TransferError, UsbDevice};

use crate::bench::candidate::{Candidate, dfu_mode, id_of};
use crate::bench::connection::{Connection, OpenTransport};
use crate::bench::lock::UnitLock;
use crate::bench::node_bus::NodeBus;
use crate::bench::open_error::{OpenError, held};
use crate::bench::programmer_bus::ProgrammerBus;
use crate::bench::selector::Selector;
use crate::bench::serial_access::SerialAccess;
use crate::context::Context;
use crate::failure::Failure;
use crate::protocol::dialect::{self, Reconnect};
use crate::protocol::identity::{self, Identity, is_disk};
use crate::protocol::volume;
use crate::secrets::SecretSource;

/// Buses, and the product sheets that describe their units.
pub struct Bench<'a> {
    buses: Vec<Arc<dyn Bus>>,
    guard: Option<Arc<dyn UnitLock>>,
    sheets: &'a [Sheet],
    /// Known descriptors, by location and enumeration; `None` if they cannot be read. Opening a unit
    /// may reset it, so they are read only once.
    known: Mutex<HashMap<(Location, u32), Option<UnitFacts>>>,
    /// Configured names of locations, by port or by bus and port.
    places: BTreeMap<String, String>,
    secrets: Option<Arc<dyn SecretSource>>,
    /// The unit whose disk may be read without a sheet.
    named_disk: Option<Selector>,
}

impl<'a> Bench<'a> {
    /// A bench of buses.
    pub fn new(buses: Vec<Arc<dyn Bus>>, sheets: &'a [Sheet]) -> Self {
        let (known, places) = (Mutex::default(), BTreeMap::new());
        Self { buses, guard: None, sheets, known, places, secrets: None, named_disk: None }
    }

    /// Sets the locks for units.
    #[must_use]
    pub fn guarded(mut self, guard: Arc<dyn UnitLock>) -> Self {
        self.guard = Some(guard);
        self
    }

    /// Sets the names of locations: name and port, as `survey` prints it.
    #[must_use]
    pub fn with_places(mut self, places: &BTreeMap<String, String>) -> Self {
        self.places = places.iter().map(|(name, port)| (port.clone(), name.clone())).collect();
        self
    }

    /// Sets the source of values that dialects ask the user for.
    #[must_use]
    pub fn with_secrets(mut self, secrets: Arc<dyn SecretSource>) -> Self {
        self.secrets = Some(secrets);
        self
    }

    /// Lets the disk of this unit be read without a sheet: the user named the unit. The disks of other
    /// devices without a sheet are never opened.
    #[must_use]
    pub fn with_named_disk(mut self, unit: Option<Selector>) -> Self {
        self.named_disk = unit;
        self
    }

    /// Whether a device without a sheet has a disk, and is the unit that the user named.
    fn is_named_disk(&self, device: &DeviceInfo) -> bool {
        let Some(selector) = &self.named_disk else { return false };
        let bare = Candidate { device: device.clone(), mode: Mode::Unknown, sheets: Vec::new() };
        let has_disk = device.interfaces.iter().any(|i| is_disk(i.class, i.subclass, i.protocol));
        has_disk && (selector.fits(&bare, device.serial.as_deref()) || self.shows(selector, device))
    }

    /// The source of values that dialects ask the user for.
    pub(crate) fn secrets(&self) -> Option<Arc<dyn SecretSource>> {
        self.secrets.clone()
    }

    /// The configured name of a location.
    pub fn place_name(&self, location: &Location) -> Option<&str> {
        let name = self.places.get(&location.to_string()).or_else(|| self.places.get(&location.port));
        name.map(String::as_str)
    }

    /// Locks a unit against other processes until the value is dropped.
    ///
    /// # Errors
    /// Another process has locked it.
    pub fn hold(&self, location: &Location, cx: &mut Context<'_>) -> Result<Box<dyn Any + Send>, Failure> {
        match &self.guard {
            None => Ok(Box::new(())),
            Some(guard) => {
                let held_by = |by: String| held(&self.place(location), &format!(" ({by})"));
                guard.hold(location, &mut |warning| cx.warn(warning)).map_err(held_by)
            }
        }
    }

    /// The buses.
    pub fn buses(&self) -> &[Arc<dyn Bus>] {
        &self.buses
    }

    /// The sheets.
    pub fn sheets(&self) -> &'a [Sheet] {
        self.sheets
    }

    /// The buses with physical ports. The buses of CAN nodes and of programmer targets are left out: their
    /// ports are those of the adapters and programmers.
    pub(crate) fn plugged(&self) -> Vec<&dyn Bus> {
        self.buses.iter().filter(|bus| !is_behind(bus.name())).map(|bus| &**bus).collect()
    }

    /// A location for display: the port, and the bus if there are several.
    pub fn place(&self, location: &Location) -> String {
        let port = text::sanitize(&location.port);
        match is_behind(&location.bus) || self.plugged().len() == 1 {
            true => port,
            false => format!("{}/{port}", location.bus),
        }
    }

    /// All attached devices.
    ///
    /// # Errors
    /// A bus cannot be used.
    pub fn devices(&self) -> Result<Vec<DeviceInfo>, BusError> {
        let mut devices = Vec::new();
        for bus in &self.buses {
            devices.extend(bus.list()?);
        }
        Ok(devices)
    }

    /// The device as a candidate, if a sheet describes its ids.
    pub fn recognise(&self, device: &DeviceInfo) -> Option<Candidate<'a>> {
        let id = id_of(device);
        let with = |fits: &dyn Fn(&Sheet) -> bool| self.sheets.iter().filter(|sheet| fits(sheet)).collect::<Vec<_>>();
        let booted = with(&|sheet| sheet.variants_with_route(id).next().is_some());
        let running = with(&|sheet| sheet.runs(id));
        let (mode, sheets) = if booted.is_empty() { (Mode::Application, running) } else { (Mode::Update, booted) };
        let found = (!sheets.is_empty()).then(|| Candidate { device: device.clone(), mode, sheets });
        found.map(|candidate| self.told_apart(candidate))
    }

    /// Tells products with the same ids apart by their descriptors.
    fn told_apart(&self, candidate: Candidate<'a>) -> Candidate<'a> {
        if candidate.sheets.len() < 2 || !candidate.has_signs() {
            return candidate;
        }
        let listed = identity::from_list(&candidate.device);
        let candidate = candidate.told_apart(&listed);
        if candidate.sheets.len() < 2 || !self.can_probe(&candidate) {
            return candidate;
        }
        match self.descriptors(&candidate.device) {
            Some(facts) => candidate.told_apart(&facts),
            None => candidate,
        }
    }

    /// A device without a sheet as a candidate, if its interfaces show a DFU mode, or if the user named
    /// it and it has a disk.
    pub fn undescribed(&self, device: &DeviceInfo) -> Option<Candidate<'a>> {
        if self.recognise(device).is_some() {
            return None;
        }
        let mode = dfu_mode(device).or_else(|| self.is_named_disk(device).then_some(Mode::Update))?;
        Some(Candidate { device: device.clone(), mode, sheets: Vec::new() })
    }

    /// Whether a unit can be opened just for inspection. Not if closing resets it and a reset
    /// ends its update mode, and not if a programmer would hold its chip in reset.
    pub fn can_probe(&self, candidate: &Candidate<'_>) -> bool {
        let resets = self.bus(candidate.location()).is_some_and(|bus| bus.resets_on_close());
        let leaves = |sheet: &&Sheet| {
            let routes = sheet.variants.iter().filter_map(|variant| variant.route(candidate.id()));
            let goes_on = |route: &Route| matches!(route.kind, RouteKind::PlainDfu { .. }) || route.listens.is_some();
            routes.into_iter().any(goes_on)
        };
        if matches!(candidate.id(), DeviceId::Target(_)) {
            return false;
        }
        let fragile = candidate.sheets.is_empty() || candidate.sheets.iter().any(leaves);
        !(resets && candidate.mode == Mode::Update && fragile)
    }

    /// The units that match a selector: those with a sheet, and with `undescribed` also those
    /// without one.
    ///
    /// # Errors
    /// A bus cannot be used. A unit that cannot be opened has no serial number.
    pub fn select(&self, selector: Option<&Selector>, undescribed: bool) -> Result<Vec<Candidate<'a>>, BusError> {
        let candidate = |device| self.recognise(device).or_else(|| self.undescribed(device).filter(|_| undescribed));
        let known: Vec<Candidate<'a>> = self.devices()?.iter().filter_map(candidate).collect();
        let Some(selector) = selector else { return Ok(known) };
        let fits = |candidate: &Candidate<'a>| {
            if selector.fits(candidate, None) || self.shows(selector, &candidate.device) {
                return true;
            }
            let looks = selector.wants_serial() && self.can_probe(candidate);
            let serial = looks.then(|| self.serial(&candidate.device)).flatten();
            selector.fits(candidate, serial.as_deref())
        };
        Ok(known.into_iter().filter(fits).collect())
    }

    /// All devices that match a selector.
    ///
    /// # Errors
    /// A bus cannot be used.
    pub fn devices_with(&self, selector: &Selector) -> Result<Vec<DeviceInfo>, BusError> {
        let fits = |device: &DeviceInfo| {
            let bare = || Candidate { device: device.clone(), mode: Mode::Unknown, sheets: Vec::new() };
            let candidate = self.recognise(device).or_else(|| self.undescribed(device)).unwrap_or_else(bare);
            let looks = selector.wants_serial() && self.can_probe(&candidate);
            let serial = looks.then(|| self.serial(device)).flatten();
            selector.fits(&candidate, serial.as_deref()) || self.shows(selector, device)
        };
        Ok(self.devices()?.into_iter().filter(fits).collect())
    }

    /// Whether the system has mounted the disk of a device at the selected folder.
    fn shows(&self, selector: &Selector, device: &DeviceInfo) -> bool {
        let Selector::Folder(wanted) = selector else { return false };
        let wanted = std::fs::canonicalize(wanted).unwrap_or_else(|_| wanted.clone());
        let mounted = self.bus(&device.location).map(|bus| bus.mounted(&device.location.port)).unwrap_or_default();
        mounted.iter().any(|one| one.folder == wanted)
    }

    /// Whether two locations on this bench are one connector.
    pub fn is_same_port(&self, one: &Location, other: &Location) -> bool {
        self.bus(one).is_some_and(|bus| bus.is_same_port(one, other))
    }

    /// The serial number of a device, unless asking for it would end its update mode.
    pub fn serial_if_safe(&self, device: &DeviceInfo) -> Option<String> {
        let bare = || Candidate { device: device.clone(), mode: Mode::Update, sheets: Vec::new() };
        let candidate = self.recognise(device).or_else(|| self.undescribed(device)).unwrap_or_else(bare);
        if self.can_probe(&candidate) { self.serial(device) } else { None }
    }

    /// The serial number of a device, as the system lists it, or as the device reports it; `None` if it
    /// has none or cannot be asked.
    pub(crate) fn serial(&self, device: &DeviceInfo) -> Option<String> {
        identity::from_list(device).serial.or_else(|| self.descriptors(device)?.serial)
    }

    /// The descriptors of a device, as its bus lists it if it cannot be asked. Those of a node would be the
    /// adapter's.
    pub(crate) fn facts(&self, device: &DeviceInfo) -> UnitFacts {
        let listed = || identity::from_list(device);
        match id_of(device) {
            DeviceId::Node(_) => listed(),
            _ => self.identity(&device.location).map_or_else(|_| listed(), |found| found.facts),
        }
    }

    /// The descriptors of a device; `None` if it cannot be asked.
    fn descriptors(&self, device: &DeviceInfo) -> Option<UnitFacts> {
        let key = (device.location.clone(), device.address);
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(facts) = known.get(&key) {
            return facts.clone();
        }
        match self.identity(&device.location) {
            Ok(identity) => known.entry(key).or_insert(Some(identity.facts)).clone(),
            // Another program may use it now; the next attempt may find it free.
            Err(OpenError::Bus(_) | OpenError::Transfer(TransferError::Busy(_))) => None,
            Err(OpenError::Transfer(_) | OpenError::Disk(_) | OpenError::Dialect { .. }) => {
                known.entry(key).or_insert(None).clone()
            }
        }
    }

    /// Opens a unit.
    ///
    /// # Errors
    /// The device is detached or in use, or its bus is not part of this bench.
    pub fn open(&self, location: &Location) -> Result<Box<dyn UsbDevice>, BusError> {
        self.bus(location).ok_or_else(|| BusError::NotFound(location.clone()))?.open(&location.port)
    }

    /// Opens a unit for a dialect, or takes the open unit: through a serial port if the dialect uses one.
    ///
    /// # Errors
    /// As for [`open`](Self::open) and [`SerialAccess::open`].
    pub fn open_for(
        &self,
        device: &DeviceInfo,
        dialect: &Dialect,
        opened: Option<Box<dyn UsbDevice>>,
    ) -> Result<Box<dyn UsbDevice>, BusError> {
        match (self.serial_access(device, dialect), opened) {
            (Some(serial), opened) => self.open_serial(device, serial.interface, opened),
            (None, Some(opened)) => Ok(opened),
            (None, None) => self.open(&device.location),
        }
    }

    /// Opens a unit for its serial port with the data on `interface`, or the first one; or takes the open
    /// unit.
    ///
    /// # Errors
    /// As for [`SerialAccess::open`].
    pub fn open_serial(
        &self,
        device: &DeviceInfo,
        interface: Option<u8>,
        opened: Option<Box<dyn UsbDevice>>,
    ) -> Result<Box<dyn UsbDevice>, BusError> {
        let location = &device.location;
        let bus = self.bus(location).ok_or_else(|| BusError::NotFound(location.clone()))?;
        let serial = SerialAccess { interface, system_only: self.is_system_only(device) };
        serial.open(&**bus, &location.port, opened)
    }

    /// The way to the serial port that a dialect uses on a unit, if it uses one.
    pub fn serial_access(&self, device: &DeviceInfo, dialect: &Dialect) -> Option<SerialAccess> {
        let Carrier::Serial(serial) = &dialect.carrier else { return None };
        Some(SerialAccess { interface: serial.interface, system_only: self.is_system_only(device) })
    }

    /// Whether a unit is spoken to on a serial port, and the system made one that the user may use.
    fn has_usable_port(&self, device: &DeviceInfo) -> bool {
        let known = self.recognise(device);
        let is_spoken_to = known.is_some_and(|known| known.sheets.iter().any(|sheet| sheet.has_serial_port()));
        let Some(bus) = self.bus(&device.location).filter(|_| is_spoken_to) else { return false };
        bus.serial_ports(&device.location.port).iter().any(|port| system::port_access(&port.node) == Access::Granted)
    }

    /// Whether a sheet says that the unit's serial port is that of the system.
    fn is_system_only(&self, device: &DeviceInfo) -> bool {
        let known = self.recognise(device);
        known.is_some_and(|known| known.sheets.iter().any(|sheet| sheet.product.port == SerialPortUse::System))
    }

    /// Announces to other processes that units of these buses are wanted, until the value is
    /// dropped. A process that is only listening releases its port at that point.
    pub fn want(&self) -> Vec<Box<dyn Any + Send>> {
        let guards = self.guard.iter();
        guards.flat_map(|guard| self.buses.iter().map(|bus| guard.want(bus.name()))).collect()
    }

    /// Explains an empty bench when the cause is not simply that no device is attached. A CAN bus, which
    /// is the last one, has a reason only if the user named it: that is what they ask for.
    pub fn empty_reason(&self) -> Option<String> {
        self.buses.iter().rev().find_map(|bus| bus.empty_reason())
    }

    /// The bus that a place is on.
    pub fn bus(&self, location: &Location) -> Option<&Arc<dyn Bus>> {
        self.buses.iter().find(|bus| bus.name() == location.bus)
    }

    /// Opens a unit and reads its description, including its disk if a sheet says that the disk
    /// has information.
    ///
    /// # Errors
    /// The unit cannot be opened or read.
    pub fn look(&self, device: &DeviceInfo, cx: &mut Context<'_>) -> Result<Connection, OpenError> {
        let location = &device.location;
        self.must_be_free(location)?;
        let id = id_of(device);
        let sheets: Vec<&Sheet> = self.sheets.iter().filter(|sheet| sheet.has_disk(id)).collect();
        let bus = self.bus(location).ok_or_else(|| BusError::NotFound(location.clone()))?;
        let reads_disk = !sheets.is_empty() || self.recognise(device).is_none() && self.is_named_disk(device);
        let mounted = if reads_disk { bus.mounted(&location.port) } else { Vec::new() };
        if device.node.is_some() && self.recognise(device).is_none_or(|known| known.mode != Mode::Update) {
            return Ok(Connection { identity: Identity::listed(device), transport: OpenTransport::Listed });
        }
        let opened = match self.dialect_of(device, &identity::from_list(device)) {
            Some(dialect) => self.open_for(device, &dialect, None),
            None => self.open(location),
        };
        if let (true, Some(dialect)) = (device.node.is_some(), self.dialect_of(device, &identity::from_list(device))) {
            return self.look_at_node(device, dialect, opened?, cx);
        }
        // Access to the mount point does not require permission on the USB device.
        let (usb, mut identity) = match opened {
            Err(BusError::PermissionDenied { .. }) if mounted.is_empty() && self.has_usable_port(device) => {
                return Ok(Connection { identity: Identity::listed(device), transport: OpenTransport::Listed });
            }
            Err(BusError::PermissionDenied { .. }) if !mounted.is_empty() => (None, Identity::listed(device)),
            opened => {
                let mut usb = opened?;
                let identity = identity::identify(&mut *usb, cx.clock())?;
                (Some(usb), identity)
            }
        };
        let facts = identity.facts.clone();
        let fits = |volume: &VolumeFacts| {
            let unit = UnitFacts { volume: Some(volume.clone()), ..facts.clone() };
            sheets.is_empty() || sheets.iter().any(|sheet| sheet.matches_disk(&unit))
        };
        if let (Some(dialect), true) = (self.dialect_of(device, &facts), usb.is_some()) {
            let usb = usb.ok_or_else(|| BusError::NotFound(location.clone()))?;
            let serial = self.serial_access(device, &dialect);
            let reopen = Reconnect { bus: bus.clone(), device: device.clone(), serial };
            let name = dialect.name.clone();
            let (mut talk, told) =
                dialect::connect(usb, dialect, reopen, cx).map_err(|error| OpenError::Dialect { name, error })?;
            talk.supply(self.secrets());
            identity.facts.told = told;
            return Ok(Connection { identity, transport: OpenTransport::Dialect(Box::new(talk)) });
        }
        let (disk, volume) = match usb {
            _ if !mounted.is_empty() => volume::open_mounted(bus.clone(), device, mounted, &fits, cx)?,
            Some(usb) if !reads_disk || identity.disks.is_empty() => {
                return Ok(Connection { identity, transport: OpenTransport::Device(usb) });
            }
            Some(usb) => volume::open(usb, &identity.disks, &fits, cx)?,
            None => return Err(OpenError::Bus(BusError::NotFound(location.clone()))),
        };
        identity.facts.volume = Some(volume);
        Ok(Connection { identity, transport: OpenTransport::Disk(disk) })
    }

    /// Identifies a node of a CAN bus in update mode. A node has no descriptors.
    fn look_at_node(
        &self,
        device: &DeviceInfo,
        dialect: Arc<Dialect>,
        adapter: Box<dyn UsbDevice>,
        cx: &mut Context<'_>,
    ) -> Result<Connection, OpenError> {
        let bus = self.bus(&device.location).ok_or_else(|| BusError::NotFound(device.location.clone()))?;
        let reopen = Reconnect { bus: bus.clone(), device: device.clone(), serial: None };
        let mut identity = Identity::listed(device);
        identity.node = adapter.node().map(Path::to_owned);
        let name = dialect.name.clone();
        let connected = dialect::connect(adapter, dialect, reopen, cx);
        let (mut talk, told) = connected.map_err(|error| OpenError::Dialect { name, error })?;
        talk.supply(self.secrets());
        identity.facts.told = told;
        Ok(Connection { identity, transport: OpenTransport::Dialect(Box::new(talk)) })
    }

    /// A unit that another process works on is not opened: opening it could interrupt an erase.
    fn must_be_free(&self, location: &Location) -> Result<(), OpenError> {
        match self.guard.as_ref().and_then(|guard| guard.held_elsewhere(location)) {
            Some(by) => Err(OpenError::Transfer(TransferError::Busy(format!(" ({by})")))),
            None => Ok(()),
        }
    }

    /// The dialect in which a unit in update mode is spoken to, if its ids and descriptors leave only
    /// one. A unit that no sheet claims is not spoken to.
    fn dialect_of(&self, device: &DeviceInfo, facts: &UnitFacts) -> Option<Arc<Dialect>> {
        let candidate = self.recognise(device).filter(|candidate| candidate.mode == Mode::Update)?;
        let routes = candidate.sheets.iter().flat_map(|sheet| sheet.routes_of(candidate.id()));
        let is_it = |route: &&Route| route.signs.of(facts).iter().all(|sign| sign.is_so != Some(false));
        let mut kinds = routes.filter(is_it).map(|route| &route.kind);
        let first = kinds.next()?.dialect()?;
        kinds
            .all(|kind| kind.dialect().is_some_and(|other| other.dialect == first.dialect))
            .then(|| first.dialect.clone())
    }

    /// Opens a unit, reads its description, and closes it.
    ///
    /// # Errors
    /// The unit cannot be opened or read.
    pub fn identity(&self, location: &Location) -> Result<Identity, OpenError> {
        self.must_be_free(location)?;
        let mut device = self.open(location)?;
        Ok(identity::identify(&mut *device, &SystemClock)?)
    }
}

/// Whether the units of a bus are reached through devices of other buses.
fn is_behind(bus: &str) -> bool {
    matches!(bus, NodeBus::NAME | ProgrammerBus::NAME)
}
