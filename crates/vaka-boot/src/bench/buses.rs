//! The bench: every unit that the given buses show.

use std::any::Any;
use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use vaka_base::text;
use vaka_core::dfu;
use vaka_core::event::{Code, Failure};
use vaka_core::placeholder;
use vaka_core::sheet::{Route, RouteKind, Sheet, Variant};
use vaka_core::unit::{Mode, UnitFacts, UsbId};
use vaka_core::volume::VolumeFacts;
use vaka_dialect::Dialect;
use vaka_usb::{Bus, BusError, DeviceInfo, InterfaceClass, Location, TransferError, UsbDevice};

use crate::bench::connection::{Link, Opened};
use crate::context::Pace;
use crate::protocol::dialect::{self, Reopen};
use crate::protocol::identity::{self, Identity};
use crate::protocol::session::SessionError;
use crate::protocol::volume;

/// Keeps two processes from working on one unit.
pub trait Guard: Send + Sync {
    /// Holds a unit until the returned value is dropped.
    ///
    /// # Errors
    /// Who holds it, in words that stand in brackets.
    fn hold(&self, location: &Location) -> Result<Box<dyn Any + Send>, String>;

    /// Names the process that locks a unit, if it is another process. Takes no lock.
    fn held_elsewhere(&self, location: &Location) -> Option<String> {
        let _ = location;
        None
    }

    /// Says that a unit of a bus is wanted, until the returned value is dropped.
    fn want(&self, bus: &str) -> Box<dyn Any + Send> {
        let _ = bus;
        Box::new(())
    }
}

/// Buses, and the sheets by which their units are known.
pub struct Bench<'a> {
    buses: Vec<Arc<dyn Bus>>,
    guard: Option<Arc<dyn Guard>>,
    sheets: &'a [Sheet],
    /// Serial numbers that were asked for, by place and enumeration. Opening a
    /// unit may reset it, so each is opened for this once and not at every look.
    serials: Mutex<HashMap<(Location, u32), Option<String>>>,
    /// What its places are called, by port or by bus and port.
    places: BTreeMap<String, String>,
}

/// A device that a sheet knows.
#[derive(Clone, Debug)]
pub struct Candidate<'a> {
    /// The device, as listed.
    pub device: DeviceInfo,
    /// What it is doing.
    pub mode: Mode,
    /// The sheets that know its ids; several where products share a boot id.
    pub sheets: Vec<&'a Sheet>,
}

impl<'a> Candidate<'a> {
    /// Its ids.
    pub fn id(&self) -> UsbId {
        identity::from_list(&self.device).id
    }

    /// Where it is.
    pub fn location(&self) -> &Location {
        &self.device.location
    }

    /// The variants of a sheet that its ids leave open.
    pub fn variants_of(&self, sheet: &'a Sheet) -> Vec<&'a Variant> {
        match self.mode {
            Mode::Update => sheet.variants_with_route(self.id()).collect(),
            _ => sheet.variants.iter().collect(),
        }
    }
}

/// Which unit is meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Selector {
    /// By its ids.
    Id(UsbId),
    /// By its serial number.
    Serial(String),
    /// By its port, as `survey` prints it.
    Port(String),
    /// By the id or name of its product or variant.
    Name(String),
    /// By the folder that this system shows its disk as.
    Folder(PathBuf),
    /// By any of these.
    Any(String),
}

impl std::fmt::Display for Selector {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Id(id) => write!(f, "id {id}"),
            Self::Serial(serial) => write!(f, "serial number {}", text::tame(serial)),
            Self::Port(port) => write!(f, "port {}", text::tame(port)),
            Self::Name(name) | Self::Any(name) => f.write_str(&text::tame(name)),
            Self::Folder(folder) => write!(f, "folder {}", text::tame(&folder.to_string_lossy())),
        }
    }
}

