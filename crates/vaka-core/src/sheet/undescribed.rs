//! A sheet synthesized from a unit without a product sheet.

use thiserror::Error;

use crate::memory::{Access, SectorMap, Zone};
use crate::sheet::model::{
    Application, ExpectedDevice, ImageRules, Product, SerialPortUse, Sheet, Variant, VariantId, VersionSource,
};
use crate::sheet::region::Region;
use crate::sheet::route::{ExitMethod, Route, RouteKind, UpdateMedium, VolumeRoute};
use crate::sheet::signs::DescriptorPattern;
use crate::unit::{DfuMemory, MemoryChoice, UnitFacts, UsbId};
use crate::volume::VolumeFacts;
use vaka_image::address::{Address, Span};
use vaka_image::{Format, Image, uf2};

/// Why a unit's own description is not sufficient for an update.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum SynthesisError {
    /// It has no interface in DFU mode.
    #[error("it has no interface in DFU mode")]
    NoDfu,
    /// Its disk has no board information: it is an ordinary disk.
    #[error("its disk has no board information (INFO_UF2.TXT), so it is not that of a UF2 bootloader")]
    NoBoard,
    /// A file without a UF2 family may be for any chip.
    #[error("its disk takes UF2 blocks; without a product sheet only a UF2 file is accepted, which names its chip")]
    NoFamily,
    /// The selected memory does not exist.
    #[error("it has no memory {choice}; it has {has}")]
    NoSuchMemory {
        /// The request.
        choice: MemoryChoice,
        /// The existing memories.
        has: String,
    },
    /// Several memories could be meant.
    #[error("it has several memories, and none was selected: {0}")]
    SeveralMemories(String),
    /// Its memory has no layout, although it is written by address.
    #[error("it is written by memory addresses, but does not report its memory layout")]
    NoLayout,
    /// None of its memory can be erased and written.
    #[error("it reports no memory that can be erased and written")]
    NothingWritable,
    /// A plain DFU unit accepts any bytes; only a suffix shows that a file is for it.
    #[error(
        "it uses plain DFU and does not report its memory; without a product sheet only a file whose DFU suffix has its ids is accepted"
    )]
    NoSuffix,
}

/// The name of the only region of an undescribed unit.
const REGION: &str = "memory";

impl Sheet {
    /// A sheet for one image from the description of a unit in DFU mode: one variant, whose only
    /// region is the memory that the unit reports as erasable and writable.
    /// [`judge`](crate::matching::judge) requires consent for it.
    ///
    /// # Errors
    /// [`SynthesisError`]: the description is not sufficient.
    pub fn of_unit(unit: &UnitFacts, image: &Image, choice: &MemoryChoice) -> Result<Self, SynthesisError> {
        let variant = match &unit.volume {
            Some(disk) => uf2_disk(unit, disk, image)?,
            None => {
                let memory = memory_for(unit, image, choice)?;
                match (&memory.alternate.layout, memory.is_addressed()) {
                    (Some(layout), _) => addressed(unit, &memory, &layout.map, image)?,
                    (None, true) => return Err(SynthesisError::NoLayout),
                    (None, false) => plain(unit, &memory, image)?,
                }
            }
        };
        let text = |found: &Option<String>| found.clone().unwrap_or_else(|| unit.id.to_string());
        Ok(Self {
            is_described: false,
            product: Product {
                id: unit.id.to_string(),
                name: text(&unit.product),
                maker: text(&unit.maker),
                also_sold_as: Vec::new(),
                ambiguous_labels: Vec::new(),
                companions: Vec::new(),
                stable_serial: false,
                port: SerialPortUse::default(),
                adapters: Vec::new(),
            },
            application: Application {
                confirm: None,
                id: None,
                signs: DescriptorPattern::default(),
                version: VersionSource::Nowhere,
                back_within: std::time::Duration::from_secs(10),
                see: Vec::new(),
            },
            parts: Vec::new(),
            variants: vec![variant],
            wrappers: Vec::new(),
            programmers: Vec::new(),
            stages: Vec::new(),
            comes_back: None,
        })
    }
}

/// The memory to use: the selected one, else the only one, else the only one whose layout
/// contains all of the image.
fn memory_for<'a>(unit: &'a UnitFacts, image: &Image, choice: &MemoryChoice) -> Result<DfuMemory<'a>, SynthesisError> {
    let list = |memories: &[DfuMemory<'_>]| memories.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let all = unit.memories(&MemoryChoice::default());
    let mut found = unit.memories(choice);
    if found.len() > 1 {
        let holds = |memory: &DfuMemory<'_>| {
            let layout = memory.alternate.layout.as_ref();
            layout.is_some_and(|layout| image.segments().iter().all(|s| layout.map.sectors_in(s.span()).is_some()))
        };
        let holding: Vec<DfuMemory<'a>> = found.iter().filter(|memory| holds(memory)).copied().collect();
        if holding.len() == 1 {
            found = holding;
        }
    }
    match found[..] {
        [one] => Ok(one),
        [] if all.is_empty() => Err(SynthesisError::NoDfu),
        [] => Err(SynthesisError::NoSuchMemory { choice: choice.clone(), has: list(&all) }),
        _ => Err(SynthesisError::SeveralMemories(list(&found))),
    }
}

