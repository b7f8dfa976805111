//! One or two sentences for each remedy, with the names of commands and options.

use vaka_boot::remedy::Remedy;
use vaka_can::CanError;
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
        R::RunAgainToResume => "Run the same command again to resume.",
        R::RunAgainOrFlashWorn => {
            "Run the same command again; if it fails again, the unit's flash is worn out or damaged."
        }
        R::RunAgainOrAddressWorn => {
            "Run the same command again; if the same address differs, the unit's flash is worn out or damaged there."
        }
        R::WriteAgain => {
            "Run the same command again: it writes the image again. If it fails again, this image does not run on this unit."
        }
        R::ReportFault => "Please report this with the command that you ran.",

        R::CheckCable => "Check cable and power, and run the same command again.",
        R::CheckCableAndResume => {
            "Check cable and power, and run the same command again: it compares first and writes only what differs."
        }
        R::CheckCableAndReenter => {
            "Check cable and power, put the unit into update mode again and run the same command."
        }
        R::CheckConnection => {
            "Check the connection to the unit (cable, hub, server, network), then run the same command."
        }
        R::Replug => "Unplug the unit and plug it in again.",
        R::ReplugOtherCable => "Unplug the unit and plug it in again; try another cable if it fails again.",
        R::ReplugAndReenter => "Unplug the unit, put it into update mode again and run the same command.",
        R::ReenterOrFaulty => {
            "Put the unit into update mode again and run the same command; if it fails again, the unit is faulty."
        }
        R::ReplugAndReenterOrFaulty => {
            "Unplug the unit and put it into update mode again; if it fails again, the unit is faulty."
        }
        R::ResetOrReplug => "Press reset on the unit, or unplug it and plug it in again.",
        R::SetSwitchesBack => "Set switches and buttons back and press reset, or unplug the unit and plug it in again.",
        R::SetSwitchesBackAndLook => {
            "Set switches and buttons back and press reset, or unplug the unit and plug it in again; then run 'vaka survey'."
        }
        R::MaybeNoApplication => "Perhaps no application is installed, or a button or switch is still set.",
        R::PlugIn => "Plug it in, or find it with 'vaka survey'.",
        R::PlugInSameUnit => "Reconnect the original unit and run the same command.",
        R::LookWhatItIs => "Run 'vaka survey' to see its current mode.",
        R::LookAndRunAgain => "Run 'vaka survey' to see the unit's current mode, then run the same command again.",

        R::CheckServer => "Check that a USB/IP server is running there on that port, then run the same command again.",
        R::CheckServerPort => "Check that this is the port of a USB/IP server (version 1.1.1).",
        R::EndOtherProgram => "End that program, then run the same command again.",
        R::GetAccess => "Give this user access to it, or end the program that uses it, and run the same command.",
        R::GrantAccess { vendor } => return grant_access(*vendor),
        R::JoinGroup { group } => return join_group(group.as_deref()),
        R::CanBus(error) => return can_bus(error),
        R::SetInterfaceUp { name, rate } => return set_up(name, *rate),
        R::SeparateNodes => "Leave only one of them on the bus, and give the others their own ids.",
        R::LoadSerialDriver => {
            "Load the system's driver for its serial port (the maker of the bridge chip names it); 'vaka diagnose' lists the driver of each interface."
        }
        R::CheckUsbAccess => "Check that this user can read /sys/bus/usb, or name a server: --bus usbip://HOST[:PORT].",

        R::TraceFrames => "Run it again with --trace FILE; 'vaka dialect trace' then shows each frame, field by field.",
        R::ReenterAndTrace => {
            "Unplug the unit, put it into update mode again and run the same command; --trace FILE and 'vaka dialect trace' show each frame."
        }
        R::ReadDialect => "The dialect explains the reply; print it with 'vaka dialect show'. Retrying will not help.",
        R::DfuStatus(status) => dfu_status(*status),

        R::CheckUnitIsThere { steps } => return check_unit_is_there(steps),
        R::CheckWiring { steps } => {
            return format!("Check the wiring, step by step: {}. Then run the same command.", steps.join("; "));
        }
        R::UseProgrammer { name } => {
            return format!("Wire it to the unit, and give --unit programmer={name}.");
        }
        R::AskProgrammer { name } => {
            return format!("'vaka diagnose --unit programmer={name}' asks which chip it reaches.");
        }
        R::PlugTargetIn => {
            "Plug the unit's own cable in: 'vaka survey' then shows whether it runs. If it does not, take the programmer's wires off, which may hold it in reset."
        }
        R::RepeatEntrySteps { steps, is_absent } => return repeat_steps(steps, *is_absent),
        R::ReplugOrWaitLonger => {
            "Check cable and power, unplug the unit, plug it in again and run the same command; --wait allows more time."
        }
        R::EnterByHand => "Put the unit into update mode manually, then run the same command.",
        R::EnterByHandOldApplication => {
            "An older application may lack it: put the unit into update mode manually, then run the same command."
        }
        R::EnterDfuByHand => "Put it into DFU mode manually, then run the same command.",
        R::EnterDfuOrUpdate => "Put it into DFU mode and run the same command, or omit --plan.",
        R::EjectMounted { node } => {
            return format!("Eject it there, or with: udisksctl unmount -b {node}; then run the same command.");
        }
        R::EjectOrUnmount => "Eject the disk in your desktop, or unmount it and run the same command again.",
        R::MountWritable => "Mount it writable, or unmount it so that Vaka accesses the disk directly.",
        R::UnmountAndReenter => "Unmount the disk, put the unit into update mode again and run the same command.",
        R::FreeDiskSpace => "Delete other files on the unit's disk, and run the same command.",
        R::UpdateOrReplug => {
            "Run 'vaka update' with the file that is installed, or unplug the unit and plug it in again."
        }
        R::LiftWriteProtection => "Switch off the unit's write protection; some units use it to reject an image.",

        R::SelectUnit { port } => {
            return format!(
                "Choose one, for example with --unit port={port}. To tell them apart, unplug one and run 'vaka survey'."
            );
        }
        R::MatchFileAndUnit => {
            "Use the file for one of these units, or plug in a unit that the file fits; 'vaka check FILE' lists the variants it fits."
        }
        R::QualifyVariant => "Name it with its product: --variant PRODUCT/VARIANT.",
        R::ReadLabel { variants } => {
            let options = options("--variant", variants).join(" or ");
            return format!("Read the label on the unit and give its variant: {options}.");
        }
        R::ReadAnyLabel => "Read the label on the unit and give its variant: --variant ID.",
        R::RereadLabel => "Read the label again.",
        R::RereadLabelOnly => "Read the label again: unit and file agree.",
        R::RereadLabels => "Read both labels again. If they do differ, the product sheet does not describe this unit.",
        R::LookAt(places) => return format!("Look at: {}.", places.join("; ")),
        R::KnownVariants(known) => return format!("The variants are: {}.", known.join(", ")),

        R::Consent(ids) => return format!("To accept this: {}.", options("--allow", ids).join(" ")),
        R::ConsentToLoss(id) => return format!("If that content is not needed: --allow {id}."),
        R::ConsentToNoSheet(id) => {
            return format!("To put it into DFU mode and update it without a product sheet: --allow {id}.");
        }
        R::ConsentToDisk(id) => {
            return format!(
                "Write a product sheet for it ('vaka sheet new'). To update it by what its own disk shows: --allow {id}."
            );
        }
        R::ConsentToErase(id) => {
            return format!(
                "Lifting the protection erases the whole part: all firmware, settings and other data. To accept this: --allow {id}."
            );
        }

        R::Instead(words) => {
            return format!("The product sheet says what to do instead: {}.", words.trim_end_matches('.'));
        }
        R::TakeFileForUnit { not } => {
            return format!("Use the file for the variant of this unit; it is not {not}.");
        }
        R::NoVariantOf(product) => return format!("The file fits no variant of {product}."),
        R::SelectPart(part) => return format!("The file is for another part of the product: --part {part}."),
        R::FetchFile => "Download or build the file again; 'vaka check FILE' describes it.",
        R::TakeFileFor { made_for, wanted, or_label } => return take_file_for(made_for, wanted, *or_label),
        R::CompareDescription(variant) => {
            return format!("This unit does not match {variant} in the product sheet; compare with 'vaka survey'.");
        }
        R::ReadLabelAndTakeFile(variant) => {
            return format!(
                "This unit does not identify as {variant}. Check its label and use the file for that variant."
            );
        }
        R::TakeFileBuiltFor { product, variant } => {
            return format!("Use the file that was built for {product} {variant}.");
        }
        R::Relink { variant, starts_at, wanted } => {
            return format!(
                "The file is built for {variant} and starts at {starts_at}, but {variant} starts applications at {wanted}. Relink it for {wanted}, or use the file that was linked for that address."
            );
        }
        R::GiveAddress { starts } => return give_address(starts),
        R::CheckJoin => "Each file must have a place of its own; 'vaka check --join' shows where files overlap.",
        R::GivePlace => "Write REGION=FILE or ADDRESS=FILE for each raw binary.",
        R::CheckFileIsForUnit => "Check that this file is for this unit, and use one that was released for it.",

        R::KeepableRegions(known) => return format!("Regions that can be preserved: {}.", known.join(", ")),
        R::Keep(regions) => {
            return format!("To preserve it: {}.", options("--keep", regions).join(" "));
        }
        R::SupplySecret(name) => {
            return format!("Give a file with it: --secret {name}=FILE; or run the command at a terminal.");
        }
        R::CompareGeometry => "Compare flash and regions in the product sheet with the output of 'vaka survey'.",
        R::DoNotSave => "Omit --save if the present content is not needed.",
        R::ReplugProtected => "It is still protected after unprotecting; power-cycle it and try again.",
        R::BootloaderWouldBeLost(at) => {
            return format!(
                "Lifting the protection would erase the whole part including its bootloader at {at}, which this file does not restore: use the manufacturer's own tools."
            );
        }
        R::WriteSheet => "Write a product sheet for it; 'vaka sheet new' creates a first one from the unit.",

        R::SelectMemory => "'vaka sheet new' lists its memories; select one with --memory.",
        R::KnownRegions(known) if known.is_empty() => {
            return "The unit has no product sheet that names regions: give --sheets, or --range A..B.".to_owned();
        }
        R::KnownRegions(known) => return format!("Existing regions: {}. Or give --range A..B.", known.join(", ")),
        R::CannotBeRead => "This unit cannot be read.",
        R::CannotBeReadThough => "The unit claims to be readable but rejects reads.",
        R::NothingToRead => "The unit has no content to read.",
        R::WouldBeErased => "Lifting the protection would erase the content that you want to read.",
        R::ReadElsewhere => "Read other addresses, or correct `allows` in the product sheet.",
        R::ReadWholeRegion => "Omit --range and --region, or stay inside that region.",

        R::RunAtTerminal => "Run it at a terminal, without --unattended.",
        R::UseSheetOfRelease => "Use the product sheet in the release: omit --sheets.",
        R::PackAgain => "Ask for a corrected release; 'vaka pack' checks its content.",
        R::KnownImages(variants) => return format!("The release has images for: {}.", variants.join(", ")),

        R::RestoreSaved { file } => {
            return format!("To restore the old firmware: vaka update {file} --allow older-version");
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
        "As root, add this line to /etc/udev/rules.d/70-vaka.rules and replug the unit ('vaka setup rules' creates such lines for all units in your product sheets):\n  \
         SUBSYSTEM==\"usb\", ATTR{{idVendor}}==\"{vendor:04x}\", MODE=\"0660\", GROUP=\"plugdev\", TAG+=\"uaccess\""
    )
}

