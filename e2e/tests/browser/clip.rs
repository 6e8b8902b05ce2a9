//! A clip as a person works on it: its plate, the stand pointed at and made up, played, a contact looked at and mended, the file written.

use crate::stage::with_stage;
use evanu_media::clip::{Clip, ClipReader, Yuv};
use serde_json::json;

const FACT: &str = "(document.querySelector('[data-testid=fact-clip]')?.innerText ?? '')";

#[test]
fn a_stand_is_taken_out_of_a_clip_from_pointing_at_it_to_the_finished_file() {
    with_stage(|s| async move {
        let clip = s.samples(1).await[0].parent().unwrap().parent().unwrap().join("hall/hall.mp4");
        s.choose(std::slice::from_ref(&clip)).await;
        s.plate().await;
        s.until(&format!("/^10\\.0 s, nothing covered$/.test({FACT})")).await;

        // Pointed at, drawn around, made up.
        let shown = s.js("const b = document.querySelector('[data-testid=picture]').getBoundingClientRect(); const k = Math.min(b.width / 768, b.height / 432); return [b.x + (b.width - 768 * k) / 2, b.y + (b.height - 432 * k) / 2, k]").await;
        let [left, top, scale] = [0, 1, 2].map(|k| shown[k].as_f64().unwrap());
        let at = |x: f64, y: f64| ((left + x * scale) as i64, (top + y * scale) as i64);
        s.open_line("retouch").await;
        s.drag(&[at(599.0, 260.0), at(599.0, 260.0)]).await;
        s.press("Draw around what stands there").await;
        s.press("Invent").await;
        s.until("document.querySelectorAll('button[aria-label^=\"Variant \"]').length === 4").await;
        s.js("document.querySelector('button[aria-label=\"Variant 1\"]').click()").await;
        s.until(&format!("/covered, to be laid/.test({FACT})")).await;

        // Laid on every frame, it is played with its sound, and goes on.
        s.open_line("clip").await;
        s.press("Lay the patch on every frame").await;
        s.until(&format!("/contact/.test({FACT})")).await;
        s.press("Play").await;
        s.until("Number(document.querySelector('[data-testid=clip-view]').dataset.frame) > 12").await;
        s.press("Pause").await;
        assert_eq!(s.js("return document.querySelector('video').videoHeight").await, json!(864));

        // A step to who crosses: the frame is sharp, and before and after differ.
        s.press("Next contact").await;
        s.until("document.querySelector('[data-testid=clip-view]').dataset.sharp !== ''").await;
        let frame: usize = s
            .js("return document.querySelector('[data-testid=clip-view]').dataset.frame")
            .await
            .as_str()
            .unwrap()
            .parse()
            .unwrap();
        s.tap(']').await;
        s.until(&format!(
            "document.querySelector('[data-testid=clip-view]').dataset.frame === '{}'",
            frame + 1
        ))
        .await;
        s.tap('[').await;

        // Mended by brush: what is brushed is followed, and taken back by undo.
        s.press("Brush who is in front").await;
        let pen = "document.querySelector('[data-testid=clip-mending]')";
        s.until(pen).await;
        let view = s.js(&format!("const b = {pen}.getBoundingClientRect(); const k = Math.min(b.width / 768, b.height / 432); return [b.x + (b.width - 768 * k) / 2 + 599 * k, b.y + (b.height - 432 * k) / 2 + 170 * k]")).await;
        let (x, y) = (view[0].as_f64().unwrap() as i64, view[1].as_f64().unwrap() as i64);
        s.drag(&[(x, y - 8), (x, y + 8)]).await;
        s.until("/\\d+ strokes in \\d+ frames/.test(document.body.innerText)").await;
        s.until(&format!("/to be laid/.test({FACT})")).await;
        s.tap(char::from(fantoccini::key::Key::Escape)).await;
        s.undo().await;
        s.until(&format!("/contact/.test({FACT})")).await;

        // The file: every frame, its sound, and the stand is gone.
        s.press("Write the clip").await;
        s.until("document.querySelector('[data-testid=clip-exported]')").await;
        let name = s.js("return document.querySelector('[data-testid=clip-exported]').innerText").await;
        assert!(name.as_str().unwrap().ends_with("-clean.mp4"), "{name}");
        let link =
            s.js("return document.querySelector('[data-testid=clip-exported]').getAttribute('href')").await;
        let run: i64 =
            link.as_str().unwrap().trim_end_matches("/file").rsplit('/').next().unwrap().parse().unwrap();
        let folder = s.folder.path().join(format!("data/exports/{run}"));
        let made = std::fs::read_dir(folder).unwrap().next().unwrap().unwrap().path();
        let (before, after) = (Clip::open(&clip).unwrap(), Clip::open(&made).unwrap());
        assert_eq!((after.count(), after.info.sound, after.info.size), (250, true, before.info.size));
        assert!(before.seconds.iter().zip(&after.seconds).all(|(a, b)| (a - b).abs() < 1e-3));
        let first = |clip: &Clip| -> Yuv {
            ClipReader::open(&clip.path, &clip.info).unwrap().next().unwrap().unwrap()
        };
        let (was, is) = (first(&before), first(&after));
        let mean = |of: &Yuv, x: usize, y: usize| -> f64 {
            let all = (0..9).map(|k| f64::from(of.planes[0][(y + k / 3) * 768 + x + k % 3]));
            all.sum::<f64>() / 9.0
        };
        // On the pole it is as bright as on the wall beside it; far from it nothing but coding changed.
        let wall = mean(&is, 625, 240);
        assert!(
            mean(&was, 598, 240) < wall - 25.0 && (mean(&is, 598, 240) - wall).abs() < 18.0,
            "{} {} {wall}",
            mean(&was, 598, 240),
            mean(&is, 598, 240)
        );
        assert!((mean(&was, 120, 250) - mean(&is, 120, 250)).abs() < 3.0);
    });
}
