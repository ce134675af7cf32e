#!/usr/bin/env bash
# Runs every fuzz target of the project, one after the other, for the time given.
set -euo pipefail
time=${1:-1m}
for pkg in $(go list ./core/... ./internal/...); do
  dir=${pkg/#urgentis/.}
  for target in $(grep -hoE '^func Fuzz[A-Za-z]+' "$dir"/*_test.go 2>/dev/null | sed 's/^func //'); do
    echo "== $pkg $target"
    go test -run '^$' -fuzz "^$target\$" -fuzztime "$time" "$pkg"
  done
done
