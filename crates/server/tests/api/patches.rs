//! Patches and their history.

use crate::server::*;
use evanu_core::pixel::Samples;
use evanu_media::decode_bytes;
use serde_json::{Value, json};
use std::path::Path;

#[test]
fn patches_are_tried_laid_moved_and_kept_in_the_history() {
    let server = Server::new();
    let id = server.set_of(&files());
    let set = |path: &str| format!("/api/sets/{id}{path}");
    let detail = server.get(&set(""));
    let spot = |k: f64| {
        let corners = [(-26.0, -26.0), (26.0, -26.0), (26.0, 26.0), (-26.0, 26.0)];
        corners.map(|(x, y)| json!({"x": 80.0 + 70.0 * k + x, "y": 150.0 + y})).to_vec()
    };
    let patch = |frame: usize, outline: Vec<Value>| {
        json!({"on": detail["reference"], "outline": outline, "source": {"frame": server.frame(id, frame)},
            "optimal_seam": true, "tone": true})
    };

    // Tried before it is laid: border and words.
    let (status, told) = server.json("POST", &set("/patches/try"), Some(patch(2, spot(2.0))));
    assert_eq!(status, 200, "{told}");
    assert!(told["border"].as_array().is_some_and(|b| !b.is_empty()), "{told}");
    assert!(told["words"].as_str().is_some_and(|w| w.starts_with("It ")), "{told}");
    let mut foreign = patch(2, spot(0.0));
    foreign["source"] = json!({"frame": 999});
    assert_eq!(server.json("POST", &set("/patches/try"), Some(foreign)).0, 400);
    let mut thin = patch(2, spot(0.0));
    thin["outline"] = json!([{"x": 1.0, "y": 1.0}]);
    assert_eq!(server.json("POST", &set("/patches/try"), Some(thin)).0, 400);

    // Proposed: frames that show something else there, each with what taking it would do.
    let wanted = json!({"at": {"x": 220.0, "y": 150.0}, "outline": spot(2.0)});
    let (status, all) = server.json("POST", &set("/patches/proposals"), Some(wanted));
    assert_eq!(status, 200, "{all}");
    let sorted = |list: &Value, field: &str| {
        let mut all: Vec<u64> = list.as_array().unwrap().iter().filter_map(|f| f[field].as_u64()).collect();
        all.sort_unstable();
        all
    };
    assert_eq!(sorted(&all, "frame"), sorted(&detail["frames"], "id"));
    let differs = |p: &Value| p["told"]["differs"].as_bool().unwrap();
    let all = all.as_array().unwrap();
    assert!(all.iter().any(differs) && !all.iter().all(differs), "{all:?}");
    assert!(all.windows(2).all(|p| differs(&p[0]) || !differs(&p[1])), "what shows the same comes last");
    let beyond = json!({"at": {"x": 1e9, "y": 0.0}});
    assert_eq!(server.json("POST", &set("/patches/proposals"), Some(beyond)).0, 400);

    // Laid, with an area that is kept across it.
    let change = |label: &str, part: &[(&str, Value)]| {
        let mut recipe = server.get(&set(""))["recipe"].clone();
        part.iter().for_each(|(name, value)| recipe[*name] = value.clone());
        let body = json!({"label": label, "recipe": recipe});
        server.json("PATCH", &set("/recipe"), Some(body))
    };
    let before = detail["plate_key"].clone();
    assert_eq!(change("take a place", &[("patches", json!([patch(2, spot(2.0))]))]).0, 200);
    let kept = json!([{"on": detail["reference"], "outline": spot(2.5)}]);
    assert_eq!(change("keep an area", &[("protected", kept)]).0, 200);
    let (_, told) = server.json("POST", &set("/patches/try"), Some(patch(2, spot(2.0))));
    assert!(told["words"].as_str().is_some_and(|w| w.contains("you keep")), "{told}");
    assert_eq!(change("no", &[("protected", json!([{"on": 77, "outline": spot(0.0)}]))]).0, 400);

    // Where it can be seen is judged by what the plate is for; it has a small picture.
    for purpose in ["web", "screen", "print"] {
        assert!(server.get(&set(&format!("/seams/{purpose}"))).is_array());
    }
    assert_eq!(server.json("GET", &set("/seams/poster"), None).0, 404);
    assert_eq!(call(&server.base, "GET", &set("/patches/0/picture"), None, &[]).0, 200);
    assert_eq!(server.json("GET", &set("/patches/7/picture"), None).0, 404);

    // A tile that it reaches is another one without it, and the same when it is laid again.
    let tile = || {
        let key = server.get(&set(""))["plate_key"].as_str().unwrap().to_owned();
        let answer = call(&server.base, "GET", &set(&format!("/tiles/{key}/plate/0/0_0.png")), None, &[]);
        assert_eq!(answer.0, 200);
        answer.1
    };
    let with = tile();
    assert_eq!(change("give back", &[("patches", json!([]))]).0, 200);
    assert!(tile() != with);
    assert_eq!(change("take a place", &[("patches", json!([patch(2, spot(2.0))]))]).0, 200);
    assert!(tile() == with);

    // A geometry of its own is checked, and found by itself where there is something to find.
    let mut moved = patch(1, spot(3.0));
    moved["transform"] = json!({"shift": [4.0, 3.0], "turn": 0.0, "scale": 1.0, "mirror": false});
    let (status, place) = server.json("POST", &set("/patches/place"), Some(moved.clone()));
    // The wall is the same in plate and frame: it lies best where it was.
    assert_eq!(status, 200, "{place}");
    let near = |v: &Value, wanted: f64, off: f64| v.as_f64().is_some_and(|v| (v - wanted).abs() < off);
    assert!(near(&place["shift"][0], 0.0, 0.3) && near(&place["shift"][1], 0.0, 0.3), "{place}");
    assert!(near(&place["scale"], 1.0, 0.01) && near(&place["turn"], 0.0, 0.3), "{place}");
    let alone = server.json("POST", &set("/patches/place"), Some(patch(1, spot(1.0))));
    assert_eq!(alone.0, 409, "the bright spot of frame 1 is nowhere in the plate: {}", alone.1);
    moved["transform"]["scale"] = json!(0.0);
    assert_eq!(change("no", &[("patches", json!([moved]))]).0, 400);

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

#[test]
fn a_tile_is_called_by_the_patches_that_reach_it() {
    let server = Server::new();
    let id = server.set_of(&files());
    let set = |path: &str| format!("/api/sets/{id}{path}");
    let detail = server.get(&set(""));
    let patch = |frame: usize, x: f64| {
        let corners = [(-26.0, -26.0), (26.0, -26.0), (26.0, 26.0), (-26.0, 26.0)];
        let outline = corners.map(|(dx, dy)| json!({"x": x + dx, "y": 150.0 + dy}));
        json!({"on": detail["reference"], "outline": outline, "source": {"frame": server.frame(id, frame)},
            "optimal_seam": true, "tone": true})
    };
    let laid = |patches: Value| {
        let mut recipe = server.get(&set(""))["recipe"].clone();
        recipe["patches"] = patches;
        // What is looked at is combined at once; what is no tile does no harm.
        let looking = json!([{"level": 0, "x": 0, "y": 0}, {"level": 31, "x": 0, "y": 0}, {"level": 0, "x": u32::MAX, "y": 9}]);
        let body = json!({"label": "take a place", "recipe": recipe, "looking": looking});
        let (status, now) = server.json("PATCH", &set("/recipe"), Some(body));
        assert_eq!(status, 200, "{now}");
        // Usually told with the answer, and once the patches are fitted in any case.
        let ready = || Some(server.get(&set(""))).filter(|now| !now["tile_names"].is_null());
        (0..200)
            .find_map(|_| {
                ready().or_else(|| {
                    std::thread::sleep(std::time::Duration::from_millis(20));
                    None
                })
            })
            .expect("patches are fitted")
    };
    // As documented: the plate without patches, then each patch whose box the only tile of the level touches.
    let called = |now: &Value, level: u32| {
        let names = &now["tile_names"];
        let side = 512.0 * f64::from(1u32 << level);
        let touches = |l: &&Value| {
            let at = |name: &str| l[name].as_f64().unwrap();
            at("left") <= side && at("right") >= 0.0 && at("top") <= side && at("bottom") >= 0.0
        };
        let over = names["patches"].as_array().unwrap().iter().filter(touches);
        over.fold(names["bare"].as_str().unwrap().to_owned(), |all, l| {
            format!("{all}-{}", l["name"].as_str().unwrap())
        })
    };
    let tile = |key: &str, level: u32| {
        let (status, bytes, _) =
            server.call("GET", &set(&format!("/tiles/{key}/plate/{level}/0_0.png")), None);
        (status, bytes)
    };
    let bare = called(&detail, 0);
    let decoded = |key: &str, part: &str| {
        let (status, bytes, _) =
            server.call("GET", &set(&format!("/tiles/{key}/plate/0/0_0.jpg{part}")), None);
        assert_eq!(status, 200);
        let picture = decode_bytes(Path::new("tile.jpg"), &bytes).unwrap();
        let Samples::Eight(samples) = picture.samples else { panic!("JPEG has eight bits") };
        (picture.size, samples)
    };
    let (size, mut shown) = decoded(&bare, "");
    assert_eq!(tile(&bare, 0), tile(detail["plate_key"].as_str().unwrap(), 0));

    let both = laid(json!([patch(2, 220.0), patch(1, 80.0)]));
    let boxes: Vec<_> = both["tile_names"]["patches"].as_array().unwrap().iter().collect();
    assert_eq!(boxes.len(), 2);
    assert!(boxes[0]["left"].as_f64() < Some(194.0) && boxes[0]["right"].as_f64() > Some(246.0));
    for level in 0..3 {
        let (status, bytes) = tile(&called(&both, level), level);
        assert_eq!((status, &bytes), (200, &tile(both["plate_key"].as_str().unwrap(), level).1));
    }
    assert_eq!(tile(&bare, 0).0, 409, "without its patches it is another tile");
    // Who has the tile as it was needs no more of it than what the patches reach.
    let (first, all) = (called(&both, 0), decoded(&called(&both, 0), "").1);
    assert!(shown != all);
    for reach in boxes {
        let at = |name: &str| reach[name].as_f64().unwrap() as usize;
        let (x, y) = (at("left") / 8 * 8, at("top") / 8 * 8);
        let (right, bottom) = (at("right") / 8 * 8 + 8, at("bottom") / 8 * 8 + 8);
        let (part, samples) = decoded(&first, &format!("?part={x},{y},{},{}", right - x, bottom - y));
        let width = 3 * part.width as usize;
        for (row, samples) in samples.chunks_exact(width).enumerate() {
            shown[3 * ((y + row) * size.width as usize + x)..][..width].copy_from_slice(samples);
        }
    }
    assert!(shown == all);
    // 424 is beyond the picture, 520 beyond any tile.
    let asked = [("0,0,7,8", 400), ("4,0,8,8", 400), ("0,0,520,8", 400), ("0,0,8", 400), ("-8,0,8,8", 400)];
    for (part, refused) in asked.into_iter().chain([("8,8,0,8", 404), ("424,0,8,8", 404)]) {
        let path = set(&format!("/tiles/{first}/plate/0/0_0.jpg?part={part}"));
        let (status, told) = server.json("GET", &path, None);
        assert_eq!(status, refused, "{part}: {told}");
        assert!(told["detail"].as_str().is_some_and(|d| d.contains(" tile")), "{told}");
    }
    // What was combined ahead is what a set combines that nobody has looked at.
    let copy = server.json("POST", &set("/duplicate"), None).1["id"].as_i64().unwrap();
    let small = |id: i64| {
        let key = server.get(&format!("/api/sets/{id}"))["plate_key"].as_str().unwrap().to_owned();
        let (status, bytes, _) =
            server.call("GET", &format!("/api/sets/{id}/tiles/{key}/plate/0/0_0.jpg"), None);
        assert_eq!(status, 200);
        bytes
    };
    assert!(small(id) == small(copy));
    assert_eq!(tile(&format!("{}-0", called(&both, 0)), 0).0, 409);

    // One patch less, and the names of the others stay; taken back, the tile has the name it had.
    let one = laid(json!([patch(2, 220.0)]));
    assert_eq!(one["tile_names"]["patches"][0]["name"], both["tile_names"]["patches"][0]["name"]);
    assert_eq!(called(&laid(json!([])), 0), bare);
    assert_eq!(tile(&bare, 0), tile(detail["plate_key"].as_str().unwrap(), 0));
}
