//! Touches: what one would look like, where a copy is best taken from, and how it looks on the plate.

use crate::problem::{Failure, Problem};
use crate::routes::run_blocking;
use actix_web::http::header;
use actix_web::{HttpResponse, get, post, web};
use evanu_core::patch::PatchTransform;
use evanu_studio::{Studio, TouchInfo, TouchTry};
use utoipa_actix_web::service_config::ServiceConfig;

type Shared = web::Data<Studio>;

pub(crate) fn configure(config: &mut ServiceConfig) {
    config.service(try_touch).service(touch_source).service(touch_picture);
}

/// What a touch would look like, before it is laid: an invention in variants.
#[utoipa::path(params(("set" = i64, Path)), request_body = TouchTry, responses((status = 200, body = TouchInfo), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/touches/try")]
pub(crate) async fn try_touch(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<TouchTry>,
) -> Result<web::Json<TouchInfo>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.try_touch(*set, &wanted)).await?))
}

/// The move from the source that goes on best from a touch's rim.
#[utoipa::path(params(("set" = i64, Path)), request_body = TouchTry, responses((status = 200, body = PatchTransform), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/touches/source")]
pub(crate) async fn touch_source(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<TouchTry>,
) -> Result<web::Json<PatchTransform>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.touch_source(*set, &wanted)).await?))
}

/// The plate where a touch lies, small.
#[utoipa::path(params(("set" = i64, Path), ("touch" = usize, Path)), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/touches/{touch}/picture")]
pub(crate) async fn touch_picture(
    studio: Shared,
    path: web::Path<(i64, usize)>,
) -> Result<HttpResponse, Failure> {
    let (set, touch) = *path;
    let bytes = run_blocking(&studio, move |s| s.scenes.touch_picture(set, touch, 160)).await?;
    Ok(HttpResponse::Ok()
        .content_type("image/jpeg")
        .insert_header((header::CACHE_CONTROL, "private, max-age=3600"))
        .body(bytes))
}
