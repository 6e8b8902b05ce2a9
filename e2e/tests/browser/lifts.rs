//! Taking places by hand: pointing, loops, methods for an area, the list, and that all of it can be given back.

use crate::stage::{apart, busy_place, with_stage};
use fantoccini::key::Key;

const FACT: &str = "document.querySelector('[data-testid=fact-lifts]').innerText";

#[test]
fn a_place_is_taken_from_a_frame_by_pointing_and_given_back() {
    with_stage(|s| async move {
        s.bring_in(6).await;
        let (x, y) = busy_place(&s).await;
        let clean = s.seen(x, y).await;
        let at = (i64::from(x) + 6, i64::from(y) + 6);
        s.drag(&[at, at]).await;
        s.until("document.querySelectorAll('[data-testid=crops] [data-agrees=false]').length >= 1").await;
        // Clearest first puts what differs last.
        s.tap('q').await;
        s.until("document.querySelector('[data-testid=crops] li:last-child').dataset.agrees === 'false'")
            .await;
        let last =
            s.js("return document.querySelector('[data-testid=crops] li:last-child').dataset.frame").await;
        s.until("document.querySelector('[data-testid=crops] li:first-child').dataset.agrees === 'true'")
            .await;

        // The crop that is pointed at shows in place; nothing is taken yet.
        let middle = s.js("const b = document.querySelector('[data-testid=crops] li:last-child').getBoundingClientRect(); return [b.x + b.width / 2, b.y + 40]").await;
        let (cx, cy) = (middle[0].as_f64().unwrap() as i64, middle[1].as_f64().unwrap() as i64);
        s.point(cx, cy).await;
        let mut peeked = clean;
        for _ in 0..60 {
            peeked = s.seen(x, y).await;
            if apart(peeked, clean) > 25.0 {
                break;
            }
        }
        assert!(apart(peeked, clean) > 25.0, "{clean:?} {peeked:?}");
        assert_eq!(s.js(&format!("return {FACT}")).await, "nothing taken by hand");

        // Pressed, it is taken; its number says the same.
        s.drag(&[(cx, cy), (cx, cy)]).await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        s.until(&format!(
            "document.querySelector('[data-testid=origin]')?.innerText === 'Taken by you: Frame {}'",
            last.as_str().unwrap()
        ))
        .await;
        s.point(150, 500).await;
        s.plate().await;
        let mut taken = clean;
        for _ in 0..60 {
            taken = s.seen(x, y).await;
            if apart(taken, peeked) < 8.0 {
                break;
            }
        }
        assert!(apart(taken, peeked) < 8.0, "{peeked:?} {taken:?}");

        // It survives coming back, and is switched off and given back from the list.
        s.page.refresh().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-lifts]')").await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        s.open_line("lifts").await;
        s.js("document.querySelector('[data-lift=\"0\"] button').click()").await;
        s.until("document.querySelector('[data-testid=lift-outline]')").await;
        s.press("Switch off").await;
        s.until(&format!("{FACT}.includes('1 switched off')")).await;
        s.press("Switch on").await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        s.press("Give all of it back").await;
        s.until(&format!("{FACT} === 'nothing taken by hand'")).await;
        s.undo().await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
    });
}

