//! Server-sent events: what changes while a page is open.

use actix_web::http::header::ContentEncoding;
use actix_web::{HttpResponse, get, web};
use evanu_studio::Studio;
use futures_util::StreamExt;
use tokio_stream::wrappers::BroadcastStream;

/// Everything that changes from now on, as server-sent events; each is an `Event` in JSON.
#[utoipa::path(responses((status = 200, content_type = "text/event-stream", body = evanu_studio::Event)))]
#[get("/events")]
pub(crate) async fn events(studio: web::Data<Studio>) -> HttpResponse {
    let changes = BroadcastStream::new(studio.events()).map(|event| {
        // A page that fell behind is told to look at everything again.
        let event = event.unwrap_or(evanu_studio::Event::Sets);
        let text = serde_json::to_string(&event).unwrap_or_else(|_| "{\"type\":\"sets\"}".into());
        Ok::<_, actix_web::Error>(web::Bytes::from(format!("data: {text}\n\n")))
    });
    let greeting = futures_util::stream::once(async { Ok(web::Bytes::from_static(b": here\n\n")) });
    HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(ContentEncoding::Identity)
        .insert_header(("Cache-Control", "no-store"))
        .streaming(greeting.chain(changes))
}
