//! DFU states, and the path from each state to dfuIDLE.

use std::fmt;

/// bState. Source: DFU 1.1, section 6.1.2.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs)] // named as in the standard; `words` says what each means
pub enum State {
    AppIdle,
    AppDetach,
    DfuIdle,
    DownloadSync,
    DownloadBusy,
    DownloadIdle,
    ManifestSync,
    Manifest,
    ManifestWaitReset,
    UploadIdle,
    Error,
    Unknown(u8),
}

impl State {
    /// Decodes the state byte.
    pub fn from_wire(value: u8) -> Self {
        match value {
            0 => Self::AppIdle,
            1 => Self::AppDetach,
            2 => Self::DfuIdle,
            3 => Self::DownloadSync,
            4 => Self::DownloadBusy,
            5 => Self::DownloadIdle,
            6 => Self::ManifestSync,
            7 => Self::Manifest,
            8 => Self::ManifestWaitReset,
            9 => Self::UploadIdle,
            10 => Self::Error,
            other => Self::Unknown(other),
        }
    }

    /// Whether the unit is busy and must not be addressed during the time that it stated.
    pub fn is_working(self) -> bool {
        matches!(self, Self::DownloadSync | Self::DownloadBusy | Self::ManifestSync | Self::Manifest)
    }
}

impl State {
    /// The activity of a unit in this state, and how it ends, as text.
    pub fn meaning(self) -> &'static str {
        match self {
            Self::AppIdle => "its application is running; it must be detached first",
            Self::AppDetach => "its application waits for a bus reset; reset or replug the unit",
            Self::DfuIdle => "it waits for firmware",
            Self::DownloadSync => "it has a block and waits for a status request",
            Self::DownloadBusy => "it is processing a block; wait, then run the command again",
            Self::DownloadIdle => "it is in the middle of a download; run the command again",
            Self::ManifestSync => "it has the whole image and waits for a status request",
            Self::Manifest => "it is activating an image; wait, then run the command again",
            Self::ManifestWaitReset => "it waits for a bus reset; unplug it and plug it in again",
            Self::UploadIdle => "it is in the middle of an upload; run the command again",
            Self::Error => "it is in an error state; run the command again, which clears it",
            Self::Unknown(_) => "DFU does not have this state; unplug the unit and plug it in again",
        }
    }
}

impl fmt::Display for State {
    /// The standard's name.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::AppIdle => "appIDLE",
            Self::AppDetach => "appDETACH",
            Self::DfuIdle => "dfuIDLE",
            Self::DownloadSync => "dfuDNLOAD-SYNC",
            Self::DownloadBusy => "dfuDNBUSY",
            Self::DownloadIdle => "dfuDNLOAD-IDLE",
            Self::ManifestSync => "dfuMANIFEST-SYNC",
            Self::Manifest => "dfuMANIFEST",
            Self::ManifestWaitReset => "dfuMANIFEST-WAIT-RESET",
            Self::UploadIdle => "dfuUPLOAD-IDLE",
            Self::Error => "dfuERROR",
            Self::Unknown(value) => return write!(f, "unknown state {value}"),
        })
    }
}

/// The next step on the path to dfuIDLE.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ToIdle {
    /// The unit is in dfuIDLE.
    Done,
    /// DFU_ABORT: discards a pending or open transfer.
    Abort,
    /// DFU_GETSTATUS for the reason, then DFU_CLRSTATUS.
    ClearStatus,
    /// Wait, then DFU_GETSTATUS: it is at work.
    WaitAndAsk,
    /// The application runs; only a detach leaves this state.
    InApplication,
    /// The unit does not respond until the bus is reset.
    Reset,
    /// A state that the standard does not have.
    Unknown(u8),
}

/// The next step from `state` to dfuIDLE.
///
/// `state` must come from DFU_GETSTATE: in the sync states a DFU_GETSTATUS would start an
/// operation that an earlier program left pending, such as an erase. DFU_ABORT therefore leaves
/// these states. Source: DFU 1.1, appendix A.
///
/// # Examples
/// ```
/// use vaka_core::dfu::{State, ToIdle, next_step_to_idle};
///
/// assert_eq!(next_step_to_idle(State::DownloadIdle), ToIdle::Abort);
/// assert_eq!(next_step_to_idle(State::Error), ToIdle::ClearStatus);
/// // A unit that waits for a reset answers nothing else.
/// assert_eq!(next_step_to_idle(State::ManifestWaitReset), ToIdle::Reset);
/// ```
pub fn next_step_to_idle(state: State) -> ToIdle {
    match state {
        State::DfuIdle => ToIdle::Done,
        State::DownloadSync | State::DownloadIdle | State::ManifestSync | State::UploadIdle => ToIdle::Abort,
        State::DownloadBusy | State::Manifest => ToIdle::WaitAndAsk,
        State::Error => ToIdle::ClearStatus,
        State::AppIdle | State::AppDetach => ToIdle::InApplication,
        State::ManifestWaitReset => ToIdle::Reset,
        State::Unknown(value) => ToIdle::Unknown(value),
    }
}
