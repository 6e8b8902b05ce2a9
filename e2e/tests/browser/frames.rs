//! Knowing the frames: the contact sheet, parting and joining sets, originals left where they are, development, and a
//! frame laid by hand.

use crate::stage::{Stage, apart, with_stage};
use evanu_core::geometry::Size;
use evanu_core::pixel::{Raster, Samples};
use fantoccini::Locator;
use fantoccini::key::Key;
use std::path::{Path, PathBuf};

/// The sample's frames mirrored: another view.
fn mirrored(from: &Path, to: &Path) {
    let decoded = evanu_media::decode(from).unwrap();
    let Samples::Eight(d) = decoded.samples else { panic!("the samples have eight bits") };
    let Size { width, height } = decoded.size;
    let mut out = Raster::new(decoded.size);
    for y in 0..height as usize {
        for x in 0..width as usize {
            let at = 3 * (y * width as usize + width as usize - 1 - x);
            for c in 0..3 {
                out.data[3 * (y * width as usize + x) + c] = u16::from(d[at + c]) * 257;
            }
        }
    }
    std::fs::write(to, evanu_media::encode_jpeg(&out, 90).unwrap()).unwrap();
}

/// Writes into a field as a person does: what was there is replaced.
async fn fill(s: &Stage, label: &str, text: &str) {
    let field = s.page.find(Locator::Css(&format!("[aria-label='{label}']"))).await.unwrap();
    s.js(&format!("document.querySelector(\"[aria-label='{label}']\").select()")).await;
    field.send_keys(text).await.unwrap();
}

/// Ticks frames on the contact sheet.
async fn choose_frames(s: &Stage, numbers: &[usize]) {
    for n in numbers {
        let label = format!("[aria-label='Choose frame {n}']");
        s.page.find(Locator::Css(&label)).await.unwrap().click().await.unwrap();
    }
}

/// Names of the sets on the home page.
const CARDS: &str = "[...document.querySelectorAll('li[data-set]')].map(l => l.innerText)";

#[test]
fn a_folder_is_left_where_it_is_told_apart_and_its_originals_are_found_again() {
    with_stage(|s| async move {
        let files = s.samples(5).await;
        let folder = s.folder.path().join("card");
        std::fs::create_dir_all(&folder).unwrap();
        let put = |k: usize, name: &str| std::fs::copy(&files[k], folder.join(name)).unwrap();
        for (k, name) in ["a1.jpg", "a2.jpg", "a3.jpg"].iter().enumerate() {
            put(k, name);
        }
        mirrored(&files[3], &folder.join("b1.jpg"));
        mirrored(&files[4], &folder.join("b2.jpg"));
        s.press("From this computer, without copying").await;
        s.until("document.querySelector('[role=dialog] [aria-label=Folders] li')").await;
        fill(&s, "Path of the folder", &format!("{}\u{e007}", folder.display())).await;
        s.until("document.querySelector('[data-testid=folder-pictures]').innerText.startsWith('5 pictures')")
            .await;
        s.press("Leave them there").await;
        s.plate().await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '3 frames'").await;
        assert!(s.js("return document.body.innerText.includes('This shoot holds 2 views')").await == true);

        // Moved away: the sheet says so and finds them in another folder.
        let archive = s.folder.path().join("archive");
        std::fs::rename(&folder, &archive).unwrap();
        s.js("location.reload()").await;
        s.until("document.querySelector('[data-testid=missing]')?.innerText.includes('3 originals are not where they were')").await;
        s.press("Find them").await;
        s.until("document.querySelector('[role=dialog] [aria-label=Folders] li')").await;
        fill(&s, "Path of the folder", &format!("{}\u{e007}", archive.display())).await;
        s.until("document.querySelector('[data-testid=folder-pictures]').innerText.startsWith('5 pictures')")
            .await;
        s.press("Look in here and below").await;
        s.until("document.body.innerText.includes('3 originals found again.') && !document.querySelector('[data-testid=missing]')").await;

        // Another file takes the place of one: the sheet says so, and takes it when asked.
        std::fs::copy(&files[3], archive.join("a2.jpg")).unwrap();
        s.js("location.reload()").await;
        s.until("document.querySelector('[data-testid=changed]')?.innerText.includes('Another file is now where an original was')").await;
        s.press("Take it as a new frame").await;
        s.until("document.querySelector('[data-testid=fact-frames]')?.innerText.includes('4 frames') && !document.querySelector('[data-testid=changed]')").await;
        s.plate().await;

        // Merge: the other view's frames come over, fit nowhere, and say so.
        s.press("All sets").await;
        s.until(&format!("{CARDS}.length === 2 && {CARDS}.every(t => t.includes('view'))")).await;
        s.press("Open card, view 2 of 2").await;
        s.until("document.querySelector('[data-testid=fact-frames]')?.innerText === '2 frames'").await;
        s.press("All frames").await;
        s.press("Choose all").await;
        let into = "//select[@aria-label='Move to another set']/option[contains(., 'view 1 of 2')]";
        s.page.find(Locator::XPath(into)).await.unwrap().click().await.unwrap();
        s.until("document.querySelector('[data-testid=fact-frames]')?.innerText.startsWith('▸ 6 frames, 2 set aside') || document.querySelector('[data-testid=fact-frames]')?.innerText.startsWith('6 frames, 2 set aside')").await;
        s.until("document.body.innerText.includes('it shows another view')").await;
        // And parted again.
        s.press("All frames").await;
        s.until("document.querySelectorAll('[data-testid=contact-sheet] article').length === 6").await;
        choose_frames(&s, &[5, 6]).await;
        s.press("Make a set of them").await;
        s.until("document.querySelector('[data-testid=fact-frames]')?.innerText === '2 frames'").await;
    });
}

