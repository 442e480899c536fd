#!/usr/bin/env bash
# Feeds every target for some seconds: fuzz/run.sh [SECONDS [TARGET…]]. Needs a C++ compiler, and no other toolchain than
# the stable one: the compiler's own coverage pass tells the fuzzer what is new. What is new goes to fuzz/found/TARGET;
# what breaks stands in fuzz/broken-TARGET-*. `fuzz/run.sh keep` puts what is worth keeping into the corpus.
set -euo pipefail
cd "$(dirname "$0")/.."
all=(parse write_parse rule zone multistatus feed configuration digest)
export CARGO_TARGET_DIR=target/fuzz
host=$(rustc -vV | sed -n 's/^host: //p')
export RUSTFLAGS="-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 \
  -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table \
  -Cllvm-args=-sanitizer-coverage-trace-compares -Ccodegen-units=1 -Cdebug-assertions -Coverflow-checks"
cargo build --quiet --release --package chestnut-fuzz --features fuzzer --bins --target "$host"
built="$CARGO_TARGET_DIR/$host/release"
if [ "${1:-}" = keep ]; then
  for target in "${all[@]}"; do
    kept=$(mktemp -d)
    "$built/$target" -merge=1 -max_len=2000 "$kept" "fuzz/corpus/$target" "fuzz/found/$target" >/dev/null 2>&1
    # The smallest ones that show something new; more than that only makes the repository large.
    for file in $(ls -Sr "$kept" | head -12); do cp "$kept/$file" "fuzz/corpus/$target/"; done
    rm -r "$kept"
  done
  exit
fi
seconds=${1:-120}
targets=("${@:2}")
for target in "${targets[@]:-${all[@]}}"; do
  mkdir -p "fuzz/found/$target"
  "$built/$target" -max_total_time="$seconds" -timeout=25 -rss_limit_mb=1024 -max_len=20000 -print_final_stats=1 \
    -artifact_prefix="fuzz/broken-$target-" "fuzz/found/$target" "fuzz/corpus/$target" 2>&1 |
    grep -E "stat::number_of_executed_units|stat::new_units|ERROR|panicked|ALARM" | sed "s/^/$target: /"
done