impl Selector {
    /// Reads `id=VID:PID`, `serial=…`, `port=…`, `name=…` or a bare value.
    ///
    /// # Errors
    /// A sentence, for a wrong id or an empty value.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (key, value) = match text.split_once('=') {
            Some((key @ ("id" | "serial" | "port" | "name" | "folder"), value)) => (key, value),
            _ => ("", text),
        };
        if value.is_empty() {
            return Err(
                "name a unit: id=VID:PID, serial=…, port=…, name=…, folder=… or one of these values alone".into()
            );
        }
        let example = if key == "id" { placeholder::of_id(value) } else { placeholder::of_text(value) };
        if let Some(why) = example.filter(|_| key != "folder") {
            return Err(why);
        }
        let value = value.to_owned();
        Ok(match key {
            "id" => Self::Id(UsbId::parse(&value)?),
            "serial" => Self::Serial(value),
            "port" => Self::Port(value),
            "name" => Self::Name(value),
            "folder" => Self::Folder(value.into()),
            _ => Self::Any(value),
        })
    }

    /// Whether a unit must be opened to tell: only then is its serial number read.
    fn wants_serial(&self) -> bool {
        matches!(self, Self::Serial(_) | Self::Any(_))
    }

    fn fits(&self, candidate: &Candidate<'_>, serial: Option<&str>) -> bool {
        let port = |wanted: &str| candidate.location().port == wanted || candidate.location().to_string() == wanted;
        let name = |wanted: &str| {
            candidate.sheets.iter().any(|sheet| {
                let variants = candidate.variants_of(sheet);
                let product = [&sheet.product.id, &sheet.product.name].into_iter().chain(&sheet.product.also);
                let mut names = product.chain(variants.iter().map(|variant| &variant.name));
                names.any(|name| name.eq_ignore_ascii_case(wanted))
            })
        };
        match self {
            Self::Id(id) => candidate.id() == *id,
            Self::Serial(wanted) => serial == Some(wanted),
            Self::Port(wanted) => port(wanted),
            Self::Name(wanted) => name(wanted),
            // Which that is only its bus can tell.
            Self::Folder(_) => false,
            Self::Any(wanted) => {
                UsbId::parse(wanted).is_ok_and(|id| candidate.id() == id)
                    || serial == Some(wanted)
                    || port(wanted)
                    || name(wanted)
            }
        }
    }
}

impl<'a> Bench<'a> {
    /// A bench of buses.
    pub fn new(buses: Vec<Arc<dyn Bus>>, sheets: &'a [Sheet]) -> Self {
        Self { buses, guard: None, sheets, serials: Mutex::default(), places: BTreeMap::new() }
    }

    /// The same, with a guard over its units.
    #[must_use]
    pub fn guarded(mut self, guard: Arc<dyn Guard>) -> Self {
        self.guard = Some(guard);
        self
    }

    /// The same, with names for its places: what each is called, and its port as `survey`
    /// prints it.
    #[must_use]
    pub fn with_places(mut self, places: &BTreeMap<String, String>) -> Self {
        self.places = places.iter().map(|(name, port)| (port.clone(), name.clone())).collect();
        self
    }

    /// What a place is called.
    pub fn called(&self, location: &Location) -> Option<&str> {
        let name = self.places.get(&location.to_string()).or_else(|| self.places.get(&location.port));
        name.map(String::as_str)
    }

    /// Holds a unit against other processes, for as long as the value lives.
    ///
    /// # Errors
    /// Another process holds it.
    pub fn hold(&self, location: &Location) -> Result<Box<dyn Any + Send>, Failure> {
        match &self.guard {
            None => Ok(Box::new(())),
            Some(guard) => guard.hold(location).map_err(|by| held(&self.place(location), &format!(" ({by})"))),
        }
    }

    /// Its buses.
    pub fn buses(&self) -> &[Arc<dyn Bus>] {
        &self.buses
    }

