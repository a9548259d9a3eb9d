#![doc = include_str!("crate.md")]

pub mod address;
pub mod buffers;
pub mod field;
pub mod json;
pub mod level;
pub mod output;
pub mod record;
pub mod scan;
pub mod simd;
pub mod stamp;
pub mod texts;
pub mod time;
pub mod usual;
