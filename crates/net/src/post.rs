//! JSON sent to an address.

use crate::connection::Trust;
use crate::http::{HttpError, Question, ask};
use lattice_core::SourceUrl;
use std::time::Duration;

/// An answer that takes longer is none.
const WITHIN: Duration = Duration::from_secs(5);

/// Sends JSON by POST.
///
/// # Errors
/// [`HttpError`], also where the answer is none of success.
pub async fn post_json(url: &SourceUrl, json: String) -> Result<(), HttpError> {
    let question = Question { url, address: None, body: Some(("application/json", json)), trust: Trust::Verify };
    let answer = ask(&question, WITHIN).await?;
    let status = answer.response.status();
    if status.is_success() { Ok(()) } else { Err(HttpError::Status(status.as_u16())) }
}
