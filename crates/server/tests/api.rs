//! The interface over real HTTP: bringing in, recipes, tiles, look-through, runs, exports, errors, restarts.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use evanu_core::geometry::Size;
use evanu_core::pixel::Raster;
use evanu_media::{decode_bytes, encode_jpeg};
use evanu_studio::Studio;
use serde_json::{Value, json};
use std::io::Read;
use std::path::Path;
use std::sync::LazyLock;
use std::time::{Duration, Instant};

/// A server of its own on a free port; it ends with the process.
struct Server {
    base: String,
    folder: tempfile::TempDir,
}

fn serve(folder: &Path) -> String {
    let studio = Studio::open(folder).unwrap();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let base = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || actix_web::rt::System::new().block_on(evanu_server::serve(studio, listener)));
    base
}

impl Server {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        Self { base: serve(folder.path()), folder }
    }

    fn call(&self, method: &str, path: &str, body: Option<Value>) -> (u16, Vec<u8>, ureq::http::HeaderMap) {
        call(
            &self.base,
            method,
            path,
            body.map(|b| ("application/json".into(), b.to_string().into_bytes())),
            &[],
        )
    }

    fn json(&self, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
        let (status, bytes, _) = self.call(method, path, body);
        (status, serde_json::from_slice(&bytes).unwrap_or(Value::Null))
    }

    fn get(&self, path: &str) -> Value {
        let (status, value) = self.json("GET", path, None);
        assert_eq!(status, 200, "{path}: {value}");
        value
    }

    fn upload(&self, set: i64, files: &[(&str, Vec<u8>)]) -> u16 {
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
    fn set_of(&self, files: &[(&str, Vec<u8>)]) -> i64 {
        let id = self.json("POST", "/api/sets", Some(json!({"name": "A set"}))).1["id"].as_i64().unwrap();
        assert_eq!(self.upload(id, files), 204);
        assert_eq!(self.json("POST", &format!("/api/sets/{id}/prepare"), None).0, 202);
        self.rest(id);
        id
    }

    /// Waits until the set's run has ended; returns its state.
    fn rest(&self, set: i64) -> String {
        until(|| {
            let run = self.get(&format!("/api/sets/{set}"))["run"].clone();
            let state = run["state"].as_str()?.to_owned();
            (!["queued", "running"].contains(&state.as_str())).then_some(state)
        })
    }
}

fn until<T>(mut f: impl FnMut() -> Option<T>) -> T {
    let begin = Instant::now();
    loop {
        if let Some(v) = f() {
            return v;
        }
        assert!(begin.elapsed() < Duration::from_secs(120), "waited too long");
        std::thread::sleep(Duration::from_millis(30));
    }
}

