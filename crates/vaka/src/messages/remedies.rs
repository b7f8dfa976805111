//! One or two sentences for each remedy, with the names of commands and options.

use vaka_boot::remedy::Remedy;
use vaka_core::dfu::Status;
use vaka_core::sheet::VariantId;

use super::phrases::numbered;

/// The remedies of a failure as one text; `None` if there are none.
pub(super) fn remedies(remedies: &[Remedy]) -> String {
    remedies.iter().map(remedy).collect::<Vec<_>>().join(" ")
}

#[allow(clippy::too_many_lines)] // a table
fn remedy(remedy: &Remedy) -> String {
    use Remedy as R;
    let sentence = match remedy {
        R::RunAgain => "Run the same command again.",
        R::RunAgainToResume => "Run the same command again to go on.",
        R::RunAgainOrFlashWorn => "Run the same command again; if it repeats, the unit's flash is worn out or damaged.",
        R::RunAgainOrAddressWorn => {
            "Run the same command again; if the same address differs, the unit's flash is worn out or damaged there."
        }
        R::WriteAgain => {
            "Run the same command again: it writes the image once more. If it repeats, this image does not run on this unit."
        }
        R::ReportFault => "Please report this with the command that you ran.",

        R::CheckCable => "Check cable and power, and run the same command again.",
        R::CheckCableAndResume => {
            "Check cable and power, and run the same command again: it looks first, and writes only what differs."
        }
        R::CheckCableAndReenter => {
            "Check cable and power, put the unit into update mode again and run the same command."
        }
        R::CheckConnection => "Check the way to the unit (cable, hub, server, network), then run the same command.",
        R::Replug => "Unplug the unit and plug it in again.",
        R::ReplugOtherCable => "Unplug it, plug it in again, and try another cable if that repeats.",
        R::ReplugAndReenter => "Unplug the unit, put it into update mode again and run the same command.",
        R::ReenterOrFaulty => {
            "Put the unit into update mode again and run the same command; if it repeats, the unit itself has a fault."
        }
        R::ReplugAndReenterOrFaulty => {
            "Unplug the unit and put it into update mode again; if it repeats, the unit itself has a fault."
        }
        R::ResetOrReplug => "Press reset on the unit, or unplug it and plug it in again.",
        R::SetSwitchesBack => "Set switches and buttons back and press reset, or unplug the unit and plug it in again.",
        R::SetSwitchesBackAndLook => {
            "Set switches and buttons back and press reset, or unplug the unit and plug it in again; 'vaka survey' shows what it is then."
        }
        R::MaybeNoApplication => "There may be no application in it, or a button or switch is still set.",
        R::PlugIn => "Plug it in, or see with 'vaka survey' where it is.",
        R::PlugInSameUnit => "Plug the unit in again that was begun with, and run the same command.",
        R::LookWhatItIs => "See with 'vaka survey' what it is now.",
        R::LookAndRunAgain => "See with 'vaka survey' what the unit is now, and run the same command again.",

        R::CheckServer => "Is the USB/IP server running there, and is that its port? Then run the same command again.",
        R::CheckServerPort => "Is this the port of a USB/IP server (version 1.1.1)?",
        R::EndOtherProgram => "End that program, then run the same command again.",
        R::GetAccess => "Give this user the right to it, or end that program, and run the same command.",
        R::GrantAccess { vendor } => return grant_access(*vendor),
        R::CheckUsbAccess => "May this user see /sys/bus/usb? Or name a server: --bus usbip://HOST[:PORT].",

        R::TraceFrames => "Run it again with --trace FILE; 'vaka dialect trace' then shows each frame, field by field.",
        R::ReenterAndTrace => {
            "Unplug it, bring it into update mode again and run the same command; --trace FILE and 'vaka dialect trace' show each frame."
        }
        R::ReadDialect => {
            "What that means stands in the dialect; 'vaka dialect show' prints it. Nothing is gained by trying the same again."
        }
        R::DfuStatus(status) => dfu_status(*status),

        R::CheckUnitIsThere { steps } => return check_unit_is_there(steps),
        R::RepeatEntrySteps { steps, is_absent } => return repeat_steps(steps, *is_absent),
        R::ReplugOrWaitLonger => {
            "Check cable and power, unplug the unit, plug it in again and run the same command; --wait gives more time."
        }
        R::EnterByHand => "Bring the unit into update mode by hand, then run the same command.",
        R::EnterByHandOldApplication => {
            "An older application may lack it: bring the unit into update mode by hand, then run the same command."
        }
        R::EnterDfuByHand => "Put it into its DFU mode by hand, then run the same command.",
        R::EnterDfuOrUpdate => "Put it into DFU mode and run the same command, or leave out --plan.",
        R::EjectMounted { node } => {
            return format!("Eject it there, or with: udisksctl unmount -b {node}; then run the same command.");
        }
        R::EjectOrUnmount => "Eject the disk in your desktop, or unmount it and run the same command again.",
        R::MountWritable => "Mount it with the right to write, or unmount it: then Vaka uses the disk by itself.",
        R::UnmountAndReenter => "Unmount the disk, put the unit into update mode again and run the same command.",
        R::FreeDiskSpace => "Delete files on the unit's disk that do not belong there, and run the same command.",
        R::UpdateOrReplug => "Run 'vaka update' with the file that is in it, or unplug the unit and plug it in again.",
        R::LiftWriteProtection => "Take the unit's write protection off; some use it to refuse an image.",

        R::SelectUnit { port } => {
            return format!(
                "Choose one, for example with --unit port={port}. Where each is: unplug one, and see with 'vaka survey' which is gone."
            );
        }
        R::MatchFileAndUnit => {
            "Take the file for one of these units, or plug in a unit that the file is for; 'vaka check FILE' shows which that is."
        }
        R::QualifyVariant => "Name it with its product: --variant PRODUCT/VARIANT.",
        R::ReadLabel { variants } => {
            let options = options("--variant", variants).join(" or ");
            return format!("Read the label on the unit and say what it is: {options}.");
        }
        R::ReadAnyLabel => "Read the label on the unit and say what it is: --variant ID.",
        R::RereadLabel => "Read the label again.",
        R::RereadLabelOnly => "Read the label again: the unit and the file agree with each other.",
        R::RereadLabels => "Read both places again. If they really differ, this is no unit that the sheet describes.",
        R::LookAt(places) => return format!("Look at: {}.", places.join("; ")),
        R::KnownVariants(known) => return format!("The variants are: {}.", known.join(", ")),

        R::Consent(ids) => return format!("If that is what you want: {}.", options("--allow", ids).join(" ")),
        R::ConsentToLoss(id) => return format!("If nothing of that is needed: --allow {id}."),
        R::ConsentToNoSheet(id) => {
            return format!("If it is to be put into DFU mode and updated on its own word alone: --allow {id}.");
        }
        R::ConsentToErase(id) => {
            return format!(
                "Lifting it erases the whole part: all firmware, settings and anything else in it. If that is what you want: --allow {id}."
            );
        }

        R::Instead(words) => {
            return format!("The sheet says what is done instead: {}.", words.trim_end_matches('.'));
        }
        R::TakeFileForUnit { not } => {
            return format!("Take the file for the variant that this unit is; it is not {not}.");
        }
        R::NoVariantOf(product) => return format!("This is not a file for any variant of {product}."),
        R::SelectPart(part) => return format!("The file is for another part of the product: --part {part}."),
        R::FetchFile => "Fetch or build the file again; 'vaka check FILE' shows what it is.",
        R::TakeFileFor { made_for, wanted, or_label } => return take_file_for(made_for, wanted, *or_label),
        R::CompareDescription(variant) => {
            return format!(
                "This unit does not match the description of {variant} in the sheet; compare it with 'vaka survey'."
            );
        }
        R::ReadLabelAndTakeFile(variant) => {
            return format!(
                "By its own report this unit is not {variant}. Read its label again, and take the file for what it says."
            );
        }
        R::TakeFileBuiltFor { product, variant } => {
            return format!("Take the file that was built for {product} {variant}.");
        }
        R::Relink { variant, starts_at, wanted } => {
            return format!(
                "The file is built for {variant}, and starts at {starts_at}; {variant} starts applications at {wanted}. Relink it for {wanted}, or take the file that was linked for that."
            );
        }
        R::GiveAddress { starts } => return give_address(starts),
        R::CheckFileIsForUnit => "Check that this file is for this very unit, and take one that was released for it.",

        R::KeepableRegions(known) => return format!("What can be kept: {}.", known.join(", ")),
        R::Keep(regions) => {
            return format!("To have it read first and written again: {}.", options("--keep", regions).join(" "));
        }
        R::CompareGeometry => "Compare the sheet's flash and regions with what 'vaka survey' shows of the unit.",
        R::DoNotSave => "Leave out --save if the present content is not needed.",
        R::ReplugProtected => "It still is after it was lifted; unplug the unit, plug it in and try once more.",
        R::BootloaderWouldBeLost(at) => {
            return format!(
                "Lifting it would erase the whole part, its bootloader at {at} too, which this file does not put back: that needs the maker's own tools."
            );
        }
        R::WriteSheet => "Write a product sheet for it; 'vaka sheet new' makes a first one from what can be seen.",

        R::SelectMemory => "'vaka sheet new' shows its memories; choose one with --memory.",
        R::KnownRegions(known) => return format!("There are: {}. Or give --range A..B.", known.join(", ")),
        R::CannotBeRead => "There is no way to.",
        R::CannotBeReadThough => "There is no way to, whatever it promises.",
        R::NothingToRead => "There is nothing to read.",
        R::WouldBeErased => "Lifting that would erase what you want to read.",
        R::ReadElsewhere => "Read other addresses; if that is not meant, correct `allows` in the sheet.",
        R::ReadWholeRegion => "Leave --range and --region out, or stay inside that region.",

        R::RunAtTerminal => "Run it at a terminal, without --unattended.",
        R::UseSheetOfRelease => "Take the sheet that came with the release: leave --sheets out.",
        R::PackAgain => "Have the release made again; 'vaka pack' checks what it packs.",
        R::KnownImages(variants) => return format!("It has images for: {}.", variants.join(", ")),

        R::RestoreSaved { file } => {
            return format!("The old firmware goes back with: vaka update {file} --allow older-version");
        }
    };
    sentence.to_owned()
}

