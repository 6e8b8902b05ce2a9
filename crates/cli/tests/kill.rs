//! The server killed in the middle of each step and started again: nothing is lost, and it goes on by itself.

#![allow(clippy::unwrap_used)] // helpers of tests may fail loudly

use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

struct Server {
    child: Child,
    base: String,
}

impl Server {
    fn start(data: &Path) -> Self {
        let mut child = Command::new(env!("CARGO_BIN_EXE_evanu"))
            .args(["serve", "--port", "0", "--data"])
            .arg(data)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let base = loop {
            let line = lines.next().unwrap().unwrap();
            if let Some((_, rest)) = line.split_once("Evanu is at ") {
                break rest.trim().trim_end_matches('/').to_owned();
            }
        };
        std::thread::spawn(move || lines.for_each(drop));
        Self { child, base }
    }

    fn kill(&mut self) {
        self.child.kill().unwrap(); // SIGKILL: no chance to tidy up
        self.child.wait().unwrap();
    }

    fn ask(&self, method: &str, path: &str, kind: &str, body: Vec<u8>) -> Value {
        let agent: ureq::Agent = ureq::Agent::config_builder().http_status_as_error(false).build().into();
        let request = ureq::http::Request::builder().method(method).uri(format!("{}{path}", self.base));
        let request = request.header("Content-Type", kind).body(body).unwrap();
        let text = agent.run(request).unwrap().into_body().read_to_string().unwrap();
        serde_json::from_str(&text).unwrap_or(Value::Null)
    }

    fn json(&self, method: &str, path: &str, body: &Value) -> Value {
        self.ask(method, path, "application/json", body.to_string().into_bytes())
    }

    fn get(&self, path: &str) -> Value {
        self.ask("GET", path, "application/json", Vec::new())
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Looks until `found` says something.
fn until<T>(mut found: impl FnMut() -> Option<T>) -> T {
    let begin = Instant::now();
    loop {
        if let Some(v) = found() {
            return v;
        }
        assert!(begin.elapsed() < Duration::from_secs(120), "waited too long");
        std::thread::sleep(Duration::from_millis(3));
    }
}

fn ended(server: &Server, set: i64) -> Value {
    until(|| {
        let detail = server.get(&format!("/api/sets/{set}"));
        let state = detail["run"]["state"].as_str()?;
        assert_ne!(state, "failed", "{}", detail["run"]);
        (state == "done").then_some(detail)
    })
}

#[test]
fn a_kill_in_any_step_loses_nothing_and_the_work_goes_on() {
    let folder = tempfile::tempdir().unwrap();
    let frames = folder.path().join("frames");
    evanu_demo::write_samples(&frames).unwrap();
    let frames = frames.join("forecourt");
    let begin = |server: &Server, sort: bool| {
        let made = server.json("POST", "/api/sets", &json!({"name": "Killed", "sort": sort}));
        let set = made["id"].as_i64().unwrap();
        server.json("POST", &format!("/api/sets/{set}/folder"), &json!({"path": frames, "copy": true}));
        server.json("POST", &format!("/api/sets/{set}/prepare"), &json!({}));
        set
    };
    // What comes out without a kill.
    let undisturbed = folder.path().join("undisturbed");
    let server = Server::start(&undisturbed);
    let set = begin(&server, true);
    let expected = ended(&server, set)["plate_key"].clone();
    assert!(expected.is_string());
    drop(server);

    for step in ["Reading frames", "Telling views apart", "Aligning frames", "Combining"] {
        let data = folder.path().join(step);
        let mut server = Server::start(&data);
        let set = begin(&server, true);
        // The step may be over before it is seen; then the kill comes a little later, which is as good.
        until(|| {
            let run = server.get(&format!("/api/sets/{set}"))["run"].clone();
            (run["step"]["name"] == step || run["state"] == "done").then_some(())
        });
        server.kill();
        let server = Server::start(&data);
        let detail = ended(&server, set);
        assert_eq!(detail["plate_key"], expected, "killed while {step}");
        assert_eq!(detail["frames"].as_array().unwrap().len(), 12);
    }

    // An export that was cut off is written whole after the restart.
    let mut server = Server::start(&undisturbed);
    let export = json!({"format": "tiff", "level": 0, "quality": 90});
    let run = server.json("POST", &format!("/api/sets/{set}/exports"), &export)["id"].as_i64().unwrap();
    until(|| (server.get(&format!("/api/runs/{run}"))["state"] != "queued").then_some(()));
    server.kill();
    let server = Server::start(&undisturbed);
    let done = until(|| {
        let run = server.get(&format!("/api/runs/{run}"));
        (run["state"] == "done").then_some(run)
    });
    let file = undisturbed.join("exports").join(run.to_string()).join(done["message"].as_str().unwrap());
    assert_eq!(evanu_media::decode(&file).unwrap().size.width, 1600);
}
