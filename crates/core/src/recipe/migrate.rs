//! Recipes as they are stored: the versions there have been, and the way from each to the one that this program writes.
//!
//! A version changes whenever an older program would misread a newer recipe. Each step leads from one version to the next, on
//! JSON; a stored example of each version is in the tests. What a program does not know it refuses, with words, and never
//! reads half of it.
//!
//! ```
//! use evanu_core::recipe::{FrameId, Recipe, RecipeError, migrate};
//!
//! let stored = serde_json::to_string(&Recipe::<FrameId>::new()).expect("a recipe is plain data");
//! assert_eq!(migrate::read(&stored, &[]), Ok(Recipe::new()));
//! assert_eq!(migrate::read(r#"{"version":99}"#, &[]), Err(RecipeError::Newer(99)));
//! assert!(matches!(migrate::read("{", &[]), Err(RecipeError::Damaged(_))));
//! ```

use super::{ClipRepair, FrameId, Recipe, VERSION};
use serde_json::{Map, Value, json};

/// Why a stored recipe cannot be read.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum RecipeError {
    /// It was written by a newer program.
    #[error(
        "the recipe is of version {0} and this Evanu knows versions up to {VERSION}: open it with the newest Evanu"
    )]
    Newer(u64),
    /// It is no recipe, or a damaged one.
    #[error("the recipe cannot be read ({0}): it is damaged, or not made by Evanu")]
    Damaged(String),
}

/// Reads a stored recipe of this or an earlier version. Version 1 named frames by their place: `frames` are the identities by
/// place; what rests on a place that is not there is left out.
///
/// # Errors
/// When it is of a newer version, holds something unknown, or is damaged.
pub fn read(text: &str, frames: &[FrameId]) -> Result<Recipe<FrameId>, RecipeError> {
    let damaged = |e: serde_json::Error| RecipeError::Damaged(e.to_string());
    let mut stored: Value = serde_json::from_str(text).map_err(damaged)?;
    let version = stored.get("version").and_then(Value::as_u64);
    match version.ok_or_else(|| RecipeError::Damaged("it says no version".into()))? {
        0 => return Err(RecipeError::Damaged("there is no version 0".into())),
        1 => stored = from_3(from_2(from_1(stored, frames)?)),
        2 => stored = from_3(from_2(stored)),
        3 => stored = from_3(stored),
        v if v == u64::from(VERSION) => {}
        v => return Err(RecipeError::Newer(v)),
    }
    serde_json::from_value(stored).map_err(damaged)
}

/// Version 2 knew no touches.
fn from_2(mut stored: Value) -> Value {
    if let Value::Object(fields) = &mut stored {
        fields.insert("version".into(), json!(3));
        fields.entry("touches").or_insert_with(|| json!([]));
    }
    stored
}

/// Version 3 knew nothing of clips.
fn from_3(mut stored: Value) -> Value {
    if let Value::Object(fields) = &mut stored {
        fields.insert("version".into(), json!(VERSION));
        fields.entry("clip").or_insert_with(|| json!(ClipRepair::default()));
    }
    stored
}

