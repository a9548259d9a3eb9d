#![doc = include_str!("crate.md")]

mod database;
mod table;

pub use database::database;
pub use table::{Located, Match, Places, Rows, Table, TableError, TableSlot, columns};
