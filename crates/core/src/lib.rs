//! The work of Kite Ladder: from a ladder to a proved workstation.
//!
//! The modules stand bottom up; each knows only those above it in this list. Nothing here prints, prompts, exits or
//! reads the environment: what happens is told through [`event::Observer`].

pub mod blocks;
pub mod confine;
pub mod crash;
pub mod digest;
pub mod files;
pub mod near;
pub mod record;

pub mod document;
pub mod platform;
pub mod version;

pub mod event;
pub mod home;
pub mod manners;
pub mod process;
pub mod survey;
pub mod verdict;

pub mod rates;
pub mod restart;

pub mod catalog;
pub mod ladder;
pub mod pins;

pub mod fetch;
pub mod intake;
pub mod shelf;
pub mod unpack;

pub mod berth;
pub mod gates;
pub mod landing;
pub mod route;
pub mod state;
pub mod terms;
pub mod verify;
pub mod wire;

pub mod clear;
pub mod climb;

pub mod standing;
pub mod start;