fn can_bus(error: &CanError) -> String {
    match error {
        CanError::NoFd => "Use an adapter with FD frames, or set the interface up with 'fd on'.".to_owned(),
        CanError::BitRate(_) => "Use an adapter whose clock allows this bit rate.".to_owned(),
        CanError::IsoTp(_) => "Record the run with --trace; 'vaka dialect trace' shows each frame.".to_owned(),
        _ => "Check that the node has power, that CAN-H and CAN-L are not swapped, that both ends of the bus have 120 ohms, and that the bit rate is that of the nodes ('vaka help can').".to_owned(),
    }
}

fn set_up(name: &str, rate: u32) -> String {
    format!("As root: ip link set {name} down; ip link set {name} up type can bitrate {rate} ('vaka help can').")
}

fn join_group(group: Option<&str>) -> String {
    match group {
        Some(group) => format!(
            "The group {group} may use it: sudo usermod -aG {group} \"$USER\", then log in again ('vaka help serial')."
        ),
        None => "Give this user access to the port, for example by a udev rule ('vaka help serial').".to_owned(),
    }
}

fn check_unit_is_there(steps: &[String]) -> String {
    let steps = if steps.is_empty() { String::new() } else { format!(" To enter update mode: {}.", numbered(steps)) };
    format!(
        "Try the cable on a unit that works (some cables only charge) and check the power.{steps} 'vaka survey' lists the connected units, except those that another program uses."
    )
}

