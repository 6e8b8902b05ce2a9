//! The front end, embedded in the binary. Every address that is no file gets the page; it knows its own routes.

use actix_web::{HttpRequest, HttpResponse};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "$CARGO_MANIFEST_DIR/../../web/dist"]
struct Dist;

/// A file of the front end.
pub(crate) async fn asset(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let (file, name) = match Dist::get(path) {
        Some(file) => (Some(file), path),
        None => (Dist::get("index.html"), "index.html"),
    };
    let Some(file) = file else {
        return HttpResponse::NotFound()
            .content_type("text/plain; charset=utf-8")
            .body("The pages were not built into this program; run ./start.\n");
    };
    // Vite names files by their content; the page itself must be asked for anew.
    let cache = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    HttpResponse::Ok()
        .content_type(file.metadata.mimetype())
        .insert_header(("Cache-Control", cache))
        .body(file.data.into_owned())
}
