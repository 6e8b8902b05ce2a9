//! Many files at once, streamed to disk as they arrive.

use crate::problem::{Failure, Problem};
use crate::routes::run_blocking;
use actix_multipart::Multipart;
use actix_web::{HttpResponse, post, web};
use evanu_studio::{Studio, StudioError};
use futures_util::StreamExt;

/// Adds files to a set; each part is one file. Afterwards, `prepare` begins the work.
#[utoipa::path(params(("set" = i64, Path)), request_body(content = String, content_type = "multipart/form-data"), responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[post("/sets/{set}/frames")]
pub(crate) async fn upload_frames(
    studio: web::Data<Studio>,
    set: web::Path<i64>,
    mut parts: Multipart,
) -> Result<HttpResponse, Failure> {
    let set = *set;
    let cut = |e: actix_multipart::MultipartError| {
        StudioError::Invalid(format!("the upload was cut off ({e}); files that had arrived whole are kept"))
    };
    let mut added = Vec::new();
    while let Some(part) = parts.next().await {
        let mut part = part.map_err(cut)?;
        let name = part.content_disposition().and_then(|d| d.get_filename()).unwrap_or("frame").to_owned();
        let mut incoming = run_blocking(&studio, move |s| s.assets.incoming(set, &name)).await?;
        while let Some(bytes) = part.next().await {
            let bytes = bytes.map_err(cut)?;
            incoming = run_blocking(&studio, move |_| {
                incoming.take(&bytes)?;
                Ok(incoming)
            })
            .await?;
        }
        added.push(run_blocking(&studio, move |s| s.assets.add(set, incoming)).await?);
    }
    run_blocking(&studio, move |s| s.assets.settle(added)).await?;
    Ok(HttpResponse::NoContent().finish())
}