fn repeat_steps(steps: &[String], is_absent: bool) -> String {
    let steps = numbered(steps);
    match is_absent {
        true => format!(
            "Try the cable on a unit that works (some cables only charge) and check the power. Then do these steps in order: {steps}. --wait allows more time."
        ),
        false => format!("Repeat the steps in this order: {steps}. --wait allows more time."),
    }
}

fn take_file_for(made_for: &[VariantId], wanted: &VariantId, or_label: bool) -> String {
    let made_for: Vec<&str> = made_for.iter().map(VariantId::as_str).collect();
    let made_for = made_for.join(", ");
    match or_label {
        false => format!("The file is for {made_for}; use the file for {wanted}."),
        true => format!("The file is for {made_for}. Use the file for {wanted}, or read the label again."),
    }
}

fn give_address(starts: &[(VariantId, vaka_image::address::Address)]) -> String {
    let starts: Vec<String> = starts.iter().map(|(variant, start)| format!("{variant} starts at {start}")).collect();
    let known = if starts.is_empty() {
        String::new()
    } else {
        format!(" According to the product sheet, {}.", starts.join(", "))
    };
    format!("Give the address that it was linked for with --at, or use the HEX file of the same build.{known}")
}

/// The remedy for the status of a DFU unit. Source of the statuses: DFU 1.1, section 6.1.2.
fn dfu_status(status: Status) -> &'static str {
    match status {
        Status::Ok | Status::UnknownError | Status::Unknown(_) => {
            "Put the unit into update mode again and run the same command; if it fails again, the unit is faulty."
        }
        Status::Target => "Check that this file is for this unit; its bootloader reports that it is not.",
        Status::File => {
            "Use a file that was released for this unit; it rejects files that were changed, truncated or not signed."
        }
        Status::Write => "Find the write protection (a jumper, a chip option) and lift it, then run the same command.",
        Status::Erase | Status::CheckErased | Status::Program | Status::Verify => {
            "Run the same command again; if it fails at the same address, the unit's flash is worn out or damaged there."
        }
        Status::Address => "Compare the file's addresses ('vaka check FILE') with the memory in 'vaka survey'.",
        Status::NotDone => "Download the file again: it is truncated, or is for another unit.",
        Status::Firmware => "Run 'vaka update' with the right file: the unit waits for firmware.",
        Status::Vendor => "Ask the manufacturer for its meaning; with memory addresses it is usually read protection.",
        Status::UsbReset | Status::PowerOnReset => "Check cable and power, then run the same command again.",
        Status::StalledPacket => "Unplug the unit, put it into update mode again and run the same command.",
    }
}
