//! Commands for releases and their keys.

use std::path::PathBuf;

use clap::{Args as ClapArgs, Subcommand};

#[derive(Debug, ClapArgs)]
pub struct Pack {
    /// Description of the release; see 'vaka help release'. With --updater, also a release file
    #[arg(value_name = "DESCRIPTION")]
    pub description: PathBuf,
    /// Release file to write; default: PRODUCT-VERSION.vaka
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Signing key: a name from 'vaka keys list', or a PEM file
    #[arg(long, value_name = "KEY")]
    pub key: Option<String>,
    /// Also write one executable file with the release and this program, for people who have neither
    #[arg(long, value_name = "FILE")]
    pub updater: Option<PathBuf>,
    /// Program for the updater, such as the one of another platform; default: this program
    #[arg(long, value_name = "PATH", requires = "updater")]
    pub program: Option<PathBuf>,
    /// Overwrite the files if they exist
    #[arg(long)]
    pub replace: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Rehearse {
    /// Release file
    #[arg(value_name = "RELEASE")]
    pub release: PathBuf,
    /// The release before it: units that run it are updated, too
    #[arg(long, value_name = "FILE")]
    pub previous: Option<PathBuf>,
    /// Write the table as an HTML page
    #[arg(long, value_name = "FILE")]
    pub report: Option<PathBuf>,
    /// Overwrite the page if it exists
    #[arg(long, requires = "report")]
    pub replace: bool,
}

#[derive(Debug, ClapArgs)]
pub struct Guide {
    /// Release file, or product sheet
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// Build of the release
    #[arg(long, value_name = "NAME", default_value = vaka_core::release::manifest::STANDARD)]
    pub build: String,
    /// File to write, in HTML, Markdown or text by its extension; default: text on standard output
    #[arg(long, value_name = "FILE")]
    pub out: Option<PathBuf>,
    /// Folder of the pictures that the product sheet names; default: the folder of FILE
    #[arg(long, value_name = "DIR")]
    pub pictures: Option<PathBuf>,
    /// Overwrite the guide if it exists
    #[arg(long, requires = "out")]
    pub replace: bool,
}

/// Options of statements about keys.
#[derive(Debug, ClapArgs)]
pub struct StatementArgs {
    /// Reason, for the people who see the statement
    #[arg(long, value_name = "TEXT")]
    pub why: String,
    /// File to write
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
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
        /// Last day on which it is trusted, such as 2027-06-30
        #[arg(long, value_name = "DATE")]
        until: Option<jiff::civil::Date>,
    },
    /// State that a key must not be trusted any more; releases carry the statement
    Revoke {
        /// Own key that signs the statement
        #[arg(value_name = "NAME")]
        name: String,
        /// Public key that is revoked; default: the key itself
        #[arg(long, value_name = "FILE")]
        key: Option<PathBuf>,
        #[command(flatten)]
        statement: StatementArgs,
    },
    /// State that another key takes the place of a key; releases carry the statement
    Replace {
        /// Own key that is replaced, and signs the statement
        #[arg(value_name = "NAME")]
        name: String,
        /// Public key that takes its place
        #[arg(long, value_name = "FILE")]
        by: PathBuf,
        #[command(flatten)]
        statement: StatementArgs,
    },
    /// Remove a key from the trusted keys
    Distrust {
        /// Name of the key
        #[arg(value_name = "NAME")]
        name: String,
    },
}
