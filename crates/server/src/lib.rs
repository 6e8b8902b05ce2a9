//! The server: routes over the studio, their OpenAPI description, events, and the embedded front end.
#![forbid(unsafe_code)]

mod access;
mod assets;
mod clips;
mod events;
mod patches;
mod pictures;
mod problem;
mod routes;
mod touches;
mod upload;

pub use access::Access;
use actix_web::dev::HttpServiceFactory;
use actix_web::middleware::{Compress, DefaultHeaders, from_fn};
use actix_web::{App, HttpServer, guard, web};
use evanu_studio::Studio;
use std::net::TcpListener;
use utoipa::OpenApi;
use utoipa_actix_web::{AppExt, OpenApiFactory, scope};

/// What the description of the interface says beyond its routes and what they take and give.
#[derive(OpenApi)]
#[openapi(
    info(title = "Evanu", description = "Sets of frames and the clean plates made of them"),
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
    let app = App::new().into_utoipa_app().openapi(Description::openapi());
    app.service(api(0)).split_for_parts().1.to_pretty_json()
}

/// All routes of the interface, with their descriptions, for callers of this `port`.
fn api(port: u16) -> impl HttpServiceFactory + OpenApiFactory {
    scope("/api")
        .guard(guard::fn_guard(move |ctx| local_caller(ctx.head(), port)))
        .configure(routes::configure)
        .configure(pictures::configure)
        .configure(patches::configure)
        .configure(touches::configure)
        .configure(clips::configure)
        .service(upload::upload_frames)
        .service(events::events)
        .default_service(web::to(|| async { problem::not_found_response() }))
}

/// Serves a studio on a bound listener until the process is told to stop; others than this computer by their tokens.
///
/// # Errors
/// When the listener cannot be used.
pub async fn serve(studio: Studio, listener: TcpListener, access: Access) -> std::io::Result<()> {
    let access = web::Data::new(access);
    let (studio, leaving) = (web::Data::new(studio.clone()), studio);
    let port = listener.local_addr()?.port();
    HttpServer::new(move || {
        App::new()
            .app_data(studio.clone())
            .app_data(access.clone())
            .app_data(web::JsonConfig::default().limit(evanu_core::recipe::MOST_BYTES).error_handler(|e, _| problem::bad_request(&e.to_string())))
            .app_data(web::PathConfig::default().error_handler(|_, _| problem::not_found()))
            .app_data(web::QueryConfig::default().error_handler(|e, _| problem::bad_request(&e.to_string())))
            .wrap(from_fn(access::ask))
            .wrap(Compress::default())
            .wrap(DefaultHeaders::new().add(("X-Content-Type-Options", "nosniff")).add(("Referrer-Policy", "no-referrer")).add(("Cross-Origin-Resource-Policy", "same-origin")).add((
                "Content-Security-Policy",
                "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'",
            )))
            .into_utoipa_app()
            .service(api(port))
            .into_app()
            .route("/api/{rest:.*}", web::to(|| async { problem::foreign_response() }))
            .default_service(web::get().to(assets::asset))
    })
    .listen(listener)?
    .workers(2)
    .shutdown_timeout(1)
    .run()
    .await?;
    leaving.leave().map_err(std::io::Error::other)
}

/// Whether a request comes from a page of this server: another site's page, or a name that was pointed at this
/// machine (DNS rebinding), must not reach the interface. Browsers say where a request comes from by several heads; none of them may
/// name another place.
fn local_caller(head: &actix_web::dev::RequestHead, port: u16) -> bool {
    let text = |name: &str| head.headers().get(name).and_then(|v| v.to_str().ok());
    let host = text("host").unwrap_or_default().to_ascii_lowercase();
    let plain = host.strip_suffix(&format!(":{port}")).unwrap_or(&host);
    let named_by_address =
        plain == "localhost" || plain.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_ok();
    let here = |place: &str| {
        let place = place.to_ascii_lowercase();
        ["http://", "https://"].iter().filter_map(|scheme| place.strip_prefix(scheme)).any(|place| {
            place.strip_prefix(&host).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        })
    };
    let same_origin = text("origin").is_none_or(here) && text("referer").is_none_or(here);
    let same_site = text("sec-fetch-site").is_none_or(|site| matches!(site, "same-origin" | "none"));
    named_by_address && same_origin && same_site
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
