//! What is kept from climb to climb: berths, landings, the journal, licences, rates; and what of it may go.
//!
//! | in the home | what | form |
//! |---|---|---|
//! | `data/ladders/*/landings/` | finished states of a ladder | a folder each (`landing`) |
//! | `data/ladders/*/whose.json` | whose they are | JSON (`whose`) |
//! | `data/ladders/*/berths/`, `corners/` | rungs' own folders, and what they wrote | links and files (`berth`) |
//! | `data/launchers/` | the launcher, once | a program (`launchers`) |
//! | `data/wired/` | what is put into shells | launchers, a table, lines for shells (`wired`) |
//! | `data/journal.db`, `data/lock` | what happened, and who may write | SQLite, a locked file (`state`) |
//! | `data/terms.json` | licences that were accepted | JSON (`terms`) |
//! | `data/rates.json` | how fast things went here | JSON (`rates`) |

pub mod berth;
pub mod chores;
pub mod clear;
pub mod landing;
pub mod launchers;
pub mod rates;
pub mod state;
pub mod terms;
pub mod whose;
pub mod wired;
