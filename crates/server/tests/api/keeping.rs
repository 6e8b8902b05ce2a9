//! What is kept, what is taken up again, and who is answered.

use crate::server::*;
use serde_json::json;

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
    first.json("PATCH", &format!("/api/sets/{id}/recipe"), Some(json!({"label": "mean", "recipe": recipe})));
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

#[test]
fn only_our_own_pages_are_answered() {
    let server = Server::new();
    let asked = |headers: &[(&str, &str)]| call(&server.base, "GET", "/api/sets", None, headers).0;
    assert_eq!(asked(&[]), 200);
    assert_eq!(asked(&[("origin", &server.base)]), 200);
    assert_eq!(asked(&[("origin", "http://elsewhere.example")]), 403);
    assert_eq!(asked(&[("host", "elsewhere.example")]), 403);
    // Browsers that send no origin say it otherwise, and write names as they like.
    for (site, answer) in [("cross-site", 403), ("same-site", 403), ("same-origin", 200), ("none", 200)] {
        assert_eq!(asked(&[("sec-fetch-site", site)]), answer, "{site}");
    }
    assert_eq!(asked(&[("referer", "http://elsewhere.example/page")]), 403);
    assert_eq!(asked(&[("referer", &format!("{}.elsewhere.example/", server.base))]), 403);
    assert_eq!(asked(&[("referer", &format!("{}/set/1", server.base))]), 200);
    let port = server.base.rsplit(':').next().unwrap();
    let (host, origin) = (format!("LOCALHOST:{port}"), format!("http://localhost:{port}"));
    assert_eq!(asked(&[("host", &host), ("origin", &origin)]), 200);
    let (status, problem) = server.json("GET", "/api/nothing", None);
    assert_eq!((status, problem["title"].as_str()), (404, Some("Not Found")));
    let (status, problem) = server.json("POST", "/api/sets", Some(json!({"wrong": 1})));
    assert_eq!(status, 400);
    assert!(problem["detail"].as_str().unwrap().contains("name"));
}

#[test]
fn others_say_a_token_and_do_what_it_lets_them() {
    // The address by which this computer is seen from its network; one without any is seen by nobody else.
    let socket = std::net::UdpSocket::bind("0.0.0.0:0").unwrap();
    let seen = socket.connect("192.0.2.1:9").and_then(|()| socket.local_addr());
    let Some(ip) = seen.ok().map(|a| a.ip()).filter(|ip| !ip.is_loopback()) else { return };
    let folder = tempfile::tempdir().unwrap();
    let access = evanu_server::Access::of_folder(folder.path(), false).unwrap();
    let base = serve_on(folder.path(), &format!("{ip}:0"));
    let ask = |method: &str, path: &str, token: &str| {
        let body = (method == "POST").then(|| ("application/json".into(), br#"{"name": "a"}"#.to_vec()));
        call(&base, method, path, body, &[("cookie", &format!("evanu={token}"))]).0
    };
    for (token, look, act, folders) in
        [("", 401, 401, 401), (&*access.looking, 200, 403, 409), (&*access.everything, 200, 201, 409)]
    {
        assert_eq!(ask("GET", "/api/sets", token), look, "{token}");
        assert_eq!(ask("GET", "/", token), look, "{token}");
        assert_eq!(ask("POST", "/api/sets", token), act, "{token}");
        assert_eq!(ask("GET", "/api/folders", token), folders, "{token}");
    }
    // The printed address leads to the page, with the cookie.
    let (status, _, headers) = call(&base, "GET", &format!("/set/1?token={}", access.looking), None, &[]);
    assert_eq!((status, headers["location"].to_str().unwrap()), (303, "/set/1"));
    let cookie = headers["set-cookie"].to_str().unwrap();
    assert!(cookie.starts_with(&format!("evanu={}; HttpOnly; SameSite=Strict", access.looking)), "{cookie}");
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
