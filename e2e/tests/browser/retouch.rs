//! Retouching as a person does: something that never moved is drawn around, made up in variants, mended, ordered, switched off.

use crate::stage::{Stage, apart, with_stage};

const FACT: &str = "document.querySelector('[data-testid=fact-retouch]').innerText";
const FOUR: &str = "document.querySelectorAll('button[aria-label^=\"Variant \"]').length === 4";

/// Opens the forecourt at Retouch, and tells where its pixels lie on the page while all of it is shown.
async fn forecourt(s: &Stage) -> impl Fn((f64, f64)) -> (i64, i64) + Copy + use<> {
    s.samples(1).await;
    s.sample("Forecourt, by hand").await;
    s.plate().await;
    s.open_line("retouch").await;
    let shown = s.js("const b = document.querySelector('[data-testid=picture]').getBoundingClientRect(); const k = Math.min(b.width / 1600, b.height / 1067); return [b.x + (b.width - 1600 * k) / 2, b.y + (b.height - 1067 * k) / 2, k]").await;
    let [left, top, scale] = [0, 1, 2].map(|k| shown[k].as_f64().unwrap());
    move |(x, y)| ((left + x * scale) as i64, (top + y * scale) as i64)
}

/// Draws with the pointer while what takes it is there.
async fn draw(s: &Stage, what: &str, places: &[(i64, i64)]) {
    s.until(&format!("document.querySelector('[data-testid={what}]')")).await;
    s.drag(places).await;
}

