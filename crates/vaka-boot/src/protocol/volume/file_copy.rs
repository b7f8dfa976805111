//! A whole file to a disk that waits for one.
//!
//! The unit reports the result later: by disconnecting and returning, in a text file, or by
//! showing the installed file.

use std::time::Duration;

use vaka_core::dfu::Status;
use vaka_core::plan::Run;
use vaka_core::sheet::{ExitMethod, FileForm, FileTarget, VolumeRoute};
use vaka_image::ERASED;
use vaka_image::address::{Address, Span};
use vaka_image::{Image, hex};

use super::{Disk, TIME_TO_LEAVE, leave, read_all};
use crate::context::Context;
use crate::protocol::session::{Capabilities, FinishOutcome, Protection, Session};
use crate::protocol::session_error::SessionError;
use crate::warning::Warning;

/// Bytes of the image in one step, so that progress is seen. Chosen by us.
pub(crate) const CHUNK: u32 = 4096;

/// Time for a unit to install a whole file before its disk is ejected. Chosen by us: it erases
/// and programs meanwhile.
const TIME_TO_TAKE: Duration = Duration::from_secs(20);

/// The application file that the unit shows.
enum ShownFile {
    NotSeen,
    Nothing,
    Image(Box<Image>),
}

/// A session with a unit that installs a whole file.
pub(super) struct FileSession {
    disk: Box<dyn Disk>,
    file: FileTarget,
    present: Option<String>,
    leave: ExitMethod,
    shown: ShownFile,
    /// Bytes of the image that were handed over, and all of them.
    done: u64,
    total: u64,
    /// Bytes of the file that is expected on the disk: one of another length is another file.
    expected: Option<u64>,
    is_finished: bool,
}

impl FileSession {
    pub(super) fn new(disk: Box<dyn Disk>, file: &FileTarget, route: &VolumeRoute) -> Self {
        let (file, present, leave) = (file.clone(), route.application_file.clone(), route.leave);
        Self {
            disk,
            file,
            present,
            leave,
            shown: ShownFile::NotSeen,
            done: 0,
            total: 0,
            expected: None,
            is_finished: false,
        }
    }
}

/// Encodes the file for the disk. Gaps in a binary are filled as erased flash.
pub(crate) fn encode(form: FileForm, image: &Image) -> Vec<u8> {
    match form {
        FileForm::Hex => hex::write(image),
        FileForm::Binary | FileForm::AsIs => {
            let mut bytes = vec![ERASED; usize::try_from(image.span().len()).unwrap_or_default()];
            image.copy_to(image.start(), &mut bytes);
            bytes
        }
    }
}

/// Decodes such a file; a binary starts at `start`.
pub(crate) fn decode(form: FileForm, start: Address, bytes: &[u8]) -> Option<Image> {
    match form {
        FileForm::Hex => hex::read(bytes).ok(),
        FileForm::Binary | FileForm::AsIs => Image::from_memory(&[(start, bytes.to_vec())]),
    }
}

impl FileSession {
    /// The application that the unit shows. A binary has no addresses: it starts at `start`.
    fn shown(&mut self, start: Address, cx: &mut Context<'_>) -> Result<Option<&Image>, SessionError> {
        if let (ShownFile::NotSeen, Some(name)) = (&self.shown, &self.present) {
            let file = self.disk.read_file(name, &read_all, cx)?;
            let is_other = |bytes: &Vec<u8>| {
                self.file.form == FileForm::AsIs && self.expected.is_some_and(|len| len != bytes.len() as u64)
            };
            let image = file.filter(|bytes| !is_other(bytes)).and_then(|bytes| decode(self.file.form, start, &bytes));
            self.shown = image.map_or(ShownFile::Nothing, |image| ShownFile::Image(Box::new(image)));
        }
        Ok(match &self.shown {
            ShownFile::Image(image) => Some(image),
            ShownFile::NotSeen | ShownFile::Nothing => None,
        })
    }
}

