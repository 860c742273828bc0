//! Lists that come in parts: the newest first, and how many there are in all.

use crate::problem::Problem;
use antistasis_store::{Listed, Part};
use axum::Json;
use axum::http::HeaderName;
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use utoipa::IntoParams;
use uuid::Uuid;

/// Rows where nothing is said, and at most.
const ROWS: i64 = 100;
const MOST_ROWS: i64 = 1000;
static IN_ALL: HeaderName = HeaderName::from_static("x-total-count");
static UNREADABLE: HeaderName = HeaderName::from_static("x-unreadable-count");

/// Which part of a list.
#[derive(Debug, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub(crate) struct PartOfList {
    /// The newest so many, 1 to 1000; 100 where left out.
    #[param(minimum = 1, maximum = 1000)]
    newest: Option<i64>,
    /// One that is to be there besides, however old it is.
    also: Option<Uuid>,
}

impl PartOfList {
    pub(crate) fn checked(&self) -> Result<Part, Problem> {
        Ok(Part { newest: rows_wanted("newest", self.newest)?, also: self.also })
    }
}

/// How many rows of a list are wanted in a parameter of the query.
pub(crate) fn rows_wanted(name: &str, given: Option<i64>) -> Result<i64, Problem> {
    let rows = given.unwrap_or(ROWS);
    if (1..=MOST_ROWS).contains(&rows) {
        return Ok(rows);
    }
    Err(Problem::invalid_field(name, format!("{name} is {rows}: it must be 1 to {MOST_ROWS}.")))
}

/// Rows, how many there are in all, and how many of those that were wanted cannot be read by this version.
pub(crate) struct InPart<T>(Listed<T>);

impl<T> From<Listed<T>> for InPart<T> {
    fn from(listed: Listed<T>) -> Self {
        Self(listed)
    }
}

impl<T: Serialize> IntoResponse for InPart<T> {
    fn into_response(self) -> Response {
        let Listed { rows, all, unreadable } = self.0;
        let headers = [(IN_ALL.clone(), all.to_string()), (UNREADABLE.clone(), unreadable.to_string())];
        (headers, Json(rows)).into_response()
    }
}
