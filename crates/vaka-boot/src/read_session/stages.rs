//! From a unit on the bench to an open session that only reads, stage by stage. Each stage
//! consumes the one before.

use std::any::Any;
use std::time::Duration;

use vaka_core::matching::Question;
use vaka_core::sheet::{Route, Sheet, Variant};
use vaka_core::unit::{MemoryChoice, Mode};
use vaka_usb::DeviceInfo;

use super::reading::failed;
use super::session::ReadSession;
use crate::bench::buses::Bench;
use crate::bench::candidate::{Candidate, id_of};
use crate::bench::connection::Connection;
use crate::bench::discovery::{self, UnitQuery};
use crate::bench::selector::Selector;
use crate::bench::target::{programmer_of, target_failure};
use crate::bench::unit_event;
use crate::context::Context;
use crate::entry::{self, EntryProcedure};
use crate::event::Event;
use crate::failure::{Activity, Failure, FailureKind};
use crate::operator::Operator;
use crate::remedy::Remedy;
use crate::update::{open_question, undecided, variant_by_label};

/// The unit to read, and its access.
#[derive(Clone, Debug)]
pub struct ReadRequest {
    /// The unit; by default the only one that a sheet describes.
    pub unit: Option<Selector>,
    /// The label, as the user gave it.
    pub label: Option<String>,
    /// The memory, for a unit without a sheet.
    pub memory: MemoryChoice,
    /// Time limit for the unit to appear, and for entering update mode.
    pub wait: Duration,
    /// Whether the variant must be known.
    pub wants_variant: bool,
}

/// A unit on the bench that is locked for this command.
struct LocatedUnit<'a> {
    bench: &'a Bench<'a>,
    found: Candidate<'a>,
    guard: Box<dyn Any + Send>,
}

/// A unit in update mode, not opened yet.
struct BootedUnit<'a> {
    bench: &'a Bench<'a>,
    device: DeviceInfo,
    sheet: Option<&'a Sheet>,
    variant: Option<&'a Variant>,
    /// Whether the application was running before.
    was_running: bool,
    guard: Box<dyn Any + Send>,
}

/// Brings a unit into update mode and leaves it there. The unit is not opened, because closing it
/// could end that mode.
///
/// # Errors
/// The unit did not enter update mode. Nothing was changed in it.
pub fn enter_only<'a>(
    bench: &'a Bench<'a>,
    found: &Candidate<'a>,
    request: &ReadRequest,
    operator: &mut dyn Operator,
    cx: &mut Context<'_>,
) -> Result<DeviceInfo, Failure> {
    let unit = LocatedUnit::lock(bench, found, cx)?;
    match found.mode {
        Mode::Update => match programmer_of(bench, &unit.found.device) {
            Some(programmer) => {
                let (programmer, name) = (programmer.about.clone(), programmer.name.clone());
                let failure = Failure::new(FailureKind::HeldOnlyForWork { programmer });
                Err(failure.unchanged().remedy(Remedy::AskProgrammer { name }))
            }
            None => Ok(unit.found.device),
        },
        _ => Ok(unit.enter_update_mode(request, operator, cx)?.device),
    }
}

/// Opens a unit that was found, in update mode.
///
/// # Errors
/// The unit cannot be opened. Nothing was changed in it.
pub fn open<'a>(
    bench: &'a Bench<'a>,
    found: &Candidate<'a>,
    request: &ReadRequest,
    operator: &mut dyn Operator,
    cx: &mut Context<'_>,
) -> Result<ReadSession<'a>, Failure> {
    LocatedUnit::lock(bench, found, cx)?.enter_update_mode(request, operator, cx)?.connect(request, cx)
}

/// Finds a unit with readable memory, and opens it in update mode.
///
/// # Errors
/// There is no such unit, or it cannot be opened or read. It is left as it was.
pub fn open_to_read<'a>(
    bench: &'a Bench<'a>,
    request: &ReadRequest,
    operator: &mut dyn Operator,
    cx: &mut Context<'_>,
) -> Result<ReadSession<'a>, Failure> {
    let query = UnitQuery::any(bench, request.unit.as_ref(), true);
    let found = discovery::find(bench, &query, request.wait, operator, cx)?;
    let mut session = open(bench, &found, request, operator, cx)?;
    match session.check_readable(cx) {
        Ok(()) => Ok(session),
        Err(failure) => {
            session.leave(cx);
            Err(failure)
        }
    }
}

impl<'a> LocatedUnit<'a> {
    fn lock(bench: &'a Bench<'a>, found: &Candidate<'a>, cx: &mut Context<'_>) -> Result<Self, Failure> {
        let guard = bench.hold(found.location(), cx)?;
        cx.tell(Event::Attached(Box::new(unit_event::seen(bench, &found.device))));
        Ok(Self { bench, found: found.clone(), guard })
    }

