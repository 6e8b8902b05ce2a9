//! Pixels: tiles, thumbnails and the look-through.

use crate::problem::{Failure, Problem};
use crate::routes::run_blocking;
use actix_web::http::header::{self, ETag, EntityTag, IfNoneMatch};
use actix_web::{HttpRequest, HttpResponse, get, web};
use evanu_core::combine::Method;
use evanu_core::geometry::{Rect, Size};
use evanu_core::recipe::FrameId;
use evanu_core::render::View;
use evanu_studio::{Evidence, ExtentInfo, LookThrough, Pixels, Studio, StudioError};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

/// Adds these routes.
pub(crate) fn configure(config: &mut ServiceConfig) {
    config
        .service(tile)
        .service(cover)
        .service(state_picture)
        .service(frame_thumbnail)
        .service(look)
        .service(extent)
        .service(evidence);
}

fn view_of(name: &str) -> Result<View<FrameId>, StudioError> {
    let unknown = || StudioError::NotFound(format!("there is no view \"{name}\""));
    let frame = |n: &str| n.parse().map(FrameId).map_err(|_| unknown());
    match name.split_once('-') {
        None if name == "plate" => Ok(View::Plate),
        None if name == "agreement" => Ok(View::Agreement),
        Some(("frame", n)) => Ok(View::Frame(frame(n)?)),
        Some(("shot", n)) => Ok(View::Shot(frame(n)?)),
        Some(("difference", n)) => Ok(View::Difference(frame(n)?)),
        Some(("by", m)) => m.parse::<Method>().map(View::By).map_err(StudioError::NotFound),
        _ => Err(unknown()),
    }
}

/// What is wanted of a tile.
#[derive(Deserialize, IntoParams)]
pub(crate) struct TileQuery {
    /// A part of it alone: column, row, width and height in its pixels, multiples of 8, with commas between.
    part: Option<String>,
}

/// A tile of a view. `name` is `plate`, `agreement`, `frame-N`, `shot-N`, `difference-N` or `by-METHOD`; `file` is `X_Y.jpg` or
/// `X_Y.png`; `key` is the set's `plate_key` or what its `tile_names` make of the tile; for frames its `frame_key`.
#[utoipa::path(
    params(("set" = i64, Path), ("key" = String, Path), ("name" = String, Path), ("level" = u32, Path), ("file" = String, Path), TileQuery),
    responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 304), (status = 400, body = Problem), (status = 404, body = Problem), (status = 409, body = Problem))
)]
#[get("/sets/{set}/tiles/{key}/{name}/{level}/{file}")]
pub(crate) async fn tile(
    studio: web::Data<Studio>,
    path: web::Path<(i64, String, String, u32, String)>,
    wanted: web::Query<TileQuery>,
    request: HttpRequest,
) -> Result<HttpResponse, Failure> {
    let (set, key, name, level, file) = path.into_inner();
    let view = view_of(&name)?;
    let place = parse_tile(&file).ok_or_else(|| StudioError::NotFound("there is no such tile".into()))?;
    let ((x, y), kind) = place;
    let no_part = || {
        StudioError::Invalid("a part of a tile is column, row, width and height with commas between".into())
    };
    let part = wanted.into_inner().part.map(|p| parse_part(&p).ok_or_else(no_part)).transpose()?;
    let (bytes, tag) =
        run_blocking(&studio, move |s| s.scenes.tile(set, &key, view, (level, (x, y)), part, kind)).await?;
    let tag = EntityTag::new_strong(tag.replace(|c: char| !c.is_ascii_alphanumeric(), "-"));
    let known = match request
        .headers()
        .get(header::IF_NONE_MATCH)
        .map(|_| <IfNoneMatch as header::Header>::parse(&request))
    {
        Some(Ok(IfNoneMatch::Items(tags))) => tags.iter().any(|t| t.weak_eq(&tag)),
        Some(Ok(IfNoneMatch::Any)) => true,
        _ => false,
    };
    let mut response = if known { HttpResponse::NotModified() } else { HttpResponse::Ok() };
    // The address holds the content's key: what it names never changes.
    response
        .insert_header(ETag(tag))
        .insert_header((header::CACHE_CONTROL, "private, max-age=31536000, immutable"));
    if known {
        return Ok(response.finish());
    }
    let mime = if kind == Pixels::Png { "image/png" } else { "image/jpeg" };
    Ok(response.content_type(mime).body(bytes.as_ref().clone()))
}

