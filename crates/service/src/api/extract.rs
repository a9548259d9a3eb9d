//! Parts of a request, read with problem documents for what cannot be read.

use axum::extract::{FromRequest, FromRequestParts};
use rockrose_intake::Problem;

/// A JSON body.
#[derive(FromRequest)]
#[from_request(via(axum::Json), rejection(Problem))]
pub(crate) struct Body<T>(pub(crate) T);

/// The query's parameters.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(Problem))]
pub(crate) struct Asked<T>(pub(crate) T);

/// A part of the path.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(Problem))]
pub(crate) struct Part<T>(pub(crate) T);
