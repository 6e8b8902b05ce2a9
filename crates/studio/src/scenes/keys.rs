//! The names of what is derived: each is made of what it depends on, so that a name never changes its meaning.
//!
//! What depends on which fields of a recipe is decided in [`evanu_core::recipe::inputs`]; here these views are joined along the way
//! from frames to pixels. Recipes are by index here, and the frames' contents enter with the alignment: the same frames give the
//! same names in whatever set they are.

use crate::error::StudioError;
use crate::sets::FrameRow;
use evanu_core::recipe::{FrameId, Inputs, Patch, Recipe, Touch};
use serde::Serialize;

/// The names of an opened set's derived values.
pub(crate) struct Keys {
    /// Of its decision of the consensus.
    pub decision: String,
    /// Changes whenever what patches are fitted to does.
    pub patched: String,
    /// Changes whenever aligned samples do; the look lies on top of them.
    pub samples: String,
    /// Changes whenever frames look otherwise.
    pub frames: String,
    /// Changes whenever the plate without patches does.
    pub bare: String,
    /// Changes whenever the plate does.
    pub plate: String,
}

/// Sixteen digits of a hash.
fn hash(text: &str) -> String {
    blake3::hash(text.as_bytes()).to_hex()[..16].to_owned()
}

/// The name of the alignment of these frames, with their tone and noise.
pub(crate) fn plan_key(frames: &[FrameRow], stored: &Recipe<FrameId>) -> String {
    let ids: Vec<FrameId> = frames.iter().map(|f| f.id).collect();
    let recipe = stored.at_hand(&ids);
    let mut hasher = blake3::Hasher::new();
    for frame in frames {
        hasher.update(frame.hash.as_bytes());
        if frame.position > 0 {
            hasher.update(&frame.position.to_le_bytes());
        }
    }
    hasher.update(format!("plan 3 {}", Inputs::of(&recipe).alignment).as_bytes());
    hasher.finalize().to_hex()[..16].to_owned()
}

impl Keys {
    /// Those of a recipe over frames that were aligned under a key.
    pub(crate) fn of(alignment: &str, recipe: &Recipe) -> Result<Self, StudioError> {
        let Inputs { alignment: _, placement, decision, samples, plate, look, patches, touches } =
            Inputs::of(recipe);
        let placed = format!("{alignment} {}", text(&placement)?);
        let decided = format!("{placed} {}", text(&decision)?);
        let sampled = hash(&format!("{placed} {}", text(&samples)?));
        let shown = hash(&format!("{sampled} {}", text(&look)?));
        // What the consensus decides from is part of the plate by any method: it says which frames take part.
        let bare = hash(&format!("{shown} {} {}", text(&decision)?, text(&plate)?));
        Ok(Self {
            patched: hash(&format!("{decided} {}", text(&plate)?)),
            decision: hash(&decided),
            plate: plate_key(&bare, patches, touches)?,
            samples: sampled,
            frames: shown,
            bare,
        })
    }
}

/// Of the plate with what lies over it; without touches as programs named it that knew none.
fn plate_key(bare: &str, patches: &[Patch], touches: &[Touch]) -> Result<String, StudioError> {
    let touches =
        if touches.is_empty() { String::new() } else { format!(" {}", serde_json::to_string(touches)?) };
    Ok(hash(&format!("{bare} {}{touches}", serde_json::to_string(patches)?)))
}

