//! Waiting until exactly one unit fits.

use std::cell::LazyCell;
use std::ops::Deref;
use std::time::Duration;

use vaka_base::text;
use vaka_core::matching::consent::NO_SHEET;
use vaka_core::sheet::Sheet;

use crate::bench::buses::Bench;
use crate::bench::candidate::{Candidate, id_of};
use crate::bench::open_error::bus_failure;
use crate::bench::selector::Selector;
use crate::bench::waiting::{Wait, WaitEnd};
use crate::context::Context;
use crate::context::stopped;
use crate::event::Event;
use crate::failure::{Failure, FailureKind, Misfit, MissingUnit, UnitCondition};
use crate::operator::Operator;
use crate::protocol::identity::is_disk;
use crate::remedy::Remedy;
use crate::warning::Warning;

/// Evaluates the candidate sheets lazily: it may require judging a large image by each sheet, and
/// usually a single unit is attached.
pub struct LazyCandidates<'a>(LazyCell<Vec<&'a Sheet>, Box<dyn FnOnce() -> Vec<&'a Sheet> + 'a>>);

impl<'a> LazyCandidates<'a> {
    /// Creates it from the function that evaluates the sheets.
    pub fn of(work_out: impl FnOnce() -> Vec<&'a Sheet> + 'a) -> Self {
        Self(LazyCell::new(Box::new(work_out)))
    }
}

impl<'a> Deref for LazyCandidates<'a> {
    type Target = [&'a Sheet];

    fn deref(&self) -> &[&'a Sheet] {
        &self.0
    }
}

/// The unit to find.
pub struct UnitQuery<'a> {
    /// The one that was named.
    pub selector: Option<&'a Selector>,
    /// Whether a unit without a sheet is acceptable if no other matches.
    pub undescribed: bool,
    /// Prefer a unit described by one of these sheets.
    pub candidate_sheets: LazyCandidates<'a>,
    /// The reason why a unit cannot be the one, according to file and bus; evaluated only if
    /// several units are attached.
    pub misfit: &'a dyn Fn(&Candidate<'_>) -> Option<String>,
}

/// For queries that any unit satisfies.
fn no_misfit(_: &Candidate<'_>) -> Option<String> {
    None
}

impl<'a> UnitQuery<'a> {
    /// A query for any unit with a sheet that matches the selector.
    pub fn any(bench: &Bench<'a>, selector: Option<&'a Selector>, undescribed: bool) -> Self {
        let sheets = bench.sheets();
        Self {
            selector,
            undescribed,
            candidate_sheets: LazyCandidates::of(|| sheets.iter().collect()),
            misfit: &no_misfit,
        }
    }
}

/// After this time a missing unit may be a damaged one. Chosen by us: longer than it takes to
/// plug a unit in.
const SILENT_AFTER: Duration = Duration::from_secs(4);

/// Waits until exactly one unit matches. If several match, the user chooses one at a terminal.
///
/// # Errors
/// Timeout, ambiguous match, interrupted by the user, or bus failure.
pub fn find<'a>(
    bench: &Bench<'a>,
    hunt: &UnitQuery<'_>,
    wait: Duration,
    operator: &mut dyn Operator,
    cx: &mut Context<'_>,
) -> Result<Candidate<'a>, Failure> {
    let selector = hunt.selector;
    let _wanted = bench.want();
    let mut pending = Wait::new(wait, cx.clock()).announced();
    let mut recovery_at = Some(cx.now() + SILENT_AFTER);
    loop {
        let mut found = bench.select(selector, hunt.undescribed).map_err(|error| bus_failure(&error))?;
        if found.iter().any(|candidate| !candidate.sheets.is_empty()) {
            found.retain(|candidate| !candidate.sheets.is_empty());
        }
        let is_hoped = |candidate: &Candidate<'_>| {
            candidate
                .sheets
                .iter()
                .any(|sheet| hunt.candidate_sheets.iter().any(|hoped| hoped.product.id == sheet.product.id))
        };
        if found.len() > 1 && found.iter().any(is_hoped) {
            found.retain(is_hoped);
        }
        match found.len() {
            0 => {}
            1 => return Ok(found.remove(0)),
            _ => return one_of(bench, hunt, found, operator),
        }
        match pending.check(|| waited_for(hunt), cx) {
            None => {}
            Some(WaitEnd::Stopped) => return Err(stopped().unit(UnitCondition::NoUnit)),
            Some(WaitEnd::TimedOut) => return Err(none(bench, hunt, wait)),
        }
        if recovery_at.is_some_and(|at| cx.now() >= at) {
            recovery_at = None;
            tell_recovery(hunt, cx);
        }
        pending.pause(bench, cx);
    }
}

