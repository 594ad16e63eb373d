#!/usr/bin/env bash
# Our load of a large table beside two psql in a pipe (binary COPY) at the same
# number of streams, in interleaved pairs; then tables that grow (SIZES), to see whether a row costs the same.
# The last line of each is one JSON object.
set -euo pipefail
cd "$(dirname "$0")/.."
go build -o bin/dustyferry ./cmd/dustyferry
go run ./bench/load "$@"
exec go run ./bench/load -sizes "${SIZES:-1000000,5000000,10000000}"
