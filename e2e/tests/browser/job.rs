//! From files to an exported plate, and the decisions on the way.

use crate::stage::{apart, busy_place, with_stage};
use fantoccini::Locator;
use fantoccini::key::Key;
use std::path::Path;
use std::time::{Duration, Instant};

#[test]
fn the_main_job_from_files_to_an_exported_plate() {
    with_stage(|s| async move {
        s.bring_in(9).await;
        assert_eq!(s.fact("frames").await, "9 frames");
        assert!(s.fact("align").await.starts_with("worst 0.0"), "{}", s.fact("align").await);
        let (x, y) = busy_place(&s).await;

        // Hold to see the frame as shot; let go and the plate is back, in the same place.
        s.until("document.querySelector('[data-complete*=\"/plate\"]')").await;
        let plate = s.seen(x, y).await;
        s.key('b', true).await;
        s.until("document.body.innerText.includes('as shot') && document.querySelector('[data-testid=picture]').innerText.includes('as shot')").await;
        let begin = Instant::now();
        let shot = loop {
            let now = s.seen(x, y).await;
            if apart(now, plate) > 15.0 || begin.elapsed() > Duration::from_secs(20) {
                break now;
            }
        };
        assert!(apart(shot, plate) > 15.0, "holding shows {shot:?}, the plate {plate:?}");
        s.key('b', false).await;
        s.until("!document.querySelector('[data-testid=picture]').innerText.includes('as shot')").await;
        let begin = Instant::now();
        while apart(s.seen(x, y).await, plate) > 4.0 {
            assert!(begin.elapsed() < Duration::from_secs(20), "the plate did not come back");
        }

        // The divider: right of it the reference frame, left of it the plate.
        s.tap('d').await;
        s.until("document.querySelector('[data-testid=divider]')").await;
        let centre = s.js("const b = document.querySelector('[data-testid=divider]').getBoundingClientRect(); return [b.left + b.width / 2, b.top + b.height / 2]").await;
        let (dx, dy) = (centre[0].as_f64().unwrap() as i64, centre[1].as_f64().unwrap() as i64);
        s.drag(&[(dx, dy), (i64::from(x), dy), (i64::from(x) - 40, dy)]).await;
        let begin = Instant::now();
        while apart(s.seen(x, y).await, shot) > 8.0 {
            assert!(begin.elapsed() < Duration::from_secs(20), "right of the divider the frame is not shown");
        }
        s.drag(&[(i64::from(x) - 40, dy), (i64::from(x), dy), (i64::from(x) + 60, dy)]).await;
        let begin = Instant::now();
        while apart(s.seen(x, y).await, plate) > 4.0 {
            assert!(begin.elapsed() < Duration::from_secs(20), "left of the divider the plate is not shown");
        }
        s.tap(char::from(Key::Escape)).await;
        s.until("!document.querySelector('[data-testid=divider]')").await;

        // Export; the file's pixels are those of the plate's tiles.
        s.open_line("export").await;
        s.press("PNG · 8 bit, lossless").await;
        s.press("Write the file").await;
        s.until("document.querySelector('[data-testid=exported]')").await;
        let name = s.js("return document.querySelector('[data-testid=exported]').innerText").await;
        assert!(name.as_str().unwrap().trim().ends_with("-plate.png"), "{name}");
        let exports = s.folder.path().join("data/exports");
        let file = std::fs::read_dir(&exports)
            .unwrap()
            .flatten()
            .flat_map(|d| std::fs::read_dir(d.path()).unwrap().flatten())
            .next()
            .unwrap()
            .path();
        let exported = evanu_media::decode(&file).unwrap();
        assert_eq!((exported.size.width, exported.size.height), (1600, 1067));
        assert_eq!(exported.camera.camera.as_deref(), Some("Hilltop One"));
        let tile = s.page.execute_async(
            "const done = arguments[0]; (async () => { const id = location.pathname.split('/')[2]; const set = await (await fetch(`/api/sets/${id}`)).json();
             const bytes = new Uint8Array(await (await fetch(`/api/sets/${id}/tiles/${set.plate_key}/plate/0/1_1.png`)).arrayBuffer()); done(Array.from(bytes)); })()",
            vec![]).await.unwrap();
        let bytes: Vec<u8> = tile.as_array().unwrap().iter().map(|v| v.as_u64().unwrap() as u8).collect();
        let tile = evanu_media::decode_bytes(Path::new("tile.png"), &bytes).unwrap();
        let (evanu_core::pixel::Samples::Eight(all), evanu_core::pixel::Samples::Eight(part)) =
            (exported.samples, tile.samples)
        else {
            panic!()
        };
        for row in 0..512usize {
            assert!(
                part[row * 1536..][..1536] == all[3 * ((512 + row) * 1600 + 512)..][..1536],
                "row {row} differs"
            );
        }
    });
}

