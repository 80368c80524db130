//! The machine's side of Kite Ladder: from pins to a proved workstation.
//!
//! The storeys stand bottom up; each knows only those above it in this list. Nothing here prints, prompts, exits or reads
//! the environment: what happens is told through [`base::event::Observer`], decisions are asked through
//! [`climb::Decide`].

pub mod sys;

pub mod base;

pub mod host;

pub mod settings;

pub mod bring;

pub mod keep;

pub mod tasks;

pub mod prove;

pub mod climb;

pub mod desk;
