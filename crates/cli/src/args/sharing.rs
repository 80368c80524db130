//! What can be typed to share a ladder.

use std::net::SocketAddr;
use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};
use kladder_choose::platform::Platform;

#[allow(clippy::struct_excessive_bools, reason = "each is an option of its own")]
#[derive(Debug, Args)]
pub(crate) struct BaleOptions {
    /// The bale, or the first part of the names of its volumes
    pub(crate) file: PathBuf,
    /// Tell what is in it
    #[arg(long, conflicts_with_all = ["check", "since", "volume", "machines", "with_kladder", "programs"])]
    pub(crate) list: bool,
    /// Hold every byte of it against its digests
    #[arg(long, conflicts_with_all = ["since", "volume", "machines", "with_kladder", "programs"])]
    pub(crate) check: bool,
    /// Leave out what this other bale has
    #[arg(long, value_name = "BALE")]
    pub(crate) since: Option<PathBuf>,
    /// Make several files of at most this size, like `4 GB`
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) volume: Option<u64>,
    /// For this machine of the ladder; otherwise for all; may be given several times
    #[arg(long = "for", value_name = "MACHINE")]
    pub(crate) machines: Vec<String>,
    /// Leave out the repositories of the ladder's code
    #[arg(long)]
    pub(crate) without_code: bool,
    /// Take this kladder along, and a plain script that begins with it
    #[arg(long)]
    pub(crate) with_kladder: bool,
    /// Take a kladder for another platform along; may be given several times
    #[arg(long = "program", value_name = "PLATFORM=FILE", value_parser = program)]
    pub(crate) programs: Vec<(String, PathBuf)>,
}

/// Bytes, as a person writes them.
fn size(text: &str) -> Result<u64, String> {
    match kladder_core::settings::amount(text) {
        Some(bytes) if bytes >= LEAST_VOLUME => Ok(bytes),
        Some(_) => Err("a volume has 1 MB at least".to_owned()),
        None => Err("a size is a number with MB or GB: `4 GB`".to_owned()),
    }
}

/// Bytes of the smallest volume: an index fits into the first one.
const LEAST_VOLUME: u64 = 1_000_000;

fn program(text: &str) -> Result<(String, PathBuf), String> {
    let (platform, file) = text.split_once('=').ok_or("a platform and a file: `macos/aarch64=FILE`")?;
    let platform: Platform = platform.parse().map_err(|_| format!("`{platform}` is no platform"))?;
    Ok((platform.to_string(), file.into()))
}

#[derive(Debug, Args)]
pub(crate) struct ReportOptions {
    /// Where to write it; its ending tells how: `.html` is a page, `.md` is a guide for doing it by hand, `.sh` a plain script that does it, `.json` is ours, `.cdx.json` and `.spdx.json` are lists of materials. Otherwise a table
    /// is shown
    pub(crate) file: Option<PathBuf>,
    /// What to write it as, whatever the file is called
    #[arg(long = "as", value_name = "FORM", requires = "file")]
    pub(crate) form: Option<ReportForm>,
    /// What this machine is called in it; otherwise its own name
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
}

/// How a report is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ReportForm {
    /// A page with the ladder drawn, for a browser or for print
    Page,
    /// A guide for somebody who does it by hand, in Markdown
    Guide,
    /// A plain shell script that does the same climb
    Script,
    /// The report itself, for `kladder compare`
    Json,
    /// A list of materials (ECMA-424), version 1.6
    Cyclonedx,
    /// A list of materials (ISO/IEC 5962), version 2.3
    Spdx,
}

#[derive(Debug, Args)]
pub(crate) struct CompareOptions {
    /// Reports that `kladder report FILE.json` wrote, folders of such, numbers of this ladder's landings, or `here` for this machine; one is
    /// compared with this machine
    #[arg(required = true, value_name = "WORKSTATION")]
    pub(crate) workstations: Vec<String>,
    /// What differs between the machines themselves, too
    #[arg(long)]
    pub(crate) hosts: bool,
}

#[derive(Debug, Subcommand)]
pub(crate) enum YardCommand {
    /// Bring what the pins need into a yard, each file under its path; what is there stays
    Fill {
        /// A folder, a bucket (`s3://BUCKET/…`, `gs://`, `az://`) or a repository of a registry of images (`oci://HOST/NAME`)
        yard: String,
        /// For this machine of the ladder; otherwise for all; may be given several times
        #[arg(long = "for", value_name = "MACHINE")]
        machines: Vec<String>,
    },
    /// Hold what the pins need against what a yard has, every byte of it
    Check {
        /// The folder or address
        yard: String,
        /// For this machine of the ladder; otherwise for all; may be given several times
        #[arg(long = "for", value_name = "MACHINE")]
        machines: Vec<String>,
        /// Bring anew what is missing or damaged
        #[arg(long)]
        mend: bool,
    },
    /// Take files that you have fetched into the cache, each by its digest
    Take {
        /// The files
        #[arg(required = true)]
        files: Vec<PathBuf>,
    },
    /// Give machines of the room what this one's cache has, each file by its digest, until interrupted
    Share,
    /// Serve a folder over HTTP until interrupted
    Serve {
        /// The folder
        folder: PathBuf,
        /// The address to listen on; port 0 takes a free one
        #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:7380")]
        listen: SocketAddr,
        /// Take how machines stand at the end of their climbs (`collector` in their config.toml) into this folder
        #[arg(long, value_name = "FOLDER")]
        collect: Option<PathBuf>,
        /// Tell each request on standard error: who, the status, the bytes sent, the path
        #[arg(long)]
        log: bool,
    },
}
