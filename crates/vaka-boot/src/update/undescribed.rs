//! Units that no product sheet describes: an update of a bare DFU interface.

use std::cell::OnceCell;

use vaka_core::input::InputError;
use vaka_core::sheet::{EntryStep, Sheet, Signal};
use vaka_core::unit::Mode;
use vaka_image::address::Address;
use vaka_image::{Image, ReadError};
use vaka_usb::DeviceInfo;

use super::resolved::Resolved;
use super::update_run::UpdateRun;
use crate::bench::candidate::Candidate;
use crate::entry::{self, EntryProcedure, EntryTarget};
use crate::failure::{Failure, FailureKind};
use crate::protocol::identity::Identity;
use crate::remedy::Remedy;
use vaka_core::matching::consent::NO_SHEET;

impl<'a> UpdateRun<'a, '_> {
    /// An undescribed unit is accepted only if no other unit can be the target: many machines
    /// have some device with a DFU interface.
    pub(super) fn accepts_undescribed(&self) -> bool {
        self.bench.sheets().is_empty() || self.request.unit.is_some() || self.has_consent(NO_SHEET)
    }

    /// Judges an undescribed unit by a sheet synthesized from its reports.
    pub(super) fn judge_undescribed<'s>(
        &mut self,
        found: &Candidate<'a>,
        identity: &Identity,
        generic: &'s OnceCell<Sheet>,
    ) -> Result<Resolved<'s>, Failure> {
        let image = self.image_of_undescribed(identity)?;
        let facts = &identity.facts;
        let sheet = Sheet::of_unit(facts, &image, &self.request.memory)
            .map_err(|error| Failure::new(FailureKind::Undescribed(error)).unchanged().remedy(Remedy::WriteSheet))?;
        let sheet = generic.get_or_init(|| sheet);
        let described = Candidate { device: found.device.clone(), mode: Mode::Update, sheets: vec![sheet] };
        self.judged(&described, sheet, image, facts)
    }

    /// Requests DFU mode from the application of an undescribed unit. That changes its mode, so
    /// consent is required first.
    pub(super) fn detach_undescribed(&mut self, found: &Candidate<'a>) -> Result<DeviceInfo, Failure> {
        if !self.has_consent(NO_SHEET) {
            let failure = Failure::new(FailureKind::NoSheet { id: found.id() });
            return Err(failure.unchanged().remedy(Remedy::ConsentToNoSheet(NO_SHEET)));
        }
        if self.request.plan_only {
            let failure = Failure::new(FailureKind::PlanNeedsDfuMode);
            return Err(failure.unchanged().remedy(Remedy::EnterDfuOrUpdate));
        }
        let signal = [EntryStep::Signal(Signal::DfuDetach)];
        let procedure = EntryProcedure {
            name: "the unit",
            unit: &found.device,
            identity: None,
            entry: &signal,
            target: EntryTarget::DfuMode,
            serial: None,
            timeout: self.request.wait,
        };
        entry::enter(self.bench, procedure, self.operator, self.cx)
    }

    /// The image for an undescribed unit. Plain DFU has no addresses, so a file without addresses
    /// counts from 0 there.
    pub(super) fn image_of_undescribed(&self, identity: &Identity) -> Result<Image, Failure> {
        let plain = identity.facts.memories(&self.request.memory).iter().all(|memory| !memory.is_addressed());
        match self.request.image(None, &[], &[]) {
            Err(InputError::Read(ReadError::NoAddress)) if plain => {
                Ok(self.request.image(Some(Address::new(0)), &[], &[])?)
            }
            Err(InputError::Read(ReadError::NoAddress)) => Err(self.request.no_address(&[])),
            other => Ok(other?),
        }
    }
}
