#!/bin/sh
# Holds what is generated to what it is generated from: it is generated anew, and must be what stands there.
set -eu
generated="api/openapi.yaml api/api.gen.go console/src/api/schema.gen.d.ts console/src/composables/kinds.gen.ts"
kept=$(mktemp -d)
trap 'rm -rf "$kept"' EXIT
for f in $generated; do
	mkdir -p "$kept/$(dirname "$f")"
	cp "$f" "$kept/$f"
done
"${MAKE:-make}" --no-print-directory generate >"$kept/said" 2>&1 || { cat "$kept/said"; exit 1; }
for f in $generated; do
	cmp -s "$f" "$kept/$f" || { echo "$f was not generated from what stands there; it is now: look at it, and keep it"; exit 1; }
done
