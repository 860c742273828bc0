//! Records in delimited text, as historians and loggers export it.
//!
//! What varies between exports is found out from the file: encoding and byte-order mark, delimiter, decimal comma,
//! header, units in the header, the form of the time stamps.

mod dialect;
mod write;

pub use dialect::Dialect;
pub use write::write_record;