#[test]
fn all_frames_are_laid_out_and_stepped_through_large() {
    with_stage(|s| async move {
        let mut files: Vec<PathBuf> = s.samples(4).await;
        // A frame that fits nowhere can still be looked at large.
        let odd = s.folder.path().join("odd.jpg");
        let mut noise = Raster::new(Size::new(300, 200));
        let mut state = 7u32;
        noise.data.iter_mut().for_each(|v| {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            *v = (state >> 16) as u16;
        });
        std::fs::write(&odd, evanu_media::encode_jpeg(&noise, 80).unwrap()).unwrap();
        files.push(odd);
        s.choose(&files).await;
        s.plate().await;
        s.tap('c').await;
        s.until("document.querySelectorAll('[data-testid=contact-sheet] article').length === 5").await;
        let sheet = s.js("return document.querySelector('[data-testid=contact-sheet]').innerText").await;
        let sheet = sheet.as_str().unwrap();
        for word in ["reference", "14:31:07", "no clock", "it shows another view", "5 frames in 10 s"] {
            assert!(sheet.contains(word), "\"{word}\" is missing in {sheet}");
        }
        s.press("Show frame 5").await;
        s.until("document.querySelector('[data-testid=large]')?.innerText.includes('Frame 5 as shot')").await;
        s.tap(char::from(Key::Right)).await;
        s.until("document.querySelector('[data-testid=large]').innerText.includes('Frame 1 as shot')").await;
        s.tap(char::from(Key::Escape)).await;
        s.until("document.querySelector('[data-testid=contact-sheet]')").await;
        // A frame that fits is shown in the picture.
        s.press("Show frame 2").await;
        s.until("document.querySelector('[data-testid=picture]')?.innerText.includes('Frame 2, aligned')")
            .await;
        // Several are set aside at once, and undo brings them back.
        s.tap('c').await;
        choose_frames(&s, &[1, 2]).await;
        s.press("Set aside").await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText.includes('3 set aside')")
            .await;
        s.press("Undo: set frames 1, 2 aside").await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText.includes('1 set aside')")
            .await;
    });
}

#[test]
fn one_development_holds_for_all_frames_and_can_be_undone() {
    with_stage(|s| async move {
        s.goto("/").await;
        s.until("document.body.innerText.includes('Nothing here yet')").await;
        s.sample("Forecourt, raw").await;
        assert_eq!(s.fact("frames").await.split(',').next(), Some("5 frames"));
        // Somewhere on the paving: darker than it should be, as the raw set is underexposed.
        let (x, y) = (640, 560);
        let before = s.seen(x, y).await;
        s.open_line("frames").await;
        let slider = "//label[starts-with(normalize-space(), 'Exposure')]/input[@type='range']";
        let slider = s.page.wait().for_element(Locator::XPath(slider)).await.unwrap();
        // Twenty steps of a twentieth of a stop: one stop brighter.
        slider.send_keys(&String::from(char::from(Key::Right)).repeat(20)).await.unwrap();
        s.until("document.body.innerText.includes('+1.00 stops')").await;
        s.until("document.querySelector('button[aria-label=\"Undo: develop: exposure\"]')").await;
        let deadline = std::time::Instant::now() + std::time::Duration::from_secs(60);
        let mut after = s.seen(x, y).await;
        while after[1] < before[1] * 1.25 {
            assert!(std::time::Instant::now() < deadline, "{before:?} never became brighter than {after:?}");
            after = s.seen(x, y).await;
        }
        s.press("As shot again").await;
        s.until("!document.body.innerText.includes('As shot again') && document.body.innerText.includes('0.00 stops')").await;
        let deadline = std::time::Instant::now() + std::time::Duration::from_secs(60);
        while apart(s.seen(x, y).await, before) > 1.5 {
            assert!(std::time::Instant::now() < deadline, "it never came back to {before:?}");
        }
    });
}

