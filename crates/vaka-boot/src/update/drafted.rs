//! From the verdict to an approved plan and an open session.

use vaka_core::dfu::Attributes;
use vaka_core::matching::Approval;
use vaka_core::memory::SectorMap;
use vaka_core::plan::{ApprovedPlan, DialectCapabilities, KnownContent, Plan, WriteLimits, rest_of_sectors};
use vaka_core::sheet::{BOOTLOADER, Region, RouteKind, UndoPhase};
use vaka_image::address::Span;
use vaka_usb::DeviceInfo;

use super::errors::{internal, not_opened};
use super::located::Judged;
use super::planning::{check_keep, content, plan, undo_of};
use super::request::Request;
use super::resolved::Resolved;
use super::stop::{StepError, Stop};
use super::update_run::UpdateRun;
use crate::bench::connection::RoutedConnection;
use crate::failure::{Failure, FailureKind};
use crate::protocol::session::{Protection, Session};
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;
use crate::warning::Warning;
use vaka_core::matching::consent::{LOSE_REST, UNPROTECT};

/// The image for the unit, with the approval.
pub(super) struct UpdateTask<'s> {
    /// The unit as currently listed.
    pub(super) unit: DeviceInfo,
    /// The final verdict and the image.
    pub(super) resolved: Resolved<'s>,
    /// The write limits of the unit.
    pub(super) limits: UnitLimits,
    /// The final verdict's approval.
    approval: Approval,
}

/// The write limits of the unit, as it reports them or else as in the sheet.
pub(super) struct UnitLimits {
    sectors: SectorMap,
    block_size: u32,
    can_read: bool,
    attributes: Option<Attributes>,
    offer: Option<DialectCapabilities>,
}

/// A unit with an approved plan, before anything is sent to its memory.
pub(super) struct Drafted<'s> {
    task: UpdateTask<'s>,
    connection: RoutedConnection,
    plan: ApprovedPlan,
}

/// A unit with an open session.
pub(super) struct Connected<'s> {
    pub(super) task: UpdateTask<'s>,
    pub(super) session: Box<dyn Session>,
    /// The plan so far: preserved and matching content is known only after reading.
    pub(super) plan: ApprovedPlan,
    /// The known content of the unit.
    pub(super) content: KnownContent<'static>,
}

impl UnitLimits {
    fn of(connection: &RoutedConnection, resolved: &Resolved<'_>, request: &Request<'_>) -> Self {
        let check_wanted = |offer: DialectCapabilities| DialectCapabilities {
            check: offer.check.filter(|_| request.read_back),
            ..offer
        };
        Self {
            sectors: connection.sectors().cloned().unwrap_or_else(|| resolved.variant.flash.clone()),
            block_size: connection.block_size(),
            // The memory holds something else than the file.
            can_read: connection.can_read() && wants_read(request) && !resolved.variant.image.is_opaque,
            attributes: connection.attributes(),
            offer: connection.offer().map(check_wanted),
        }
    }

    fn geometry(&self) -> WriteLimits<'_> {
        let Self { sectors, can_read, attributes, offer, .. } = self;
        let block_size = Some(self.block_size);
        WriteLimits { sectors, block_size, can_read: *can_read, attributes: *attributes, offer: *offer }
    }
}

/// Preserved regions are read even if the written bytes are not read back.
fn wants_read(request: &Request<'_>) -> bool {
    request.read_back || !request.keep.is_empty()
}

impl UpdateTask<'_> {
    /// Drafts the plan from the known content of the unit.
    pub(super) fn draft(&self, request: &Request<'_>, content: KnownContent<'_>) -> Result<Plan, Failure> {
        plan(self.resolved.parts(), self.limits.geometry(), false, request, content)
    }

    /// Approves a plan with the final verdict.
    pub(super) fn approve(&self, plan: Plan) -> Result<ApprovedPlan, Failure> {
        plan.approve(&self.approval).map_err(|error| internal(&error.to_string()))
    }
}

impl<'s> Judged<'s> {
    /// Drafts the plan and shows it.
    pub(super) fn draft(self, run: &mut UpdateRun<'_, '_>) -> Result<Drafted<'s>, Stop> {
        let Self { unit, connection, resolved } = self;
        run.note_resolved(&resolved);
        let resolved = resolved.in_slot(&connection.identity.facts)?;
        let Some(connection) = connection.by_route(resolved.route, Some(resolved.variant)) else {
            return Err(Failure::new(FailureKind::NoInterface).into());
        };
        let limits = UnitLimits::of(&connection, &resolved, run.request);
        check_keep(resolved.parts(), run.request)?;
        let draft = plan(resolved.parts(), limits.geometry(), false, run.request, content(run.request))?;
        if run.request.undo_later {
            run.progress.report.undo_later = undo_of(resolved.route);
        }
        run.progress.set_image(&resolved.image, &draft);
        run.emit_plan(resolved.verdict.phase, &draft);
        run.check_shared_sectors(&resolved, &draft, limits.can_read)?;
        if run.request.plan_only {
            return Err(Stop::Planned);
        }
        let approval = resolved.verdict.approval().ok_or_else(|| internal("the plan has no final verdict"))?;
        let task = UpdateTask { unit, resolved, limits, approval };
        let plan = task.approve(draft)?;
        Ok(Drafted { task, connection, plan })
    }
}

