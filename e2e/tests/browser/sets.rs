//! Bringing in files, and what can be done with sets.

use crate::stage::with_stage;
use fantoccini::Locator;

#[test]
fn bad_files_are_told_on_the_page_and_sets_can_be_deleted_with_undo() {
    with_stage(|s| async move {
        let mut files = s.samples(2).await;
        let bad = s.folder.path().join("holiday.jpg");
        std::fs::write(&bad, "no picture").unwrap();
        files.push(bad);
        s.choose(&files).await;
        s.plate().await;
        assert_eq!(s.fact("frames").await, "▸ 3 frames, 1 unreadable");
        s.until("document.body.innerText.includes('holiday.jpg: it is not a picture Evanu can read; use JPEG, PNG, HEIC, AVIF, TIFF, WebP, JPEG XL, EXR, camera raw, or a clip')").await;
        s.press("take off").await;
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '2 frames'").await;

        s.press("All sets").await;
        s.until("document.querySelector('li[data-set]')").await;
        s.page.find(Locator::Css("li[data-set] [aria-haspopup=menu]")).await.unwrap().click().await.unwrap();
        s.press("Delete").await;
        s.until("!document.querySelector('li[data-set]')").await;
        s.press("Undo").await;
        s.until("document.querySelector('li[data-set]')").await;
    });
}

#[test]
fn a_set_is_renamed_duplicated_and_given_more_frames() {
    with_stage(|s| async move {
        s.bring_in(2).await;
        s.press("All sets").await;
        s.until("document.querySelectorAll('li[data-set]').length === 1").await;
        let menu = "li[data-set] [aria-haspopup=menu]";
        s.page.find(Locator::Css(menu)).await.unwrap().click().await.unwrap();
        s.press("Rename").await;
        s.until("document.activeElement?.getAttribute('aria-label') === 'Name of the set'").await;
        s.js("document.activeElement.select()").await;
        let name = s.page.find(Locator::Css("[aria-label='Name of the set']")).await.unwrap();
        name.send_keys("Forecourt, <b>noon</b>\u{e007}").await.unwrap();
        s.until("document.querySelector('li[data-set]').innerText.includes('Forecourt, <b>noon</b>')").await;
        s.page.find(Locator::Css(menu)).await.unwrap().click().await.unwrap();
        s.press("Duplicate").await;
        s.until("document.querySelectorAll('li[data-set]').length === 2").await;

        // The copy is a set of its own: more frames in it do not change the first.
        let copy = "[...document.querySelectorAll('li[data-set]')].find(l => l.innerText.includes('copy'))";
        s.until(&format!("{copy}?.querySelector('img')")).await;
        s.js(&format!("{copy}.querySelector('button').click()")).await;
        s.plate().await;
        s.open_line("frames").await;
        let more = s.page.wait().for_element(Locator::Css("[data-testid=more-files]")).await.unwrap();
        let third = s.folder.path().join("samples/forecourt/frame-03.jpg");
        more.send_keys(&third.display().to_string()).await.unwrap();
        s.until("document.querySelector('[data-testid=fact-frames]').innerText === '3 frames'").await;
        s.until("document.querySelector('[data-testid=frame-3]')?.innerText.includes('14:31:')").await;
        s.press("All sets").await;
        s.until("[...document.querySelectorAll('li[data-set]')].map(l => l.innerText.match(/(\\d) frames/)?.[1]).sort().join() === '2,3'").await;
    });
}

#[test]
fn work_is_stopped_and_goes_on() {
    with_stage(|s| async move {
        let files = s.samples(12).await;
        // As soon as there is a button that stops the work, it is pressed.
        s.js("new MutationObserver((_, watch) => { const stop = [...document.querySelectorAll('button')].find(b => b.innerText === 'Stop'); if (stop) { watch.disconnect(); stop.click(); } }).observe(document.body, { childList: true, subtree: true, characterData: true })").await;
        s.choose(&files).await;
        s.until("document.body.innerText.includes('Stopped. What was read is kept.')").await;
        s.press("Go on").await;
        s.plate().await;
        assert_eq!(s.fact("frames").await, "12 frames");
    });
}

#[test]
fn a_folder_becomes_a_set_with_its_name_and_files_can_be_dropped() {
    with_stage(|s| async move {
        let files = s.samples(9).await;
        let shoot = s.folder.path().join("Open day");
        std::fs::create_dir(&shoot).unwrap();
        for file in [&files[3], &files[8]] {
            std::fs::copy(file, shoot.join(file.file_name().unwrap())).unwrap();
        }
        std::fs::write(shoot.join(".index"), "hidden").unwrap();
        let input = s.page.find(Locator::Css("input[webkitdirectory]")).await.unwrap();
        input.send_keys(&shoot.display().to_string()).await.unwrap();
        s.plate().await;
        assert_eq!(s.fact("frames").await, "2 frames");
        s.press("All sets").await;
        s.until("document.querySelector('li[data-set]').innerText.includes('Open day')").await;

        // Dropped anywhere on the page, pictures become another set.
        s.js("(async () => {
                const { id } = (await (await fetch('/api/sets')).json())[0];
                const { frames } = await (await fetch(`/api/sets/${id}`)).json();
                const all = new DataTransfer();
                for (const f of frames) {
                    const picture = await (await fetch(`/api/sets/${id}/frames/${f.id}/thumbnail?side=800`)).blob();
                    all.items.add(new File([picture], `dropped-${f.index}.jpg`));
                }
                document.querySelector('main').dispatchEvent(new DragEvent('drop', { bubbles: true, cancelable: true, dataTransfer: all }));
            })()").await;
        s.plate().await;
        assert_eq!(s.fact("frames").await, "2 frames");
        assert!(s.fact("export").await.starts_with("800 × "), "{}", s.fact("export").await);
    });
}
