//! Touches: what one would look like, where a copy is best taken from, how it looks on the plate, and where that is made up.

use crate::problem::{Failure, Problem};
use crate::routes::run_blocking;
use actix_web::http::header;
use actix_web::{HttpResponse, delete, get, post, web};
use evanu_core::touch::Proposed;
use evanu_studio::{ExtentInfo, MissingInfo, PlaneInfo, SeenTouch, Studio, TouchInfo, TouchTry, TriedInfo};
use utoipa_actix_web::service_config::ServiceConfig;

type Shared = web::Data<Studio>;

pub(crate) fn configure(config: &mut ServiceConfig) {
    config
        .service(try_touch)
        .service(tried_touch)
        .service(stop_trying)
        .service(touch_source)
        .service(touch_plane)
        .service(seen_touches)
        .service(missing)
        .service(thing)
        .service(touch_picture)
        .service(invented_mask);
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

/// How far the invention is that is being tried in a set.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = TriedInfo)))]
#[get("/sets/{set}/touches/try")]
pub(crate) async fn tried_touch(studio: Shared, set: web::Path<i64>) -> web::Json<TriedInfo> {
    web::Json(TriedInfo { share: studio.scenes.tried(*set) })
}

/// Stops the invention that is being tried in a set; it answers 409.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 204)))]
#[delete("/sets/{set}/touches/try")]
pub(crate) async fn stop_trying(studio: Shared, set: web::Path<i64>) -> HttpResponse {
    studio.scenes.stop_trying(*set);
    HttpResponse::NoContent().finish()
}

/// The plane that a touch lies in, by the edges around it.
#[utoipa::path(params(("set" = i64, Path)), request_body = TouchTry, responses((status = 200, body = PlaneInfo), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/touches/plane")]
pub(crate) async fn touch_plane(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<TouchTry>,
) -> Result<web::Json<PlaneInfo>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.touch_plane(*set, &wanted)).await?))
}

/// The touches that can still be seen, with what would mend each.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = Vec<SeenTouch>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/touches/seen")]
pub(crate) async fn seen_touches(
    studio: Shared,
    set: web::Path<i64>,
) -> Result<web::Json<Vec<SeenTouch>>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.touches_seen(*set)).await?))
}

/// What no frame shows of the plate and no touch covers yet, as areas to be made up.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = MissingInfo), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/touches/missing")]
pub(crate) async fn missing(studio: Shared, set: web::Path<i64>) -> Result<web::Json<MissingInfo>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.missing(*set)).await?))
}

/// A place of the plate, in pixels of its canvas.
#[derive(serde::Deserialize, utoipa::IntoParams)]
pub(crate) struct PlaceQuery {
    /// Column.
    x: f64,
    /// Row.
    y: f64,
}

/// The outline of what stands at a place of the plate, by its look alone.
#[utoipa::path(params(("set" = i64, Path), PlaceQuery), responses((status = 200, body = ExtentInfo), (status = 400, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/touches/thing")]
pub(crate) async fn thing(
    studio: Shared,
    set: web::Path<i64>,
    place: web::Query<PlaceQuery>,
) -> Result<web::Json<ExtentInfo>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.thing(*set, (place.x, place.y))).await?))
}

/// Where the plate is made up, white, of its size.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/invented.png")]
pub(crate) async fn invented_mask(studio: Shared, set: web::Path<i64>) -> Result<HttpResponse, Failure> {
    let bytes = run_blocking(&studio, move |s| s.scenes.invented_mask(*set)).await?;
    Ok(HttpResponse::Ok().content_type("image/png").body(bytes))
}

/// The source that goes on best from a touch's rim.
#[utoipa::path(params(("set" = i64, Path)), request_body = TouchTry, responses((status = 200, body = Proposed), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/touches/source")]
pub(crate) async fn touch_source(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<TouchTry>,
) -> Result<web::Json<Proposed>, Failure> {
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
