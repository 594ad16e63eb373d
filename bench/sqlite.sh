#!/usr/bin/env bash
# Loads from a SQLite file into PostgreSQL beside the file's own shell and a bare COPY: ROWS, PAIRS, LANES.
# The last line is a JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
exec go run ./bench/sqlite -rows "${ROWS:-2000000}" -pairs "${PAIRS:-3}" -lanes "${LANES:-2}" "$@"
