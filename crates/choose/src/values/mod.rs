//! Plain values with types of their own: checked once, where they are read, and right from then on.

pub mod address;
pub mod digest;
pub mod names;
pub mod near;
pub mod path;
pub mod platform;
mod schema;
pub mod template;
