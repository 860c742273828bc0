//! Steps laid over a record.
