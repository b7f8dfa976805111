//! The parts of a sheet that a unit decides: the size of its flash, and the table of its regions, which is
//! read once, before the verdict.

use vaka_core::input::joined;
use vaka_core::sheet::{RegionTable, Route, Sheet, TableReport, Variant};

use super::executor::failed;
use super::request::Request;
use super::stop::Stop;
use super::update_run::UpdateRun;
use crate::bench::candidate::Candidate;
use crate::bench::connection::Connection;
use crate::failure::Activity;
use crate::protocol::session::{Protection, Session};
use crate::protocol::session_error::SessionError;

/// A variant of a unit whose flash has a table, with the route that reads it.
#[derive(Clone, Copy)]
struct TableOwner<'a> {
    sheet: &'a Sheet,
    variant: &'a Variant,
    route: &'a Route,
    table: &'a RegionTable,
}

impl<'a> TableOwner<'a> {
    /// The variants of a unit whose flash has a table: only the labelled one, if there is a label.
    fn all(found: &Candidate<'a>, sheet: &'a Sheet, label: Option<&'a Variant>) -> Vec<Self> {
        let owner = |variant: &'a Variant| {
            Some(Self { sheet, variant, route: variant.route(found.id())?, table: variant.table.as_ref()? })
        };
        let open = sheet.variants.iter().filter(|variant| label.is_none_or(|label| label.id == variant.id));
        open.filter_map(owner).collect()
    }

    /// Whether the file has a table of its own, which counts instead of the unit's.
    fn is_replaced_by(self, request: &Request<'_>) -> bool {
        let Self { sheet, variant, table, .. } = self;
        let offered = request.offered.iter().find(|offered| offered.variant == variant.id.as_str());
        let files = offered.map_or(&request.files, |offered| &offered.files);
        let image = joined(files, variant.image.binary_at, &sheet.families(), &[variant]);
        image.is_ok_and(|image| image.parts_in(table.region.span).next().is_some())
    }
}

fn unreadable(why: &str) -> TableReport {
    TableReport::Unreadable(why.to_owned())
}

impl<'a> UpdateRun<'a, '_> {
    /// The unit with the flash that it reports and its regions where its table places them, if its
    /// sheet leaves that to the unit. A unit whose table is read is opened again afterwards.
    pub(super) fn place_regions(
        &mut self,
        mut found: Candidate<'a>,
        mut connection: Connection,
    ) -> Result<(Candidate<'a>, Connection), Stop> {
        if !found.sheets.iter().any(|sheet| sheet.depends_on_reports()) {
            return Ok((found, connection));
        }
        self.note_label(&found)?;
        let label = self.progress.unit.label;
        let sheet = match (label, &found.sheets[..]) {
            (Some((sheet, _)), _) => sheet,
            (None, [sheet]) => *sheet,
            (None, _) => {
                self.progress.unit.table.get_or_insert_with(|| unreadable("several products have its ids"));
                return Ok((found, connection));
            }
        };
        let owners = TableOwner::all(&found, sheet, label.map(|(_, variant)| variant));
        let owner = owners.first().copied();
        if let (Some(owner), None) = (owner, &self.progress.unit.table) {
            let is_one = owners.iter().all(|other| other.table == owner.table);
            let report = match (is_one, self.bench.can_probe(&found)) {
                (true, true) => {
                    let report = self.read_table(&found, connection, owner)?;
                    connection = self.open(&found.device)?;
                    report
                }
                (false, _) => unreadable("its variants have different tables, and no label was given"),
                (true, false) => unreadable("the unit leaves update mode when it is closed"),
            };
            self.progress.unit.table = Some(report);
        }
        let entries = match &self.progress.unit.table {
            Some(TableReport::Entries(entries)) if !owner.is_some_and(|owner| owner.is_replaced_by(self.request)) => {
                Some(&entries[..])
            }
            _ => None,
        };
        let facts = &connection.identity.facts;
        let placed = self.placed_sheet.get_or_init(|| sheet.as_reported(facts, entries));
        let label = self.progress.unit.label.and_then(|(_, variant)| placed.variant(variant.id.as_str()));
        self.progress.unit.label = label.map(|variant| (placed, variant));
        found.sheets = vec![placed];
        Ok((found, connection))
    }

    fn read_table(
        &mut self,
        found: &Candidate<'a>,
        connection: Connection,
        owner: TableOwner<'a>,
    ) -> Result<TableReport, Stop> {
        let TableOwner { variant, route, table, .. } = owner;
        let routed =
            connection.by_route(route, Some(variant)).filter(|routed| routed.can_read() && table.region.may_read);
        let Some(routed) = routed else {
            return Ok(unreadable("its route cannot read it"));
        };
        let mut session = match routed.open(self.cx) {
            Err(SessionError::WaitsForReset) if !self.progress.attempts.reset => {
                return Err(Stop::Reset { unit: Box::new(found.device.clone()), may_stay: true });
            }
            opened => opened.map_err(|error| self.not_opened(&error, &found.device))?,
        };
        let read = self.table_bytes(&mut *session, table);
        session.rest(self.cx);
        read.map_err(|error| failed(Activity::Reading(table.region.span.start()), &error).of_unit(&found.device))
    }

    fn table_bytes(&mut self, session: &mut dyn Session, table: &RegionTable) -> Result<TableReport, SessionError> {
        let span = table.region.span;
        match session.protection(span.start(), self.cx)? {
            Protection::Unprotected | Protection::Unknown => {}
            Protection::Protected(reason) | Protection::Unreadable(reason) => {
                return Ok(TableReport::Unreadable(reason));
            }
        }
        let mut bytes = Vec::new();
        let (mut at, most) = (span.start(), u64::from(session.limits().read_size.max(1)));
        while let Some(left) = span.end().offset_from(at).filter(|left| *left > 0) {
            let len = u32::try_from(left.min(most)).unwrap_or(1);
            bytes.extend(session.read(at, len, self.cx)?);
            at = at.checked_add(u64::from(len)).unwrap_or(span.end());
        }
        Ok(table.report(&bytes))
    }
}
