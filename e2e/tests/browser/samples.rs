//! The sample sets, opened from the page, and what they are there to show.

use crate::stage::{apart, with_stage};
use std::time::{Duration, Instant};

#[test]
fn clouds_are_found_and_each_is_kept_as_one_moment() {
    with_stage(|s| async move {
        s.samples(1).await;
        s.sample("Clouds and fading light").await;
        s.until("/\\d areas that move and belong$/.test(document.querySelector('[data-testid=fact-combine]').innerText)").await;
        let fact = s.fact("combine").await;
        let areas: usize = fact.split(", ").last().unwrap()[..1].parse().unwrap();
        s.open_line("combine").await;
        s.until(&format!("document.querySelectorAll('[data-moving]').length === {areas}")).await;
        // Each comes from one frame by itself: no lift, nothing to be pressed.
        let whole = |count: usize| {
            format!(
                "[...document.querySelectorAll('[data-moving] button.font-semibold')].filter(b => b.innerText.startsWith('One moment, frame')).length === {count}"
            )
        };
        s.until(&whole(areas)).await;
        s.until("document.querySelector('[data-testid=fact-lifts]').innerText === 'nothing taken by hand'")
            .await;
        // One click gives an area back to the method, and one more takes all from one moment again.
        s.js("[...document.querySelectorAll('[data-moving=\"0\"] button')].find(b => b.innerText === 'As the method').click()").await;
        s.until(&whole(areas - 1)).await;
        s.press("One moment for each").await;
        s.until(&whole(areas)).await;
        s.undo().await;
        s.until(&whole(areas - 1)).await;
    });
}

#[test]
fn an_assistant_who_stood_left_and_then_right_is_gone_without_a_question() {
    with_stage(|s| async move {
        s.samples(1).await;
        s.sample("Assistant left and right").await;
        assert_eq!(s.fact("frames").await, "2 frames");
        s.until("document.querySelector('[data-testid=fact-doubts]').innerText.startsWith('none')").await;
        // Where the reference frame has the assistant, the plate has the paving of the other.
        let (x, y) = (564, 471);
        let plate = s.seen(x, y).await;
        s.key('b', true).await;
        s.until("document.querySelector('[data-testid=picture]').innerText.includes('as shot')").await;
        let differs = async |from: [f64; 3], wanted: bool| {
            let begin = Instant::now();
            while (apart(from, s.seen(x, y).await) > 30.0) != wanted {
                assert!(begin.elapsed() < Duration::from_secs(20), "wanted {wanted} beside {from:?}");
            }
        };
        differs(plate, true).await;
        s.key('b', false).await;
        differs(plate, false).await;
    });
}
