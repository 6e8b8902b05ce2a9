//! Taking from the frame that is shown, moving, keeping, and a history that branches and survives a reload.

use crate::stage::{busy_place, with_stage};
use fantoccini::key::Key;

const FACT: &str = "document.querySelector('[data-testid=fact-lifts]').innerText";
const STATES: &str = "document.querySelectorAll('ol[aria-label=History] li')";

/// A loop around a place of the page.
fn around((x, y): (i64, i64)) -> Vec<(i64, i64)> {
    [(-30, -40), (0, -55), (30, -40), (40, 0), (30, 40), (0, 50), (-30, 40), (-40, 0)]
        .map(|(dx, dy)| (x + dx, y + dy))
        .to_vec()
}

#[test]
fn a_place_is_taken_from_the_shown_frame_moved_and_every_state_can_be_returned_to() {
    with_stage(|s| async move {
        s.bring_in(5).await;
        let (x, y) = busy_place(&s).await;
        let at = (i64::from(x) + 6, i64::from(y) + 6);
        // With a frame shown, a loop takes from it at once; it says so before.
        s.tap('2').await;
        s.until("document.querySelector('select[aria-label=Shown]').selectedOptions[0].text === 'Frame 2'")
            .await;
        s.tap('l').await;
        s.until("document.querySelector('[data-testid=drawing]')?.innerText.includes('take from frame 2')")
            .await;
        s.drag(&around(at)).await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        s.open_line("lifts").await;
        s.js("document.querySelector('[data-lift=\"0\"] button').click()").await;
        s.until("document.querySelector('[data-testid=lift-told]')?.innerText.startsWith('It ')").await;

        // Moved by arrow keys: several nudges are one state.
        s.press("Move by arrow keys").await;
        for _ in 0..3 {
            s.tap(char::from(Key::Right)).await;
        }
        s.until("document.querySelector('[data-testid=lift-shift]').innerText === '3.0, 0.0 px'").await;
        // Over what it covers while it is fitted; the next nudge needs no click between.
        s.js("const as = document.querySelector('select[aria-label=\"Look at it as\"]'); as.focus(); as.value = 'through'; as.dispatchEvent(new Event('change', { bubbles: true }))").await;
        s.until("document.querySelector('[data-testid=picture]').innerText.includes('Nothing taken by hand, see-through')").await;
        s.tap(char::from(Key::Right)).await;
        s.until("document.querySelector('[data-testid=lift-shift]').innerText === '4.0, 0.0 px'").await;
        s.open_line("history").await;
        s.until("!document.querySelector('[data-testid=picture]').innerText.includes('see-through')").await;
        s.until(&format!("{STATES}.length === 3 && {STATES}[0].innerText.includes('move a lift')")).await;

        // Back to the beginning; what is done there begins a branch, and the other one stays.
        s.js(&format!("{STATES}[2].querySelector('button').click()")).await;
        s.until(&format!("{FACT} === 'nothing taken by hand'")).await;
        s.open_line("lifts").await;
        s.press("Keep an area").await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(&around(at)).await;
        s.until("document.body.innerText.includes('Kept area 1')").await;
        s.open_line("history").await;
        s.until(&format!("{STATES}.length === 4")).await;
        s.until("document.body.innerText.includes('2 states on other branches')").await;

        // A state of the other branch beside the plate; both take turns.
        s.js(&format!("{STATES}[1].querySelector('button[aria-pressed]').click()")).await;
        s.until("document.querySelector('[data-testid=divider]')").await;
        s.until("document.querySelector('[data-testid=picture]').innerText.includes('Then: move a lift')")
            .await;
        s.tap('e').await;
        s.until("!document.querySelector('[data-testid=divider]')").await;
        s.tap('e').await;
        s.tap(char::from(Key::Escape)).await;

        // All of it is there after a reload, and the branch can be returned to.
        s.page.refresh().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-lifts]')").await;
        s.open_line("history").await;
        s.until(&format!("{STATES}.length === 4")).await;
        s.js(&format!("{STATES}[1].querySelector('button').click()")).await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        s.undo().await;
        s.undo().await;
        s.until(&format!("{FACT} === 'nothing taken by hand'")).await;
    });
}

const COMPLETE: &str = "document.querySelector('[data-complete]').dataset.complete";

