//! Sets, recipes, runs and exports.

use crate::access::may_open_folders;
use crate::problem::{Failure, Problem};
use actix_files::NamedFile;
use actix_web::http::StatusCode;
use actix_web::http::header::{
    ContentDisposition, ContentEncoding, DispositionParam, DispositionType, ETag, EntityTag, Header, IfMatch,
};
use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, put, web};
use evanu_core::recipe::FrameId;
use evanu_studio::{
    AgreementFact, Change, DoubtInfo, ExportRequest, FitInfo, FolderInfo, MovingInfo, RelinkInfo, RunInfo,
    SetDetail, SetSummary, StateInfo, StateKey, Studio, StudioError,
};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

type Shared = web::Data<Studio>;

/// Runs blocking work beside the request threads.
pub(crate) async fn run_blocking<T: Send + 'static>(
    studio: &Shared,
    work: impl FnOnce(&Studio) -> Result<T, StudioError> + Send + 'static,
) -> Result<T, Failure> {
    let studio = studio.get_ref().clone();
    Ok(web::block(move || work(&studio)).await??)
}

/// A name.
#[derive(Deserialize, ToSchema)]
pub(crate) struct Name {
    /// What its owner calls it.
    pub name: String,
    /// Whether its frames, once read, are told apart into sets by view.
    #[serde(default)]
    pub sort: bool,
}

/// A folder of this computer to bring in.
#[derive(Deserialize, ToSchema)]
pub(crate) struct FolderRequest {
    /// Where it is.
    pub path: String,
    /// Whether its files are copied; otherwise they stay where they are.
    #[serde(default)]
    pub copy: bool,
}

/// Which folder to list.
#[derive(Deserialize, IntoParams)]
pub(crate) struct FolderQuery {
    /// Where it is; the home folder without it.
    path: Option<String>,
}

/// Frames to move.
#[derive(Deserialize, ToSchema)]
pub(crate) struct Move {
    /// Identities of the frames.
    pub frames: Vec<FrameId>,
    /// The set they go to; a new one without it.
    pub to: Option<i64>,
}

/// An identity.
#[derive(Serialize, ToSchema)]
pub(crate) struct Id {
    /// The new thing's.
    pub id: i64,
}

/// Adds these routes.
pub(crate) fn configure(config: &mut ServiceConfig) {
    config
        .service(list_sets)
        .service(create_set)
        .service(samples)
        .service(sample_set)
        .service(get_set)
        .service(rename_set)
        .service(delete_set)
        .service(restore_set)
        .service(duplicate_set)
        .service(change_recipe)
        .service(undo)
        .service(redo)
        .service(prepare)
        .service(dismiss_frame)
        .service(read_again)
        .service(renew)
        .service(folder)
        .service(add_folder)
        .service(move_frames)
        .service(relink)
        .service(fit)
        .service(agreement)
        .service(doubts)
        .service(moving)
        .service(states)
        .service(go_to)
        .service(state_key)
        .service(start_export)
        .service(get_run)
        .service(cancel_run)
        .service(exported_file);
}

/// All sets, newest first.
#[utoipa::path(responses((status = 200, body = [SetSummary])))]
#[get("/sets")]
pub(crate) async fn list_sets(studio: Shared) -> Result<web::Json<Vec<SetSummary>>, Failure> {
    Ok(web::Json(run_blocking(&studio, |s| s.scenes.summaries()).await?))
}

/// Makes an empty set.
#[utoipa::path(request_body = Name, responses((status = 201, body = Id), (status = 400, body = Problem)))]
#[post("/sets")]
pub(crate) async fn create_set(studio: Shared, name: web::Json<Name>) -> Result<HttpResponse, Failure> {
    let id = run_blocking(&studio, move |s| {
        if name.sort { s.sets.create_shoot(&name.name) } else { s.sets.create(&name.name) }
    });
    Ok(HttpResponse::Created().json(Id { id: id.await? }))
}

