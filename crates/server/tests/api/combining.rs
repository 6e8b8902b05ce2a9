//! Plates, tiles, the look-through and doubts.

use crate::server::*;
use evanu_core::geometry::Size;
use evanu_core::pixel::Raster;
use evanu_core::pixel::Samples;
use evanu_media::{decode_bytes, encode_jpeg};
use serde_json::json;
use std::path::Path;

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
    recipe["excluded"] = json!([server.frame(id, 1)]);
    let (status, changed) = server.json(
        "PATCH",
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

    recipe["excluded"] = json!([0, 1, 2, 3, 4].map(|k| server.frame(id, k)));
    let (status, problem) =
        server.json("PATCH", &format!("{path}/recipe"), Some(json!({"label": "none", "recipe": recipe})));
    assert_eq!(status, 409, "{problem}");
    recipe["method"] = json!("unheard-of");
    assert_eq!(
        server.json("PATCH", &format!("{path}/recipe"), Some(json!({"label": "x", "recipe": recipe}))).0,
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
    // A download that was cut off goes on where it was.
    let rest = [("range", "bytes=100-")];
    let (status, end, _) = call(&server.base, "GET", &format!("/api/runs/{}/file", run["id"]), None, &rest);
    assert_eq!((status, &end[..]), (206, &file[100..]));

    let tag = headers["etag"].to_str().unwrap();
    assert_eq!(call(&server.base, "GET", &tile, None, &[("if-none-match", tag)]).0, 304);
    assert_eq!(server.call("GET", &tile.replace(key, "0000000000000000"), None).0, 409);
    assert_eq!(server.call("GET", &tile.replace("0_0", "7_0"), None).0, 404);
    assert_eq!(
        server
            .call(
                "GET",
                &tile.replace("plate", "frame-999").replace(key, set["frame_key"].as_str().unwrap()),
                None
            )
            .0,
        404
    );
    let frame = format!("frame-{}", server.frame(id, 2));
    for (view, key) in
        [("agreement", key), ("by-darkest", key), (&frame[..], set["frame_key"].as_str().unwrap())]
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
    let frames = set["frames"].as_array().unwrap();
    let reference = frames.iter().position(|f| f["id"] == set["reference"]).unwrap() as f64;
    // Where the spot stood in frame 4, in the reference's pixels.
    let (x, y) = (80.0 + 70.0 * 4.0 - 3.0 * reference, 150.0 - 2.0 * reference);
    let look = server.get(&format!("/api/sets/{id}/look?x={x}&y={y}&level=0&width=64&height=48"));
    let agrees: Vec<Option<bool>> =
        look["crops"].as_array().unwrap().iter().map(|c| c["agrees"].as_bool()).collect();
    assert_eq!(agrees, [Some(true), Some(true), Some(true), Some(true), Some(false)]);
    assert!(look["strip"].as_str().unwrap().starts_with("data:image/jpeg;base64,"));
    for wrong in ["x=1&y=1&level=0&width=9000&height=48", "x=1e19&y=1&level=0&width=64&height=48"] {
        assert_eq!(server.call("GET", &format!("/api/sets/{id}/look?{wrong}"), None).0, 400, "{wrong}");
    }
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
    let (status, changed) = server.json("PATCH", &format!("{path}/recipe"), Some(body));
    assert_eq!(status, 200, "{changed}");
    assert_ne!(changed["plate_key"], set["plate_key"]);
    let after = server.get(&format!("{path}/doubts"));
    assert_eq!((&after[0]["settled"], &after[0]["frame"]), (&json!("you"), &other));
    let place = &doubt["place"];
    let (cx, cy) = (x + place["width"].as_i64().unwrap() / 2, y + place["height"].as_i64().unwrap() / 2);
    let look = server.get(&format!("{path}/look?x={cx}&y={cy}&level=0&width=32&height=32"));
    assert!(look["origin"]["moments"].as_u64() == Some(2), "{}", look["origin"]);
    recipe["settled"] = json!([{"bbox": doubt["bbox"], "frame": 777}]);
    let body = json!({"label": "settle", "recipe": recipe});
    assert_eq!(server.json("PATCH", &format!("{path}/recipe"), Some(body)).0, 400);
}

#[test]
fn the_median_is_shown_until_the_evidence_is_weighed() {
    let server = Server::new();
    let id = server.json("POST", "/api/sets", Some(json!({"name": "Soon"}))).1["id"].as_i64().unwrap();
    assert_eq!(server.upload(id, &files()), 204);
    let path = format!("/api/sets/{id}");
    assert!(!server.get(&path)["draft"].as_bool().unwrap(), "nothing is there yet");
    assert_eq!(server.json("POST", &format!("{path}/prepare"), None).0, 202);
    let draft = until(|| Some(server.get(&path)).filter(|set| !set["plate_key"].is_null()));
    assert_eq!(draft["draft"], true, "a plate is there before the run has ended: {}", draft["run"]);
    let tile = |key: &str, view: &str| {
        let (status, bytes, _) = server.call("GET", &format!("{path}/tiles/{key}/{view}/1/0_0.png"), None);
        assert_eq!(status, 200);
        bytes
    };
    let early = draft["plate_key"].as_str().unwrap();
    let shown = tile(early, "plate");
    assert_eq!(server.rest(id), "done");
    let set = server.get(&path);
    assert_eq!(set["draft"], false);
    let key = set["plate_key"].as_str().unwrap();
    assert_ne!(key, early);
    // By corners alone, or by the exact plan when the page has asked late.
    let apart = |other: &[u8]| {
        let [a, b] =
            [&shown[..], other].map(|bytes| decode_bytes(Path::new("tile.png"), bytes).unwrap().samples);
        let (Samples::Eight(a), Samples::Eight(b)) = (a, b) else { panic!("tiles have eight bits") };
        a.iter().zip(&b).map(|(a, b)| f64::from(a.abs_diff(*b))).sum::<f64>() / a.len() as f64
    };
    let (median, plate) = (apart(&tile(key, "by-median")), apart(&tile(key, "plate")));
    assert!(median < 1.0 && 2.0 * median < plate, "what was shown is the median: {median}, {plate}");
    assert_eq!(shown, tile(early, "plate"), "and an address goes on meaning the same");
}

#[test]
fn a_frame_left_out_is_answered_at_once_and_the_last_choice_is_the_one_that_is_weighed() {
    let server = Server::new();
    let id = server.set_of(&files());
    let path = format!("/api/sets/{id}");
    let first = server.get(&path);
    let without = |out: &[usize]| {
        let mut recipe = first["recipe"].clone();
        recipe["excluded"] = out.iter().map(|&i| server.frame(id, i)).collect();
        let body = json!({"label": format!("without {out:?}"), "recipe": recipe});
        let (status, set) = server.json("PATCH", &format!("{path}/recipe"), Some(body));
        assert_eq!(status, 200, "{set}");
        set
    };
    let weighed = || until(|| Some(server.get(&path)).filter(|set| set["draft"] == false));
    // Changed again and again while the first is still being weighed.
    let answers = [without(&[1]), without(&[1, 2]), without(&[3])];
    assert!(answers.iter().any(|set| set["draft"] == true), "no answer waits for the consensus");
    for (set, out) in answers.iter().zip([[1, 1], [1, 2], [3, 3]]) {
        assert!(out.iter().all(|&i| set["frames"][i]["set_aside"] == true), "{set}");
        assert!(set["plate_key"].is_string() && set["run"]["state"] == "done", "{set}");
    }
    let last = weighed();
    let tile = |set: &serde_json::Value| {
        let key = set["plate_key"].as_str().unwrap();
        let (status, bytes, _) = server.call("GET", &format!("{path}/tiles/{key}/plate/0/0_0.png"), None);
        assert_eq!(status, 200);
        bytes
    };
    let shown = tile(&last);
    assert_eq!(server.json("POST", &format!("{path}/undo"), None).0, 200);
    let other = weighed();
    assert_eq!(other["frames"][3]["set_aside"], false);
    assert_ne!(other["plate_key"], last["plate_key"]);
    assert_eq!(server.json("POST", &format!("{path}/redo"), None).0, 200);
    let again = weighed();
    assert_eq!(again["plate_key"], last["plate_key"], "the last choice was the one that stood");
    assert_eq!(tile(&again), shown);
    // What was weighed before is at hand.
    let back = without(&[]);
    assert_eq!((&back["draft"], &back["plate_key"]), (&json!(false), &first["plate_key"]));
}

#[test]
fn an_act_says_what_it_follows_from_and_is_told_what_came_between() {
    let server = Server::new();
    let id = server.set_of(&files()[..2]);
    let path = format!("/api/sets/{id}");
    let seen = server.get(&path)["revision"].clone();
    let act = |label: &str, headers: &[(&str, &str)]| {
        let body = json!({"label": label, "recipe": {"method": label}}).to_string().into_bytes();
        let body = Some(("application/json".to_owned(), body));
        let (status, bytes, _) = call(&server.base, "PATCH", &format!("{path}/recipe"), body, headers);
        (status, serde_json::from_slice::<serde_json::Value>(&bytes).unwrap())
    };
    assert_eq!(act("mean", &[]).0, 428, "it must say what it follows from");
    assert_eq!(act("mean", &[("if-match", "\"no number\"")]).0, 428);
    let tag = format!("\"{seen}\"");
    assert_eq!(server.call("GET", &path, None).2["etag"].to_str().unwrap(), tag);
    let (status, set) = act("mean", &[("if-match", &tag)]);
    // Only what was named has changed.
    assert_eq!(
        (status, &set["recipe"]["method"], &set["recipe"]["canvas"]),
        (200, &json!("mean"), &json!("reference"))
    );
    let (status, told) = act("median", &[("if-match", &tag)]);
    assert_eq!(status, 412);
    assert!(told["detail"].as_str().unwrap().contains("\"mean\""), "{told}");
    for (what, method) in [("undo", "POST"), ("redo", "POST"), ("history/0", "POST")] {
        let asked =
            |headers: &[(&str, &str)]| call(&server.base, method, &format!("{path}/{what}"), None, headers).0;
        assert_eq!((asked(&[]), asked(&[("if-match", &tag)])), (428, 412), "{what}");
    }
    assert_eq!(server.get(&path)["recipe"]["method"], "mean");
}