fn call(
    base: &str,
    method: &str,
    path: &str,
    body: Option<(String, Vec<u8>)>,
    headers: &[(&str, &str)],
) -> (u16, Vec<u8>, ureq::http::HeaderMap) {
    let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
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
static FRAMES: LazyLock<Vec<(String, Vec<u8>)>> = LazyLock::new(|| {
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

fn files() -> Vec<(&'static str, Vec<u8>)> {
    FRAMES.iter().map(|(n, b)| (n.as_str(), b.clone())).collect()
}

#[test]
fn a_set_becomes_a_plate_and_every_decision_can_be_undone() {
    let server = Server::new();
    let id = server.set_of(&files());
    let path = format!("/api/sets/{id}");
    let set = server.get(&path);
    assert_eq!(set["run"]["state"], "done", "{set}");
    assert_eq!(set["frames"].as_array().unwrap().len(), 5);
    assert_eq!((set["canvas"]["width"].as_u64(), set["undo"].is_null()), (Some(420), true));
    for f in set["frames"].as_array().unwrap() {
        assert!(f["used"] == true && f["residual_px"].as_f64().unwrap() < 0.3, "{f}");
    }
    let first_key = set["plate_key"].clone();

    let mut recipe = set["recipe"].clone();
    recipe["method"] = json!("darkest");
    recipe["used"][1] = json!(false);
    let (status, changed) = server.json(
        "PUT",
        &format!("{path}/recipe"),
        Some(json!({"label": "try darkest", "recipe": recipe})),
    );
    assert_eq!(status, 200, "{changed}");
    assert_ne!(changed["plate_key"], first_key);
    assert_eq!((&changed["undo"], &changed["frames"][1]["set_aside"]), (&json!("try darkest"), &json!(true)));
    let (_, undone) = server.json("POST", &format!("{path}/undo"), None);
    assert_eq!(
        (&undone["plate_key"], &undone["redo"], &undone["recipe"]),
        (&first_key, &json!("try darkest"), &set["recipe"])
    );
    let (_, redone) = server.json("POST", &format!("{path}/redo"), None);
    assert_eq!(redone["plate_key"], changed["plate_key"]);
    let (status, problem) = server.json("POST", &format!("{path}/redo"), None);
    assert_eq!((status, problem["detail"].as_str()), (409, Some("there is nothing to redo")));

    recipe["used"] = json!([false, false, false, false, false]);
    let (status, problem) =
        server.json("PUT", &format!("{path}/recipe"), Some(json!({"label": "none", "recipe": recipe})));
    assert_eq!(status, 409, "{problem}");
    recipe["method"] = json!("unheard-of");
    assert_eq!(
        server.json("PUT", &format!("{path}/recipe"), Some(json!({"label": "x", "recipe": recipe}))).0,
        400
    );
}

#[test]
fn tiles_are_the_plate_and_carry_tags() {
    let server = Server::new();
    let id = server.set_of(&files());
    let set = server.get(&format!("/api/sets/{id}"));
    let key = set["plate_key"].as_str().unwrap();
    let tile = format!("/api/sets/{id}/tiles/{key}/plate/0/0_0.png");
    let (status, bytes, headers) = server.call("GET", &tile, None);
    assert_eq!(status, 200);
    let picture = decode_bytes(Path::new("tile.png"), &bytes).unwrap();
    assert_eq!(picture.size, Size::new(420, 300));

    // The export is the same picture, bit for bit.
    let (status, run) = server.json(
        "POST",
        &format!("/api/sets/{id}/exports"),
        Some(json!({"format": "png", "level": 0, "quality": 90})),
    );
    assert_eq!(status, 202);
    assert_eq!(server.rest(id), "done");
    let (status, file, headers_of_file) = server.call("GET", &format!("/api/runs/{}/file", run["id"]), None);
    assert_eq!(status, 200);
    assert!(headers_of_file["content-disposition"].to_str().unwrap().contains("a-set-plate.png"));
    assert!(decode_bytes(Path::new("plate.png"), &file).unwrap().samples == picture.samples);

    let tag = headers["etag"].to_str().unwrap();
    assert_eq!(call(&server.base, "GET", &tile, None, &[("if-none-match", tag)]).0, 304);
    assert_eq!(server.call("GET", &tile.replace(key, "0000000000000000"), None).0, 409);
    assert_eq!(server.call("GET", &tile.replace("0_0", "7_0"), None).0, 404);
    assert_eq!(
        server
            .call(
                "GET",
                &tile.replace("plate", "frame-9").replace(key, set["frame_key"].as_str().unwrap()),
                None
            )
            .0,
        404
    );
    for (view, key) in
        [("agreement", key), ("by-darkest", key), ("frame-2", set["frame_key"].as_str().unwrap())]
    {
        let (status, bytes, _) =
            server.call("GET", &format!("/api/sets/{id}/tiles/{key}/{view}/1/0_0.jpg"), None);
        assert_eq!(status, 200, "{view}");
        assert_eq!(decode_bytes(Path::new("t"), &bytes).unwrap().size, Size::new(210, 150));
    }
}

#[test]
fn the_look_through_tells_which_frame_differs() {
    let server = Server::new();
    let id = server.set_of(&files());
    let set = server.get(&format!("/api/sets/{id}"));
    let reference = set["reference"].as_u64().unwrap() as f64;
    // Where the spot stood in frame 4, in the reference's pixels.
    let (x, y) = (80.0 + 70.0 * 4.0 - 3.0 * reference, 150.0 - 2.0 * reference);
    let look = server.get(&format!("/api/sets/{id}/look?x={x}&y={y}&level=0&width=64&height=48"));
    let agrees: Vec<Option<bool>> =
        look["crops"].as_array().unwrap().iter().map(|c| c["agrees"].as_bool()).collect();
    assert_eq!(agrees, [Some(true), Some(true), Some(true), Some(true), Some(false)]);
    assert!(look["strip"].as_str().unwrap().starts_with("data:image/jpeg;base64,"));
    assert_eq!(
        server.call("GET", &format!("/api/sets/{id}/look?x=1&y=1&level=0&width=9000&height=48"), None).0,
        400
    );
    let methods =
        server.get(&format!("/api/sets/{id}/look?x={x}&y={y}&level=0&width=64&height=48&methods=true"));
    assert_eq!(methods["crops"].as_array().unwrap().len(), 7);
}

#[test]
fn doubts_are_listed_and_settled() {
    let size = Size::new(360, 240);
    let frame = |k: u32| {
        let mut picture = Raster::new(size);
        for (i, p) in picture.data.chunks_exact_mut(3).enumerate() {
            let (x, y) = (i as u32 % 360, i as u32 / 360);
            let v = 20_000 + 2500 * ((x / 41 * 5 + y / 29 * 3) % 7) as u16;
            // Two that overlap: what is behind the overlap is in neither frame.
            let thing = (130 + 24 * k..190 + 24 * k).contains(&x) && (70..170).contains(&y);
            p.copy_from_slice(&match (thing, k) {
                (false, _) => [v, v, v - 3000],
                (true, 0) => [60_000, 9000, 9000],
                (true, _) => [4000, 4000, 30_000],
            });
        }
        encode_jpeg(&picture, 95).unwrap()
    };
    let server = Server::new();
    let id = server.set_of(&[("a.jpg", frame(0)), ("b.jpg", frame(1))]);
    let path = format!("/api/sets/{id}");
    let listed = server.get(&format!("{path}/doubts"));
    let doubts = listed.as_array().unwrap();
    assert!(!doubts.is_empty() && doubts.iter().any(|d| d["settled"].is_null()), "{listed}");
    let doubt = &doubts[0];
    assert!(doubt["reason"].as_str().unwrap().len() > 20 && doubt["confidence"].as_f64().unwrap() < 1.0);
    let (x, y) = (doubt["place"]["x"].as_i64().unwrap(), doubt["place"]["y"].as_i64().unwrap());
    assert!((100..230).contains(&x) && (50..180).contains(&y), "{doubt}");

    let set = server.get(&path);
    let other = doubt["stories"][1][0].clone();
    let mut recipe = set["recipe"].clone();
    recipe["settled"] = json!([{"bbox": doubt["bbox"], "frame": other}]);
    let body = json!({"label": "settle", "recipe": recipe});
    let (status, changed) = server.json("PUT", &format!("{path}/recipe"), Some(body));
    assert_eq!(status, 200, "{changed}");
    assert_ne!(changed["plate_key"], set["plate_key"]);
    let after = server.get(&format!("{path}/doubts"));
    assert_eq!((&after[0]["settled"], &after[0]["frame"]), (&json!("you"), &other));
    let place = &doubt["place"];
    let (cx, cy) = (x + place["width"].as_i64().unwrap() / 2, y + place["height"].as_i64().unwrap() / 2);
    let look = server.get(&format!("{path}/look?x={cx}&y={cy}&level=0&width=32&height=32"));
    assert!(look["origin"]["moments"].as_u64() == Some(2), "{}", look["origin"]);
    recipe["settled"] = json!([{"bbox": doubt["bbox"], "frame": 7}]);
    let body = json!({"label": "settle", "recipe": recipe});
    assert_eq!(server.json("PUT", &format!("{path}/recipe"), Some(body)).0, 400);
}

#[test]
fn frames_are_read_while_more_are_on_their_way() {
    let server = Server::new();
    let id = server.json("POST", "/api/sets", Some(json!({"name": "Early"}))).1["id"].as_i64().unwrap();
    let path = format!("/api/sets/{id}");
    let ready = || {
        let set = server.get(&path);
        assert!(set["run"].is_null(), "nothing was asked for yet: {}", set["run"]);
        let frames = set["frames"].as_array().unwrap().clone();
        frames.iter().all(|f| f["state"] == "ready" && f["width"].as_u64() > Some(0)).then_some(frames.len())
    };
    let all = files();
    assert_eq!(server.upload(id, &all[..1]), 204);
    assert_eq!(until(ready), 1);
    // The same file again, and one that cannot be read: the run goes on from there.
    let mut rest = all.clone();
    rest.push(("cut.jpg", FRAMES[0].1[..4000].to_vec()));
    assert_eq!(server.upload(id, &rest), 204);
    assert_eq!(server.json("POST", &format!("{path}/prepare"), None).0, 202);
    assert_eq!(server.rest(id), "done");
    let set = server.get(&path);
    let states: Vec<&str> =
        set["frames"].as_array().unwrap().iter().filter_map(|f| f["state"].as_str()).collect();
    assert_eq!(states.iter().filter(|s| **s == "ready").count(), all.len(), "{states:?}");
    assert_eq!(states.iter().filter(|s| **s == "failed").count(), 1, "{states:?}");
}

#[test]
fn bad_files_are_told_and_the_others_are_used() {
    let server = Server::new();
    let mut all = files();
    all.push(("notes.jpg", b"hello".to_vec()));
    all.push(("empty.png", Vec::new()));
    all.push(("cut.jpg", FRAMES[0].1[..4000].to_vec()));
    let id = server.set_of(&all);
    let set = server.get(&format!("/api/sets/{id}"));
    assert_eq!(set["run"]["state"], "done");
    let failed: Vec<(&str, &str)> = set["frames"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|f| f["state"] == "failed")
        .map(|f| (f["name"].as_str().unwrap(), f["reason"].as_str().unwrap()))
        .collect();
    assert_eq!(failed.len(), 3);
    for (name, reason) in &failed {
        assert!(reason.starts_with(&format!("{name}: ")) && reason.contains(';'), "{reason}");
    }
    assert_eq!(set["frames"].as_array().unwrap().iter().filter(|f| f["used"] == true).count(), 5);
    let bad =
        set["frames"].as_array().unwrap().iter().find(|f| f["state"] == "failed").unwrap()["id"].clone();
    assert_eq!(server.call("DELETE", &format!("/api/sets/{id}/frames/{bad}"), None).0, 204);

    let hopeless = server.set_of(&[("a.jpg", b"x".to_vec())]);
    let set = server.get(&format!("/api/sets/{hopeless}"));
    assert_eq!(set["run"]["state"], "failed");
    assert!(set["run"]["message"].as_str().unwrap().contains("none of these files"));
}

#[test]
fn one_frame_works_and_says_so_and_later_ones_join_it() {
    let server = Server::new();
    let id = server.set_of(&files()[..1]);
    let set = server.get(&format!("/api/sets/{id}"));
    assert_eq!((set["run"]["state"].as_str(), set["canvas"]["width"].as_u64()), (Some("done"), Some(420)));
    assert_eq!(server.upload(id, &files()[1..]), 204);
    server.call("POST", &format!("/api/sets/{id}/prepare"), None);
    assert_eq!(server.rest(id), "done");
    let set = server.get(&format!("/api/sets/{id}"));
    assert_eq!(set["recipe"]["used"], json!([true, true, true, true, true]));
}

#[test]
fn sets_are_named_copied_deleted_and_brought_back() {
    let server = Server::new();
    let id = server.set_of(&files()[..2]);
    assert_eq!(
        server.call("PUT", &format!("/api/sets/{id}/name"), Some(json!({"name": "Forecourt"}))).0,
        204
    );
    assert_eq!(server.call("PUT", &format!("/api/sets/{id}/name"), Some(json!({"name": "  "}))).0, 400);
    let copy = server.json("POST", &format!("/api/sets/{id}/duplicate"), None).1["id"].as_i64().unwrap();
    let copied = server.get(&format!("/api/sets/{copy}"));
    assert_eq!(
        (copied["name"].as_str(), copied["canvas"]["width"].as_u64()),
        (Some("Forecourt (copy)"), Some(420))
    );
    assert_eq!(server.call("DELETE", &format!("/api/sets/{id}"), None).0, 204);
    assert_eq!(server.call("GET", &format!("/api/sets/{id}"), None).0, 404);
    assert_eq!(server.get("/api/sets").as_array().unwrap().len(), 1);
    assert_eq!(server.call("POST", &format!("/api/sets/{id}/restore"), None).0, 204);
    assert_eq!(server.get("/api/sets").as_array().unwrap().len(), 2);
}

#[test]
fn a_restart_keeps_everything_and_takes_up_interrupted_work() {
    let first = Server::new();
    let id = first.set_of(&files());
    let mut recipe = first.get(&format!("/api/sets/{id}"))["recipe"].clone();
    recipe["method"] = json!("mean");
    first.json("PUT", &format!("/api/sets/{id}/recipe"), Some(json!({"label": "mean", "recipe": recipe})));
    // As if the program had been killed in the middle: the run stands as running, a pyramid and the plan are gone.
    let copy = tempfile::tempdir().unwrap();
    copy_folder(first.folder.path(), copy.path());
    for file in std::fs::read_dir(copy.path().join("cache/pyramids")).unwrap().flatten() {
        std::fs::remove_file(file.path()).unwrap();
    }
    let db = copy.path().join("evanu.sqlite");
    let run = |sql: &str| assert!(rusqlite_run(&db, sql), "{sql}");
    run("UPDATE runs SET state = 'running'");
    run("DELETE FROM plans");
    let again = Server { base: serve(copy.path()), folder: copy };
    assert_eq!(again.rest(id), "done");
    let set = again.get(&format!("/api/sets/{id}"));
    assert_eq!((set["recipe"]["method"].as_str(), set["undo"].as_str()), (Some("mean"), Some("mean")));
    assert_eq!(set["plate_key"], first.get(&format!("/api/sets/{id}"))["plate_key"]);
    let (_, undone) = again.json("POST", &format!("/api/sets/{id}/undo"), None);
    assert_eq!(undone["recipe"]["method"], "consensus");
}

fn rusqlite_run(db: &Path, sql: &str) -> bool {
    rusqlite::Connection::open(db).and_then(|c| c.execute_batch(sql)).is_ok()
}

fn copy_folder(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap().flatten() {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy_folder(&entry.path(), &target)
        } else {
            drop(std::fs::copy(entry.path(), target))
        }
    }
}

#[test]
fn only_our_own_pages_are_answered() {
    let server = Server::new();
    let asked = |headers: &[(&str, &str)]| call(&server.base, "GET", "/api/sets", None, headers).0;
    assert_eq!(asked(&[]), 200);
    assert_eq!(asked(&[("origin", &server.base)]), 200);
    assert_eq!(asked(&[("origin", "http://elsewhere.example")]), 403);
    assert_eq!(asked(&[("host", "elsewhere.example")]), 403);
    let (status, problem) = server.json("GET", "/api/nothing", None);
    assert_eq!((status, problem["title"].as_str()), (404, Some("Not Found")));
    let (status, problem) = server.json("POST", "/api/sets", Some(json!({"wrong": 1})));
    assert_eq!(status, 400);
    assert!(problem["detail"].as_str().unwrap().contains("name"));
}

#[test]
fn a_run_can_be_stopped_and_goes_on_later() {
    let server = Server::new();
    let id = server.json("POST", "/api/sets", Some(json!({"name": "Long"}))).1["id"].as_i64().unwrap();
    // Work for a while: many files that differ in a byte after the picture's end.
    let many: Vec<(String, Vec<u8>)> = (0..40u8)
        .map(|k| (format!("f{k:02}.jpg"), [&FRAMES[usize::from(k) % 5].1[..], &[k]].concat()))
        .collect();
    let many: Vec<(&str, Vec<u8>)> = many.iter().map(|(n, b)| (n.as_str(), b.clone())).collect();
    assert_eq!(server.upload(id, &many), 204);
    server.call("POST", &format!("/api/sets/{id}/prepare"), None);
    let run = server.get(&format!("/api/sets/{id}"))["run"]["id"].clone();
    let stopped = server.call("DELETE", &format!("/api/runs/{run}"), None).0;
    let state = server.rest(id);
    assert!(
        (stopped == 204 && state == "cancelled") || (stopped == 409 && state == "done"),
        "{stopped} {state}"
    );
    server.call("POST", &format!("/api/sets/{id}/prepare"), None);
    assert_eq!(server.rest(id), "done");
    assert_eq!(
        server.get(&format!("/api/sets/{id}"))["frames"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|f| f["used"] == true)
            .count(),
        40
    );
}

#[test]
fn what_differs_in_a_frame_is_told_in_words() {
    // The third frame a stop darker and blurred over 5×5 pixels; the others as they are.
    let mut files = files();
    let decoded = decode_bytes(Path::new("f2.jpg"), &files[2].1).unwrap();
    let evanu_core::pixel::Samples::Eight(d) = decoded.samples else { panic!("JPEG has eight bits") };
    let light = |x: i64, y: i64, c: usize| {
        let at = 3 * (y.clamp(0, 299) * 420 + x.clamp(0, 419)) as usize + c;
        evanu_core::pixel::tone::to_linear(f64::from(d[at]) / 255.0)
    };
    let mut picture = Raster::new(Size::new(420, 300));
    for (i, o) in picture.data.iter_mut().enumerate() {
        let (x, y, c) = (i as i64 / 3 % 420, i as i64 / 1260, i % 3);
        let sum: f64 =
            (-2..=2).flat_map(|j| (-2..=2).map(move |k| (k, j))).map(|(k, j)| light(x + k, y + j, c)).sum();
        *o = (evanu_core::pixel::tone::to_code(sum / 50.0) * 65_535.0) as u16;
    }
    files[2].1 = encode_jpeg(&picture, 95).unwrap();
    let server = Server::new();
    let id = server.set_of(&files);
    let set = server.get(&format!("/api/sets/{id}"));
    for (k, frame) in set["frames"].as_array().unwrap().iter().enumerate() {
        let told: Vec<&str> =
            frame["findings"].as_array().unwrap().iter().map(|f| f["text"].as_str().unwrap()).collect();
        if k == 2 {
            assert!(told[0].starts_with("soft: ") && frame["findings"][0]["matters"] == true, "{told:?}");
            assert!(told[1].starts_with("1.0 stops darker") && told[1].ends_with("matched"), "{told:?}");
        } else {
            assert!(told.is_empty(), "frame {k}: {told:?}");
        }
    }
    // Left as shot, the difference in light asks for a look.
    let mut recipe = set["recipe"].clone();
    recipe["match_exposure"] = json!("off");
    let change = json!({"label": "leave exposure as shot", "recipe": recipe});
    let (_, changed) = server.json("PUT", &format!("/api/sets/{id}/recipe"), Some(change));
    let light = &changed["frames"][2]["findings"][1];
    assert!(light["matters"] == true && light["text"].as_str().unwrap().ends_with("left as shot"), "{light}");
}

#[test]
fn folders_moves_and_fits_are_reached_over_http() {
    let server = Server::new();
    let folder = tempfile::tempdir().unwrap();
    for (name, bytes) in files() {
        std::fs::write(folder.path().join(name), bytes).unwrap();
    }
    let path = folder.path().to_str().unwrap();
    let listed = server.get(&format!("/api/folders?path={path}"));
    assert_eq!(listed["pictures"], files().len());
    let (status, told) = server.json("GET", "/api/folders?path=/nowhere/at/all", None);
    assert!(status == 422 && told["detail"].as_str().unwrap().contains("no such file"), "{told}");

    let id = server.json("POST", "/api/sets", Some(json!({"name": "From a folder", "sort": true}))).1["id"]
        .clone();
    let body = json!({"path": path, "copy": false});
    assert_eq!(server.json("POST", &format!("/api/sets/{id}/folder"), Some(body)).0, 204);
    server.call("POST", &format!("/api/sets/{id}/prepare"), None);
    assert_eq!(server.rest(id.as_i64().unwrap()), "done");
    let set = server.get(&format!("/api/sets/{id}"));
    let frames = set["frames"].as_array().unwrap();
    assert!(frames.iter().all(|f| f["source"].as_str().is_some_and(|s| s.starts_with(path))));

    // What a fit rests on, in canvas pixels.
    let other = if set["reference"] == 0 { 1 } else { 0 };
    let fit = server.get(&format!("/api/sets/{id}/fits/{other}"));
    let points = fit["points"].as_array().unwrap();
    assert!(points.len() > 10 && fit["outline"].as_array().unwrap().len() == 4, "{fit}");
    assert!(points.iter().all(|p| (0.0..420.0).contains(&p[0].as_f64().unwrap())));
    assert_eq!(server.json("GET", &format!("/api/sets/{id}/fits/99"), None).0, 404);

    // A difference is grey where frames fit.
    let key = set["frame_key"].as_str().unwrap();
    let tile = format!("/api/sets/{id}/tiles/{key}/difference-{other}/0/0_0.png");
    let (status, bytes, _) = server.call("GET", &tile, None);
    assert_eq!(status, 200);
    let picture = decode_bytes(Path::new("difference.png"), &bytes).unwrap();
    let evanu_core::pixel::Samples::Eight(d) = picture.samples else { panic!("tiles have eight bits") };
    let mut codes: Vec<u8> = d.iter().copied().step_by(3).collect();
    codes.sort_unstable();
    assert!(codes[codes.len() / 2].abs_diff(119) < 8, "{}", codes[codes.len() / 2]);

    // Frames to a set of their own, and nonsense refused.
    let moved = json!({"frames": [frames[0]["id"]], "to": null});
    let (status, made) = server.json("POST", &format!("/api/sets/{id}/move"), Some(moved.clone()));
    assert!(status == 200 && made["id"] != id, "{made}");
    assert_eq!(server.json("POST", &format!("/api/sets/{id}/move"), Some(moved)).0, 404);
    let hand =
        json!({"frame": 0, "on": 0, "pairs": [], "shift": [0, 0], "turn": 0, "scale": 1, "snap": false});
    let mut recipe = server.get(&format!("/api/sets/{id}"))["recipe"].clone();
    recipe["hands"] = json!([hand]);
    let change = json!({"label": "nonsense", "recipe": recipe});
    assert_eq!(server.json("PUT", &format!("/api/sets/{id}/recipe"), Some(change)).0, 400);
}

#[test]
fn lifts_are_tried_laid_moved_and_kept_in_the_history() {
    let server = Server::new();
    let id = server.set_of(&files());
    let set = |path: &str| format!("/api/sets/{id}{path}");
    let detail = server.get(&set(""));
    let spot = |k: f64| {
        let corners = [(-26.0, -26.0), (26.0, -26.0), (26.0, 26.0), (-26.0, 26.0)];
        corners.map(|(x, y)| json!({"x": 80.0 + 70.0 * k + x, "y": 150.0 + y})).to_vec()
    };
    let lift = |frame: usize, outline: Vec<Value>| {
        json!({"on": detail["reference"], "outline": outline, "source": {"frame": frame}, "soft": 0.0, "follow": false,
            "seek": true, "trim": false, "tone": true, "strength": 1.0, "off": false})
    };

    // Tried before it is laid: border and words.
    let (status, told) = server.json("POST", &set("/lifts/try"), Some(lift(2, spot(2.0))));
    assert_eq!(status, 200, "{told}");
    assert!(told["border"].as_array().is_some_and(|b| !b.is_empty()), "{told}");
    assert!(told["words"].as_str().is_some_and(|w| w.starts_with("It ")), "{told}");
    assert_eq!(server.json("POST", &set("/lifts/try"), Some(lift(99, spot(0.0)))).0, 400);
    let mut thin = lift(2, spot(0.0));
    thin["outline"] = json!([{"x": 1.0, "y": 1.0}]);
    assert_eq!(server.json("POST", &set("/lifts/try"), Some(thin)).0, 400);

    // Proposed: frames that show something else there, each with what taking it would do.
    let wanted = json!({"at": {"x": 220.0, "y": 150.0}, "outline": spot(2.0)});
    let (status, all) = server.json("POST", &set("/lifts/proposals"), Some(wanted));
    assert_eq!(status, 200, "{all}");
    let frames: Vec<u64> = all.as_array().unwrap().iter().filter_map(|p| p["frame"].as_u64()).collect();
    let mut every = frames.clone();
    every.sort_unstable();
    assert_eq!(every, (0..detail["frames"].as_array().unwrap().len() as u64).collect::<Vec<_>>());
    let differs = |p: &Value| p["told"]["differs"].as_bool().unwrap();
    let all = all.as_array().unwrap();
    assert!(all.iter().any(differs) && !all.iter().all(differs), "{all:?}");
    assert!(all.windows(2).all(|p| differs(&p[0]) || !differs(&p[1])), "what shows the same comes last");
    let beyond = json!({"at": {"x": 1e9, "y": 0.0}});
    assert_eq!(server.json("POST", &set("/lifts/proposals"), Some(beyond)).0, 400);

    // Laid, with an area that is kept across it.
    let change = |label: &str, part: &[(&str, Value)]| {
        let mut recipe = server.get(&set(""))["recipe"].clone();
        part.iter().for_each(|(name, value)| recipe[*name] = value.clone());
        let body = json!({"label": label, "recipe": recipe});
        server.json("PUT", &set("/recipe"), Some(body))
    };
    let before = detail["plate_key"].clone();
    assert_eq!(change("take a place", &[("lifts", json!([lift(2, spot(2.0))]))]).0, 200);
    let kept = json!([{"on": detail["reference"], "outline": spot(2.5)}]);
    assert_eq!(change("keep an area", &[("keeps", kept)]).0, 200);
    let (_, told) = server.json("POST", &set("/lifts/try"), Some(lift(2, spot(2.0))));
    assert!(told["words"].as_str().is_some_and(|w| w.contains("you keep")), "{told}");
    assert_eq!(change("no", &[("keeps", json!([{"on": 77, "outline": spot(0.0)}]))]).0, 400);

    // Where it can be seen is judged by what the plate is for; it has a small picture.
    for purpose in ["web", "screen", "print"] {
        assert!(server.get(&set(&format!("/seams/{purpose}"))).is_array());
    }
    assert_eq!(server.json("GET", &set("/seams/poster"), None).0, 404);
    assert_eq!(call(&server.base, "GET", &set("/lifts/0/picture"), None, &[]).0, 200);
    assert_eq!(server.json("GET", &set("/lifts/7/picture"), None).0, 404);

    // A tile that it reaches is another one without it, and the same when it is laid again.
    let tile = || {
        let key = server.get(&set(""))["plate_key"].as_str().unwrap().to_owned();
        let answer = call(&server.base, "GET", &set(&format!("/tiles/{key}/plate/0/0_0.png")), None, &[]);
        assert_eq!(answer.0, 200);
        answer.1
    };
    let with = tile();
    assert_eq!(change("give back", &[("lifts", json!([]))]).0, 200);
    assert!(tile() != with);
    assert_eq!(change("take a place", &[("lifts", json!([lift(2, spot(2.0))]))]).0, 200);
    assert!(tile() == with);

    // A geometry of its own is checked, and found by itself where there is something to find.
    let mut moved = lift(1, spot(3.0));
    moved["place"] = json!({"shift": [4.0, 3.0], "turn": 0.0, "scale": 1.0, "mirror": false});
    let (status, place) = server.json("POST", &set("/lifts/place"), Some(moved.clone()));
    // The wall is the same in plate and frame: it lies best where it was.
    assert_eq!(status, 200, "{place}");
    let near = |v: &Value, wanted: f64, off: f64| v.as_f64().is_some_and(|v| (v - wanted).abs() < off);
    assert!(near(&place["shift"][0], 0.0, 0.3) && near(&place["shift"][1], 0.0, 0.3), "{place}");
    assert!(near(&place["scale"], 1.0, 0.01) && near(&place["turn"], 0.0, 0.3), "{place}");
    let alone = server.json("POST", &set("/lifts/place"), Some(lift(1, spot(1.0))));
    assert_eq!(alone.0, 409, "the bright spot of frame 1 is nowhere in the plate: {}", alone.1);
    moved["place"]["scale"] = json!(0.0);
    assert_eq!(change("no", &[("lifts", json!([moved]))]).0, 400);

    // The history: each state with a picture and tiles of its own; going back keeps the other branch.
    let states = server.get(&set("/history"));
    let labels: Vec<&str> = states.as_array().unwrap().iter().map(|s| s["label"].as_str().unwrap()).collect();
    assert_eq!(labels, ["made the set", "take a place", "keep an area", "give back", "take a place"]);
    let first = server.get(&set("/history/0"));
    assert_eq!(first["plate_key"], before);
    let tile = set(&format!("/tiles/{}/plate/0/0_0.png", first["plate_key"].as_str().unwrap()));
    assert_eq!(call(&server.base, "GET", &tile, None, &[]).0, 200);
    assert_eq!(call(&server.base, "GET", &set("/history/1/picture?side=64"), None, &[]).0, 200);
    assert_eq!(server.json("POST", &set("/history/1"), None).0, 200);
    assert_eq!(server.get(&set(""))["redo"], "keep an area");
    assert_eq!(change("combine by mean", &[("method", json!("mean"))]).0, 200);
    let states = server.get(&set("/history"));
    assert_eq!(states.as_array().unwrap().len(), 6);
    assert_eq!((&states[5]["parent"], &states[5]["current"]), (&json!(1), &json!(true)));
    assert_eq!(server.json("POST", &set("/history/44"), None).0, 404);
    assert_eq!(server.json("GET", &set("/history/44"), None).0, 404);
}