fn parse_tile(file: &str) -> Option<((u32, u32), Pixels)> {
    let (place, kind) = match file.rsplit_once('.')? {
        (p, "jpg") => (p, Pixels::Jpeg),
        (p, "png") => (p, Pixels::Png),
        _ => return None,
    };
    let (x, y) = place.split_once('_')?;
    Some(((x.parse().ok()?, y.parse().ok()?), kind))
}

fn parse_part(part: &str) -> Option<Rect> {
    let sides: Vec<u16> = part.split(',').map(|n| n.parse().ok()).collect::<Option<_>>()?;
    let [x, y, width, height] = sides[..] else { return None };
    Some(Rect::new(x.into(), y.into(), width.into(), height.into()))
}

/// Size of a small picture.
#[derive(Deserialize, IntoParams)]
pub(crate) struct Side {
    /// Longest side in pixels, 16..=2048.
    #[serde(default = "usual_side")]
    side: u32,
}

fn usual_side() -> u32 {
    400
}

fn small(bytes: Vec<u8>) -> HttpResponse {
    HttpResponse::Ok()
        .content_type("image/jpeg")
        .insert_header((header::CACHE_CONTROL, "private, max-age=3600"))
        .body(bytes)
}

/// A small picture of the plate.
#[utoipa::path(params(("set" = i64, Path), Side), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 409, body = Problem)))]
#[get("/sets/{set}/cover")]
pub(crate) async fn cover(
    studio: web::Data<Studio>,
    set: web::Path<i64>,
    side: web::Query<Side>,
) -> Result<HttpResponse, Failure> {
    Ok(small(run_blocking(&studio, move |s| s.scenes.thumbnail(*set, None, side.side)).await?))
}

/// A small picture of the plate in a state of the history.
#[utoipa::path(params(("set" = i64, Path), ("seq" = i64, Path), Side), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/history/{seq}/picture")]
pub(crate) async fn state_picture(
    studio: web::Data<Studio>,
    path: web::Path<(i64, i64)>,
    side: web::Query<Side>,
) -> Result<HttpResponse, Failure> {
    let (set, seq) = *path;
    Ok(small(run_blocking(&studio, move |s| s.scenes.state_picture(set, seq, side.side)).await?))
}

/// A small picture of a frame as shot.
#[utoipa::path(params(("set" = i64, Path), ("frame" = i64, Path), Side), responses((status = 200, content_type = "image/jpeg", body = Vec<u8>), (status = 404, body = Problem)))]
#[get("/sets/{set}/frames/{frame}/thumbnail")]
pub(crate) async fn frame_thumbnail(
    studio: web::Data<Studio>,
    path: web::Path<(i64, i64)>,
    side: web::Query<Side>,
) -> Result<HttpResponse, Failure> {
    let (set, frame) = *path;
    Ok(small(run_blocking(&studio, move |s| s.scenes.thumbnail(set, Some(FrameId(frame)), side.side)).await?))
}

/// Side of the spot in the middle of a crop that is compared with the plate, in the crop's pixels.
const SPOT: u32 = 14;

