//! A server to talk to, and what is sent to it.

use evanu_core::geometry::Size;
use evanu_core::pixel::Raster;
use evanu_media::encode_jpeg;
use evanu_studio::Studio;
use serde_json::{Value, json};
use std::io::Read;
use std::path::Path;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

/// A server of its own on a free port; it ends with the process.
pub(crate) struct Server {
    pub base: String,
    pub folder: tempfile::TempDir,
}

pub(crate) fn serve(folder: &Path) -> String {
    serve_on(folder, "127.0.0.1:0")
}

pub(crate) fn serve_on(folder: &Path, address: &str) -> String {
    let studio = Studio::open(folder).unwrap();
    let access = evanu_server::Access::of_folder(folder, false).unwrap();
    let listener = std::net::TcpListener::bind(address).unwrap();
    let base = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        actix_web::rt::System::new().block_on(evanu_server::serve(studio, listener, access))
    });
    base
}

impl Server {
    pub(crate) fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        Self { base: serve(folder.path()), folder }
    }

    pub(crate) fn call(
        &self,
        method: &str,
        path: &str,
        body: Option<Value>,
    ) -> (u16, Vec<u8>, ureq::http::HeaderMap) {
        call(
            &self.base,
            method,
            path,
            body.map(|b| ("application/json".into(), b.to_string().into_bytes())),
            &[("if-match", "*")],
        )
    }

    pub(crate) fn json(&self, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
        let (status, bytes, _) = self.call(method, path, body);
        (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    pub(crate) fn get(&self, path: &str) -> Value {
        let (status, value) = self.json("GET", path, None);
        assert_eq!(status, 200, "{path}: {value}");
        value
    }

    pub(crate) fn upload(&self, set: i64, files: &[(&str, Vec<u8>)]) -> u16 {
        let mut body = Vec::new();
        for (name, bytes) in files {
            body.extend(
                format!(
                    "--XX\r\nContent-Disposition: form-data; name=\"frames\"; filename=\"{name}\"\r\n\r\n"
                )
                .bytes(),
            );
            body.extend(bytes);
            body.extend(b"\r\n");
        }
        body.extend(b"--XX--\r\n");
        call(
            &self.base,
            "POST",
            &format!("/api/sets/{set}/frames"),
            Some(("multipart/form-data; boundary=XX".into(), body)),
            &[],
        )
        .0
    }

    /// A set of these files, read and aligned.
    pub(crate) fn set_of(&self, files: &[(&str, Vec<u8>)]) -> i64 {
        let id = self.json("POST", "/api/sets", Some(json!({"name": "A set"}))).1["id"].as_i64().unwrap();
        assert_eq!(self.upload(id, files), 204);
        assert_eq!(self.json("POST", &format!("/api/sets/{id}/prepare"), None).0, 202);
        self.rest(id);
        id
    }

    /// The identity of a frame by its place in the list.
    pub(crate) fn frame(&self, set: i64, place: usize) -> Value {
        self.get(&format!("/api/sets/{set}"))["frames"][place]["id"].clone()
    }

    /// Waits until the set's run has ended; returns its state.
    pub(crate) fn rest(&self, set: i64) -> String {
        until(|| {
            let run = self.get(&format!("/api/sets/{set}"))["run"].clone();
            let state = run["state"].as_str()?.to_owned();
            (!["queued", "running"].contains(&state.as_str())).then_some(state)
        })
    }
}

pub(crate) fn until<T>(mut f: impl FnMut() -> Option<T>) -> T {
    let begin = Instant::now();
    loop {
        if let Some(v) = f() {
            return v;
        }
        assert!(begin.elapsed() < Duration::from_secs(120), "waited too long");
        std::thread::sleep(Duration::from_millis(30));
    }
}

pub(crate) fn call(
    base: &str,
    method: &str,
    path: &str,
    body: Option<(String, Vec<u8>)>,
    headers: &[(&str, &str)],
) -> (u16, Vec<u8>, ureq::http::HeaderMap) {
    let config = ureq::Agent::config_builder().http_status_as_error(false);
    let agent: ureq::Agent = config.max_redirects(0).max_redirects_will_error(false).build().into();
    let mut request = ureq::http::Request::builder().method(method).uri(format!("{base}{path}"));
    for (k, v) in headers {
        request = request.header(*k, *v);
    }
    let response = match body {
        Some((kind, bytes)) => agent.run(request.header("content-type", kind).body(bytes).unwrap()),
        None => agent.run(request.body(()).unwrap()),
    };
    let mut response = response.unwrap();
    let mut bytes = Vec::new();
    response.body_mut().as_reader().read_to_end(&mut bytes).unwrap();
    (response.status().as_u16(), bytes, response.headers().clone())
}

/// Small frames of a blocky wall seen from shifted places, with a bright spot that wanders.
pub(crate) static FRAMES: LazyLock<Vec<(String, Vec<u8>)>> = LazyLock::new(|| {
    let size = Size::new(420, 300);
    let mut random = evanu_core::random::Random::new(5);
    let cells: Vec<u16> = (0..64 * 64).map(|_| (random.bits() % 50_000 + 6000) as u16).collect();
    (0..5u32)
        .map(|k| {
            let mut picture = Raster::new(size);
            for (i, p) in picture.data.chunks_exact_mut(3).enumerate() {
                let (x, y) = (i as u32 % 420 + 3 * k, i as u32 / 420 + 2 * k);
                let v = cells[((y / 9 % 64) * 64 + x / 11 % 64) as usize];
                let spot = x.abs_diff(80 + 70 * k) < 22 && y.abs_diff(150) < 22;
                p.copy_from_slice(&if spot { [65535, 65535, 0] } else { [v, v / 2 + 9000, 60_000 - v] });
            }
            (format!("f{k}.jpg"), encode_jpeg(&picture, 95).unwrap())
        })
        .collect()
});

pub(crate) fn files() -> Vec<(&'static str, Vec<u8>)> {
    FRAMES.iter().map(|(n, b)| (n.as_str(), b.clone())).collect()
}

pub(crate) fn rusqlite_run(db: &Path, sql: &str) -> bool {
    rusqlite::Connection::open(db).and_then(|c| c.execute_batch(sql)).is_ok()
}

pub(crate) fn copy_folder(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap().flatten() {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy_folder(&entry.path(), &target);
        } else {
            drop(std::fs::copy(entry.path(), target));
        }
    }
}
