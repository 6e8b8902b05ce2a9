//! Who may do what. Who sits at this computer may do everything. Others, when the server listens to them, say a token: one that lets
//! them do everything, or one that lets them look. It comes with the printed address, is kept in a cookie that pages cannot read and
//! other sites do not send, and clients may send it as `Authorization: Bearer`.

use crate::problem::Failure;
use actix_web::body::{BoxBody, MessageBody};
use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::{Method, StatusCode, header};
use actix_web::middleware::Next;
use actix_web::{HttpRequest, HttpResponse, ResponseError, web};
use evanu_media::MediaError;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

const COOKIE: &str = "evanu";
/// Of the address that is printed.
const QUERY: &str = "token";
const DAYS: i64 = 30;

/// What others may do here.
#[derive(Debug, Clone)]
pub struct Access {
    /// Lets others do everything.
    pub everything: String,
    /// Lets others look.
    pub looking: String,
    /// Whether folders of this computer are open also to others who may do everything.
    pub folders: bool,
}

/// What a request may do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum May {
    Everything,
    Look,
    Nothing,
}

fn token() -> std::io::Result<String> {
    let mut bytes = [0u8; 16];
    getrandom::fill(&mut bytes).map_err(std::io::Error::other)?;
    Ok(bytes.iter().map(|b| format!("{b:02x}")).collect())
}

/// Compared in a time that tells nothing.
fn same(one: &str, other: &str) -> bool {
    blake3::hash(one.as_bytes()) == blake3::hash(other.as_bytes())
}

impl Access {
    /// The tokens of a data folder, made when there are none, in a file that only its owner reads.
    ///
    /// # Errors
    /// When the file cannot be read or written.
    pub fn of_folder(folder: &Path, folders: bool) -> Result<Self, MediaError> {
        let path = folder.join("evanu.tokens");
        let writing = |e: std::io::Error| MediaError::writing(&path, &e);
        std::fs::create_dir_all(folder).map_err(writing)?;
        let kept = std::fs::read_to_string(&path).unwrap_or_default();
        if let [everything, looking] = kept.split_whitespace().collect::<Vec<_>>()[..] {
            return Ok(Self { everything: everything.into(), looking: looking.into(), folders });
        }
        let made =
            Self { everything: token().map_err(writing)?, looking: token().map_err(writing)?, folders };
        let mut file = std::fs::File::options()
            .create(true)
            .write(true)
            .truncate(true)
            .mode(0o600)
            .open(&path)
            .map_err(writing)?;
        writeln!(file, "{}\n{}", made.everything, made.looking).map_err(writing)?;
        Ok(made)
    }

    fn of_token(&self, token: &str) -> May {
        match token {
            t if same(t, &self.everything) => May::Everything,
            t if same(t, &self.looking) => May::Look,
            _ => May::Nothing,
        }
    }

    fn of(&self, request: &HttpRequest) -> May {
        if is_here(request) {
            return May::Everything;
        }
        let sent = request.headers().get(header::AUTHORIZATION).and_then(|v| v.to_str().ok());
        let bearer = sent.and_then(|v| v.strip_prefix("Bearer ")).map(str::to_owned);
        let token = bearer.or_else(|| request.cookie(COOKIE).map(|c| c.value().to_owned()));
        token.map_or(May::Nothing, |token| self.of_token(&token))
    }
}

/// Whether a request comes from this computer.
fn is_here(request: &HttpRequest) -> bool {
    request.peer_addr().is_some_and(|a| a.ip().to_canonical().is_loopback())
}

/// Folders of this computer are for who sits at it, also when the server lets other machines in, unless they were opened to those.
pub(crate) fn may_open_folders(request: &HttpRequest) -> Result<(), Failure> {
    let shared = request.app_data::<web::Data<Access>>().is_some_and(|access| access.folders);
    if is_here(request) || shared {
        return Ok(());
    }
    Err(Failure::new(
        StatusCode::CONFLICT,
        "folders of this computer can be opened only at this computer, or by everybody when Evanu was started with \
         --share-folders; bring the files in with the buttons",
    ))
}

