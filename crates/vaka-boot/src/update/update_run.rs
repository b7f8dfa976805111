//! The common context of all stages of an update.

use std::cell::OnceCell;

use vaka_core::event::{StepName, StepState};
use vaka_core::matching::{Phase, Verdict};
use vaka_core::plan::Plan;
use vaka_core::sheet::Sheet;
use vaka_usb::DeviceInfo;

use super::progress::Progress;
use super::request::Request;
use crate::bench::buses::Bench;
use crate::bench::candidate::Candidate;
use crate::context::Context;
use crate::event::Event;
use crate::operator::Operator;

/// An update of one unit, over all its attempts.
pub(super) struct UpdateRun<'a, 'b> {
    pub(super) bench: &'a Bench<'a>,
    pub(super) request: &'a Request<'a>,
    pub(super) operator: &'a mut dyn Operator,
    pub(super) cx: &'a mut Context<'b>,
    pub(super) progress: Progress<'a>,
    /// The sheet with the regions where the unit's table places them.
    pub(super) placed_sheet: &'a OnceCell<Sheet>,
}

impl<'a> UpdateRun<'a, '_> {
    pub(super) fn candidate(&self, device: &DeviceInfo) -> Option<Candidate<'a>> {
        self.bench.recognise(device).or_else(|| self.bench.undescribed(device))
    }

    pub(super) fn has_consent(&self, id: &str) -> bool {
        self.request.consents.iter().any(|consents| consents == id)
    }

    pub(super) fn emit_verdict(&mut self, verdict: &Verdict) {
        let unit = self.progress.report.unit.clone();
        for evidence in &verdict.evidence {
            self.cx.tell(Event::Evidence { unit: unit.clone(), evidence: evidence.clone() });
        }
        self.cx.tell(Event::Verdict { unit, verdict: verdict.clone() });
    }

    pub(super) fn emit_plan(&mut self, phase: Phase, plan: &Plan) {
        let unit = self.progress.place().to_owned();
        self.cx.tell(Event::Plan { unit, phase, plan: plan.clone() });
    }

    pub(super) fn emit_step(&mut self, step: StepName, state: StepState, text: String) {
        let unit = self.progress.place().to_owned();
        self.cx.tell(Event::Step { unit, step, state, text, bytes: None, transfers: None });
    }
}
