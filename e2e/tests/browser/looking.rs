//! Looking: the place under the pointer in every frame, views, zoom, keys.

use crate::stage::{busy_place, with_stage};
use fantoccini::key::Key;

#[test]
fn the_look_through_follows_the_pointer_and_names_the_frames() {
    with_stage(|s| async move {
        s.bring_in(7).await;
        let (x, y) = busy_place(&s).await;
        s.point(i64::from(x) + 6, i64::from(y) + 6).await;
        s.until("document.querySelectorAll('[data-testid=crops] [data-agrees=true]').length >= 3").await;
        s.until("document.querySelectorAll('[data-testid=crops] [data-agrees=false]').length >= 1").await;
        let labels = s.js("return [...document.querySelectorAll('[data-testid=crops] li')].map(l => l.innerText.trim())").await;
        let labels: Vec<&str> = labels.as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect();
        assert_eq!(labels.len(), 7);
        assert!(labels[0].starts_with("1 14:31:07"), "{labels:?}");
        assert!(labels.windows(2).all(|w| w[0][2..] < w[1][2..]), "not in order of time: {labels:?}");

        // Away from the picture the frames are shown whole; M shows the place by every method once it is kept.
        s.point(150, 300).await;
        s.until("document.querySelectorAll('[data-testid=crops] img').length === 7").await;
        s.drag(&[(i64::from(x), i64::from(y)), (i64::from(x), i64::from(y))]).await;
        s.tap('m').await;
        s.until("document.querySelectorAll('[data-testid=crops] li').length === 7 && document.body.innerText.includes('This place by every method')").await;
        s.tap('m').await;

        // Zoom keeps the scale in view; the map appears when not all is on the picture.
        s.tap('h').await;
        s.until("document.querySelector('[data-testid=zoom]').innerText === '100 %'").await;
        s.until("document.querySelector('[aria-label=\"Overview map\"]')").await;
        s.tap('w').await;
        s.until("!document.querySelector('[aria-label=\"Overview map\"]')").await;
        s.tap(char::from(Key::Escape)).await;
        s.tap('3').await;
        s.until("document.querySelector('[data-testid=picture]').innerText.includes('Frame 3, aligned')")
            .await;
        s.tap('?').await;
        s.until("document.querySelector('[role=dialog]')?.innerText.includes('Flick through')").await;
        s.tap(char::from(Key::Escape)).await;
        s.until("!document.querySelector('[role=dialog]')").await;
    });
}

#[test]
fn a_picture_at_rest_is_not_drawn_again() {
    with_stage(|s| async move {
        s.bring_in(3).await;
        s.js("const draw = CanvasRenderingContext2D.prototype.drawImage; window.drawn = 0; CanvasRenderingContext2D.prototype.drawImage = function (...all) { drawn++; return draw.apply(this, all); };").await;
        let drawn_in_a_second = async || {
            tokio::time::sleep(std::time::Duration::from_millis(1500)).await;
            s.js("drawn = 0").await;
            tokio::time::sleep(std::time::Duration::from_secs(1)).await;
            s.js("return drawn").await.as_u64().unwrap()
        };
        s.tap('h').await;
        s.until("drawn > 0").await;
        assert_eq!(drawn_in_a_second().await, 0, "the plate alone");
        // Beside another frame as well, cut where the divider stands.
        s.press("Divide").await;
        s.until("drawn > 0 && document.querySelector('[aria-label=\"Divider between two views\"]')").await;
        assert_eq!(drawn_in_a_second().await, 0, "two beside each other");
    });
}

#[test]
fn frames_are_flicked_through_and_everything_is_reached_by_key() {
    with_stage(|s| async move {
        s.bring_in(3).await;
        let tag = "document.querySelector('[data-testid=picture]').innerText";
        s.tap('f').await;
        for frame in [1, 2, 3, 1] {
            s.until(&format!("{tag}.includes('Frame {frame}, aligned')")).await;
        }
        s.tap('f').await;
        s.until(&format!("{tag} === ''")).await;

        // One crop dropped on another: both on the picture.
        let middle = async |frame: u32| {
            let at = s
                .js(&format!(
                    "const b = document.querySelector('[data-testid=crops] [data-frame=\"{frame}\"] button').getBoundingClientRect();
                     return [b.x + b.width / 2, b.y + b.height / 3].map(Math.round)"
                ))
                .await;
            (at[0].as_i64().unwrap(), at[1].as_i64().unwrap())
        };
        let (from, onto) = (middle(1).await, middle(3).await);
        s.drag(&[from, (from.0 + 12, from.1), (onto.0 - 9, onto.1), onto]).await;
        s.until(&format!("{tag}.includes('Frame 3, aligned') && {tag}.includes('Frame 1, aligned')")).await;
        s.tap(char::from(Key::Escape)).await;
        s.until(&format!("{tag} === ''")).await;

        s.tap('a').await;
        s.until(&format!("{tag}.includes('Agreement')")).await;
        s.until("document.querySelector('[data-complete*=\"/agreement\"]')").await;
        s.tap('p').await;
        s.until(&format!("{tag} === ''")).await;

        // Frame after frame with the brackets; X sets the shown one aside and brings it back.
        s.tap(']').await;
        s.until(&format!("{tag}.includes('Frame 1, aligned')")).await;
        s.tap(']').await;
        s.until(&format!("{tag}.includes('Frame 2, aligned')")).await;
        s.tap('x').await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '3 frames, 1 set aside'")
            .await;
        s.until(&format!("{tag}.includes('Frame 2, aligned')")).await;
        s.tap('x').await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '3 frames'").await;
        s.tap('[').await;
        s.until(&format!("{tag}.includes('Frame 1, aligned')")).await;
        s.tap(char::from(Key::Escape)).await;
        s.until(&format!("{tag} === ''")).await;

        // The surround goes round and ends where it began.
        let grey = |now: &str| format!("!!document.querySelector('[data-testid=picture].surround-{now}')");
        for now in ["dim", "bright", "grey"] {
            s.tap('s').await;
            s.until(&grey(now)).await;
        }
        // Larger and smaller cancel; the arrows move the picture at 100 %.
        let zoom = "document.querySelector('[data-testid=zoom]').innerText";
        s.tap('h').await;
        s.until(&format!("{zoom} === '100 %'")).await;
        s.tap('+').await;
        s.until(&format!("{zoom} === '140 %'")).await;
        s.tap('-').await;
        s.until(&format!("{zoom} === '100 %'")).await;
        // Frames can be shown while the whole is away from the middle: zoom and place are kept.
        let map = "document.querySelector('[aria-label=\"Overview map\"]').innerHTML";
        s.until("document.querySelector('[aria-label=\"Overview map\"]')").await;
        let before = s.js(&format!("return {map}")).await;
        s.tap(char::from(Key::Right)).await;
        s.until(&format!("{map} !== {before}")).await;
        s.tap('2').await;
        s.until(&format!("{tag}.includes('Frame 2, aligned') && {zoom} === '100 %'")).await;
    });
}

