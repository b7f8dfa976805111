//! The first sentence of each kind of failure: cause and location.

use vaka_base::size::{Bytes, Grouped};
use vaka_base::{duration, text};
use vaka_boot::failure::{
    Activity, AwaitedEnd, EntryTimeout, ExternalStepError, FailureKind, KnownAs, Misfit, MissingUnit, OtherDevice,
    PortEvent, RefusalReason, SaveObstacle, TriggerError, VersionOrigin,
};
use vaka_boot::protocol::session_error::SessionError;
use vaka_core::event::Difference;
use vaka_core::plan::{ErasesOption, PlanError};
use vaka_usb::BusError;

use super::phrases::capitalised;

/// Cause and location as whole sentences.
#[allow(clippy::too_many_lines)] // a table
pub(super) fn failure(kind: &FailureKind) -> String {
    use FailureKind as K;
    match kind {
        K::Program(text) => text.message.clone(),
        K::Internal(what) => format!("Internal error: {what}."),
        K::Stopped => "Stopped as requested.".to_owned(),
        K::AfterReturn { first, then } => format!("{} After it reconnected: {}", failure(first), failure(then)),

        K::Bus(error) => bus(error),
        K::Held { place, by } => format!("Another program uses the unit at {place}{by}."),
        K::NotIdentified { place, error } => format!("The unit at {place} could not be identified: {error}."),
        K::DiskUnreadable { place, error } => format!("The disk of the unit at {place} could not be read: {error}."),
        K::DialectSilent { place, dialect, error } => {
            format!("The unit at {place} does not reply in its dialect {dialect}: {error}.")
        }

        K::MissingUnit(missing) => missing_unit(missing),
        K::SeveralUnits(units) => format!("{} units fit: {}.", units.len(), units.join("; ")),
        K::NoUnitFits { count, nearest } => no_unit_fits(*count, nearest),
        K::OtherUnit { place, found, expected } => {
            format!("Another unit is at {place}: its serial number is {found}, expected {expected}.")
        }
        K::NotReturned { place, waited } => {
            format!("The unit at {place} did not return within {}.", duration::words(*waited))
        }
        K::ReturnedUnknown => "The unit returned as a device that no product sheet describes.".to_owned(),

        K::SharedIds { products, id } => format!("{} share the ids {id}.", products.join(" and ")),
        K::NoSuchLabel { text } => {
            format!("No variant has the id or label '{}'.", text::sanitize(text))
        }
        K::LabelInSeveralProducts { text } => format!("Several products have a variant '{}'.", text::sanitize(text)),
        K::AmbiguousLabel { reads, place, why } => {
            format!("The label '{reads}' on the {place} does not determine the variant: {why}.")
        }
        K::LabelsDisagree { first, second } => format!(
            "The labels contradict each other: '{}' is {}, '{}' is {}.",
            text::sanitize(&first.0),
            first.1,
            text::sanitize(&second.0),
            second.1
        ),
        K::Undecided => "The unit's ids do not determine its variant, and no label was given.".to_owned(),
        K::VariantUnknown => {
            "The variant of the unit is not known, and the next step exports a file for it.".to_owned()
        }

        K::NoAddress => "The file is a raw binary without an address, and --at was not given.".to_owned(),
        K::File(error) => format!("The file cannot be used: {error}."),
        K::Refused(reason) => format!("Refused: {}.", refusal(reason)),
        K::Older { against, origin } => {
            let origin = match origin {
                VersionOrigin::Flash => "in its flash",
                VersionOrigin::Journal => "by the journal",
            };
            format!("Refused: {} ({origin}).", against.sentence())
        }
        K::NoRoute { variant } => format!("{variant} cannot be updated over USB."),
        K::NoPlan(error) => format!("No plan is possible: {}.", plan(error)),
        K::NoSlot { property, reported: None, known } => {
            format!("The unit does not report '{property}', which selects one of {}.", known.join(", "))
        }
        K::NoSlot { property, reported: Some(value), known } => {
            format!("The unit reports {property} = {value}, which selects none of {}.", known.join(", "))
        }
        K::NoRegionToKeep { name } => {
            format!("No region '{}' can be preserved.", text::sanitize(name))
        }
        K::SharedSectors { bytes, spans } => {
            let places: Vec<String> = spans.iter().map(ToString::to_string).collect();
            format!(
                "Refused: erasing the image's sectors would also erase {} of other content ({}), and the unit cannot be read to preserve it.",
                Bytes(*bytes),
                places.join(", ")
            )
        }
        K::ReadProtected { reason } => format!("The unit's memory is read-protected: {reason}."),
        K::CannotSave(SaveObstacle::Unreadable) => {
            "The unit cannot be read, so its present content cannot be saved.".to_owned()
        }
        K::CannotSave(SaveObstacle::ReadFailed) => {
            "The unit's present content could not be read, so it cannot be saved.".to_owned()
        }

        K::Undescribed(error) => format!("No product sheet describes this unit, and {error}."),
        K::NoSheet { id } => format!("No product sheet describes {id}, whose application is running."),
        K::NamedWithoutSheet { id, place } => format!("No product sheet describes the selected unit, {id} at {place}."),
        K::NoTarget { place, programmer, error } => {
            let why = match error {
                SessionError::RejectedByDialect { words, .. } => words.clone(),
                error => error.to_string(),
            };
            format!("The {programmer} at {place} reaches no chip: {why}.")
        }
        K::HeldOnlyForWork { programmer } => {
            format!("The {programmer} holds a chip only while it reads or writes it.")
        }
        K::NeedsProgrammer { programmer } => {
            format!("This update goes through a {programmer} that is wired to the unit.")
        }
        K::PlanNeedsDfuMode => "This unit reports its capabilities only in DFU mode.".to_owned(),
        K::UndescribedRunning => {
            "The application of a unit without a product sheet is running; it is left alone.".to_owned()
        }

        K::EntryTimeout(timeout) => entry_timeout(timeout),
        K::DiskMounted { place, folder } => {
            format!("The system has the disk of the unit at {place} mounted at {folder}, and Vaka does not eject it.")
        }
        K::NoDetachInterface { place } => {
            format!("The application at {place} has no DFU interface for a detach request.")
        }
        K::Trigger { place, error } => trigger(place, error),

        K::NotOpened(error) => format!("The unit's update mode cannot be used: {error}."),
        K::NoInterface => "The unit lacks the interface that this route requires.".to_owned(),
        K::NoInterfaceAgain => {
            "In update mode again, the unit lacks the interface that this route requires.".to_owned()
        }
        K::Session { activity, error } => format!("Failed {}: {error}.", doing(activity)),
        K::ReadSession { place, activity, error } => {
            format!("The unit at {place} failed {}: {error}.", doing(activity))
        }
        K::Differs(difference) => differs(difference),
        K::ChecksumDiffers { span } => {
            format!("The unit's own checksum of {span} differs from the image's.")
        }
        K::NotLeft(error) => format!("The unit rejected the request to leave update mode: {error}."),
        K::NotBack { observed, status } => {
            let status = status.map(|status| format!(" Its bootloader reports {status}.")).unwrap_or_default();
            format!("The application did not return: {observed}.{status}")
        }
        K::NotBackAgain { observed } => format!("The application did not return after it was read: {observed}."),
        K::LostAtEnd { observed } => format!(
            "The unit disconnected before it confirmed that the image is complete. Then {observed}, and its firmware version is not known."
        ),
        K::LostBeforeFile => "The unit disconnected before it had received the whole file.".to_owned(),
        K::LeftWhileRead => "The unit returned, and disconnected again while it was read.".to_owned(),
        K::FileRefused { file, line } => format!("The unit rejected the file; its {file} says: {line}."),
        K::ShownDiffers { file, bytes, from } => {
            let count = text::count(usize::try_from(*bytes).unwrap_or(usize::MAX), "byte");
            let from = from.map_or("at its end".to_owned(), |from| format!("from {from} on"));
            format!("The unit accepted the file, but its {file} differs in {count}, {from}.")
        }

        K::NoSuchMemory { place } => format!("No DFU memory of the unit at {place} matches."),
        K::NoSuchRegion { name } => format!("There is no region '{}'.", text::sanitize(name)),
        K::NotReadable { place } => format!("The unit at {place} reports that it cannot be read."),
        K::NoApplication { place } => format!("The unit at {place} has no installed application."),
        K::ReadRefused { reason } => format!("The unit rejects reading: {reason}."),
        K::RegionNotReadable { region, span } => {
            format!("The product sheet does not allow reading region '{region}', {span}.")
        }
        K::StreamOnly => "This unit can be read only from the start of the memory that its route writes.".to_owned(),
        K::OtherBoard { reported, board, given } => {
            format!("The unit reports that it is {reported} ({board}), not {given}.")
        }
        K::BackInUpdateMode { place } => format!("The unit at {place} returned in update mode."),

        K::NeedsUser { stage } => {
            format!("Stage '{stage}' is an external step, which needs an operator to do it and to confirm its result.")
        }
        K::NoSuchStage { stage, product } => {
            format!(
                "The release has a stage '{}' that the product sheet of {product} does not describe.",
                text::sanitize(stage)
            )
        }
        K::ReleaseImage(error) => format!("An image of the release cannot be used: {error}."),
        K::NoImageFor { variants } => format!("The release has no image for {}.", variants.join(", ")),
        K::NoStageImage { stage, variant } => format!("Stage '{stage}' has no image for {}.", text::sanitize(variant)),
        K::ExternalStep { stage, tool, error } => {
            let why = match error {
                ExternalStepError::NotSeen { ids, waited } => {
                    format!("{ids} did not appear within {}", duration::words(*waited))
                }
                ExternalStepError::NotConfirmed => "its success was not confirmed".to_owned(),
            };
            format!("Stage '{stage}' with {tool} failed: {why}.")
        }
    }
}