/// A folder of this computer.
#[utoipa::path(params(FolderQuery), responses((status = 200, body = FolderInfo), (status = 422, body = Problem)))]
#[get("/folders")]
pub(crate) async fn folder(
    studio: Shared,
    query: web::Query<FolderQuery>,
    from: HttpRequest,
) -> Result<web::Json<FolderInfo>, Failure> {
    may_open_folders(&from)?;
    Ok(web::Json(run_blocking(&studio, move |s| s.assets.folder(query.path.as_deref())).await?))
}

/// Adds the pictures of a folder of this computer; afterwards, `prepare` begins the work.
#[utoipa::path(params(("set" = i64, Path)), request_body = FolderRequest, responses((status = 204), (status = 422, body = Problem)))]
#[post("/sets/{set}/folder")]
pub(crate) async fn add_folder(
    studio: Shared,
    set: web::Path<i64>,
    request: web::Json<FolderRequest>,
    from: HttpRequest,
) -> Result<HttpResponse, Failure> {
    may_open_folders(&from)?;
    run_blocking(&studio, move |s| s.assets.add_folder(*set, &request.path, request.copy)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Moves frames to another set or a new one.
#[utoipa::path(params(("set" = i64, Path)), request_body = Move, responses((status = 200, body = Id), (status = 404, body = Problem)))]
#[post("/sets/{set}/move")]
pub(crate) async fn move_frames(
    studio: Shared,
    set: web::Path<i64>,
    request: web::Json<Move>,
) -> Result<web::Json<Id>, Failure> {
    let id = run_blocking(&studio, move |s| s.move_frames(*set, &request.frames, request.to)).await?;
    Ok(web::Json(Id { id }))
}

/// Looks for lost originals in a folder.
#[utoipa::path(params(("set" = i64, Path)), request_body = FolderRequest, responses((status = 200, body = RelinkInfo), (status = 422, body = Problem)))]
#[post("/sets/{set}/relink")]
pub(crate) async fn relink(
    studio: Shared,
    set: web::Path<i64>,
    request: web::Json<FolderRequest>,
    from: HttpRequest,
) -> Result<web::Json<RelinkInfo>, Failure> {
    may_open_folders(&from)?;
    Ok(web::Json(run_blocking(&studio, move |s| s.relink(*set, &request.path)).await?))
}

/// What a frame's fit rests on.
#[utoipa::path(params(("set" = i64, Path), ("frame" = i64, Path)), responses((status = 200, body = FitInfo), (status = 404, body = Problem)))]
#[get("/sets/{set}/fits/{frame}")]
pub(crate) async fn fit(studio: Shared, path: web::Path<(i64, i64)>) -> Result<web::Json<FitInfo>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.fit(path.0, FrameId(path.1))).await?))
}

/// The sample sets that ship with the program.
#[utoipa::path(responses((status = 200, body = [Sample])))]
#[get("/samples")]
pub(crate) async fn samples() -> web::Json<Vec<Sample>> {
    let told = |s: &evanu_demo::SetInfo| Sample {
        name: s.name,
        title: s.title,
        says: s.says,
        frames: s.frames.len(),
        clip: s.clip.is_some(),
    };
    web::Json(evanu_demo::SETS.iter().map(told).collect())
}

/// A sample set.
#[derive(serde::Serialize, utoipa::ToSchema)]
pub(crate) struct Sample {
    /// Its name in addresses.
    pub name: &'static str,
    /// Its name for people.
    pub title: &'static str,
    /// What there is to see in it.
    pub says: &'static str,
    /// How many files it has.
    pub frames: usize,
    /// Whether that is a clip.
    pub clip: bool,
}

/// Makes a set of shipped sample frames.
#[utoipa::path(params(("name" = String, Path)), responses((status = 201, body = Id), (status = 404, body = Problem)))]
#[post("/samples/{name}")]
pub(crate) async fn sample_set(studio: Shared, name: web::Path<String>) -> Result<HttpResponse, Failure> {
    let sample = evanu_demo::SETS.iter().find(|s| s.name == name.as_str());
    let sample = sample.ok_or_else(|| StudioError::NotFound(format!("there is no sample set \"{name}\"")))?;
    let id = run_blocking(&studio, move |s| add_samples(s, sample)).await?;
    Ok(HttpResponse::Created().json(Id { id }))
}

