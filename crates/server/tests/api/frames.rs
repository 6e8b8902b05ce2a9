//! What comes in, what is told about it, and how it is moved.

use crate::server::*;
use evanu_core::geometry::Size;
use evanu_core::pixel::Raster;
use evanu_media::{decode_bytes, encode_jpeg};
use serde_json::json;
use std::path::Path;

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
    let used = set["frames"].as_array().unwrap().iter().filter(|f| f["used"] == true).count();
    assert_eq!((used, &set["recipe"]["excluded"]), (5, &json!([])));
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
    let (_, changed) = server.json("PATCH", &format!("/api/sets/{id}/recipe"), Some(change));
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
    let other = &frames.iter().find(|f| f["id"] != set["reference"]).unwrap()["id"];
    let fit = server.get(&format!("/api/sets/{id}/fits/{other}"));
    let points = fit["points"].as_array().unwrap();
    assert!(points.len() > 10 && fit["outline"].as_array().unwrap().len() == 4, "{fit}");
    assert!(points.iter().all(|p| (0.0..420.0).contains(&p[0].as_f64().unwrap())));
    assert_eq!(server.json("GET", &format!("/api/sets/{id}/fits/9999"), None).0, 404);

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
    recipe["manual_alignments"] = json!([hand]);
    let change = json!({"label": "nonsense", "recipe": recipe});
    assert_eq!(server.json("PATCH", &format!("/api/sets/{id}/recipe"), Some(change)).0, 400);
}
