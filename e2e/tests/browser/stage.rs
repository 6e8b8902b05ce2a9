//! A browser, a server with an empty data folder, and what a person does with them.

use fantoccini::actions::{InputSource, KeyAction, KeyActions, MouseActions, PointerAction};
use fantoccini::key::Key;
use fantoccini::wd::Capabilities;
use fantoccini::{Client, ClientBuilder, Locator};
use futures_util::FutureExt;
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};
use tokio::io::{AsyncBufReadExt, BufReader};
use tokio::process::{Child, Command};

const MOUSE_BUTTON_LEFT: u64 = 0;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

/// Starts a program and reads its output until `marker`; returns what follows on that line.
async fn start(mut command: Command, marker: &str) -> (Child, String) {
    let mut child = command
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .spawn()
        .expect("cannot be started");
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let found = loop {
        let line = lines.next_line().await.unwrap().expect("the program ended early");
        if let Some((_, rest)) = line.split_once(marker) {
            break rest.trim_end_matches('.').trim().to_owned();
        }
    };
    tokio::spawn(async move { while let Ok(Some(_)) = lines.next_line().await {} });
    (child, found)
}

/// A browser, a driver and a server with an empty data folder.
pub struct Stage {
    pub page: Client,
    base: String,
    _programs: [Child; 2],
    pub folder: tempfile::TempDir,
}