/// The option repeated with each value.
fn options<T: std::fmt::Display>(option: &str, values: &[T]) -> Vec<String> {
    values.iter().map(|value| format!("{option} {value}")).collect()
}

/// A rule for the system's device manager, ready to be copied.
fn grant_access(vendor: u16) -> String {
    format!(
        "As root, put this line into /etc/udev/rules.d/70-vaka.rules and plug the unit in anew ('vaka setup rules' makes such lines for all units of your sheets):\n  \
         SUBSYSTEM==\"usb\", ATTR{{idVendor}}==\"{vendor:04x}\", MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\""
    )
}

fn check_unit_is_there(steps: &[String]) -> String {
    let steps = if steps.is_empty() { String::new() } else { format!(" Into update mode: {}.", numbered(steps)) };
    format!(
        "Try the cable on a unit that works (some cables only charge) and check the power.{steps} 'vaka survey' lists what is connected; a unit that another program uses is not listed."
    )
}

fn repeat_steps(steps: &[String], is_absent: bool) -> String {
    let steps = numbered(steps);
    match is_absent {
        true => format!(
            "Try the cable on a unit that works (some cables only charge) and check the power. Then, in this order: {steps}. --wait gives more time."
        ),
        false => format!("Do the steps again, in this order: {steps}. --wait gives more time."),
    }
}