#[test]
fn methods_frames_and_undo_change_the_plate() {
    with_stage(|s| async move {
        s.bring_in(5).await;
        let key = "document.querySelector('[data-complete]').dataset.complete";
        let first = s.js(&format!("return {key}")).await;

        s.open_line("combine").await;
        s.page.find(Locator::Css("[data-choice=lightest]")).await.unwrap().click().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-combine]').innerText.startsWith('Lightest')")
            .await;
        s.until(&format!("{key} !== {first} && {key}.endsWith('/plate')")).await;
        s.press("Undo: combine by lightest").await;
        s.until(&format!("{key} === {first}")).await;
        assert!(s.fact("combine").await.starts_with("Consensus"));

        // A frame is set aside with one click; the plate follows; the keyboard takes it back.
        s.open_line("frames").await;
        let aside = s
            .page
            .wait()
            .for_element(Locator::XPath("//*[@data-testid='frame-2']//button[normalize-space()='set aside']"))
            .await
            .unwrap();
        aside.click().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '5 frames, 1 set aside'")
            .await;
        s.until(&format!("{key} !== {first} && {key}.endsWith('/plate')")).await;
        s.undo().await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '5 frames'").await;
        s.until(&format!("{key} === {first}")).await;

        // It survives leaving and coming back.
        s.press("All sets").await;
        s.until("document.querySelector('li[data-set] img')").await;
        s.page.find(Locator::Css("li[data-set] button")).await.unwrap().click().await.unwrap();
        s.until("document.querySelector('[aria-label^=\"Redo: \"]')").await;
        s.press("Redo: set frame 2 aside").await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '5 frames, 1 set aside'")
            .await;
    });
}

#[test]
fn the_plate_follows_canvas_reference_and_align() {
    with_stage(|s| async move {
        s.bring_in(5).await;
        let export = "document.querySelector('[data-testid=fact-export]').innerText";
        let key = "document.querySelector('[data-complete]').dataset.complete";
        assert_eq!(s.fact("export").await, "1600 × 1067 px");
        let first = s.js(&format!("return {key}")).await;

        // What all frames share is smaller, and only the outer size changes by it.
        s.open_line("combine").await;
        s.page.find(Locator::Css("[data-choice=common]")).await.unwrap().click().await.unwrap();
        s.until(&format!(
            "{export} !== '1600 × 1067 px' && /^1[45]\\d\\d × (9|10)\\d\\d px$/.test({export})"
        ))
        .await;
        s.until(&format!("{key} !== {first} && {key}.endsWith('/plate')")).await;
        s.press("Undo: keep what all frames share").await;
        s.until(&format!("{export} === '1600 × 1067 px' && {key} === {first}")).await;

        // Another reference frame: it says so, the frame itself is not moved, and undo brings the proposal back.
        s.open_line("align").await;
        let proposed =
            s.js("return document.querySelector('label:nth-of-type(2) select option').innerText").await;
        assert!(proposed.as_str().unwrap().starts_with("Proposed: frame "), "{proposed}");
        let other = if proposed.as_str().unwrap().contains("frame 1,") { 2 } else { 1 };
        let choose = format!(
            "//label[starts-with(normalize-space(), 'Reference frame')]//option[normalize-space()='Frame {other}']"
        );
        s.page.find(Locator::XPath(&choose)).await.unwrap().click().await.unwrap();
        s.until(&format!("[...document.querySelectorAll('tbody tr')].some(r => r.innerText.replace(/\\s+/g, ' ').trim() === '{other} reference, not moved')")).await;
        s.until(&format!("{key} !== {first} && {key}.endsWith('/plate')")).await;
        s.press(&format!("Undo: make frame {other} the reference")).await;
        s.until(&format!("{key} === {first}")).await;

        // Left as shot, nothing is moved at all.
        let off = "//label[starts-with(normalize-space(), 'Frames may be changed')]//option[@value='off']";
        s.page.find(Locator::XPath(off)).await.unwrap().click().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-align]').innerText === 'left as shot'").await;
        s.undo().await;
        s.until("document.querySelector('[data-testid=fact-align]').innerText.startsWith('worst 0.0')").await;
    });
}
