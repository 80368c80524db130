//! The deciding side of Kite Ladder: what versions are, what definitions and ladders say, and which release stands on
//! which rung.
//!
//! Everything here takes values and returns values. Definitions come in through [`catalog::Catalog`], what the host has
//! through [`pins::OnHost`]; nothing is read from a disk, a process or a clock but the time that a search may take.
//!
//! ```
//! use kladder_choose::catalog::{Catalogs, Machine, Memory};
//! use kladder_choose::document::Source;
//! use kladder_choose::ladder::Ladder;
//! use kladder_choose::pins::{Choosing, Limits, Moves, NoHost};
//!
//! let mut memory = Memory::new("gauges");
//! memory.add("skerroc", r#"
//!     tool = "skerroc"
//!     summary = "Compiler for the Skerrow language"
//!     [[releases]]
//!     version = "1.4.2"
//!     [[releases.artifacts]]
//!     for = ["any"]
//!     file = "skerroc-1.4.2.tar.gz"
//!     size = 48
//!     sha256 = "0000000000000000000000000000000000000000000000000000000000000000"
//! "#);
//! let catalogs = Catalogs::new(vec![Box::new(memory)])?;
//! let ladder = Ladder::parse(&Source::new("ladder.toml", "[ladder]\n[rungs]\nskerroc = \"1.4\"\n"))?;
//! let here = Machine::of("linux/x86_64".parse()?);
//! let choosing = Choosing {
//!     ladder: &ladder,
//!     catalogs: &catalogs,
//!     here: &here,
//!     host: &NoHost,
//!     old: None,
//!     moves: &Moves::default(),
//!     limits: Limits::default(),
//! };
//! assert_eq!(choosing.pins()?.rungs["skerroc"].version.as_str(), "1.4.2");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod values;

pub mod version;

pub mod document;

pub mod catalog;
pub mod ladder;
pub mod pins;
pub mod sets;
pub mod setting;

pub use values::{address, digest, names, near, path, platform, template};