fn take_file_for(made_for: &[VariantId], wanted: &VariantId, or_label: bool) -> String {
    let made_for: Vec<&str> = made_for.iter().map(VariantId::as_str).collect();
    let made_for = made_for.join(", ");
    match or_label {
        false => format!("The file is for {made_for}; take the file for {wanted}."),
        true => format!("The file is for {made_for}. Take the file for {wanted}, or read the label again."),
    }
}

fn give_address(starts: &[(VariantId, vaka_image::address::Address)]) -> String {
    let starts: Vec<String> = starts.iter().map(|(variant, start)| format!("{variant} starts at {start}")).collect();
    let known = if starts.is_empty() { String::new() } else { format!(" By the sheet, {}.", starts.join(", ")) };
    format!("Give --at with the address it was linked for, or use the HEX file of the same build.{known}")
}

/// The remedy for the status of a DFU unit. Source of the statuses: DFU 1.1, section 6.1.2.
fn dfu_status(status: Status) -> &'static str {
    match status {
        Status::Ok | Status::UnknownError | Status::Unknown(_) => {
            "Put the unit into update mode again and run the same command; if it repeats, the unit itself has a fault."
        }
        Status::Target => "Check that this file is made for this very unit; its own bootloader says that it is not.",
        Status::File => {
            "Take a file that was released for this unit; one that was changed, cut or not signed is refused."
        }
        Status::Write => {
            "Look for a write protection (a jumper, an option of the chip) and lift it, then run the same command."
        }
        Status::Erase | Status::CheckErased | Status::Program | Status::Verify => {
            "Run the same command again; if the same address fails, the unit's flash is worn out or damaged there."
        }
        Status::Address => "Compare the file's addresses ('vaka check FILE') with the memory that 'vaka survey' shows.",
        Status::NotDone => "Fetch the file again: it was cut short, or is made for another unit.",
        Status::Firmware => "Run 'vaka update' with the right file: the unit waits for firmware.",
        Status::Vendor => "Ask the maker what it means; with memory addresses it mostly is read protection.",
        Status::UsbReset | Status::PowerOnReset => "Check cable and power, then run the same command again.",
        Status::StalledPacket => "Unplug the unit, put it into update mode again and run the same command.",
    }
}