#[test]
fn a_post_is_made_up_a_blotch_is_mended_and_all_of_it_is_a_thing_of_its_own() {
    with_stage(|s| async move {
        let at = forecourt(&s).await;
        // The lamp post on the right stands in every frame.
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
        s.press("Loop").await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(&around.map(at)).await;
        s.until("!document.querySelector('[data-testid=drawing]')").await;
        s.until("document.querySelector('[data-testid=no-evidence]')").await;
        s.press("Invent").await;
        s.until(FOUR).await;

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
        s.press("Loop").await;
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

#[test]
fn parts_of_variants_are_combined_and_paving_is_made_up_in_its_plane() {
    with_stage(|s| async move {
        let at = forecourt(&s).await;
        s.press("Loop").await;
        let paving = [
            (540.0, 905.0),
            (640.0, 880.0),
            (745.0, 905.0),
            (760.0, 990.0),
            (640.0, 1025.0),
            (535.0, 990.0),
            (538.0, 920.0),
        ];
        draw(&s, "drawing", &paving.map(at)).await;
        s.until("document.querySelector('[data-testid=no-evidence]')").await;
        s.press("Invent").await;
        s.until(FOUR).await;
        let first = "document.querySelector('button[aria-label=\"Variant 1\"] img').src";
        let flat = s.js(&format!("return {first}")).await;
        // The joints around it tell of no plane here: two lines are asked for that run side by side in the world.
        s.press("In a plane").await;
        s.until("document.body.innerText.includes('The edges around it run in no two ways')").await;
        draw(&s, "plane-lines", &[at((290.0, 1040.0)), at((465.0, 800.0))]).await;
        s.drag(&[at((1160.0, 1040.0)), at((950.0, 800.0))]).await;
        s.until("document.querySelector('[data-testid=plane]')").await;
        s.until(&format!("{FOUR} && {first} !== '{}'", flat.as_str().unwrap())).await;
        s.js("document.querySelector('button[aria-label=\"Variant 1\"]').click()").await;
        s.until(&format!("/^1 touch, /.test({FACT})")).await;
        // Its right half from another variant.
        s.js("document.querySelector('button[aria-label=\"A part of variant 2\"]').click()").await;
        let right = [
            (650.0, 870.0),
            (780.0, 870.0),
            (790.0, 1040.0),
            (650.0, 1040.0),
            (645.0, 960.0),
            (648.0, 900.0),
        ];
        draw(&s, "drawing", &right.map(at)).await;
        s.until("document.querySelector('[data-touch=invent]').innerText.includes('variant 1 and 2')").await;
        // Without taking from a place it is tried anew; what was drawn together is no more.
        s.press("Not from here").await;
        let beside = [
            (800.0, 880.0),
            (1000.0, 880.0),
            (1000.0, 1040.0),
            (800.0, 1040.0),
            (795.0, 960.0),
            (798.0, 900.0),
        ];
        draw(&s, "drawing", &beside.map(at)).await;
        s.until("!document.querySelector('[data-touch=invent]').innerText.includes('and 2')").await;
        s.until(FOUR).await;
        s.press("Done").await;
        s.until("document.querySelector('section[aria-label=\"What can still be seen\"]').innerText.match(/seen by its border|can still be seen/)").await;
        s.press("In turns with before").await;
        s.until("document.querySelector('[data-testid=picture]').innerText.match(/without|Plate/i)").await;
        s.press("In turns with before").await;
        // What is made up goes with the file as a mask.
        s.open_line("export").await;
        let mask = s
            .js("const a = document.querySelector('[data-testid=made-up] a'); const r = new XMLHttpRequest(); r.open('GET', a.href, false); r.send(); return [a.parentElement.innerText, r.status, r.getResponseHeader('Content-Type')]")
            .await;
        assert!(mask[0].as_str().unwrap().contains("% of the plate is made up"), "{mask}");
        assert_eq!((mask[1].as_i64(), mask[2].as_str()), (Some(200), Some("image/png")));
    });
}

#[test]
fn a_brush_shows_its_source_and_lays_it_and_never_takes_what_is_to_go() {
    with_stage(|s| async move {
        let at = forecourt(&s).await;
        s.press("Copy by brush").await;
        // The sign is covered with the wall and the paving to its left.
        let (wall, sign) = (at((345.0, 800.0)), at((385.0, 740.0)));
        let source = at((285.0, 740.0));
        let before = s.seen(sign.0 as u32, sign.1 as u32).await;
        draw(&s, "copy-brush", &[source, wall, sign]).await;
        s.until("document.querySelector('section[aria-label=\"Copying brush\"] input[aria-label=\"Turn in degrees\"]')").await;
        s.point(sign.0, sign.1).await;
        s.until("document.querySelector('[data-testid=source-words]')?.innerText === '-100, 0 px'").await;
        // A letter turns it, and the number says so; the next source begins without.
        s.tap('j').await;
        s.until("document.querySelector('[data-testid=source-words]').innerText.includes('1°')").await;
        s.press("Another source").await;
        s.drag(&[source, wall, sign]).await;
        s.point(sign.0 + 1, sign.1).await;
        s.until("document.querySelector('[data-testid=source-words]') && !document.querySelector('[data-testid=source-words]').innerText.includes('°')").await;
        s.drag(&[sign, at((385.0, 770.0)), at((384.0, 800.0))]).await;
        s.until("document.querySelector('[data-touch=copy]')").await;
        s.plate().await;
        s.tap('w').await;
        let mut after = before;
        for _ in 0..80 {
            after = s.seen(sign.0 as u32, sign.1 as u32).await;
            if apart(after, before) > 5.0 {
                break;
            }
        }
        assert!(apart(after, before) > 5.0, "nothing was laid: {before:?} {after:?}");
        // A stroke towards its own source stops, and says why.
        s.drag(&[at((400.0, 900.0)), at((360.0, 900.0)), at((320.0, 900.0)), at((260.0, 900.0))]).await;
        s.until("document.body.innerText.includes('The source would run into what is to go')").await;
        s.until(&format!("/^2 touches, /.test({FACT})")).await;
        let reach = s.js("return document.querySelectorAll('[data-touch=copy]')[1].innerText").await;
        assert!(!reach.as_str().unwrap().contains("140 ×"), "it went on: {reach}");
        s.undo().await;
        s.undo().await;
        s.until(&format!("{FACT} === 'nothing retouched'")).await;
    });
}

#[test]
fn corners_that_no_frame_shows_are_filled_and_a_source_is_held_by_hand() {
    with_stage(|s| async move {
        let at = forecourt(&s).await;
        // More than the reference shows: its corners are empty.
        s.press("Show all of it").await;
        let missing = "document.querySelector('section[aria-label=\"What no frame shows\"]')";
        s.until(&format!("/\\d+ places along the border no frame shows/.test({missing}?.innerText)")).await;
        // One of them is looked at, and is the area that is acted on.
        s.js("document.querySelector('button[aria-label=\"Empty place 1\"]').click()").await;
        s.until("[...document.querySelectorAll('button')].some(b => b.innerText === 'Invent')").await;
        s.tap('\u{e00c}').await;
        s.press("Whole").await;
        s.press("Fill them all").await;
        s.until(&format!("/^\\d+ touches, .* made up$/.test({FACT})")).await;
        s.until(&format!("!{missing}")).await;
        s.until("document.querySelectorAll('[data-touch=invent]').length > 2").await;
        s.undo().await;
        s.undo().await;
        s.until(&format!("{FACT} === 'nothing retouched'")).await;
        s.plate().await;

        // A copy's source by its two grips.
        s.press("Loop").await;
        let paving =
            [(465.0, 900.0), (520.0, 892.0), (570.0, 900.0), (590.0, 960.0), (535.0, 990.0), (465.0, 970.0)];
        draw(&s, "drawing", &paving.map(at)).await;
        s.until("document.querySelector('[data-testid=no-evidence]')").await;
        s.press("Copy").await;
        s.until("document.querySelector('[data-testid=source-end]')").await;
        let grip = |name: &'static str| {
            format!(
                "const b = document.querySelector('[data-testid={name}]').getBoundingClientRect(); return [b.x + b.width / 2, b.y + b.height / 2]"
            )
        };
        let middle = s.js(&grip("source-middle")).await;
        let end = s.js(&grip("source-end")).await;
        let place = |v: &serde_json::Value| (v[0].as_f64().unwrap() as i64, v[1].as_f64().unwrap() as i64);
        let (m, e) = (place(&middle), place(&end));
        // A quarter of the way around, as far out.
        s.drag(&[e, (e.0 - 2, e.1 - 20), (m.0, m.1 - (e.0 - m.0))]).await;
        let turn = "Number(document.querySelector('input[aria-label=\"Turn in degrees\"]').value)";
        s.until(&format!("Math.abs({turn} - 90) < 4")).await;
        let shift = "document.querySelector('[data-testid=touch-shift]').innerText";
        let before = s.js(&format!("return {shift}")).await;
        s.drag(&[m, (m.0 + 12, m.1 - 8), (m.0 + 24, m.1 - 16)]).await;
        s.until(&format!("{shift} !== '{}'", before.as_str().unwrap())).await;
    });
}
