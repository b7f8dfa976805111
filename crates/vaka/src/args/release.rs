//! Commands for releases and their keys.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

#[derive(Debug, ClapArgs)]
pub struct Pack {
    /// Description of the release; see 'vaka help release'
    #[arg(value_name = "DESCRIPTION")]
    pub description: PathBuf,
    /// Release file to write; default: PRODUCT-VERSION.vaka
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Signing key: a name from 'vaka keys list', or a PEM file
    #[arg(long, value_name = "KEY")]
    pub key: Option<String>,
    /// Overwrite the release if it exists
    #[arg(long)]
    pub replace: bool,
}

#[derive(Debug, Subcommand)]
pub enum KeysCommand {
    /// Create a key pair for signing releases
    New {
        /// Name of the key
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// List signing keys and trusted keys
    List,
    /// Print a public key in PEM
    Show {
        /// Name of the key
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Trust the releases that this key signed
    Trust {
        /// Public key in PEM
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Product whose releases it may sign; repeat for several
        #[arg(long = "for", value_name = "PRODUCT", required = true)]
        products: Vec<String>,
        /// Name of the key; default: the file name
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
    },
    /// Remove a key from the trusted keys
    Distrust {
        /// Name of the key
        #[arg(value_name = "NAME")]
        name: String,
    },
}