/// Version 1 named frames by their place in the set and parts by other words; absent fields had a meaning.
fn from_1(stored: Value, frames: &[FrameId]) -> Result<Value, RecipeError> {
    let Value::Object(old) = stored else { return Err(RecipeError::Damaged("it is no object".into())) };
    let id = |place: &Value| {
        let place = place.as_u64().ok_or_else(|| RecipeError::Damaged("a frame has no place".into()))?;
        Ok(frames.get(place as usize).map(|f| json!(f.0)))
    };
    // Names of frames in an object; false when one of them has none.
    let named = |part: &mut Map<String, Value>, fields: &[&str]| -> Result<bool, RecipeError> {
        for field in fields {
            if let Some(place) = part.get_mut(*field).filter(|v| !v.is_null()) {
                match id(place)? {
                    Some(id) => *place = id,
                    None => return Ok(false),
                }
            }
        }
        Ok(true)
    };
    let renamed = |part: &mut Map<String, Value>, names: &[(&str, &str)]| {
        for (from, to) in names {
            if let Some(value) = part.remove(*from) {
                part.insert((*to).to_owned(), value);
            }
        }
    };
    let list = |field: &str, fields: &[&str]| -> Result<Vec<Map<String, Value>>, RecipeError> {
        let all = match old.get(field) {
            None => return Ok(Vec::new()),
            Some(Value::Array(all)) => all,
            Some(_) => return Err(RecipeError::Damaged(format!("\"{field}\" is no list"))),
        };
        let mut out = Vec::new();
        for part in all {
            let Value::Object(part) = part else {
                return Err(RecipeError::Damaged(format!("\"{field}\" holds something else than objects")));
            };
            let mut part = part.clone();
            if named(&mut part, fields)? {
                out.push(part);
            }
        }
        Ok(out)
    };
    let mut patches = Vec::new();
    for mut patch in list("lifts", &["on"])? {
        if let Some(Value::Object(source)) = patch.get_mut("source") {
            renamed(source, &[("calm", "highlight_suppressed")]);
            if !named(source, &["frame", "highlight_suppressed"])? {
                continue;
            }
        }
        renamed(
            &mut patch,
            &[
                ("soft", "feather"),
                ("follow", "snap_to_edges"),
                ("seek", "optimal_seam"),
                ("trim", "exclude_introduced"),
                ("place", "transform"),
                ("less", "exclusions"),
                ("off", "disabled"),
            ],
        );
        patches.push(patch);
    }
    let mut excluded = Vec::new();
    let used = old.get("used").and_then(Value::as_array);
    for (place, used) in used.into_iter().flatten().enumerate() {
        match (used.as_bool(), frames.get(place)) {
            (Some(false), Some(frame)) => excluded.push(frame.0),
            (None, _) => {
                return Err(RecipeError::Damaged("\"used\" holds something else than yes and no".into()));
            }
            _ => {}
        }
    }
    let reference = match old.get("reference").filter(|r| !r.is_null()) {
        Some(place) => id(place)?.unwrap_or(Value::Null),
        None => Value::Null,
    };
    // It was a yes or no at first.
    let match_exposure = match old.get("match_exposure") {
        Some(Value::Bool(true)) => json!("auto"),
        Some(Value::Bool(false)) => json!("off"),
        other => other.cloned().unwrap_or(Value::Null),
    };
    let kept = |field: &str, absent: Value| old.get(field).cloned().unwrap_or(absent);
    let known = [
        "version",
        "used",
        "align",
        "reference",
        "match_exposure",
        "develop",
        "areas",
        "hands",
        "settled",
        "lifts",
        "keeps",
        "method",
        "canvas",
    ];
    if let Some(other) = old.keys().find(|k| !known.contains(&k.as_str())) {
        return Err(RecipeError::Damaged(format!("\"{other}\" is unknown")));
    }
    Ok(json!({
        "version": 2,
        "excluded": excluded,
        "align": kept("align", Value::Null),
        "reference": reference,
        "match_exposure": match_exposure,
        "develop": kept("develop", json!({})),
        "areas": list("areas", &["on"])?,
        "manual_alignments": list("hands", &["frame", "on"])?,
        "settled": list("settled", &["frame"])?,
        "patches": patches,
        "protected": list("keeps", &["on"])?,
        "method": kept("method", Value::Null),
        "canvas": kept("canvas", Value::Null),
    }))
}

#[cfg(test)]
mod tests {
    use super::super::{Act, Align, Canvas, Matching, Only, Shown, Source};
    use super::*;
    use crate::combine::Method;
    use crate::geometry::{Point, Rect};

    const FIRST: &str = include_str!("examples/recipe-1-first.json");
    const ONE: &str = include_str!("examples/recipe-1.json");
    const TWO: &str = include_str!("examples/recipe-2.json");
    const THREE: &str = include_str!("examples/recipe-3.json");
    const FOUR: &str = include_str!("examples/recipe-4.json");
    const FRAMES: [FrameId; 3] = [FrameId(40), FrameId(41), FrameId(43)];

    #[test]
    fn the_very_first_recipe_is_still_read() {
        let recipe = read(FIRST, &FRAMES[..2]).unwrap();
        let expected = Recipe {
            excluded: [FrameId(41)].into(),
            match_exposure: Matching::Off,
            method: Method::Median,
            ..Recipe::new()
        };
        assert_eq!(recipe, expected);
    }

