//! Products with the same USB ids are told apart by their strings, and a unit that no sheet claims is
//! not spoken to.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod shapes;
mod support;

use std::sync::Arc;

use shapes::{Shape, satchel, tally};
use support::{PORT, Scene, failure};
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::unit_event;
use vaka_core::event::{Check, ExitCode};
use vaka_core::sheet::Sheet;
use vaka_core::unit::Mode;
use vaka_sim::unit::vendor_unit::Plain;
use vaka_sim::world::lock;

/// Two products that share both ids, and the names of their modes.
fn products() -> [(Shape, &'static str, [&'static str; 2]); 2] {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(satchel::Satchel::default())) };
    let shape = Shape { name: "satchel", dialect: satchel::DIALECT, maker, check: Check::ReadBack, len: 1700 };
    let maker = tally::maker;
    let other = Shape { name: "tally", dialect: tally::DIALECT, maker, check: Check::ReadBack, len: 1700 };
    [(shape, "shape", ["Shape", "Shape loader"]), (other, "mimic", ["Mimic", "Mimic loader"])]
}

fn sheet(shape: &Shape, id: &str, names: [&str; 2]) -> Sheet {
    let text = shapes::SHEET
        .replace("id = \"shape\"\nname = \"Shape\"", &format!("id = \"{id}\"\nname = \"{id}\""))
        .replace("id = \"1209:0009\"\n", &format!("id = \"1209:0009\"\nproduct = \"{}\"\n", names[0]));
    shape.sheet_of(&format!("{text}\ndialect = \"{}\"\nproduct = \"{}\"\n", shape.name, names[1]))
}

/// A unit of one product, with the sheets of both, or of the other one only.
fn scene(unit: usize, both: bool) -> Scene {
    let all = products();
    let (shape, _, names) = &all[unit];
    let file = Box::leak(shapes::application(shape.len, 0x0110, 11).into_boxed_slice());
    let sheets: Vec<Sheet> = all.iter().map(|(shape, id, names)| sheet(shape, id, *names)).collect();
    let unit_of = shape.unit_named(*names, Box::new(|_| Box::new(Plain)));
    let mut scene = Scene::loaded(unit_of, Vec::new(), sheets[0].clone(), file, "BOOT");
    scene.sheets = if both { sheets } else { vec![sheets[1 - unit].clone()] };
    scene
}

#[test]
fn products_with_the_same_ids_are_told_apart_by_their_strings() {
    for unit in 0..2 {
        let scene = scene(unit, true);
        let id = products()[unit].1;
        let seen = |scene: &Scene| {
            let bench = Bench::new(vec![Arc::new(scene.bus())], &scene.sheets);
            unit_event::seen(&bench, &bench.devices().unwrap()[0])
        };
        assert_eq!(seen(&scene).product.as_deref(), Some(id), "in update mode");
        let (report, events) = scene.update();
        assert_eq!(report.code, ExitCode::Done, "{id}: {:?}", failure(&events));
        assert_eq!(report.product.as_deref(), Some(id));
        assert!(scene.holds_image(), "{id}");
        let after = seen(&scene);
        assert_eq!((after.product.as_deref(), after.mode), (Some(id), Mode::Application));
    }
}

/// Even an exchange that only asks could mean something else to a unit of another product.
#[test]
fn a_unit_that_no_sheet_claims_is_not_spoken_to() {
    for unit in 0..2 {
        let scene = scene(unit, false);
        let (report, events) = scene.update();
        assert_eq!(report.code, ExitCode::Refused, "{:?}", failure(&events));
        assert_eq!(scene.transfers(), 0, "{:?}", lock(&scene.world).log(PORT));
        scene.assert_unharmed("a foreign unit");
    }
}