/// Brings a sample set in as if its files had been dropped.
pub(crate) fn add_samples(studio: &Studio, sample: &evanu_demo::SetInfo) -> Result<i64, StudioError> {
    let id = studio.sets.create(sample.title)?;
    for (name, bytes) in sample.frames {
        let mut incoming = studio.assets.incoming(id, name)?;
        incoming.take(bytes)?;
        studio.assets.add(id, incoming)?;
    }
    studio.prepare(id)?;
    Ok(id)
}

/// Everything about a set; its tag is the revision that an act follows from (`If-Match`).
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = SetDetail), (status = 404, body = Problem)))]
#[get("/sets/{set}")]
pub(crate) async fn get_set(studio: Shared, set: web::Path<i64>) -> Result<HttpResponse, Failure> {
    let detail = run_blocking(&studio, move |s| s.set(*set)).await?;
    let tag = ETag(EntityTag::new_strong(detail.revision.to_string()));
    // What is being done with it changes between two revisions.
    Ok(HttpResponse::Ok().insert_header(tag).insert_header(("Cache-Control", "no-store")).json(detail))
}

/// Gives a set another name.
#[utoipa::path(params(("set" = i64, Path)), request_body = Name, responses((status = 204), (status = 404, body = Problem)))]
#[put("/sets/{set}/name")]
pub(crate) async fn rename_set(
    studio: Shared,
    set: web::Path<i64>,
    name: web::Json<Name>,
) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.sets.rename(*set, &name.name)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Deletes a set; it can be restored for thirty days.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[delete("/sets/{set}")]
pub(crate) async fn delete_set(studio: Shared, set: web::Path<i64>) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.delete(*set, true)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Brings a deleted set back.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 204), (status = 404, body = Problem)))]
#[post("/sets/{set}/restore")]
pub(crate) async fn restore_set(studio: Shared, set: web::Path<i64>) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.delete(*set, false)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Copies a set.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 201, body = Id), (status = 404, body = Problem)))]
#[post("/sets/{set}/duplicate")]
pub(crate) async fn duplicate_set(studio: Shared, set: web::Path<i64>) -> Result<HttpResponse, Failure> {
    let id = run_blocking(&studio, move |s| s.duplicate(*set)).await?;
    Ok(HttpResponse::Created().json(Id { id }))
}

/// The revision that an act follows from, by its `If-Match` header; `None` where any will do (`*`).
///
/// # Errors
/// When it is missing: an act that does not say what it follows from could undo another window's work unseen.
fn followed(request: &HttpRequest) -> Result<Option<i64>, Failure> {
    let missing = || {
        let told = "an act says by If-Match which revision of the set it follows from, or * for any";
        Failure::new(StatusCode::PRECONDITION_REQUIRED, told)
    };
    match IfMatch::parse(request) {
        Ok(IfMatch::Any) => Ok(None),
        Ok(IfMatch::Items(tags)) => {
            let [tag] = &tags[..] else { return Err(missing()) };
            tag.tag().parse().map(Some).map_err(|_| missing())
        }
        Err(_) => Err(missing()),
    }
}

/// Puts a change of the recipe in force.
#[utoipa::path(params(("set" = i64, Path), ("If-Match" = String, Header, description = "The set's revision that it follows from")), request_body = Change, responses((status = 200, body = SetDetail), (status = 400, body = Problem), (status = 409, body = Problem), (status = 412, body = Problem), (status = 428, body = Problem)))]
#[patch("/sets/{set}/recipe")]
pub(crate) async fn change_recipe(
    studio: Shared,
    set: web::Path<i64>,
    change: web::Json<Change>,
    request: HttpRequest,
) -> Result<web::Json<SetDetail>, Failure> {
    let revision = followed(&request)?;
    let detail = run_blocking(&studio, move |s| s.change(*set, &change, revision).and_then(|()| s.set(*set)));
    Ok(web::Json(detail.await?))
}

