#!/usr/bin/env bash
# Renders the sample clips anew and codes them as they ship: tools/sample-clips.sh [NAME ...]. Half an hour each on two cores.
set -euo pipefail
cd "$(dirname "$0")/.."
. tools/needs.sh
need_ffmpeg
cargo build --release --locked -p evanu
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
for name in "${@:-hall hall-by-hand leaves}"; do
    for one in $name; do
        width=640
        [ "$one" = hall ] && width=768
        target/release/evanu demo --render "$one" --width "$width" "$work/$one"
        mkdir -p "crates/demo/samples/$one"
        ffmpeg -v error -y -i "$work/$one/in.y4m" -i "$work/$one/sound.wav" -c:v libx264 -crf 23 -preset veryslow \
            -pix_fmt yuv420p -g 75 -color_range tv -colorspace bt709 -color_primaries bt709 -color_trc bt709 \
            -c:a aac -b:a 64k -shortest -movflags +faststart -map_metadata -1 -fflags +bitexact "crates/demo/samples/$one/$one.mp4"
    done
done
