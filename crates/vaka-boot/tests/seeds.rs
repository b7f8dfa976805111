//! The seeds of the fuzz targets, as ordinary tests.

#[path = "../../../fuzz/readers.rs"]
mod readers;

use std::path::Path;

type Target = fn(&[u8]);

/// Every target with all its seeds.
#[test]
fn every_seed_is_survived() {
    let targets: [(&str, Target); 18] = [
        ("dfu_file", readers::dfu_file),
        ("dialect", readers::dialect),
        ("dialect_engine", readers::dialect_engine),
        ("elf", readers::elf),
        ("hex", readers::hex),
        ("layout", readers::layout),
        ("srec", readers::srec),
        ("stamp", readers::stamp),
        ("uf2", readers::uf2),
        ("wrapper", readers::wrapper),
        ("release", readers::release),
        ("sheet", readers::sheet),
        ("scene", readers::scene),
        ("trace", readers::trace),
        ("descriptor", readers::descriptor),
        ("volume", readers::volume),
        ("dfu_engine", readers::dfu_engine),
        ("disk_engine", readers::disk_engine),
    ];
    let seeds = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/seeds");
    assert_eq!(std::fs::read_dir(&seeds).unwrap().count(), targets.len(), "a folder for each target");
    for (name, target) in targets {
        let mut replayed = 0;
        for seed in std::fs::read_dir(seeds.join(name)).unwrap() {
            target(&std::fs::read(seed.unwrap().path()).unwrap());
            replayed += 1;
        }
        assert!(replayed > 0, "{name} has no seed");
    }
}