/// Takes the last decision back.
#[utoipa::path(params(("set" = i64, Path), ("If-Match" = String, Header, description = "The set's revision that it follows from")), responses((status = 200, body = SetDetail), (status = 409, body = Problem), (status = 412, body = Problem), (status = 428, body = Problem)))]
#[post("/sets/{set}/undo")]
pub(crate) async fn undo(
    studio: Shared,
    set: web::Path<i64>,
    request: HttpRequest,
) -> Result<web::Json<SetDetail>, Failure> {
    step(&studio, *set, -1, &request).await
}

/// Makes a decision again that was taken back.
#[utoipa::path(params(("set" = i64, Path), ("If-Match" = String, Header, description = "The set's revision that it follows from")), responses((status = 200, body = SetDetail), (status = 409, body = Problem), (status = 412, body = Problem), (status = 428, body = Problem)))]
#[post("/sets/{set}/redo")]
pub(crate) async fn redo(
    studio: Shared,
    set: web::Path<i64>,
    request: HttpRequest,
) -> Result<web::Json<SetDetail>, Failure> {
    step(&studio, *set, 1, &request).await
}

async fn step(
    studio: &Shared,
    set: i64,
    by: i64,
    request: &HttpRequest,
) -> Result<web::Json<SetDetail>, Failure> {
    let revision = followed(request)?;
    let detail = run_blocking(studio, move |s| s.step(set, by, revision).and_then(|()| s.set(set)));
    Ok(web::Json(detail.await?))
}

/// Reads and aligns what has not been yet.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 202), (status = 404, body = Problem)))]
#[post("/sets/{set}/prepare")]
pub(crate) async fn prepare(studio: Shared, set: web::Path<i64>) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.prepare(*set)).await?;
    Ok(HttpResponse::Accepted().finish())
}

/// Takes a file that cannot be read off the list.
#[utoipa::path(params(("set" = i64, Path), ("frame" = i64, Path)), responses((status = 204), (status = 409, body = Problem)))]
#[delete("/sets/{set}/frames/{frame}")]
pub(crate) async fn dismiss_frame(
    studio: Shared,
    path: web::Path<(i64, i64)>,
) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.sets.dismiss_frame(path.0, FrameId(path.1))).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Reads a file once more that could not be read.
#[utoipa::path(params(("set" = i64, Path), ("frame" = i64, Path)), responses((status = 202), (status = 409, body = Problem)))]
#[post("/sets/{set}/frames/{frame}/again")]
pub(crate) async fn read_again(studio: Shared, path: web::Path<(i64, i64)>) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.read_again(path.0, FrameId(path.1))).await?;
    Ok(HttpResponse::Accepted().finish())
}

/// Takes the file that took the place of a frame's original as a new frame; the old one stays as long as its pixels are kept.
#[utoipa::path(params(("set" = i64, Path), ("frame" = i64, Path)), responses((status = 202), (status = 409, body = Problem)))]
#[post("/sets/{set}/frames/{frame}/renew")]
pub(crate) async fn renew(studio: Shared, path: web::Path<(i64, i64)>) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.renew(path.0, FrameId(path.1))).await?;
    Ok(HttpResponse::Accepted().finish())
}

/// How well the frames support the plate.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = AgreementFact), (status = 409, body = Problem)))]
#[get("/sets/{set}/agreement")]
pub(crate) async fn agreement(
    studio: Shared,
    set: web::Path<i64>,
) -> Result<web::Json<AgreementFact>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.agreement(*set)).await?))
}

/// The places that the consensus does not settle by itself, largest first.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = [DoubtInfo]), (status = 409, body = Problem)))]
#[get("/sets/{set}/doubts")]
pub(crate) async fn doubts(
    studio: Shared,
    set: web::Path<i64>,
) -> Result<web::Json<Vec<DoubtInfo>>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.doubts(*set)).await?))
}

/// The areas that move and belong, largest first.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = [MovingInfo]), (status = 409, body = Problem)))]
#[get("/sets/{set}/moving")]
pub(crate) async fn moving(
    studio: Shared,
    set: web::Path<i64>,
) -> Result<web::Json<Vec<MovingInfo>>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.moving(*set)).await?))
}