/// The unit to attach, for messages.
fn expected(hunt: &UnitQuery<'_>) -> String {
    match hunt.selector {
        Some(Selector::Name(name)) => text::sanitize(name),
        Some(selector) => format!("the selected unit ({selector})"),
        None if hunt.candidate_sheets.is_empty() => "a unit with a DFU interface".to_owned(),
        None => {
            let names: Vec<&str> = hunt.candidate_sheets.iter().map(|sheet| sheet.product.name.as_str()).collect();
            names.join(" or ")
        }
    }
}

/// The sheets whose units are awaited: those of the given name, else the candidate sheets.
fn hoped<'a>(hunt: &UnitQuery<'a>) -> Vec<&'a Sheet> {
    let named = |sheet: &&Sheet| match hunt.selector {
        Some(Selector::Name(name) | Selector::Any(name)) => {
            [&sheet.product.id, &sheet.product.name].iter().any(|known| known.eq_ignore_ascii_case(name))
        }
        _ => true,
    };
    hunt.candidate_sheets.iter().copied().filter(named).collect()
}

/// The awaited unit, for messages. A unit that listens only briefly after power-on is missed if
/// it is plugged in before the tool starts waiting.
fn waited_for(hunt: &UnitQuery<'_>) -> String {
    let hoped = hoped(hunt);
    let listens = |sheet: &&&Sheet| {
        let mut routes = sheet.variants.iter().flat_map(|variant| &variant.routes);
        routes.any(|route| route.listens.is_some())
    };
    match hoped.len() == hoped.iter().filter(listens).count() && !hoped.is_empty() {
        true => {
            let names: Vec<&str> = hoped.iter().map(|sheet| sheet.product.name.as_str()).collect();
            format!("{}: if it is already connected, unplug it and plug it back in", names.join(" or "))
        }
        false => format!("{} to be plugged in", expected(hunt)),
    }
}

/// Emits the recovery steps of the sheet for a unit that does not respond.
fn tell_recovery(hunt: &UnitQuery<'_>, cx: &mut Context<'_>) {
    for sheet in hoped(hunt) {
        let mut routes = sheet.variants.iter().flat_map(|variant| &variant.routes);
        let Some(route) = routes.find(|route| !route.recovery.is_empty()) else { continue };
        cx.warn(Warning::MaybeDamaged { product: sheet.product.name.clone() });
        for (number, step) in (1..).zip(&route.recovery) {
            let (unit, of) = (String::new(), route.recovery.len());
            cx.tell(Event::ManualStep { unit, number, of, step: step.clone() });
        }
    }
}

/// Returns the only unit that fits, or the unit that the user selects from several.
fn one_of<'a>(
    bench: &Bench<'a>,
    hunt: &UnitQuery<'_>,
    mut found: Vec<Candidate<'a>>,
    operator: &mut dyn Operator,
) -> Result<Candidate<'a>, Failure> {
    let misfits: Vec<Option<String>> = found.iter().map(|candidate| (hunt.misfit)(candidate)).collect();
    if misfits.iter().all(Option::is_some) {
        return Err(none_fits(bench, &found, &misfits));
    }
    let mut fits = misfits.iter().map(Option::is_none);
    found.retain(|_| fits.next().unwrap_or(true));
    if found.len() == 1 {
        return Ok(found.remove(0));
    }
    let list: Vec<String> = found.iter().map(|candidate| summary(bench, candidate)).collect();
    match operator.choose(&list).filter(|chosen| *chosen < found.len()) {
        Some(chosen) => Ok(found.swap_remove(chosen)),
        None => Err(several(bench, &found, &list)),
    }
}

/// A unit in one line, with everything that distinguishes it from similar ones.
fn summary(bench: &Bench<'_>, candidate: &Candidate<'_>) -> String {
    let name = candidate.sheets.first().map_or("no product sheet", |sheet| &sheet.product.name);
    let place_name =
        bench.place_name(candidate.location()).map(|place_name| format!(" \"{place_name}\"")).unwrap_or_default();
    let serial = bench.serial_if_safe(&candidate.device).map(|serial| format!(", serial number {serial}"));
    let (place, serial) = (bench.place(candidate.location()), serial.unwrap_or_default());
    format!("{place}{place_name} ({name}, {} mode, {}{serial})", candidate.mode, candidate.id())
}