impl Session for FileSession {
    fn limits(&self) -> Capabilities {
        Capabilities::blocks(CHUNK, self.present.is_some())
    }

    fn protection(&mut self, _: Address, _: &mut Context<'_>) -> Result<Protection, SessionError> {
        Ok(Protection::Unknown)
    }

    /// Deleting the file that shows the application may delete the application.
    fn erases_at_once(&self) -> bool {
        self.file.remove_first && self.present.is_some()
    }

    fn expects(&mut self, image: &Image) {
        self.expected = Some(image.span().len());
    }

    fn begin(&mut self, image: &Image, runs: &[Run], cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.total = runs.iter().map(|run| run.span().len()).sum();
        self.done = 0;
        let remove = self.present.as_deref().filter(|_| self.file.remove_first);
        self.disk.begin_file(&self.file, remove, encode(self.file.form, image), cx)
    }

    fn write(&mut self, _: Address, data: &[u8], cx: &mut Context<'_>) -> Result<(), SessionError> {
        self.done += data.len() as u64;
        self.disk.write_file(self.done, self.total, cx)
    }

    fn finish(&mut self, cx: &mut Context<'_>) -> Result<FinishOutcome, SessionError> {
        self.is_finished = true;
        self.shown = ShownFile::NotSeen;
        match self.disk.end_file(cx) {
            Ok(()) if self.file.form == FileForm::AsIs => Ok(FinishOutcome::Responsive),
            Ok(()) => Ok(FinishOutcome::Detached),
            Err(SessionError::Disconnected) => Ok(FinishOutcome::LostDuringFinish),
            Err(_) if self.disk.wait_for_disconnect(Duration::from_secs(1)) => Ok(FinishOutcome::LostDuringFinish),
            Err(error) => Err(error),
        }
    }

    fn readable_ranges(&mut self, start: Address, cx: &mut Context<'_>) -> Result<Option<Vec<Span>>, SessionError> {
        Ok(self.shown(start, cx)?.map(|image| image.segments().iter().map(|segment| segment.span()).collect()))
    }

    fn read(&mut self, at: Address, len: u32, cx: &mut Context<'_>) -> Result<Vec<u8>, SessionError> {
        let refused = || SessionError::DfuStatus {
            reason: "it shows no such file, or one of another length".into(),
            status: Status::Address,
        };
        let image = self.shown(at, cx)?.ok_or_else(refused)?;
        let wanted = Span::new(at, u64::from(len)).filter(|wanted| image.span().covers(*wanted)).ok_or_else(refused)?;
        let mut bytes = vec![ERASED; len as usize];
        image.copy_to(wanted.start(), &mut bytes);
        Ok(bytes)
    }

    fn restart(&mut self, _: Option<Address>, cx: &mut Context<'_>) -> Result<(), SessionError> {
        if !self.is_finished || self.file.form == FileForm::AsIs {
            return leave(&mut *self.disk, self.leave, cx);
        }
        let deadline = cx.now() + TIME_TO_TAKE;
        while !self.file.eject_after && cx.now() < deadline {
            if self.disk.wait_for_disconnect(Duration::from_secs(2).min(deadline.saturating_sub(cx.now()))) {
                return Ok(());
            }
            cx.waiting("the unit to install the file and disconnect", deadline);
        }
        if !self.file.eject_after {
            cx.warn(Warning::EjectingAfterFile);
        }
        self.disk.eject(cx)?;
        if self.disk.wait_for_disconnect(TIME_TO_LEAVE) {
            return Ok(());
        }
        Err(SessionError::Timeout("the file is complete on its disk, but the unit does not install it".into()))
    }

    fn rest(&mut self, _: &mut Context<'_>) {
        self.shown = ShownFile::NotSeen;
    }

    fn transfers(&self) -> u64 {
        self.disk.transfers()
    }
}
