//! A unit in update mode that is only looked at: brought there if need be, read,
//! and sent back to its application with nothing written.

use std::sync::Arc;
use std::time::Duration;

use vaka_base::size::Bytes;
use vaka_core::event::{ExitCode, RestartState, StepName, StepState};
use vaka_core::matching::Question;
use vaka_core::memory::SectorMap;
use vaka_core::sheet::{Leave, Region, Route, RouteKind, Sheet, Variant};
use vaka_core::unit::{MemoryChoice, Mode};
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_usb::DeviceInfo;

use crate::bench::buses::Bench;
use crate::bench::candidate::{Candidate, dfu_mode, id_of};
use crate::bench::connection::Connection;
use crate::bench::discovery::{self, UnitQuery};
use crate::bench::open_error::{held, open_failure};
use crate::bench::returning;
use crate::bench::selector::Selector;
use crate::bench::tracking::TrackedUnit;
use crate::bench::unit_event;
use crate::context::Context;
use crate::context::stopped;
use crate::entry::{self, EntryProcedure};
use crate::event::Event;
use crate::failure::{Activity, Failure, FailureKind, UnitCondition};
use crate::operator::Operator;
use crate::protocol::identity;
use crate::protocol::session::{Protection, Session, SessionError};
use crate::remedy::Remedy;
use crate::update::confirm::{self, ExpectedApplication};
use crate::update::{StepError, by_label, open_question, request_restart, undecided};
use crate::warning::Warning;

/// Which unit is looked at, and how it is reached.
#[derive(Clone, Debug)]
pub struct ReadRequest {
    /// Which unit; any that the sheets know, if there is only one.
    pub unit: Option<Selector>,
    /// What is printed on it, as a person gave it.
    pub label: Option<String>,
    /// Which of its memories, where no sheet says.
    pub memory: MemoryChoice,
    /// How long to wait for it, and for update mode.
    pub wait: Duration,
    /// Whether the variant has to be known.
    pub wants_variant: bool,
}

/// A unit that was opened in update mode.
pub struct ReadSession<'a> {
    bench: &'a Bench<'a>,
    session: Box<dyn Session>,
    unit: DeviceInfo,
    place: String,
    serial: Option<String>,
    sheet: Option<&'a Sheet>,
    variant: Option<&'a Variant>,
    route: Option<&'a Route>,
    sectors: Option<SectorMap>,
    /// What it gives of the regions that the route writes, where it tells.
    whole: Vec<Span>,
    can_read: bool,
    /// Whether its application ran before.
    entered: bool,
    /// Keeps other processes from the unit.
    _guard: Box<dyn std::any::Any + Send>,
}

/// How long a unit that no sheet knows is waited for after its restart. Chosen by us, as
/// long as a sheet says by default.
const UNKNOWN_BACK: Duration = Duration::from_secs(10);

/// Where the parts of a unit's memory are that were read.
pub type Parts = Vec<(Address, Vec<u8>)>;

/// Brings a unit into update mode and leaves it there. It is not opened: closing it might
/// end that mode again.
///
/// # Errors
/// It did not come into update mode. Nothing was changed in it.
pub fn bring<'a>(
    bench: &'a Bench<'a>,
    found: &Candidate<'a>,
    wish: &ReadRequest,
    operator: &mut dyn Operator,
    cx: &mut Context<'_>,
) -> Result<DeviceInfo, Failure> {
    let _guard = bench.hold(found.location())?;
    cx.tell(Event::Seen(Box::new(unit_event::seen(bench, &found.device))));
    if found.mode == Mode::Update {
        return Ok(found.device.clone());
    }
    let variant = variant_of(found, wish, operator)?.and_then(|(_, variant)| variant);
    Entry { bench, found, variant, wait: wish.wait }.run(operator, cx)
}

impl<'a> ReadSession<'a> {
    /// Finds the unit, brings it into update mode, and opens it.
    ///
    /// # Errors
    /// There is no such unit, or it cannot be opened. Nothing was changed in it.
    pub fn open(
        bench: &'a Bench<'a>,
        wish: &ReadRequest,
        operator: &mut dyn Operator,
        cx: &mut Context<'_>,
    ) -> Result<Self, Failure> {
        let found = discovery::find(bench, &UnitQuery::any(bench, wish.unit.as_ref(), true), wish.wait, operator, cx)?;
        Self::of(bench, &found, wish, operator, cx)
    }

