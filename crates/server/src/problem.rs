//! Errors as RFC 9457 problem details.

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, ResponseError};
use evanu_studio::StudioError;
use serde::Serialize;
use utoipa::ToSchema;

/// A problem as the client gets it.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct Problem {
    /// Always `about:blank`: the title says it all.
    #[serde(rename = "type")]
    kind: &'static str,
    /// The status in words.
    title: String,
    /// The HTTP status.
    status: u16,
    /// What happened, to which file, and what to do.
    detail: String,
}

/// A studio error on its way to the client.
#[derive(Debug)]
pub(crate) struct Failure(StatusCode, String);

impl Failure {
    /// A failure that is no studio's.
    pub(crate) fn new(status: StatusCode, detail: &str) -> Self {
        Self(status, detail.to_owned())
    }
}

impl std::fmt::Display for Failure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.1)
    }
}

impl From<StudioError> for Failure {
    fn from(e: StudioError) -> Self {
        let status = match &e {
            StudioError::NotFound(_) => StatusCode::NOT_FOUND,
            StudioError::Invalid(_) => StatusCode::BAD_REQUEST,
            StudioError::Conflict(_) | StudioError::Cancelled => StatusCode::CONFLICT,
            StudioError::Outdated { .. } => StatusCode::PRECONDITION_FAILED,
            StudioError::Media(_) => StatusCode::UNPROCESSABLE_ENTITY,
            StudioError::Full(_) => StatusCode::INSUFFICIENT_STORAGE,
            StudioError::Busy(_) => StatusCode::SERVICE_UNAVAILABLE,
            StudioError::Storage(_) => StatusCode::INTERNAL_SERVER_ERROR,
        };
        if status == StatusCode::INTERNAL_SERVER_ERROR {
            tracing::error!("{e}");
        }
        Self(status, e.to_string())
    }
}

impl From<actix_web::error::BlockingError> for Failure {
    fn from(_: actix_web::error::BlockingError) -> Self {
        Self(StatusCode::SERVICE_UNAVAILABLE, "the server is busy; please try again".into())
    }
}

impl ResponseError for Failure {
    fn status_code(&self) -> StatusCode {
        self.0
    }

    fn error_response(&self) -> HttpResponse {
        let title = self.0.canonical_reason().unwrap_or("Error").to_owned();
        let problem = Problem { kind: "about:blank", title, status: self.0.as_u16(), detail: self.1.clone() };
        HttpResponse::build(self.0).content_type("application/problem+json").json(problem)
    }
}

/// A request that makes no sense.
pub(crate) fn bad_request(detail: &str) -> actix_web::Error {
    Failure(StatusCode::BAD_REQUEST, format!("the request cannot be understood ({detail})")).into()
}

/// A request for something that is not there.
pub(crate) fn not_found() -> actix_web::Error {
    Failure(StatusCode::NOT_FOUND, "there is nothing at this address".into()).into()
}

/// The same as a response.
pub(crate) fn not_found_response() -> HttpResponse {
    Failure(StatusCode::NOT_FOUND, "there is nothing at this address".into()).error_response()
}

/// A request from a page that is not ours.
pub(crate) fn foreign_response() -> HttpResponse {
    Failure(StatusCode::FORBIDDEN, "requests are taken only from Evanu's own pages".into()).error_response()
}
