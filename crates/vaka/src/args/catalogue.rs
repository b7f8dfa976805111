//! Commands for catalogues of releases.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

use super::place::Place;

#[derive(Debug, Subcommand)]
pub enum CatalogueCommand {
    /// Write the signed catalogue of a folder of releases, or renew it
    Make(MakeCatalogue),
    /// Check a catalogue, and the releases in its folder
    Check {
        /// Folder, or web address
        #[arg(value_name = "DIR|URL")]
        place: Place,
    },
    /// Show the releases of a catalogue, with notes and losses
    Show {
        /// Folder, or web address
        #[arg(value_name = "DIR|URL")]
        place: Place,
    },
    /// State in the catalogue that a release must not be installed any more
    Withdraw(Withdraw),
}

#[derive(Debug, ClapArgs)]
pub struct MakeCatalogue {
    /// Folder of releases
    #[arg(value_name = "DIR")]
    pub folder: PathBuf,
    #[command(flatten)]
    pub signing: Signing,
    /// Number of the catalogue; default: one more than before
    #[arg(long, value_name = "N")]
    pub number: Option<u64>,
    /// Statement about a key, from 'vaka keys revoke' or 'vaka keys replace'; may be repeated
    #[arg(long, value_name = "FILE")]
    pub statement: Vec<PathBuf>,
}

#[derive(Debug, ClapArgs)]
pub struct Withdraw {
    /// Folder of releases
    #[arg(value_name = "DIR")]
    pub folder: PathBuf,
    /// Version, or file of the release
    #[arg(value_name = "VERSION")]
    pub version: String,
    /// Product, if the catalogue has several
    #[arg(long, value_name = "ID")]
    pub product: Option<String>,
    /// Reason, for the users of the release
    #[arg(long, value_name = "TEXT", required_unless_present = "lift")]
    pub why: Option<String>,
    /// State that the release may be installed again
    #[arg(long, conflicts_with = "why")]
    pub lift: bool,
    #[command(flatten)]
    pub signing: Signing,
}

/// How a catalogue is signed.
#[derive(Debug, ClapArgs)]
pub struct Signing {
    /// Signing key: a name from 'vaka keys list', or a PEM file
    #[arg(long, value_name = "KEY")]
    pub key: String,
    /// Days after which users are told that the catalogue is stale
    #[arg(long, value_name = "DAYS", default_value_t = 90, value_parser = clap::value_parser!(u16).range(1..=3650))]
    pub fresh_for: u16,
}

#[derive(Debug, ClapArgs)]
pub struct ListReleases {
    /// Catalogue: its folder, or its web address
    #[arg(long, value_name = "URL|DIR")]
    pub from: Place,
    /// List only the releases of this channel
    #[arg(long, value_name = "NAME")]
    pub channel: Option<String>,
}
