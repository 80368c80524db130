//! What a person has set, and where things are kept.

mod home;
mod network;

pub use home::{Home, Settings};
pub use network::{Manners, Rate, amount};