/// An error with a capital and a full stop; a name such as `usbip://…` is not capitalized.
fn bus(error: &BusError) -> String {
    let words = error.to_string();
    if words.starts_with("usbip:") { format!("{words}.") } else { format!("{}.", capitalised(&words)) }
}

/// Maximum number of ids or units in a message. Chosen by us.
const MAX_LISTED: usize = 6;

fn missing_unit(missing: &MissingUnit) -> String {
    let MissingUnit { expected, ids, waited, .. } = missing;
    let time = if waited.is_zero() { String::new() } else { format!(" within {}", duration::words(*waited)) };
    let ids = match ids.len() {
        0 => String::new(),
        count if count > MAX_LISTED => {
            format!(" ({}, and {} more)", ids[..MAX_LISTED].join(", "), count - MAX_LISTED)
        }
        _ => format!(" ({})", ids.join(", ")),
    };
    format!("{} did not appear{time}{ids}.", capitalised(expected))
}

fn no_unit_fits(count: usize, nearest: &[Misfit]) -> String {
    let line = |unit: &Misfit| {
        format!("{} ({}): {}", unit.place, unit.product.as_deref().unwrap_or("no product sheet"), unit.against)
    };
    let lines: Vec<String> = nearest.iter().take(MAX_LISTED).map(line).collect();
    format!("The file fits none of the {count} units. Closest: {}.", lines.join("; "))
}

