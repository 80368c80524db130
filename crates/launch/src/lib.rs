//! The table that the launcher reads, and the launcher itself as bytes.
//!
//! A landing has one folder of commands. Each command in it is the same tiny program under another name; the program
//! looks its own name up in the table beside that folder, sets the ladder's variables and becomes the tool. Nothing is
//! parsed that was not written by [`table::Table::to_bytes`], and nothing is depended on but the standard library.

pub mod ladders;
pub mod table;
pub mod variables;

/// The launcher, built for the same target as this library and linked statically where the target allows it.
pub const PROGRAM: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/launcher"));

/// Name of the folder that holds the commands of a landing.
pub const COMMANDS: &str = "commands";

/// Name of the folder below which tools keep others to themselves, each with commands and a table.
pub const PRIVATE: &str = "private";

/// Name of the table, beside the folder of commands.
pub const TABLE: &str = "launch.table";

/// Name of the folder of sets, each with commands and a table.
pub const SETS: &str = "sets";

/// Name of the table of what sets bring where their ladder counts, beside the landing's own.
pub const ENTERED: &str = "entered.table";

/// Name of the folder of what is put into shells: commands of all ladders, and the table that says which ladder counts where.
pub const WIRED: &str = "wired";

/// Name of the table of ladders in [`WIRED`].
pub const LADDERS: &str = "ladders.table";
