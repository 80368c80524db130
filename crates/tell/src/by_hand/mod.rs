//! A ladder, climbed without Kite Ladder: step by step in words for a person ([`guide`]), or as a plain shell script ([`script`]). Both are
//! made from the same steps, so that what the words say is what the script does.

mod guide;
mod quoting;
mod script;
mod steps;
mod unpacking;

pub use guide::guide;
pub use script::script;
