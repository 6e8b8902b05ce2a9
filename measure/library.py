"""The library pipeline: what a good engineer assembles from general-purpose libraries in an afternoon.

Features (SIFT, ratio test), robust homography (RANSAC), warp, median. It is for measuring only.
Usage: library.py FOLDER OUT.tif REPORT.json REFERENCE
"""

import json
import pathlib
import sys

import cv2
import numpy as np

folder, out, report, reference = pathlib.Path(sys.argv[1]), sys.argv[2], sys.argv[3], int(sys.argv[4])
paths = sorted(p for p in folder.iterdir() if p.suffix in (".jpg", ".png"))
frames = [cv2.imread(str(p)) for p in paths]
base = frames[reference]
height, width = base.shape[:2]
sift = cv2.SIFT_create(nfeatures=4000)
matcher = cv2.FlannBasedMatcher({"algorithm": 1, "trees": 5}, {"checks": 50})


def features(image):
    return sift.detectAndCompute(cv2.cvtColor(image, cv2.COLOR_BGR2GRAY), None)


points, descriptors = features(base)
transforms, warped = [], []
for k, frame in enumerate(frames):
    if k == reference:
        transforms.append(np.eye(3))
        warped.append(frame)
        continue
    own, theirs = features(frame)
    good = [a for a, b in matcher.knnMatch(theirs, descriptors, k=2) if a.distance < 0.75 * b.distance]
    source = np.float32([own[m.queryIdx].pt for m in good])
    target = np.float32([points[m.trainIdx].pt for m in good])
    transform, _ = cv2.findHomography(source, target, cv2.RANSAC, 3.0)
    transforms.append(transform / transform[2, 2])
    # Where a frame does not reach, the reference's own pixels stand in.
    warped.append(cv2.warpPerspective(frame, transform, (width, height), dst=base.copy(), flags=cv2.INTER_CUBIC, borderMode=cv2.BORDER_TRANSPARENT))
plate = np.median(np.stack(warped), axis=0)
cv2.imwrite(out, np.clip(plate * 257.0 + 0.5, 0, 65535).astype(np.uint16), [cv2.IMWRITE_TIFF_COMPRESSION, 1])
pathlib.Path(report).write_text(json.dumps({
    "reference": reference,
    "canvas": {"x": 0, "y": 0, "width": width, "height": height},
    "frames": [{"path": str(p), "used": True, "transform": t.flatten().tolist()} for p, t in zip(paths, transforms)],
}))
