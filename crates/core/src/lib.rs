//! The machine's side of Kite Ladder: from pins to a proved workstation.
//!
//! The storeys stand bottom up; each knows only those above it in this list. Nothing here prints, prompts, exits or reads
//! the environment: what happens is told through [`base::event::Observer`], decisions are asked through
//! [`climb::Decide`].
//!
//! A whole climb, from a folder of definitions and a folder of artifacts to a landing:
//!
//! ```
//! use std::fs;
//! use kladder_core::base::digest::Digest;
//! use kladder_core::base::event::Silent;
//! use kladder_core::climb::{Climbed, Decide, Request};
//! use kladder_core::desk::Surroundings;
//! use kladder_core::host::survey::Host;
//! use kladder_core::settings::Home;
//!
//! /// Accepts no licence, and goes on.
//! struct Nobody;
//! impl Decide for Nobody {}
//!
//! let folder = tempfile::tempdir()?;
//! let at = |path: &str| folder.path().join(path);
//! for path in ["catalog/tools", "yard", "tmp"] {
//!     fs::create_dir_all(at(path))?;
//! }
//! let script = "#!/bin/sh\necho plank 1.0\n";
//! fs::write(at("yard/plank"), script)?;
//! fs::write(at("catalog/catalog.toml"), "[catalog]\nformat = 2\nname = \"harbour\"\n")?;
//! fs::write(at("catalog/tools/plank.toml"), format!(r#"
//!     tool = "plank"
//!     summary = "Says its name"
//!     commands = {{ plank = "plank" }}
//!     [[checks]]
//!     run = ["plank"]
//!     expect = {{ stdout = '^plank (?<version>\S+)' }}
//!     [[releases]]
//!     version = "1.0"
//!     artifacts = [{{ file = "plank", size = {}, sha256 = "{}" }}]
//! "#, script.len(), Digest::of(script.as_bytes())))?;
//! fs::write(at("ladder.toml"), "[ladder]\ncatalog = \"catalog\"\n[rungs]\nplank = \"any\"\n")?;
//!
//! let surroundings = Surroundings {
//!     home: Home::within(&at("home")),
//!     host: Host::new("/usr/bin:/bin".into(), &at("tmp")),
//!     folder: folder.path().to_path_buf(),
//!     ladder: None,
//!     catalogs: Vec::new(),
//!     yards: vec![at("yard").display().to_string()],
//!     offline: false,
//!     wait: None,
//!     moving: Vec::new(),
//!     bales: Vec::new(),
//!     neighbours: false,
//!     looking: None,
//! };
//! let desk = surroundings.open()?;
//! let pins = desk.pinned()?.pins;
//! let site = desk.site(&pins);
//! let climbed = site.climb(&Request::default(), &Nobody, &Silent)?;
//! assert!(matches!(climbed, Climbed::Landed(landing) if landing.number == 1));
//! // A second climb finds nothing to do.
//! assert!(matches!(site.climb(&Request::default(), &Nobody, &Silent)?, Climbed::AllStand(_)));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod sys;

pub mod base;

pub mod host;

pub mod settings;

pub mod bring;

pub mod keep;

pub mod tasks;

pub mod wire;

pub mod prove;
pub mod serve;

pub mod climb;

pub mod desk;

pub mod share;
