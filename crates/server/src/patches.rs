//! Patches: trying and placing them, frames to take a place from, and where they can be seen.

use crate::problem::{Failure, Problem};
use crate::routes::run_blocking;
use actix_web::http::header;
use actix_web::{HttpResponse, get, post, web};
use evanu_core::patch::{Patch, PatchTransform};
use evanu_core::recipe::FrameId;
use evanu_studio::{GlareInfo, PatchInfo, Proposal, ProposalRequest, Purpose, SeamInfo, Studio};
use utoipa_actix_web::service_config::ServiceConfig;

type Shared = web::Data<Studio>;

pub(crate) fn configure(config: &mut ServiceConfig) {
    config
        .service(try_patch)
        .service(place_patch)
        .service(propose)
        .service(seams)
        .service(glare)
        .service(patch_picture);
}

/// What a patch would do, before it is laid.
#[utoipa::path(params(("set" = i64, Path)), request_body = Patch<FrameId>, responses((status = 200, body = PatchInfo), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/patches/try")]
pub(crate) async fn try_patch(
    studio: Shared,
    path: web::Path<i64>,
    patch: web::Json<Patch<FrameId>>,
) -> Result<web::Json<PatchInfo>, Failure> {
    let (set, patch) = (*path, patch.into_inner());
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.try_patch(set, &patch)).await?))
}

/// The geometry with which what a patch shows lies best on what the plate shows near there.
#[utoipa::path(params(("set" = i64, Path)), request_body = Patch<FrameId>, responses((status = 200, body = PatchTransform), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/patches/place")]
pub(crate) async fn place_patch(
    studio: Shared,
    path: web::Path<i64>,
    patch: web::Json<Patch<FrameId>>,
) -> Result<web::Json<PatchTransform>, Failure> {
    let (set, patch) = (*path, patch.into_inner());
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.place_patch(set, &patch)).await?))
}

/// When the highlights that a patch takes off come back.
#[utoipa::path(params(("set" = i64, Path), ("patch" = usize, Path)), responses((status = 200, body = GlareInfo), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/patches/{patch}/glare")]
pub(crate) async fn glare(
    studio: Shared,
    path: web::Path<(i64, usize)>,
) -> Result<web::Json<GlareInfo>, Failure> {
    let (set, patch) = *path;
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.glare(set, patch)).await?))
}

/// The frames that a place can be taken from, the one that most surely leaves it clear first.
#[utoipa::path(params(("set" = i64, Path)), request_body = ProposalRequest, responses((status = 200, body = Vec<Proposal>), (status = 404, body = Problem), (status = 400, body = Problem), (status = 409, body = Problem)))]
#[post("/sets/{set}/patches/proposals")]
pub(crate) async fn propose(
    studio: Shared,
    set: web::Path<i64>,
    wanted: web::Json<ProposalRequest>,
) -> Result<web::Json<Vec<Proposal>>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.proposals(*set, &wanted)).await?))
}

/// Where patches can be seen when the plate is used for a purpose, strongest first.
#[utoipa::path(params(("set" = i64, Path), ("purpose" = Purpose, Path)), responses((status = 200, body = Vec<SeamInfo>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/seams/{purpose}")]
pub(crate) async fn seams(
    studio: Shared,
    path: web::Path<(i64, Purpose)>,
) -> Result<web::Json<Vec<SeamInfo>>, Failure> {
    let (set, purpose) = *path;
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.seams(set, purpose)).await?))
}

/// The plate where a patch lies, small.
#[utoipa::path(params(("set" = i64, Path), ("patch" = usize, Path)), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/patches/{patch}/picture")]
pub(crate) async fn patch_picture(
    studio: Shared,
    path: web::Path<(i64, usize)>,
) -> Result<HttpResponse, Failure> {
    let (set, patch) = *path;
    let bytes = run_blocking(&studio, move |s| s.scenes.patch_picture(set, patch, 160)).await?;
    Ok(HttpResponse::Ok()
        .content_type("image/jpeg")
        .insert_header((header::CACHE_CONTROL, "private, max-age=3600"))
        .body(bytes))
}
