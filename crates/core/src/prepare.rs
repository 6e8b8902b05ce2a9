//! From recipe and sources to the plan: registration, gains, noise. Everything that needs the whole set, once.

use crate::matching;
use crate::noise::NoiseModel;
use crate::pixel::FrameSource;
use crate::plan::Plan;
use crate::progress::Watch;
use crate::recipe::Recipe;
use crate::register::{RegisterError, Registration, register};

/// Makes the plan of a set. It covers all frames, also those set aside by their owner, so that bringing one back
/// needs no new plan; it depends on the recipe's `align` and `reference` only.
///
/// # Errors
/// When a frame cannot be read or the work is cancelled.
pub fn plan(recipe: &Recipe, sources: &[&dyn FrameSource], watch: Watch<'_>) -> Result<Plan, RegisterError> {
    if sources.is_empty() {
        return Ok(Plan { reference: 0, frames: Vec::new(), noise: NoiseModel::default() });
    }
    let wanted = recipe.reference.filter(|&r| r < sources.len());
    let most = |share: f32| watch(0.85 * share);
    let Registration { reference, mut frames } = register(sources, wanted, recipe.align.models(), &most)?;
    matching::match_gains(sources, reference, &mut frames)?;
    watch(0.95)?;
    let noise = matching::measure_noise(sources, reference, &frames)?;
    watch(1.0)?;
    Ok(Plan { reference, frames, noise })
}