impl Stage {
    async fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let binary = root().join("target/debug/evanu");
        assert!(binary.exists(), "build the program first: cargo build -p evanu");
        let mut serve = Command::new(binary);
        serve.args(["serve", "--port", "0", "--data"]).arg(folder.path().join("data"));
        let (server, base) = start(serve, "Evanu is at ").await;
        let mut driver = Command::new("/usr/bin/chromedriver");
        driver.arg("--port=0");
        let (driver, port) = start(driver, "started successfully on port ").await;
        let profile = folder.path().join("profile").display().to_string();
        let arguments = [
            "--headless=new",
            "--no-sandbox",
            "--disable-dev-shm-usage",
            "--window-size=1280,940",
            "--force-device-scale-factor=1",
            "--hide-scrollbars",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-default-apps",
            "--no-default-browser-check",
        ];
        let mut arguments: Vec<String> = arguments.iter().map(|s| (*s).to_owned()).collect();
        arguments.push(format!("--user-data-dir={profile}"));
        let mut wanted = Capabilities::new();
        wanted
            .insert("goog:chromeOptions".into(), json!({ "binary": "/usr/bin/chromium", "args": arguments }));
        let page = ClientBuilder::new(HttpConnector::new())
            .capabilities(wanted)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await
            .unwrap();
        Self { page, base, _programs: [server, driver], folder }
    }

    pub async fn goto(&self, path: &str) {
        self.page.goto(&format!("{}{path}", self.base)).await.unwrap();
    }

    pub async fn js(&self, script: &str) -> Value {
        self.page.execute(script, vec![]).await.unwrap()
    }

    /// Waits until a script's value is true; says what the page showed when it never is.
    pub async fn until(&self, what: &str) {
        let begin = Instant::now();
        while self.js(&format!("return !!({what})")).await != json!(true) {
            if begin.elapsed() > Duration::from_secs(90) {
                panic!("never came true: {what}\n{}", self.js("return document.body.innerText").await);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    pub async fn press(&self, text: &str) {
        let path = format!(
            "//button[normalize-space()='{text}' or @aria-label='{text}'] | //*[@role='menuitem'][normalize-space()='{text}']"
        );
        // What still moves as something comes in above it has the click go elsewhere: a person would press again.
        for tries in 0.. {
            let found = self.page.wait().at_most(Duration::from_secs(20)).for_element(Locator::XPath(&path));
            let button = found.await.unwrap_or_else(|e| panic!("{text}: {e}"));
            match button.click().await {
                Ok(()) => return,
                Err(e) if tries == 20 => panic!("{text}: {e}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }

    /// Unfolds a line of the job sheet unless it is unfolded.
    pub async fn open_line(&self, name: &str) {
        // A list that still grows above it would take the click.
        self.until(&format!(
            "(top => top === [window.lineTop, window.lineTop = top][0])(document.querySelector('[data-line={name}]')?.getBoundingClientRect().top)"
        ))
        .await;
        // What comes in above it between looking and clicking takes the click: a person would press again.
        for tries in 0.. {
            let line = self.page.find(Locator::Css(&format!("[data-line={name}]"))).await.unwrap();
            if line.attr("aria-expanded").await.unwrap().as_deref() == Some("true") {
                return;
            }
            match line.click().await {
                Ok(()) => return,
                Err(e) if tries == 20 => panic!("{name}: {e}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }

    pub async fn fact(&self, line: &str) -> String {
        self.js(&format!("return document.querySelector('[data-testid=fact-{line}]').innerText"))
            .await
            .as_str()
            .unwrap()
            .to_owned()
    }

    /// Holds a key down or lets it go.
    pub async fn key(&self, key: char, down: bool) {
        let action = if down { KeyAction::Down { value: key } } else { KeyAction::Up { value: key } };
        self.page.perform_actions(KeyActions::new("keys".into()).then(action)).await.unwrap();
    }

    pub async fn tap(&self, key: char) {
        self.key(key, true).await;
        self.key(key, false).await;
    }

    pub async fn undo(&self) {
        let control = char::from(Key::Control);
        let keys = [(control, true), ('z', true), ('z', false), (control, false)];
        for (key, down) in keys {
            self.key(key, down).await;
        }
    }

    /// Moves the pointer along places on the page, with the button down between the first and the last.
    pub async fn drag(&self, places: &[(i64, i64)]) {
        let to = |&(x, y): &(i64, i64)| PointerAction::MoveTo {
            duration: Some(Duration::from_millis(20)),
            x: x as f64,
            y: y as f64,
        };
        let mut mouse = MouseActions::new("mouse".into())
            .then(to(&places[0]))
            .then(PointerAction::Down { button: MOUSE_BUTTON_LEFT });
        for p in &places[1..] {
            mouse = mouse.then(to(p));
        }
        self.page.perform_actions(mouse.then(PointerAction::Up { button: MOUSE_BUTTON_LEFT })).await.unwrap();
    }

    pub async fn point(&self, x: i64, y: i64) {
        let to =
            PointerAction::MoveTo { duration: Some(Duration::from_millis(20)), x: x as f64, y: y as f64 };
        self.page.perform_actions(MouseActions::new("mouse".into()).then(to)).await.unwrap();
    }

    /// Writes the sample set and opens the page without sets; returns the files of the first `frames` frames.
    pub async fn samples(&self, frames: usize) -> Vec<PathBuf> {
        let folder = self.folder.path().join("samples");
        evanu_demo_samples(&folder).await;
        self.goto("/").await;
        self.until("document.body.innerText.includes('Nothing here yet')").await;
        (1..=frames).map(|k| folder.join(format!("forecourt/frame-{k:02}.jpg"))).collect()
    }

    /// Brings files in through the file input.
    pub async fn choose(&self, files: &[PathBuf]) {
        let input = self.page.find(Locator::Css("[data-testid=files]")).await.unwrap();
        let names: Vec<String> = files.iter().map(|f| f.display().to_string()).collect();
        input.send_keys(&names.join("\n")).await.unwrap();
    }

    /// Brings frames of the sample set in and waits for the plate.
    pub async fn bring_in(&self, frames: usize) {
        let files = self.samples(frames).await;
        self.choose(&files).await;
        self.plate().await;
    }

    /// Opens a sample set from the page of sets, by its title, and waits for its plate.
    pub async fn sample(&self, title: &str) {
        let named = format!(
            "[...document.querySelectorAll('main li button')].find(b => b.innerText.startsWith('{title}'))"
        );
        self.until(&named).await;
        self.js(&format!("{named}.click()")).await;
        self.plate().await;
    }

    pub async fn plate(&self) {
        // Complete for the state that is shown, not for an earlier one or a draft.
        self.until(
            "(({ complete, settled } = {}) => settled && complete.includes(`${settled}/plate`))(document.querySelector('[data-complete]')?.dataset)",
        )
        .await;
        self.until(
            "fetch && document.querySelector('[data-testid=fact-combine]').innerText.includes('agreed')",
        )
        .await;
    }

    /// Waits until the frames are aligned anew.
    pub async fn plate_again(&self) {
        self.until("!document.querySelector('[role=progressbar]') && document.querySelector('[data-testid=fact-combine]').innerText.includes('agreed')").await;
    }

    /// The picture as the viewer has drawn it.
    pub async fn drawn(&self) -> Value {
        self.js("return document.querySelector('[data-testid=picture] canvas').toDataURL()").await
    }

    /// Mean colour of a square on the picture as the screen shows it.
    pub async fn seen(&self, x: u32, y: u32) -> [f64; 3] {
        let shot = self.page.screenshot().await.unwrap();
        let picture = evanu_media::decode_bytes(Path::new("screen.png"), &shot).unwrap();
        let evanu_core::pixel::Samples::Eight(d) = picture.samples else {
            panic!("screenshots have eight bits")
        };
        let mut sum = [0.0; 3];
        for j in 0..12 {
            for i in 0..12 {
                let at = 3 * ((y + j) * picture.size.width + x + i) as usize;
                (0..3).for_each(|c| sum[c] += f64::from(d[at + c]) / 144.0);
            }
        }
        sum
    }
}

async fn evanu_demo_samples(folder: &Path) {
    let status = Command::new(root().join("target/debug/evanu"))
        .arg("demo")
        .arg(folder)
        .stdout(Stdio::null())
        .status()
        .await
        .unwrap();
    assert!(status.success());
}

pub fn apart(a: [f64; 3], b: [f64; 3]) -> f64 {
    (0..3).map(|c| (a[c] - b[c]).abs()).fold(0.0, f64::max)
}

/// Runs a test with a stage and always closes the browser.
pub fn with_stage<F: Future<Output = ()>>(test: impl FnOnce(std::rc::Rc<Stage>) -> F) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let stage = std::rc::Rc::new(Stage::new().await);
        // Closed on failures too: a browser left alone would go on working.
        let ended = std::panic::AssertUnwindSafe(test(stage.clone())).catch_unwind().await;
        stage.page.clone().close().await.unwrap();
        if let Err(panic) = ended {
            std::panic::resume_unwind(panic);
        }
    });
}

/// A place on the page where the reference frame shows somebody and the plate, with some other frames, does not: found by asking the server.
pub async fn busy_place(stage: &Stage) -> (u32, u32) {
    let script = r#"
        const [id, done] = [location.pathname.split('/')[2], arguments[0]];
        (async () => {
            const set = await (await fetch(`/api/sets/${id}`)).json();
            const load = async (url) => { const i = new Image(); i.src = url; await i.decode(); const c = document.createElement('canvas'); c.width = i.width; c.height = i.height; const g = c.getContext('2d'); g.drawImage(i, 0, 0); return g.getImageData(0, 0, i.width, i.height); };
            const tile = (key, view) => load(`/api/sets/${id}/tiles/${key}/${view}/2/0_0.png`);
            const plate = await tile(set.plate_key, 'plate');
            const frames = new Map(await Promise.all(set.frames.map(async (f) => [f.id, await tile(set.frame_key, `frame-${f.id}`)])));
            const apart = (b, x, y) => { let d = 0; for (let j = -3; j <= 3; j++) for (let i = -3; i <= 3; i++) { const k = 4 * ((y + j) * plate.width + x + i); d += Math.abs(plate.data[k] - b.data[k]) + Math.abs(plate.data[k + 1] - b.data[k + 1]); } return d; };
            let best = [0, 0, 0];
            for (let y = 8; y < plate.height - 8; y += 3) for (let x = 8; x < plate.width - 8; x += 3) {
                const d = apart(frames.get(set.reference), x, y);
                if (d > best[2] && [...frames.values()].filter(f => apart(f, x, y) < 49 * 16).length >= Math.min(3, frames.size - 1)) best = [x, y, d];
            }
            const box = document.querySelector('[data-testid=picture]').getBoundingClientRect();
            const scale = Math.min(box.width / set.canvas.width, box.height / set.canvas.height);
            const at = (v, size, from, length) => Math.round(from + length / 2 + (v * 4 - size / 2) * scale);
            done([at(best[0], set.canvas.width, box.left, box.width), at(best[1], set.canvas.height, box.top, box.height)]);
        })();
    "#;
    let found = stage.page.execute_async(script, vec![]).await.unwrap();
    (found[0].as_u64().unwrap() as u32 - 6, found[1].as_u64().unwrap() as u32 - 6)
}