    /// The same for a unit that was found.
    ///
    /// # Errors
    /// It cannot be opened. Nothing was changed in it.
    pub fn of(
        bench: &'a Bench<'a>,
        found: &Candidate<'a>,
        wish: &ReadRequest,
        operator: &mut dyn Operator,
        cx: &mut Context<'_>,
    ) -> Result<Self, Failure> {
        let guard = bench.hold(found.location())?;
        cx.tell(Event::Seen(Box::new(unit_event::seen(bench, &found.device))));
        let place = bench.place(found.location());
        let known = variant_of(found, wish, operator)?;
        let (sheet, variant) = (known.map(|(sheet, _)| sheet), known.and_then(|(_, variant)| variant));
        let entered = found.mode != Mode::Update;
        let unit = if entered {
            Entry { bench, found, variant, wait: wish.wait }.run(operator, cx)?
        } else {
            found.device.clone()
        };
        let id = id_of(&unit);
        let route = variant.or_else(|| sheet?.variants_with_route(id).next()).and_then(|variant| variant.route(id));
        let opened = bench.look(&unit, cx).map_err(|error| open_failure(&error, &place))?;
        let (variant, route) = of_its_board(sheet, variant, route, &opened)?;
        let serial = opened.identity.facts.serial.clone();
        let connection = match route {
            Some(route) => opened.by_route(route, variant),
            None => opened.by_only_memory(&wish.memory),
        };
        let connection = connection.ok_or_else(|| {
            Failure::new(FailureKind::NoSuchMemory { place: place.clone() }).remedy(Remedy::SelectMemory)
        })?;
        let sectors = connection.sectors().cloned().or_else(|| variant.map(|variant| variant.flash.clone()));
        let can_read = connection.can_read();
        let session = connection.open(cx).map_err(|error| failed(&error, &place, Activity::Opening))?;
        let (whole, _guard) = (Vec::new(), guard);
        Ok(Self {
            bench,
            session,
            unit,
            place,
            serial,
            sheet,
            variant,
            route,
            sectors,
            whole,
            can_read,
            entered,
            _guard,
        })
    }

    /// The same for a unit whose memory is wanted.
    ///
    /// # Errors
    /// It cannot be read. It was left as it was.
    pub fn open_to_read(
        bench: &'a Bench<'a>,
        wish: &ReadRequest,
        operator: &mut dyn Operator,
        cx: &mut Context<'_>,
    ) -> Result<Self, Failure> {
        let mut visit = Self::open(bench, wish, operator, cx)?;
        if let Err(failure) = visit.must_be_readable(cx) {
            visit.leave(cx);
            return Err(failure);
        }
        Ok(visit)
    }