/// Lets a request pass that may do what it wants; the printed address sets the cookie.
pub(crate) async fn ask(
    access: web::Data<Access>,
    request: ServiceRequest,
    next: Next<impl MessageBody + 'static>,
) -> Result<ServiceResponse<BoxBody>, actix_web::Error> {
    let looks = matches!(*request.method(), Method::GET | Method::HEAD);
    if looks && let Some(response) = greeted(&access, request.request()) {
        return Ok(request.into_response(response));
    }
    let refused = match access.of(request.request()) {
        May::Everything => None,
        May::Look if looks => None,
        May::Look => Some(Failure::new(
            StatusCode::FORBIDDEN,
            "this address is for looking only; ask who started Evanu for the other one",
        )),
        May::Nothing => Some(Failure::new(
            StatusCode::UNAUTHORIZED,
            "Evanu does not know who is there; open the whole address that was printed where it was started",
        )),
    };
    match refused {
        None => Ok(next.call(request).await?.map_into_boxed_body()),
        Some(e) if request.path().starts_with("/api") => Ok(request.into_response(e.error_response())),
        Some(e) => {
            let text = HttpResponse::build(e.status_code())
                .content_type("text/plain; charset=utf-8")
                .body(e.to_string());
            Ok(request.into_response(text))
        }
    }
}

/// The answer to the printed address: a cookie, and the way to the same page without the token in its address.
fn greeted(access: &Access, request: &HttpRequest) -> Option<HttpResponse> {
    let query = web::Query::<Vec<(String, String)>>::from_query(request.query_string()).ok()?;
    let token = query.iter().find(|(name, _)| name == QUERY).map(|(_, value)| value)?;
    if is_here(request) || access.of_token(token) == May::Nothing {
        return None;
    }
    let cookie = Cookie::build(COOKIE, token.clone())
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .max_age(Duration::days(DAYS))
        .finish();
    // Only the path: what follows two slashes would be taken for another server.
    let path = format!("/{}", request.path().trim_start_matches(['/', '\\']));
    Some(HttpResponse::SeeOther().cookie(cookie).insert_header((header::LOCATION, path)).finish())
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::test::TestRequest;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn tokens_are_made_once_and_read_by_their_owner_only() {
        let folder = tempfile::tempdir().unwrap();
        let access = Access::of_folder(folder.path(), false).unwrap();
        let again = Access::of_folder(folder.path(), true).unwrap();
        assert_eq!((&access.everything, &access.looking), (&again.everything, &again.looking));
        assert!(access.everything.len() == 32 && access.everything != access.looking && again.folders);
        let mode = folder.path().join("evanu.tokens").metadata().unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }

    #[test]
    fn this_computer_may_do_everything_and_others_what_their_token_says() {
        let access = Access { everything: "e".repeat(32), looking: "l".repeat(32), folders: false };
        let from = |peer: &str| TestRequest::default().peer_addr(peer.parse().unwrap());
        for here in ["127.0.0.1:1", "127.8.8.8:1", "[::1]:1", "[::ffff:127.0.0.1]:1"] {
            assert_eq!(access.of(&from(here).to_http_request()), May::Everything, "{here}");
        }
        let other = || from("192.0.2.7:1");
        assert_eq!(access.of(&other().to_http_request()), May::Nothing);
        for (token, may) in [
            (access.everything.as_str(), May::Everything),
            (access.looking.as_str(), May::Look),
            ("", May::Nothing),
            (&access.everything[1..], May::Nothing),
        ] {
            let cookie = other().cookie(Cookie::new(COOKIE, token.to_owned())).to_http_request();
            assert_eq!(access.of(&cookie), may, "{token}");
            let bearer =
                other().insert_header(("Authorization", format!("Bearer {token}"))).to_http_request();
            assert_eq!(access.of(&bearer), may, "{token}");
            let greeting = other().uri(&format!("//elsewhere.example/set/3?token={token}")).to_http_request();
            let greeting = greeted(&access, &greeting);
            assert_eq!(greeting.is_some(), may != May::Nothing, "{token}");
            if let Some(greeting) = greeting {
                assert_eq!(greeting.headers().get("location").unwrap(), "/elsewhere.example/set/3");
                let set = greeting.headers().get("set-cookie").unwrap().to_str().unwrap();
                assert!(
                    set.contains("HttpOnly") && set.contains("SameSite=Strict") && set.contains(token),
                    "{set}"
                );
            }
        }
    }
}