    /// The sheets.
    pub fn sheets(&self) -> &'a [Sheet] {
        self.sheets
    }

    /// How a place is written: the port, and the bus where there are several.
    pub fn place(&self, location: &Location) -> String {
        let port = text::tame(&location.port);
        if self.buses.len() == 1 { port } else { format!("{}/{port}", location.bus) }
    }

    /// Everything that is plugged in, known or not.
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

    /// The device as a candidate, if a sheet knows its ids.
    pub fn recognise(&self, device: &DeviceInfo) -> Option<Candidate<'a>> {
        let id = identity::from_list(device).id;
        let with = |fits: &dyn Fn(&Sheet) -> bool| self.sheets.iter().filter(|sheet| fits(sheet)).collect::<Vec<_>>();
        let booted = with(&|sheet| sheet.variants_with_route(id).next().is_some());
        let running = with(&|sheet| sheet.runs(id));
        let (mode, sheets) = if booted.is_empty() { (Mode::Application, running) } else { (Mode::Update, booted) };
        (!sheets.is_empty()).then(|| Candidate { device: device.clone(), mode, sheets })
    }

    /// A device that no sheet knows as a candidate, if its interfaces alone
    /// say that it has a DFU mode.
    pub fn undescribed(&self, device: &DeviceInfo) -> Option<Candidate<'a>> {
        if self.recognise(device).is_some() {
            return None;
        }
        let mode = dfu_mode(device)?;
        Some(Candidate { device: device.clone(), mode, sheets: Vec::new() })
    }

    /// Whether a unit can be opened only to look at it. Not where closing it
    /// resets it and a reset ends its update mode.
    pub fn may_look(&self, candidate: &Candidate<'_>) -> bool {
        let resets = self.bus(candidate.location()).is_some_and(|bus| bus.resets_on_close());
        let leaves = |sheet: &&Sheet| {
            let routes = sheet.variants.iter().filter_map(|variant| variant.route(candidate.id()));
            let goes_on = |route: &Route| matches!(route.kind, RouteKind::PlainDfu { .. }) || route.listens.is_some();
            routes.into_iter().any(goes_on)
        };
        let fragile = candidate.sheets.is_empty() || candidate.sheets.iter().any(leaves);
        !(resets && candidate.mode == Mode::Update && fragile)
    }

    /// The units that a selector means: those that a sheet knows, and with
    /// `undescribed` also those that nobody described.
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
            let looks = selector.wants_serial() && self.may_look(candidate);
            let serial = looks.then(|| self.serial(&candidate.device)).flatten();
            selector.fits(candidate, serial.as_deref())
        };
        Ok(known.into_iter().filter(fits).collect())
    }

    /// Every device that a selector means, known or not.
    ///
    /// # Errors
    /// A bus cannot be used.
    pub fn devices_with(&self, selector: &Selector) -> Result<Vec<DeviceInfo>, BusError> {
        let fits = |device: &DeviceInfo| {
            let bare = || Candidate { device: device.clone(), mode: Mode::Unknown, sheets: Vec::new() };
            let candidate = self.recognise(device).or_else(|| self.undescribed(device)).unwrap_or_else(bare);
            let looks = selector.wants_serial() && self.may_look(&candidate);
            let serial = looks.then(|| self.serial(device)).flatten();
            selector.fits(&candidate, serial.as_deref()) || self.shows(selector, device)
        };
        Ok(self.devices()?.into_iter().filter(fits).collect())
    }

    /// Whether the system shows the disk of a device as the folder that is meant.
    fn shows(&self, selector: &Selector, device: &DeviceInfo) -> bool {
        let Selector::Folder(wanted) = selector else { return false };
        let wanted = std::fs::canonicalize(wanted).unwrap_or_else(|_| wanted.clone());
        let mounted = self.bus(&device.location).map(|bus| bus.mounted(&device.location.port)).unwrap_or_default();
        mounted.iter().any(|one| one.folder == wanted)
    }

    /// Whether two places of this bench are one socket.
    pub fn is_same_port(&self, one: &Location, other: &Location) -> bool {
        self.bus(one).is_some_and(|bus| bus.is_same_port(one, other))
    }

    /// The serial number of a device, unless asking for it would end its update mode.
    pub fn told_serial(&self, device: &DeviceInfo) -> Option<String> {
        let bare = || Candidate { device: device.clone(), mode: Mode::Update, sheets: Vec::new() };
        let candidate = self.recognise(device).or_else(|| self.undescribed(device)).unwrap_or_else(bare);
        if self.may_look(&candidate) { self.serial(device) } else { None }
    }

    /// The serial number of a device; `None` if it has none or cannot be asked.
    pub(crate) fn serial(&self, device: &DeviceInfo) -> Option<String> {
        let key = (device.location.clone(), device.address);
        let mut known = self.serials.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(serial) = known.get(&key) {
            return serial.clone();
        }
        match self.identity(&device.location) {
            Ok(identity) => known.entry(key).or_insert(identity.facts.serial).clone(),
            // Somebody else may have it now; the next look may find it free.
            Err(OpenError::Bus(_) | OpenError::Transfer(TransferError::Held(_))) => None,
            Err(OpenError::Transfer(_) | OpenError::Disk(_) | OpenError::Dialect { .. }) => {
                known.entry(key).or_insert(None).clone()
            }
        }
    }

    /// Opens a unit.
    ///
    /// # Errors
    /// It is gone or in use, or its bus is not one of this bench.
    pub fn open(&self, location: &Location) -> Result<Box<dyn UsbDevice>, BusError> {
        self.bus(location).ok_or_else(|| BusError::NotThere(location.clone()))?.open(&location.port)
    }

    /// Says to other processes that units of these buses are wanted, for as long as the
    /// value lives. Who only listens to one lets it go then.
    pub fn want(&self) -> Vec<Box<dyn Any + Send>> {
        let guards = self.guard.iter();
        guards.flat_map(|guard| self.buses.iter().map(|bus| guard.want(bus.name()))).collect()
    }

    /// Why nothing is on the bench, where that has another reason than that
    /// nothing is plugged in.
    pub fn emptiness(&self) -> Option<String> {
        self.buses.iter().find_map(|bus| bus.emptiness())
    }

    /// The bus that a place is on.
    pub fn bus(&self, location: &Location) -> Option<&Arc<dyn Bus>> {
        self.buses.iter().find(|bus| bus.name() == location.bus)
    }

    /// Opens a unit and reads what it says of itself, on its disk too if a sheet
    /// says that the disk tells something.
    ///
    /// # Errors
    /// It cannot be opened or read.
    pub fn look(&self, device: &DeviceInfo, pace: &mut Pace<'_>) -> Result<Opened, OpenError> {
        let location = &device.location;
        self.must_be_free(location)?;
        let id = identity::from_list(device).id;
        let sheets: Vec<&Sheet> = self.sheets.iter().filter(|sheet| sheet.has_disk(id)).collect();
        let bus = self.bus(location).ok_or_else(|| BusError::NotThere(location.clone()))?;
        let mounted = if sheets.is_empty() { Vec::new() } else { bus.mounted(&location.port) };
        let opened = self.open(location);
        // Who may use its folder needs no right to the unit itself.
        let (usb, mut identity) = match opened {
            Err(BusError::NoRights { .. }) if !mounted.is_empty() => (None, Identity::listed(device)),
            opened => {
                let mut usb = opened?;
                let identity = identity::identify(&mut *usb)?;
                (Some(usb), identity)
            }
        };
        let facts = identity.facts.clone();
        let fits = |volume: &VolumeFacts| {
            let unit = UnitFacts { volume: Some(volume.clone()), ..facts.clone() };
            sheets.iter().any(|sheet| sheet.knows_disk(&unit))
        };
        if let (Some(dialect), true) = (self.dialect_of(device), usb.is_some()) {
            let usb = usb.ok_or_else(|| BusError::NotThere(location.clone()))?;
            let reopen = Reopen { bus: bus.clone(), device: device.clone() };
            let (talk, told) = dialect::meet(usb, dialect, reopen, pace)?;
            identity.facts.told = told;
            return Ok(Opened { identity, link: Link::Dialect(Box::new(talk)) });
        }
        let (disk, volume) = match usb {
            _ if !mounted.is_empty() => volume::open_mounted(bus.clone(), device, mounted, &fits, pace)?,
            Some(usb) if sheets.is_empty() || identity.disks.is_empty() => {
                return Ok(Opened { identity, link: Link::Device(usb) });
            }
            Some(usb) => volume::open(usb, &identity.disks, &fits, pace)?,
            None => return Err(OpenError::Bus(BusError::NotThere(location.clone()))),
        };
        identity.facts.volume = Some(volume);
        Ok(Opened { identity, link: Link::Disk(disk) })
    }

    /// A unit that another process works on is not opened: that could come in the middle of an
    /// erase.
    fn must_be_free(&self, location: &Location) -> Result<(), OpenError> {
        match self.guard.as_ref().and_then(|guard| guard.held_elsewhere(location)) {
            Some(by) => Err(OpenError::Transfer(TransferError::Held(format!(" ({by})")))),
            None => Ok(()),
        }
    }

    /// The dialect in which a unit in update mode is spoken to, if its ids leave only
    /// one.
    fn dialect_of(&self, device: &DeviceInfo) -> Option<Arc<Dialect>> {
        let candidate = self.recognise(device).filter(|candidate| candidate.mode == Mode::Update)?;
        let variants = candidate.sheets.iter().flat_map(|sheet| candidate.variants_of(sheet));
        let mut kinds = variants.filter_map(|variant| variant.route(candidate.id())).map(|route| &route.kind);
        let first = kinds.next()?.dialect()?;
        kinds
            .all(|kind| kind.dialect().is_some_and(|other| other.dialect == first.dialect))
            .then(|| first.dialect.clone())
    }

    /// Opens a unit, reads what it says of itself, and gives it back.
    ///
    /// # Errors
    /// It cannot be opened or read.
    pub fn identity(&self, location: &Location) -> Result<Identity, OpenError> {
        self.must_be_free(location)?;
        let mut device = self.open(location)?;
        Ok(identity::identify(&mut *device)?)
    }
}