    /// The product, if a sheet knows it.
    pub fn sheet(&self) -> Option<&'a Sheet> {
        self.sheet
    }

    /// Its serial number, where it tells one.
    pub fn serial(&self) -> Option<&str> {
        self.serial.as_deref()
    }

    /// The variant, once it is settled.
    pub fn variant(&self) -> Option<&'a Variant> {
        self.variant
    }

    /// Where the unit is.
    pub fn place(&self) -> &str {
        &self.place
    }

    /// Its sectors, as it reports them or else as the sheet says.
    pub fn sectors(&self) -> Option<&SectorMap> {
        self.sectors.as_ref()
    }

    /// A region of its variant.
    ///
    /// # Errors
    /// There is none of that name.
    pub fn region(&self, name: &str) -> Result<&'a Region, Failure> {
        let regions = self.variant.map_or(&[][..], |variant| &variant.regions);
        regions.iter().find(|region| region.name == name).ok_or_else(|| {
            let known = regions.iter().map(|region| region.name.clone()).collect();
            Failure::new(FailureKind::NoSuchRegion { name: name.to_owned() }).remedy(Remedy::KnownRegions(known))
        })
    }

    /// What is read where nothing else is said: the regions that the route
    /// writes, or all that an undescribed unit reports.
    pub fn whole(&self) -> Vec<Span> {
        if !self.whole.is_empty() {
            return self.whole.clone();
        }
        match (self.route, &self.sectors) {
            (Some(route), _) => route.writes.iter().map(|region| region.span).collect(),
            (None, Some(map)) => {
                map.zones().iter().filter(|zone| zone.access().read).map(vaka_core::memory::Zone::span).collect()
            }
            (None, None) => Vec::new(),
        }
    }

    fn must_be_readable(&mut self, cx: &mut Context<'_>) -> Result<(), Failure> {
        let refused = |kind, remedy| Err(Failure::new(kind).unchanged().remedy(remedy));
        let place = self.place.clone();
        if !(self.can_read && self.session.limits().can_read) {
            return refused(FailureKind::NotReadable { place }, Remedy::CannotBeRead);
        }
        let Some(first) = self.whole().first().map(|span| span.start()) else { return Ok(()) };
        let extent = self.session.extent(first, cx).map_err(|error| failed(&error, &self.place, Activity::Probing))?;
        if let Some(extent) = extent {
            let regions = self.whole();
            self.whole = extent.iter().flat_map(|part| regions.iter().filter_map(|r| r.common(*part))).collect();
            if self.whole.is_empty() {
                return refused(FailureKind::NoApplication { place }, Remedy::NothingToRead);
            }
        }
        match self.session.protection(first, cx).map_err(|error| failed(&error, &self.place, Activity::Probing))? {
            Protection::Unprotected | Protection::Unknown => Ok(()),
            Protection::Protected(reason) => refused(FailureKind::ReadProtected { reason }, Remedy::WouldBeErased),
            Protection::Unreadable(reason) => refused(FailureKind::ReadRefused { reason }, Remedy::CannotBeReadThough),
        }
    }

    /// Reads addresses, with progress. A unit that gives its memory as one
    /// stream is read from its beginning on.
    ///
    /// # Errors
    /// It cannot be read there; a person stopped it. Nothing was changed.
    pub fn read(&mut self, spans: &[Span], cx: &mut Context<'_>) -> Result<Parts, Failure> {
        let secret = self.variant.iter().flat_map(|variant| &variant.regions).filter(|region| !region.may_read);
        let mut wanted_secret = secret.filter(|region| spans.iter().any(|span| span.common(region.span).is_some()));
        if let Some(region) = wanted_secret.next() {
            let kind = FailureKind::RegionNotReadable { region: region.name.clone(), span: region.span };
            return Err(Failure::new(kind).unchanged().remedy(Remedy::ReadElsewhere));
        }
        let streamed = matches!(self.route.map(|route| &route.kind), Some(RouteKind::PlainDfu { .. }));
        let wanted = if streamed { self.stretch_from_start(spans)? } else { spans.to_vec() };
        let parts = read_spans(&mut *self.session, &wanted, &self.place, cx);
        self.session.rest(cx);
        parts.map_err(|error| error.failure)
    }

    /// The one stretch from where the unit's stream begins to the last byte
    /// that is wanted.
    fn stretch_from_start(&self, spans: &[Span]) -> Result<Vec<Span>, Failure> {
        let start = self.whole().first().map(|span| span.start());
        let end = spans.iter().map(|span| span.end()).max();
        let whole = self.whole().first().copied();
        let stretch = start.zip(end).and_then(|(start, end)| Span::between(start, end));
        let inside = stretch.filter(|stretch| whole.is_some_and(|whole| whole.covers(*stretch)));
        let failure = || Failure::new(FailureKind::StreamOnly).unchanged().remedy(Remedy::ReadWholeRegion);
        inside.map(|span| vec![span]).ok_or_else(failure)
    }

    /// Lets the unit go as it is: in update mode, ready for what comes next.
    pub fn stay(mut self, cx: &mut Context<'_>) {
        self.session.rest(cx);
    }

    /// Lets the unit go: back to its application if that ran before, else it
    /// stays in update mode.
    pub fn leave(mut self, cx: &mut Context<'_>) {
        if !self.entered {
            return self.session.rest(cx);
        }
        if let Err(failure) = self.restart(cx) {
            let Failure { kind, remedies, .. } = failure;
            cx.warn(Warning::NotReturnedToApplication { failure: kind, remedies });
        }
    }

    /// Makes the unit leave update mode with nothing written, and waits for its
    /// application. Gives back what was seen, in words; `None` if no sheet says
    /// what its application is.
    ///
    /// # Errors
    /// It did not leave, or its application did not come.
    pub fn restart(self, cx: &mut Context<'_>) -> Result<String, Failure> {
        let Self { mut session, route, sheet, variant, bench, unit, sectors, .. } = self;
        let leaves = route.and_then(|route| route.kind.volume()).is_none_or(|volume| volume.leave != Leave::Nothing);
        // Without an address a unit starts wherever the last transfer left its pointer: a unit
        // that no sheet describes is started at the beginning of its memory.
        let start = || sectors.as_ref()?.zones().first().map(|zone| zone.span().start());
        let at = route.map_or_else(start, |route| route.restart_at);
        request_restart(&mut *session, at, cx).map_err(Failure::unchanged)?;
        drop(session);
        let Some((sheet, route)) = sheet.zip(route) else { return what_came(bench, &unit, cx) };
        let expected = ExpectedApplication { leaves, ..ExpectedApplication::of(sheet, variant, route) };
        let seen = confirm::confirm(bench, &expected, &unit, cx);
        if seen.after == RestartState::NotBack {
            let failure = Failure::new(FailureKind::NotBack { observed: seen.words, status: None });
            return Err(failure.unchanged().remedy(Remedy::SetSwitchesBack));
        }
        Ok(seen.words)
    }
}