/// A view as text.
fn text(view: &impl Serialize) -> Result<String, StudioError> {
    Ok(serde_json::to_string(view)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use evanu_core::combine::Method;
    use evanu_core::develop::Develop;
    use evanu_core::geometry::{Point, Rect};
    use evanu_core::recipe::{
        Align, Area, Canvas, ClipRepair, Guide, ManualAlignment, Matching, Protected, Settled, Source,
    };

    fn frames() -> Vec<FrameRow> {
        let row = |k: i64| FrameRow {
            row: k,
            id: FrameId(40 + k),
            index: Some(k as usize),
            name: String::new(),
            hash: format!("{k}"),
            position: 0,
            state: crate::FrameState::Ready,
            reason: None,
            width: 300,
            height: 200,
            camera: evanu_media::CameraData::default(),
            source: None,
            bytes: 0,
            begun: 0,
            changed: false,
        };
        (0..3).map(row).collect()
    }

    fn keys(recipe: &Recipe<FrameId>) -> [String; 7] {
        let frames = frames();
        let ids: Vec<FrameId> = frames.iter().map(|f| f.id).collect();
        let plan = plan_key(&frames, recipe);
        let Keys { decision, patched, samples, frames, bare, plate } =
            Keys::of(&plan, &recipe.at_hand(&ids)).unwrap();
        [plan, decision, samples, frames, patched, bare, plate]
    }

    /// Which keys each field of a recipe enters, from the alignment on: plan, decision, samples, frames, patched, bare, plate.
    #[test]
    fn each_field_enters_the_keys_of_what_depends_on_it_and_no_others() {
        let base: Recipe<FrameId> = Recipe::new();
        let first = keys(&base);
        let outline: Vec<Point> = [(0.0, 0.0), (9.0, 0.0), (9.0, 9.0)].map(|(x, y)| Point::new(x, y)).into();
        let on = FrameId(41);
        let manual = ManualAlignment {
            frame: on,
            on: FrameId(40),
            pairs: Vec::new(),
            shift: [1.0, 0.0],
            turn: 0.0,
            scale: 1.0,
            snap: false,
        };
        let area = Area { on, guide: Guide::Ignore, outline: outline.clone() };
        let protected = Protected { on, outline: outline.clone() };
        let settled = Settled { bbox: Rect::new(1, 2, 3, 4), frame: Some(on), open: false };
        let touch = Touch::new(on, outline.clone(), evanu_core::recipe::Act::Invent { seed: 1, variant: 0 });
        let patch = Patch::new(on, outline, Source::Frame(FrameId(42)));
        let r = || base.clone();
        let cases = [
            ("align", Recipe { align: Align::Shift, ..r() }, "1111111"),
            ("reference", Recipe { reference: Some(on), ..r() }, "1111111"),
            ("areas", Recipe { areas: vec![area], ..r() }, "1111111"),
            ("manual_alignments", Recipe { manual_alignments: vec![manual], ..r() }, "0111111"),
            ("match_exposure", Recipe { match_exposure: Matching::Off, ..r() }, "0111111"),
            ("excluded", Recipe { excluded: [on].into(), ..r() }, "0100111"),
            ("canvas", Recipe { canvas: Canvas::Common, ..r() }, "0011011"),
            ("develop", Recipe { develop: Develop { tint: 0.1, ..Develop::default() }, ..r() }, "0001011"),
            ("method", Recipe { method: Method::Mean, ..r() }, "0000111"),
            ("settled", Recipe { settled: vec![settled], ..r() }, "0000111"),
            ("protected", Recipe { protected: vec![protected], ..r() }, "0000111"),
            ("patches", Recipe { patches: vec![patch], ..r() }, "0000001"),
            ("touches", Recipe { touches: vec![touch], ..r() }, "0000001"),
            // The plate does not follow from what is done in its clip.
            (
                "clip",
                Recipe { clip: ClipRepair { from: Some(1.0), ..ClipRepair::default() }, ..r() },
                "0000000",
            ),
        ];
        let fields = serde_json::to_value(&base).unwrap();
        let mut left: Vec<&String> = fields.as_object().unwrap().keys().filter(|k| *k != "version").collect();
        for (field, recipe, wanted) in &cases {
            let told: String =
                keys(recipe).iter().zip(&first).map(|(a, b)| if a == b { '0' } else { '1' }).collect();
            assert_eq!((*field, told.as_str()), (*field, *wanted));
            left.retain(|k| k != field);
        }
        assert!(left.is_empty(), "nobody has said whose keys these enter: {left:?}");
        // In the common area, which follows the frames in use, their samples change with them.
        let common = Recipe { canvas: Canvas::Common, ..r() };
        let fewer = Recipe { excluded: [on].into(), ..common.clone() };
        assert_ne!(keys(&common)[2], keys(&fewer)[2]);
        // Where more than the reference is shown, more is decided on.
        let whole = keys(&Recipe { canvas: Canvas::Whole, ..r() });
        assert_eq!(
            (0..7).map(|k| whole[k] != first[k]).collect::<Vec<_>>(),
            [false, true, true, true, true, true, true]
        );
    }

    #[test]
    fn plans_of_older_programs_are_found_by_the_same_name() {
        // Written by the program that named frames by their place.
        let mut hasher = blake3::Hasher::new();
        for frame in frames() {
            hasher.update(frame.hash.as_bytes());
        }
        hasher.update(b"plan 3 Auto Some(1) []");
        let recipe = Recipe { reference: Some(FrameId(41)), ..Recipe::new() };
        assert_eq!(plan_key(&frames(), &recipe), hasher.finalize().to_hex()[..16]);
    }
}
