//! The server: routes over the studio, their OpenAPI description, events, and the embedded front end.
#![forbid(unsafe_code)]

mod assets;
mod events;
mod patches;
mod pictures;
mod problem;
mod routes;
mod upload;

use actix_web::middleware::{Compress, DefaultHeaders};
use actix_web::{App, HttpServer, guard, web};
use evanu_studio::Studio;
use std::net::TcpListener;
use utoipa::OpenApi;

/// Description of the whole interface.
#[derive(OpenApi)]
#[openapi(
    info(title = "Evanu", description = "Sets of frames and the clean plates made of them"),
    paths(
        routes::list_sets,
        routes::create_set,
        routes::get_set,
        routes::rename_set,
        routes::delete_set,
        routes::restore_set,
        routes::duplicate_set,
        routes::change_recipe,
        routes::undo,
        routes::redo,
        routes::prepare,
        routes::dismiss_frame,
        routes::folder,
        routes::add_folder,
        routes::move_frames,
        routes::relink,
        routes::fit,
        routes::agreement,
        routes::doubts,
        routes::moving,
        routes::states,
        routes::go_to,
        routes::state_key,
        patches::try_patch,
        patches::place_patch,
        patches::propose,
        patches::seams,
        patches::patch_picture,
        pictures::state_picture,
        patches::glare,
        routes::samples,
        routes::sample_set,
        routes::start_export,
        routes::get_run,
        routes::cancel_run,
        routes::exported_file,
        upload::upload_frames,
        pictures::tile,
        pictures::cover,
        pictures::frame_thumbnail,
        pictures::look,
        pictures::extent,
        pictures::evidence,
        events::events
    ),
    components(schemas(
        evanu_studio::Event,
        evanu_studio::Evidence,
        evanu_studio::Purpose,
        problem::Problem
    ))
)]
struct Description;

/// The OpenAPI description as pretty JSON.
///
/// # Errors
/// When it cannot be serialised, which would be a mistake in the code.
pub fn openapi() -> Result<String, serde_json::Error> {
    Description::openapi().to_pretty_json()
}

/// Serves a studio on a bound listener until the process is told to stop.
///
/// # Errors
/// When the listener cannot be used.
pub async fn serve(studio: Studio, listener: TcpListener) -> std::io::Result<()> {
    let studio = web::Data::new(studio);
    let port = listener.local_addr()?.port();
    HttpServer::new(move || {
        App::new()
            .app_data(studio.clone())
            .app_data(web::JsonConfig::default().limit(1 << 20).error_handler(|e, _| problem::bad_request(&e.to_string())))
            .app_data(web::PathConfig::default().error_handler(|_, _| problem::not_found()))
            .app_data(web::QueryConfig::default().error_handler(|e, _| problem::bad_request(&e.to_string())))
            .wrap(Compress::default())
            .wrap(DefaultHeaders::new().add(("X-Content-Type-Options", "nosniff")).add(("Referrer-Policy", "no-referrer")).add((
                "Content-Security-Policy",
                "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'",
            )))
            .service(
                web::scope("/api")
                    .guard(guard::fn_guard(move |ctx| local_caller(ctx.head(), port)))
                    .configure(routes::configure)
                    .configure(pictures::configure)
                    .configure(patches::configure)
                    .route("/sets/{set}/frames", web::post().to(upload::upload_frames))
                    .route("/events", web::get().to(events::events))
                    .default_service(web::to(|| async { problem::not_found_response() })),
            )
            .route("/api/{rest:.*}", web::to(|| async { problem::foreign_response() }))
            .default_service(web::get().to(assets::asset))
    })
    .listen(listener)?
    .workers(2)
    .shutdown_timeout(1)
    .run()
    .await
}

/// Whether a request comes from a page of this server: another site's page, or a name that was pointed at this
/// machine (DNS rebinding), must not reach the interface.
fn local_caller(head: &actix_web::dev::RequestHead, port: u16) -> bool {
    let text = |name| head.headers().get(name).and_then(|v| v.to_str().ok());
    let host = text(actix_web::http::header::HOST).unwrap_or_default();
    let plain = host.strip_suffix(&format!(":{port}")).unwrap_or(host);
    let named_by_address =
        plain == "localhost" || plain.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok();
    let same_origin = text(actix_web::http::header::ORIGIN)
        .is_none_or(|o| o == format!("http://{host}") || o == format!("https://{host}"));
    named_by_address && same_origin
}

/// Brings in the sample sets that are not there yet, when there is no set at all.
///
/// # Errors
/// When the data folder cannot be written.
pub fn add_demo(studio: &Studio) -> Result<(), evanu_studio::StudioError> {
    if studio.scenes.summaries()?.is_empty() {
        for sample in &evanu_demo::SETS {
            routes::add_samples(studio, sample)?;
        }
    }
    Ok(())
}
