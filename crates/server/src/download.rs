//! Files as answers.

use crate::problem::Problem;
use antistasis_core::series::Record;
use antistasis_exchange::{Format, write};
use axum::http::header;
use axum::response::{IntoResponse, Response};

/// A file to be saved under `name`, with everything in it replaced that a file system might mind.
pub(crate) fn named_file(name: &str, ending: &str, media_type: &str, file: Vec<u8>) -> Response {
    let plain: String = name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' }).collect();
    let disposition = format!("attachment; filename=\"{plain}.{ending}\"");
    let headers = [(header::CONTENT_TYPE, media_type.to_owned()), (header::CONTENT_DISPOSITION, disposition)];
    (headers, file).into_response()
}

/// A file of a known form.
pub(crate) fn attachment(name: &str, format: Format, file: Vec<u8>) -> Response {
    named_file(name, format.ending(), format.media_type(), file)
}

/// A record as the content of a file, its times from `start` seconds on.
pub(crate) fn content(record: &Record, start: f64, format: Format) -> Result<Vec<u8>, Problem> {
    let mut bytes = Vec::new();
    write(record, start, format, &mut bytes)?;
    Ok(bytes)
}