/// Several units are attached, and none of them matches.
fn none_fits(bench: &Bench<'_>, found: &[Candidate<'_>], misfits: &[Option<String>]) -> Failure {
    let misfit = |(candidate, against): (&Candidate<'_>, &Option<String>)| Misfit {
        place: bench.place(candidate.location()),
        product: candidate.sheets.first().map(|sheet| sheet.product.name.clone()),
        against: against.clone().unwrap_or_default(),
    };
    let nearest = found.iter().zip(misfits).map(misfit).collect();
    Failure::new(FailureKind::NoUnitFits { count: found.len(), nearest })
        .unit(UnitCondition::NoUnit)
        .remedy(Remedy::MatchFileAndUnit)
}

fn several(bench: &Bench<'_>, found: &[Candidate<'_>], list: &[String]) -> Failure {
    let port = bench.place(found[0].location());
    Failure::new(FailureKind::SeveralUnits(list.to_vec()))
        .unit(UnitCondition::NoUnit)
        .remedy(Remedy::SelectUnit { port })
}

/// The selected device is attached, but no sheet describes it.
fn without_sheet(bench: &Bench<'_>, hunt: &UnitQuery<'_>) -> Option<Failure> {
    let named = bench.devices_with(hunt.selector?).ok()?;
    let [device] = &named[..] else { return None };
    if bench.recognise(device).is_some() {
        return None;
    }
    let has_disk = device.interfaces.iter().any(|i| is_disk(i.class, i.subclass, i.protocol));
    let remedy = match has_disk && hunt.undescribed {
        true => Remedy::ConsentToDisk(NO_SHEET),
        false => Remedy::WriteSheet,
    };
    let (id, place) = (id_of(device), bench.place(&device.location));
    Some(Failure::new(FailureKind::NamedWithoutSheet { id, place }).unchanged().remedy(remedy))
}

fn none(bench: &Bench<'_>, hunt: &UnitQuery<'_>, waited: Duration) -> Failure {
    if let Some(failure) = without_sheet(bench, hunt) {
        return failure;
    }
    let there = bench.devices().unwrap_or_default();
    let hoped = hoped(hunt);
    let ids = match hunt.selector {
        Some(Selector::Id(id)) => vec![id.to_string()],
        Some(Selector::Programmer(_)) => programmer_ids(bench),
        _ => ids_of(&hoped),
    };
    let steps = match &hoped[..] {
        [only] => entry_steps(only),
        _ => None,
    };
    let missing = MissingUnit {
        expected: expected(hunt),
        ids,
        waited,
        present: there.iter().map(|device| in_brief(bench, device)).collect(),
        empty_reason: bench.empty_reason().filter(|_| there.is_empty()),
    };
    let steps = steps.unwrap_or_default();
    Failure::new(FailureKind::MissingUnit(missing)).remedy(Remedy::CheckUnitIsThere { steps })
}

/// A device with its location, and its serial number if a sheet describes it.
fn in_brief(bench: &Bench<'_>, device: &vaka_usb::DeviceInfo) -> String {
    let serial = bench.recognise(device).and_then(|_| bench.serial_if_safe(device));
    let serial = serial.map(|serial| format!(", serial number {serial}")).unwrap_or_default();
    format!("{} at {}{serial}", id_of(device), bench.place(&device.location))
}

/// The ids that the units of these sheets show, in application and update mode.
fn ids_of(sheets: &[&Sheet]) -> Vec<String> {
    let of = |sheet: &&Sheet| {
        let own =
            sheet.application.id.iter().chain(sheet.variants.iter().filter_map(|variant| variant.shows.id.as_ref()));
        let routes = sheet.variants.iter().flat_map(|variant| &variant.routes).map(|route| &route.id);
        own.chain(routes).map(ToString::to_string).collect::<Vec<_>>()
    };
    let mut ids: Vec<String> = sheets.iter().flat_map(of).collect();
    ids.sort();
    ids.dedup();
    ids
}

/// The USB ids of all programmers.
fn programmer_ids(bench: &Bench<'_>) -> Vec<String> {
    let mut ids: Vec<String> = bench
        .sheets()
        .iter()
        .flat_map(|sheet| &sheet.programmers)
        .map(|programmer| programmer.id.to_string())
        .collect();
    ids.sort();
    ids.dedup();
    ids
}

/// The manual steps into update mode, if all variants of the product share them.
fn entry_steps(sheet: &Sheet) -> Option<Vec<String>> {
    let mut all = sheet.variants.iter().filter_map(|variant| variant.routes.first()).map(|route| route.manual_steps());
    let first = all.next().filter(|steps| !steps.is_empty())?;
    let is_same = all.all(|steps| steps == first);
    let steps = first.iter().map(|step| step.action.trim_end_matches('.').to_owned());
    is_same.then(|| steps.collect())
}
