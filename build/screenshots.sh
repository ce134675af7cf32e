#!/usr/bin/env bash
# Renews docs/screenshots from the demo's data.
set -eu
cd "$(dirname "$0")/.."
build/setup.sh postgresql chromium xvfb xterm imagemagick
mkdir -p docs/screenshots
exec go run ./test/shots bin/urgentis docs/screenshots
