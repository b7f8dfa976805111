//! Commands for releases and their keys.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

#[derive(Debug, ClapArgs)]
pub struct Pack {
    /// What goes into the release, as docs/formats/release.md describes it
    #[arg(value_name = "DESCRIPTION")]
    pub description: PathBuf,
    /// The release; else PRODUCT-VERSION.vaka here
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// The key that signs it: a name of 'vaka keys', or a PEM file
    #[arg(long, value_name = "KEY")]
    pub key: Option<String>,
    /// Overwrite the release
    #[arg(long)]
    pub replace: bool,
}

#[derive(Debug, Subcommand)]
pub enum KeysCommand {
    /// Make a key pair that signs releases
    New {
        /// What it is called here
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Keys of this user, and keys whose releases are trusted
    List,
    /// The public half of a key, in PEM, to be given to others
    Show {
        /// What it is called here
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Trust releases that this key signed
    Trust {
        /// Its public half, in PEM
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// What it is called here; else as the file
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
    },
    /// Trust them no more
    Distrust {
        /// What it is called here
        #[arg(value_name = "NAME")]
        name: String,
    },
}