/// What a unit came back as that no sheet knows: its ids are what a first sheet needs.
fn what_came(bench: &Bench<'_>, unit: &DeviceInfo, cx: &mut Context<'_>) -> Result<String, Failure> {
    let followed = TrackedUnit { unit, serial: None };
    let place = bench.place(&unit.location);
    match returning::come_back(bench, followed, false, UNKNOWN_BACK, cx) {
        Err(failure) if failure.code != ExitCode::NoUnit => Err(failure),
        Err(_) => Ok(format!("it left update mode, and nothing has come at {place} since; no sheet says what should")),
        Ok(device) if dfu_mode(&device) == Some(Mode::Update) => {
            let failure = Failure::new(FailureKind::BackInUpdateMode { place });
            Err(failure.unchanged().remedy(Remedy::MaybeNoApplication))
        }
        Ok(device) => {
            let facts =
                bench.identity(&device.location).map_or_else(|_| identity::from_list(&device), |found| found.facts);
            let name = facts.product.map(|name| format!(" \"{name}\"")).unwrap_or_default();
            Ok(format!("{}{name} came at {place}; no sheet says whether that is its application", facts.id))
        }
    }
}

/// The variant and route that the unit's own board information leaves, where its
/// ids leave several.
fn of_its_board<'a>(
    sheet: Option<&'a Sheet>,
    variant: Option<&'a Variant>,
    route: Option<&'a Route>,
    opened: &Connection,
) -> Result<(Option<&'a Variant>, Option<&'a Route>), Failure> {
    let facts = &opened.identity.facts;
    let Some(board) = facts.volume.as_ref().and_then(|disk| disk.board()?.board_id) else {
        return Ok((variant, route));
    };
    let known =
        |variant: &&Variant| variant.route(facts.id).and_then(|route| route.kind.board_id()) == Some(board.as_str());
    let told = sheet.and_then(|sheet| sheet.variants_with_route(facts.id).find(known));
    match (variant, told) {
        (Some(said), Some(told)) if said.id != told.id => {
            let kind = FailureKind::OtherBoard { reported: told.id.clone(), board, given: said.id.clone() };
            Err(Failure::new(kind).unchanged().remedy(Remedy::RereadLabel))
        }
        (_, Some(told)) => Ok((Some(told), told.route(facts.id))),
        _ => Ok((variant, route)),
    }
}

