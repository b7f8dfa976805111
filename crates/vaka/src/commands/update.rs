//! `vaka update FILE`

use std::path::Path;
use std::sync::Arc;

use sha2::{Digest, Sha256};
use vaka_base::text;
use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Pace;
use vaka_boot::update::{self, Request, Save};
use vaka_core::event::{Event, Failure, Report};
use vaka_core::matching::Verdict;
use vaka_core::unit::MemoryChoice;
use vaka_image::address::Address;
use vaka_image::{Image, ReadOptions};
use vaka_usb::SystemClock;

use super::{convert, release};
use crate::Outcome;
use crate::args::{Common, Output, Strength, Update};
use crate::journal::{self, Begun, Confirmed, Ended, FileRecord};
use crate::lock::Locks;
use crate::recording::Recording;
use crate::setting::{self, Setting};
use crate::shelf::StateFolder;
use crate::{interrupt, person, releases, render};

pub fn run(args: &Update, common: &Common, setting: &Setting) -> Outcome {
    if let Some(found) = releases::named(&args.files, &args.release, common)? {
        return release::run(args, common, &found, setting);
    }
    let path = &args.files[0];
    let bytes = setting::firmware(path)?;
    let sheets = setting::sheets(common)?;
    if sheets.is_empty() && !common.agree.iter().any(|id| id == "no-sheet") {
        return Err(setting::no_sheets());
    }
    let mut options = args.choose.options();
    let file = setting::unwrapped(path, &bytes, &sheets, &mut options)?;
    let bench = Bench::new(setting::buses(common)?, &sheets).guarded(Arc::new(Locks));
    let output = Output { to: None, fill: None, family: None, dfu_ids: None, replace: false };
    if let Some(path) = &args.save {
        convert::may_write(path, &output)?;
    }
    let keep = |image: &Image| -> Result<String, Failure> {
        let to = args.save.as_deref().unwrap_or(Path::new(""));
        convert::write(image, to, &output).map_err(|problem| problem.0)?;
        Ok(to.display().to_string())
    };
    let request = Request {
        file: file.payload,
        file_name: path.file_name().map(|name| name.to_string_lossy().into_owned()),
        options,
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: args.memory.as_deref().map(MemoryChoice::parse).unwrap_or_default(),
        clear_all: args.clear_all,
        rewrite: args.rewrite,
        wait: common.wait,
        agreed: common.agree.clone(),
        plan_only: args.plan,
        read_back: args.check == Strength::Strongest,
        save: args.save.is_some().then_some(Save(&keep)),
        keep: args.keep.clone(),
        offered: &[],
        undo_later: false,
        undo_also: &[],
        shelf: Some(&StateFolder),
        history: Some(&Confirmed),
    };
    let mut renderer = render::renderer(setting);
    warn_unless_writable(args.plan, &mut |event| renderer.event(event));
    let code = std::thread::scope(|scope| {
        let what = || begun(path, args.choose.options(), common, &bytes, file.payload);
        // Digests are made while the unit is looked for.
        let mut recording = match args.plan {
            true => Recording::default(),
            false => {
                let making = scope.spawn(what);
                Recording::making(move || making.join().map_err(|_| "its beginning could not be made".to_owned()))
            }
        };
        let mut show = |event: Event| renderer.event(event);
        let mut tell = |event: Event| recording.pass(event, &mut show);
        let mut pace = Pace::new(&SystemClock, &mut tell, interrupt::flag());
        let report = update::run(&bench, &request, &mut *person::at(common), &mut pace);
        recording.code(report.code)
    });
    Ok(code)
}

/// Says before anything is changed that the journal cannot be written.
pub fn warn_unless_writable(plan_only: bool, tell: &mut dyn FnMut(Event)) {
    if let Err(why) = journal::must_be_writable().or_else(|why| if plan_only { Ok(()) } else { Err(why) }) {
        let text = format!("The journal cannot be written ({why}): this attempt will not be on record.");
        tell(Event::Warning { text });
    }
}

/// What the journal says at the beginning of any attempt.
pub fn begun(path: &Path, options: ReadOptions, common: &Common, bytes: &[u8], payload: &[u8]) -> Begun {
    // Where a binary is put does not change its bytes.
    let somewhere = ReadOptions { at: Some(options.at.unwrap_or(Address::new(0))), ..options };
    let image = vaka_image::read(payload, options).or_else(|_| vaka_image::read(payload, somewhere)).ok();
    let content = image.map(|image| {
        let mut digest = Sha256::new();
        image.segments().iter().for_each(|segment| digest.update(segment.data()));
        text::hex(&digest.finalize())
    });
    Begun {
        time: jiff::Timestamp::now(),
        vaka: env!("CARGO_PKG_VERSION").to_owned(),
        file: FileRecord {
            name: path.display().to_string(),
            size: bytes.len() as u64,
            sha256: text::hex(&Sha256::digest(bytes)),
            content_sha256: content,
        },
        release: None,
        label: common.variant.clone(),
        agreed: common.agree.clone(),
    }
}

/// What the journal wants to know of the events.
#[derive(Default)]
pub struct Watched {
    ids: Vec<String>,
    version_before: Option<String>,
    verdict: Option<Verdict>,
    error: Option<serde_json::Value>,
}

impl Watched {
    pub fn look(&mut self, event: &Event) {
        match event {
            Event::Seen(seen) => {
                let id = seen.id.to_string();
                if !self.ids.contains(&id) {
                    self.ids.push(id);
                }
                if self.version_before.is_none() && self.verdict.is_none() {
                    self.version_before = seen.version.as_ref().map(ToString::to_string);
                }
            }
            Event::Verdict { verdict, .. } => self.verdict = Some(verdict.clone()),
            Event::Error(failure) => self.error = serde_json::to_value(failure).ok(),
            _ => {}
        }
    }

    /// How an attempt ended, for the journal.
    pub fn ended(self, report: &Report) -> Ended {
        let verdict = self.verdict;
        let outcome = verdict.as_ref().and_then(|verdict| serde_json::to_value(verdict.outcome).ok());
        let conflicts = verdict.iter().flat_map(Verdict::conflicts).map(|evidence| evidence.sentence()).collect();
        let agreed = verdict.iter().flat_map(|verdict| &verdict.agreed).map(|agreement| agreement.id.clone()).collect();
        Ended {
            time: jiff::Timestamp::now(),
            ids: self.ids,
            version_before: report.version_before.as_ref().map(ToString::to_string).or(self.version_before),
            verdict: outcome.and_then(|outcome| outcome.as_str().map(str::to_owned)),
            conflicts,
            agreed,
            result: serde_json::to_value(report).unwrap_or_default(),
            error: self.error,
        }
    }
}
