//! `vaka update` with a release: stage by stage.

use std::path::Path;
use std::sync::Arc;

use vaka_base::text;
use vaka_boot::context::Pace;
use vaka_boot::release_install::{Around, Staged};
use vaka_boot::update::Request;
use vaka_core::event::{Event, Failure};
use vaka_core::release::Release;
use vaka_usb::SystemClock;

use super::convert;
use crate::Outcome;
use crate::args::{Common, Strength, Update};
use crate::journal::{Begun, Confirmed, FileRecord, ReleaseRecord};
use crate::lock::Locks;
use crate::recording::Recording;
use crate::releases::{self, Found};
use crate::setting::{self, Setting};
use crate::shelf::StateFolder;
use crate::{interrupt, person, render};

pub fn run(args: &Update, common: &Common, found: &Found, setting: &Setting) -> Outcome {
    let Found { path, release, .. } = found;
    let signer = releases::trusted(release, common)?;
    let sheet = releases::sheet(release, path, setting::sheets(common)?)?;
    releases::goes_together(release, &sheet, path)?;
    let build = releases::build(release, &args.release.build)?;
    let buses = setting::buses(common)?;
    let request = Request {
        unit: common.unit.clone(),
        label: common.variant.clone(),
        clear_all: args.clear_all,
        rewrite: args.rewrite,
        wait: common.wait,
        agreed: common.agree.clone(),
        plan_only: args.plan,
        read_back: args.check == Strength::Strongest,
        keep: args.keep.clone(),
        shelf: Some(&StateFolder),
        history: Some(&Confirmed),
        ..Request::new(&[])
    };
    let mut renderer = render::renderer(setting);
    renderer.event(Event::Release(releases::seen(found, build, signer)));
    for line in release.notes() {
        if !line.is_empty() && !common.quiet {
            renderer.event(Event::Warning { text: line });
        }
    }
    let staged = Staged { buses: &buses, guard: Some(Arc::new(Locks)), sheet: &sheet, release, build };
    let state = std::cell::RefCell::new(Recording::default());
    let hand_out = args.release.hand_out.as_deref();
    let mut around = Recorder { plan_only: args.plan, hand_out, common, path, release, build, state: &state };
    super::update::warn_unless_writable(args.plan, &mut |event| renderer.event(event));
    let mut show = |event: Event| renderer.event(event);
    let mut tell = |event: Event| state.borrow_mut().pass(event, &mut show);
    let mut pace = Pace::new(&SystemClock, &mut tell, interrupt::flag());
    let report = staged.run(&request, &mut *person::at(common), &mut pace, &mut around);
    Ok(state.borrow().code(report.code))
}

/// Keeps the journal of a release's stages, and hands files out.
pub struct Recorder<'a> {
    pub plan_only: bool,
    pub hand_out: Option<&'a Path>,
    pub common: &'a Common,
    pub path: &'a Path,
    pub release: &'a Release,
    pub build: &'a str,
    pub state: &'a std::cell::RefCell<Recording<'static>>,
}

impl Recorder<'_> {
    fn begun(&self, number: usize) -> Begun {
        use sha2::{Digest, Sha256};
        let manifest = &self.release.manifest;
        let bytes = std::fs::read(self.path).unwrap_or_default();
        Begun {
            time: jiff::Timestamp::now(),
            vaka: env!("CARGO_PKG_VERSION").to_owned(),
            file: FileRecord {
                name: self.path.display().to_string(),
                size: bytes.len() as u64,
                sha256: text::hex(&Sha256::digest(&bytes)),
                content_sha256: None,
            },
            release: Some(ReleaseRecord {
                product: manifest.product.clone(),
                version: manifest.version.clone(),
                channel: manifest.channel.clone(),
                build: self.build.to_owned(),
                stage: number + 1,
                stages: manifest.stages.len(),
            }),
            label: self.common.variant.clone(),
            agreed: self.common.agree.clone(),
        }
    }
}

impl Around for Recorder<'_> {
    fn begins(&mut self, number: usize) {
        let recording = if self.plan_only { Recording::default() } else { Recording::of(self.begun(number)) };
        *self.state.borrow_mut() = recording;
    }

    fn hand_out(&mut self, name: &str, bytes: &[u8]) -> Result<String, Failure> {
        let folder = self.hand_out.unwrap_or(Path::new("."));
        let path = folder.join(name);
        // The same file of an earlier run will do.
        if std::fs::read(&path).is_ok_and(|there| there == bytes) {
            return Ok(path.display().to_string());
        }
        convert::store(&path, false, &[bytes]).map_err(|problem| problem.0)?;
        Ok(path.display().to_string())
    }
}