/// Reads addresses of an open session, with progress.
pub(crate) fn read_spans(
    session: &mut dyn Session,
    spans: &[Span],
    place: &str,
    cx: &mut Context<'_>,
) -> Result<Parts, StepError> {
    let total: u64 = spans.iter().map(|span| span.len()).sum();
    let step = |state, text: String| Event::Step {
        unit: place.to_owned(),
        step: StepName::Read,
        state,
        text,
        bytes: Some(total),
        transfers: None,
    };
    cx.tell(step(StepState::Started, format!("read {}", Bytes(total))));
    let started = cx.now();
    let (unit, region): (Arc<str>, Arc<str>) = (place.into(), "memory".into());
    let mut done = 0;
    let mut parts = Parts::new();
    for span in spans {
        let mut bytes = Vec::new();
        let mut at = span.start();
        while at < span.end() {
            if cx.wants_stop() {
                return Err(stopped(UnitCondition::Unchanged).into());
            }
            let left = span.end().offset_from(at).unwrap_or(0);
            let len = u32::try_from(left).unwrap_or(u32::MAX).min(session.limits().read_size);
            let read = session.read(at, len, cx);
            bytes.extend(read.map_err(|error| StepError {
                failure: failed(&error, place, Activity::Reading(at)),
                loss: error.loss(),
            })?);
            at = at.checked_add(u64::from(len)).unwrap_or(span.end());
            done += u64::from(len);
            let (unit, step, region) = (unit.clone(), StepName::Read, region.clone());
            cx.tell(Event::Progress { unit, step, region, done, total });
        }
        parts.push((span.start(), bytes));
    }
    let time = vaka_base::duration::measured(cx.now() - started);
    cx.tell(step(StepState::Done, format!("{} in {time}", Bytes(total))));
    Ok(parts)
}

/// What was read of these addresses, as an image.
pub fn image_of(parts: &Parts, spans: &[Span]) -> Option<Image> {
    let all = Image::of_memory(parts)?;
    let cut: Parts = spans
        .iter()
        .flat_map(|span| all.segments().iter().filter_map(|segment| segment.span().common(*span)).collect::<Vec<_>>())
        .filter_map(|span| Some((span.start(), all.bytes(span)?.to_vec())))
        .collect();
    Image::of_memory(&cut)
}

/// The sheet of a unit, and its variant as far as that is needed and known.
fn variant_of<'a>(
    found: &Candidate<'a>,
    wish: &ReadRequest,
    operator: &mut dyn Operator,
) -> Result<Option<(&'a Sheet, Option<&'a Variant>)>, Failure> {
    if let Some(text) = wish.label.as_ref().filter(|_| !found.sheets.is_empty()) {
        return by_label(found, text).map(|(sheet, variant)| Some((sheet, Some(variant))));
    }
    let [sheet] = found.sheets[..] else { return Ok(None) };
    match found.variants_of(sheet)[..] {
        [only] => Ok(Some((sheet, Some(only)))),
        _ if !wish.wants_variant && found.mode == Mode::Update => Ok(Some((sheet, None))),
        // The unit's own disk tells which board it is.
        ref open if tells_board(found, open) => Ok(Some((sheet, None))),
        _ => {
            let question: Question = open_question(found, sheet);
            let answer = operator.read_label(&question).ok_or_else(|| undecided(&question))?;
            by_label(found, &answer).map(|(sheet, variant)| Some((sheet, Some(variant))))
        }
    }
}

fn tells_board(found: &Candidate<'_>, open: &[&Variant]) -> bool {
    found.mode == Mode::Update
        && open.iter().all(|variant| variant.route(found.id()).is_some_and(|route| route.kind.board_id().is_some()))
}

/// A unit whose application runs and that is wanted in update mode.
struct Entry<'a, 'f> {
    bench: &'a Bench<'a>,
    found: &'f Candidate<'a>,
    variant: Option<&'a Variant>,
    wait: Duration,
}

impl Entry<'_, '_> {
    fn run(self, operator: &mut dyn Operator, cx: &mut Context<'_>) -> Result<DeviceInfo, Failure> {
        let Self { bench, found, variant, wait } = self;
        let known = found.sheets.first().copied().zip(variant.and_then(|variant| variant.routes.first()));
        let (sheet, route) = known
            .ok_or_else(|| Failure::new(FailureKind::UndescribedRunning).unchanged().remedy(Remedy::EnterDfuByHand))?;
        // Opening it only for its number is worth it where that tells units apart.
        let serial = sheet.product.serial_stays.then(|| bench.told_serial(&found.device)).flatten();
        let procedure = EntryProcedure::of(sheet, route, &found.device, serial.as_deref(), wait);
        entry::enter(bench, procedure, operator, cx)
    }
}

fn failed(error: &SessionError, place: &str, activity: Activity) -> Failure {
    if let SessionError::Busy(by) = error {
        return held(place, by);
    }
    let kind = FailureKind::ReadSession { place: place.to_owned(), activity, error: error.clone() };
    Failure::new(kind).unchanged().remedy(error.own_remedy().unwrap_or(Remedy::ReplugAndReenter))
}
