//! Clips: told about, a frame with the patch, laid, played, mended, written.

use crate::server::*;
use serde_json::{Value, json};

#[test]
fn a_clip_is_told_covered_laid_and_written() {
    let server = Server::new();
    let (status, made) = server.json("POST", "/api/samples/leaves", None);
    assert_eq!(status, 201, "{made}");
    let id = made["id"].as_i64().unwrap();
    let set = |path: &str| format!("/api/sets/{id}{path}");
    let bytes = |path: &str| {
        let (status, bytes, _) = server.call("GET", path, None);
        (status, bytes)
    };
    assert_eq!((server.rest(id).as_str(), server.get(&set(""))["clip"].clone()), ("done", json!(true)));
    let clip = server.get(&set("/clip"));
    assert_eq!(clip["seconds"].as_array().map(Vec::len), Some(150), "{clip}");
    assert_eq!((clip["sound"].clone(), clip["laid"].clone()), (json!(true), Value::Null));
    assert_eq!(server.json("GET", "/api/sets/99/clip", None).0, 404);

    let outline = [(250, 190), (300, 190), (300, 270), (250, 270)].map(|(x, y)| json!({"x": x, "y": y}));
    let repair =
        json!({"held": [{"outline": outline, "later": 3.0}], "from": null, "to": null, "strokes": []});
    let change = |clip: &Value| {
        server.json("PATCH", &set("/recipe"), Some(json!({"label": "cover", "recipe": {"clip": clip}}))).0
    };
    assert_eq!(change(&repair), 200);
    let key = server.get(&set("/clip"))["key"].as_str().unwrap().to_owned();
    let frame = |file: &str| bytes(&set(&format!("/clip/{key}/frames/{file}")));
    let (status, shot) = frame("3-shot.jpg");
    assert_eq!((status, shot.starts_with(&[0xFF, 0xD8])), (200, true));
    let (status, clean) = frame("3-clean.jpg");
    assert!(status == 200 && clean != shot);
    for other in ["3-other.jpg", "x-shot.jpg", "9999-shot.jpg", "3.jpg"] {
        assert_eq!(frame(other).0, 404, "{other}");
    }
    assert_eq!(bytes(&set(&format!("/clip/{key}/play.mp4"))).0, 404, "it was not laid yet");

    let (status, run) = server.json("POST", &set("/clip/lay"), None);
    assert_eq!(status, 202, "{run}");
    assert_eq!(server.rest(id), "done");
    assert_eq!(server.get(&set("/clip"))["laid"]["contact"].as_array().map(Vec::len), Some(150));
    assert_eq!(bytes(&set(&format!("/clip/{key}/play.mp4"))).0, 200);
    assert!(bytes(&set(&format!("/clip/{key}/slit.png"))).1.starts_with(b"\x89PNG"));
    assert_eq!(bytes(&set(&format!("/clip/{key}/found.json"))).0, 404);

    let stroke = json!({"frame": 40, "front": true, "radius": 8.0, "path": [{"x": 275.0, "y": 220.0}]});
    let (status, all) =
        server.json("POST", &set("/clip/strokes"), Some(json!({"stroke": stroke, "frames": 2})));
    assert!(status == 200 && all.as_array().is_some_and(|a| (1..=5).contains(&a.len())), "{all}");
    let wrong = json!({"stroke": {"frame": 40, "front": true, "radius": -1.0, "path": []}, "frames": 2});
    assert_eq!(server.json("POST", &set("/clip/strokes"), Some(wrong)).0, 400);

    let (status, run) = server.json("POST", &set("/clip/exports"), Some(json!({"file": "mask"})));
    assert_eq!(status, 202, "{run}");
    let state = format!("/api/runs/{}", run["id"]);
    until(|| (server.get(&state)["state"] == json!("done")).then_some(()));
    assert_eq!(server.get(&state)["message"], json!("shrub-in-the-breeze-clip-mask.png"));
    assert!(bytes(&format!("{state}/file")).1.starts_with(b"\x89PNG"));
}