#[test]
fn a_loop_comes_from_a_frame_or_by_a_method() {
    with_stage(|s| async move {
        s.bring_in(5).await;
        let (x, y) = busy_place(&s).await;
        let (x, y) = (i64::from(x) + 6, i64::from(y) + 6);
        s.tap('l').await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(&[
            (x - 30, y - 40),
            (x, y - 55),
            (x + 30, y - 40),
            (x + 40, y),
            (x + 30, y + 40),
            (x, y + 50),
            (x - 30, y + 40),
            (x - 40, y),
        ])
        .await;
        s.until("!document.querySelector('[data-testid=drawing]')").await;
        s.until("document.querySelector('[data-testid=crops] [data-agrees=true], [data-testid=crops] [data-agrees=false]')").await;
        s.tap('2').await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        // The same loop by a method: still one place.
        s.tap('m').await;
        s.until("document.body.innerText.includes('This place by every method')").await;
        s.press("Everybody").await;
        s.open_line("lifts").await;
        s.until("document.querySelector('[data-lift=\"0\"]')?.innerText.includes('Everybody')").await;
        assert_eq!(s.js(&format!("return {FACT}")).await, "1 place taken by hand");
        s.tap(char::from(Key::Escape)).await;
        s.tap('m').await;

        // From a frame without its highlights; what the strength means is told.
        s.js("document.querySelector('[data-lift=\"0\"] button').click()").await;
        s.until("document.querySelector('[data-lift=\"0\"] select')").await;
        s.js("const e = document.querySelector('[data-lift=\"0\"] select'); e.value = 'frame 3'; e.dispatchEvent(new Event('change', { bubbles: true }))").await;
        s.until("document.querySelector('[data-lift=\"0\"]').innerText.includes('Without its highlights')")
            .await;
        s.js("document.querySelector('[data-lift=\"0\"] input[type=checkbox]').click()").await;
        s.until("/Half of the glare is back below \\d+ %|No highlight stands/.test(document.querySelector('[data-lift=\"0\"]').innerText)").await;

        // Where few frames agree is hatched over the picture, and can be saved.
        s.open_line("combine").await;
        s.press("Hatch where few frames agree").await;
        s.until("document.querySelectorAll('[data-testid=evidence] image').length === 2").await;
        let saved = s.js("return document.querySelector('a[download]').getAttribute('href')").await;
        let kind = format!(
            "fetch('{}').then(r => window.kind = r.headers.get('content-type'))",
            saved.as_str().unwrap()
        );
        s.js(&kind).await;
        s.until("window.kind === 'image/png'").await;
    });
}

#[test]
fn the_best_frame_is_proposed_and_what_was_taken_is_given_back_in_parts() {
    with_stage(|s| async move {
        s.bring_in(6).await;
        let (x, y) = busy_place(&s).await;
        let clean = s.seen(x, y).await;
        let (x, y) = (i64::from(x) + 6, i64::from(y) + 6);
        let around = |wide: i64, high: i64| {
            [(-1, -1), (0, -1), (1, -1), (1, 0), (1, 1), (0, 1), (-1, 1), (-1, 0)]
                .map(|(dx, dy)| (x + wide * dx, y + high * dy))
        };
        // Whoever the reference frame shows there is brought in.
        s.tap('d').await;
        let shown = "document.querySelector('select[aria-label=\"Right of the divider\"]')";
        s.until(shown).await;
        let number = s.js(&format!("return {shown}.selectedOptions[0].text")).await;
        s.tap('d').await;
        s.tap(number.as_str().and_then(|t| t.chars().last()).unwrap()).await;
        s.until("document.querySelector('[data-testid=picture]').innerText.includes('aligned')").await;
        s.tap('l').await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(&around(45, 60)).await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        let mut with = clean;
        for _ in 0..200 {
            with = s.seen((x - 6) as u32, (y - 6) as u32).await;
            if apart(with, clean) > 20.0 {
                break;
            }
        }
        assert!(apart(with, clean) > 20.0, "somebody was brought in: {with:?}, {clean:?}");

        // Pointed at, the best frame leaves the place clear; the next best goes in its stead.
        s.drag(&[(x, y), (x, y)]).await;
        s.tap('n').await;
        s.until(&format!("{FACT} === '2 places taken by hand'")).await;
        s.until("document.querySelector('[data-testid=told]').innerText.includes('1 of ')").await;
        // Somebody alone, or two who stand before one another.
        s.until(
            "/takes (one thing|2 things) away/.test(document.querySelector('[data-testid=told]').innerText)",
        )
        .await;
        for _ in 0..200 {
            with = s.seen((x - 6) as u32, (y - 6) as u32).await;
            if apart(with, clean) < 12.0 {
                break;
            }
        }
        assert!(apart(with, clean) < 12.0, "the place is clear: {with:?}, {clean:?}");
        s.tap('n').await;
        s.until("document.querySelector('[data-testid=told]').innerText.includes('2 of ')").await;
        assert_eq!(s.js(&format!("return {FACT}")).await, "2 places taken by hand");
        s.tap(char::from(Key::Escape)).await;

        // Both meet, which is said; the list looks for seams by what the plate is for.
        s.open_line("lifts").await;
        s.js("document.querySelector('[data-lift=\"0\"] button').click()").await;
        s.until("document.querySelector('[data-testid=overlaps]')?.innerText.includes('place 2')").await;
        s.js("document.querySelector('[data-lift=\"0\"] button').click()").await;
        s.until("document.querySelector('[data-testid=no-seams], [data-seam]')").await;
        s.press("Mark").await;
        s.until("document.querySelector('[data-testid=seams]')").await;
        s.press("Whole").await;
        s.until("document.querySelector('[data-testid=zoom]').innerText.startsWith('5')").await;

        // A part is given back by a loop, then all of it; nothing is taken beside.
        s.tap('u').await;
        s.until("document.querySelector('[data-testid=drawing]')?.innerText.includes('what to give back')")
            .await;
        s.drag(&around(60, 8)).await;
        s.until(
            "document.querySelector('[data-testid=fact-history]').innerText === 'last: give a part back'",
        )
        .await;
        s.tap('u').await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(&around(160, 170)).await;
        s.until(&format!("{FACT} === 'nothing taken by hand'")).await;
        s.undo().await;
        s.until(&format!("{FACT} === '2 places taken by hand'")).await;

        // What differs between the plate and the reference frame.
        s.tap('y').await;
        s.until("document.querySelector('[data-testid=picture]').innerText.includes('what differs')").await;
        s.until("!document.querySelector('[data-testid=divider]')").await;
        s.tap('y').await;
        s.until("document.querySelector('[data-testid=divider]')").await;
    });
}