    /// Brings the unit into update mode if its application runs.
    fn enter_update_mode(
        self,
        request: &ReadRequest,
        operator: &mut dyn Operator,
        cx: &mut Context<'_>,
    ) -> Result<BootedUnit<'a>, Failure> {
        let known = variant_of(&self.found, request, operator)?;
        let (sheet, variant) = (known.map(|(sheet, _)| sheet), known.and_then(|(_, variant)| variant));
        let was_running = self.found.mode != Mode::Update;
        let device = match was_running {
            true => self.enter(variant, request.wait, operator, cx)?,
            false => self.found.device,
        };
        let Self { bench, guard, .. } = self;
        Ok(BootedUnit { bench, device, sheet, variant, was_running, guard })
    }

    /// Brings a unit from its application into update mode.
    fn enter(
        &self,
        variant: Option<&Variant>,
        wait: Duration,
        operator: &mut dyn Operator,
        cx: &mut Context<'_>,
    ) -> Result<DeviceInfo, Failure> {
        let Self { bench, found, .. } = self;
        let sheet = found.sheets.first().copied();
        let route = match variant {
            Some(variant) => variant.routes.first(),
            None => sheet.and_then(|sheet| shared_entry(found, sheet)),
        };
        let known = sheet.zip(route);
        let undescribed = || Failure::new(FailureKind::UndescribedRunning).unchanged().remedy(Remedy::EnterDfuByHand);
        let (sheet, route) = known.ok_or_else(undescribed)?;
        // Read the serial only if it distinguishes units.
        let serial = sheet.product.stable_serial.then(|| bench.serial_if_safe(&found.device)).flatten();
        let procedure = EntryProcedure::of(sheet, route, &found.device, serial.as_deref(), wait);
        entry::enter(bench, procedure, operator, cx)
    }
}

impl<'a> BootedUnit<'a> {
    /// Opens the unit and its session.
    fn connect(self, request: &ReadRequest, cx: &mut Context<'_>) -> Result<ReadSession<'a>, Failure> {
        let Self { bench, device: unit, sheet, variant, was_running, guard } = self;
        let place = bench.place(&unit.location);
        let id = id_of(&unit);
        let route = variant.or_else(|| sheet?.variants_with_route(id).next()).and_then(|variant| variant.route(id));
        let opened = bench.look(&unit, cx).map_err(|error| target_failure(bench, &unit, &error))?;
        let (variant, route) = refine_by_board_info(sheet, variant, route, &opened)?;
        let serial = opened.identity.facts.serial.clone();
        let connection = match route {
            Some(route) => opened.by_route(route, variant),
            None => opened.by_only_memory(&request.memory),
        };
        let connection = connection.ok_or_else(|| {
            Failure::new(FailureKind::NoSuchMemory { place: place.clone() }).remedy(Remedy::SelectMemory)
        })?;
        let sectors = connection.sectors().cloned().or_else(|| variant.map(|variant| variant.flash.clone()));
        let can_read = connection.can_read();
        let session = connection.open(cx).map_err(|error| failed(&error, &place, Activity::Opening))?;
        Ok(ReadSession {
            bench,
            session,
            unit,
            place,
            serial,
            sheet,
            variant,
            route,
            sectors,
            whole: Vec::new(),
            can_read,
            entered: was_running,
            _guard: guard,
        })
    }
}

/// The variant and route that match the unit's board information, if its ids leave several.
fn refine_by_board_info<'a>(
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

/// The sheet of a unit, and its variant if required and known.
fn variant_of<'a>(
    found: &Candidate<'a>,
    request: &ReadRequest,
    operator: &mut dyn Operator,
) -> Result<Option<(&'a Sheet, Option<&'a Variant>)>, Failure> {
    if let Some(text) = request.label.as_ref().filter(|_| !found.sheets.is_empty()) {
        return variant_by_label(found, text).map(|(sheet, variant)| Some((sheet, Some(variant))));
    }
    let [sheet] = found.sheets[..] else { return Ok(None) };
    match found.variants_of(sheet)[..] {
        [only] => Ok(Some((sheet, Some(only)))),
        _ if !request.wants_variant && (found.mode == Mode::Update || shared_entry(found, sheet).is_some()) => {
            Ok(Some((sheet, None)))
        }
        // The unit's own disk identifies the board.
        ref open if tells_board(found, open) => Ok(Some((sheet, None))),
        _ => {
            let question: Question = open_question(found, sheet);
            let answer = operator.read_label(&question).ok_or_else(|| undecided(&question))?;
            variant_by_label(found, &answer).map(|(sheet, variant)| Some((sheet, Some(variant))))
        }
    }
}

/// The first route of the possible variants, if all of them enter update mode in the same way and show the same ids
/// there.
fn shared_entry<'a>(found: &Candidate<'a>, sheet: &'a Sheet) -> Option<&'a Route> {
    let mut routes = found.variants_of(sheet).into_iter().map(|variant| variant.routes.first());
    let first = routes.next()??;
    let is_same = |other: Option<&Route>| other.is_some_and(|other| other.id == first.id && other.entry == first.entry);
    routes.all(is_same).then_some(first)
}

fn tells_board(found: &Candidate<'_>, open: &[&Variant]) -> bool {
    found.mode == Mode::Update
        && open.iter().all(|variant| variant.route(found.id()).is_some_and(|route| route.kind.board_id().is_some()))
}
