//! Wiring: a block of lines in the files that a person's shells read when they start, and taking it out again.
//!
//! What is about to be written is planned first, shown by the caller, and then done file by file, each in one step. Nothing
//! but the block is ever touched: [`block`] says how it is found again and what becomes of the bytes around it. Beside it
//! stands what a ladder puts into a home besides: [`placed`], and what that is for its editors: [`chosen`].
//!
//! ```
//! use kladder_core::host::survey::{Host, Shells};
//! use kladder_core::keep::wired::Wired;
//! use kladder_core::settings::Home;
//! use kladder_core::wire::{self, Shell, Surroundings};
//!
//! let root = tempfile::tempdir()?;
//! let (home, kept) = (root.path().join("person"), Home::within(&root.path().join("kladder")));
//! std::fs::create_dir(&home)?;
//! std::fs::write(home.join(".bash_login"), "# mine\n")?;
//! let person = Surroundings { home: home.clone(), shell: Some("/bin/bash".into()), ..Surroundings::default() };
//! // bash reads one file where it is interactive, and the first of three that is there where it logs in.
//! let files = person.to_wire(&Shells::default(), &[], &Host::new("".into(), root.path()).described(root.path().into()));
//! let names: Vec<_> = files.iter().map(|file| (file.path.strip_prefix(&home).unwrap(), file.shell)).collect();
//! assert_eq!(names, [(".bashrc".as_ref(), Shell::Bash), (".bash_login".as_ref(), Shell::Bash)]);
//! // What would change is a value, which is shown before anything is written.
//! let planned = wire::wired(files, &Wired::of(&kept));
//! let change = planned[1].change.as_ref().unwrap().as_ref().unwrap();
//! assert_eq!(change.before.as_deref(), Some(b"# mine\n".as_slice()));
//! let backup = wire::apply(change, &root.path().join("before"))?;
//! assert_eq!(std::fs::read(backup.unwrap())?, b"# mine\n");
//! // And it comes out again as it went in.
//! let back = wire::unwired(person.all()).remove(0).change.unwrap().unwrap();
//! assert_eq!(back.after, change.before);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod asked;
pub mod block;
pub mod chosen;
mod files_of;
pub mod links;
mod login;
mod look;
pub mod placed;
mod plan;
mod ssh;

pub use asked::{Answered, Place, ask, ask_shells};
pub use files_of::{Shell, StartFile, Surroundings};
pub use login::{LoginShell, logged_in_with};
pub use look::{Desktop, LookState};
pub use plan::{Change, Obstacle, Planned, WireError, apply, is_wired, unwired, wired};
pub use ssh::{PublicKey, new_key, public_keys};
