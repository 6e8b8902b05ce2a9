//! Lifts: trying and placing them, frames to take a place from, and where they can be seen.

use crate::problem::{Failure, Problem};
use crate::routes::off;
use actix_web::http::header;
use actix_web::{HttpResponse, get, post, web};
use evanu_studio::{
    GlareInfo, Lift, LiftInfo, LiftShape, Place, PlaceShape, Proposal, Purpose, SeamInfo, Studio, Wanted,
};

type Shared = web::Data<Studio>;

pub fn configure(config: &mut web::ServiceConfig) {
    config
        .service(try_lift)
        .service(place_lift)
        .service(propose)
        .service(seams)
        .service(glare)
        .service(lift_picture);
}

/// What a lift would do, before it is laid.
#[utoipa::path(context_path = "/api", params(("set" = i64, Path)), request_body = LiftShape, responses((status = 200, body = LiftInfo), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/lifts/try")]
pub async fn try_lift(
    studio: Shared,
    path: web::Path<i64>,
    lift: web::Json<Lift>,
) -> Result<web::Json<LiftInfo>, Failure> {
    let (set, lift) = (*path, lift.into_inner());
    Ok(web::Json(off(&studio, move |s| s.try_lift(set, &lift)).await?))
}

/// The geometry with which what a lift shows lies best on what the plate shows near there.
#[utoipa::path(context_path = "/api", params(("set" = i64, Path)), request_body = LiftShape, responses((status = 200, body = PlaceShape), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/lifts/place")]
pub async fn place_lift(
    studio: Shared,
    path: web::Path<i64>,
    lift: web::Json<Lift>,
) -> Result<web::Json<Place>, Failure> {
    let (set, lift) = (*path, lift.into_inner());
    Ok(web::Json(off(&studio, move |s| s.place_lift(set, &lift)).await?))
}

/// When the highlights that a lift takes off come back.
#[utoipa::path(context_path = "/api", params(("set" = i64, Path), ("lift" = usize, Path)), responses((status = 200, body = GlareInfo), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/lifts/{lift}/glare")]
pub async fn glare(studio: Shared, path: web::Path<(i64, usize)>) -> Result<web::Json<GlareInfo>, Failure> {
    let (set, lift) = *path;
    Ok(web::Json(off(&studio, move |s| s.glare(set, lift)).await?))
}

/// The frames that a place can be taken from, the one that most surely leaves it clear first.
#[utoipa::path(context_path = "/api", params(("set" = i64, Path)), request_body = Wanted, responses((status = 200, body = Vec<Proposal>), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/lifts/proposals")]
pub async fn propose(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<Wanted>,
) -> Result<web::Json<Vec<Proposal>>, Failure> {
    Ok(web::Json(off(&studio, move |s| s.proposals(*set, &wanted)).await?))
}

/// Where lifts can be seen when the plate is used for a purpose, strongest first.
#[utoipa::path(context_path = "/api", params(("set" = i64, Path), ("purpose" = Purpose, Path)), responses((status = 200, body = Vec<SeamInfo>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/seams/{purpose}")]
pub async fn seams(
    studio: Shared,
    path: web::Path<(i64, Purpose)>,
) -> Result<web::Json<Vec<SeamInfo>>, Failure> {
    let (set, purpose) = *path;
    Ok(web::Json(off(&studio, move |s| s.seams(set, purpose)).await?))
}

/// The plate where a lift lies, small.
#[utoipa::path(context_path = "/api", params(("set" = i64, Path), ("lift" = usize, Path)), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/lifts/{lift}/picture")]
pub async fn lift_picture(studio: Shared, path: web::Path<(i64, usize)>) -> Result<HttpResponse, Failure> {
    let (set, lift) = *path;
    let bytes = off(&studio, move |s| s.lift_picture(set, lift, 160)).await?;
    Ok(HttpResponse::Ok()
        .content_type("image/jpeg")
        .insert_header((header::CACHE_CONTROL, "private, max-age=3600"))
        .body(bytes))
}
