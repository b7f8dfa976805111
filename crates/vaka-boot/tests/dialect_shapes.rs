//! Bootloaders that the dialect language was not made for.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod shapes;
mod support;

use shapes::{Shape, chorus, ledger, parcel, porter, spoken, tagged};
use vaka_core::event::Check;

#[test]
fn tagged_packets_on_a_serial_line() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(tagged::Tagged::default())) };
    Shape { name: "tagged", dialect: tagged::DIALECT, maker, check: Check::ReadBack, len: 2502 }.holds();
}

#[test]
fn spoken_lines_with_an_echo() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(spoken::Spoken::default())) };
    Shape { name: "spoken", dialect: spoken::DIALECT, maker, check: Check::DeviceChecked, len: 1300 }.holds();
}

#[test]
fn parcels_on_bulk_pipes() {
    let maker = parcel::maker;
    Shape { name: "parcel", dialect: parcel::DIALECT, maker, check: Check::DeviceChecked, len: 2700 }.holds();
}

#[test]
fn feature_reports_with_words_of_four_bytes() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(chorus::Chorus::default())) };
    Shape { name: "chorus", dialect: chorus::DIALECT, maker, check: Check::DeviceChecked, len: 2000 }.holds();
}

#[test]
fn requests_with_nothing_but_numbers_and_a_helper_in_ram() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(porter::Porter::default())) };
    Shape { name: "porter", dialect: porter::DIALECT, maker, check: Check::ReadBack, len: 1500 }.holds();
}

#[test]
fn records_between_marks() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(ledger::Ledger::default())) };
    Shape { name: "ledger", dialect: ledger::DIALECT, maker, check: Check::ReadBack, len: 2200 }.holds();
}
