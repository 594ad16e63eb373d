#!/usr/bin/env bash
# Opening a crossing of 2,000 tables and 100,000 chunks in the console, beside
# opening one of a single table: the size's own cost. The last line is one JSON
# object.
set -euo pipefail
cd "$(dirname "$0")/.."
scripts/build-console
exec go run ./bench/console "$@"