/// A UF2 disk names its board, and the blocks of the file their chip and their addresses. The sectors of
/// the flash are not known, so all blocks are sent, or none if the unit shows all of them.
fn uf2_disk(unit: &UnitFacts, disk: &VolumeFacts, image: &Image) -> Result<Variant, SynthesisError> {
    let board = disk.board().ok_or(SynthesisError::NoBoard)?;
    let family = image.facts().family.filter(|_| image.format() == Format::Uf2).ok_or(SynthesisError::NoFamily)?;
    let page = uf2::PAYLOAD as u64;
    let start = image.start().align_down(page);
    let len = image.span().end().offset_from(start).and_then(|len| u32::try_from(len.next_multiple_of(page)).ok());
    let zone = len.and_then(|len| Zone::new(start, 1, len, Access::FULL)).ok_or(SynthesisError::NothingWritable)?;
    let map = SectorMap::new(vec![zone]).map_err(|_| SynthesisError::NothingWritable)?;
    let region = Region::new(REGION, zone.span());
    let kind = RouteKind::Volume(VolumeRoute {
        takes: UpdateMedium::Uf2 { family, board_id: board.board_id },
        labels: Vec::new(),
        application_file: disk.shown_blocks().map(|file| file.name.clone()),
        leave: ExitMethod::Eject,
    });
    Ok(variant(unit, map, region.clone(), vec![region], kind))
}

fn exactly(memory: &DfuMemory<'_>) -> MemoryChoice {
    MemoryChoice { name: None, interface: Some(memory.interface.interface), alternate: Some(memory.alternate.number) }
}

fn addressed(
    unit: &UnitFacts,
    memory: &DfuMemory<'_>,
    map: &SectorMap,
    image: &Image,
) -> Result<Variant, SynthesisError> {
    let writable = |zone: &&Zone| zone.access().is_programmable();
    let regions: Vec<Region> = Span::joined(map.zones().iter().filter(writable).map(Zone::span))
        .into_iter()
        .map(|span| Region::new(REGION, span))
        .collect();
    let holding = regions.iter().find(|region| region.span.contains(image.start())).or(regions.first());
    let region = holding.cloned().ok_or(SynthesisError::NothingWritable)?;
    let kind = RouteKind::Dfu { memory: exactly(memory) };
    Ok(variant(unit, map.clone(), region, regions, kind))
}

/// A plain DFU unit decides the address itself, so the image counts from 0, and only the suffix
/// shows that the file is for this unit.
fn plain(unit: &UnitFacts, memory: &DfuMemory<'_>, image: &Image) -> Result<Variant, SynthesisError> {
    let names_it = |suffix: &vaka_image::facts::Suffix| {
        unit.id.usb() == Some(UsbId { vendor: suffix.vendor, product: suffix.product })
    };
    if !image.facts().dfu.as_ref().is_some_and(names_it) {
        return Err(SynthesisError::NoSuffix);
    }
    let len = u32::try_from(image.span().len()).unwrap_or(u32::MAX);
    let zone = Zone::new(image.start(), 1, len, Access::FULL).ok_or(SynthesisError::NothingWritable)?;
    let map = SectorMap::new(vec![zone]).map_err(|_| SynthesisError::NothingWritable)?;
    let region = Region::new(REGION, zone.span());
    let kind = RouteKind::PlainDfu { memory: exactly(memory), uploads_image: false };
    let mut variant = variant(unit, map, region.clone(), vec![region], kind);
    variant.image.binary_at = Some(Address::new(0));
    Ok(variant)
}

fn variant(unit: &UnitFacts, flash: SectorMap, region: Region, regions: Vec<Region>, kind: RouteKind) -> Variant {
    let image = ImageRules { starts_region: false, ..ImageRules::of(region) };
    let route = Route {
        kind,
        id: unit.id.into(),
        signs: DescriptorPattern::default(),
        writes: regions.clone(),
        restart_at: None,
        entry: Vec::new(),
        listens: None,
        recovery: Vec::new(),
        documented: None,
    };
    Variant {
        id: VariantId("as-reported".to_owned()),
        name: format!("{} by its own report", unit.id),
        part: None,
        look_at: Vec::new(),
        flash,
        ram: None,
        regions,
        image,
        further: Vec::new(),
        table: None,
        reported_flash: None,
        facts: Vec::new(),
        shows: ExpectedDevice::default(),
        instead: None,
        slots: None,
        routes: vec![route],
    }
}
