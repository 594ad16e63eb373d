#!/usr/bin/env bash
# Thousands of small tables: how long from start to the end of the load, ours beside one
# session that makes the same tables and copies each. The last line is a JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
exec go run ./bench/tables "$@"