/// All states of a set, oldest first: a tree, each made from its parent.
#[utoipa::path(params(("set" = i64, Path)), responses((status = 200, body = Vec<StateInfo>), (status = 404, body = Problem)))]
#[get("/sets/{set}/history")]
pub(crate) async fn states(
    studio: Shared,
    set: web::Path<i64>,
) -> Result<web::Json<Vec<StateInfo>>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.sets.states(*set)).await?))
}

/// Returns to a state.
#[utoipa::path(params(("set" = i64, Path), ("seq" = i64, Path), ("If-Match" = String, Header, description = "The set's revision that it follows from")), responses((status = 200, body = SetDetail), (status = 404, body = Problem), (status = 412, body = Problem), (status = 428, body = Problem)))]
#[post("/sets/{set}/history/{seq}")]
pub(crate) async fn go_to(
    studio: Shared,
    path: web::Path<(i64, i64)>,
    request: HttpRequest,
) -> Result<web::Json<SetDetail>, Failure> {
    let ((set, seq), revision) = (*path, followed(&request)?);
    let detail = run_blocking(&studio, move |s| s.go_to(set, seq, revision).and_then(|()| s.set(set)));
    Ok(web::Json(detail.await?))
}

/// Opens a state to be looked at, by tiles of the plate with the key that is returned.
#[utoipa::path(params(("set" = i64, Path), ("seq" = i64, Path)), responses((status = 200, body = StateKey), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[get("/sets/{set}/history/{seq}")]
pub(crate) async fn state_key(
    studio: Shared,
    path: web::Path<(i64, i64)>,
) -> Result<web::Json<StateKey>, Failure> {
    let (set, seq) = *path;
    Ok(web::Json(run_blocking(&studio, move |s| s.scenes.state_key(set, seq)).await?))
}

/// Begins to write the plate to a file.
#[utoipa::path(params(("set" = i64, Path)), request_body = ExportRequest, responses((status = 202, body = Id), (status = 409, body = Problem)))]
#[post("/sets/{set}/exports")]
pub(crate) async fn start_export(
    studio: Shared,
    set: web::Path<i64>,
    request: web::Json<ExportRequest>,
) -> Result<HttpResponse, Failure> {
    let id = run_blocking(&studio, move |s| s.export(*set, &request)).await?;
    Ok(HttpResponse::Accepted().json(Id { id }))
}

/// How a run stands.
#[utoipa::path(params(("run" = i64, Path)), responses((status = 200, body = RunInfo), (status = 404, body = Problem)))]
#[get("/runs/{run}")]
pub(crate) async fn get_run(studio: Shared, run: web::Path<i64>) -> Result<web::Json<RunInfo>, Failure> {
    Ok(web::Json(run_blocking(&studio, move |s| s.queue.run(*run)).await?))
}

/// Stops a run.
#[utoipa::path(params(("run" = i64, Path)), responses((status = 204), (status = 409, body = Problem)))]
#[delete("/runs/{run}")]
pub(crate) async fn cancel_run(studio: Shared, run: web::Path<i64>) -> Result<HttpResponse, Failure> {
    run_blocking(&studio, move |s| s.queue.cancel(*run)).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// The file that an export wrote.
#[utoipa::path(params(("run" = i64, Path)), responses((status = 200, body = Vec<u8>, content_type = "application/octet-stream"), (status = 404, body = Problem)))]
#[get("/runs/{run}/file")]
pub(crate) async fn exported_file(
    studio: Shared,
    run: web::Path<i64>,
    request: HttpRequest,
) -> Result<HttpResponse, Failure> {
    let (path, name) = run_blocking(&studio, move |s| s.exported(*run)).await?;
    let shown = path.clone();
    let opened = web::block(move || NamedFile::open(path)).await?;
    let file = opened.map_err(|e| StudioError::from(evanu_media::MediaError::reading(&shown, &e)))?;
    let disposition = ContentDisposition {
        disposition: DispositionType::Attachment,
        parameters: vec![DispositionParam::Filename(name)],
    };
    // In pieces, and from where an interrupted download went on: an export may be larger than memory.
    let file = file.set_content_disposition(disposition).set_content_type(mime::APPLICATION_OCTET_STREAM);
    Ok(file.set_content_encoding(ContentEncoding::Identity).into_response(&request))
}