/// The mode of a device with a DFU interface, by its classes alone.
pub fn dfu_mode(device: &DeviceInfo) -> Option<Mode> {
    let has = |protocol: u8| {
        let class = InterfaceClass { class: dfu::CLASS, subclass: dfu::SUBCLASS, protocol };
        device.interfaces.contains(&class)
    };
    if has(dfu::PROTOCOL_DFU_MODE) {
        return Some(Mode::Update);
    }
    has(dfu::PROTOCOL_RUN_TIME).then_some(Mode::Application)
}

/// Why a unit cannot be looked at.
#[derive(Clone, Debug, thiserror::Error, PartialEq, Eq)]
pub enum OpenError {
    /// It cannot be opened.
    #[error(transparent)]
    Bus(#[from] BusError),
    /// It does not answer as it should.
    #[error(transparent)]
    Transfer(#[from] TransferError),
    /// Its disk cannot be read.
    #[error(transparent)]
    Disk(#[from] SessionError),
    /// It does not answer in its dialect.
    #[error("it does not answer in its dialect {name}: {error}")]
    Dialect {
        /// The dialect.
        name: String,
        /// Why.
        error: SessionError,
    },
}

/// A bus error as a failure, with its cure.
pub fn bus_failure(error: &BusError) -> Failure {
    let (code, cure) = match error {
        BusError::Unreachable { .. } => {
            (Code::Access, "Is the USB/IP server running there, and is that its port? Then run the same command again.")
        }
        BusError::Protocol { .. } => (Code::Access, "Is this the port of a USB/IP server (version 1.1.1)?"),
        BusError::Busy(_) => (Code::Access, "End the program that uses it, then run the same command again."),
        BusError::NoRights { vendor, .. } => return no_rights(error, *vendor),
        BusError::NoUsb(_) => {
            (Code::Access, "May this user see /sys/bus/usb? Or name a server: --bus usbip://HOST[:PORT].")
        }
        BusError::NotThere(_) => (Code::NoUnit, "Plug it in, or see with 'vaka survey' where it is."),
        _ => (Code::Access, "Unplug the unit and plug it in again."),
    };
    Failure::new(code, sentence(error)).cure(cure)
}

/// An error with a capital and a full stop.
fn sentence(error: &BusError) -> String {
    let words = error.to_string();
    let mut letters = words.chars();
    let first = letters.next().map(|letter| letter.to_uppercase().to_string()).unwrap_or_default();
    // A name such as usbip://… stays as it is.
    if words.starts_with("usbip:") { format!("{words}.") } else { format!("{first}{}.", letters.as_str()) }
}

/// The cure is a rule for the system's device manager, ready to be copied.
fn no_rights(error: &BusError, vendor: u16) -> Failure {
    Failure::new(Code::Access, sentence(error)).state("Nothing was changed in it.").cure(format!(
        "As root, put this line into /etc/udev/rules.d/70-vaka.rules and plug the unit in anew ('vaka setup rules' makes such lines for all units of your sheets):\n  \
         SUBSYSTEM==\"usb\", ATTR{{idVendor}}==\"{vendor:04x}\", MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\""
    ))
}

/// What is said when a unit cannot be opened or read.
pub fn open_failure(error: &OpenError, place: &str) -> Failure {
    match error {
        OpenError::Bus(error) => bus_failure(error),
        OpenError::Transfer(TransferError::Held(by))
        | OpenError::Disk(SessionError::Held(by))
        | OpenError::Dialect { error: SessionError::Held(by), .. } => held(place, by),
        OpenError::Dialect { name, error } => {
            Failure::new(Code::Transfer, format!("The unit at {place} does not answer in its dialect {name}: {error}."))
                .state("Nothing was changed in it.")
                .cure("Unplug it, bring it into update mode again and run the same command; --trace FILE and 'vaka dialect trace' show each frame.")
        }
        OpenError::Disk(error) => {
            Failure::new(Code::Transfer, format!("The disk of the unit at {place} could not be read: {error}."))
                .state("Nothing was changed in it.")
                .cure("Unplug it, plug it in again, and try another cable if that repeats.")
        }
        OpenError::Transfer(error) => {
            Failure::new(Code::Transfer, format!("The unit at {place} could not be asked what it is: {error}."))
                .state("Nothing was changed in it.")
                .cure("Unplug it, plug it in again, and try another cable if that repeats.")
        }
    }
}

/// Another program or a driver holds the interface that is needed.
pub fn held(place: &str, by: &str) -> Failure {
    Failure::new(Code::Access, format!("Another program holds the unit at {place}{by}."))
        .state("Nothing was changed in it.")
        .cure("End that program, then run the same command again.")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn selectors_are_read() {
        let id = UsbId { vendor: 0x1209, product: 2 };
        for (text, selector) in [
            ("id=1209:0002", Selector::Id(id)),
            ("serial=a=b", Selector::Serial("a=b".into())),
            ("port=1-1.4", Selector::Port("1-1.4".into())),
            ("name=Tern r1", Selector::Name("Tern r1".into())),
            ("1209:0002", Selector::Any("1209:0002".into())),
            ("colour=red", Selector::Any("colour=red".into())),
        ] {
            assert_eq!(Selector::parse(text), Ok(selector));
        }
        for bad in ["", "id=", "id=12", "port="] {
            assert!(Selector::parse(bad).is_err(), "{bad}");
        }
    }
}
