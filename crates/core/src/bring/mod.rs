//! From yards to the shelf: fetching, unpacking, and places that hold what was unpacked.

pub mod bale;
pub mod fetch;
pub mod index;
pub mod inner;
pub mod intake;
mod layout;
pub mod neighbours;
pub mod parts;
mod record;
pub mod shelf;
pub mod unpack;
