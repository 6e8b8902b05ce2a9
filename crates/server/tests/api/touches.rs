//! Touches: tried, proposed, what can be seen of them, what no frame shows.

use crate::server::*;
use serde_json::{Value, json};

#[test]
fn touches_are_tried_proposed_laid_and_judged() {
    let server = Server::new();
    let id = server.set_of(&files());
    let set = |path: &str| format!("/api/sets/{id}{path}");
    let reference = server.get(&set(""))["reference"].clone();
    let outline =
        [(70.0, 60.0), (110.0, 60.0), (110.0, 100.0), (70.0, 100.0)].map(|(x, y)| json!({"x": x, "y": y}));
    let touch = |act: Value| json!({"on": reference, "outline": outline, "act": act, "feather": 2.0, "strength": 1.0, "disabled": false});
    let wanted = |touch: &Value| json!({"touch": touch, "at": null, "variants": 2});
    let invent = touch(json!({"invent": {"seed": 1, "variant": 0}}));

    let (status, told) = server.json("POST", &set("/touches/try"), Some(wanted(&invent)));
    assert_eq!(status, 200, "{told}");
    assert_eq!(told["variants"].as_array().map(Vec::len), Some(2));
    assert_eq!(server.get(&set("/touches/try"))["share"], Value::Null, "nothing is tried any more");
    let (status, plane) = server.json("POST", &set("/touches/plane"), Some(wanted(&invent)));
    assert_eq!(status, 200, "{plane}");
    assert!(plane["corners"].is_null() || plane["corners"].as_array().map(Vec::len) == Some(4), "{plane}");
    let (status, source) = server.json("POST", &set("/touches/source"), Some(wanted(&invent)));
    assert_eq!(status, 200, "{source}");
    assert!(source["meets"].is_boolean() && source["transform"]["shift"].is_array(), "{source}");
    let mut bad = invent.clone();
    bad["outline"] = json!([]);
    assert_eq!(server.json("POST", &set("/touches/try"), Some(wanted(&bad))).0, 400);
    assert_eq!(server.json("POST", "/api/sets/99/touches/try", Some(wanted(&invent))).0, 404);

    // Judged once they are laid.
    let change = |touches: Value| {
        let mut recipe = server.get(&set(""))["recipe"].clone();
        recipe["touches"] = touches;
        server.json("PATCH", &set("/recipe"), Some(json!({"label": "retouch", "recipe": recipe}))).0
    };
    assert_eq!(change(json!([invent])), 200);
    for told in server.get(&set("/touches/seen")).as_array().unwrap() {
        assert_eq!(told["touch"], 0);
        assert!(
            told["faults"]
                .as_array()
                .unwrap()
                .iter()
                .all(|f| f["words"].is_string() && f["outline"].is_array())
        );
    }
    let missing = server.get(&set("/touches/missing"));
    assert_eq!(
        (missing["outlines"].as_array().map(Vec::len), missing["share"].as_f64()),
        (Some(0), Some(0.0))
    );
    assert_eq!(change(json!([])), 200);

    // A frame that is set aside is asked too, when that is wanted.
    let mut recipe = server.get(&set(""))["recipe"].clone();
    let aside = server.frame(id, 2);
    recipe["excluded"] = json!([aside]);
    assert_eq!(
        server.json("PATCH", &set("/recipe"), Some(json!({"label": "set aside", "recipe": recipe}))).0,
        200
    );
    let asked = |aside: bool| {
        let wanted = json!({"at": outline[0], "outline": outline, "aside": aside});
        let (status, all) = server.json("POST", &set("/patches/proposals"), Some(wanted));
        assert_eq!(status, 200, "{all}");
        all.as_array().unwrap().iter().map(|p| p["frame"].clone()).collect::<Vec<_>>()
    };
    assert!(asked(true).contains(&json!(aside)) && !asked(false).contains(&json!(aside)));
}