fn refusal(reason: &RefusalReason) -> String {
    match reason {
        RefusalReason::Undecided => "the evidence does not decide whether the file fits".to_owned(),
        RefusalReason::Evidence(evidence) => evidence.sentence(),
        RefusalReason::LabelAlone { variant, label } => {
            format!("unit and file are both {variant}, but the label was given as {label}")
        }
        RefusalReason::MadeFor { variant, against } => {
            format!("the file is made for {variant}; this unit's {}", against.sentence())
        }
    }
}

fn plan(error: &PlanError) -> String {
    let PlanError::UnitDecides { route, option } = error else { return error.to_string() };
    let option = match option {
        ErasesOption::Keep => "--keep",
        ErasesOption::EraseAll => "--erase-all",
    };
    format!("on a {route} route the unit itself decides what is erased, so {option} is not supported")
}

fn trigger(place: &str, error: &TriggerError) -> String {
    match error {
        TriggerError::NoDisk => format!("The application at {place} shows no disk to eject."),
        TriggerError::Eject(error) => format!("The disk of the application at {place} cannot be ejected: {error}."),
        TriggerError::Dialect { dialect, error } => {
            format!("The application at {place} did not enter update mode ({dialect}): {error}.")
        }
        TriggerError::Detach(error) => format!("The application at {place} did not detach: {error}."),
    }
}