#[test]
fn a_frame_is_laid_by_hand_with_pairs_nudges_and_the_best_fit() {
    with_stage(|s| async move {
        s.bring_in(3).await;
        let reference = s
            .js("return fetch(`/api/sets/${location.pathname.split('/')[2]}`).then(r => r.json()).then(d => d.frames.findIndex(f => f.id === d.reference))")
            .await
            .as_u64()
            .unwrap();
        let n = if reference == 0 { 2 } else { 1 };
        s.open_line("align").await;
        s.press(&format!("How frame {n} fits")).await;
        s.until("document.querySelector('[data-testid=fit-report]')?.innerText.includes('places lead')")
            .await;
        let residual = "document.querySelector('[data-testid=hand-residual]').innerText";
        s.press("Show places").await;
        s.until("document.querySelectorAll('[data-testid=rests] rect').length > 40").await;
        s.press("Show places").await;
        s.press("Lay by hand").await;
        s.until("document.querySelector('[data-testid=picture]').innerText.includes('see-through')").await;
        // Arrow keys move it by hairs; the shift is told and the set says that a hand was at work.
        let right = char::from(Key::Right);
        s.tap(right).await;
        s.until("document.querySelector('[data-testid=hand-shift]').innerText === '1.0, 0.0 px'").await;
        s.tap(right).await;
        s.until("document.querySelector('[data-testid=hand-shift]').innerText === '2.0, 0.0 px'").await;
        s.until("document.querySelector('[data-testid=fact-align]').innerText.includes('1 by hand')").await;
        // The best fit near there is found again, to a tenth of a pixel.
        s.press("Best fit near here").await;
        s.until(&format!("/^0\\.0\\d px left$/.test({residual})")).await;
        // Difference is a view of its own; the picture is grey where they fit.
        let seen = "//select[@aria-label='Seen as']/option[@value='difference']";
        s.page.find(Locator::XPath(seen)).await.unwrap().click().await.unwrap();
        s.until(
            "document.querySelector('[data-testid=picture]').innerText.includes('against the reference')",
        )
        .await;

        // Pairs: the same place in both, left and right.
        pairs(&s).await;
    });
}

/// Names two pairs on the two panes and takes one back.
async fn pairs(s: &Stage) {
    let open = "[...document.querySelectorAll('button')].find(b => b.innerText.startsWith('Name pairs'))";
    s.js(&format!("{open}.click()")).await;
    s.until("document.querySelectorAll('[data-testid=pairs] canvas').length >= 2").await;
    let panes = s
        .js("return [...document.querySelectorAll('[data-testid^=pane-]')].map(p => { const r = p.getBoundingClientRect(); return [Math.round(r.left + r.width / 2), Math.round(r.top + r.height / 2)] })")
        .await;
    let at = |k: usize, d: i64| (panes[k][0].as_i64().unwrap() + d, panes[k][1].as_i64().unwrap() + d / 2);
    let fact = "document.querySelector('[data-testid=pairs-fact]').innerText";
    for (d, told) in [(-60, "1 pair: shifts"), (70, "2 pairs: shift, turn and zoom")] {
        s.drag(&[at(0, d), at(0, d)]).await;
        s.until(
            "document.querySelector('[data-testid=pairs]').innerText.includes('Now the same place in frame')",
        )
        .await;
        s.drag(&[at(1, d), at(1, d)]).await;
        s.until(&format!("{fact} === '{told}'")).await;
    }
    s.press("Take the last one back").await;
    s.until(&format!("{fact} === '1 pair: shifts'")).await;
    s.js("document.querySelector('[data-testid=pairs]').querySelector('button:last-of-type').click()").await;
    s.until("!document.querySelector('[data-testid=pairs]')").await;
    // Given back to the alignment.
    s.press("Give back").await;
    s.until("!document.querySelector('[data-testid=fact-align]').innerText.includes('by hand')").await;
}

#[test]
fn an_area_drawn_on_the_reference_says_what_does_not_lead() {
    with_stage(|s| async move {
        s.bring_in(3).await;
        s.open_line("align").await;
        s.press("Ignore an area").await;
        s.until("document.querySelector('[data-testid=drawing]')").await;
        s.drag(&[(500, 200), (800, 210), (820, 400), (640, 420), (510, 410), (480, 300), (500, 205)]).await;
        s.until("document.querySelector('[data-testid=area-ignore]') && !document.querySelector('[data-testid=drawing]')").await;
        s.until("document.body.innerText.includes('ignored area')").await;
        s.plate_again().await;
        s.press("Undo: let an area not lead the alignment").await;
        s.until("!document.querySelector('[data-testid=area-ignore]')").await;
        // Reach shows where frames end and what all share.
        s.tap('r').await;
        s.until("document.querySelectorAll('[data-testid=reach] pattern').length === 3 && document.querySelector('[data-testid=reach] rect')").await;
    });
}
