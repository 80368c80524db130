//! Bytes, digests, files, records, and what is told of them.

pub mod blocks;
pub mod crash;
pub mod database;
pub mod dialect;
pub mod digest;
pub mod event;
pub mod files;
pub mod record;
pub mod side;