/// A place to look at.
#[derive(Deserialize, IntoParams)]
pub(crate) struct LookQuery {
    /// Column on the canvas, in full-size pixels.
    x: f64,
    /// Row on the canvas.
    y: f64,
    /// Pyramid level that the crops are taken from.
    level: u32,
    /// Width of each crop, 16..=400.
    width: u32,
    /// Height of each crop, 16..=400.
    height: u32,
    /// Width of the part in the crops' middle that is compared with the plate, in their pixels [14].
    spot_width: Option<u32>,
    /// Its height [14].
    spot_height: Option<u32>,
    /// The place by every method instead of in every frame.
    #[serde(default)]
    methods: bool,
}

/// The same place in every frame, or by every method.
#[utoipa::path(params(("set" = i64, Path), LookQuery), responses((status = 200, body = LookThrough), (status = 409, body = Problem)))]
#[get("/sets/{set}/look")]
pub(crate) async fn look(
    studio: web::Data<Studio>,
    set: web::Path<i64>,
    place: web::Query<LookQuery>,
) -> Result<web::Json<LookThrough>, Failure> {
    let p = place.into_inner();
    let size = Size::new(p.width, p.height);
    let side = |wanted: Option<u32>, most: u32| wanted.unwrap_or(SPOT).clamp(1, most.max(1));
    let spot = Size::new(side(p.spot_width, size.width), side(p.spot_height, size.height));
    Ok(web::Json(
        run_blocking(&studio, move |s| s.scenes.look(*set, (p.x, p.y), p.level, (size, spot), p.methods))
            .await?,
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_views_and_tiles_are_understood_and_others_refused() {
        assert_eq!(view_of("plate").unwrap(), View::Plate);
        assert_eq!(view_of("frame-3").unwrap(), View::Frame(FrameId(3)));
        assert_eq!(view_of("by-rank:30").unwrap(), View::By(Method::Rank(30)));
        assert!(view_of("frame-x").is_err() && view_of("by-nothing").is_err() && view_of("../x").is_err());
        assert_eq!(parse_tile("3_4.png"), Some(((3, 4), Pixels::Png)));
        assert_eq!(parse_tile("3_-4.png"), None);
        assert_eq!(parse_part("8,16,240,128"), Some(Rect::new(8, 16, 240, 128)));
        for other in ["", "8", "8,16,240", "8,16,240,128,0", "-8,0,8,8", "8,16,,8", "0,0,99999,8"] {
            assert_eq!(parse_part(other), None, "{other}");
        }
    }
}

/// A thing pointed at.
#[derive(Deserialize, IntoParams)]
pub(crate) struct ExtentQuery {
    /// Column on the canvas, in full-size pixels.
    x: f64,
    /// Row on the canvas.
    y: f64,
    /// The frame whose content there is meant.
    frame: i64,
}

/// How far what a frame shows instead of the plate around a place reaches.
#[utoipa::path(params(("set" = i64, Path), ExtentQuery), responses((status = 200, body = ExtentInfo), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/extent")]
pub(crate) async fn extent(
    studio: web::Data<Studio>,
    set: web::Path<i64>,
    thing: web::Query<ExtentQuery>,
) -> Result<web::Json<ExtentInfo>, Failure> {
    let t = thing.into_inner();
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.extent(*set, (t.x, t.y), FrameId(t.frame))).await?))
}

/// A picture about where the plate's pixels come from, over the reference.
#[utoipa::path(params(("set" = i64, Path), ("what" = Evidence, Path)), responses((status = 200, content_type = "image/png", body = Vec<u8>), (status = 409, body = Problem)))]
#[get("/sets/{set}/evidence/{what}.png")]
pub(crate) async fn evidence(
    studio: web::Data<Studio>,
    path: web::Path<(i64, Evidence)>,
) -> Result<HttpResponse, Failure> {
    let (set, what) = *path;
    let bytes = run_blocking(&studio, move |s| s.scenes.evidence(set, what)).await?;
    Ok(HttpResponse::Ok()
        .content_type("image/png")
        .insert_header((header::CACHE_CONTROL, "private, max-age=3600"))
        .body(bytes))
}
