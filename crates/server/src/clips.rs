//! Clips: what is known of one, its frames with and without the patch, what is played, what was brushed followed, and finished files.

use crate::problem::{Failure, Problem};
use crate::routes::{Id, run_blocking};
use actix_files::NamedFile;
use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, get, post, web};
use evanu_core::recipe::Stroke;
use evanu_studio::{CarryRequest, ClipFile, ClipState, Returned, Studio, StudioError};
use serde::Deserialize;
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

type Shared = web::Data<Studio>;

pub(crate) fn configure(config: &mut ServiceConfig) {
    config
        .service(clip_state)
        .service(clip_frame)
        .service(lay_clip)
        .service(clip_made)
        .service(carry_stroke)
        .service(return_still)
        .service(export_clip);
}

/// Everything about the clip that the frames of a set come from.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = ClipState), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/clip")]
pub(crate) async fn clip_state(studio: Shared, set: web::Path<i64>) -> Result<web::Json<ClipState>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.clips.state(*set)).await?))
}

/// A frame of the clip as a picture: `file` is `K-shot.jpg` as it was or `K-clean.jpg` with the patch, K from 0; `key` is the clip's.
#[utoipa::path(params(("set" = i64, Path), ("key" = String, Path), ("file" = String, Path)), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/clip/{key}/frames/{file}")]
pub(crate) async fn clip_frame(
    studio: Shared,
    path: web::Path<(i64, String, String)>,
) -> Result<HttpResponse, Failure> {
    let (set, _, file) = path.into_inner();
    let unknown = || StudioError::NotFound(format!("there is no frame \"{file}\""));
    let (number, kind) = file.strip_suffix(".jpg").and_then(|f| f.split_once('-')).ok_or_else(unknown)?;
    let number: usize = number.parse().map_err(|_| unknown())?;
    let repaired = match kind {
        "clean" => true,
        "shot" => false,
        _ => return Err(unknown().into()),
    };
    let bytes = run_blocking(&studio, move |s| s.clips.frame(set, number, repaired)).await?;
    Ok(HttpResponse::Ok()
        .content_type("image/jpeg")
        .insert_header((header::CACHE_CONTROL, "private, max-age=3600"))
        .body(bytes.as_ref().clone()))
}

/// Begins laying the patch on all frames; when the run is done, it can be played.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 202, body = Id), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/clip/lay")]
pub(crate) async fn lay_clip(studio: Shared, set: web::Path<i64>) -> Result<HttpResponse, Failure> {
    let id = run_blocking(&studio, move |s| s.lay_clip(*set)).await?;
    Ok(HttpResponse::Accepted().json(Id { id }))
}

/// What laying the patch made: `play.mp4`, before and after, one above the other, small, with sound; `slit.png`, a line of pixels across
/// the patch in each frame, time to the right.
#[utoipa::path(params(("set" = i64, Path), ("key" = String, Path), ("file" = String, Path)), responses((status = 200, content_type = "video/mp4", body = Vec<u8>), (status = 404, body = Problem)))]
#[get("/sets/{set}/clip/{key}/{file}")]
pub(crate) async fn clip_made(
    studio: Shared,
    path: web::Path<(i64, String, String)>,
    request: HttpRequest,
) -> Result<HttpResponse, Failure> {
    let (set, key, file) = path.into_inner();
    let ending = match file.as_str() {
        "play.mp4" => "mp4",
        "slit.png" => "png",
        _ => return Err(StudioError::NotFound(format!("there is no file \"{file}\"")).into()),
    };
    let path = run_blocking(&studio, move |s| s.clips.made(set, &key, ending)).await?;
    let opened = web::block(move || NamedFile::open(path)).await?;
    let gone = |_| StudioError::NotFound("it is not ready to be played; lay the patch first".into());
    Ok(opened.map_err(gone)?.set_content_encoding(header::ContentEncoding::Identity).into_response(&request))
}

/// A stroke in a frame, and where what lies under it goes in the frames beside it.
#[utoipa::path(params(("set" = i64, Path)), request_body = CarryRequest, responses((status = 200, body = Vec<Stroke>), (status = 400, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/clip/strokes")]
pub(crate) async fn carry_stroke(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<CarryRequest>,
) -> Result<web::Json<Vec<Stroke>>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.clips.carry(*set, &wanted)).await?))
}

/// A file's name.
#[derive(Debug, Clone, Deserialize, utoipa::IntoParams)]
pub(crate) struct StillQuery {
    /// As its owner has it.
    name: String,
}

/// Takes a still of the clip that was retouched elsewhere, the body being the file: tells where it was changed.
#[utoipa::path(params(("set" = i64, Path), StillQuery), request_body(content = Vec<u8>, content_type = "application/octet-stream"), responses((status = 200, body = Returned), (status = 400, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/clip/stills")]
pub(crate) async fn return_still(
    studio: Shared,
    set: web::Path<i64>,
    named: web::Query<StillQuery>,
    body: web::Payload,
) -> Result<web::Json<Returned>, Failure> {
    /// Bytes that a still has at most.
    const MOST: usize = 1 << 30;
    let bytes = body.to_bytes_limited(MOST).await;
    let cut = || StudioError::Invalid(format!("{}: it did not arrive whole; send it again", named.name));
    let bytes = bytes.map_err(|_| cut())?.map_err(|_| cut())?;
    let name = named.into_inner().name;
    Ok(web::Json(run_blocking(&studio, move |s| s.clips.take_back(*set, &name, &bytes)).await?))
}

/// What of a clip is to be written.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
pub(crate) struct ClipExport {
    /// Which file.
    file: ClipFile,
}

/// Begins writing a finished clip, or what goes with it.
#[utoipa::path(params(("set" = i64, Path)), request_body = ClipExport, responses((status = 202, body = Id), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/clip/exports")]
pub(crate) async fn export_clip(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<ClipExport>,
) -> Result<HttpResponse, Failure> {
    let id = run_blocking(&studio, move |s| s.export_clip(*set, wanted.file)).await?;
    Ok(HttpResponse::Accepted().json(Id { id }))
}