#[test]
fn what_the_evidence_settles_is_listed_apart_and_asked_when_it_is_opened() {
    with_stage(|s| async move {
        // Eight frames leave something that the evidence settles; all twelve agree everywhere.
        s.bring_in(8).await;
        let fact = "document.querySelector('[data-testid=fact-doubts]').innerText";
        let left = format!("Number({fact}.match(/(\\d+) doubts? left/)?.[1] ?? 0)");
        let doubt = "document.querySelector('[aria-label=Doubt]')";
        s.until(&format!("/settles|left|settled/.test({fact})")).await;
        let before = s.js(&format!("return {left}")).await.as_u64().unwrap();
        s.open_line("doubts").await;
        s.until(
            "/^\\d+ places? settled by Evanu/.test(document.querySelector('details summary')?.innerText ?? '')",
        )
        .await;
        s.js("document.querySelector('details ol button').click()").await;
        s.until(&format!("{doubt}?.dataset.settled === 'evanu'")).await;
        s.press("Open again").await;
        s.until(&format!("{left} === {}", before + 1)).await;
        s.until(&format!("{doubt}?.dataset.settled === 'no'")).await;
        s.press("Accept as it is").await;
        s.until(&format!("{left} === {before} && !/evidence/.test({fact})")).await;
        s.undo().await;
        s.until(&format!("{left} === {}", before + 1)).await;
        s.undo().await;
        s.until(&format!("{left} === {before}")).await;
    });
}

#[test]
fn doubts_are_stepped_through_and_settled_until_none_is_left() {
    with_stage(|s| async move {
        // Two frames of a busy place leave something open.
        s.bring_in(2).await;
        let fact = "document.querySelector('[data-testid=fact-doubts]').innerText";
        s.until(&format!("/\\d+ doubts? left of \\d+/.test({fact})")).await;
        let left = format!("return Number({fact}.match(/(\\d+) doubts?/)[1])");
        let before = s.js(&left).await.as_u64().unwrap();
        let key = "document.querySelector('[data-complete]').dataset.complete";
        let first = s.js(&format!("return {key}")).await;
        s.open_line("doubts").await;

        s.tap('.').await;
        let doubt = "document.querySelector('[aria-label=Doubt]')";
        s.until(&format!(
            "{doubt}?.dataset.doubt === '0' && document.querySelector('[data-testid=doubt-frame]')"
        ))
        .await;
        assert_ne!(s.js("return document.querySelector('[data-testid=zoom]').innerText").await, "fits");
        s.until("document.querySelectorAll('[data-testid=crops] [data-agrees=true]').length >= 1").await;
        assert!(s.js(&format!("return {doubt}.innerText")).await.as_str().unwrap().contains("% sure"));

        // One is accepted by key, one is taken from another frame; each is one step back.
        s.tap('v').await;
        let settled =
            |n: u64| format!("{fact}.includes('all') || Number({fact}.match(/(\\d+) doubts?/)?.[1]) === {n}");
        s.until(&settled(before - 1)).await;
        s.tap('1').await;
        s.until(&settled(before.saturating_sub(2))).await;
        s.undo().await;
        s.undo().await;
        s.until(&settled(before)).await;
        s.until(&format!("{key} === {first}")).await;

        // The other story is pressed; it stays after coming back, and can be opened again.
        s.open_line("doubts").await;
        s.open_line("doubts").await;
        s.tap('.').await;
        s.until(&format!("{doubt}?.querySelectorAll('li button').length >= 2")).await;
        s.js(&format!("{doubt}.querySelectorAll('li button')[1].click()")).await;
        s.until(&settled(before - 1)).await;
        s.until(&format!("{key} !== {first}")).await;
        s.page.refresh().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-doubts]')").await;
        s.until(&settled(before - 1)).await;
        s.open_line("doubts").await;
        s.js("[...document.querySelectorAll('ol button')].find(b => b.innerText.includes('settled by you')).click()").await;
        s.until(&format!("{doubt}?.dataset.settled === 'you'")).await;
        s.press("Open again").await;
        s.until(&settled(before)).await;

        // What is real is kept from what is done by hand.
        s.press("It is real, keep it").await;
        s.until(&settled(before - 1)).await;
        s.open_line("lifts").await;
        s.until("document.body.innerText.includes('Kept area 1')").await;
    });
}