#[test]
fn a_brush_takes_as_a_loop_does_and_its_ring_has_the_true_size() {
    with_stage(|s| async move {
        s.bring_in(4).await;
        let (x, y) = busy_place(&s).await;
        let (x, y) = (i64::from(x) + 6, i64::from(y) + 6);
        s.tap('g').await;
        s.until(
            "document.querySelector('[data-testid=drawing]')?.innerText.includes('Brush over the place')",
        )
        .await;
        s.point(x, y).await;
        s.until("document.querySelector('[data-testid=ring] circle')").await;
        let width = "document.querySelector('[data-testid=ring] circle').getBoundingClientRect().width";
        let before = s.js(&format!("return {width}")).await.as_f64().unwrap();
        assert!((before - 48.0).abs() < 5.0, "{before}");
        s.tap('+').await;
        s.until(&format!("{width} > {}", before + 2.0)).await;
        s.drag(&[(x - 20, y - 10), (x, y), (x + 20, y + 10), (x + 30, y + 30)]).await;
        s.until("document.querySelector('[data-testid=crops] [data-agrees=true], [data-testid=crops] [data-agrees=false]')").await;
        let before = s.js(&format!("return {COMPLETE}")).await;
        s.tap('1').await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        // The picture is put together from what was there and what changed; loaded anew it is the same.
        s.until(&format!("{COMPLETE} !== '{}'", before.as_str().unwrap())).await;
        let parts =
            "return performance.getEntriesByType('resource').filter(e => e.name.includes('?part=')).length";
        assert!(s.js(parts).await.as_u64() > Some(0), "no tile was asked for in part");
        let seen = s.drawn().await;
        s.page.refresh().await.unwrap();
        s.plate().await;
        assert!(s.drawn().await == seen, "the picture is another when it is loaded anew");

        // The inspection light changes the view alone.
        for light in ["shadows", "local", "grain", "plain"] {
            s.tap('i').await;
            s.until(&format!("document.querySelector('[data-light={light}]')")).await;
        }
        s.until("document.querySelector('[data-testid=fact-history]').innerText === 'last: take a place from frame 1'").await;
    });
}

#[test]
fn strokes_one_right_after_another_and_undone_at_once_leave_the_picture_that_a_reload_shows() {
    with_stage(|s| async move {
        s.bring_in(4).await;
        let (x, y) = busy_place(&s).await;
        let (x, y) = (i64::from(x), i64::from(y));
        let stroke =
            |dx: i64, dy: i64| vec![(x + dx, y + dy), (x + dx + 12, y + dy + 4), (x + dx + 20, y + dy)];
        let taking = |frame: u32| {
            format!(
                "document.querySelector('[data-testid=drawing]')?.innerText.includes('take from frame {frame}')"
            )
        };
        s.tap('2').await;
        s.until("document.querySelector('select[aria-label=Shown]').selectedOptions[0].text === 'Frame 2'")
            .await;
        s.tap('g').await;
        s.until(&taking(2)).await;
        // Another frame that is shown meanwhile is the one that is taken from.
        s.tap('3').await;
        s.until(&taking(3)).await;
        // None of them waits for the one before.
        for (dx, dy) in [(0, 0), (-50, -40), (40, -50)] {
            s.drag(&stroke(dx, dy)).await;
        }
        s.until(&format!("{FACT} === '3 places taken by hand'")).await;
        s.until("!document.querySelector('[data-testid=stroke]')").await;
        s.until("document.querySelector('select[aria-label=Shown]').selectedOptions[0].text === 'Plate'")
            .await;
        s.tap(char::from(Key::Escape)).await;
        let lifts = "return fetch(`/api/sets/${location.pathname.split('/')[2]}`).then(r => r.json()).then(s => s.recipe.patches.map(l => l.source.frame))";
        assert_eq!(s.js(lifts).await, serde_json::json!([3, 3, 3]));

        // Two taken back at once, before the first is answered.
        s.undo().await;
        s.undo().await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        s.plate().await;
        let seen = s.drawn().await;
        s.page.refresh().await.unwrap();
        s.plate().await;
        assert!(s.drawn().await == seen, "the picture is another when it is loaded anew");
        assert_eq!(s.js(lifts).await, serde_json::json!([3]));
    });
}