#[test]
fn a_lift_fetches_the_tiles_that_it_reaches_and_undo_none() {
    with_stage(|s| async move {
        s.bring_in(5).await;
        let (x, y) = busy_place(&s).await;
        let (x, y) = (i64::from(x) + 6, i64::from(y) + 6);
        s.drag(&[(x, y), (x, y)]).await;
        s.tap(char::from(Key::Escape)).await;
        s.tap('h').await;
        s.until("document.querySelector('[data-testid=zoom]').innerText === '100 %'").await;
        // Everything in sight has come before anything is counted.
        let fetched =
            "performance.getEntriesByType('resource').map(e => e.name).filter(n => n.includes('/plate/0/'))";
        let at_rest = |what: &'static str| {
            let s = s.clone();
            async move {
                let mut before = -1;
                loop {
                    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
                    let now = s.js(&format!("return {what}.length")).await.as_i64().unwrap();
                    if now == before {
                        return s.js(&format!("return {what}")).await;
                    }
                    before = now;
                }
            }
        };
        let names = |v: serde_json::Value| -> Vec<String> {
            v.as_array().unwrap().iter().map(|n| n.as_str().unwrap().to_owned()).collect()
        };
        let all = names(at_rest(fetched).await);
        assert!(all.len() >= 4, "the viewport has several tiles: {all:?}");
        let key = |name: &str| name.split("/tiles/").nth(1).unwrap().split('/').next().unwrap().to_owned();

        // A small loop in the upper left of the picture, taken from the second frame.
        s.js("performance.clearResourceTimings()").await;
        s.tap(']').await;
        s.tap(']').await;
        s.until(
            "document.querySelector('select[aria-label=Shown]').selectedOptions[0].text.startsWith('Frame')",
        )
        .await;
        s.tap('l').await;
        s.until("document.querySelector('[data-testid=drawing]')?.innerText.includes('take from frame')")
            .await;
        let corner = s.js("const b = document.querySelector('[data-testid=picture]').getBoundingClientRect(); return [b.x + 60, b.y + 60]").await;
        let (l, t) = (corner[0].as_f64().unwrap() as i64, corner[1].as_f64().unwrap() as i64);
        s.drag(&[
            (l, t),
            (l + 20, t - 6),
            (l + 36, t),
            (l + 40, t + 18),
            (l + 30, t + 34),
            (l + 8, t + 32),
            (l - 4, t + 16),
        ])
        .await;
        s.until(&format!("{FACT} === '1 place taken by hand'")).await;
        s.until("document.querySelector('select[aria-label=Shown]').selectedOptions[0].text === 'Plate'")
            .await;
        s.plate().await;
        let lifted = names(at_rest(fetched).await);
        let own: Vec<&String> = lifted.iter().filter(|n| key(n).contains('-')).collect();
        assert!(!own.is_empty() && own.len() < all.len(), "{} of {} tiles: {lifted:?}", own.len(), all.len());
        assert!(
            lifted.iter().all(|n| key(n).contains('-') || all.contains(n)),
            "what it does not reach keeps its address: {lifted:?}"
        );

        s.js("performance.clearResourceTimings()").await;
        s.undo().await;
        s.until(&format!("{FACT} === 'nothing taken by hand'")).await;
        s.plate().await;
        let undone = names(at_rest(fetched).await);
        assert!(
            undone.iter().all(|n| all.contains(n)),
            "undone, every tile has the address it had: {undone:?}"
        );
    });
}
