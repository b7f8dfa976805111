//! The demo's products with bootloaders of their own.

use vaka_core::event::Check;
use vaka_core::sheet::Sheet;
use vaka_sim::fault::Fault;
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::avocet::avocet;
use vaka_sim::unit::dunlin::dunlin;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::skua::skua;
use vaka_sim::unit::vendor_unit::VendorUnit;

use super::{Scene, sheet_with};

/// A demo product with a bootloader of its own.
pub struct Product {
    pub name: &'static str,
    pub unit: fn(&str) -> VendorUnit,
    pub sheet: &'static str,
    pub dialects: &'static [&'static str],
    pub file: &'static [u8],
    pub button: &'static str,
    pub check: Check,
}

macro_rules! demo {
    ($file:literal) => {
        include_str!(concat!("../../../../demo/sheets/", $file))
    };
}

macro_rules! firmware {
    ($file:literal) => {
        include_bytes!(concat!("../../../../demo/firmware/out/", $file))
    };
}

pub const PRODUCTS: [Product; 5] = [
    Product {
        name: "dunlin",
        unit: dunlin,
        sheet: demo!("dunlin.toml"),
        dialects: &[demo!("dunlin.dialect.toml"), demo!("linnet.dialect.toml")],
        file: firmware!("dunlin-1.1.0.bin"),
        button: "PROBE",
        check: Check::DeviceChecked,
    },
    Product {
        name: "auk",
        unit: auk,
        sheet: demo!("auk.toml"),
        dialects: &[demo!("auk.dialect.toml"), demo!("auk-call.dialect.toml")],
        file: firmware!("auk-2.1.0.bin"),
        button: "KEY",
        check: Check::ReadBack,
    },
    Product {
        name: "fulmar",
        unit: fulmar,
        sheet: demo!("fulmar.toml"),
        dialects: &[demo!("fulmar.dialect.toml"), demo!("fulmar-call.dialect.toml")],
        file: firmware!("fulmar-4.2.0.bin"),
        button: "MAST",
        check: Check::ReadBack,
    },
    Product {
        name: "skua",
        unit: skua,
        sheet: demo!("skua.toml"),
        dialects: &[demo!("skua.dialect.toml")],
        file: firmware!("skua-bridge-1.7.0.bin"),
        button: "BRIDGE",
        check: Check::ReadBack,
    },
    Product {
        name: "avocet",
        unit: avocet,
        sheet: demo!("avocet.toml"),
        dialects: &[demo!("avocet.dialect.toml"), demo!("avocet-call.dialect.toml")],
        file: firmware!("avocet-1.1.0.bin"),
        button: "HATCH",
        check: Check::ReadBack,
    },
];

impl Product {
    pub fn sheet(&self) -> Sheet {
        sheet_with(self.sheet, self.dialects)
    }

    pub fn scene(&self, unit: VendorUnit, faults: Vec<Fault>) -> Scene {
        Scene::loaded(unit, faults, self.sheet(), self.file, self.button)
    }

    pub fn booted(&self, faults: Vec<Fault>) -> Scene {
        self.scene((self.unit)("X-00001").in_boot_mode(), faults)
    }
}
