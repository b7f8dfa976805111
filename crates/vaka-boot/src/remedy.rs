//! Remedies for failures. The program words them, with the names of its own commands and options.

use vaka_can::CanError;
use vaka_core::dfu::Status;
use vaka_core::sheet::VariantId;
use vaka_image::address::Address;

/// A remedy that the user can apply.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Remedy {
    /// Run the same command again.
    RunAgain,
    /// Run the same command again: it resumes.
    RunAgainToResume,
    /// Run the same command again; if the failure repeats, the flash is probably worn.
    RunAgainOrFlashWorn,
    /// The same, if the failure repeats at the same address.
    RunAgainOrAddressWorn,
    /// Run the same command again; if the failure repeats, this image does not run on this unit.
    WriteAgain,
    /// Report a fault of the program.
    ReportFault,

    /// Check cable and power, then run the same command again.
    CheckCable,
    /// Check cable and power, then run the same command again: it writes only what differs.
    CheckCableAndResume,
    /// Check cable and power, enter update mode again, run the same command.
    CheckCableAndReenter,
    /// Check every part of the connection, then run the same command.
    CheckConnection,
    /// Unplug the unit and plug it in again.
    Replug,
    /// The same, with another cable if the failure repeats.
    ReplugOtherCable,
    /// Unplug the unit, enter update mode again, run the same command.
    ReplugAndReenter,
    /// Enter update mode again; if the failure repeats, the unit is faulty.
    ReenterOrFaulty,
    /// The same, after the unit was unplugged.
    ReplugAndReenterOrFaulty,
    /// Press reset, or unplug the unit and plug it in again.
    ResetOrReplug,
    /// Set switches back, then press reset or replug.
    SetSwitchesBack,
    /// The same, then check what the unit shows.
    SetSwitchesBackAndLook,
    /// Possibly no application is installed, or a switch is still set.
    MaybeNoApplication,
    /// Plug the unit in.
    PlugIn,
    /// Plug in the unit that the run began with.
    PlugInSameUnit,
    /// Check the current mode of the unit.
    LookWhatItIs,
    /// Check the current mode of the unit, and run the same command again.
    LookAndRunAgain,

    /// Check that a USB/IP server runs at that place.
    CheckServer,
    /// Check that the port belongs to a USB/IP server.
    CheckServerPort,
    /// End the program that uses the unit.
    EndOtherProgram,
    /// Give this user access to the unit, or end the other program.
    GetAccess,
    /// Give this user access to devices of this vendor.
    GrantAccess {
        /// The vendor id.
        vendor: u16,
    },
    /// Become a member of the group that may use the serial port.
    JoinGroup {
        /// Its name, if it is known.
        group: Option<String>,
    },
    /// Set a CAN interface up.
    SetInterfaceUp {
        /// Its name.
        name: String,
        /// The bit rate of the nodes.
        rate: u32,
    },
    /// Leave only one of several nodes with the same unique id on the bus.
    SeparateNodes,
    /// Make the CAN bus work.
    CanBus(CanError),
    /// Load the system's driver for the unit's serial port.
    LoadSerialDriver,
    /// Check that this user can list USB devices, or name a server.
    CheckUsbAccess,

    /// Run again with a trace that shows each frame of a dialect.
    TraceFrames,
    /// The same, after the unit entered update mode again.
    ReenterAndTrace,
    /// The dialect explains the reply; retrying does not help.
    ReadDialect,
    /// The remedy for the status of a DFU unit.
    DfuStatus(Status),

    /// Try another cable, check the power, do these entry steps.
    CheckUnitIsThere {
        /// The manual steps into update mode, in order.
        steps: Vec<String>,
    },
    /// Check the wires between a programmer and the unit: these steps connect them.
    CheckWiring {
        /// The manual steps, in order.
        steps: Vec<String>,
    },
    /// Go through this programmer.
    UseProgrammer {
        /// Its short name.
        name: String,
    },
    /// Ask this programmer which chip it reaches.
    AskProgrammer {
        /// Its short name.
        name: String,
    },
    /// Connect the unit itself, or release the programmer's wires.
    PlugTargetIn,
    /// Do the entry steps again, in order.
    RepeatEntrySteps {
        /// The manual steps, in order.
        steps: Vec<String>,
        /// Whether the unit's port is empty.
        is_absent: bool,
    },
    /// Check cable and power, replug, allow more time.
    ReplugOrWaitLonger,
    /// Enter update mode by hand.
    EnterByHand,
    /// The same: an older application may lack the interface.
    EnterByHandOldApplication,
    /// Enter DFU mode by hand.
    EnterDfuByHand,
    /// Enter DFU mode, or do not ask for a plan only.
    EnterDfuOrUpdate,
    /// Eject this disk in the operating system.
    EjectMounted {
        /// The device file of the disk.
        node: String,
    },
    /// Eject or unmount the unit's disk.
    EjectOrUnmount,
    /// Mount the unit's disk so that it can be written, or unmount it.
    MountWritable,
    /// Unmount the unit's disk and enter update mode again.
    UnmountAndReenter,
    /// Delete other files from the unit's disk.
    FreeDiskSpace,
    /// Write the unit's image again, or replug the unit.
    UpdateOrReplug,
    /// Switch the unit's write protection off.
    LiftWriteProtection,

    /// Choose one of several units by its port.
    SelectUnit {
        /// The port of the first.
        port: String,
    },
    /// Use the file for one of the units, or attach another unit.
    MatchFileAndUnit,
    /// Name the variant together with its product.
    QualifyVariant,
    /// Name one of these variants, by the label on the unit.
    ReadLabel {
        /// The variants.
        variants: Vec<VariantId>,
    },
    /// Name the variant, by the label on the unit.
    ReadAnyLabel,
    /// Read the label again.
    RereadLabel,
    /// Read the label again: the unit and the file agree.
    RereadLabelOnly,
    /// Read both labels again.
    RereadLabels,
    /// Read the label at these places of the unit.
    LookAt(Vec<String>),
    /// The names of the existing variants.
    KnownVariants(Vec<String>),

    /// Consent to each of these ids.
    Consent(Vec<String>),
    /// Consent to this id, if the content to be erased is not needed.
    ConsentToLoss(&'static str),
    /// Consent to this id: a unit without a sheet is updated according to its own description.
    ConsentToNoSheet(&'static str),
    /// The same for a unit whose disk takes a file.
    ConsentToDisk(&'static str),
    /// Consent to this id: everything in the unit is erased.
    ConsentToErase(&'static str),

    /// The instruction in the sheet, in the maintainer's words.
    Instead(String),
    /// Use the file for the variant that the unit reports.
    TakeFileForUnit {
        /// The variant that the file is for.
        not: VariantId,
    },
    /// The file is for no variant of this product.
    NoVariantOf(String),
    /// The file is for another part.
    SelectPart(String),
    /// Fetch or build the file again.
    FetchFile,
    /// Use the file for that variant; this one is for these variants.
    TakeFileFor {
        /// The variants that the file is for.
        made_for: Vec<VariantId>,
        /// The variant of the unit.
        wanted: VariantId,
        /// Whether the label may be wrong instead.
        or_label: bool,
    },
    /// The unit does not match the sheet's description of this variant.
    CompareDescription(VariantId),
    /// The unit reports that it is not this variant.
    ReadLabelAndTakeFile(VariantId),
    /// Use the file that was built for this product and variant.
    TakeFileBuiltFor {
        /// The name of the product.
        product: String,
        /// The variant.
        variant: VariantId,
    },
    /// Link the firmware for this address.
    Relink {
        /// The variant.
        variant: VariantId,
        /// The address at which the file starts, as the evidence has it.
        starts_at: String,
        /// The address at which the variant's applications start.
        wanted: Address,
    },
    /// Give the address of a raw binary.
    GiveAddress {
        /// The start of each variant's application.
        starts: Vec<(VariantId, Address)>,
    },
    /// Give each of several raw binaries its region or address.
    GivePlace,
    /// See where several files overlap.
    CheckJoin,
    /// Use a file that was released for this unit.
    CheckFileIsForUnit,

    /// Names of regions that can be preserved.
    KeepableRegions(Vec<String>),
    /// Preserve these regions.
    Keep(Vec<String>),
    /// Supply the value with this name that the dialect asks for.
    SupplySecret(String),
    /// Compare the memory in the sheet with the unit's report.
    CompareGeometry,
    /// Do not save the present content.
    DoNotSave,
    /// The protection is still set after lifting it.
    ReplugProtected,
    /// Lifting the protection would erase the bootloader at this address.
    BootloaderWouldBeLost(Address),
    /// Write a product sheet.
    WriteSheet,

    /// Choose one of the unit's memories.
    SelectMemory,
    /// Names of the existing regions.
    KnownRegions(Vec<String>),
    /// The unit cannot be read.
    CannotBeRead,
    /// The same, although the unit advertises it.
    CannotBeReadThough,
    /// There is nothing to read.
    NothingToRead,
    /// Lifting the protection would erase the content.
    WouldBeErased,
    /// Read other addresses, or correct the sheet.
    ReadElsewhere,
    /// Read the route's region from its beginning.
    ReadWholeRegion,

    /// Run at a terminal.
    RunAtTerminal,
    /// Use the sheet of the release.
    UseSheetOfRelease,
    /// Ask for a corrected release.
    PackAgain,
    /// The variants that a release has images for.
    KnownImages(Vec<String>),

    /// The saved firmware can be written back from this file.
    RestoreSaved {
        /// The name of the file.
        file: String,
    },
}
