//! The machine: what it is and has, processes on it, and what they are kept from.
//!
//! ```
//! use kladder_core::host::survey::{Host, facts};
//!
//! // A machine can be described by a folder laid out like `/`.
//! let root = tempfile::tempdir()?;
//! std::fs::create_dir_all(root.path().join("etc"))?;
//! std::fs::write(root.path().join("etc/os-release"), "ID=shoal\nVERSION_ID=\"12\"\n")?;
//! let host = Host::new("".into(), root.path()).described(root.path().to_path_buf());
//! let survey = facts(&host, &[]);
//! assert_eq!((survey.system.id.as_deref(), survey.system.release.as_deref()), (Some("shoal"), Some("12")));
//! // What is not told is unknown, and nothing fails.
//! assert_eq!(survey.memory, None);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod confine;
pub mod demands;
pub mod enclosed;
mod fonts;
pub mod process;
pub mod restart;
pub mod rooms;
mod rpm;
pub mod survey;
pub mod system;
pub mod tools;
