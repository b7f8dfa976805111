//! Catalogues as files: what is whole and signed is read, and nothing else.

#![allow(clippy::unwrap_used)]

use vaka_core::release::archive::{self, Member};
use vaka_core::release::catalogue::{Catalogue, CatalogueError, LIST, ListedRelease, SIGNATURE, Withdrawal};
use vaka_core::release::manifest::Loss;
use vaka_core::release::signature::PrivateKey;
use vaka_core::release::{ReleaseError, SIGNER};

fn key() -> PrivateKey {
    PrivateKey::from_random([42; 32])
}

fn listed(product: &str, file: &str) -> ListedRelease {
    ListedRelease {
        product: product.into(),
        file: file.into(),
        size: 1234,
        sha256: "0a".repeat(32),
        version: "1.5.0".into(),
        channel: "stable".into(),
        date: "2026-11-02".into(),
        expires: None,
        needs_vaka: None,
        updates_from: Some("1.2.0".into()),
        variants: vec!["r1".into(), "r2".into()],
        ids: vec!["1209:0001".into(), "1209:00f?".into()],
        loses: vec![Loss { id: "log".into(), what: "the log".into() }],
        notes: vec!["News.".into(), String::new()],
        withdrawn: Some(Withdrawal { date: "2026-11-20".into(), why: "stops the display".into() }),
    }
}

fn catalogue() -> Catalogue {
    Catalogue {
        catalogue: 1,
        number: 7,
        date: "2026-11-23".into(),
        fresh_until: "2027-02-21".into(),
        keys: Vec::new(),
        releases: vec![listed("tern", "a/tern-1.5.0.vaka"), listed("tern", "tern-1.5.0.vaka")],
    }
}

#[test]
fn a_catalogue_is_read_as_it_was_written_and_no_bit_may_change() {
    let bytes = catalogue().write(&key()).unwrap();
    assert_eq!(bytes, catalogue().write(&key()).unwrap());
    let read = Catalogue::open(bytes.clone()).unwrap();
    assert_eq!((&read.list, &read.signer), (&catalogue(), &key().public()));
    assert!(!read.list.is_stale("2027-02-21") && read.list.is_stale("2027-02-22"));
    assert_eq!(read.list.products(), ["tern"]);
    for at in 0..bytes.len() {
        for bit in [1, 0x80] {
            let mut changed = bytes.clone();
            changed[at] ^= bit;
            assert!(Catalogue::open(changed).is_err(), "byte {at}");
        }
    }
    for len in 0..bytes.len() {
        assert!(Catalogue::open(bytes[..len].to_vec()).is_err(), "{len} bytes");
    }
}

/// A catalogue that is not what it seems: another list, another key, or no signature.
#[test]
fn only_the_signed_list_counts() {
    let bytes = catalogue().write(&key()).unwrap();
    let list = serde_json::to_vec_pretty(&catalogue()).unwrap();
    let list = [&list[..], b"\n"].concat();
    let (signature, pem) = (key().sign(&list), key().public().to_pem().unwrap());
    let of = |members: &[(&str, &[u8])]| {
        let members: Vec<Member<'_>> = members.iter().map(|(name, data)| Member { name, data }).collect();
        archive::write(&members)
    };
    let (list, signature, pem) = ((LIST, &list[..]), (SIGNATURE, &signature[..]), (SIGNER, pem.as_bytes()));
    assert_eq!(of(&[list, signature, pem]), bytes);
    let failed = |members: &[(&str, &[u8])]| Catalogue::open(of(members)).unwrap_err();
    assert_eq!(failed(&[list]), CatalogueError::Unsigned);
    assert_eq!(failed(&[list, signature]), ReleaseError::HalfSigned.into());
    assert_eq!(failed(&[signature, list, pem]), CatalogueError::Members);
    assert_eq!(failed(&[list, signature, pem, ("more.txt", b"x")]), CatalogueError::Members);
    let other = PrivateKey::from_random([43; 32]).public().to_pem().unwrap();
    assert!(matches!(
        failed(&[list, signature, (SIGNER, other.as_bytes())]),
        CatalogueError::File(ReleaseError::Signature(_))
    ));
    // The same list in another form, with a valid signature.
    let compact = serde_json::to_vec(&catalogue()).unwrap();
    let signature = key().sign(&compact);
    assert_eq!(failed(&[(LIST, &compact), (SIGNATURE, &signature), pem]), CatalogueError::OtherForm);
}

#[test]
fn impossible_values_are_refused() {
    type Change = fn(&mut Catalogue);
    let changes: [(&str, Change); 20] = [
        ("number", |list| list.number = 0),
        ("number", |list| list.number = 1 << 53),
        ("date", |list| list.date = "2026-02-30".into()),
        ("last day", |list| list.fresh_until = "soon".into()),
        ("last day", |list| list.fresh_until = "2026-11-22".into()),
        ("order of releases", |list| list.releases.reverse()),
        ("order of releases", |list| list.releases[0].file = list.releases[1].file.clone()),
        ("name", |list| list.releases[0].product = "a b".into()),
        ("file", |list| list.releases[0].file = "../tern.vaka".into()),
        ("file", |list| list.releases[0].file = "/tern.vaka".into()),
        ("digest", |list| list.releases[0].sha256.replace_range(..1, "A")),
        ("digest", |list| list.releases[0].sha256.push('0')),
        ("version", |list| list.releases[0].version = "new".into()),
        ("version", |list| list.releases[0].updates_from = Some("1 2".into())),
        ("date", |list| list.releases[0].expires = Some("2026-13-01".into())),
        ("number of variants or notes", |list| list.releases[0].variants.clear()),
        ("id", |list| list.releases[0].ids[0] = "1209".into()),
        ("loss", |list| list.releases[0].loses[0].what.clear()),
        ("note", |list| list.releases[0].notes[0] = "a\u{1b}[2Jb".into()),
        ("reason", |list| list.releases[0].withdrawn.as_mut().unwrap().why.clear()),
    ];
    for (number, (what, change)) in changes.iter().enumerate() {
        let mut list = catalogue();
        change(&mut list);
        let error = list.write(&key()).unwrap_err().to_string();
        assert!(error.contains(&format!("an invalid {what}: '")), "change {number}: {error}");
    }
}
