#!/usr/bin/env bash
# The write pause of real cutovers, forth and back, each behind a rehearsal: ROWS, CUTS; with PGBENCH=scale
# of pgbench at full speed. The last line is a JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/pause -rows "${ROWS:-3000000}" -cuts "${CUTS:-7}" -pgbench "${PGBENCH:-0}" "$@"