fn doing(activity: &Activity) -> String {
    match activity {
        Activity::Opening => "opening it".to_owned(),
        Activity::Probing => "examining it".to_owned(),
        Activity::Reading(at) => format!("reading at {at}"),
        Activity::AskingForChecksum(at) => format!("requesting the unit's checksum at {at}"),
        Activity::Comparing(at) => format!("comparing at {at}"),
        Activity::Erasing(at) => format!("erasing at {at}"),
        Activity::ErasingAll(at) => format!("erasing everything from {at}"),
        Activity::BeginningToWrite(at) => format!("starting to write at {at}"),
        Activity::Writing(at) => format!("writing at {at}"),
        Activity::ReadingBack(at) => format!("reading back at {at}"),
        Activity::Finishing(at) => format!("ending the download at {at}"),
    }
}

fn differs(difference: &Difference) -> String {
    let Difference { first, expected, found, bytes, .. } = difference;
    let noun = if *bytes == 1 { "byte differs" } else { "bytes differ" };
    format!(
        "{} {noun} after writing; the first at {first}: the image has 0x{expected:02X}, the unit 0x{found:02X}.",
        Grouped(*bytes)
    )
}

fn entry_timeout(timeout: &EntryTimeout) -> String {
    let EntryTimeout { target, name, place, awaited, waited, .. } = timeout;
    let (time, action) = (duration::words(*waited), timeout.action.as_deref().unwrap_or_default());
    let what = match awaited {
        AwaitedEnd::UpdateMode => format!("{name} did not appear at {place} in update mode within {time}"),
        AwaitedEnd::Gone => {
            format!("{name} did not disconnect at {place} within {time} after this step: {action}")
        }
        AwaitedEnd::Back => format!("{name} did not return at {place} within {time} after this step: {action}"),
        AwaitedEnd::Acknowledged => format!("this step was not confirmed within {time}: {action}"),
    };
    let last = port_event(&timeout.last_event);
    let here = match &timeout.present {
        Some(device) => format!("Found instead: {device} ({last})."),
        None => format!("Nothing is on that port: {last}."),
    };
    let elsewhere = match &timeout.elsewhere[..] {
        [] => String::new(),
        others => format!(" Appeared elsewhere: {}.", others.join("; ")),
    };
    let kernel = timeout.kernel_report.as_deref().map(kernel_report).unwrap_or_default();
    format!("Expected {target}: {what}. {here}{elsewhere}{kernel}")
}

/// The kernel's message about a port, appended to another sentence.
pub(super) fn kernel_report(words: &str) -> String {
    format!(" The kernel reports: {words}.")
}

fn port_event(event: &PortEvent) -> String {
    match event {
        PortEvent::KeptRunning(name) => format!("{name} kept running its application"),
        PortEvent::Left => "the unit disconnected and did not return".to_owned(),
        PortEvent::ApplicationAgain { after_manual_step: false } => "the application started again".to_owned(),
        PortEvent::ApplicationAgain { after_manual_step: true } => {
            "the application started again; perhaps a button was released too early".to_owned()
        }
        PortEvent::Other(device) => {
            let OtherDevice { id, known, expected } = device;
            format!("{id} appeared on the unit's port{}; expected {expected}", known_as(known))
        }
    }
}

/// The identification of a device, in brackets after its ids.
pub(super) fn known_as(known: &KnownAs) -> String {
    match known {
        KnownAs::Unknown => String::new(),
        KnownAs::UpdateModeOf(product) => format!(" ({product}, another of its update modes)"),
        KnownAs::DfuMode => " (another DFU mode)".to_owned(),
    }
}
