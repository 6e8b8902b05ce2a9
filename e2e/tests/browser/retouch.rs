//! Retouching as a person does: something that never moved is drawn around, made up in variants, mended, ordered, switched off.

use crate::stage::{apart, with_stage};

const FACT: &str = "document.querySelector('[data-testid=fact-retouch]').innerText";

#[test]
fn a_post_is_made_up_a_blotch_is_mended_and_all_of_it_is_a_thing_of_its_own() {
    with_stage(|s| async move {
        s.samples(1).await;
        s.sample("Forecourt, by hand").await;
        s.plate().await;
        s.open_line("retouch").await;
        // The lamp post on the right stands in every frame.
        let shown = s.js("const b = document.querySelector('[data-testid=picture]').getBoundingClientRect(); const k = Math.min(b.width / 1600, b.height / 1067); return [b.x + (b.width - 1600 * k) / 2, b.y + (b.height - 1067 * k) / 2, k]").await;
        let [left, top, scale] = [0, 1, 2].map(|k| shown[k].as_f64().unwrap());
        let at = |(x, y): (f64, f64)| ((left + x * scale) as i64, (top + y * scale) as i64);
        let around = [
            (1326.0, 520.0),
            (1365.0, 520.0),
            (1365.0, 632.0),
            (1361.0, 774.0),
            (1333.0, 774.0),
            (1326.0, 632.0),
        ];
        let (x, y) = at((1340.0, 690.0));
        let before = s.seen(x as u32, y as u32).await;
        s.press("Draw around it").await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(&around.map(at)).await;
        s.until("!document.querySelector('[data-testid=drawing]')").await;
        s.press("Invent").await;
        s.until("document.querySelectorAll('button[aria-label^=\"Variant \"]').length === 4").await;

        // Pointed at, a variant is shown in its place; nothing is laid yet.
        let middle = s.js("const b = document.querySelector('button[aria-label=\"Variant 2\"]').getBoundingClientRect(); return [b.x + 20, b.y + 20]").await;
        s.point(middle[0].as_f64().unwrap() as i64, middle[1].as_f64().unwrap() as i64).await;
        s.until("document.querySelector('[data-testid=variant-in-place]')").await;
        assert_eq!(s.js(&format!("return {FACT}")).await, "nothing retouched");

        // Chosen, it is laid, and said to be made up.
        s.js("document.querySelector('button[aria-label=\"Variant 2\"]').click()").await;
        s.until(&format!("/^1 touch, 0\\.\\d+ % made up$/.test({FACT})")).await;
        s.point(150, 760).await;
        s.plate().await;
        let mut after = before;
        for _ in 0..80 {
            after = s.seen(x as u32, y as u32).await;
            if apart(after, before) > 5.0 {
                break;
            }
        }
        assert!(apart(after, before) > 5.0, "the post is still there: {before:?} {after:?}");

        // Another variant of what is laid.
        s.js("document.querySelector('[data-touch=invent] button').click()").await;
        s.press("Other variants").await;
        s.until("document.querySelectorAll('button[aria-label^=\"Variant \"]').length === 4").await;
        s.js("document.querySelector('button[aria-label=\"Variant 3\"]').click()").await;
        s.until("document.querySelector('[data-touch=invent]').innerText.includes('variant 3')").await;

        // A mend on the paving, from the place that goes on best; the whole picture is shown again.
        s.press("Whole").await;
        s.js("document.querySelector('[data-touch=invent] button').click()").await;
        s.press("Draw around it").await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(
            &[(465.0, 900.0), (520.0, 892.0), (570.0, 900.0), (590.0, 960.0), (535.0, 990.0), (465.0, 970.0)]
                .map(at),
        )
        .await;
        s.until("!document.querySelector('[data-testid=drawing]')").await;
        s.press("Mend").await;
        s.until("document.querySelector('[data-touch=mend]')").await;
        s.until("document.querySelector('[data-testid=touch-shift]')").await;
        let shift = s.js("return document.querySelector('[data-testid=touch-shift]').innerText").await;
        s.js("document.querySelector('button[aria-label=\"Source to the right\"]').click()").await;
        s.until(&format!(
            "document.querySelector('[data-testid=touch-shift]').innerText !== '{}'",
            shift.as_str().unwrap()
        ))
        .await;

        // Ordered, switched off, and all there after coming back.
        s.press("Lay it under").await;
        s.until("document.querySelector('ol [data-touch]').dataset.touch === 'mend'").await;
        s.press("Switch off").await;
        s.until("document.querySelector('[data-touch=mend]').dataset.off === 'true'").await;
        s.page.refresh().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-retouch]')").await;
        s.until(&format!("/^2 touches, /.test({FACT})")).await;
        s.undo().await;
        s.open_line("retouch").await;
        s.until("document.querySelector('[data-touch=mend]').dataset.off === 'false'").await;
        s.js("document.querySelector('[data-touch=mend] button').click()").await;
        s.press("Take it back").await;
        s.until(&format!("/^1 touch, /.test({FACT})")).await;
    });
}
