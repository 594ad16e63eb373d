#!/usr/bin/env bash
# How much log the source keeps during a load of half an hour under pgbench, beside how
# much is written in that time. The last line is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/retained "$@"
