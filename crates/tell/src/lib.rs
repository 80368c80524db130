//! Findings into sentences and into JSON: the one place for what terminal, page and programs are told.
//!
//! [`words`] turns facts of the core into sentences, [`problem`] turns its errors into what happened, where, why and what to
//! do next, with an exit code; [`shapes`] are the documented, versioned forms for programs, of which JSON Schemas are made.
//! Option and command names appear here and in the command line, and nowhere below.
//!
//! ```
//! use kladder_core::base::event::Finding;
//! use kladder_tell::words;
//!
//! let finding = Finding::Status { status: 3, expected: vec![0] };
//! assert_eq!(words::finding(&finding), "it ended with status 3, and 0 was expected");
//! ```

pub mod by_hand;
pub mod page;
pub mod problem;
pub mod shapes;
pub mod text;
pub mod words;