impl<'s> Drafted<'s> {
    /// Opens the session, and lifts the read protection if the user consents to that.
    pub(super) fn connect(self, run: &mut UpdateRun<'_, '_>) -> Result<Connected<'s>, Stop> {
        let Self { mut task, connection, plan } = self;
        run.undo(plan.plan().undo(UndoPhase::Entered), UndoPhase::Entered, None);
        let mut session = match connection.open(run.cx) {
            Ok(session) => session,
            Err(SessionError::WaitsForReset) if !run.progress.attempts.reset => {
                run.cx.warn(Warning::BusReset);
                return Err(Stop::Reset { unit: Box::new(task.unit), may_stay: true });
            }
            Err(error) => return Err(run.not_opened(&error, &task.unit)),
        };
        session.expects(&task.resolved.image);
        // Disks have no read protection, so query them only if we need to read.
        let asks = wants_read(run.request) || run.request.save.is_some() || task.resolved.route.kind.volume().is_none();
        let protection = match asks {
            true => session.protection(task.resolved.image.start(), run.cx),
            false => Ok(Protection::Unknown),
        };
        let content = content(run.request);
        match protection.map_err(|error| run.not_opened(&error, &task.unit))? {
            Protection::Unprotected | Protection::Unknown => Ok(Connected { task, session, plan, content }),
            Protection::Unreadable(reason) => {
                run.cx.warn(Warning::ReadRefused { reason });
                task.limits.can_read = false;
                let content = KnownContent::Rewrite;
                let plan = task.approve(task.draft(run.request, content)?)?;
                Ok(Connected { task, session, plan, content })
            }
            Protection::Protected(reason) => {
                run.check_unprotect_allowed(&task.resolved, &reason)?;
                run.progress.ledger.start_erase_everything();
                session.unprotect(run.cx).map_err(|error| run.not_opened(&error, &task.unit))?;
                let may_stay = task.resolved.route.kind.programmer().is_some();
                Err(Stop::Reset { unit: Box::new(task.unit), may_stay })
            }
        }
    }
}

impl UpdateRun<'_, '_> {
    fn note_resolved(&mut self, resolved: &Resolved<'_>) {
        let report = &mut self.progress.report;
        report.product = Some(resolved.sheet.product.name.clone());
        report.part.clone_from(&resolved.variant.part);
        report.variant = Some(resolved.variant.id.clone());
    }

    /// The failure when a session cannot be opened; a unit that disconnected may return.
    pub(super) fn not_opened(&self, error: &SessionError, unit: &DeviceInfo) -> Stop {
        let failure = not_opened(error, &self.bench.place(&unit.location));
        StepError { failure, loss: error.loss() }.of_unit(unit)
    }

    /// Without a sheet, and if the unit cannot be read, content that shares a sector with the
    /// image is lost: that requires its own consent.
    fn check_shared_sectors(&self, resolved: &Resolved<'_>, plan: &Plan, can_read: bool) -> Result<(), Failure> {
        let lost = rest_of_sectors(&resolved.image, plan.sectors());
        let is_addressed = matches!(resolved.route.kind, RouteKind::Dfu { .. });
        let is_safe = !is_addressed || resolved.sheet.is_described || can_read || lost.is_empty();
        if is_safe || self.request.erase_all || self.has_consent(LOSE_REST) {
            return Ok(());
        }
        let bytes = lost.iter().map(|span| Span::len(*span)).sum();
        Err(Failure::new(FailureKind::SharedSectors { bytes, spans: lost }).remedy(Remedy::ConsentToLoss(LOSE_REST)))
    }

    /// Checks whether lifting the read protection is useful and consented to.
    fn check_unprotect_allowed(&mut self, resolved: &Resolved<'_>, reason: &str) -> Result<(), Failure> {
        let refused = Failure::new(FailureKind::ReadProtected { reason: reason.to_owned() }).unchanged();
        if self.progress.attempts.reset {
            return Err(refused.remedy(Remedy::ReplugProtected));
        }
        let is_written = |region: &Region| resolved.route.writes.iter().any(|written| written.name == region.name);
        let mut regions = resolved.variant.regions.iter();
        let bootloader = regions.find(|region| region.name == BOOTLOADER && !is_written(region));
        if let Some(region) = bootloader {
            return Err(refused.remedy(Remedy::BootloaderWouldBeLost(region.span.start())));
        }
        if !self.has_consent(UNPROTECT) {
            return Err(refused.remedy(Remedy::ConsentToErase(UNPROTECT)));
        }
        self.cx.warn(Warning::LiftingProtection);
        Ok(())
    }
}
