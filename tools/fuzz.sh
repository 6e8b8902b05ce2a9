#!/usr/bin/env bash
# Runs the fuzz targets, two at a time: tools/fuzz.sh [SECONDS] [TARGET ...]. An input that ends a target, or takes longer than ten seconds, fails.
set -euo pipefail
cd "$(dirname "$0")/../fuzz"
. ../tools/needs.sh
command -v c++ >/dev/null || install_debian build-essential
seconds=${1:-60}
shift || true
targets=("$@")
[ $# -gt 0 ] || targets=(jpeg png tiff exr webp jxl heif raw recipe change)
# What libFuzzer needs to see which way an input went; any compiler has it.
export RUSTFLAGS="--cfg fuzzing -Cpasses=sancov-module"
for option in level=4 inline-8bit-counters pc-table trace-compares; do
  RUSTFLAGS+=" -Cllvm-args=-sanitizer-coverage-$option"
done
# A short run is built soon, a long one runs fast.
profile=quick
[ "$seconds" -le 120 ] || profile=release
host=$(rustc -vV | sed -n 's/^host: //p')
echo "building the fuzz targets: some six minutes the first time"
cargo build --quiet --locked --profile "$profile" --target "$host" --bins
built=${CARGO_TARGET_DIR:-target}/$host/$profile

run() {
  local target=$1 log begin=$SECONDS left=$seconds refused=0
  log=$(mktemp)
  mkdir -p "corpus/$target" "artifacts/$target"
  while [ "$left" -gt 0 ]; do
    # A folder of seeds that ends the target is one that must be looked at, not gone on with.
    if "$built/$target" "corpus/$target" "seeds/$target" -max_total_time="$left" -timeout=10 -rss_limit_mb=0 -malloc_limit_mb=0 \
      -max_len=20000 -artifact_prefix="artifacts/$target/" >"$log" 2>&1; then
      break
    fi
    # What asks for more memory than there is ends the program that reads files apart, and is told: see docs/security.md.
    if ! grep -q "memory allocation of" "$log" || [ "$refused" -ge 50 ]; then
      echo "FAILED  $target"
      grep -v '^ *at \| rayon' "$log" | tail -n 40 | cut -c 1-200
      rm -f "$log"
      return 1
    fi
    refused=$((refused + 1))
    left=$((seconds - SECONDS + begin))
  done
  echo "ok      $target, $refused times refused for memory"
  rm -f "$log"
}
export -f run
export built seconds
printf '%s\n' "${targets[@]}" | xargs -P 2 -I TARGET bash -c 'run TARGET'