    #[test]
    fn a_whole_recipe_of_version_1_means_the_same_by_the_frames_identities() {
        let recipe = read(ONE, &FRAMES).unwrap();
        assert_eq!((recipe.align, recipe.canvas), (Align::Auto, Canvas::Common));
        assert_eq!(recipe.match_exposure, Matching::Auto);
        assert_eq!(recipe.excluded, [FrameId(41)].into());
        assert_eq!(recipe.reference, Some(FrameId(43)));
        assert_eq!(recipe.areas[0].on, FrameId(40));
        let manual = &recipe.manual_alignments[0];
        assert_eq!((manual.frame, manual.on, manual.shift), (FrameId(41), FrameId(43), [0.5, -1.0]));
        assert_eq!(
            (recipe.settled[0].bbox, recipe.settled[0].frame),
            (Rect::new(3, 4, 5, 6), Some(FrameId(40)))
        );
        let sources: Vec<_> = recipe.patches.iter().map(|p| p.source).collect();
        assert_eq!(
            sources,
            [
                Source::Frame(FrameId(41)),
                Source::HighlightSuppressed(FrameId(40)),
                Source::Method(Method::Median)
            ]
        );
        let first = &recipe.patches[0];
        assert_eq!((first.on, first.feather, first.strength), (FrameId(43), 4.5, 0.5));
        assert!(first.snap_to_edges && first.optimal_seam && first.exclude_introduced);
        assert!(first.disabled && !first.tone && first.grain);
        assert_eq!(first.transform.unwrap().shift, [1.5, 2.0]);
        assert_eq!(first.exclusions[0][1], Point::new(3.5, 4.0));
        assert_eq!(recipe.protected[0].on, FrameId(43));
        // What rests on a frame that is not there is left out, nothing else.
        let fewer = read(ONE, &FRAMES[..2]).unwrap();
        assert_eq!(fewer.reference, None);
        assert_eq!((fewer.patches.len(), fewer.protected.len(), fewer.settled.len()), (1, 0, 1));
    }

    #[test]
    fn the_stored_example_of_this_version_is_what_is_written() {
        let recipe = read(FOUR, &[]).unwrap();
        let before = read(TWO, &[]).unwrap();
        assert_eq!(before, read(ONE, &FRAMES).unwrap(), "the examples are the same recipe");
        assert_eq!(Recipe { touches: Vec::new(), clip: ClipRepair::default(), ..recipe.clone() }, before);
        assert_eq!(Recipe { clip: ClipRepair::default(), ..recipe.clone() }, read(THREE, &[]).unwrap());
        assert_eq!((recipe.clip.held[1].later, recipe.clip.from), (Some(-2.5), Some(1.5)));
        assert!(recipe.clip.strokes[0].front && recipe.clip.to.is_none());
        let Act::Mend { transform, only } = recipe.touches[1].act else { panic!("{:?}", recipe.touches[1]) };
        assert_eq!((transform.shift, only), ([40.0, -2.5], Only::Darken));
        assert_eq!(recipe.touches[1].shown, Shown::Frame(FrameId(41)));
        assert!(recipe.touches[1].plane.is_some() && recipe.touches.iter().any(|t| !t.parts.is_empty()));
        let written = serde_json::to_value(&recipe).unwrap();
        assert_eq!(written, serde_json::from_str::<Value>(FOUR).unwrap());
    }

    #[test]
    fn what_is_newer_unknown_or_damaged_is_refused_with_words() {
        let with = |from: &str, to: &str| read(&FOUR.replacen(from, to, 1), &[]);
        assert_eq!(with("\"version\": 4", "\"version\": 5"), Err(RecipeError::Newer(5)));
        for (from, to, word) in [
            ("\"canvas\"", "\"sphere\": true, \"canvas\"", "sphere"),
            ("\"grain\"", "\"glow\": 1, \"grain\"", "glow"),
            ("\"version\": 4", "\"version\": \"four\"", "no version"),
            ("\"median\"", "\"best\"", "there is no method"),
        ] {
            let told = with(from, to).unwrap_err().to_string();
            assert!(told.contains(word), "{told}");
        }
        let told = read(&ONE.replacen("\"canvas\"", "\"glow\": 1, \"canvas\"", 1), &FRAMES).unwrap_err();
        assert!(told.to_string().contains("glow"), "{told}");
        assert!(read("[]", &[]).is_err() && read("", &[]).is_err());
    }
}
