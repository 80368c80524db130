//! What a person has set, and where things are kept.
//!
//! ```
//! use kladder_core::settings::Home;
//!
//! let folder = tempfile::tempdir()?;
//! let home = Home::within(folder.path());
//! assert_eq!(home.shelf(), folder.path().join("data/shelf"));
//! // Without a file everything is as it is by itself.
//! assert_eq!(home.settings()?.network.retries, 3);
//! std::fs::create_dir_all(&home.config)?;
//! std::fs::write(home.config.join("config.toml"), "[network]\npatience = 100000\n")?;
//! assert!(home.settings().is_err(), "a day has fewer seconds");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod home;
mod indexes;
mod neighbours;
mod network;
mod origins;
mod sign_in;

pub use home::{Home, Settings};
pub use indexes::{IndexKind, IndexSetting};
pub use neighbours::NeighbourSetting;
pub use network::{Manners, Rate, amount};
pub use origins::OriginRules;
pub(crate) use origins::{authority_of, host_of};
pub use sign_in::{Secret, SignIn};
